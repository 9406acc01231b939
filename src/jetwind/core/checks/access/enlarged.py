"""Nothing is lost to readers who set text larger."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, box, check, clear, finds, laid_out
from jetwind.core.checks.rendered import need_renders, some
from jetwind.core.message import Message
from jetwind.core.prose.reading import tidy

_LINE = box("p", "text", (0, 0, 200, 20), characters=20)
_HTML = "<div style='height:20px;overflow:hidden'><p>Glazes are back</p></div><h2>Bowls</h2>"
#: Characters of a text that a finding quotes.
_QUOTED = 60


@check(
    id="access.text-enlarged",
    name="Text lost when it is enlarged",
    level=Level.FIX,
    why="A reader who needs text twice as large does not get all of it.",
    fix="Give boxes of text no fixed height and no hidden overflow.",
    basis="WCAG 2.2 SC 1.4.4; measured in the browser with type and line height at 200 %",
    samples=[
        clear(_HTML, renders=laid_out("desktop-pane", _LINE, enlarged=())),
        finds(_HTML, "<div style='height:20px;overflow:hidden'>", renders=laid_out("desktop-pane", _LINE, enlarged=(("cut", "p", "div"),))),
        finds(_HTML, "<p>", renders=laid_out("desktop-pane", _LINE, enlarged=(("covers", "p", "h2"),))),
    ],
)
def find_lost(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """With text at 200 % in a desktop profile no text is cut off, and none covers another."""
    document, renders = need_renders(message, context)
    some(renders, "a desktop", device="desktop", engine="standards")
    if renders.enlarged is None:
        raise CannotTell("the text was not enlarged in time")
    cut: dict[int, list[int]] = {}
    covers: dict[int, list[int]] = {}
    for loss in renders.enlarged:
        if 0 <= loss.element < len(document.all_elements):
            # One box that cuts ten texts off is one fault; so is one text that runs over ten others.
            place = loss.other if loss.kind == "cut" and 0 <= loss.other < len(document.all_elements) else loss.element
            (cut if loss.kind == "cut" else covers).setdefault(place, []).append(loss.element if loss.kind == "cut" else loss.other)
    for found, sentence in (
        (cut, "At 200 %, the text “{words}” is cut off by the box around it."),
        (covers, "At 200 %, the text “{words}” and the text after it cover each other."),
    ):
        for place, elements in found.items():
            element = document.all_elements[place]
            words = tidy((document.all_elements[elements[0]] if found is cut else element).text)
            yield Hit(
                sentence,
                Place.in_html(message, element.start_tag, element.index),
                {"words": f"{words[:_QUOTED]}…" if len(words) > _QUOTED else words, "places": len(elements)},
                identity=words[:_QUOTED],
            )
