"""DKIM signatures verified by dkimpy with a resolver of ours (RFC 6376, 8463)."""

from __future__ import annotations

import logging
import re

import dkim
from nacl.exceptions import CryptoError

from jetwind.core.papers import Dkim
from jetwind.core.papers.dkim import KeyRecord, key_fault, signature_fault, signature_remarks
from jetwind.engines.names.asking import NoAnswer, NotingResolver, Resolver

#: Signatures of one message that are verified.
MOST_SIGNATURES = 8
#: Octets of one signature field: the library's work grows with their square.
MOST_OCTETS = 8_000
#: What the library may raise over octets that nobody made with care.
_ANY = (
    dkim.DKIMException,
    ValueError,
    TypeError,
    LookupError,
    AttributeError,
    ArithmeticError,
    AssertionError,
    RecursionError,
    CryptoError,
)


def verify(asked: NotingResolver, raw: bytes, count: int) -> tuple[Dkim, ...]:
    """Verify the first signatures of a mail; for each, whether it holds, and if not, why."""
    return tuple(_one(asked, raw, number) for number in range(min(count, MOST_SIGNATURES)))


def verified(raw: bytes, resolver: Resolver) -> tuple[Dkim, ...]:
    """The signatures of a mail as its octets have them, verified by the records of a resolver."""
    count = len(_field_sizes(raw))
    return verify(NotingResolver(resolver), raw, count) if count else ()


def _one(asked: NotingResolver, raw: bytes, number: int) -> Dkim:
    sizes = _field_sizes(raw)
    if number < len(sizes) and sizes[number] > MOST_OCTETS:
        return Dkim(
            "", "", "fail", f"the signature has {sizes[number]:,} octets, more than the {MOST_OCTETS:,} that are read", number=number
        )

    keys: list[KeyRecord] = []

    def text_of(name: bytes, timeout: int = 5) -> bytes | None:
        texts = asked.texts(name.decode("ascii", "replace"))
        keys.extend(KeyRecord.of(text) for text in texts[:1])
        return _without_services(texts[0]).encode() if texts else None

    with asked.listing() as lookups:
        log, heard = _listening()
        signature = dkim.DKIM(raw, logger=log, minkey=1024)
        try:
            good = signature.verify(idx=number, dnsfunc=text_of)
            result, why = (
                ("pass", "") if good else ("fail", _said(heard[0]) if heard else "the signature does not fit the headers and the key")
            )
        except NoAnswer as failed:
            result, why = "temperror", str(failed)
        except _ANY as wrong:
            result, why = "fail", _said(wrong)
        fields = signature.signature_fields or {}
        tags = {name.decode("ascii", "replace"): value.decode("ascii", "replace").strip() for name, value in fields.items()}
        # The library verifies the numbers, and does not ask whether such a signature, or such a key, counts.
        if fault := signature_fault(tags) or (key_fault(tags, keys[0]) if keys else ""):
            result, why = "fail", fault
        covers = tuple(
            name.decode("ascii", "replace").strip().lower() for name in re.split(rb"\s*:\s*", fields.get(b"h", b"")) if name.strip()
        )
        return Dkim(
            _text(fields.get(b"d", b"")),
            _text(fields.get(b"s", b"")),
            result=result,  # type: ignore[arg-type]
            why=why,
            algorithm=_text(fields.get(b"a", b"")),
            bits=int(getattr(signature, "keysize", 0) or 0),
            covers=covers,
            number=number,
            lookups=tuple(lookups),
            remarks=signature_remarks(tags, keys[0] if keys else None, len(signature.body)),
        )


def _without_services(record: str) -> str:
    """A key's record without its tag s, of which the library knows one service alone (RFC 6376 §3.6.1); it is judged here."""
    return ";".join(part for part in record.split(";") if part.partition("=")[0].strip() != "s")


def _field_sizes(raw: bytes) -> list[int]:
    """The octets of each signature field of the header, its folded lines included."""
    head = re.split(rb"\r?\n\r?\n", raw[:4_000_000], maxsplit=1)[0]
    return [len(field) for field in re.split(rb"\r?\n(?![ \t])", head) if field[:15].lower() == b"dkim-signature:"]


def _text(value: bytes) -> str:
    return value.decode("ascii", "replace").strip()[:255]


def _listening() -> tuple[logging.Logger, list[str]]:
    """A log for the library, and the lines in it: the library writes faults of a key to the log, and raises no exception for them."""
    heard: list[str] = []

    class Listener(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            heard.append(record.getMessage())

    log = logging.Logger("jetwind.dkim", logging.ERROR)
    log.addHandler(Listener())
    return log, heard


def _said(wrong: BaseException | str) -> str:
    text = " ".join(str(wrong).replace("b'", "'").split())[:200]
    if "missing public key" in text:
        return "the key's record is not there"
    if "body hash mismatch" in text:
        return "the body was changed after it was signed"
    return text or wrong.__class__.__name__


def planned(asked: NotingResolver, domain: str, selector: str) -> Dkim:
    """The signature that a sending system will make: whether its key is published (RFC 6376 §3.6.1)."""
    with asked.listing() as lookups:
        name = f"{selector}._domainkey.{domain}"
        try:
            texts = asked.texts(name)
        except NoAnswer as failed:
            return Dkim(domain, selector, "temperror", str(failed), lookups=tuple(lookups))
        why, kind, bits = "", "", 0
        key = KeyRecord.of(texts[0]) if texts else None
        if key is None:
            why = "the key's record is not there"
        elif fault := key_fault({}, key):
            why = fault
        else:
            try:
                _, bits, key_type, _ = dkim.load_pk_from_dns(name.encode(), lambda name, timeout=5: texts[0].encode())
                kind = _text(key_type or b"")
            except _ANY as wrong:
                why = _said(wrong)
        if bits and kind == "rsa" and bits < 1024:
            why = f"the key has {bits} bits, and receivers ask for 1,024"
        remarks = signature_remarks({}, key, 0)
        return Dkim(
            domain,
            selector,
            result="fail" if why else "planned",
            why=why,
            algorithm=kind,
            bits=int(bits or 0),
            lookups=tuple(lookups),
            remarks=remarks,
        )
