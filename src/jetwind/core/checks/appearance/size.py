"""The HTML is small enough to be shown whole."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message


@dataclass(frozen=True)
class ClipOptions(Options):
    """``clip_octets``: size of the HTML part at which some webmail cuts it; ``warn_percent``: where the warning starts."""

    clip_octets: int = 102_400
    warn_percent: int = 90


@check(
    id="appearance.clipped",
    name="HTML so large that it is cut off",
    level=Level.STOP,
    why="Some large webmail shows the first 100 KB only: the footer with the unsubscribe link is gone.",
    fix="Take out unused styles, comments and white space, or split the message.",
    basis="Common practice, no published source",
    options=ClipOptions,
    samples=[
        clear(f"<p>{'a' * 90_000}</p>"),
        finds(f"<p>{'a' * 93_000}</p>"),
        finds(f"<p>{'é' * 52_000}</p>"),
    ],
)
def find_clipped(message: Message, context: Context, options: ClipOptions) -> Iterator[Hit]:
    """The HTML part, decoded from its transfer encoding, has at most 102,400 octets."""
    if message.html is None:
        raise DoesNotApply("the message has no HTML part")
    octets = message.html.octets
    if octets * 100 < options.clip_octets * options.warn_percent:
        return
    over = octets > options.clip_octets
    yield Hit(
        "The HTML has {octets} octets; it is cut off after {limit}."
        if over
        else "The HTML has {octets} octets, close to the {limit} after which it is cut off.",
        Place("html"),
        {"octets": octets, "limit": options.clip_octets},
        identity="clipped" if over else "close",
        level=None if over else Level.FIX,
    )
