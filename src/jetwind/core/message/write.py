"""A Message back to the bytes of a mail as it came, with nothing lost."""

from __future__ import annotations

import re
from email.message import EmailMessage
from email.policy import SMTP

from jetwind.core.message.model import Header, Message, Resource, TextPart


def to_eml(message: Message) -> bytes:
    """The message as an .eml. A mail keeps every octet, its parts untouched; headers that a person gave are written anew.

    HTML and packages become a mail of their own: texts in UTF-8, pictures beside the HTML under their names (RFC 2387, RFC 2557).
    """
    if message.root is not None:
        raw = message.root.to_bytes()
        if all(header.octets for header in message.headers):
            return raw
        return _header_block(message.headers, raw[: len(message.root.head)]) + raw[len(message.root.head) :]
    mail = EmailMessage(policy=SMTP)
    for header in message.headers:
        mail[header.name] = one_line(header.value)
    parts = [_text_part(part, kind) for part, kind in ((message.text, "plain"), (message.html, "html")) if part is not None]
    if message.images and message.html is not None:
        related = EmailMessage(policy=SMTP)
        related["Content-Type"] = "multipart/related"
        for part in (parts.pop(), *(_picture_part(image) for image in message.images)):
            related.attach(part)
        parts.append(related)
    if len(parts) == 1:
        for name, value in parts[0].items():
            mail[name] = value
        mail.set_payload(parts[0].get_payload())
    else:
        mail["Content-Type"] = "multipart/alternative"
        for part in parts:
            mail.attach(part)
    return mail.as_bytes()


def _header_block(headers: tuple[Header, ...], old: bytes) -> bytes:
    """Header fields as they came, or encoded anew (RFC 2047), with the empty line of the old block."""
    newline = b"\r\n" if b"\r\n" in old else b"\n"
    block = b""
    for header in headers:
        if header.octets:
            block += header.octets if header.octets.endswith((b"\n", b"\r")) else header.octets + newline
        else:
            made = EmailMessage(policy=SMTP.clone(linesep=newline.decode()))
            made[header.name] = one_line(header.value)
            block += made.as_bytes().rstrip(b"\r\n") + newline
    return block + (newline if old.endswith((b"\n", b"\r")) else b"")


def _text_part(part: TextPart, kind: str) -> EmailMessage:
    made = EmailMessage(policy=SMTP)
    made.set_content(part.text.encode("utf-8", "surrogatepass"), "text", kind)
    made.set_param("charset", "utf-8")
    return made


def _picture_part(image: Resource) -> EmailMessage:
    made = EmailMessage(policy=SMTP)
    main, _, sub = image.content_type.partition("/")
    made.set_content(image.data, main, sub or "octet-stream", filename=one_line(image.name), disposition="inline")
    return made


#: Whatever ends a line for any reader of text (Unicode standard §5.8), and further controls.
_NO_LINE = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]+")


def one_line(text: str) -> str:
    """A text for one header field: without line ends and controls, lone surrogates replaced by U+FFFD."""
    return encodable(_NO_LINE.sub(" ", text)).strip()


def encodable(text: str) -> str:
    """A text that UTF-8 can carry: lone surrogates are replaced by U+FFFD."""
    return text.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")
