"""The demands of DKIM on a signature and on its key's record besides that the numbers fit (RFC 6376; RFC 8301; RFC 8463)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

#: Algorithms that a receiver accepts (RFC 8301 §3.1, RFC 8463 §3).
_ALGORITHMS = frozenset({"rsa-sha256", "ed25519-sha256"})
_BLANKS = re.compile(r"[ \t\r\n]+")


def tag_list(text: str) -> dict[str, str]:
    """A list of ``tag=value`` with white space taken out of names, and from about values (RFC 6376 §3.2). Of a name twice, the first counts."""
    found: dict[str, str] = {}
    for part in text.split(";"):
        name, mark, value = part.partition("=")
        if mark:
            found.setdefault(name.strip(), value.strip())
    return found


@dataclass(frozen=True, slots=True)
class KeyRecord:
    """A key's record in its tags (RFC 6376 §3.6.1). ``hashes`` is empty where all are accepted."""

    kind: str
    key: str
    hashes: frozenset[str]
    services: frozenset[str]
    flags: frozenset[str]

    @classmethod
    def of(cls, text: str) -> KeyRecord:
        """The record that stands in a TXT record."""
        tags = tag_list(text)
        return cls(
            tags.get("k", "rsa"),
            _BLANKS.sub("", tags.get("p", "")),
            _set(tags.get("h", "")),
            _set(tags.get("s", "")) or frozenset({"*"}),
            _set(tags.get("t", "")),
        )

    @property
    def is_revoked(self) -> bool:
        """Whether it says that no signature with it counts any more."""
        return not self.key


def signature_fault(tags: Mapping[str, str]) -> str:
    """Why a signature does not count whatever its key says, as the end of a sentence; empty where nothing is wrong with it."""
    algorithm = tags.get("a", "").lower()
    if algorithm == "rsa-sha1":
        return "it is made with rsa-sha1, which receivers must not accept any more (RFC 8301)"
    if algorithm and algorithm not in _ALGORITHMS:
        return f"its algorithm “{algorithm[:40]}” is not known"
    if "h" in tags and "from" not in _set(tags["h"].lower()):
        return "its list h does not name From, which every signature has to cover"
    return ""


def key_fault(tags: Mapping[str, str], key: KeyRecord) -> str:
    """Why a key's record does not allow a signature, as the end of a sentence; empty where it does."""
    if key.is_revoked:
        return "the key was revoked: p is empty in its record"
    kind, _, hashed = tags.get("a", "").lower().partition("-")
    if kind and kind != key.kind.lower():
        return f"the record holds a key of kind {key.kind[:40]}, and the signature is made with {kind}"
    if key.hashes and hashed and hashed not in {name.lower() for name in key.hashes}:
        return f"the key's record accepts {', '.join(sorted(key.hashes))[:80]} alone, and the signature is made with {hashed}"
    if not key.services & {"*", "email"}:
        return "the key's record does not allow e-mail (s)"
    identity = tags.get("i", "").rpartition("@")[2].rstrip(".").lower()
    if "s" in key.flags and identity and identity != tags.get("d", "").rstrip(".").lower():
        return f"the key's record allows no subdomain (t=s), and i names {identity[:120]}"
    return ""


def signature_remarks(tags: Mapping[str, str], key: KeyRecord | None, body: int) -> tuple[str, ...]:
    """Reasons why a signature that verifies counts in part, each as the end of a sentence. ``body`` is the length of the body in octets."""
    found = []
    if key is not None and "y" in key.flags:
        found.append("the key's record says that the domain is only testing (t=y)")
    length = tags.get("l", "")
    if length.isascii() and length.isdigit():
        signed = int(length[:12])
        found.append(
            f"{body - signed:,} of {body:,} octets of the body are not signed (l={signed})"
            if signed < body
            else f"others may add to the body (l={signed})"
        )
    return tuple(found)


def _set(text: str) -> frozenset[str]:
    return frozenset(part for one in text.split(":") if (part := one.strip()))
