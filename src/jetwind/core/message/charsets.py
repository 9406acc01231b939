"""Charset labels and decoding as the web does it (WHATWG Encoding Standard, §4 to §13).

Labels come from the package webencodings, which carries the standard's table. Octets are decoded by Python's codecs, with what
they leave out of the standard's indexes put in by an error handler. A label that the standard does not have decodes nothing.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable
from dataclasses import dataclass

import webencodings

#: Windows code pages: an octet without a character is the C1 control of its number (Encoding Standard, index of each).
_CONTROLS = range(0x80, 0xA0)
_JIS = str.maketrans("〜‖−¢£¬", "～∥－￠￡￢")
#: Characters that the standard's indexes have in the place of those of Python's codecs.
_OTHERWISE = {"koi8-u": str.maketrans("╝╬", "ўЎ"), "euc-jp": _JIS, "iso-2022-jp": _JIS}
_ESCAPE = re.compile(rb"\x1b(\$[@B]|\([BIJ])")


@dataclass(frozen=True, slots=True)
class Decoded:
    """Text of octets: ``faults`` counts U+FFFD put in for octets that are no character, ``first`` is the offset of the first."""

    text: str
    faults: int = 0
    first: int | None = None


def encoding_of(label: str | None) -> str | None:
    """The standard's name of an encoding for a label, such as ``windows-1252`` for ``latin1``; None for a label it does not have."""
    found = webencodings.lookup((label or "").replace("\0", ""))
    return str(found.name) if found is not None else None


def decode_octets(data: bytes, encoding: str) -> Decoded:
    """Octets read in an encoding of the standard. Never raises: what is no character is U+FFFD at its place.

    Raises:
        LookupError: the standard has no encoding of that name.
    """
    if encoding == "replacement":
        # §14.1.1: such encodings are not read at all, since they hide ASCII from filters.
        return Decoded("\ufffd", 1, 0) if data else Decoded("")
    if data.isascii() and encoding not in ("utf-16le", "utf-16be", "iso-2022-jp"):
        return Decoded(data.decode("ascii"))
    if encoding == "x-user-defined":
        return Decoded("".join(chr(octet if octet < 0x80 else octet + 0xF700) for octet in data))  # §14.5
    if encoding == "iso-2022-jp":
        text = _iso_2022_jp(data)
        return Decoded(text, text.count("\ufffd"), None if "\ufffd" not in text else text.index("\ufffd"))
    codec, handler = _codec(encoding)
    try:
        return Decoded(_adjusted(data.decode(codec), encoding))
    except UnicodeDecodeError as fault:
        text = data.decode(codec, handler)
        before = data[: fault.start].decode(codec, handler)
    faults = text.count("\ufffd")
    first = text.find("\ufffd", max(0, len(before) - 1)) if faults else -1
    return Decoded(_adjusted(text, encoding), faults, first if first >= 0 else None)


def encode_octets(text: str, encoding: str, *, for_html: bool = False) -> bytes:
    """The octets of a text in an encoding of the standard; a character that it lacks is a question mark, or a reference in HTML."""
    return text.encode(
        "utf-8" if encoding in ("replacement", "x-user-defined") else _codec(encoding)[0], "xmlcharrefreplace" if for_html else "replace"
    )


def _codec(encoding: str) -> tuple[str, str]:
    """Python's codec for an encoding of the standard, and the error handler that completes it."""
    if encoding == "gbk":
        return "gb18030", "jetwind.gbk"  # §10.1.1: gbk's decoder is gb18030's
    if encoding == "euc-jp":
        return "euc_jp", "jetwind.euc-jp"
    found = webencodings.lookup(encoding)
    if found is None:
        raise LookupError(encoding)
    handler = (
        "jetwind.windows-1255" if encoding == "windows-1255" else "jetwind.windows" if encoding.startswith("windows-") else "jetwind.web"
    )
    return str(found.codec_info.name), handler


def _iso_2022_jp(data: bytes) -> str:
    """§12.2: stretches of ASCII, of JIS X 0208 and of half-width letters, told apart by escape sequences."""
    pieces: list[str] = []
    mode, at = b"(B", 0
    for match in [*_ESCAPE.finditer(data), None]:
        stretch = data[at : match.start() if match else len(data)]
        if mode in (b"$@", b"$B"):
            pairs = bytes(octet | 0x80 if 0x21 <= octet <= 0x7E else octet for octet in stretch)
            pieces.append(_adjusted(pairs.decode("euc_jp", "jetwind.euc-jp"), "iso-2022-jp"))
        elif mode == b"(I":
            pieces.append(bytes(octet | 0x80 if 0x21 <= octet <= 0x5F else octet for octet in stretch).decode("cp932", "replace"))
        else:
            pieces.append(stretch.decode("ascii", "replace"))
        if match:
            mode, at = match[1], match.end()
    return "".join(pieces)


def _adjusted(text: str, encoding: str) -> str:
    table = _OTHERWISE.get(encoding)
    return text.translate(table) if table else text


def _replaced(fault: UnicodeError) -> tuple[str, int]:
    """U+FFFD for one broken sequence; an ASCII octet is never taken along (§4.1, "prepend")."""
    if not isinstance(fault, UnicodeDecodeError):
        raise fault
    end = fault.start + 1
    while end < fault.end and fault.object[end] >= 0x80:
        end += 1
    return "\ufffd", end


def _completed(added: dict[int, str]) -> Callable[[UnicodeError], tuple[str, int]]:
    """A handler that knows some octets more than the codec."""

    def handler(fault: UnicodeError) -> tuple[str, int]:
        if isinstance(fault, UnicodeDecodeError) and (char := added.get(fault.object[fault.start])) is not None:
            return char, fault.start + 1
        return _replaced(fault)

    return handler


def _euc_jp(fault: UnicodeError) -> tuple[str, int]:
    if isinstance(fault, UnicodeDecodeError) and (char := _nec_row(fault.object, fault.start)):
        return char, fault.start + 2
    return _replaced(fault)


def _nec_row(data: bytes, at: int) -> str:
    """A character of the rows that NEC and IBM added to JIS X 0208: the standard's index has them, Python's EUC-JP has not."""
    lead, trail = data[at], data[at + 1] if at + 1 < len(data) else 0
    if not (0xA1 <= lead <= 0xFE and 0xA1 <= trail <= 0xFE):
        return ""
    row, cell = lead - 0xA1, trail - 0xA1
    first = row // 2 + (0x81 if row < 62 else 0xC1)
    second = (cell + (0x40 if cell < 63 else 0x41)) if row % 2 == 0 else cell + 0x9F
    try:
        return bytes((first, second)).decode("cp932")
    except UnicodeDecodeError:
        return ""


_CONTROL = {octet: chr(octet) for octet in _CONTROLS}
codecs.register_error("jetwind.web", _replaced)
codecs.register_error("jetwind.windows", _completed(_CONTROL))
codecs.register_error("jetwind.windows-1255", _completed({**_CONTROL, 0xCA: "\u05ba"}))
codecs.register_error("jetwind.gbk", _completed({0x80: "€"}))
codecs.register_error("jetwind.euc-jp", _euc_jp)
