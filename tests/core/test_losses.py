"""Losses that show: which elements and places, how they are told by client and by cause, and what helps."""

from __future__ import annotations

from dataclasses import replace

import pytest

from jetwind.core.checking import Context, Finding, Outcome, registry, run, run_check
from jetwind.core.facts import table
from jetwind.core.facts.tables import LossMends
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import profiles
from jetwind.core.profiles.support import features
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.loss_places import LossPlaces, Sources
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.showing import Shown, differing
from jetwind.core.source import Span

HTML = (
    "<style>@media (max-width: 600px) { .a { width: 100%; padding: 0 } } .b { color: red }</style>"
    '<div><p class="a" style="float:left">One</p><p class="b" style="float:left">Two</p><p style="float:left">Three</p></div>'
)


def message_of(html: str = HTML) -> Message:
    """A message of this HTML alone."""
    return read_bytes(html.encode(), "a.html")


def element(message: Message, selector: str) -> int:
    """The index of the first element that a selector matches."""
    assert message.document is not None
    return message.document.select(selector)[0].index


def spans(message: Message, text: str) -> tuple[Span, ...]:
    """Every place of a text in the HTML."""
    assert message.html is not None
    html, found, at = message.html.text, [], 0
    while (at := html.find(text, at)) >= 0:
        found.append(Span(at, at + len(text)))
        at += len(text)
    return tuple(found)


def told(message: Message, *shown: Shown, check: str = "appearance.css-unsupported") -> tuple[Finding, ...]:
    """What a check finds where these losses show."""
    measured = Measured(600, 600, 600, 600)
    renders = {
        name: Render(profiles()[name], measured) for name in ("desktop-pane", "word-processor", "word-processor-night", "webmail-bare")
    }
    answer = run_check(registry()[check], message, Context(renders=Renders(renders, shown=shown)))
    assert answer.outcome is not Outcome.CRASHED, answer.reason
    return answer.findings


def lost(message: Message, feature: str, text: str, *names: str, elements: tuple[int, ...] = ()) -> Shown:
    """A loss that shows in these profiles, or in the word-processor engine."""
    return Shown(
        feature,
        features()[feature].title,
        effect="layout",
        profiles=names or ("word-processor",),
        spans=spans(message, text),
        elements=elements,
    )


class TestDiffering:
    """Which elements look otherwise in two layouts."""

    BLOCKS = (
        Block(1, "text", x=0, y=0, width=100, height=20),
        Block(2, "text", x=0, y=30, width=100, height=20),
        Block(2, "text", x=0, y=60, width=100, height=20),
        Block(3, "link", x=0, y=60, width=9, height=9),
    )

    @pytest.mark.parametrize(
        ("number", "changed", "elements"),
        [
            (0, {"width": 160}, {1}),
            (0, {"x": 40}, {1}),
            (0, {"height": 60}, {1, 2}),
            (1, {"colour": (255, 0, 0, 1)}, {2}),
            (2, {"size": 30}, {2}),
            (3, {"x": 400}, set()),
            (0, {"width": 101}, set()),
        ],
    )
    def test_one_block(self, number: int, changed: dict[str, float], elements: set[int]) -> None:
        """Its own element; of one that has grown without moving the next, the next too, whose gap has changed. Links have their letters' block."""
        after = [*self.BLOCKS]
        after[number] = replace(after[number], **changed)  # type: ignore[arg-type]
        before = Measured(600, 600, 600, 600, self.BLOCKS)
        assert differing(before, replace(before, blocks=tuple(after))) == elements

    def test_a_block_that_is_gone(self) -> None:
        """Its element, and no other for standing in another place of the list."""
        before = Measured(600, 600, 600, 600, self.BLOCKS)
        gone = tuple(replace(block, y=block.y - 30 if block.element == 2 else block.y) for block in self.BLOCKS if block.element != 1)
        assert 1 in differing(before, replace(before, blocks=gone))


