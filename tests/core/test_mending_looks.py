"""Where a mend may show, what shows elsewhere, and colours that are moved until they stand out."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.checking.mends import Change, MendKind, Reach
from jetwind.core.checks.inline_styles import InlineStyles
from jetwind.core.mending import Offer, strays
from jetwind.core.mending.looks import counterparts
from jetwind.core.message import Message, read_bytes
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.source import Edit, Span, splice
from jetwind.core.styles.contrast import contrast, with_contrast

PAGE = "<html><body><table><tr><td><p>One</p><b>Two</b></td></tr></table><table><tr><td><i>Three</i></td></tr></table></body></html>"


def offer(*changes: Change, reach: Reach = "element", elements: tuple[int, ...] = ()) -> Offer:
    """A mend with these changes."""
    return Offer("a.b", MendKind.CONFIRM, "f", ("f",), "", does="", changes=changes, reach=reach, elements=elements)


def inserted(text: str, before: str) -> Change:
    """New characters before a text of the page."""
    at = PAGE.index(before)
    return Change("html", Span(at, at), text)


def changed(own: Offer) -> Message:
    """The page with a mend."""
    return read_bytes(splice(PAGE, [Edit(one.span, one.text) for one in own.changes]).encode(), "a.html")


def measured(message: Message, **moved: float) -> Measured:
    """Three texts below each other; ``moved`` has the width of a text by its tag, 100 px where it says nothing."""
    assert message.document is not None
    blocks = []
    for number, tag in enumerate(("p", "b", "i")):
        found = message.document.select(tag)
        if found and moved.get(tag, 100) > 0:
            block = Block(found[0].index, "text", x=0, y=20.0 * number, width=moved.get(tag, 100), height=20, characters=3, size=16)
            blocks.append(block)
    return Measured(600, 800, 600, 800, tuple(blocks))


class TestStrays:
    """A mend may show in its table, and nowhere else."""

    def named(self, own: Offer, **moved: float) -> list[str]:
        """The tags of what shows beyond its place."""
        before, after = read_bytes(PAGE.encode(), "a.html"), changed(own)
        assert before.document is not None
        found = strays(before, after, [own], measured(before), measured(after, **moved))
        return sorted(before.document.all_elements[index].tag for index in found)

    def test_in_its_table(self) -> None:
        """What stands with it may be wider; the other table may not, nor may a text there vanish."""
        own = offer(inserted(" style='width:50px'", ">One"))
        assert self.named(own, p=50, b=120) == []
        assert self.named(own, p=50, i=120) == ["i"]
        assert self.named(own, p=50, i=0) == ["i"]
        assert self.named(own, p=50, i=100.5) == []

    def test_a_new_element(self) -> None:
        """An element that the mend puts in moves all numbers behind it, and nothing else."""
        assert self.named(offer(inserted("<u></u><u></u>", "<p>"))) == []
        assert self.named(offer(inserted("<u></u>", "<p>")), i=90) == ["i"]

    def test_shows_though_hidden_before(self) -> None:
        """A text that had no block has one now."""
        own = offer(inserted(" ", ">One"))
        before, after = read_bytes(PAGE.encode(), "a.html"), changed(own)
        assert before.document is not None
        found = strays(before, after, [own], measured(before, i=0), measured(after))
        assert [before.document.all_elements[index].tag for index in found] == ["i"]

    def test_moved_down(self) -> None:
        """What follows may move down."""
        own = offer(inserted("<br>", "One"))
        before, after = read_bytes(PAGE.encode(), "a.html"), changed(own)
        then = measured(after)
        lower = replace(then, blocks=tuple(replace(block, y=block.y + 40) for block in then.blocks))
        assert strays(before, after, [own], measured(before), lower) == frozenset()

    def test_all_over(self) -> None:
        """A mend that says so, a rule of a style sheet: everything may look otherwise. One without a change of the HTML: nothing may."""
        assert self.named(offer(inserted("<!doctype html>", "<html>"), reach="message"), i=10) == []
        assert self.named(offer(), i=10) == ["i"]
        sheet = "<style>i{color:red}</style><p>One</p><i>Three</i>"
        message = read_bytes(sheet.encode(), "a.html")
        own = offer(Change("html", Span(sheet.index("red"), sheet.index("red") + 3), "blue"))
        after = read_bytes(sheet.replace("red", "blue").encode(), "a.html")
        assert strays(message, after, [own], measured(message), measured(after, p=30)) == frozenset()

    def test_named_elements(self) -> None:
        """A picture that is replaced in another part of the mail may show at its element."""
        message = read_bytes(PAGE.encode(), "a.html")
        assert message.document is not None
        three = message.document.select("i")[0].index
        assert self.named(offer(elements=(three,)), i=10) == []
        assert self.named(offer(elements=(three, 999)), p=10) == ["p"]

    @given(st.lists(st.tuples(st.integers(0, len(PAGE)), st.sampled_from(["<u>x</u>", " ", "y"])), max_size=6))
    def test_counterparts(self, edits: list[tuple[int, str]]) -> None:
        """Whatever is put in before a tag, an element's counterpart is the one whose start tag is the same text."""
        places = [at for at in range(len(PAGE) + 1) if PAGE[at : at + 1] == "<"]
        changes = [Change("html", Span(places[at % len(places)], places[at % len(places)]), text) for at, text in edits]
        before = read_bytes(PAGE.encode(), "a.html").document
        after = read_bytes(splice(PAGE, [Edit(one.span, one.text) for one in changes]).encode(), "a.html").document
        assert before is not None and after is not None
        for own, other in counterparts(before, after, changes).items():
            one, two = before.all_elements[own], after.all_elements[other]
            assert one.tag == two.tag and one.start_tag is not None and two.start_tag is not None


