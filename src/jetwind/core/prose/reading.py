"""The message as a reader takes it in: what is visible, what is hidden before it, what an inbox would preview."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Literal

from jetwind.core.fields import without_blocks
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Shared
from jetwind.core.prose.passages import Passage
from jetwind.core.source import LIMITS
from jetwind.core.styles.cascade import NEVER_SHOWN

_READING: Shared[Reading] = Shared("reading")

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

#: Characters that pad a preview text so that nothing after it shows: joiners, soft hyphens, figure and zero-width spaces.
_PADDING = re.compile("[\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180e\u2000-\u200f\u2028-\u202f\u205f-\u206f\u3164\ufeff\uffa0]+")
_SPACE = re.compile(r"[\s\u00a0]+")

BLOCKS = frozenset(
    [
        "address",
        "article",
        "aside",
        "blockquote",
        "body",
        "br",
        "caption",
        "center",
        "dd",
        "div",
        "dl",
        "dt",
        "fieldset",
        "footer",
        "form",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hr",
        "li",
        "main",
        "nav",
        "ol",
        "p",
        "pre",
        "section",
        "table",
        "tbody",
        "td",
        "tfoot",
        "th",
        "thead",
        "tr",
        "ul",
    ]
)


@dataclass(frozen=True, slots=True)
class Piece:
    """A run of text, white space collapsed, with where it comes from; styles and scripts are no copy, hidden or not."""

    text: str
    run: TextRun
    link: Element | None
    is_no_copy: bool


@dataclass(frozen=True, slots=True)
class InboxPiece:
    """A piece of what an inbox shows after the subject. ``length`` counts padding too, which pushes what follows out of sight."""

    text: str
    length: int
    kind: Literal["given", "hidden", "visible", "alternative text"]
    link: Element | None = None
    run: TextRun | None = None
    element: Element | None = None


def tidy(text: str) -> str:
    """White space collapsed and padding characters dropped."""
    return _SPACE.sub(" ", _PADDING.sub("", text)).strip()


def tidy_places(text: str) -> list[int]:
    """For each character that ``tidy`` leaves of a text, where it stood."""
    places: list[int] = []
    after_space = True
    for at, char in enumerate(text):
        if _PADDING.match(char):
            continue
        is_space = char.isspace() or char == "\u00a0"
        if not (is_space and after_space):
            places.append(at)
        after_space = is_space
    return places


class _Around:
    """What stands around each element, by its index. Elements are entered in document order, so a parent is known before its
    children and nothing climbs up: climbing would take the square of the depth of a hostile tree.
    """

    def __init__(self) -> None:
        self.links: dict[int, Element] = {}
        self.blocks: dict[int, Element] = {}
        self.no_copy: set[int] = set()

    def enter(self, element: Element) -> None:
        """Take over from the parent, and add what the element is itself."""
        above = element.parent.index if element.parent else -1
        for found, is_one in ((self.links, element.tag == "a"), (self.blocks, element.tag in BLOCKS)):
            if is_one:
                found[element.index] = element
            elif above in found:
                found[element.index] = found[above]
        if element.tag in NEVER_SHOWN or above in self.no_copy:
            self.no_copy.add(element.index)


class Reading:
    """Text views over one message."""

    def __init__(self, message: Message) -> None:
        self._message = message
        self._shown: dict[TextRun, str] = {}

    def shown_text(self, run: TextRun) -> str:
        """The characters of a run as a reader gets them: block tags of any field syntax as spaces, fields as they are written."""
        if run not in self._shown:
            self._shown[run] = without_blocks(run.text, self._message.syntax)
        return self._shown[run]

    @cached_property
    def pieces(self) -> list[Piece]:
        """Visible text of the HTML part in document order."""
        return [piece for piece, hidden in self._all if not hidden]

    @cached_property
    def lead_in_pieces(self) -> list[Piece]:
        """Hidden text before the first visible text, piece by piece."""
        found: list[Piece] = []
        for piece, hidden in self._all:
            if not hidden:
                break
            if not piece.is_no_copy:
                found.append(piece)
        return found

    @cached_property
    def visible_text(self) -> str:
        """The visible copy as lines: a new line where a block begins or ends. Plain text where there is no HTML."""
        if self._message.document is None:
            return without_blocks(self._message.text.seen, self._message.syntax) if self._message.text else ""
        return self._lines()

    @cached_property
    def passages(self) -> list[Passage]:
        """The visible copy of the HTML part, a passage a block, in document order."""
        document = self._message.document
        if document is None:
            return []
        cascade, around = self._message.cascade, _Around()
        found: list[Passage] = []
        passage = Passage()
        last_block: Element | None = None
        for node in document.body.walk():
            if isinstance(node, Element):
                around.enter(node)
                if node.tag in BLOCKS:
                    passage = _closed(found, passage)
                continue
            if cascade.is_hidden(node):
                continue
            block = around.blocks.get(node.parent.index)
            if block is not last_block:
                passage = _closed(found, passage)
                last_block = block
            passage.add(node, self.shown_text(node), around.links.get(node.parent.index))
        _closed(found, passage)
        return found

    @cached_property
    def hidden_text(self) -> str:
        """All text of the body that a sighted reader never gets to see, styles and scripts left out."""
        shown = (piece.text for piece, hidden in self._all if hidden and not piece.is_no_copy)
        return " ".join(shown)

    @cached_property
    def lead_in(self) -> str:
        """Hidden text that stands before the first visible text: the usual home of the preview text."""
        return tidy(" ".join(piece.text for piece in self.lead_in_pieces))

    @cached_property
    def preview_text(self) -> str:
        """The words that an inbox shows after the subject: the text somebody gave, the hidden lead-in, or the first visible words.

        Common practice, no published source: inboxes take the first text of the HTML, hidden or not.
        """
        if self._message.given_preview_text:
            return self._message.given_preview_text
        if self.lead_in:
            return self.lead_in
        return tidy(self.visible_text)[:140]

    def inbox_pieces(self, most_characters: int) -> Iterator[InboxPiece]:
        """The words that an inbox would show, up to that many characters: text of the HTML, hidden or not, and alternative texts.

        Common practice, no published source.
        """
        taken = 0
        for piece in self._inbox():
            if taken >= most_characters:
                return
            yield piece
            taken += piece.length + 1

    def _inbox(self) -> Iterator[InboxPiece]:
        given = self._message.given_preview_text
        if given:
            yield InboxPiece(given, len(given), "given")
        document = self._message.document
        if document is None:
            text = self._message.text.seen.strip() if self._message.text else ""
            if text and not given:
                yield InboxPiece(tidy(text[:2000]), len(text[:2000]), "visible")
            return
        cascade, around = self._message.cascade, _Around()
        started = False
        for node in document.body.walk():
            if isinstance(node, Element):
                around.enter(node)
                alt = (node.get("alt") or "").strip() if node.tag == "img" else ""
                if alt and not cascade.is_hidden(node):
                    yield InboxPiece(alt, len(alt), "alternative text", around.links.get(node.index), element=node)
                continue
            if node.parent.index in around.no_copy:
                continue
            shown = self.shown_text(node)
            raw = _SPACE.sub(" ", shown).strip()
            hidden = cascade.is_hidden(node)
            # Hidden text counts before the copy begins; later it belongs to a layout for other screens.
            if not raw or (hidden and started):
                continue
            text = tidy(shown)
            started = started or (bool(text) and not hidden)
            yield InboxPiece(
                text,
                len(raw),
                kind="hidden" if hidden else "visible",
                link=around.links.get(node.parent.index),
                run=node,
                element=node.parent,
            )

    @cached_property
    def _all(self) -> list[tuple[Piece, bool]]:
        document = self._message.document
        if document is None:
            return []
        cascade = self._message.cascade
        around = _Around()
        found: list[tuple[Piece, bool]] = []
        for node in document.body.walk():
            if isinstance(node, Element):
                around.enter(node)
                continue
            text = tidy(self.shown_text(node))
            if text:
                link, is_no_copy = around.links.get(node.parent.index), node.parent.index in around.no_copy
                found.append((Piece(text, node, link, is_no_copy), cascade.is_hidden(node)))
        return found

    def _lines(self) -> str:
        document = self._message.document
        assert document is not None
        cascade = self._message.cascade
        around = _Around()
        pieces: list[str] = []
        left = LIMITS.copy_characters
        last_block: Element | None = None
        for node in document.body.walk():
            if isinstance(node, Element):
                around.enter(node)
                if node.tag in BLOCKS:
                    pieces.append("\n")
                continue
            if cascade.is_hidden(node):
                continue
            block = around.blocks.get(node.parent.index)
            if block is not last_block:
                pieces.append("\n")
                last_block = block
            shown = self.shown_text(node)
            pieces.append(_PADDING.sub("", shown))
            if (left := left - len(shown)) < 0:
                break
        lines = (_SPACE.sub(" ", line).strip() for line in "".join(_flatten(pieces)).split("\0"))
        return "\n".join(line for line in lines if line)


def _closed(found: list[Passage], passage: Passage) -> Passage:
    """Keep a passage that has words, and begin the next."""
    if passage.text.strip():
        found.append(passage)
        return Passage()
    return Passage() if passage.text else passage


def _flatten(pieces: list[str]) -> list[str]:
    """Block breaks as NUL, so that newlines of the source stay ordinary white space."""
    return ["\0" if piece == "\n" else piece.replace("\0", "") for piece in pieces]


def reading_of(message: Message) -> Reading:
    """The message as a reader takes it in: visible text, hidden lead-in, preview text. Made once for a message."""
    return message.shared(_READING, lambda: Reading(message))
