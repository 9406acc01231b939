"""Header fields are whole, said once, and hold nothing that cannot be seen."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

import regex

from jetwind.core.checking import Context, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_headers, need_mail
from jetwind.core.message import Envelope, Header, Message
from jetwind.core.message.words import word_faults
from jetwind.core.source import Span

_HEAD = "From: Kiln <hello@kiln.example>\n"
_BODY = "\n\nHello from the kiln.\n"

#: Header fields that people read and that may therefore hold encoded-words (RFC 2047 §5).
_WITH_WORDS = frozenset(
    ["subject", "from", "to", "cc", "bcc", "reply-to", "sender", "comments", "keywords", "content-description", "organization"]
)
_WORD = re.compile(r"=\?[^?\s]+\?[BbQq]\?[^?\s]*\?=")

#: RFC 5322 §3.6: at most one of each. RFC 2045 §3: the MIME fields. RFC 2369 §3: the list fields. RFC 8058 §3.1: the last.
_ONCE = frozenset(
    [
        "date",
        "from",
        "sender",
        "reply-to",
        "to",
        "cc",
        "bcc",
        "message-id",
        "in-reply-to",
        "references",
        "subject",
        "mime-version",
        "content-type",
        "content-transfer-encoding",
        "list-unsubscribe",
        "list-help",
        "list-id",
        "list-unsubscribe-post",
    ]
)


@check(
    id="envelope.header-encoding",
    name="Header with broken encoding",
    level=Level.STOP,
    why="The reader sees question marks and codes, or wrong letters, where subject or sender should stand.",
    fix="Write the header anew as encoded-words in UTF-8, or in plain ASCII.",
    basis="RFC 2047 §2, §5; RFC 5322 §2.2 (from memory)",
    samples=[
        clear(f"{_HEAD}Subject: =?utf-8?q?Fr=C3=BChling_im_Ofen?={_BODY}"),
        clear(f"{_HEAD}Subject: =?UTF-8?B?RnLDvGhsaW5n?={_BODY}"),
        clear(f"{_HEAD}Subject: =?iso-8859-1*de?Q?Fr=FChling?= in the studio{_BODY}"),
        # RFC 2047 writers may cut anywhere; many cut a character in two, and readers join the octets again.
        clear(f"{_HEAD}Subject: =?utf-8?B?RnLD?=\n =?utf-8?B?vGhsaW5n?={_BODY}"),
        clear(f"{_HEAD}Subject: Is 2 =? 3 a question?{_BODY}"),
        clear("From: =?utf-8?q?T=C3=B6pferei?= <a@kiln.example>\nSubject: x\nX-Track: https://a.example/?x=?y?b?z\n\ny\n"),
        finds(f"{_HEAD}Subject: =?utf-9?q?Fr=C3=BChling?={_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?q?Fr=FChling?={_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?q?Fr=C3=BChling{_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?b?RnLDvGhsaW5n!!?={_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?x?Fr=C3=BChling?={_BODY}"),
        finds(f"{_HEAD}Subject: Frühling{_BODY}", at="Subject: Frühling"),
        finds(f"{_HEAD}Subject: Frühling{_BODY}", encoding="cp1252"),
        finds("From: Töpferei <a@kiln.example>\nSubject: x\n\ny\n"),
        finds(f"{_HEAD}Subject: Hello=?utf-8?q?_Fr=C3=BChling?={_BODY}"),
    ],
)
def find_encoding(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every header is ASCII as transferred, and its encoded-words can be read."""
    need_headers(message)
    for header in message.headers:
        place = Place.in_header(message, header.name, header)
        if not header.octets.isascii():
            yield Hit(
                "{name} holds raw 8-bit octets instead of encoded-words.", place, {"name": header.name}, identity=f"8bit:{header.raw}"
            )
            continue
        if header.name.lower() not in _WITH_WORDS:
            continue
        faults = [fault.text for fault in word_faults(header.raw)]
        if not faults and header.name.lower() == "subject":
            faults = [
                "stands against other text, with no space between"
                for match in _WORD.finditer(header.raw)
                if header.raw[max(0, match.start() - 1) : match.start()].strip() or header.raw[match.end() : match.end() + 1].strip()
            ]
        for fault in faults[:1]:
            yield Hit("{name}: an encoded-word {fault}.", place, {"name": header.name, "fault": fault}, identity=header.raw)


