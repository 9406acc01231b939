"""The common part of checks over renders: the renders themselves, the profiles of a finding in words, whether a block says anything."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

import regex

from jetwind.core.checking import CannotTell, Context, DoesNotApply
from jetwind.core.checking.field_texts import Use, uses
from jetwind.core.checking.merged import merged_facts
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


def seen_in(renders: Renders, ids: Iterable[str]) -> dict[str, object]:
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


#: How wide a letter is at the least on the average, in parts of the type size (measured on the fonts of facts/font_widths.json).
_NARROW = 0.4
#: Type whose size is not known, in px.
_USUAL_SIZE = 16


def widened_by_values(message: Message, context: Context) -> dict[int, tuple[int, int, list[str]]]:
    """Elements with a field in them that are wider than the screen because a reader's value has a word that does not fit.

    For each, the room and the width of the worst render in px, and the profiles. A phone that shows the whole message smaller has been
    made to by it. What has a fixed width, itself or around it, is wide without the value.
    """
    renders = context.renders
    if renders is None or not renders.reader:
        return {}
    found: dict[int, tuple[int, int, list[str]]] = {}
    words = _longest_words(message, context, renders.reader)
    for profile_id, render in renders.renders.items():
        measured = render.measured
        room = round(measured.width * min(1.0, measured.scale))
        if measured.content_width <= room + 1:
            continue
        for block in measured.of("text", "link"):
            letters = words.get(block.element, 0)
            needs = letters * (block.size or _USUAL_SIZE) * _NARROW
            if block.right > room + 1 and needs > room / 2 and not _has_fixed_width(message, block.element, room):
                least, width, ids = found.get(block.element, (room, 0, []))
                if block.width - room > width - least:
                    least, width = room, round(block.width)
                found[block.element] = least, width, [*ids, profile_id]
    return {element: (room, width, list(dict.fromkeys(ids))) for element, (room, width, ids) in found.items()}


def _longest_words(message: Message, context: Context, reader: str) -> dict[int, int]:
    """For each element with a field in it, the letters of the longest word that a reader's values bring there."""
    by_use = {id(use): element for element, found in fields_by_element(message).items() for use in found}
    longest: dict[int, int] = defaultdict(int)
    for one in merged_facts(message, context.readers).brought if by_use else ():
        element = by_use.get(id(one.use))
        if element is not None and reader in one.readers:
            longest[element] = max(longest[element], *(len(word) for word in one.made.replace("-", " ").split()), 0)
    return longest


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
