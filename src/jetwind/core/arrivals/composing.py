"""A message merged for one reader, as a test send hands it over."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from email import message_from_bytes
from email.errors import HeaderParseError
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, formataddr, parseaddr
from html import escape
from urllib.parse import quote, unquote

from jetwind.core.fields import fill
from jetwind.core.links import Link, links, text_links
from jetwind.core.links.way_out import ADDRESS_WORDS, likely_ways_out, list_unsubscribe_targets, ways_out
from jetwind.core.message.model import Message, resource_key
from jetwind.core.message.references import image_references
from jetwind.core.message.write import encodable, one_line
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Edit, splice

#: Headers of the reviewed message that travel along; the others belong to one transport and are made anew.
_KEPT = ("List-Unsubscribe", "List-Unsubscribe-Post", "List-Id", "Auto-Submitted", "Precedence", "Feedback-ID")
#: Characters of a line of a header beside its name.
_LONGEST_LINE = 900
#: Two tokens (RFC 2045 §5.1).
_MEDIA_TYPE = re.compile(r"([A-Za-z0-9!#$%&'*+.^_`{|}~-]{1,64})/([A-Za-z0-9!#$%&'*+.^_`{|}~-]{1,64})")


@dataclass(frozen=True, slots=True)
class OwnWaysOut:
    """Addresses that stand in a copy in the place of the unsubscribe addresses, so that a test unsubscribes nobody.

    ``header`` and ``body`` are pages, for the List-Unsubscribe header and for the links; ``mailbox`` is a mail address. ``is_quick`` has the
    links told without their styles, for messages whose styles take too long.
    """

    header: str
    body: str
    mailbox: str
    is_quick: bool = False

    @property
    def mailto(self) -> str:
        """The mailbox as a link (RFC 6068)."""
        return f"mailto:{quote(self.mailbox, safe='@')}?subject=unsubscribe"


def compose(
    message: Message,
    *,
    values: Mapping[str, str],
    to: str,
    sender_address: str,
    subject_mark: str,
    message_id: str,
    date: datetime,
    variant: int = 0,
    own_ways_out: OwnWaysOut | None = None,
) -> bytes:
    """One mail to one recipient, as SMTP carries it (CR LF lines).

    ``subject_mark`` is put before the merged subject, that of ``message.subjects`` with the number ``variant``; the sender has the name that the message gives, and ``sender_address``. Pictures
    of a package travel by Content-ID (RFC 2392). Whatever the message's headers hold is carried as far as a header can: line ends of any
    kind become blanks, lone surrogates U+FFFD. ``own_ways_out`` are put in the place of every unsubscribe address.

    Raises:
        IndexError: there is no such variant.
        ValueError: ``to``, ``sender_address`` or ``message_id`` holds a line break.
    """
    for given in (to, sender_address, message_id):
        if given != one_line(given):
            raise ValueError(f"not one line: {given!r}")
    mail = EmailMessage(policy=SMTP)
    mail["Subject"] = one_line(f"{subject_mark} {fill(message.subjects[variant], values, escape=False, syntax=message.syntax)}")
    mail["From"] = _sender(_sender_name(message, values), sender_address)
    mail["To"] = to
    if reply_to := message.header("Reply-To"):
        reply = one_line(fill(reply_to.value, values, escape=False, syntax=message.syntax))
        if _can_be_written("Reply-To", reply):
            mail["Reply-To"] = reply
    mail["Date"] = format_datetime(date)
    mail["Message-ID"] = message_id
    whole: list[tuple[str, str]] = []
    for name in _KEPT:
        for header in message.header_fields(name):
            value = one_line(fill(header.value, values, escape=False, syntax=message.syntax))
            if name == "List-Unsubscribe" and own_ways_out is not None:
                value = _listed(value, own_ways_out)
            if (lines := _folded(value)) is not None:
                mail[name] = _stands_for(len(whole))
                whole.append((name, lines))
            elif _can_be_written(name, value):
                mail[name] = value
    text = fill(_text_to_send(message, own_ways_out), values, escape=False, syntax=message.syntax) if message.text else None
    if text is not None or message.html is None:
        mail.set_content(encodable(text or ""), charset="utf-8")
    if message.html is not None:
        source, content_ids = _html_to_send(message, own_ways_out)
        html = encodable(fill(source, values, escape=message.syntax.escapes, syntax=message.syntax))
        if text is None:
            mail.set_content(html, subtype="html", charset="utf-8")
            body: EmailMessage = mail
        else:
            mail.add_alternative(html, subtype="html", charset="utf-8")
            body = mail.get_payload()[-1]  # type: ignore[index, assignment]
        for image in message.images:
            main, sub = _types(image.content_type)
            content_id = one_line(f"<{content_ids.get(resource_key(image.name)) or image.content_id or resource_key(image.name)}>")
            body.add_related(image.data, main, sub, cid=content_id, filename=one_line(image.name), disposition="inline")
    for attachment in message.attachments:
        main, sub = _types(attachment.content_type)
        mail.add_attachment(attachment.data, main, sub, filename=one_line(attachment.name))
    octets = mail.as_bytes()
    for number, (name, lines) in enumerate(whole):
        octets = octets.replace(f"\r\n{name}: {_stands_for(number)}\r\n".encode(), f"\r\n{name}: {lines}\r\n".encode(), 1)
    return octets


def _stands_for(number: int) -> str:
    """A word in the place of a header's value while the library writes the mail.

    The library breaks a long address apart into encoded words, which no mail program reads inside of ``<>`` (RFC 2047 §5 (3)).
    """
    return f"jetwind-value-{number}"


def _folded(value: str) -> str | None:
    """A value of printable ASCII, folded between its addresses alone; None where a line would be too long (RFC 5322 §2.1.1), or there is none."""
    lines = re.sub(r">\s*,\s*<", ">,\r\n <", value.strip())
    is_plain = bool(value.strip()) and value.isascii() and value.isprintable()
    return lines if is_plain and max(map(len, lines.split("\r\n"))) <= _LONGEST_LINE else None


def _listed(value: str, own: OwnWaysOut) -> str:
    """The value of a List-Unsubscribe header with our own addresses, of the same kinds and in the same order (RFC 2369 §3.2)."""
    kinds = dict.fromkeys("mailto" if uri.lower().startswith("mailto:") else "page" for uri in list_unsubscribe_targets(value))
    return ", ".join(f"<{own.mailto if kind == 'mailto' else own.header}>" for kind in kinds)


def _leading_out(message: Message, own: OwnWaysOut) -> Iterator[Link]:
    """Every link by which a reader may leave the list: the visible ones, and those that a style may show on another screen."""
    told = list(likely_ways_out(message) if own.is_quick else ways_out(message))
    yield from told
    addresses = {link.address for link in told}
    for header in message.header_fields("List-Unsubscribe"):
        addresses.update(list_unsubscribe_targets(header.value))
    for link in links(message) if message.html is not None else text_links(message):
        if link.address and (link.address in addresses or ADDRESS_WORDS.search(unquote(link.address))):
            yield link


def _exchanged(source: str, link: Link, own: OwnWaysOut) -> Iterator[Edit]:
    """The edit by which a link leads to our own way out; none for an address that stands nowhere."""
    if link.span is None or not link.address:
        return
    was = source[link.span.start : link.span.end]
    if not link.address.lower().startswith("mailto:"):
        yield Edit(link.span, own.body)
    else:
        # A mail address may stand there as a link, or as text.
        yield Edit(link.span, own.mailto if was.lower().lstrip().startswith("mailto:") else own.mailbox)


def _text_to_send(message: Message, own: OwnWaysOut | None) -> str:
    assert message.text is not None
    source = message.text.text
    if own is None:
        return source
    alone = message if message.html is None else replace(message, html=None)
    return splice(source, [edit for link in _leading_out(alone, own) for edit in _exchanged(source, link, own)])


def _sender(name: str, address: str) -> str:
    """Name and address of the sender; the address alone where a reader of the copy would take the name for another address."""
    named = formataddr((name, address))
    if not _can_be_written("From", named):
        return address
    tried = EmailMessage(policy=SMTP)
    tried["From"] = named
    read = message_from_bytes(tried.as_bytes(), policy=SMTP)["From"]
    found = [one.addr_spec for one in read.addresses]
    return named if found == [address] and parseaddr(str(read))[1] == address else address


def _can_be_written(name: str, value: str) -> bool:
    """Whether a value can stand in a header field of that name. Of addresses the standard library writes only those that it can read.

    One that it cannot is left out of the copy: the check of the sender tells of it.
    """
    tried = EmailMessage(policy=SMTP)
    try:
        tried[name] = value
        tried.as_bytes()
    except (ValueError, IndexError, TypeError, AttributeError, KeyError, HeaderParseError, RecursionError):
        return False
    return True


def _sender_name(message: Message, values: Mapping[str, str]) -> str:
    senders = message.mailboxes("From")
    return " ".join(one_line(fill(senders[0].name, values, escape=False, syntax=message.syntax)).split()) if senders else ""


def _types(content_type: str) -> tuple[str, str]:
    """The two halves of a media type; ``application/octet-stream`` where it is none (RFC 2045 §5.1), or one that holds further parts."""
    found = _MEDIA_TYPE.fullmatch(content_type)
    if found is None or found[1].lower() in ("multipart", "message"):
        return "application", "octet-stream"
    return found[1], found[2]


def _html_to_send(message: Message, own: OwnWaysOut | None) -> tuple[str, dict[str, str]]:
    """The HTML with package paths turned into ``cid:`` references and with our own ways out, and the Content-ID of each path."""
    assert message.html is not None and message.document is not None
    content_ids = {
        resource_key(image.name): f"image-{number}@jetwind.invalid"
        for number, image in enumerate(message.images, 1)
        if image.content_id is None
    }
    edits = []
    for reference in image_references(message):
        if content_id := content_ids.get(resource_key(reference.value)):
            edits.append(Edit(reference.span, f"cid:{content_id}"))
    if own is not None:
        edits += [edit for link in _leading_out(message, own) for edit in _exchanged(message.html.text, link, own)]
    if message.given_preview_text and not reading_of(message).lead_in:
        at = message.document.body.start_tag
        hidden = f'<div style="display:none;max-height:0;overflow:hidden">{escape(message.given_preview_text)}</div>'
        edits.append(Edit.insert(at.end if at else 0, hidden))
    return splice(message.html.text, edits), content_ids