class TestPlaces:
    """Which places of a loss show."""

    def test_in_attributes(self) -> None:
        """The element that changed, the one before it, and those around; never one further down."""
        message = message_of()
        assert message.document is not None
        all_three = list(spans(message, "float:left"))
        assert LossPlaces(Sources(message.document), [element(message, "p.a")]).that_show(all_three) == all_three[:1]
        assert LossPlaces(Sources(message.document), [element(message, "p.b")]).that_show(all_three) == all_three[:2]
        assert LossPlaces(Sources(message.document), []).that_show(all_three) == all_three

    def test_in_a_sheet(self) -> None:
        """The rule that hits it."""
        message = message_of()
        assert message.document is not None
        both = [*spans(message, "padding: 0"), *spans(message, "color: red")]
        places = LossPlaces(Sources(message.document), [element(message, "p.a")])
        assert places.that_show(both) == both[:1]
        sheet = [Span(0, 87)]
        assert places.declarations(sheet) == (3, 2)
        assert places.are_of_media(sheet)
        assert not LossPlaces(Sources(message.document), [element(message, "p.b")]).are_of_media(sheet)

    def test_elements_that_are_not_there(self) -> None:
        """What only some client reads has no element in the message."""
        message = message_of()
        assert message.document is not None
        assert not LossPlaces(Sources(message.document), [-1, 4_000]).are_known


class TestTold:
    """One finding for each cause in the same clients."""

    def test_by_client(self) -> None:
        """Two features that one client loses are told together, and apart from what another client loses."""
        message = message_of()
        first = lost(message, "css-float", "float:left", "word-processor", "word-processor-night")
        second = lost(message, "css-padding", "padding: 0")
        third = lost(message, "css-width", "width: 100%", "webmail-bare")
        one, other = told(message, first, second, third)
        assert one.message == "Declarations are lost: 4 places show in “Desktop, word-processor engine”."
        assert "width property is lost: 1 place shows" in other.message

    def test_one_family_by_day_and_night(self) -> None:
        """Profiles of one family are one client."""
        message = message_of()
        shown = [
            lost(message, "css-float", "float:left", "word-processor-night"),
            lost(message, "css-padding", "padding: 0", "word-processor"),
        ]
        (one,) = told(message, *shown)
        assert one.message == "Declarations are lost: 4 places show in “Desktop, word-processor engine”."

    def test_by_cause(self) -> None:
        """Selectors and declarations are mended otherwise."""
        message = message_of()
        found = told(message, lost(message, "css-float", "float:left"), lost(message, "css-selector-class", ".b"))
        assert [one.fix for one in found] == [
            "Set the parts in the cells of one table row.",
            "Write the declarations into style attributes of the elements that they are for.",
        ]

    @pytest.mark.parametrize(("selector", "fix"), [("p.a", "Lay the message out so"), ("p.b", "Write the declarations into style")])
    def test_a_sheet(self, selector: str, fix: str) -> None:
        """How many declarations go, how many of them show, and what helps: media queries cannot stand in attributes."""
        message = message_of()
        assert message.html is not None
        sheet = message.html.text.partition("<div>")[0]
        (one,) = told(
            message, lost(message, "html-style", sheet, elements=(element(message, selector),)), check="appearance.html-unsupported"
        )
        assert one.message.startswith("Style sheets are not kept: 3 declarations, of which ")
        assert one.fix.startswith(fix)

    def test_a_form(self) -> None:
        """It is one thing, whichever of its parts which client leaves out."""
        message = message_of('<form><input type="text"><input type="submit"></form>')
        shown = (
            lost(message, "html-input-text", '<input type="text">', "word-processor", "webmail-bare"),
            lost(message, "html-input-submit", '<input type="submit">'),
        )
        (one,) = told(message, *shown, check="appearance.html-unsupported")
        assert one.message == "Parts of a form are lost: 2 places show."
        assert one.fix == "Lead to a page that has the form, by a link."
        renders = Renders({"word-processor": Render(profiles()["word-processor"], Measured(600, 600, 600, 600))}, shown=shown[1:])
        asked = ("appearance.active-content", "appearance.html-unsupported")
        both = {one.check: len(one.findings) for one in run(message, Context(renders=renders), asked)}
        assert both == {"appearance.active-content": 1, "appearance.html-unsupported": 0}
        off = Context(renders=renders, settings={"appearance.active-content": {"level": "off"}})
        assert [len(one.findings) for one in run(message, off, asked)] == [0, 1], "a form is not hidden where that check is switched off"


def test_advice_names_what_there_is() -> None:
    """Every feature and every way of losing one that has advice is of the support table."""
    mends = table("loss_mends", LossMends)
    assert {*mends["features"], *mends["look"]} <= set(features())
    assert set(mends["how"]) <= {feature.how for feature in features().values()}
