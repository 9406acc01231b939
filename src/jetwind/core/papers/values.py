"""The questions about a sender, and the answers: plain values that go into a database and back."""

from __future__ import annotations

import dataclasses
import hashlib
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from jetwind.core.message import Message
from jetwind.core.source.plain import read

SpfResult = Literal["none", "neutral", "pass", "fail", "softfail", "temperror", "permerror"]


@dataclass(frozen=True, slots=True)
class Signing:
    """The workspace's word on who will sign and send its mail; empty where it does not say. ``return_path`` is the domain that bounces go to."""

    domain: str = ""
    selector: str = ""
    host: str = ""
    return_path: str = ""


@dataclass(frozen=True, slots=True)
class Lookup:
    """One question to a name server. ``answer`` are the records as text, none where there are none; ``failed`` says why nobody answered.

    ``depth`` is how deep in included records it was asked; ``count`` is its number among those that RFC 7208 §4.6.4 counts, 0 for the others.
    """

    name: str
    type: str
    answer: tuple[str, ...] = ()
    failed: str = ""
    took_ms: float = 0.0
    depth: int = 0
    count: int = 0


@dataclass(frozen=True, slots=True)
class Spf:
    """Whether a host may send for a domain (RFC 7208). ``host`` is empty where none was named: then ``result`` says nothing but none and permerror.

    ``counted`` is how many look-ups the whole record asks for; ``why`` is the evaluator's word for an error.
    """

    domain: str
    host: str
    result: SpfResult
    record: str = ""
    why: str = ""
    counted: int = 0
    identity: Literal["return path", "From"] = "From"
    lookups: tuple[Lookup, ...] = ()


@dataclass(frozen=True, slots=True)
class Dkim:
    """One signature (RFC 6376, 8463). ``covers`` are the header names it signs, in small letters; ``number`` counts them from the top, from 0.

    ``result`` is ``planned`` for a signature that the sending system will make: of it only the key's record was asked.
    ``remarks`` are ends of sentences that say why it counts in part though it holds.
    """

    domain: str
    selector: str
    result: Literal["pass", "fail", "temperror", "planned"]
    why: str = ""
    algorithm: str = ""
    bits: int = 0
    covers: tuple[str, ...] = ()
    number: int = 0
    lookups: tuple[Lookup, ...] = ()
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Dmarc:
    """The policy of the domain of From (RFC 7489). ``found_at`` is the name its record stands at, empty where there is none.

    Of several domains in From it is the one with the strictest policy among those that nobody vouches for (§6.6.1).

    ``aligned`` names what passes and is aligned: ``SPF``, ``DKIM``; ``why`` is what is wrong with the record.
    """

    domain: str
    organisation: str
    found_at: str = ""
    record: str = ""
    policy: str = ""
    share: int = 100
    why: str = ""
    failed: bool = False
    aligned: tuple[str, ...] = ()
    lookups: tuple[Lookup, ...] = ()


@dataclass(frozen=True, slots=True)
class Bimi:
    """The record that names a picture beside the sender (draft-brand-indicators-for-message-identification, from memory)."""

    domain: str
    record: str = ""
    picture: str = ""
    why: str = ""
    failed: bool = False
    lookups: tuple[Lookup, ...] = ()


@dataclass(frozen=True, slots=True)
class Papers:
    """Everything that was asked. ``is_planned``: the message has no signature yet, and this is what the sending system was said to make."""

    domain: str
    source: str
    spf: Spf | None = None
    dkim: tuple[Dkim, ...] = ()
    dmarc: Dmarc | None = None
    bimi: Bimi | None = None
    is_planned: bool = False

    def as_json(self) -> dict[str, object]:
        """The papers as plain values."""
        return dataclasses.asdict(self)

    @property
    def key(self) -> str:
        """One value for what was found; how long it took to ask plays no part."""
        return hashlib.sha256(re.sub(r"took_ms=[\d.e+-]+", "", repr(self)).encode("utf-8", "surrogatepass")).hexdigest()

    @classmethod
    def from_json(cls, kept: Mapping[str, object]) -> Papers:
        """The papers that ``as_json`` gave."""
        return read(kept, cls)


_NAME = re.compile(r"[^\W_](?:[\w-]{0,61}\w)?(?:\.[^\W_](?:[\w-]{0,61}\w)?){1,20}")


def sender_domain(message: Message) -> str:
    """The domain of the first mailbox of From in small letters; empty where there is none, or a field stands in it."""
    return next(iter(sender_domains(message)), "")


def sender_domains(message: Message) -> tuple[str, ...]:
    """The domains of all mailboxes of From in small letters, each once; without those in which a field stands."""
    found: list[str] = []
    for box in message.mailboxes("From"):
        domain = box.address.rpartition("@")[2].strip().rstrip(".").lower()
        # Of a field in its place the parser of addresses may leave only the first marks.
        if domain not in found and _NAME.fullmatch(domain) and not message.holds_field(box.address):
            found.append(domain)
    return tuple(found)


#: Headers that a mail gets on its way, or from the program that sends it. Common practice, no published source.
_ON_THE_WAY = ("DKIM-Signature", "Received", "Return-Path", "Delivered-To", "Authentication-Results", "ARC-Seal")


def is_as_sent(message: Message) -> bool:
    """Whether a mail is one that was sent, and not a template of one."""
    if message.form != "eml":
        return False
    return any(message.header(name) for name in _ON_THE_WAY) or bool(message.header("Message-ID") and message.header("Date"))
