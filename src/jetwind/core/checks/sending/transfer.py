"""The mail can be carried as it is: whole parts, short lines, a size that servers take."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_mail
from jetwind.core.message import Message
from jetwind.core.message.parts import MimePart
from jetwind.core.source import Span

_HEAD = "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\n"
_PARTS = f"{_HEAD}Content-Type: multipart/mixed; boundary=b\n\n"
_LINE = re.compile(rb"[^\r\n]+")


@check(
    id="sending.mime",
    name="Broken MIME structure",
    level=Level.STOP,
    why="Parts go missing, or the reader sees codes: each program repairs the message in its own way.",
    fix="Have the message built anew by a program that writes MIME; do not edit its source by hand.",
    basis="RFC 2045, RFC 2046 (from memory)",
    samples=[
        clear(f"{_PARTS}--b\nContent-Type: text/plain\n\nx\n--b--\n"),
        clear(f"{_PARTS}preamble\n--b\n\nx\n--b--\nepilogue\n"),
        clear(f"{_HEAD}Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\nGrüße\n"),
        clear(f"{_HEAD}Content-Transfer-Encoding: quoted-printable\nContent-Type: text/plain; charset=utf-8\n\nGr=C3=BC=\n=C3=9Fe\n"),
        clear(f"{_HEAD}Content-Transfer-Encoding: base64\n\nR3LDvMOfZQ==\n"),
        clear("<p>HTML is no mail</p>"),
        finds(f"{_HEAD}Content-Type: multipart/mixed\n\n--b\n\nx\n--b--\n"),
        finds(f"{_PARTS}There is no part at all\n"),
        finds(f"{_PARTS}--b\nContent-Type: text/plain\n\nx\n"),
        finds(f"{_HEAD}Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 7bit\n\nGrüße\n"),
        finds(f"{_HEAD}Content-Transfer-Encoding: base64\n\nR3LDvMOf*ZQ==\n", at="*"),
        finds(f"{_HEAD}Content-Transfer-Encoding: quoted-printable\n\nGr=ZZsse\n"),
        finds(f"{_HEAD}Content-Transfer-Encoding: 9bit\n\nx\n"),
    ],
)
def find_broken(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every part is delimited, ends, and is in the transfer encoding that it names."""
    need_mail(message)
    for defect in message.defects:
        if defect.kind.startswith("mime-"):
            yield Hit("{what}", Place.in_message(message, defect.octets), {"what": defect.text}, identity=f"{defect.kind}:{defect.text}")


@dataclass(frozen=True)
class LineOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("the longest line of a body, its line end not counted", unit="octets")] = 998


@check(
    id="sending.line-long",
    name="Body line over 998 octets",
    level=Level.STOP,
    why="Servers cut or fold the line, which breaks tags, links and signatures.",
    fix="Send the part as quoted-printable or base64, or break the lines of the HTML.",
    basis="RFC 5321 §4.5.3.1.6; RFC 5322 §2.1.1 (from memory)",
    options=LineOptions,
    samples=[
        clear(f"{_HEAD}\n{'a' * 998}\n"),
        clear(f"{_HEAD}Content-Transfer-Encoding: quoted-printable\n\n" + "a=\n" * 400 + "\n"),
        clear(f"{_HEAD}X-Long: {'a' * 1200}\n\nThe header's own check\n"),
        clear(f"<p>{'a' * 2000}</p>"),
        finds(f"{_HEAD}\n{'a' * 999}\n", at="a" * 999),
        finds(f"{_HEAD}Content-Type: text/html\n\n<p>{'a' * 2000}</p>\n"),
        finds(f"{_PARTS}{'p' * 1200}\n--b\n\nx\n--b--\n", at="p" * 1200),
        finds(f"{_PARTS}--b\n\nx\n--b\nX-Long: {'h' * 1200}\n\ny\n--b--\n{'e' * 1500}\n", at="e" * 1500),
    ],
)
def find_line_long(message: Message, context: Context, options: LineOptions) -> Iterator[Hit]:
    """No line of a body has more than 998 octets as it is transferred."""
    need_mail(message)
    assert message.root is not None
    for start, octets, what, identity in _stretches(message.root):
        over = [match for match in _LINE.finditer(octets) if len(match[0]) > options.most_octets]
        if over:
            at = start + over[0].start()
            yield Hit(
                "{lines} of {type} are over {limit} octets; the longest has {octets}.",
                Place.in_message(message, Span(at, at + len(over[0][0]))),
                {
                    "lines": f"{len(over)} line{'s' if len(over) > 1 else ''}",
                    "type": what,
                    "limit": options.most_octets,
                    "octets": max(len(match[0]) for match in over),
                },
                identity=identity,
            )


def _stretches(root: MimePart) -> Iterator[tuple[int, bytes, str, str]]:
    """Everything after the header of the mail: bodies, headers of parts, and what stands between the parts."""
    for part in root.walk():
        if part is not root:
            yield part.offset, part.head, "a part's header", "header"
        if not part.is_multipart:
            yield part.offset + len(part.head), part.body, part.content_type, f"{part.content_type}:{part.file_name}"
            continue
        at = part.offset + len(part.head)
        between = [part.body, *(delimiter for delimiter, _ in part.children), part.closing]
        inside = [*(len(child.to_bytes()) for _, child in part.children), 0]
        for number, octets in enumerate(between):
            yield at, octets, "what stands between the parts", "between"
            at += len(octets) + (inside[number - 1] if number else 0)


@dataclass(frozen=True)
class SizeOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("the largest message, encoded", unit="octets")] = 10 * 1024 * 1024


@check(
    id="sending.size",
    name="Message over 10 MB",
    level=Level.FIX,
    why="Many servers refuse it, and readers on the road do not load it.",
    fix="Make the pictures smaller, or offer the attachment as a download.",
    basis="Common practice, no published source",
    options=SizeOptions,
    samples=[
        clear(f"{_HEAD}\nx\n"),
        clear("<img src='a.png' alt='x'>", files={"a.png": b"\x89PNG\r\n\x1a\n" + b"a" * 7_000_000}),
        finds("<img src='a.png' alt='x'>", files={"a.png": b"\x89PNG\r\n\x1a\n" + b"a" * 8_000_000}),
    ],
)
def find_size(message: Message, context: Context, options: SizeOptions) -> Iterator[Hit]:
    """The whole message, encoded, has at most 10 MB."""
    octets = encoded_octets(message)
    if octets > options.most_octets:
        yield Hit(
            "The message has {octets} octets encoded; the limit is {limit}.",
            Place("message"),
            {"octets": octets, "limit": options.most_octets},
            identity="size",
        )


def encoded_octets(message: Message) -> int:
    """The size of the mail in octets; of a package, the size it will have: base64 makes four of three, and lines of 76 end in CR LF."""
    if message.form == "eml":
        return message.octets
    files = message.image_octets + sum(len(part.data) for part in message.attachments)
    return (message.html.octets if message.html else 0) + (message.text.octets if message.text else 0) + files * 4 // 3 * 78 // 76
