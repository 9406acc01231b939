"""The mends of headers and of the preview text."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from email.utils import formataddr
from html import escape
from itertools import islice

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, as_header, fill, leaves_alone, mend, of_header, turns
from jetwind.core.checks.envelope.headers import hidden_characters
from jetwind.core.checks.envelope.subject import REPLY
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span

_HEAD = "From: Kiln <hello@kiln.example>\n"
_BODY = "\n\nHello from the kiln.\n"
#: Characters of a preview text behind which nothing else has room in an inbox row, and the filler of one of them.
_ROOM, _FILLER = 110, "&#847;&zwnj;&nbsp;"
#: Characters that a suggested preview text has at least and at most.
_SHORT, _LONG = 30, 140
#: Octets of a header line that is folded.
_FOLDED = 76


@mend(
    "envelope.header-encoding",
    kind=MendKind.SURE,
    does="A subject in UTF-8 without encoded-words is written as encoded-words.",
    leaves="A subject with broken encoded-words, or in another character set, is left to a person, and so is every other header.",
    samples=[
        turns(f"{_HEAD}Subject: Frühling{_BODY}", f"{_HEAD}Subject: =?utf-8?b?RnLDvGhsaW5n?={_BODY}"),
        leaves_alone(f"{_HEAD}Subject: =?utf-8?q?Fr=C3=BChling{_BODY}"),
        leaves_alone("From: Töpferei <a@kiln.example>\nSubject: x\n\ny\n"),
    ],
)
def mend_encoding(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """RFC 2047 §2."""
    subject, at = message.header("Subject"), of_header(message, "Subject")
    if finding.data.get("name") != "Subject" or subject is None or at is None or subject.octets.isascii() or "=?" in subject.raw:
        return
    if "\ufffd" not in subject.value and subject.octets.decode("utf-8", "replace").find("\ufffd") < 0:
        yield Change("header", at[0], as_header("Subject", subject.value.strip(), at[1]))


@mend(
    "envelope.header-control",
    kind=MendKind.CONFIRM,
    does="Hidden characters are taken out of the subject; a control character becomes a blank.",
    leaves="Names and addresses are left to a person.",
    samples=[
        turns(f"{_HEAD}Subject: Spring\x07 sale{_BODY}", f"{_HEAD}Subject: Spring sale{_BODY}"),
        turns(f"{_HEAD}Subject: =?utf-8?q?Spring=E2=80=8B_sale?={_BODY}", f"{_HEAD}Subject: Spring sale{_BODY}"),
        leaves_alone("From: =?utf-8?q?Ki=C2=ADln?= <a@kiln.example>\nSubject: x\n\ny\n"),
    ],
)
def mend_control(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The subject is written anew; other words of it stay as they are."""
    subject, at = message.header("Subject"), of_header(message, "Subject")
    if finding.data.get("name") != "Subject" or subject is None or at is None or message.holds_field(subject.value):
        return
    hidden = set(hidden_characters(subject.value))
    kept = (
        "" if number in hidden and unicodedata.category(char) != "Cc" else " " if number in hidden else char
        for number, char in enumerate(subject.value)
    )
    yield Change("header", at[0], as_header("Subject", re.sub(r" {2,}", " ", "".join(kept)).strip(), at[1]))


