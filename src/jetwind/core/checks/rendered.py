"""What checks over renders share: the renders themselves, the profiles of a finding in words, whether a block says anything."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from typing import Any

import regex

from jetwind.core.checking import CannotTell, Context, DoesNotApply
from jetwind.core.checking.field_texts import Use, uses
from jetwind.core.markup import Document, Element, TextRun
from jetwind.core.message import Message
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.measured import Block, Measured

_SPEAKS = regex.compile(r"[\p{L}\p{N}]")


def need_renders(message: Message, context: Context) -> tuple[Document, Renders]:
    """The tree and the renders. Raises DoesNotApply without HTML, CannotTell without renders."""
    if message.html is None or message.document is None:
        raise DoesNotApply("the message has no HTML part")
    renders = context.renders
    if renders is None:
        raise CannotTell("it needs a render; --render makes one, or the Appearance station")
    if not renders.renders:
        raise CannotTell(next(iter(renders.failed.values()), "there is no render"))
    return message.document, renders


def some(renders: Renders, what: str, **wanted: object) -> list[Render]:
    """Renders whose profile has these values. Raises CannotTell where no such profile was chosen."""
    found = renders.where(**wanted)
    if not found:
        raise CannotTell(f"no chosen profile is {what}")
    return found


def seen_in(renders: Renders, ids: Iterable[str]) -> dict[str, Any]:
    """Data of a finding about its profiles: a phrase for the sentence, their ids, and their share of the audience."""
    known = list(dict.fromkeys(ids))
    first = renders.renders[known[0]].profile.name
    phrase = f"“{first}”" if len(known) == 1 else f"“{first}” and {len(known) - 1} more"
    share = renders.share(known)
    if share is not None:
        phrase += f" ({share:g} % of the audience)"
    return {"profiles": phrase, "profile_ids": known, "share": share}


def element_of(document: Document, block: Block) -> Element | None:
    """The element of a block; None for one that only some client reads (a conditional block)."""
    return document.all_elements[block.element] if 0 <= block.element < len(document.all_elements) else None


def says_something(element: Element) -> bool:
    """Whether an element has letters or digits of its own: a bar or a dot between links is no text to read.

    What stands in a copy of an open ``<font>`` or ``<b>`` that the parser itself put there (HTML, "reconstruct the active
    formatting elements") is the element's own.
    """
    inside = [element]
    for one in inside:
        for child in one.children:
            if isinstance(child, TextRun):
                if _SPEAKS.search(child.text):
                    return True
            elif isinstance(child, Element) and child.start_tag is None:
                inside.append(child)
    return False


def first_screen_text(measured: Measured) -> int:
    """Letters that can be read on the first screen, alternative texts counted in."""
    return sum(
        block.characters
        for block in measured.of("text", "image")
        if block.y < measured.first_screen and ((value := block.contrast) is None or value >= 1.3)
    )


def fields_by_element(message: Message) -> dict[int, list[Use]]:
    """Fields in the copy of the HTML by the index of the element that they stand in."""
    found: dict[int, list[Use]] = defaultdict(list)
    for use in uses(message):
        if use.kind == "copy" and use.text.is_html and use.token.name and use.place.element is not None:
            found[use.place.element].append(use)
    return found


def widened_by_values(message: Message, renders: Renders) -> dict[int, tuple[int, int, list[str]]]:
    """Elements with a field in them whose letters reach over the screen, though nothing around them has a fixed width beyond it.

    For each, the room and the width of the worst render in px, and the profiles.
    """
    found: dict[int, tuple[int, int, list[str]]] = {}
    by_element = fields_by_element(message) if renders.reader else {}
    for profile_id, render in renders.renders.items():
        measured = render.measured
        if measured.content_width <= measured.width + 1:
            continue
        for block in measured.of("text", "link"):
            if (
                block.right > measured.width + 1
                and block.element in by_element
                and not _has_fixed_width(message, block.element, measured.width)
            ):
                room, width, ids = found.get(block.element, (measured.width, 0, []))
                if block.width - measured.width > width - room:
                    room, width = measured.width, round(block.width)
                found[block.element] = room, width, [*ids, profile_id]
    return {element: (room, width, list(dict.fromkeys(ids))) for element, (room, width, ids) in found.items()}


def _has_fixed_width(message: Message, element: int, room: int) -> bool:
    assert message.document is not None
    here = message.document.all_elements[element]
    for place in (here, *here.ancestors()):
        written = (place.get("width") or "").strip().removesuffix("px")
        if written.isdecimal() and len(written) < 8 and int(written) > room:
            return True
        for found in regex.finditer(r"(?<!max-)(?:min-)?width\s*:\s*(\d{1,7})(?:\.\d+)?px", (place.get("style") or "").lower()):
            if int(found[1]) > room:
                return True
    return False
