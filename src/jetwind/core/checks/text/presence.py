"""Readers without HTML get the message too."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.plain import alternative_around, plain_from_html

_BOTH = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain\n\n"
    "{}\n--b\nContent-Type: text/html\n\n<p>Hello</p>\n--b--\n"
)


@check(
    id="text.missing",
    name="No plain-text part",
    level=Level.FIX,
    why="Watches, readers for the blind and cautious mail programs show nothing, and filters hold it against you.",
    fix="Add a plain-text part that says the same as the HTML.",
    basis="RFC 2046 §5.1.4 (from memory)",
    samples=[
        clear(_BOTH.format("Hello")),
        clear("From: a@kiln.org\nSubject: x\n\nHello\n"),
        clear("<p>HTML alone has no parts</p>"),
        finds("From: a@kiln.org\nSubject: x\nContent-Type: text/html\n\n<p>Hello</p>\n"),
        finds(_BOTH.format(" ")),
        finds("<p>Hello</p>", envelope=Envelope(subject="x", sender_address="a@kiln.org")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A message with HTML has a plain-text alternative that is not empty."""
    if message.html is None:
        raise DoesNotApply("the message has no HTML part")
    if not message.envelope_known and message.text is None:
        raise CannotTell("HTML that came alone cannot carry a plain-text part")
    if message.text is None:
        yield Hit("The message has HTML but no plain-text part.", Place("message"), identity="missing")
    elif not message.text.text.strip():
        yield Hit("The plain-text part is empty.", Place("text"), identity="empty")


_ALONE = "From: a@kiln.org\nContent-Type: text/html\nSubject: x\n\n{}\n"


@mend(
    "text.missing",
    kind=MendKind.CONFIRM,
    does="A plain text is made from the HTML, and stands beside it as an alternative.",
    leaves="A part that is there and empty is left to a person, and so is HTML that says nothing, or has fields. HTML that is no mail is left to Plain text.",
    samples=[
        turns(
            _ALONE.format("<p>Hello from the kiln</p>"),
            'From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary="=_jetwind_0"\n\n'
            '--=_jetwind_0\nContent-Type: text/plain; charset="utf-8"\nContent-Transfer-Encoding: quoted-printable\n\nHello from the kiln\n'
            "\n--=_jetwind_0\nContent-Type: text/html\n\n<p>Hello from the kiln</p>\n\n--=_jetwind_0--\n",
        ),
        leaves_alone(_ALONE.format("<img src='cid:a'>")),
        leaves_alone(_ALONE.format("<p>Hello {{ first_name }}</p>")),
        leaves_alone(_BOTH.format(" ")),
        leaves_alone("<p>Hello</p>", envelope=Envelope(subject="x", sender_address="a@kiln.org")),
    ],
)
def mend_missing(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """RFC 2046 §5.1.4; the headers of the mail, its HTML and its other parts keep their octets."""
    if message.root is None or message.html is None or message.html.part is None or message.text is not None:
        return
    made = plain_from_html(message).strip()
    if made and not message.holds_field(made):
        for span, octets in alternative_around(message, f"{made}\n"):
            yield Change("message", span, octets.decode("latin-1"))
