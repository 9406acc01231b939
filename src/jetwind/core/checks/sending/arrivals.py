"""A test copy arrives as it was handed over: whole, unchanged, once, soon, and with papers that hold."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.arrivals import Arrivals, Compared, Difference, DifferenceKind
from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.sample_values import Given
from jetwind.core.links.collect import links
from jetwind.core.message import Message
from jetwind.core.prose.alignment import html_sentences, text_sentences
from jetwind.core.source import Span

_MAIL = "Subject: Glazes\nFrom: Kiln <a@kiln.org>\nReply-To: a@kiln.org\nContent-Type: text/html\n\n<p>Come to the kiln.</p><a href='https://kiln.org/s'>Glazes</a>"


def _arrived(*differences: Difference) -> Given:
    """For ``given`` of a sample: one copy arrived, and this differs."""
    return {"arrivals": Arrivals((Compared("rosa@kiln.org", 1, differences),))}


def _differs(kind: DifferenceKind, template: str, before: str = "", *, is_stop: bool = False, **data: str | int) -> Difference:
    return Difference(kind, "HTML", template, data, before=before, is_stop=is_stop, identity=before)


def _hits(message: Message, context: Context, kind: DifferenceKind) -> Iterator[Hit]:
    """The differences of a kind, each once for all copies that have it.

    Raises:
        DoesNotApply: no copy of this revision has arrived and was compared.
    """
    if context.arrivals is None or not context.arrivals.compared:
        raise DoesNotApply("no test copy of this revision was compared with what arrived")
    having: dict[tuple[str, str, str], list[tuple[str, Difference]]] = {}
    for compared in context.arrivals.compared:
        for one in compared.differences:
            if one.kind == kind:
                having.setdefault((one.part, one.identity, one.template), []).append((compared.recipient, one))
    for told in having.values():
        first = told[0][1]
        names = list(dict.fromkeys(recipient for recipient, _ in told if recipient))
        who = ", ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else "")
        data = {"part": first.part, "recipients": names, "before": first.before, "after": first.after, **first.data}
        everybody = len(told) == len(context.arrivals.compared)
        sentence = first.template if everybody or not who else first.template.removesuffix(".") + ", in the copy to {who}."
        yield Hit(
            sentence,
            _place(message, first),
            {**data, "who": who},
            identity=f"{first.part} {first.identity} {first.template}",
            level=Level.STOP if first.is_stop else None,
        )


def _place(message: Message, difference: Difference) -> Place:
    """Where the message itself has what was changed on the way; the part alone where it is not found word for word."""
    if difference.part == "header":
        name = str(difference.data.get("name", ""))
        return Place.in_header(message, name, message.header(name)) if name else Place("message")
    if difference.part == "subject":
        return Place.in_header(message, "Subject", message.header("Subject"))
    if difference.part == "HTML" and message.html is not None:
        if difference.kind == "link-rewritten":
            found = next((link for link in links(message) if link.part == "html" and link.address == difference.before), None)
            return Place.in_html(
                message, found.span if found is not None else None, found.element.index if found and found.element else None
            )
        sentence = next((one for one in html_sentences(message) if difference.before and one.text == difference.before), None)
        element = sentence.element if sentence is not None else None
        return Place.in_html(
            message,
            sentence.span if sentence is not None else _written(message.html.text, difference.before),
            element.index if element else None,
        )
    if difference.part == "plain text" and message.text is not None:
        sentence = next((one for one in text_sentences(message) if difference.before and one.text == difference.before), None)
        return Place.in_text(message, sentence.span if sentence is not None else _written(message.text.text, difference.before))
    return Place("message")


def _written(source: str, words: str) -> Span | None:
    at = source.find(words) if words else -1
    return Span(at, at + len(words)) if at >= 0 else None


_LINK = _differs(
    "link-rewritten",
    "The link “{name}” led to {before}, and leads to {after} now.",
    "https://kiln.org/s",
    name="Glazes",
    after="https://guard.org/s",
)
_WORDS = _differs("text-changed", "Words of the {part} changed: “{before}” became “{after}”.", "Come to the kiln.", after="Go to the kiln.")


@check(
    id="sending.arrival-part-lost",
    name="Part lost on the way",
    level=Level.STOP,
    why="Readers behind the same gateway get a message without its copy, its pictures or its attachment.",
    fix="Find out which server drops the part, and send in a form that it lets through.",
    basis="Common practice, no published source",
    together="{many} parts did not arrive.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(_MAIL, given=_arrived(_differs("part-lost", "The HTML part is gone."))),
    ],
)
def find_lost_parts(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every part of the copy is in the arrival, in the same order."""
    yield from _hits(message, context, "part-lost")


