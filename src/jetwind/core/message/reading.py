"""The message as a reader takes it in: what is visible, what is hidden before it, what an inbox would preview."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

from jetwind.core.markup import Element, TextRun
from jetwind.core.styles.cascade import NEVER_SHOWN

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

#: Characters that pad a preview text so that nothing after it shows: joiners, soft hyphens, figure and zero-width spaces.
_PADDING = re.compile("[\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180e\u2000-\u200f\u2028-\u202f\u205f-\u206f\u3164\ufeff\uffa0]+")
_SPACE = re.compile(r"[\s\u00a0]+")

_BLOCKS = frozenset(
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


def tidy(text: str) -> str:
    """White space collapsed and padding characters dropped."""
    return _SPACE.sub(" ", _PADDING.sub("", text)).strip()


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
        for found, is_one in ((self.links, element.tag == "a"), (self.blocks, element.tag in _BLOCKS)):
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
            return self._message.text.text if self._message.text else ""
        return self._lines()

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
        """What an inbox shows after the subject: the text somebody gave, the hidden lead-in, or the first visible words.

        Common practice, no published source: inboxes take the first text of the HTML, hidden or not.
        """
        if self._message.given_preview_text:
            return self._message.given_preview_text
        if self.lead_in:
            return self.lead_in
        return tidy(self.visible_text)[:140]

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
            text = tidy(node.text)
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
        last_block: Element | None = None
        for node in document.body.walk():
            if isinstance(node, Element):
                around.enter(node)
                if node.tag in _BLOCKS:
                    pieces.append("\n")
                continue
            if cascade.is_hidden(node):
                continue
            block = around.blocks.get(node.parent.index)
            if block is not last_block:
                pieces.append("\n")
                last_block = block
            pieces.append(_PADDING.sub("", node.text))
        lines = (_SPACE.sub(" ", line).strip() for line in "".join(_flatten(pieces)).split("\0"))
        return "\n".join(line for line in lines if line)


def _flatten(pieces: list[str]) -> list[str]:
    """Block breaks as NUL, so that newlines of the source stay ordinary white space."""
    return ["\0" if piece == "\n" else piece.replace("\0", "") for piece in pieces]
