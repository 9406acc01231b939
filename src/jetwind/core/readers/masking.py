"""Names and addresses that stand for real ones: the same for the same, of the same shape, and not to be led back."""

from __future__ import annotations

import hashlib
import hmac
import re
from collections.abc import Iterator

from jetwind.core.message import Sample

#: Names of fields that tell who somebody is (common practice, no published source).
_PERSONAL = re.compile(
    r"(?:^|[_.\-\s])(?:name|surname|nickname|e?mail|phone|mobile|fax|street|address|birthday|birthdate|note)(?:$|[_.\-\s0-9])"
)
#: An address is masked before the @; behind it stands a name that nobody can own (RFC 2606 §2).
_DOMAIN = "masked.example"


def masked(reader: Sample, key: bytes) -> Sample:
    """A reader whose name, address and personal fields are masked; the others stay, since what is shown may hang on them."""
    values = {name: _value(value, key) if _PERSONAL.search(name.lower()) else value for name, value in reader.values.items()}
    return Sample(_value(reader.name, key), values)


def _value(value: str, key: bytes) -> str:
    local, at, domain = value.rpartition("@")
    if at and local and "." in domain and not re.search(r"\s", value):
        return f"{_letters(local, key)}@{_DOMAIN}"
    return _letters(value, key)


def _letters(value: str, key: bytes) -> str:
    """Letters for letters of the same kind and alphabet, digits for digits; everything else, and so the length, stays."""
    stream = _numbers(value, key)
    return "".join(_other(char, next(stream)) if char.isalnum() else char for char in value)


def _other(char: str, number: int) -> str:
    if char.isdigit():
        return str(number % 10) if char.isascii() else char
    if not char.isalpha():
        return char  # a numeral of its own, as Han has them
    # Alphabets stand in rows of 32 or more; of a row, what is of the same kind as the character itself.
    row = [chr(code) for code in range(ord(char) & ~31, (ord(char) & ~31) + 32)]
    alike = [other for other in row if _kind(other) == _kind(char)]
    return alike[number % len(alike)] if alike else char


def _kind(char: str) -> tuple[bool, bool, bool, bool]:
    return char.isupper(), char.islower(), char.isalpha(), char.isdigit()


def _numbers(value: str, key: bytes) -> Iterator[int]:
    """Numbers that follow from key and value alone (HMAC, RFC 2104)."""
    block = 0
    while True:
        yield from hmac.new(key, f"{block} {value}".encode("utf-8", "replace"), hashlib.sha256).digest()
        block += 1
