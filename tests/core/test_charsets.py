"""Text is decoded as the web decodes it (WHATWG Encoding Standard).

Indexes: npm text-encoding 0.7.0, ``lib/encoding-indexes.js``, which is the standard's indexes as JavaScript (its code Unlicense or
Apache-2.0; only the table is read). Labels: the table that PyPI webencodings carries, against the ones named in the standard §4.2
(from memory).
"""

from __future__ import annotations

import json
from functools import lru_cache
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.checking import Outcome, registry, run_check
from jetwind.core.checking.context import Context
from jetwind.core.message import read_bytes
from jetwind.core.message.charsets import decode_octets, encoding_of
from jetwind.core.message.mime import charset_defect, text_part
from jetwind.engines.dictionaries import Installed
from tests.references import npm


@lru_cache
def indexes() -> dict[str, list[Any]]:
    """The standard's indexes by name."""
    source = (npm("text-encoding", "0.7.0") / "lib" / "encoding-indexes.js").read_text()
    found: dict[str, list[Any]] = json.JSONDecoder().raw_decode(source[source.index('{\n  "big5"') :])[0]
    return found


def pointer_to_octets(encoding: str, index: str, pointer: int) -> bytes | None:
    """The octets that a pointer of an index is written as (Encoding Standard, the encoder of each); None where it has none."""
    row, cell = divmod(pointer, 94)
    if encoding in ("gb18030", "gbk"):
        lead, trail = divmod(pointer, 190)
        return bytes([lead + 0x81, trail + (0x40 if trail < 0x3F else 0x41)])
    if encoding == "big5":
        lead, trail = divmod(pointer, 157)
        return bytes([lead + 0x81, trail + (0x40 if trail < 0x3F else 0x62)])
    if encoding == "euc-kr":
        return bytes([pointer // 190 + 0x81, pointer % 190 + 0x41])
    if encoding == "shift_jis":
        lead, trail = divmod(pointer, 188)
        first = lead + (0x81 if lead < 0x1F else 0xC1)
        return bytes([first, trail + (0x40 if trail < 0x3F else 0x41)]) if first <= 0xFC else None
    if row >= 94:
        return None
    if encoding == "iso-2022-jp":
        return b"\x1b$B" + bytes([row + 0x21, cell + 0x21]) + b"\x1b(B"
    return (b"\x8f" if index == "jis0212" else b"") + bytes([row + 0xA1, cell + 0xA1])


SINGLE = [
    *(f"iso-8859-{number}" for number in (2, 3, 4, 5, 6, 7, 8, 10, 13, 14, 15, 16)),
    *(f"windows-{number}" for number in (874, *range(1250, 1259))),
    "ibm866",
    "koi8-r",
    "koi8-u",
    "macintosh",
    "x-mac-cyrillic",
]


@pytest.mark.parametrize("encoding", SINGLE)
def test_single_octet_indexes(encoding: str) -> None:
    """Each of the 128 upper octets is the index's character, or U+FFFD where it has none."""
    shown = [decode_octets(bytes([128 + number]), encoding).text for number in range(128)]
    assert shown == [chr(point) if point is not None else "\ufffd" for point in indexes()[encoding]]


#: Pointers at which Python's codec has another character or none, by encoding: how many, and why.
DIFFER = {
    ("gb18030", "gb18030"): 2,  # A3A0 is an ideographic space on the web; A8BC moved to U+1E3F in the 2005 edition
    ("gbk", "gb18030"): 2,
    ("big5", "big5"): 203,  # characters of the 2008 edition of HKSCS, which big5hkscs of Python does not have
    ("euc-kr", "euc-kr"): 0,
    ("shift_jis", "jis0208"): 0,
    ("euc-jp", "jis0208"): 0,
    ("iso-2022-jp", "jis0208"): 0,
    ("euc-jp", "jis0212"): 1,  # A2B7, a tilde: full-width on the web
}


@pytest.mark.parametrize(("encoding", "index"), DIFFER)
def test_indexes_of_many_octets(encoding: str, index: str) -> None:
    """Every pointer of the index decodes to its character, save those counted by name."""
    differ = 0
    for pointer, point in enumerate(indexes()[index]):
        octets = pointer_to_octets(encoding, index, pointer) if point is not None else None
        differ += octets is not None and decode_octets(octets, encoding).text != chr(point)
    assert differ == DIFFER[encoding, index]


@pytest.mark.parametrize(
    ("label", "encoding"),
    [
        ("gb2312", "gbk"),
        (" ISO-8859-1 ", "windows-1252"),
        ("us-ascii", "windows-1252"),
        ("latin1", "windows-1252"),
        ("iso-8859-9", "windows-1254"),
        ("ks_c_5601-1987", "euc-kr"),
        ("x-sjis", "shift_jis"),
        ("utf-16", "utf-16le"),
        *((label, None) for label in ("punycode", "idna", "zip", "rot13", "hex", "utf-7", "utf-32", "unicode_escape", "", "\0", "ü")),
        (None, None),
    ],
)
def test_labels(label: str | None, encoding: str | None) -> None:
    """Labels of the standard, and none that only Python knows."""
    assert encoding_of(label) == encoding


@pytest.mark.parametrize(
    ("data", "declared", "text", "used", "has_defect"),
    [
        ("é".encode(), "utf-8", "é", "utf-8", False),
        (b"Gr\xfc\xdfe aus K\xc3\xb6ln", "utf-8", "Gr\ufffd\ufffde aus Köln", "utf-8", True),
        ("é".encode(), None, "é", "utf-8", False),
        (b"caf\xe9", None, "café", "windows-1252", False),
        (b"\x93x\x94", "iso-8859-1", "“x”", "windows-1252", False),
        (b"\xef\xbb\xbfa", "latin-1", "a", "utf-8", False),
        ("日本".encode("shift_jis"), "shift_jis", "日本", "shift_jis", False),
        ("é".encode(), "us-ascii", "Ã©", "windows-1252", True),
        (b"a", "no-such-charset", "a", "utf-8", False),
        ("é".encode(), "punycode", "é", "utf-8", True),
        (b"\xe9", "zip", "é", "windows-1252", True),
        (b"\x81\x8d", "windows-1252", "\x81\x8d", "windows-1252", False),
    ],
)
def test_a_part(data: bytes, declared: str | None, text: str, used: str, has_defect: bool) -> None:
    """What is declared holds for the whole part; one bad octet is one U+FFFD, and one defect."""
    part = text_part(data, declared, is_html=False)
    assert (part.text, part.charset, charset_defect(part, None) is not None) == (text, used, has_defect)


def test_one_fault_one_finding() -> None:
    """A bad octet is told once, by appearance.charset, at its place; the letters are not told again as garbled."""
    raw = b"From: a@kiln.org\nSubject: x\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\n<p>Gr\xfcne \xc3\xb6</p>\n"
    message = read_bytes(raw, "x.eml")
    results = {
        result.check: result for result in (run_check(check, message, Context(dictionaries=Installed())) for check in registry().values())
    }
    (found,) = results["appearance.charset"].findings
    assert message.html is not None
    assert found.place.start is not None
    assert message.html.text[found.place.start.offset] == "\ufffd"
    assert results["wording.mojibake"].outcome is Outcome.CLEAR


@given(
    st.binary(max_size=80), st.sampled_from([*SINGLE, *(pair[0] for pair in DIFFER), "utf-8", "utf-16be", "x-user-defined", "replacement"])
)
def test_never_raises(data: bytes, encoding: str) -> None:
    """Any octets decode in any encoding; the first fault is where the text has its first U+FFFD that the decoder put in."""
    read = decode_octets(data, encoding)
    assert (read.faults > 0) == (read.first is not None)
    if read.first is not None:
        assert read.text[read.first] == "\ufffd"
        assert not any("\ud800" <= char <= "\udfff" for char in read.text)