@mend(
    "envelope.header-line-long",
    kind=MendKind.SURE,
    does="The header is folded before its blanks.",
    leaves="A line without a blank is left to a person.",
    samples=[
        turns(
            f"{_HEAD}Subject: x\nX-Long: {'a' * 500} {'b' * 500} {'c' * 40} {'d' * 20}{_BODY}",
            f"{_HEAD}Subject: x\nX-Long: {'a' * 500}\n {'b' * 500}\n {'c' * 40} {'d' * 20}{_BODY}",
        ),
        leaves_alone(f"{_HEAD}Subject: x\nX-Long: {'a' * 1200}{_BODY}"),
    ],
)
def mend_long_line(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """A line end before a blank changes nothing of what is read (RFC 5322 §2.2.3)."""
    at = of_header(message, str(finding.data.get("name", "")))
    if at is None:
        return
    span, newline = at
    written = message.header_source.slice(span)
    begins = 0
    for match in re.finditer(r"\r?\n|(?<=[^\s])[ \t](?=[^\s])", written):
        if "\n" in match[0]:
            begins = match.end()
            continue
        following = re.search(r"[ \t\n]", written[match.end() :])
        end = match.end() + following.start() if following is not None else len(written)
        if end - begins > _FOLDED:
            yield Change("header", Span(span.start + match.start(), span.start + match.start()), newline)
            begins = match.start()


@mend(
    "envelope.subject-false-reply",
    kind=MendKind.CONFIRM,
    does="The mark of an answer is taken away from the beginning of the subject.",
    leaves="A subject in encoded-words is left to a person, and so is a variant.",
    samples=[
        turns(f"{_HEAD}Subject: Re: your slot{_BODY}", f"{_HEAD}Subject: your slot{_BODY}"),
        turns(f"{_HEAD}Subject: FW:Spring sale{_BODY}", f"{_HEAD}Subject: Spring sale{_BODY}"),
        leaves_alone(f"{_HEAD}Subject: =?utf-8?q?Re=3A_Fr=C3=BChling?={_BODY}"),
    ],
)
def mend_false_reply(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The mark with the blanks behind it; the words keep their capitals."""
    at = of_header(message, "Subject")
    if at is None:
        return
    written = message.header_source.slice(at[0])
    found = REPLY.match(written)
    if found is not None and written[found.end() :].strip():
        end = found.end() + len(written[found.end() :]) - len(written[found.end() :].lstrip())
        yield Change("header", Span(at[0].start + found.start("mark"), at[0].start + end), "")


def _headings(message: Message, context: Context, finding: Finding) -> Sequence[str]:
    """The title, and the headings of the message."""
    document = message.document
    if document is None:
        return []
    found = [element for tag in ("title", "h1", "h2") for element in islice(document.elements(tag), 3)]
    return [words for element in found if (words := " ".join(element.text.split())) and not message.holds_field(words)]


@fill(
    "envelope.subject-missing",
    asks="The subject",
    example="Glazes",
    does="The message gets this subject.",
    leaves="A message whose headers a person gives is left to Envelope.",
    suggests=_headings,
    samples=[
        turns(f"{_HEAD}Subject: {_BODY}", f"{_HEAD}Subject: Spring sale{_BODY}", "Spring sale"),
        turns("From: a@kiln.example\n\nx\n", "From: a@kiln.example\nSubject: =?utf-8?b?RnLDvGhsaW5n?=\n\nx\n", "Frühling"),
        leaves_alone("To: reader@kiln.example\n\nx\n", "Spring"),
    ],
)
def fill_subject(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The body of the header, or a header behind From."""
    there, sender = of_header(message, "Subject"), of_header(message, "From")
    if there is not None:
        yield Change("header", there[0], as_header("Subject", word, there[1]))
    elif sender is not None and message.header("Subject") is None:
        span, newline = sender
        yield Change("header", Span(span.end, span.end), f"{newline}Subject:{as_header('Subject', word, newline)}")


def _in_small_letters(message: Message, context: Context, finding: Finding) -> Sequence[str]:
    """The subject with one capital, and one mark in the place of several."""
    words = re.sub(r"([!?])[!?]+", r"\1", message.subject.strip())
    return [words.capitalize()] if words and not message.holds_field(words) else []


@fill(
    "envelope.subject-shouting",
    asks="The subject in a calmer voice",
    example="Spring glaze sale",
    does="The message gets this subject.",
    leaves="A message whose headers a person gives is left to Envelope.",
    suggests=_in_small_letters,
    samples=[
        turns(f"{_HEAD}Subject: SPRING GLAZE SALE{_BODY}", f"{_HEAD}Subject: Spring glaze sale{_BODY}", "Spring glaze sale"),
        leaves_alone(f"{_HEAD}Subject: SPRING GLAZE SALE\nSubject: SPRING GLAZE SALE{_BODY}", "Spring glaze sale"),
    ],
)
def fill_calmer_subject(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The body of the header."""
    yield from fill_subject(message, context, finding, word)


@fill(
    "envelope.subject-long",
    asks="A shorter subject",
    example="Spring glaze sale",
    does="The message gets this subject.",
    leaves="A message whose headers a person gives is left to Envelope.",
    samples=[
        turns(f"{_HEAD}Subject: {'Glaze sale ' * 7}{_BODY}", f"{_HEAD}Subject: Spring glaze sale{_BODY}", "Spring glaze sale"),
        leaves_alone(
            f"{_HEAD}Subject: {'Glaze sale ' * 7}{_BODY}", "Another subject that is far too long to be shown whole in any list of a phone"
        ),
    ],
)
def fill_shorter_subject(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The body of the header, with words that are within the limit."""
    limit = finding.data.get("limit")
    if isinstance(limit, int) and len(word) <= limit:
        yield from fill_subject(message, context, finding, word)


@fill(
    "envelope.sender-name-missing",
    asks="The name that readers know the sender by",
    example="Kiln",
    does="The name stands before the sender's address.",
    leaves="A sender of several addresses is left to a person.",
    samples=[
        turns("From: hello@kiln.example\nSubject: x\n\ny\n", "From: Kiln Works <hello@kiln.example>\nSubject: x\n\ny\n", "Kiln Works"),
        turns(
            'From: "" <hello@kiln.example>\nSubject: x\n\ny\n', 'From: "Kiln, Works" <hello@kiln.example>\nSubject: x\n\ny\n', "Kiln, Works"
        ),
        leaves_alone("From: hello@kiln.example, more@kiln.example\nSubject: x\n\ny\n", "Kiln"),
    ],
)
def fill_sender_name(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """RFC 5322 §3.4; letters beyond ASCII as encoded-words."""
    at, boxes = of_header(message, "From"), message.mailboxes("From")
    if at is not None and len(boxes) == 1 and boxes[0].address.isascii():
        yield Change("header", at[0], f" {formataddr((word, boxes[0].address))}")


def _sentences(message: Message, context: Context, finding: Finding) -> Sequence[str]:
    """Passages of the copy that have the length of a preview text."""
    passages = (" ".join(one.text.split()) for one in islice(reading_of(message).passages, 60)) if message.document is not None else ()
    return [words for words in passages if _SHORT <= len(words) <= _LONG and not message.holds_field(words)][:3]


@fill(
    "envelope.preheader-missing",
    asks="The preview text, 40 to 110 characters",
    example="Twelve glazes at a fifth off until Sunday",
    does="These words stand first in the body, hidden, and padded so that nothing else follows them in the inbox row.",
    leaves="A message without a body tag is left to a person.",
    suggests=_sentences,
    samples=[
        turns(
            "<body><a href='x'>View in browser</a><img src='a.png' alt='Sale'></body>",
            f'<body><div style="display:none;max-height:0;overflow:hidden">{"Pots & bowls, " * 7}and more{_FILLER * 4}</div>'.replace(
                "&", "&amp;", 7
            )
            + "<a href='x'>View in browser</a><img src='a.png' alt='Sale'></body>",
            f"{'Pots & bowls, ' * 7}and more",
        ),
        leaves_alone("<a href='x'>View in browser</a><img src='a.png' alt='Sale'>", "Twelve glazes at a fifth off"),
    ],
)
def fill_preview(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """An element that no client shows, with characters that take room and are not seen."""
    body = message.document.body if message.document is not None else None
    if body is not None and body.start_tag is not None:
        at, padding = body.start_tag.end, _FILLER * max(_ROOM - len(word), 0)
        hidden = f'<div style="display:none;max-height:0;overflow:hidden">{escape(word, quote=False)}{padding}</div>'
        yield Change("html", Span(at, at), hidden)
