"""Blocks of a template as a tree: their parts, what decides them, and tags that open, go on or end where they may not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from jetwind.core.fields.syntax import FieldToken, Syntax
from jetwind.core.source import Span

#: Blocks inside blocks that are followed; deeper ones are told as never closed.
DEEPEST = 100


@dataclass(eq=False)
class Part:
    """The stretch of the source after one block tag, up to the next tag of its block. ``body`` is that stretch."""

    token: FieldToken
    body: Span
    inside: list[Block] = field(default_factory=list)

    @property
    def says(self) -> str:
        """The tag in words of its own: ``if member``, ``else``."""
        return f"{self.token.word} {self.token.rest}".strip()


@dataclass(eq=False)
class Block:
    """A block from its opening to its closing tag; ``closing`` is None for one that never closes."""

    parts: list[Part]
    closing: FieldToken | None = None

    @property
    def tokens(self) -> list[FieldToken]:
        """Its tags in order."""
        return [*(part.token for part in self.parts), *([self.closing] if self.closing is not None else [])]

    @property
    def decides(self) -> bool:
        """Whether a reader's values decide what is shown of it, rather than that it repeats, catches or quotes something."""
        return self.parts[0].token.word not in ("capture", "raw", "comment")


@dataclass(frozen=True, slots=True)
class Misplaced:
    """A block tag that fits nowhere. ``why`` is the end of a sentence that begins with the tag."""

    token: FieldToken
    why: str


@dataclass(frozen=True)
class Structure:
    """The outermost blocks of a text, and the tags that fit nowhere."""

    blocks: list[Block]
    misplaced: list[Misplaced]

    def walk(self) -> Iterator[tuple[int, Block]]:
        """Every block with its depth, from 0, in source order."""
        stack = [(0, block) for block in reversed(self.blocks)]
        while stack:
            depth, block = stack.pop()
            yield depth, block
            stack.extend((depth + 1, inner) for part in reversed(block.parts) for inner in reversed(part.inside))


def structure(tokens: Sequence[FieldToken], syntax: Syntax) -> Structure:
    """The blocks of a syntax's own tokens, given in order."""
    found = Structure([], [])
    open_blocks: list[Block] = []

    def close_part(at: int) -> None:
        part = open_blocks[-1].parts[-1]
        part.body = Span(part.token.span.end, max(part.token.span.end, at))

    for token in tokens:
        turn = syntax.turn(token)
        if turn == "opens":
            if len(open_blocks) >= DEEPEST:
                found.misplaced.append(Misplaced(token, f"stands inside {DEEPEST} others"))
                continue
            block = Block([Part(token, Span(token.span.end, token.span.end))])
            (open_blocks[-1].parts[-1].inside if open_blocks else found.blocks).append(block)
            open_blocks.append(block)
        elif turn == "goes on":
            if not open_blocks or not _may_go_on(open_blocks[-1], token, syntax):
                found.misplaced.append(Misplaced(token, "stands in no block that it could be a part of"))
                continue
            close_part(token.span.start)
            open_blocks[-1].parts.append(Part(token, Span(token.span.end, token.span.end)))
        elif turn == "ends":
            if not open_blocks:
                found.misplaced.append(Misplaced(token, "ends a block that was never opened"))
                continue
            if not _may_end(open_blocks[-1], token, syntax):
                # Where an outer block has such an end, the inner ones were forgotten; else the tag itself is wrong.
                if not any(_may_end(block, token, syntax) for block in open_blocks):
                    found.misplaced.append(Misplaced(token, f"cannot end “{open_blocks[-1].parts[0].token.source}”"))
                    continue
                while not _may_end(open_blocks[-1], token, syntax):
                    close_part(token.span.start)
                    found.misplaced.append(Misplaced(open_blocks.pop().parts[0].token, "is never ended"))
            close_part(token.span.start)
            open_blocks.pop().closing = token
    for block in reversed(open_blocks):
        found.misplaced.append(Misplaced(block.parts[0].token, "is never ended"))
    return found


def _may_end(block: Block, token: FieldToken, syntax: Syntax) -> bool:
    if syntax.grammar == "liquid":
        return token.word.lower() == f"end{block.parts[0].token.word.lower()}"
    # A word that names what it ends, such as /if, ends that alone.
    opened = block.parts[0].token.word
    named = [word for word in syntax.words.opens if word in token.word]
    return not named or opened in named


_GOES_ON = {"if": ("elsif", "else"), "unless": ("elsif", "else"), "case": ("when", "else"), "for": ("else",)}


def _may_go_on(block: Block, token: FieldToken, syntax: Syntax) -> bool:
    if syntax.grammar == "marks":
        return True
    return token.word in _GOES_ON.get(block.parts[0].token.word, ())