class TestColours:
    """WCAG 2.2: the contrast ratio; HSL of the standard library's colorsys keeps hue and saturation."""

    parts = st.integers(0, 255).map(float)

    @given(st.tuples(parts, parts, parts, st.just(1.0)), st.tuples(parts, parts, parts, st.just(1.0)), st.sampled_from([3.0, 4.5]))
    def test_reaches_it(self, colour: tuple[float, ...], ground: tuple[float, ...], least: float) -> None:
        """On every ground black or white reaches 4.5, so that some lightness does; a colour that reaches it stays as it is."""
        red, green, blue, _ = colour
        under = (ground[0], ground[1], ground[2], 1.0)
        found = with_contrast((red, green, blue, 1.0), under, least)
        assert found is not None and contrast(found, under) >= least
        if contrast((red, green, blue, 1.0), under) >= least + 0.2:
            assert max(abs(one - other) for one, other in zip(found, colour, strict=True)) <= 1

    def test_none(self) -> None:
        """Nothing has a contrast of 15 on a middle grey."""
        assert with_contrast((0, 0, 0, 1), (128, 128, 128, 1), 15) is None

    def test_known(self) -> None:
        """#767676 is the lightest grey with 4.5 : 1 on white (common practice, no published source)."""
        assert with_contrast((200, 200, 200, 1), (255, 255, 255, 1), 4.5) == (118, 118, 118, 1.0)


@pytest.mark.parametrize(
    ("tag", "after"),
    [
        ("<p>", '<p style="color:red">'),
        ("<p style=''>", "<p style='color:red'>"),
        ("<p style>", '<p style="color:red">'),
        ("<p style='margin:0; '>", "<p style='margin:0;color:red '>"),
        ("<p style='margin:0'>", "<p style='margin:0;color:red'>"),
        ("<p STYLE='Color : blue ! important;margin:0'>", "<p STYLE='Color : red ! important;margin:0'>"),
        ("<p style='color:blue;color:green'>", "<p style='color:blue;color:red'>"),
        ("<p style=margin:0>", '<p style="margin:0;color:red">'),
        ('<p style=font-family:"Arial">', '<p style=font-family:"Arial">'),
        ("<p STYLE=margin:0;>", '<p STYLE="margin:0;color:red">'),
    ],
)
def test_written_into_a_style(tag: str, after: str) -> None:
    """A declaration is put in, or its value replaced; the rest of the tag stays octet for octet."""
    document = read_bytes(f"{tag}x</p>".encode(), "a.html").document
    assert document is not None
    element = document.select("p")[0]
    changes = InlineStyles(document, [element.index]).with_values(element, {"color": "red"})
    assert splice(document.source.text, [Edit(one.span, one.text) for one in changes]) == f"{after}x</p>"
