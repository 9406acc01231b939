"""vCard 4.0 (RFC 6350): cards read into fields of messages, and written from them.

Properties with a field of the same meaning have it (``_PROPERTIES``, and the parts of N and ADR); any other field is written as
``X-FIELD`` with its name as a parameter. Cards of versions 2.1 and 3.0 are read as far as their lines have the same form; of 2.1,
values in quoted-printable too, whose lines may go on after a soft line break (vCard 2.1 §2.1.3; from memory).
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from jetwind.core.errors import Unusable
from jetwind.core.message.mime import text_part

#: Octets of a line without its end, after which it is folded (§3.2).
LONGEST_LINE = 75
_PROPERTIES = {
    "EMAIL": "email",
    "TZ": "time_zone",
    "TEL": "phone",
    "ORG": "company",
    "TITLE": "job_title",
    "BDAY": "birthday",
    "NICKNAME": "nickname",
    "LANG": "language",
    "URL": "web_site",
    "NOTE": "note",
}
#: Components of N (§6.2.2) and ADR (§6.3.1) that have a field of their own, in their order.
_PARTS = {
    "N": ("last_name", "first_name", "middle_name", "prefix", "suffix"),
    "ADR": ("post_office_box", "address_addition", "street", "city", "region", "postal_code", "country"),
}
_FIELDS = {name: prop for prop, name in _PROPERTIES.items()}
_LINE = re.compile(r"(?:[A-Za-z0-9-]+\.)?(?P<name>[A-Za-z0-9-]+)(?P<parameters>(?:;(?:\"[^\"]*\"|[^\":;])*)*):(?P<value>.*)", re.DOTALL)
_QUOTED = re.compile(r";(?:ENCODING=)?QUOTED-PRINTABLE(?=;|\Z)", re.IGNORECASE)
_CHARSET = re.compile(r";CHARSET=\"?([\w.:-]+)", re.IGNORECASE)
_ESCAPE = re.compile(r"\\(.)", re.DOTALL)


class BrokenCard(Unusable):
    """A card that does not end, or a line that is no property; the text says which."""


@dataclass(slots=True)
class Card:
    """A name to show and fields with their values."""

    name: str
    values: dict[str, str] = field(default_factory=dict)


def read(text: str) -> list[Card]:
    """The cards of a file. Properties without a field are passed over; of one that stands twice, the first counts.

    Raises:
        BrokenCard: a line is no property, or a card does not begin or end.
    """
    cards: list[Card] = []
    card: Card | None = None
    for number, line in _unfolded(text):
        if not line.strip():
            continue
        match = _LINE.fullmatch(line)
        if match is None:
            raise BrokenCard(f"line {number} is no property of a card: {line[:40]!r}")
        name, value = match["name"].upper(), match["value"]
        if name == "BEGIN":
            if card is not None:
                raise BrokenCard(f"line {number} begins a card inside another")
            card = Card("")
        elif card is None:
            raise BrokenCard(f"line {number} stands outside a card")
        elif name == "END":
            cards.append(card)
            card = None
        else:
            _take(card, name, match["parameters"], value)
    if card is not None:
        raise BrokenCard("the last card does not end")
    return cards


def _take(card: Card, name: str, parameters: str, value: str) -> None:
    quoted = _QUOTED.search(parameters)
    if quoted is not None and name not in _PARTS:
        value = _unquoted(value, parameters)
    if name == "FN":
        card.name = card.name or _plain(value)
    elif name in _PARTS:
        for own, part in zip(_PARTS[name], _split(value), strict=False):
            if part:
                card.values.setdefault(own, _unquoted(part, parameters) if quoted is not None else part)
    elif name == "X-FIELD":
        named = re.search(r";X-NAME=(?:\"([^\"]*)\"|([^;]*))", parameters, re.IGNORECASE)
        if named is not None:
            card.values.setdefault(_parameter_read(named[1] if named[1] is not None else named[2]), _plain(value))
    elif name in _PROPERTIES:
        text = _plain(value)
        # An address or a number may be written as a URI (§6.4.1 and §6.4.2).
        card.values.setdefault(_PROPERTIES[name], re.sub(r"\A(?:tel|mailto):", "", text, flags=re.IGNORECASE))


def _unfolded(text: str) -> Iterator[tuple[int, str]]:
    """Lines with their folds taken out (§3.2), each with the number of its first."""
    start, pieces = 1, [""]
    goes_on = False
    for number, line in enumerate(re.split(r"\r\n|\n|\r", text), 1):
        if goes_on and line.strip().upper() != "END:VCARD":
            pieces[-1] = pieces[-1].rstrip(" \t")[:-1]
            pieces.append(line)
            goes_on = line.rstrip(" \t").endswith("=")
            continue
        if line[:1] in (" ", "\t"):
            pieces.append(line[1:])
            continue
        goes_on = line.rstrip(" \t").endswith("=") and _QUOTED.search(line.partition(":")[0]) is not None
        yield start, "".join(pieces)
        start, pieces = number, [line]
    yield start, "".join(pieces)


def _unquoted(value: str, parameters: str) -> str:
    """A value read from quoted-printable in the charset that its parameters name; else UTF-8 where it is that, or windows-1252."""
    octets = binascii.a2b_qp(value.encode("utf-8", "surrogateescape"))
    named = _CHARSET.search(parameters)
    return text_part(octets, named[1] if named is not None else None, is_html=False).text


def _plain(value: str) -> str:
    """A text with its escapes read (§3.4)."""
    return _ESCAPE.sub(lambda match: "\n" if match[1] in "nN" else match[1], value)


def _split(value: str) -> list[str]:
    """The components of a structured value, each as a text."""
    parts, start = [], 0
    for match in re.finditer(r"\\.|;", value, re.DOTALL):
        if match[0] == ";":
            parts.append(value[start : match.start()])
            start = match.end()
    return [_plain(part) for part in (*parts, value[start:])]


def written(card: Card) -> str:
    """A card with its lines folded, each ended by CRLF (§3.2, §3.3)."""
    values = dict(card.values)
    lines = ["BEGIN:VCARD", "VERSION:4.0", f"FN:{_escaped(card.name)}"]
    for name, fields in _PARTS.items():
        parts = [values.pop(own) if values.get(own) else "" for own in fields]
        if any(parts) or name == "N":
            lines.append(f"{name}:{';'.join(_escaped(part) for part in parts)}")
    for own, value in values.items():
        # A value that would be read as a URI's, or an empty one, which some readers drop, keeps its own line.
        is_usual = own in _FIELDS and value and not re.match(r"(?:tel|mailto):", value, re.IGNORECASE)
        lines.append(f"{_FIELDS[own]}:{_escaped(value)}" if is_usual else f'X-FIELD;X-NAME="{_parameter(own)}":{_escaped(value)}')
    lines.append("END:VCARD")
    return "".join(_folded(line) for line in lines)


def _escaped(value: str) -> str:
    value = re.sub(r"\r\n|\r", "\n", value)
    return re.sub(r"[\\,;]", lambda match: "\\" + match[0], value).replace("\n", "\\n")


def _parameter(name: str) -> str:
    """A parameter's value (RFC 6868): a caret, a quote and a line end in it are written with a caret."""
    return name.replace("^", "^^").replace('"', "^'").replace("\r\n", "^n").replace("\n", "^n").replace("\r", "^n")


def _parameter_read(written_name: str) -> str:
    return re.sub(r"\^([n'^])", lambda match: {"n": "\n", "'": '"', "^": "^"}[match[1]], written_name)


def _folded(line: str) -> str:
    """The line cut after at most 75 octets, never inside a character."""
    pieces, piece, size = [], "", 0
    for char in line:
        octets = len(char.encode("utf-8", "replace"))
        if size + octets > LONGEST_LINE:
            pieces.append(piece)
            piece, size = " ", 1
        piece, size = piece + char, size + octets
    return "\r\n".join([*pieces, piece]) + "\r\n"
