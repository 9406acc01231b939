"""Attachments are harmless and light."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.message import Message, Resource

_EXECUTABLE = "exe|com|scr|pif|msi|msp|cpl|dll|jar|app|dmg|pkg|deb|rpm|apk|iso|img|vhdx?|gadget|reg|lnk|chm|hta|scf|ade|adp|mde"
_SCRIPT = "js|jse|vbs|vbe|vb|ws|wsf|wsc|wsh|ps1|psm1|bat|cmd|sh|bash|py|pl|rb|php|sct|url|application"
_MACRO = "docm|dotm|xlsm|xltm|xlam|xlsb|pptm|potm|ppsm|ppam|sldm"
_ARCHIVE = "zip|rar|7z|gz|tgz|tar|bz2|xz|cab|ace|arj"
_DOCUMENT = "pdf|docx?|xlsx?|pptx?|odt|ods|rtf|txt|csv|jpe?g|png|gif|webp|html?|ics"
_ENDING = re.compile(rf"\.(?:(?P<executable>{_EXECUTABLE})|(?P<script>{_SCRIPT})|(?P<macro>{_MACRO}))\Z", re.IGNORECASE)
_DOUBLE = re.compile(rf"\.(?:{_DOCUMENT})[\s._-]*\.(?:{_EXECUTABLE}|{_SCRIPT}|{_MACRO}|{_ARCHIVE})\Z", re.IGNORECASE)
_WHAT = {"executable": "a program", "script": "a script", "macro": "a document with macros"}

_MAIL = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=b\n\n--b\n\nx\n"
    '--b\nContent-Type: application/octet-stream\nContent-Disposition: attachment; filename="{}"\nContent-Transfer-Encoding: {}\n\n{}\n--b--\n'
)
#: A zip with one entry whose first flag bit says that it is encrypted, made with Python's zipfile and the bit set.
_LOCKED_ZIP = "UEsDBBQAAQAAAAAAIQCGphA2BQAAAAUAAAABAAAAYWhlbGxvUEsBAhQDFAABAAAAAAAhAIamEDYFAAAABQAAAAEAAAAAAAAAAAAAAIABAAAAAGFQSwUGAAAAAAEAAQAvAAAAJAAAAAAA"


@check(
    id="sending.attachment-risky",
    name="Attachment that programs refuse",
    level=Level.STOP,
    why="Servers reject or quarantine the whole message, and readers are taught not to open such files.",
    fix="Take it off and link to a page from which the file can be loaded.",
    basis="Common practice, no published source",
    samples=[
        clear(_MAIL.format("price list.pdf", "7bit", "%PDF-1.4")),
        clear(_MAIL.format("letter.doc.pdf", "7bit", "%PDF-1.4")),
        clear(_MAIL.format("saltmarsh.com.pdf", "7bit", "%PDF-1.4")),
        clear(_MAIL.format("slots.ics", "7bit", "BEGIN:VCALENDAR")),
        clear("From: a@b.org\nSubject: x\n\nNo attachment\n"),
        finds(_MAIL.format("kiln.exe", "7bit", "x")),
        finds(_MAIL.format("invoice.pdf.js", "7bit", "x")),
        finds(_MAIL.format("prices.xlsm", "7bit", "x")),
        finds(_MAIL.format("prices.pdf.zip", "7bit", "x")),
        finds(_MAIL.format("notes.txt", "7bit", "MZ\u0090 program"), encoding="latin-1"),
        finds(_MAIL.format("pots.zip", "base64", _LOCKED_ZIP)),
    ],
)
def find_risky(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No attachment is a program, script, macro document or locked archive, nor hides its kind behind a second ending."""
    for attachment in message.attachments:
        if what := _risk(attachment):
            yield Hit(
                "“{name}” is {what}.",
                Place("attachment", attachment.name),
                {"name": attachment.name, "what": what},
                identity=attachment.name,
            )


def _risk(attachment: Resource) -> str:
    name = attachment.name.strip().rstrip(".")
    if _DOUBLE.search(name):
        return "a file with two endings, of which the second counts"
    if match := _ENDING.search(name):
        return _WHAT[match.lastgroup or "script"]
    data = attachment.data
    if (data.startswith(b"MZ") and len(data) > 2 and data[2] > 127) or data.startswith(
        (b"\x7fELF", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe")
    ):
        return "a program under another name"
    if data.startswith(b"PK\x03\x04"):
        try:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                entries = archive.infolist()
        except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, OSError, ValueError):
            return ""
        if any(entry.flag_bits & 1 for entry in entries):
            return "an archive locked with a password"
        if any(entry.filename.lower().endswith("vbaproject.bin") for entry in entries):
            return "a document with macros"
        inside = next((entry.filename for entry in entries if _ENDING.search(entry.filename)), None)
        if inside and not name.lower().endswith((".docx", ".xlsx", ".pptx", ".odt", ".ods")):
            return f"an archive that holds “{inside}”"
    return ""


@dataclass(frozen=True)
class HeavyOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("what all attachments together may weigh, decoded", unit="octets")] = 1024 * 1024


@check(
    id="sending.attachment-heavy",
    name="Attachments over 1 MB",
    level=Level.FIX,
    why="Every reader's mailbox carries the weight, and some servers refuse it.",
    fix="Offer the file as a download.",
    basis="Common practice, no published source",
    options=HeavyOptions,
    samples=[
        clear(_MAIL.format("a.pdf", "7bit", "a" * 900)),
        clear("<img src='a.png' alt='x'>", files={"a.png": b"\x89PNG\r\n\x1a\n" + b"a" * 2_000_000}),  # a picture of the message
        finds(_MAIL.format("a.pdf", "7bit", ("a" * 70 + "\n") * 15_500)),
    ],
)
def find_heavy(message: Message, context: Context, options: HeavyOptions) -> Iterator[Hit]:
    """All attachments together weigh at most 1 MB."""
    octets = sum(len(attachment.data) for attachment in message.attachments)
    if octets > options.most_octets:
        heaviest = max(message.attachments, key=lambda attachment: len(attachment.data))
        yield Hit(
            "Attachments weigh {octets} octets together; the limit is {limit}.",
            Place("attachment", heaviest.name),
            {"octets": octets, "limit": options.most_octets, "count": len(message.attachments)},
            identity="heavy",
        )
