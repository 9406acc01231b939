"""The rewrite of one message for one profile, element by element."""

from __future__ import annotations

import re
from bisect import bisect_right
from dataclasses import replace
from functools import partial
from html import escape

from jetwind.core.fields import opaque
from jetwind.core.images import measure
from jetwind.core.markup import Attribute, Document, Element, parse, source_span
from jetwind.core.message import Message
from jetwind.core.profiles import night
from jetwind.core.profiles.field_code import UNKNOWN_GROUND, with_unknown_colours, without_code
from jetwind.core.profiles.pictures import BLOCKED, Pictures
from jetwind.core.profiles.plan import Plan, css_colour, plan_of
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import MARK_ATTRIBUTE, Change, ChangeKind, Rewritten
from jetwind.core.profiles.stylesheet import CssChange, attribute_kept, sheet_kept, with_addresses
from jetwind.core.profiles.support import Loss
from jetwind.core.profiles.word_processor import STAGE, STAGE_RULE, drawn, revealed, stands_behind
from jetwind.core.source import Edit, Span, splice
from jetwind.core.styles import rules
from jetwind.core.styles.colours import legacy_colour

#: What stands where a client stops, and closes what swallows markup.
_NO_MORE = '</style></title></textarea><div style="font:13px sans-serif;padding:8px">The client shows no more than this.</div>'
#: Elements that no mail client runs or loads, whatever the table says (common practice, no published source).
_ACTIVE = frozenset({"script", "iframe", "embed", "applet", "frame", "frameset", "base", "noscript"})
_VOID = frozenset({"base", "meta", "link", "embed", "frame", "input", "img", "hr", "wbr", "source", "br", "track", "area", "col", "param"})
_COLOURS: dict[str, night.Role] = {
    "bgcolor": "ground",
    "color": "letter",
    "text": "letter",
    "link": "letter",
    "alink": "letter",
    "vlink": "letter",
}


