"""The rewrite of one message for one profile, element by element."""

from __future__ import annotations

import re
from bisect import bisect_right
from dataclasses import replace

from jetwind.core.markup import Document, Element, parse
from jetwind.core.message import Message, Shared
from jetwind.core.profiles import night
from jetwind.core.profiles.attributes import Attributes
from jetwind.core.profiles.field_code import UNKNOWN_GROUND, without_code
from jetwind.core.profiles.pictures import LACKING_RULES
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import MARK_ATTRIBUTE, Rewritten
from jetwind.core.profiles.support import Loss
from jetwind.core.profiles.word_processor import STAGE, STAGE_RULE, drawn, revealed, stands_behind
from jetwind.core.profiles.work import Work
from jetwind.core.source import Edit, Span, splice

_FOR_WORD_PROCESSORS: Shared[tuple[Document, dict[int, int], list[Span], list[Span]]] = Shared("word-processor")

#: What stands where a client stops, and closes what swallows markup.
_NO_MORE = '</style></title></textarea><div style="font:13px sans-serif;padding:8px">The client shows no more than this.</div>'
#: Elements that no mail client runs or loads, whatever the table says (common practice, no published source).
_ACTIVE = frozenset({"script", "iframe", "embed", "applet", "frame", "frameset", "base", "noscript"})
#: Characters of text that are drawn: a long newsletter has fifty thousand, and the browser takes 400 octets for each.
MOST_TEXT = 600_000
_VOID = frozenset({"base", "meta", "link", "embed", "frame", "input", "img", "hr", "wbr", "source", "br", "track", "area", "col", "param"})


