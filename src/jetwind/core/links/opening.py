"""Which addresses of a message are asked for, and why the others are not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer
from jetwind.core.links.collection import Target
from jetwind.core.message import Resource

#: Addresses of one message that are opened; a message with more tells so.
MOST_OPENED = 500
#: Octets of all pictures of one message that are fetched.
MOST_PICTURE_OCTETS = 40_000_000


@dataclass(frozen=True, slots=True)
class DoorKeeping:
    """What a house opens: ``shut`` are hosts, or beginnings of addresses, that are never opened; ``practice`` domains may be, all of them.

    ``let_open`` are addresses that a person lets open although they would not be.
    """

    shut: tuple[str, ...] = ()
    practice: frozenset[str] = frozenset()
    let_open: frozenset[str] = frozenset()

    def why_shut(self, target: Target) -> str:
        """Why an address is not opened, for people; empty where it is."""
        if target.address in self.let_open:
            return ""
        address = parsed(target.address)
        host = address.host.rstrip(".") if address is not None else ""
        for entry in self.shut:
            is_host = "/" not in entry
            if (is_host and (host == entry or host.endswith(f".{entry}"))) or (not is_host and target.address.startswith(entry)):
                return f"“{entry}” is on the list of what is not opened"
        if any(host == domain or host.endswith(f".{domain}") for domain in self.practice):
            return ""
        if target.role == "unsubscribe" or target.is_closed:
            return "opening it may unsubscribe somebody" if target.role == "unsubscribe" else "opening it may change what somebody gets"
        return ""


def to_open(targets: Sequence[Target], keeping: DoorKeeping) -> list[Target]:
    """The targets that are asked for, in their order."""
    return [target for target in targets if not keeping.why_shut(target)][:MOST_OPENED]


def as_resource(answer: Answer, data: bytes) -> Resource | None:
    """A fetched picture as a message carries one; its type by content, whatever its server called it. None for what is no picture."""
    if answer.is_cut or answer.status != 200 or answer.problem:
        return None
    if b"<svg" in data[:1000].lower() and answer.content_type == "image/svg+xml":
        return Resource(answer.address, "image/svg+xml", None, data)
    return Resource(answer.address, f"image/{answer.format.lower()}", None, data) if answer.is_picture else None