class Page:
    """Edits gathered over one pass of the tree."""

    def __init__(self, message: Message, profile: Profile, only: str | None, spared: str) -> None:
        assert message.html is not None and message.document is not None
        self.message, self.profile = message, profile
        #: Whether everything that the client does is done, or at most one feature is taken out for a trial.
        self.is_whole = only is None
        self.plan: Plan = plan_of(profile, only, web_fonts(message), spared)
        self.text = message.html.text
        self.edits: list[Edit] = []
        self.changes: list[Change] = []
        self.pictures = Pictures(message, profile, self.plan, self._lost, partial(self._note, "altered"))
        self.blocked: set[int] = set()
        self.document, self.numbers = self._document()
        self.gone_until = -1
        self.elements_lost: dict[str, Loss] = {}
        self.elements_partly: dict[str, Loss] = {}
        for loss in self.plan.by_how.get("element", ()):
            for name in loss.names:
                (self.elements_partly if loss.then.startswith("attribute ") else self.elements_lost)[name] = loss
        self.attributes_lost: dict[str, list[Loss]] = {}
        for loss in self.plan.by_how.get("attribute", ()):
            for name in loss.names:
                self.attributes_lost.setdefault(name, []).append(loss)

    def rewritten(self) -> Rewritten:
        """The whole."""
        cut = self._cut()
        before = self._doctype()
        self.edits.extend(without_code(self.document))
        for element in self.document.all_elements:
            start = element.start_tag
            if start is None or start.start < self.gone_until or start.start >= cut:
                continue
            self._element(element, start)
        if cut < len(self.text):
            self.edits = [edit for edit in self.edits if edit.span.end <= cut]
            self.edits.append(Edit(Span(cut, len(self.text)), _NO_MORE))
            self._note("dropped", "clip", f"everything after {self.profile.clip:,} octets", Span(cut, len(self.text)))
        source = before + splice(self.document.source.text, self.edits)
        return Rewritten(
            source, self.pictures.parts, tuple(self.changes), self.pictures.remote, cut < len(self.text), frozenset(self.blocked)
        )

    def _document(self) -> tuple[Document, dict[int, int]]:
        """The tree that this engine reads, and for its elements their index in the message's own tree."""
        assert self.message.document is not None
        own = self.message.document
        if self.profile.engine != "word-processor" or "[if" not in self.text.lower():
            return own, {}

        def read() -> tuple[Document, dict[int, int], list[Span], list[Span]]:
            text, shown, hidden = revealed(self.text)
            document = parse(text, self.message.syntax)
            at = {element.start_tag.start: element.index for element in own.all_elements if element.start_tag is not None}
            numbers = {
                element.index: at.get(element.start_tag.start, len(own.all_elements) + element.index)
                for element in document.all_elements
                if element.start_tag is not None
            }
            return document, numbers, shown, hidden

        document, numbers, shown, hidden = self.message.shared("word-processor", read)
        for span in shown:
            self._note("added", "conditional", "a conditional block that other clients skip", span)
        for span in hidden:
            self._note("dropped", "conditional", "a conditional block for other clients", span)
        return document, numbers

    def _cut(self) -> int:
        """The character at which the client stops, at the start of a tag or a text."""
        limit = self.profile.clip
        if not self.is_whole or not limit or len(self.text) * 4 <= limit:
            return len(self.text)
        if len(encoded := self.text.encode("utf-8", "surrogatepass")) <= limit:
            return len(self.text)
        at = len(encoded[:limit].decode("utf-8", "ignore"))
        starts = [token.span.start for token in self.document.tokens]
        return starts[max(bisect_right(starts, at) - 1, 0)] if starts else at

    def _doctype(self) -> str:
        """Put the client's own style sheet behind the doctype; without one, what has to stand before everything."""
        match = re.match(r"\s*(<!doctype[^>]*>)", self.text, re.IGNORECASE)
        added = self._added()
        if match is None:
            return added
        loss = next(iter(self.plan.by_how.get("doctype", ())), None)
        span = Span(match.start(1), match.end(1))
        kept = match[1]
        if loss is not None:
            self._lost("dropped", loss, span)
            # Where the doctype has no say at all, leaving it out would put the browser into a mode of its own that the client lacks.
            kept = match[1] if loss.then == "told" else ""
        if kept + added != match[1]:
            self.edits.append(Edit(span, kept + added))
        return ""

    def _added(self) -> str:
        """The client's own style sheet, which comes before the message's."""
        added: list[str] = ["[data-jetwind-unknown] { " + UNKNOWN_GROUND + " }"] if self.document.field_tokens else []
        if self.profile.engine == "word-processor":
            added.append(STAGE_RULE)
        if self.profile.chrome:
            added.append(f"html {{ width: {self.profile.content_width}px }}")
        if self.plan.by_how.get("body") or self.profile.engine == "word-processor":
            # The message stands in a page of the client's own, whose margin is not the message's affair.
            added.append("body { margin: 0 }")
        if self.is_whole and self.plan.night:
            added.append(f"html, body {{ background-color: {night.GROUND}; color: {night.LETTER} }} a {{ color: {night.LINK} }}")
            self._note("added", "night", "a dark ground, light letters and light links where the message sets none", None)
        if self.profile.images == "blocked":
            if self.profile.alternative == "plain":
                added.append("img { font: 13px/1.4 sans-serif !important; color: #5a5a5a !important; background: #f1f1f1 !important }")
                self._note("added", "alternative", "blocked pictures in the client's own type and ground", None)
            elif self.profile.alternative == "none":
                added.append("img { font-size: 0 !important; color: transparent !important; background: #eeeeee !important }")
                self._note("added", "alternative", "grey boxes without text for blocked pictures", None)
        return f"<style>{' '.join(added)}</style>" if added else ""

    def _element(self, element: Element, start: Span) -> None:
        if self._taken_out(element, start):
            return
        if self.profile.engine == "word-processor" and ":" in element.tag and (tags := drawn(element, self.pictures.address)) is not None:
            self._replaced(element, start, *tags)
            parent = element.parent.start_tag if element.parent is not None else None
            if element.parent is not None and parent is not None and tags[0] and stands_behind(element):
                self.edits.append(Edit.insert(parent.start + 1 + len(element.parent.tag), f' {STAGE}=""'))
            return
        replaced = self._renamed(element, start)
        number = self.numbers.get(element.index, element.index)
        mark = f' {MARK_ATTRIBUTE}="{number}"'
        if replaced is not None:
            self.edits.append(Edit(Span(start.start, start.start + 1 + len(element.tag)), f"<{replaced}{mark}"))
        else:
            self.edits.append(Edit.insert(start.start + 1 + len(element.tag), mark))
        if element.tag == "style":
            self._sheet(element)
        for name, attribute in element.attributes.items():
            self._attribute(element, name, attribute)

    def _taken_out(self, element: Element, start: Span) -> bool:
        """Whether the element goes: with all that it holds, or with its tags alone."""
        tag = element.tag
        if tag in _ACTIVE:
            # Of the elements that the table knows, it says who lacks them; the others no client runs.
            self._remove(element, self._node(tag) or f"element {tag}", f"element {tag}")
            return True
        loss: Loss | None
        if tag == "meta":
            equivalent = (element.get("http-equiv") or "").lower()
            if equivalent in ("refresh", "content-security-policy"):
                self._remove(element, f"meta {equivalent}", f"meta {equivalent}")
                return True
            if (element.get("name") or "").lower() in ("color-scheme", "supported-color-schemes") and (loss := self._node("meta")):
                self._remove(element, loss)
                return True
        if tag == "link":
            lost = self._node("link")
            if lost is not None or "stylesheet" in (element.get("rel") or "").lower():
                self._remove(element, lost or "linked style sheet", "linked style sheet")
                return True
        if tag == "style" and (gone := self._style_lost(element)) is not None:
            self._remove(element, *gone)
            return True
        loss = self.elements_lost.get(tag) or self._control(element)
        if loss is not None:
            if loss.then == "remove" or tag == "source":
                self._remove(element, loss)
            else:
                self._lost("dropped", loss, start)
                self._replaced(element, start, "", "", note=False)
            return True
        if tag in ("object", "audio", "video") and self.is_whole:
            # Even where it is kept, nothing in it runs or loads here.
            self._note("dropped", f"element {tag}", f"element {tag}", start)
            self._replaced(element, start, "", "", note=False)
            return True
        return False

    def _style_lost(self, element: Element) -> tuple[Loss | str, str] | None:
        for loss in self.plan.by_how.get("style", ()):
            if loss.then != "in body" or any(outer.tag == "body" for outer in element.ancestors()):
                return loss, ""
        limit = self.profile.style_limit
        if self.is_whole and limit:
            size = len(element.text.encode("utf-8", "surrogatepass"))
            if size > limit:
                return "style-limit", f"style element of {size:,} octets, over the {limit:,} that are kept"
        return None

    def _control(self, element: Element) -> Loss | None:
        if element.tag not in ("input", "button"):
            return None
        kind = (element.get("type") or ("submit" if element.tag == "button" else "text")).strip().lower()
        for loss in self.plan.by_how.get("control", ()):
            if loss.tag == element.tag and kind in loss.names:
                return loss if element.tag == "button" else _removing(loss)
        return None

    def _node(self, name: str) -> Loss | None:
        return next((loss for loss in self.plan.by_how.get("node", ()) if name in loss.names), None)

    def _renamed(self, element: Element, start: Span) -> str | None:
        """The name of the element that stands in for a body."""
        if element.tag != "body":
            return None
        for loss in self.plan.by_how.get("body", ()):
            self._lost("altered" if loss.then == "div" else "dropped", loss, start)
            if element.end_tag is not None:
                self.edits.append(Edit(element.end_tag, "</div>"))
            return "div"
        return None

    def _replaced(self, element: Element, start: Span, opening: str, closing: str, *, note: bool = True) -> None:
        self.edits.append(Edit(start, opening))
        if element.end_tag is not None:
            self.edits.append(Edit(element.end_tag, closing))
        if note and opening:
            self._note("altered", "vml", f"{element.tag} drawn", start)

    def _remove(self, element: Element, loss: Loss | str, title: str = "") -> None:
        start, span = element.start_tag, element.span
        assert start is not None and span is not None
        whole = start if element.tag in _VOID or (element.end_tag is None and element.tag not in _ACTIVE) else span
        self.edits.append(Edit(whole, ""))
        self.gone_until = max(self.gone_until, whole.end)
        if isinstance(loss, Loss):
            self._lost("dropped", loss, whole)
        else:
            self._note("dropped", loss, title, whole)

    def _sheet(self, element: Element) -> None:
        sheet = self.document.sheet_of(element)
        if sheet is None:
            return
        css, span = sheet
        kept, changes = sheet_kept(css, self.plan)
        kept = with_unknown_colours(kept)
        if "url(" in kept.lower():
            kept = with_addresses(kept, self.pictures.address)
        self.edits.append(Edit(span, kept.replace("</style", "")))
        for change in changes:
            if not change.selector or self._matters(change):
                self._css(change, Span(span.start + change.start, span.start + change.end))

    def _matters(self, change: CssChange) -> bool:
        """Whether a declaration that some elements keep is lost on any element of this message."""
        verdict = change.verdict
        assert verdict is not None, "a change with a selector has its verdict"

        def hit() -> frozenset[str]:
            try:
                return frozenset(element.tag for element in self.document.select(change.selector))
            except ValueError:
                return frozenset()

        prefix = self.profile.prefix
        tags = hit() if prefix else self.message.shared(f"tags {self.profile.engine} {change.selector}", hit)
        return any(not verdict.spares(tag) for tag in tags)

    def _attribute(self, element: Element, name: str, attribute: Attribute) -> None:
        if name.startswith("on") or name in ("srcdoc", "ping"):
            self._note("dropped", f"attribute {name}", f"attribute {name}", attribute.span)
            self.edits.append(Edit(attribute.span, ""))
            return
        for loss in self.attributes_lost.get(name, ()):
            if not loss.spares(element.tag) and (loss.values is None or loss.values.search(attribute.value)):
                self._lost("dropped", loss, attribute.span)
                self.edits.append(Edit(attribute.span, ""))
                return
        partly = self.elements_partly.get(element.tag)
        if partly is not None and partly.then == f"attribute {name}":
            self._lost("dropped", partly, attribute.span)
            self.edits.append(Edit(attribute.span, ""))
            return
        if name == "srcset":
            # Which of several pictures a reader gets is not simulated: the one that every client takes is shown.
            self._note("dropped", "attribute srcset", "attribute srcset", attribute.span)
            self.edits.append(Edit(attribute.span, ""))
        elif name == "style":
            self._style(element, attribute)
        elif (name == "src" and element.tag in ("img", "input")) or name == "background":
            self._picture(element, attribute)
        elif name in ("class", "id") and self.profile.prefix and self.is_whole and attribute.value.strip():
            names = " ".join(self.profile.prefix + one for one in attribute.value.split())
            self._note("altered", "prefix", "class names and ids with a prefix", attribute.span)
            self._set(attribute, names)
        elif name in _COLOURS and self.message.holds_field(attribute.value):
            self._set(attribute, "")
            self.edits.append(Edit.insert(attribute.span.start, 'data-jetwind-unknown="" '))
        elif name in _COLOURS and self.plan.night and self.is_whole:
            colour = legacy_colour(attribute.value)
            if colour is not None and (turned := night.at_night(colour, _COLOURS[name], self.plan.night)) != colour:
                self._note("altered", "night", "colours changed for the night", attribute.span)
                self._set(attribute, css_colour(turned))
        elif name == "href" and element.tag in ("a", "area"):
            for loss in self.plan.by_how.get("behaviour", ()):
                start = attribute.value.strip().lower()
                if any(start.startswith(mark) and len(start) > len(mark) for mark in loss.names):
                    self._lost("altered", loss, attribute.span)

    def _style(self, element: Element, attribute: Attribute) -> None:
        value = opaque(attribute.value, self.message.syntax)
        kept, changes = attribute_kept(value, element.tag, self.plan)
        raw = self.text[attribute.value_span.start : attribute.value_span.end]
        for change in changes:
            self._css(change, source_span(raw, attribute.value_span, change.start, change.end))
        if "url(" in kept.lower():
            kept = with_addresses(kept, self.pictures.address)
        kept = with_unknown_colours(kept)
        if kept != attribute.value:
            self._set(attribute, kept)

    def _picture(self, element: Element, attribute: Attribute) -> None:
        size = (element.get("width") or "", element.get("height") or "")
        address = self.pictures.address(attribute.value, attribute.span, size)
        if address == BLOCKED and attribute.name == "src":
            self.blocked.add(self.numbers.get(element.index, element.index))
        if address != attribute.value:
            self._set(attribute, address)
        resource = self.message.resource(attribute.value)
        natural = self.pictures.natural.get(resource.sha256) if resource is not None else None
        if natural is not None and "width" not in element.names and "height" not in element.names and element.tag == "img":
            # Its own width, which a smaller copy no longer has; the height follows from the proportions.
            tag = element.start_tag
            assert tag is not None, "an attribute stands in a start tag"
            self.edits.append(Edit.insert(tag.start + 1 + len(element.tag), f' width="{natural[0]}"'))
        width = (element.get("width") or "").strip()
        if self.profile.engine == "word-processor" and self.is_whole and element.tag == "img" and width.endswith("%"):
            self._of_the_file(element, attribute, width)

    def _of_the_file(self, element: Element, attribute: Attribute, width: str) -> None:
        """A percentage is taken of the picture's own width (support table, note on html-width)."""
        resource = self.message.resource(attribute.value)
        facts = measure(resource.data) if resource is not None else None
        share = width.rstrip("% ")
        place = element.attributes.get("width")
        if facts is not None and place is not None and re.fullmatch(r"[0-9]{1,5}(?:\.[0-9]{1,5})?", share):
            self._note("altered", "html-width", "percentage width taken of the picture's own width", place.span)
            self._set(place, str(round(facts.width * float(share) / 100)))

    def _set(self, attribute: Attribute, value: str) -> None:
        self.edits.append(Edit(attribute.span, f'{attribute.name}="{escape(value, quote=True)}"'))

    def _css(self, change: CssChange, span: Span) -> None:
        self.changes.append(Change(change.kind, change.feature, change.title, span, change.feature.startswith(("css-", "html-"))))

    def _lost(self, kind: ChangeKind, loss: Loss, span: Span | None) -> None:
        self.changes.append(Change(kind, loss.feature, loss.title, span, True))

    def _note(self, kind: ChangeKind, feature: str, title: str, span: Span | None) -> None:
        self.changes.append(Change(kind, feature, title, span))


def web_fonts(message: Message) -> frozenset[str]:
    """The font families that a message brings by @font-face, lower case."""

    def read() -> frozenset[str]:
        assert message.document is not None
        found = (
            declaration.value.strip("\"' ").lower()
            for block in message.document.elements("style")
            for rule in (rules(block.text) if "@font-face" in block.text.lower() else ())
            if any(name == "font-face" for name, _ in rule.within)
            for declaration in rule.declarations
            if declaration.name == "font-family"
        )
        return frozenset(found)

    return message.shared("web fonts", read)


def _removing(loss: Loss) -> Loss:
    return replace(loss, then="remove")