@check(
    id="sending.arrival-text-changed",
    name="Words changed on the way",
    level=Level.STOP,
    why="Readers get other words than those that were reviewed.",
    fix="Send letters beyond ASCII in UTF-8, encoded as base64 or quoted-printable; ask the gateway's keeper why it changes copy.",
    basis="Common practice, no published source",
    together="Words changed in {many} places.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_LINK)),
        finds(_MAIL, at="Come to the kiln.", given=_arrived(_WORDS)),
        finds(_MAIL, given=_arrived(_differs("text-changed", "Text is gone: “{words}”.", words="See you"))),
    ],
)
def find_changed_words(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, HTML and plain text arrive word for word."""
    yield from _hits(message, context, "text-changed")


@check(
    id="sending.arrival-link-rewritten",
    name="Link rewritten on the way",
    level=Level.FIX,
    why="A link that leads over another server may not arrive, and readers see an address that they do not know.",
    fix="Open the rewritten link and see where it ends; ask the gateway's keeper to leave the sender's links alone.",
    basis="Common practice, no published source",
    together="{many} links lead to other addresses than those that were reviewed.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(_MAIL, at="https://kiln.org/s", given=_arrived(_LINK)),
    ],
)
def find_rewritten_links(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every link of the arrival leads where the copy's does."""
    yield from _hits(message, context, "link-rewritten")


@check(
    id="sending.arrival-picture-lost",
    name="Picture lost on the way",
    level=Level.STOP,
    why="Readers see a gap, or a picture that nobody reviewed.",
    fix="Put the picture on a server, or find out which server takes it out of the message.",
    basis="Common practice, no published source",
    together="{many} pictures did not arrive as they were sent.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_LINK)),
        finds(_MAIL, given=_arrived(_differs("picture-lost", "The picture {name} is gone.", name="A pot"))),
    ],
)
def find_lost_pictures(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every picture of the copy is in the arrival and looks alike."""
    yield from _hits(message, context, "picture-lost")


@check(
    id="sending.arrival-header-lost",
    name="Header lost or changed on the way",
    level=Level.FIX,
    why="Answers go astray, or readers lose their way out of the list.",
    fix="Find the server that drops or rewrites the header; a list or a gateway may need an exception.",
    basis="RFC 5322 §3.6; RFC 8058 §3.1",
    together="{many} headers did not arrive as they were sent.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(
            _MAIL,
            given=_arrived(
                Difference(
                    "header-lost",
                    "header",
                    "The header {name} is gone; it was “{before}”.",
                    {"name": "Reply-To", "before": "a"},
                    is_stop=True,
                )
            ),
        ),
    ],
)
def find_lost_headers(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every header of the copy arrives as it was; a lost sender, reply address or way out is a stop."""
    yield from _hits(message, context, "header-lost")


@check(
    id="sending.arrival-style-lost",
    name="Styles lost on the way",
    level=Level.FIX,
    why="The message looks otherwise than it was reviewed.",
    fix="Repeat the styles in style attributes, which survive more often; else ask the gateway's keeper.",
    basis="Common practice, no published source",
    together="Styles were lost in {many} places.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(_MAIL, given=_arrived(_differs("style-lost", "A style sheet of {before} characters is gone.", before="p{margin:0}"))),
    ],
)
def find_lost_styles(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Style sheets and style attributes of the copy are in the arrival."""
    yield from _hits(message, context, "style-lost")


@check(
    id="sending.arrival-added-content",
    name="Content added on the way",
    level=Level.FIX,
    why="Readers get words, pictures or counters that nobody of the house has seen.",
    fix="Ask the keeper of the gateway or of the sending system to leave them out, or review the message with them.",
    basis="Common practice, no published source",
    together="Content was added in {many} places.",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(_MAIL, given=_arrived(_differs("added-content", "Text was added: “{words}”.", words="Checked by the gateway"))),
    ],
)
def find_added_content(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The arrival holds no text, picture or part that the copy does not hold."""
    yield from _hits(message, context, "added-content")


@check(
    id="sending.arrival-signature-broken",
    name="Signature broken on the way",
    level=Level.FIX,
    why="Receivers behind this server cannot see that the mail is the sender's.",
    fix="Find the server that changes what is signed; a list or a gateway may sign anew.",
    basis="RFC 6376 §6.1",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(
            _MAIL,
            given=_arrived(
                Difference(
                    "signature-broken",
                    "header",
                    "The signature of {domain} does not hold any more: {why}.",
                    {"domain": "kiln.org", "why": "it is gone"},
                )
            ),
        ),
    ],
)
def find_broken_signatures(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every signature that held when the copy was handed over holds in the arrival."""
    yield from _hits(message, context, "signature-broken")


@check(
    id="sending.arrival-papers-fail",
    name="Receiver does not accept the papers",
    level=Level.STOP,
    why="Mail whose papers do not hold is refused, or lies among unwanted mail.",
    fix="Publish what the station shows under the sender's papers, and have the sending system sign.",
    basis="RFC 8601 §2.7",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(
            _MAIL,
            given=_arrived(
                Difference(
                    "papers-fail",
                    "header",
                    "{receiver} says that the papers do not hold: {said}.",
                    {"receiver": "mx.org", "said": "spf fail"},
                )
            ),
        ),
    ],
)
def find_failed_papers(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The receiver says of SPF, DKIM and DMARC that they hold."""
    yield from _hits(message, context, "papers-fail")


@dataclass(frozen=True)
class WayOptions(Options):
    """The options that a house may set."""

    late_minutes: Annotated[int, About("from how many minutes on a copy is late", unit="minutes", least=1)] = 10


_LATE = Difference(
    "late",
    "message",
    "The copy took {minutes} minutes; it lay {wait} minutes before {receiver} had it.",
    {"minutes": 14, "wait": 13, "receiver": "mx.org"},
)


@check(
    id="sending.arrival-late",
    name="Copy arrived late",
    level=Level.NOTE,
    why="A message about a day or an hour comes too late for some of its readers.",
    fix="Ask the keeper of the slow server; a first mail to a new receiver is often put off on purpose.",
    basis="Common practice, no published source",
    options=WayOptions,
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(Difference("late", "message", _LATE.template, {"minutes": 9, "wait": 8, "receiver": "mx.org"}))),
        finds(_MAIL, given=_arrived(_LATE)),
    ],
)
def find_late(message: Message, context: Context, options: WayOptions) -> Iterator[Hit]:
    """Between hand-over and arrival lie at most ten minutes."""
    for hit in _hits(message, context, "late"):
        if int(str(hit.data["minutes"])) > options.late_minutes:
            yield hit


@check(
    id="sending.arrival-doubled",
    name="Copy arrived more than once",
    level=Level.FIX,
    why="Readers who get a message twice report it.",
    fix="Find the server that hands it on twice; a list that a person is on beside the address is the usual cause.",
    basis="Common practice, no published source",
    samples=[
        clear(_MAIL, given=_arrived()),
        clear(_MAIL, given=_arrived(_WORDS)),
        finds(_MAIL, given=_arrived(Difference("doubled", "message", "The copy arrived {times} times.", {"times": 2}))),
    ],
)
def find_doubled(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each copy arrives once."""
    yield from _hits(message, context, "doubled")