class Page:
    """One pass over the tree of a message, which leaves its edits and changes in ``work``."""

    def __init__(self, message: Message, profile: Profile, only: str | None, spared: str) -> None:
        assert message.html is not None and message.document is not None
        self.work = Work(message, profile, only, spared)
        self.text = message.html.text
        self.document, self.numbers = self._document()
        self.attributes = Attributes(self.work, self.document, self.numbers)
        self.gone_until = -1
        self.elements_lost: dict[str, Loss] = {
            name: loss for loss in self.work.plan.by_how.get("element", ()) if not loss.then.startswith("attribute ") for name in loss.names
        }

    def rewritten(self) -> Rewritten:
        """Rewrite the whole message."""
        drawn = self._drawn()
        cut = min(self._cut(), drawn)
        before = self._doctype()
        self.work.edits.extend(without_code(self.document))
        for element in self.document.all_elements:
            start = element.start_tag
            if start is None or start.start < self.gone_until or start.start >= cut:
                continue
            self._element(element, start)
        if cut < len(self.text):
            self.work.edits = [edit for edit in self.work.edits if edit.span.end <= cut]
            self.work.edits.append(Edit(Span(cut, len(self.text)), _NO_MORE))
            why = f"everything after {self.work.profile.clip:,} octets"
            if cut == drawn:
                why = f"everything after {drawn:,} characters, which Jetwind does not draw"
            self.work.note("dropped", "clip", why, Span(cut, len(self.text)))
        source = before + splice(self.document.source.text, self.work.edits)
        return Rewritten(
            source,
            self.work.pictures.parts,
            changes=tuple(self.work.changes),
            lacking=tuple(self.work.pictures.lacking),
            clipped=cut < drawn,
            blocked=frozenset(self.work.blocked),
            own=self.work.pictures.own,
            fetched=self.work.message.fetched_key,
            pixels=sum(self.work.pictures.pixels.values()),
        )

    def _document(self) -> tuple[Document, dict[int, int]]:
        """The tree that this engine reads, and for its elements their index in the message's own tree."""
        assert self.work.message.document is not None
        own = self.work.message.document
        if self.work.profile.engine != "word-processor" or "[if" not in self.text.lower():
            return own, {}

        def read() -> tuple[Document, dict[int, int], list[Span], list[Span]]:
            text, shown, hidden = revealed(self.text)
            document = parse(text, self.work.message.syntax)
            at = {element.start_tag.start: element.index for element in own.all_elements if element.start_tag is not None}
            numbers = {
                element.index: at.get(element.start_tag.start, len(own.all_elements) + element.index)
                for element in document.all_elements
                if element.start_tag is not None
            }
            return document, numbers, shown, hidden

        document, numbers, shown, hidden = self.work.message.shared(_FOR_WORD_PROCESSORS, read)
        for span in shown:
            self.work.note("added", "conditional", "a conditional block that other clients skip", span)
        for span in hidden:
            self.work.note("dropped", "conditional", "a conditional block for other clients", span)
        return document, numbers

    def _drawn(self) -> int:
        """The character at which Jetwind stops drawing, inside a text or at the start of a tag; all of them where it draws the whole."""
        tokens, end = self.document.tokens, self.document.characters_looked_at
        if len(self.text) > MOST_TEXT:
            left = MOST_TEXT
            for token in tokens:
                if token.kind == "text":
                    left -= token.span.end - token.span.start
                    if left < 0:
                        return token.span.end + left
        if end == len(self.text) or not tokens:
            return len(self.text)
        last = tokens[-1]
        return min(last.span.end if last.kind == "text" else last.span.start, end)

    def _cut(self) -> int:
        """The character at which the client stops, at the start of a tag or a text."""
        limit = self.work.profile.clip
        if not self.work.is_whole or not limit or len(self.text) * 4 <= limit:
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
        loss = next(iter(self.work.plan.by_how.get("doctype", ())), None)
        span = Span(match.start(1), match.end(1))
        kept = match[1]
        if loss is not None:
            self.work.lost("dropped", loss, span)
            # Where the doctype has no say at all, leaving it out would put the browser into a mode of its own that the client lacks.
            kept = match[1] if loss.then == "told" else ""
        if kept + added != match[1]:
            self.work.edits.append(Edit(span, kept + added))
        return ""

    def _added(self) -> str:
        """The client's own style sheet, which comes before the message's."""
        added: list[str] = ["[data-jetwind-unknown] { " + UNKNOWN_GROUND + " }"] if self.document.field_tokens else []
        if self.work.profile.engine == "word-processor":
            added.append(STAGE_RULE)
        if self.work.profile.chrome:
            # The pane is the client's: a message that sets its own html to 100 % gets no more room by it.
            pane = f"width: {self.work.profile.content_width}px !important; min-width: 0 !important; max-width: none !important"
            added.append(f"html:root:root {{ {pane} }}")
        if self.work.plan.by_how.get("body") or self.work.profile.engine == "word-processor":
            # The message stands in a page of the client's own, whose margin is not the message's affair.
            added.append("body { margin: 0 }")
        if self.work.is_whole and self.work.plan.night:
            added.append(f"html, body {{ background-color: {night.GROUND}; color: {night.LETTER} }} a {{ color: {night.LINK} }}")
            self.work.note("added", "night", "a dark ground, light letters and light links where the message sets none", None)
        if self.work.profile.images == "on" and self._lacks_a_picture():
            added.append(LACKING_RULES)
        if self.work.profile.images == "blocked":
            if self.work.profile.alternative == "plain":
                added.append("img { font: 13px/1.4 sans-serif !important; color: #5a5a5a !important; background: #f1f1f1 !important }")
                self.work.note("added", "alternative", "blocked pictures in the client's own type and ground", None)
            elif self.work.profile.alternative == "none":
                added.append("img { font-size: 0 !important; color: transparent !important; background: #eeeeee !important }")
                self.work.note("added", "alternative", "grey boxes without text for blocked pictures", None)
        return f"<style>{' '.join(added)}</style>" if added else ""

    def _lacks_a_picture(self) -> bool:
        addresses = (element.get("src") or "" for element in self.document.elements("img"))
        return any(address[:5].lower() != "data:" and self.work.message.picture(address) is None for address in addresses)

    def _element(self, element: Element, start: Span) -> None:
        if self._taken_out(element, start):
            return
        if (
            self.work.profile.engine == "word-processor"
            and ":" in element.tag
            and (tags := drawn(element, self.work.pictures.address)) is not None
        ):
            self._replaced(element, start, *tags)
            parent = element.parent.start_tag if element.parent is not None else None
            if element.parent is not None and parent is not None and tags[0] and stands_behind(element):
                self.work.edits.append(Edit.insert(parent.start + 1 + len(element.parent.tag), f' {STAGE}=""'))
            return
        replaced = self._renamed(element, start)
        number = self.numbers.get(element.index, element.index)
        mark = f' {MARK_ATTRIBUTE}="{number}"'
        if replaced is not None:
            self.work.edits.append(Edit(Span(start.start, start.start + 1 + len(element.tag)), f"<{replaced}{mark}"))
        else:
            self.work.edits.append(Edit.insert(start.start + 1 + len(element.tag), mark))
        if element.tag == "style":
            self.attributes.sheet(element)
        for name, attribute in element.attributes.items():
            self.attributes.attribute(element, name, attribute)

    def _taken_out(self, element: Element, start: Span) -> bool:
        """Whether the element goes: with all that it holds, or with its tags alone."""
        tag = element.tag
        if tag in _ACTIVE:
            # The support table says which clients lack an element; of those that it does not know, no client runs any.
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
                self.work.lost("dropped", loss, start)
                self._replaced(element, start, "", "", note=False)
            return True
        if tag in ("object", "audio", "video") and self.work.is_whole:
            # Even where it is kept, nothing in it runs or loads here.
            self.work.note("dropped", f"element {tag}", f"element {tag}", start)
            self._replaced(element, start, "", "", note=False)
            return True
        return False

    def _style_lost(self, element: Element) -> tuple[Loss | str, str] | None:
        for loss in self.work.plan.by_how.get("style", ()):
            if loss.then != "in body" or any(outer.tag == "body" for outer in element.ancestors()):
                return loss, ""
        limit = self.work.profile.style_limit
        if self.work.is_whole and limit:
            size = len(element.text.encode("utf-8", "surrogatepass"))
            if size > limit:
                return "style-limit", f"style element of {size:,} octets, over the {limit:,} that are kept"
        return None

    def _control(self, element: Element) -> Loss | None:
        if element.tag not in ("input", "button"):
            return None
        kind = (element.get("type") or ("submit" if element.tag == "button" else "text")).strip().lower()
        for loss in self.work.plan.by_how.get("control", ()):
            if loss.tag == element.tag and kind in loss.names:
                return loss if element.tag == "button" else _removing(loss)
        return None

    def _node(self, name: str) -> Loss | None:
        return next((loss for loss in self.work.plan.by_how.get("node", ()) if name in loss.names), None)

    def _renamed(self, element: Element, start: Span) -> str | None:
        """The name of the element that stands in for a body."""
        if element.tag != "body":
            return None
        for loss in self.work.plan.by_how.get("body", ()):
            self.work.lost("altered" if loss.then == "div" else "dropped", loss, start)
            if element.end_tag is not None:
                self.work.edits.append(Edit(element.end_tag, "</div>"))
            return "div"
        return None

    def _replaced(self, element: Element, start: Span, opening: str, closing: str, *, note: bool = True) -> None:
        self.work.edits.append(Edit(start, opening))
        if element.end_tag is not None:
            self.work.edits.append(Edit(element.end_tag, closing))
        if note and opening:
            self.work.note("altered", "vml", f"{element.tag} drawn", start)

    def _remove(self, element: Element, loss: Loss | str, title: str = "") -> None:
        start, span = element.start_tag, element.span
        assert start is not None and span is not None
        whole = start if element.tag in _VOID or (element.end_tag is None and element.tag not in _ACTIVE) else span
        self.work.edits.append(Edit(whole, ""))
        self.gone_until = max(self.gone_until, whole.end)
        if isinstance(loss, Loss):
            self.work.lost("dropped", loss, whole)
        else:
            self.work.note("dropped", loss, title, whole)


def _removing(loss: Loss) -> Loss:
    return replace(loss, then="remove")
