"""A message with lighter pictures in the place of its own; every other octet stays as it is."""

from __future__ import annotations

import base64
import hashlib
import io
import posixpath
import re
import zipfile
from collections.abc import Iterator, Mapping
from urllib.parse import quote

from jetwind.core.images.collecting import Picture, pictures_of
from jetwind.core.images.handing_out import ENDINGS
from jetwind.core.images.lighter import Candidate
from jetwind.core.message import Message
from jetwind.core.message.charsets import encode_octets
from jetwind.core.message.parts import MimePart
from jetwind.core.source import Span

_STAMP = (1980, 1, 1, 0, 0, 0)


def can_take(message: Message, picture: Picture) -> bool:
    """Whether a lighter file can be put in the place of a picture: one that travels along, or stands in HTML that is no mail."""
    return picture.where == "along" or (picture.where == "inside" and message.root is None)


def with_lighter(message: Message, chosen: Mapping[str, Candidate]) -> tuple[bytes, list[str]]:
    """The file of a message with a lighter file for each picture in ``chosen``, by its key; and the names of those that were put in.

    A mail gets the parts of these pictures replaced and keeps its references (``cid:``). HTML and packages become a zip; where a picture
    gets another ending, its references in the HTML get it, too. A picture whose references cannot be followed stays as it is.
    """
    if message.root is not None:
        return _in_mail(message, message.root, chosen)
    return _in_package(message, chosen)


def _in_mail(message: Message, root: MimePart, chosen: Mapping[str, Candidate]) -> tuple[bytes, list[str]]:
    source = root.to_bytes()
    placed: list[str] = []
    pieces: list[bytes] = []
    at = 0
    for part, octets in lighter_parts(root, chosen):
        pieces += [source[at : part.offset], octets]
        at = part.body_span.end
        placed.append(part.file_name or part.field_body("Content-ID").strip("<> "))
    return b"".join((*pieces, source[at:])), placed


def lighter_parts(root: MimePart, chosen: Mapping[str, Candidate]) -> Iterator[tuple[MimePart, bytes]]:
    """The parts of a mail that get a lighter file, each with its new octets, head and body, in the order of the mail."""
    newline = b"\r\n" if b"\r\n" in root.to_bytes() else b"\n"
    for part in root.leaves:
        candidate = chosen.get(hashlib.sha256(part.data).hexdigest()) if part.content_type.startswith("image/") else None
        # A mail that is nothing but a picture has no references; its header is the message's own.
        if candidate is not None and part is not root:
            yield part, _part(part, candidate, newline)


def _part(part: MimePart, candidate: Candidate, newline: bytes) -> bytes:
    """The part of a picture with another file: its other header fields stay."""
    name = part.file_name
    made = _renamed(name, candidate) if name else ""
    head = [f"Content-Type: {_type(candidate)}".encode(), b"Content-Transfer-Encoding: base64"]
    for field in part.fields:
        lower = field.name.lower()
        if lower in ("content-type", "content-transfer-encoding", "content-length", "content-md5"):
            continue
        octets = field.octets.rstrip(b"\r\n")
        if lower == "content-disposition" and made and made != name:
            kind = part.disposition or "inline"
            octets = f"Content-Disposition: {kind}; {_file_name(made)}".encode("ascii")
        head.append(octets)
    body = base64.encodebytes(candidate.data).rstrip(b"\n").replace(b"\n", newline)
    return newline.join(head) + newline + newline + body


def _file_name(name: str) -> str:
    """The name as a parameter (RFC 2183 §2.3; RFC 2231 §4 beyond ASCII): a stranger's name must not end the field, nor its quotes."""
    safe = re.sub(r"[\x00-\x1f\x7f\"\\]", "-", name)[-_LONGEST_NAME:]
    return f'filename="{safe}"' if safe.isascii() else f"filename*=UTF-8''{quote(safe.encode('utf-8', 'replace'), safe='')}"


#: Characters of a file name; file systems take no more octets.
_LONGEST_NAME = 255


def _in_package(message: Message, chosen: Mapping[str, Candidate]) -> tuple[bytes, list[str]]:
    assert message.html is not None
    html = message.html.text
    taken = {resource.name.lower() for resource in (*message.images, *message.attachments)}
    edits: dict[Span, str] = {}
    files: dict[str, Candidate] = {}
    names: dict[str, str] = {}
    for picture in pictures_of(message):
        candidate = chosen.get(picture.key)
        if candidate is None or not can_take(message, picture):
            continue
        inside = picture.where == "inside"
        name = picture.name if inside else _renamed(picture.name, candidate)
        own = {} if name == picture.name and not inside else _references(html, edits, picture, name, candidate)
        if own is None or (name != picture.name and name.lower() in taken):
            continue
        edits |= own
        taken.add(name.lower())
        if not inside:
            files[picture.key] = candidate
        names[picture.key] = name
    for span in sorted(edits, key=lambda span: span.start, reverse=True):
        html = html[: span.start] + edits[span] + html[span.end :]
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr(zipfile.ZipInfo("message.html", _STAMP), encode_octets(html, message.html.charset, for_html=True))
        if message.text is not None:
            packed.writestr(zipfile.ZipInfo("message.txt", _STAMP), message.text.text.encode())
        for resource in (*message.images, *message.attachments):
            made = files.get(resource.sha256)
            packed.writestr(
                zipfile.ZipInfo(names[resource.sha256] if made else resource.name, _STAMP), made.data if made else resource.data
            )
    return out.getvalue(), list(names.values())


def _references(html: str, edits: Mapping[Span, str], picture: Picture, name: str, candidate: Candidate) -> dict[Span, str] | None:
    """The edits of the references of a picture in the source; None where one of them is written in a way that cannot be followed.

    One attribute may name several pictures (srcset): ``edits`` are those that were made before, and are edited further.
    """
    found: dict[Span, str] = {}
    old, new = posixpath.basename(picture.name), posixpath.basename(name)
    for use in picture.uses:
        written = found.get(use.span, edits.get(use.span, html[use.span.start : use.span.end]))
        if picture.where == "inside":
            if use.way == "candidate":
                return None
            found[use.span] = f"data:{_type(candidate)};base64,{base64.b64encode(candidate.data).decode()}"
        elif old in written or (use.span in found and new in written):
            found[use.span] = re.sub(rf"(?<![\w.-]){re.escape(old)}(?![\w.-])", lambda _: new, written)
        else:
            return None
    return found


def _renamed(name: str, candidate: Candidate) -> str:
    """The name with the ending of the new format; the same where the format is."""
    stem, ending = posixpath.splitext(name)
    wanted = ENDINGS[candidate.format]
    same = {".jpg": (".jpg", ".jpeg", ".jpe")}.get(wanted, (wanted,))
    return name if ending.lower() in same else f"{stem}{wanted}"


def _type(candidate: Candidate) -> str:
    return f"image/{candidate.format.lower()}"
