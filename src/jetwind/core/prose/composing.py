"""A message merged for one reader, as a test send hands it over."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime
from html import escape

from jetwind.core.fields import fill
from jetwind.core.message.model import Message, resource_key
from jetwind.core.message.references import image_references
from jetwind.core.message.write import one_line
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Edit, splice

#: Headers of the reviewed message that travel along; the others belong to one transport and are made anew.
_KEPT = ("List-Unsubscribe", "List-Unsubscribe-Post", "List-Id", "Auto-Submitted", "Precedence", "Feedback-ID")


def compose(
    message: Message,
    *,
    values: Mapping[str, str],
    to: str,
    sender: str,
    subject_mark: str,
    message_id: str,
    date: datetime,
) -> bytes:
    """One mail to one recipient, as SMTP carries it (CR LF lines).

    ``subject_mark`` is put before the merged subject. Pictures of a package travel by Content-ID (RFC 2392).

    Raises:
        ValueError: an address or header holds a line break.
    """
    mail = EmailMessage(policy=SMTP)
    mail["Subject"] = one_line(f"{subject_mark} {fill(message.subject, values, escape=False, syntax=message.syntax)}")
    mail["From"] = sender
    mail["To"] = to
    if reply_to := message.header("Reply-To"):
        mail["Reply-To"] = one_line(fill(reply_to.value, values, escape=False, syntax=message.syntax))
    mail["Date"] = format_datetime(date)
    mail["Message-ID"] = message_id
    for name in _KEPT:
        for header in message.header_fields(name):
            mail[name] = one_line(fill(header.value, values, escape=False, syntax=message.syntax))
    text = fill(message.text.text, values, escape=False, syntax=message.syntax) if message.text else None
    if text is not None or message.html is None:
        mail.set_content(text or "", charset="utf-8")
    if message.html is not None:
        source, content_ids = _html_to_send(message)
        html = fill(source, values, escape=message.syntax.escapes, syntax=message.syntax)
        if text is None:
            mail.set_content(html, subtype="html", charset="utf-8")
            body: EmailMessage = mail
        else:
            mail.add_alternative(html, subtype="html", charset="utf-8")
            body = mail.get_payload()[-1]  # type: ignore[index, assignment]
        for image in message.images:
            main, _, sub = image.content_type.partition("/")
            content_id = f"<{content_ids.get(resource_key(image.name)) or image.content_id or resource_key(image.name)}>"
            body.add_related(image.data, main, sub or "octet-stream", cid=content_id, filename=one_line(image.name), disposition="inline")
    for attachment in message.attachments:
        main, _, sub = attachment.content_type.partition("/")
        if main in ("multipart", "message", "") or not sub:
            main, sub = "application", "octet-stream"
        mail.add_attachment(attachment.data, main, sub, filename=one_line(attachment.name))
    return mail.as_bytes()


def _html_to_send(message: Message) -> tuple[str, dict[str, str]]:
    """The HTML with package paths turned into ``cid:`` references, and the Content-ID of each path."""
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
    if message.given_preview_text and not reading_of(message).lead_in:
        at = message.document.body.start_tag
        hidden = f'<div style="display:none;max-height:0;overflow:hidden">{escape(message.given_preview_text)}</div>'
        edits.append(Edit.insert(at.end if at else 0, hidden))
    return splice(message.html.text, edits), content_ids
