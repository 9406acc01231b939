"""No reader sees another reader's address."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message

_HEAD = "From: hello@kiln.example\nSubject: x\n"


@check(
    id="envelope.recipients-exposed",
    name="Recipients can see each other",
    level=Level.STOP,
    why="Everybody's address stands open to everybody: a breach of confidence that cannot be called back.",
    fix="Send one message to each recipient, or leave a single address in To and none in Cc.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_HEAD}To: one@kiln.example\n\ny\n"),
        clear(f"{_HEAD}To: undisclosed-recipients:;\n\ny\n"),
        clear(f'{_HEAD}To: "Doe, Jane" <one@kiln.example>\n\ny\n'),
        clear(f"{_HEAD}To: {{{{ email }}}}\n\ny\n"),
        clear(f"{_HEAD}To: one@kiln.example\nCc: two@kiln.example\n\ny\n", kind="transactional"),
        finds(f"{_HEAD}To: one@kiln.example, two@kiln.example\n\ny\n", at="To: one@kiln.example, two@kiln.example"),
        finds(f"{_HEAD}To: Potters: one@kiln.example, two@kiln.example;\n\ny\n"),
        finds(f"{_HEAD}To: one@kiln.example\nCc: two@kiln.example\n\ny\n", at="Cc: two@kiln.example"),
    ],
)
def find_exposed(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A message for an audience has at most one address in To and none in Cc."""
    if not context.kind.is_bulk:
        raise DoesNotApply("a transactional message is not meant for an audience")
    if not message.envelope_known:
        raise CannotTell("the input has no headers")
    for name, most in (("To", 1), ("Cc", 0)):
        boxes = [box for box in message.mailboxes(name) if "@" in box.address]
        if len(boxes) > most:
            yield Hit(
                "{name} holds {count} addresses.",
                Place.in_header(message, name, message.header(name)),
                {"name": name, "count": len(boxes)},
                identity=f"{name}:{len(boxes)}",
            )
