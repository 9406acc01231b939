"""Messages for tests: each says only what matters to the test that uses it."""

from __future__ import annotations

import io
import zipfile
from email.message import EmailMessage
from email.policy import SMTP

from PIL import Image

GOOD_HTML = (
    '<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Sale</title></head><body>'
    '<div style="display:none">Twelve glazes at a fifth off until Sunday</div>'
    '<h1>Spring glaze sale</h1><p>Hello {{ first_name | default: "there" }}, come to the quay.</p>'
    '<p><a href="https://www.kiln.org/sale">See the glazes</a></p>'
    '<p>You get this because you signed up.</p><p>Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW. <a href="https://www.kiln.org/leave">Unsubscribe</a></p></body></html>'
)
GOOD_TEXT = (
    'Spring glaze sale\n\nHello {{ first_name | default: "there" }}, come to the quay.\n\nSee the glazes: https://www.kiln.org/sale\n\n'
    "You get this because you signed up.\n\nKiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW.\nUnsubscribe: https://www.kiln.org/leave\n"
)


def picture(width: int = 40, height: int = 20, colour: str = "#1F5F8B", form: str = "PNG") -> bytes:
    """A plain picture."""
    out = io.BytesIO()
    Image.new("RGB", (width, height), colour).save(out, form)
    return out.getvalue()


def mail(
    html: str | None = GOOD_HTML,
    text: str | None = GOOD_TEXT,
    *,
    images: dict[str, bytes] | None = None,
    attachments: dict[str, bytes] | None = None,
    without: tuple[str, ...] = (),
    **headers: str,
) -> bytes:
    """A clean promotional mail; keyword arguments replace headers (``Reply_To``), ``without`` leaves some out."""
    made = EmailMessage(policy=SMTP)
    wanted = {
        "Subject": "Twelve glazes, a fifth off",
        "From": "Kiln Works <hello@kiln.org>",
        "List-Unsubscribe": "<https://www.kiln.org/leave>",
        "List-Unsubscribe-Post": "List-Unsubscribe=One-Click",
        **{name.replace("_", "-"): value for name, value in headers.items()},
    }
    for name, value in wanted.items():
        if name not in without:
            made[name] = value
    body: EmailMessage = made
    if text is not None:
        made.set_content(text)
        if html is not None:
            made.add_alternative(html, subtype="html")
            body = made.get_payload()[-1]  # type: ignore[index, assignment]
    elif html is not None:
        made.set_content(html, subtype="html")
    for content_id, data in (images or {}).items():
        body.add_related(data, "image", "png", cid=f"<{content_id}>", filename=f"{content_id}.png")
    for name, data in (attachments or {}).items():
        made.add_attachment(data, "application", "octet-stream", filename=name)
    return made.as_bytes()


def package(html: str = GOOD_HTML, **files: bytes) -> bytes:
    """A zip with one HTML file; keyword names stand for file names with ``__`` for a slash and ``_dot_`` for a dot."""
    named = {name.replace("__", "/").replace("_dot_", "."): data for name, data in files.items()}
    return archive({"message.html": html.encode(), **named})


def archive(files: dict[str, bytes]) -> bytes:
    """A zip of files by name."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as zipped:
        for name, data in files.items():
            zipped.writestr(name, data)
    return out.getvalue()
