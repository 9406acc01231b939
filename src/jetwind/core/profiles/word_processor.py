"""The conditional blocks and the drawing language VML, which the word-processor engine reads and others take for comments.

Common practice, no published source that is still served; from memory.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from html import escape

from jetwind.core.markup import Element
from jetwind.core.markup.conditional import conditionals, conditions_for_word_processor
from jetwind.core.source import Span
from jetwind.core.styles import declarations

_XML = re.compile(r"<xml\b.*?(?:</xml\s*>|\Z)", re.IGNORECASE | re.DOTALL)
_SHAPES = frozenset({"v:rect", "v:roundrect", "v:oval", "v:shape"})
#: Elements of VML and of Office's own namespaces that show nothing themselves.
_SILENT = re.compile(r"[vow]:(?!rect\b|roundrect\b|oval\b|shape\b|textbox\b|image\b)")


def revealed(text: str) -> tuple[str, list[Span], list[Span]]:
    """The source as this engine reads it, the blocks that it shows and the blocks that it hides.

    Every character keeps its place: what is not read becomes spaces.
    """
    found, _ = conditionals(text)
    shown: list[Span] = []
    hidden: list[Span] = []
    characters = list(text)

    def blank(start: int, end: int) -> None:
        for at in range(start, end):
            if characters[at] not in "\r\n":
                characters[at] = " "

    for block in found:
        if conditions_for_word_processor(block.condition):
            blank(block.span.start, block.content.start)
            blank(block.content.end, block.span.end)
            if block.form == "hidden":
                shown.append(block.content)
        elif block.form != "hidden":
            blank(block.span.start, block.span.end)
            hidden.append(block.content)
    result = "".join(characters)
    for match in _XML.finditer(result):
        blank(match.start(), match.end())
    return "".join(characters), sorted(shown, key=lambda span: span.start), sorted(hidden, key=lambda span: span.start)


#: An element that holds a drawing which stands behind its content makes a layer of its own, so that the drawing is above its ground.
STAGE = "data-jetwind-stage"
STAGE_RULE = f"[{STAGE}] {{ position: relative; z-index: 0 }}"


def stands_behind(element: Element) -> bool:
    """Whether a drawing is laid behind what follows it: it is placed, and has nothing of its own to show before it."""
    style = {one.name: one.value.lower() for one in declarations(element.get("style") or "")}
    return (
        style.get("position") == "absolute"
        or style.get("z-index", "").startswith("-")
        or any(name.startswith("mso-position") for name in style)
    )


def drawn(element: Element, address: Callable[[str], str]) -> tuple[str, str] | None:
    """Start and end tag in plain HTML for an element of VML; empty strings where it shows nothing, None for anything else.

    ``address`` gives the address under which the browser finds a picture.
    """
    if element.tag in _SHAPES:
        return _shape(element, address)
    if element.tag == "v:textbox":
        return "<div>", "</div>"
    if element.tag == "v:image":
        style = f"{_sizes(element)};{_BEHIND}" if stands_behind(element) else _sizes(element)
        return f'<img src="{escape(address(element.get("src") or ""))}" alt="" style="{escape(style, quote=True)}">', ""
    return ("", "") if _SILENT.match(element.tag) else None


_BEHIND = "position:absolute;left:0;top:0;z-index:-1"


def _shape(element: Element, address: Callable[[str], str]) -> tuple[str, str]:
    fill = next((child for child in element.elements("v:fill")), None)
    style = [_sizes(element)]
    if stands_behind(element):
        style.append(_BEHIND)
    picture = (fill.get("src") if fill is not None else None) or element.get("src")
    if picture and (element.get("fill") or "").lower() not in ("f", "false"):
        found = address(picture).replace("\\", "").replace('"', "%22")
        spread = "auto" if fill is not None and (fill.get("type") or "").lower() == "tile" else "100% 100%"
        style.append(f'background-image:url("{found}");background-size:{spread}')
    colour = element.get("fillcolor") or (fill.get("color") if fill is not None else None)
    if (element.get("fill") or "").lower() not in ("f", "false") and colour:
        style.append(f"background-color:{colour}")
    if (element.get("stroke") or "").lower() not in ("f", "false"):
        style.append(f"border:{element.get('strokeweight') or '1px'} solid {element.get('strokecolor') or 'black'}")
    if element.tag == "v:roundrect":
        arc = (element.get("arcsize") or "20%").rstrip("%")
        height = re.search(r"height:\s*([\d.]+)", element.get("style") or "")
        if height and re.fullmatch(r"[\d.]+", arc):
            style.append(f"border-radius:{float(height[1]) * float(arc) / 100:g}px")
    if element.tag == "v:oval":
        style.append("border-radius:50%")
    middle = re.search(r"v-text-anchor:\s*middle", element.get("style") or "", re.IGNORECASE)
    inner = "display:inline-flex;box-sizing:border-box;flex-direction:column;overflow:hidden" + (
        ";justify-content:center" if middle else ""
    )
    name = "a" if element.get("href") else "div"
    href = f' href="{escape(element.get("href") or "")}"' if element.get("href") else ""
    return f'<{name}{href} style="{escape(";".join([inner, *style]), quote=True)}">', f"</{name}>"


def _sizes(element: Element) -> str:
    kept = [f"{one.name}:{one.value}" for one in declarations(element.get("style") or "") if one.name in ("width", "height")]
    return ";".join(kept)
