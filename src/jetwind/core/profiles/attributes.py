"""A client's changes to style elements and to attributes."""

from __future__ import annotations

import re

from jetwind.core.fields import opaque
from jetwind.core.images import measure
from jetwind.core.markup import Attribute, Document, Element, source_span
from jetwind.core.message import Shared, is_picture_address
from jetwind.core.profiles import night
from jetwind.core.profiles.field_code import with_unknown_colours
from jetwind.core.profiles.pictures import BLOCKED, LACKING, is_tracking
from jetwind.core.profiles.plan import css_colour
from jetwind.core.profiles.stylesheet import CssChange, attribute_kept, sheet_kept, with_addresses
from jetwind.core.profiles.support import Loss
from jetwind.core.profiles.work import Work
from jetwind.core.source import Edit, Span
from jetwind.core.styles.colours import legacy_colour

_TAGS: Shared[frozenset[str]] = Shared("tags")

_COLOURS: dict[str, night.Role] = {
    "bgcolor": "ground",
    "color": "letter",
    "text": "letter",
    "link": "letter",
    "alink": "letter",
    "vlink": "letter",
}


class Attributes:
    """Style elements and attributes of a document, which is the message's own or the word-processor engine's reading of it.

    ``numbers`` gives the index in the message's own tree for elements of another one.
    """

    def __init__(self, work: Work, document: Document, numbers: dict[int, int]) -> None:
        self._work, self._document, self._numbers = work, document, numbers
        self._elements_partly: dict[str, Loss] = {
            name: loss for loss in work.plan.by_how.get("element", ()) if loss.then.startswith("attribute ") for name in loss.names
        }
        self._attributes_lost: dict[str, list[Loss]] = {}
        for loss in work.plan.by_how.get("attribute", ()):
            for name in loss.names:
                self._attributes_lost.setdefault(name, []).append(loss)

    def sheet(self, element: Element) -> None:
        """A style element as the client keeps it."""
        work = self._work
        sheet = self._document.sheet_of(element)
        if sheet is None:
            return
        css, span = sheet
        kept, changes = sheet_kept(css, work.plan)
        kept = with_unknown_colours(kept)
        if "url(" in kept.lower():
            kept = with_addresses(kept, work.pictures.address)
        work.edits.append(Edit(span, kept.replace("</style", "")))
        for change in changes:
            if not change.selector or self._matters(change):
                work.css(change, Span(span.start + change.start, span.start + change.end))

    def _matters(self, change: CssChange) -> bool:
        """Whether a declaration that some elements keep is lost on any element of this message."""
        work = self._work
        verdict = change.verdict
        assert verdict is not None, "a change with a selector has its verdict"

        def hit() -> frozenset[str]:
            try:
                return frozenset(element.tag for element in self._document.select(change.selector))
            except ValueError:
                return frozenset()

        prefix = work.profile.prefix
        tags = hit() if prefix else work.message.shared(_TAGS.of(f"{work.profile.engine} {change.selector}"), hit)
        return any(not verdict.spares(tag) for tag in tags)

    def attribute(self, element: Element, name: str, attribute: Attribute) -> None:
        """One attribute as the client keeps it."""
        work = self._work
        if name.startswith("on") or name in ("srcdoc", "ping"):
            work.note("dropped", f"attribute {name}", f"attribute {name}", attribute.span)
            work.edits.append(Edit(attribute.span, ""))
            return
        if name == "background" and not is_picture_address(attribute.value):
            return  # a colour where an address belongs is no picture, so that nothing is lost with it
        for loss in self._attributes_lost.get(name, ()):
            if not loss.spares(element.tag) and (loss.values is None or loss.values.search(attribute.value)):
                work.lost("dropped", loss, attribute.span)
                work.edits.append(Edit(attribute.span, ""))
                return
        partly = self._elements_partly.get(element.tag)
        if partly is not None and partly.then == f"attribute {name}":
            work.lost("dropped", partly, attribute.span)
            work.edits.append(Edit(attribute.span, ""))
            return
        if name == "srcset":
            # Which of several pictures a reader gets is not simulated: the one that every client takes is shown.
            work.note("dropped", "attribute srcset", "attribute srcset", attribute.span)
            work.edits.append(Edit(attribute.span, ""))
        elif name == "style":
            self._style(element, attribute)
        elif (name == "src" and element.tag in ("img", "input")) or name == "background":
            self._picture(element, attribute)
        elif name in ("class", "id") and work.profile.prefix and work.is_whole and attribute.value.strip():
            names = " ".join(work.profile.prefix + one for one in attribute.value.split())
            work.note("altered", "prefix", "class names and ids with a prefix", attribute.span)
            work.set(attribute, names)
        elif name in _COLOURS and work.message.holds_field(attribute.value):
            work.set(attribute, "")
            work.edits.append(Edit.insert(attribute.span.start, 'data-jetwind-unknown="" '))
        elif name in _COLOURS and work.plan.night and work.is_whole:
            colour = legacy_colour(attribute.value)
            if colour is not None and (turned := night.at_night(colour, _COLOURS[name], work.plan.night)) != colour:
                work.note("altered", "night", "colours changed for the night", attribute.span)
                work.set(attribute, css_colour(turned))
        elif name == "href" and element.tag in ("a", "area"):
            for loss in work.plan.by_how.get("behaviour", ()):
                start = attribute.value.strip().lower()
                if any(start.startswith(mark) and len(start) > len(mark) for mark in loss.names):
                    work.lost("altered", loss, attribute.span)

    def _style(self, element: Element, attribute: Attribute) -> None:
        work = self._work
        value = opaque(attribute.value, work.message.syntax)
        kept, changes = attribute_kept(value, element.tag, work.plan)
        raw = self._document.source.text[attribute.value_span.start : attribute.value_span.end]
        for change in changes:
            work.css(change, source_span(raw, attribute.value_span, change.start, change.end))
        if "url(" in kept.lower():
            kept = with_addresses(kept, work.pictures.address)
        kept = with_unknown_colours(kept)
        if kept != attribute.value:
            work.set(attribute, kept)

    def _picture(self, element: Element, attribute: Attribute) -> None:
        work = self._work
        size = (element.get("width") or "", element.get("height") or "")
        address = work.pictures.address(attribute.value, attribute.span, size)
        if address == BLOCKED and attribute.name == "src":
            work.blocked.add(self._numbers.get(element.index, element.index))
        if address != attribute.value:
            work.set(attribute, address)
        resource = work.message.picture(attribute.value)
        if (
            resource is None
            and address == attribute.value
            and element.tag == "img"
            and work.profile.images == "on"
            and not is_tracking(size)
        ):
            self._keep_space(element)
        natural = work.pictures.natural.get(resource.sha256) if resource is not None else None
        if natural is not None and "width" not in element.names and "height" not in element.names and element.tag == "img":
            # Its own width, which a smaller copy no longer has; the height follows from the proportions.
            tag = element.start_tag
            assert tag is not None, "an attribute stands in a start tag"
            work.edits.append(Edit.insert(tag.start + 1 + len(element.tag), f' width="{natural[0]}"'))
        width = (element.get("width") or "").strip()
        if work.profile.engine == "word-processor" and work.is_whole and element.tag == "img" and width.endswith("%"):
            self._of_the_file(element, attribute, width)

    def _keep_space(self, element: Element) -> None:
        """Mark a picture that is not there, so that it takes the space that the message declares for it; see LACKING_RULES."""
        tag, names = element.start_tag, element.names
        assert tag is not None, "an attribute stands in a start tag"
        unknown = [] if "width" in names and "height" in names else ["ratio"]
        unknown += [] if "width" in names or "height" in names else ["width"]
        self._work.edits.append(Edit.insert(tag.start + 1 + len(element.tag), f' {LACKING}="{" ".join(unknown)}"'))

    def _of_the_file(self, element: Element, attribute: Attribute, width: str) -> None:
        """A percentage is taken of the picture's own width (support table, note on html-width)."""
        work = self._work
        resource = work.message.picture(attribute.value)
        facts = measure(resource.data) if resource is not None else None
        share = width.rstrip("% ")
        place = element.attributes.get("width")
        if facts is not None and place is not None and re.fullmatch(r"[0-9]{1,5}(?:\.[0-9]{1,5})?", share):
            work.note("altered", "html-width", "percentage width taken of the picture's own width", place.span)
            work.set(place, str(round(facts.width * float(share) / 100)))
