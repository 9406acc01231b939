"""Input of any form to a Message: .eml, HTML, a zip or a folder with one HTML file and its images.

Only what cannot be held at all is refused, with one sentence that names the thing.
"""

from __future__ import annotations

import hashlib
import io
import mimetypes
import posixpath
import re
import stat
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Literal

from jetwind.core.errors import Unusable
from jetwind.core.fields import LIQUID, Syntax
from jetwind.core.message.envelope import Envelope
from jetwind.core.message.mime import charset_defect, document_charset, read_mime, text_part
from jetwind.core.message.model import Defect, Header, Message, Resource, resource_key
from jetwind.core.message.references import image_references
from jetwind.core.source import SourceText

#: Larger than any sane message: mail servers commonly refuse from 25 to 50 MB (common practice, no published source).
LARGEST_INPUT = 30 * 1024 * 1024
LARGEST_UNPACKED = 60 * 1024 * 1024
MOST_ENTRIES = 2_000
#: Images hardly shrink in a zip and text shrinks about tenfold; beyond this ratio a large entry is a bomb.
LARGEST_RATIO = 150

HTML_NAME = re.compile(r"\.x?html?\Z", re.IGNORECASE)
_HTML_START = re.compile(
    rb"\s*<(?:!doctype\s+html|html|head|body|table|div|p|center|style|meta|span|h[1-6]|a|img)(?![\w@.-])|\s*<!--", re.IGNORECASE
)
_HEADER_LINE = re.compile(rb"[!-9;-~]+[ \t]*:")
_BROKEN_ZIP = (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OSError, ValueError, KeyError)


class UnusableInput(Unusable):
    """The input cannot be held as a message; the text says what and why, in one sentence for a person."""


def read_bytes(data: bytes, file_name: str, *, envelope: Envelope | None = None, syntax: Syntax = LIQUID) -> Message:
    """A Message from the bytes of one file.

    ``envelope`` gives subject and sender to a message that has no headers of its own, or takes their place.

    Raises:
        UnusableInput: empty, too large, not a mail, a broken or hostile zip.
    """
    shown = f"“{file_name}”"
    if not data.strip():
        raise UnusableInput(f"{shown} is empty.")
    if len(data) > LARGEST_INPUT:
        raise UnusableInput(f"{shown} is {_megabytes(len(data))}; the largest that can be taken in is {_megabytes(LARGEST_INPUT)}.")
    if data.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        message = _from_files(unzipped(data, shown), data, shown, syntax)
    elif HTML_NAME.search(file_name) or (_HTML_START.match(data) and not file_name.lower().endswith(".eml")):
        if b"\0" in data[:1024] and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
            raise UnusableInput(f"{shown} is not HTML: it holds binary data.")
        message = _from_files({"message.html": data}, data, shown, syntax)
    else:
        message = _from_mail(data, shown, syntax)
    return with_envelope(message, envelope) if envelope is not None else message


def read_path(path: Path, *, syntax: Syntax = LIQUID) -> Message:
    """A Message from a file or a folder. An HTML file takes the pictures beside it that it refers to.

    Raises:
        UnusableInput: as :func:`read_bytes`, or the path does not exist or cannot be read.
    """
    try:
        if path.is_dir():
            files = _files_of(path)
            digest = b"".join(name.encode("utf-8", "surrogateescape") + b"\0" + content for name, content in files.items())
            return _from_files(files, digest, f"“{path}”", syntax)
        _refuse_device(path)
        if path.stat().st_size > LARGEST_INPUT:
            raise UnusableInput(
                f"“{path}” is {_megabytes(path.stat().st_size)}; the largest that can be taken in is {_megabytes(LARGEST_INPUT)}."
            )
        message = read_bytes(path.read_bytes(), path.name, syntax=syntax)
    except FileNotFoundError:
        raise UnusableInput(f"“{path}” does not exist.") from None
    except OSError as fault:
        raise UnusableInput(f"“{path}” cannot be read: {fault.strerror}.") from fault
    return _with_neighbours(message, path) if message.form == "html" else message


def _files_of(folder: Path) -> dict[str, bytes]:
    """The files of a folder by name. Sizes are added up before anything is read; links, devices and pipes are left out."""
    found = [
        (name, file)
        for file in sorted(folder.rglob("*"))
        if file.is_file() and not file.is_symlink() and not is_clutter(name := file.relative_to(folder).as_posix())
    ]
    octets = sum(file.stat().st_size for _, file in found)
    if octets > LARGEST_UNPACKED:
        raise UnusableInput(f"“{folder}” holds {_megabytes(octets)}; the largest that can be taken in is {_megabytes(LARGEST_UNPACKED)}.")
    return {name: file.read_bytes() for name, file in found}


def _refuse_device(path: Path) -> None:
    """A device or a pipe has no end that can be known."""
    if path.exists() and not path.is_file():
        raise UnusableInput(f"“{path}” is neither a file nor a folder.")


def with_envelope(message: Message, envelope: Envelope) -> Message:
    """The message with subject, sender and reply address as a person gave them; other headers stay."""
    from email.utils import formataddr

    def one_line(text: str) -> str:
        return " ".join(text.split())

    sender = one_line(envelope.sender_address)
    name = one_line(envelope.sender_name)
    given = {
        "Subject": one_line(envelope.subject),
        "From": formataddr((name, sender)) if name.isascii() and sender.isascii() else f'"{name}" <{sender}>' if sender else "",
        "Reply-To": one_line(envelope.reply_address),
    }
    kept = [header for header in message.headers if header.name.title() not in given]
    added = [Header(key, value, value, None) for key, value in given.items() if value]
    return replace(
        message,
        headers=tuple(kept + added),
        envelope_known=True,
        given_preview_text=one_line(envelope.preview_text),
        variants=tuple(one_line(variant) for variant in envelope.subject_variants),
    )


