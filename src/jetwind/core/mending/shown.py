"""A change as the characters of its line before and after, for people to read."""

from __future__ import annotations

import re
from dataclasses import dataclass

from jetwind.core.checking.mends import Change, MendedPart
from jetwind.core.message import Message
from jetwind.core.source import Span

#: Characters of the line on either side of a change, and of the change itself.
_AROUND, _MOST = 60, 400
#: Lines of base64, as the body of a picture has them: nobody reads these.
_PACKED = re.compile(r"(?:^[A-Za-z0-9+/]{60,80}\r?\n){2,}^[A-Za-z0-9+/=]{0,80}$", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class ShownChange:
    """A change in its line: what stands before it, the old characters, the new ones, and what follows. ``line`` counts from 1."""

    part: MendedPart
    line: int
    before: str
    old: str
    new: str
    after: str


def shown_of(message: Message, change: Change) -> ShownChange:
    """A change in its line. The ends of a long line are left out, and of a long change its middle."""
    source = message.source_of(change.part)
    assert source is not None, "a change is one of a part that the message has"
    around = source.excerpt(change.span, lines=0, width=_AROUND)
    return ShownChange(
        change.part,
        source.position(change.span.start).line,
        before=around.before.replace("\0", "\ufffd"),
        old=_cut(source.slice(Span(change.span.start, change.span.end))),
        new=_cut(change.text),
        after=around.after.replace("\0", "\ufffd"),
    )


def _cut(text: str) -> str:
    text = _PACKED.sub(lambda found: f"… {len(found[0]):,} characters in base64 …", text.replace("\0", "\ufffd"))
    return text if len(text) <= _MOST else f"{text[: _MOST // 2]} … {text[-_MOST // 2 :]}"
