"""Renders of a reader's copy led back to the message: elements by their start tags, places by the trace of the merge."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.message import Message, Sample, read_bytes
from jetwind.core.profiles import profiles
from jetwind.core.readers import as_reader
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.led_back import LedBack
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.showing import Shown

HTML = (
    "<table><tr><td>{% if a %}<p id=one>One</p><p id=two>Two</p>{% endif %}<p id=three>Three {{ x }}</p>"
    "{% for i in (1..2) %}<b id=four>{{ i }}</b>{% endfor %}</td></tr></table>\r\n<img id=five src='cid:a'>"
)


def message_of(html: str = HTML) -> Message:
    """A message of HTML alone."""
    return read_bytes(html.encode(), "x.html")


def names(message: Message) -> dict[str, int]:
    """Elements of a message by their id."""
    assert message.document is not None
    return {name: element.index for element in message.document.all_elements if (name := element.get("id"))}


class TestElements:
    """Each element of the merged tree is the one of the message that it was made from."""

    @pytest.mark.parametrize("values", [{}, {"a": "1", "x": "Tove"}, {"x": "<i>Tove</i>"}])
    def test_by_their_id(self, values: dict[str, str]) -> None:
        """What a loop repeats is one element; what a part leaves out is not there; what a value brings belongs to what holds it."""
        message = message_of()
        merged = as_reader(message, Sample("Tove", values))
        led = LedBack(message, merged)
        own = names(message)
        assert merged.message.document is not None
        found = set()
        for element in merged.message.document.all_elements:
            name = element.get("id")
            if name:
                assert led.element(element.index) == own[name]
                found.add(name)
            if element.tag == "i":
                assert led.element(element.index) == own["three"]
        assert found == {"three", "four", "five"} | ({"one", "two"} if "a" in values else set())

    @given(
        st.lists(
            st.sampled_from(["<p>", "</p>", "<b>x</b>", "{% if a %}", "{% endif %}", "{{ x }}", "<td>", "\r\n", "text"]), max_size=14
        ).map("".join)
    )
    def test_nothing_raises(self, html: str) -> None:
        """Whatever the template: an element of the message, or none."""
        message = message_of(f"<div>{html}</div>")
        for values in ({}, {"a": "1", "x": "<u>y</u>"}):
            merged = as_reader(message, Sample("r", values))
            led = LedBack(message, merged)
            assert message.document is not None and merged.message.document is not None
            for element in merged.message.document.all_elements:
                assert -1 <= led.element(element.index) < len(message.document.all_elements)

    def test_renders(self) -> None:
        """Blocks, blocked pictures and losses that show."""
        message = message_of()
        merged = as_reader(message, Sample("Tove", {"x": "Tove"}))
        assert merged.message.document is not None and merged.message.html is not None and message.html is not None
        own, theirs = names(message), names(merged.message)
        measured = Measured(600, 700, 600, 640, blocks=(Block(theirs["five"], "image", x=0, y=0, width=10, height=10),))
        image = merged.message.document.all_elements[theirs["five"]].start_tag
        assert image is not None
        shown = (Shown("css-x", "X", "look", ("desktop-pane",), (image,)),)
        given_renders = {"desktop-pane": Render(profiles()["desktop-pane"], measured, blocked=frozenset({theirs["five"]}))}
        found = LedBack(message, merged).renders(Renders(given_renders, shown=shown))
        lost = (Loss("cut", theirs["five"], theirs["five"]), Loss("covers", 9_999, theirs["five"]))
        led = LedBack(message, merged).renders(Renders(given_renders, enlarged=lost))
        assert led.enlarged == (Loss("cut", own["five"], own["five"]),)
        assert LedBack(message, merged).renders(Renders(given_renders)).enlarged is None
        assert found.reader == "Tove"
        assert [block.element for block in found.renders["desktop-pane"].measured.blocks] == [own["five"]]
        assert found.renders["desktop-pane"].blocked == {own["five"]}
        assert found.shown is not None
        assert message.html.source.slice(found.shown[0].spans[0]) == "<img id=five src='cid:a'>"