def _from_mail(data: bytes, shown: str, syntax: Syntax) -> Message:
    start = data.lstrip(b"\xef\xbb\xbf\r\n")
    lines = start[:20_000].splitlines()[:20]
    if start[:512].count(0) * 4 > len(start[:512]) or not any(_HEADER_LINE.match(line) or line.startswith(b"From ") for line in lines):
        raise UnusableInput(f"{shown} is not a mail, an HTML file or a zip: it does not start with mail headers such as “Subject:”.")
    pieces = read_mime(start)
    return Message(
        hashlib.sha256(data).hexdigest(),
        "eml",
        envelope_known=True,
        header_source=pieces.header_source,
        headers=pieces.headers,
        html=pieces.html,
        text=pieces.text,
        images=pieces.images,
        attachments=pieces.attachments,
        defects=pieces.defects,
        octets=len(data),
        root=pieces.root,
        syntax=syntax,
    )


def _from_files(files: dict[str, bytes], raw: bytes, shown: str, syntax: Syntax) -> Message:
    pages = [name for name in files if HTML_NAME.search(name)]
    if not pages:
        raise UnusableInput(f"{shown} holds no HTML file.")
    if len(pages) > 1:
        raise UnusableInput(f"{shown} holds {len(pages)} HTML files ({', '.join(sorted(pages)[:3])}); a package has one.")
    page, folder = files[pages[0]], posixpath.dirname(pages[0])
    html = replace(text_part(page, None, is_html=True), declared_charset=document_charset(page))
    defect = charset_defect(html, None)
    defects = [defect] if defect else []
    notes = [name for name in files if name.lower().endswith(".txt")]
    plain = None
    if len(notes) == 1:
        # A file says nothing of its charset: UTF-8 where it fits, else windows-1252.
        plain = text_part(files[notes[0]], None, is_html=False)
    images = []
    for name, data in files.items():
        content_type = mimetypes.guess_type(name)[0] or "application/octet-stream"
        if content_type.startswith("image/"):
            images.append(Resource(posixpath.relpath(name, folder or "."), content_type, None, data))
        elif name not in pages and name not in notes:
            defects.append(Defect("not-used", f"“{name}” is in the package but is not a picture; it does not travel with the message."))
    form: Literal["html", "package"] = "html" if list(files) == ["message.html"] else "package"
    return Message(
        hashlib.sha256(raw).hexdigest(),
        form,
        envelope_known=False,
        header_source=SourceText(""),
        headers=(),
        html=html,
        text=plain,
        images=tuple(images),
        attachments=(),
        defects=tuple(defects),
        octets=len(raw),
        syntax=syntax,
    )


def _with_neighbours(message: Message, path: Path) -> Message:
    folder = path.parent.resolve()
    images: dict[str, Resource] = {}
    for reference in image_references(message):
        key = resource_key(reference.value)
        if not reference.is_local or not key or key in images:
            continue
        found = (folder / key).resolve()
        if found.is_relative_to(folder) and found.is_file() and found.stat().st_size <= LARGEST_INPUT:
            content_type = mimetypes.guess_type(found.name)[0] or "application/octet-stream"
            images[key] = Resource(key, content_type, None, found.read_bytes())
    return replace(message, images=tuple(images.values())) if images else message


def unzipped(data: bytes, shown: str) -> dict[str, bytes]:
    """Files of a zip by name, with every limit kept while unpacking, not only by what its directory says.

    Raises:
        UnusableInput: it is no zip, is locked, or passes a limit.
    """
    files: dict[str, bytes] = {}
    total = 0
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = archive.infolist()
            if len(entries) > MOST_ENTRIES:
                raise UnusableInput(f"{shown} holds {len(entries):,} files; the most that can be taken in is {MOST_ENTRIES:,}.")
            for entry in entries:
                name = entry.filename.replace("\\", "/")
                if (
                    name.startswith("/")
                    or ".." in name.split("/")
                    or re.match(r"[A-Za-z]:", name)
                    or stat.S_ISLNK(entry.external_attr >> 16)
                ):
                    raise UnusableInput(f"{shown} has a file that points outside of it: “{entry.filename}”.")
                if entry.is_dir() or is_clutter(name):
                    continue
                if entry.flag_bits & 1:
                    raise UnusableInput(f"{shown} is locked with a password: “{entry.filename}”.")
                with archive.open(entry) as stream:
                    content = stream.read(LARGEST_UNPACKED - total + 1)
                total += len(content)
                if total > LARGEST_UNPACKED or (len(content) > 1024 * 1024 and len(content) > LARGEST_RATIO * max(entry.compress_size, 1)):
                    raise UnusableInput(f"{shown} unpacks to far more than it holds (“{entry.filename}”); it was not opened further.")
                files[name] = content
    except UnusableInput:
        raise
    except _BROKEN_ZIP as fault:
        raise UnusableInput(f"{shown} is a broken zip: {fault}.") from fault
    return files


def is_clutter(name: str) -> bool:
    """Whether a file of a zip or a folder is one that systems leave behind, and nobody brought."""
    return name.startswith("__MACOSX/") or any(part.startswith(".") for part in name.split("/")) or name.endswith("Thumbs.db")


def _megabytes(octets: int) -> str:
    return f"{octets / 1024 / 1024:.0f} MB"