#: Directional overrides and isolates, format characters that are never seen, and tags (UTS #36 §2.5; from memory).
_UNSEEN = regex.compile(r"[\p{Cc}\p{Cf}\u034f\u115f\u1160\u17b4\u17b5\u180e\u2028\u2029\u3164\uffa0--[\t]]", regex.VERSION1)
_EMOJI_JOIN = regex.compile(r"(?:\p{Emoji}[\ufe0f\U0001f3fb-\U0001f3ff]*\u200d(?=\p{Emoji}))|(?:\U0001f3f4[\U000e0020-\U000e007f]+)")
_JOINING_SCRIPT = regex.compile(
    r"[\p{Arabic}\p{Devanagari}\p{Bengali}\p{Tamil}\p{Telugu}\p{Kannada}\p{Malayalam}\p{Sinhala}\p{Gujarati}\p{Khmer}]"
)
_RIGHT_TO_LEFT = regex.compile(r"[\p{Arabic}\p{Hebrew}\p{Syriac}\p{Thaana}]")


@check(
    id="envelope.header-control",
    name="Invisible or control characters in a header",
    level=Level.STOP,
    why="Filters read hidden characters as a disguise, and some mail programs show boxes or turn the text around.",
    fix="Delete the hidden character; type the words anew rather than paste them.",
    basis="Unicode UTS #36; RFC 5322 §2.2 (from memory)",
    samples=[
        clear(f"{_HEAD}Subject: Spring\n glaze\n\tsale{_BODY}"),
        clear("<p>x</p>", envelope=Envelope(subject="For the family 👩‍👩‍👧 and 🏴󠁧󠁢󠁳󠁣󠁴󠁿", sender_address="a@kiln.example")),
        clear("<p>x</p>", envelope=Envelope(subject="می‌خواهم سفال بسازم", sender_address="a@kiln.example")),
        clear("<p>x</p>", envelope=Envelope(subject="קדרות ‎(Kiln)‎ באביב", sender_address="a@kiln.example")),
        clear("<p>x</p>", envelope=Envelope(subject="Caf\u00e9\u00a0offers ❤️", sender_address="a@kiln.example")),
        finds(f"{_HEAD}Subject: Spring\x07 sale{_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?q?Spring=E2=80=8B_sale?={_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?q?Spring=E2=80=AE_elas?={_BODY}"),
        finds("From: =?utf-8?q?Ki=C2=ADln?= <a@kiln.example>\nSubject: x\n\ny\n"),
        finds("From: Kiln <a@kiln.example>\nSubject: =?utf-8?q?two=0D=0Alines?=\n\ny\n"),
        finds("<p>x</p>", envelope=Envelope(subject="Spring sale", sender_name="K\u200diln", sender_address="a@kiln.example")),
    ],
)
def find_control(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, sender name and address hold no control characters, overrides of direction or invisible characters."""
    need_headers(message)
    for header, text in _seen_headers(message):
        for at in hidden_characters(text):
            char = text[at]
            yield Hit(
                "{name} holds the hidden character {character}.",
                Place.in_header(message, header.name, header),
                {"name": header.name, "character": f"U+{ord(char):04X} {unicodedata.name(char, 'control character')}"},
                identity=f"{header.name}:{ord(char):04X}",
            )
            break


def hidden_characters(text: str) -> Iterator[int]:
    """Where the hidden characters of a header stand, without those that join letters, emoji or lines of both directions."""
    joined = {at for match in _EMOJI_JOIN.finditer(text) for at in range(match.start(), match.end())}
    is_right_to_left = _RIGHT_TO_LEFT.search(text) is not None
    for match in _UNSEEN.finditer(text):
        char = match[0]
        around = text[max(0, match.start() - 1) : match.start()] + text[match.end() : match.end() + 1]
        if match.start() in joined or (char in "\u200c\u200d" and _JOINING_SCRIPT.search(around)):
            continue
        if not (char in "\u200e\u200f\u061c" and is_right_to_left):
            yield match.start()


def _seen_headers(message: Message) -> Iterator[tuple[Header, str]]:
    for header in message.headers:
        if header.name.lower() in ("subject", "from", "reply-to", "sender"):
            yield header, header.value
    for number, variant in enumerate(message.variants, 1):
        yield Header(f"Subject variant {number}", variant, variant, None), variant


@check(
    id="envelope.header-duplicate",
    name="Header given more than once",
    level=Level.STOP,
    why="Each program takes another one of the two: readers see different subjects, and signatures fail.",
    fix="Keep one of them.",
    basis="RFC 5322 §3.6 (from memory)",
    samples=[
        clear(f"Received: a\nReceived: b\nComments: a\nComments: b\n{_HEAD}Subject: x{_BODY}"),
        clear(f"DKIM-Signature: a\nDKIM-Signature: b\n{_HEAD}Subject: x{_BODY}"),
        finds(f"{_HEAD}Subject: one\nSubject: two{_BODY}", at="Subject: two"),
        finds(f"{_HEAD}Subject: one\n{_HEAD}{_BODY}"),
        finds(f"{_HEAD}Subject: one\nmessage-id: <a@b>\nMessage-ID: <a@b>{_BODY}"),
    ],
)
def find_duplicate(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A header that may stand once stands once."""
    need_headers(message)
    by_name: defaultdict[str, list[Header]] = defaultdict(list)
    for header in message.headers:
        by_name[header.name.lower()].append(header)
    for name, found in by_name.items():
        if len(found) > 1 and name in _ONCE:
            yield Hit(
                "{name} stands {count} times.",
                Place.in_header(message, found[1].name, found[1]),
                {"name": found[1].name, "count": len(found)},
                identity=name,
            )


@mend(
    "envelope.header-duplicate",
    kind=MendKind.SURE,
    does="Of two headers that say the same, the later one is taken out.",
    leaves="Two headers that say different things are left to a person.",
    samples=[
        turns(f"{_HEAD}Subject: one\nsubject: one{_BODY}", f"{_HEAD}Subject: one{_BODY}"),
        turns(f"{_HEAD}Subject: one two\nX-A: b\nSubject: one\n two{_BODY}", f"{_HEAD}Subject: one two\nX-A: b{_BODY}"),
        leaves_alone(f"{_HEAD}Subject: one\nSubject: two{_BODY}"),
    ],
)
def mend_duplicate(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The whole field goes, with the line end before it."""
    name = str(finding.data["name"]).lower()
    found = [header for header in message.headers if header.name.lower() == name]
    source = message.header_source.text
    if len({" ".join(header.raw.split()) for header in found}) == 1:
        for header in found[1:]:
            if header.span is not None:
                start = header.span.start - (2 if source[: header.span.start].endswith("\r\n") else 1)
                yield Change("header", Span(start, header.span.end), "")


@dataclass(frozen=True)
class LineOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("the longest header line, its line end not counted", unit="octets")] = 998


@check(
    id="envelope.header-line-long",
    name="Header line over 998 octets",
    level=Level.FIX,
    why="Servers on the way may cut the line, break the message, or refuse it.",
    fix="Fold the header: a line break before a space.",
    basis="RFC 5322 §2.1.1 (from memory)",
    options=LineOptions,
    samples=[
        clear(f"{_HEAD}Subject: x\nX-Long: {'a' * 990}{_BODY}"),
        clear(f"{_HEAD}Subject: x\nX-Long: {'a' * 900}\n {'b' * 900}{_BODY}"),
        finds(f"{_HEAD}Subject: x\nX-Long: {'a' * 991}{_BODY}", at=f"X-Long: {'a' * 991}"),
    ],
)
def find_line_long(message: Message, context: Context, options: LineOptions) -> Iterator[Hit]:
    """No line of the header block has more than 998 octets."""
    need_mail(message)
    for header in message.headers:
        longest = max(map(len, header.octets.splitlines()), default=0)
        if longest > options.most_octets:
            yield Hit(
                "{name} has a line of {octets} octets; the limit is {limit}.",
                Place.in_header(message, header.name, header),
                {"name": header.name, "octets": longest, "limit": options.most_octets},
                identity=header.name.lower(),
            )
