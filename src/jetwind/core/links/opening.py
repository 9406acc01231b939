"""Which addresses of a message are asked for, and why the others are not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol, TypeVar

from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer
from jetwind.core.links.collection import Role
from jetwind.core.message import Resource

#: Addresses of one message that are opened; a message with more tells so.
MOST_OPENED = 500
#: Octets of all pictures of one message that are fetched.
MOST_PICTURE_OCTETS = 40_000_000


def _host(href: str) -> str:
    """The host of a whole web address as it is serialised."""
    authority = href.partition("://")[2].partition("/")[0].rpartition("@")[2]
    return (authority if authority.endswith("]") else authority.partition(":")[0]).rstrip(".")


class Openable(Protocol):
    """An address that may be asked for: a target of the message, or a destination of its listing."""

    @property
    def address(self) -> str:
        """The whole web address."""

    @property
    def role(self) -> Role:
        """The part that the address plays."""

    @property
    def is_closed(self) -> bool:
        """Whether opening it may unsubscribe or change somebody."""


OneOpenable = TypeVar("OneOpenable", bound=Openable)


@dataclass(frozen=True, slots=True)
class DoorKeeping:
    """The addresses that a house opens: ``shut`` are hosts, or beginnings of addresses, that are never opened; ``practice`` domains may be, all of them.

    ``let_open`` are addresses that a person lets open although they would not be.
    """

    shut: tuple[str, ...] = ()
    practice: frozenset[str] = frozenset()
    let_open: frozenset[str] = frozenset()

    def is_practice(self, address: str) -> bool:
        """Whether an address lies on the practice field."""
        host = _host(address)
        return any(host == domain or host.endswith(f".{domain}") for domain in self.practice)

    def why_shut(self, target: Openable) -> str:
        """Why an address is not opened, for people; empty where it is."""
        if target.address in self.let_open:
            return ""
        host = _host(target.address)
        for entry in self.shut:
            is_host = "/" not in entry
            if (is_host and (host == entry or host.endswith(f".{entry}"))) or (not is_host and target.address.startswith(entry)):
                return f"“{entry}” is on the list of what is not opened"
        if self.is_practice(target.address):
            return ""
        if target.role == "unsubscribe" or target.is_closed:
            return "opening it may unsubscribe somebody" if target.role == "unsubscribe" else "opening it may change what somebody gets"
        return ""


def to_open(targets: Sequence[OneOpenable], keeping: DoorKeeping) -> list[OneOpenable]:
    """The targets that are asked for, in their order."""
    return [target for target in targets if not keeping.why_shut(target)][:MOST_OPENED]


#: Roles of links whose pages are opened in a browser, and how many of a message.
LANDING_ROLES: frozenset[Role] = frozenset({"action", "navigation", "logo", "view-online"})
MOST_LANDINGS = 24


def is_landing(answer: Answer, role: Role) -> bool:
    """Whether an answer is a page that a reader is sent to."""
    return role in LANDING_ROLES and answer.is_opened and answer.status == 200 and answer.page is not None and answer.landed is None


_NOBODY_THERE = frozenset({"no-name", "no-connection", "timed-out"})


def without_way_out(answers: Sequence[Answer], keeping: DoorKeeping) -> list[Answer]:
    """Answers of one run. Where not one server of several answered, it is this machine that has no way out, and no link that is broken."""
    outside = [answer for answer in answers if not keeping.is_practice(answer.address) and answer.problem not in ("refused", "not-opened")]
    hosts = {address.host for answer in outside if (address := parsed(answer.address)) is not None}
    if len(hosts) < 2 or any(answer.hops or answer.problem not in _NOBODY_THERE for answer in outside):
        return list(answers)
    why = "none of the servers could be reached: this machine may have no way out"
    silent = {id(answer) for answer in outside}
    return [replace(answer, problem="not-opened", why=why) if id(answer) in silent else answer for answer in answers]


def as_resource(answer: Answer, data: bytes) -> Resource | None:
    """A fetched picture as a message carries one; its type by content, whatever its server called it. None for what is no picture."""
    if answer.is_cut or answer.status != 200 or answer.problem:
        return None
    if b"<svg" in data[:1000].lower() and answer.content_type == "image/svg+xml":
        return Resource(answer.address, "image/svg+xml", None, data)
    return Resource(answer.address, f"image/{answer.format.lower()}", None, data) if answer.is_picture else None
