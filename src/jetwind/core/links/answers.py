"""The answer of an address: each hop, how it ended, and what the page says of itself.

An engine asks (``engines/fetch``); checks, stations and reports read.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Literal

from jetwind.core.source.plain import read

#: How asking may end without an answer that counts. ``not-opened`` is on purpose, ``refused`` for our own safety.
Problem = Literal[
    "",
    "no-name",
    "no-connection",
    "tls",
    "timed-out",
    "broken-off",
    "busy",
    "loop",
    "too-many-hops",
    "bad-redirect",
    "refused",
    "not-opened",
]
REDIRECTS = frozenset({301, 302, 303, 307, 308})
#: More hops than this are never followed (links.redirect-loop).
MOST_HOPS = 10


@dataclass(frozen=True, slots=True)
class Hop:
    """One request and its answer: when it began and how long it took to the answer's head, in ms from the first request of all."""

    address: str
    method: str
    status: int
    started_ms: int
    took_ms: int
    #: Where a redirect leads, as a whole address; empty for an answer that is none.
    to: str = ""
    ip: str = ""


@dataclass(frozen=True, slots=True)
class Page:
    """A page's own account. ``text`` is its copy without scripts and styles, as far as it is looked at."""

    title: str = ""
    heading: str = ""
    language: str = ""
    text: str = ""
    links: int = 0
    #: Hosts that its style sheets and pictures come from.
    hosts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Landed:
    """A landing page laid out at phone width: how wide its content is and how small its smallest copy, in CSS px."""

    width: int
    content_width: int
    smallest_text: float
    small_share: float = 0.0


@dataclass(frozen=True, slots=True)
class Answer:
    """The answer to one address, asked at one time (ISO 8601).

    ``status`` is that of the last hop, 0 where none came. ``octets`` are those of the body as far as it was read; ``is_cut`` says that
    there was more. ``why`` is for people, where there is a problem.
    """

    address: str
    asked_at: str
    hops: tuple[Hop, ...] = ()
    problem: Problem = ""
    why: str = ""
    content_type: str = ""
    octets: int = 0
    is_cut: bool = False
    took_ms: int = 0
    page: Page | None = None
    landed: Landed | None = None
    #: Of a picture: its format by content and its size in px; (0, 0) where it does not open.
    format: str = ""
    size: tuple[int, int] = (0, 0)
    #: Of a picture: everything that its file says, as ``images.facts`` writes it; None of what is none, and of answers kept before 2026-11-27.
    facts: Mapping[str, object] | None = None
    #: Until when the answer may be taken for the present one (RFC 9111 §4.2, at least an hour).
    fresh_until: str = ""

    @property
    def status(self) -> int:
        """Status of the last hop (RFC 9110 §15), 0 where no answer came."""
        return self.hops[-1].status if self.hops else 0

    @property
    def final(self) -> str:
        """The address that answered at the end."""
        return self.hops[-1].address if self.hops else self.address

    @property
    def leads_to_https(self) -> bool:
        """Whether an http address is led on to the very same address over https, and something is there."""
        if self.problem or not 200 <= self.status < 300 or self.address[:5].lower() != "http:":
            return False
        return any(hop.to.rstrip("/") == f"https{self.address[4:]}".rstrip("/") for hop in self.redirects)

    @property
    def redirects(self) -> list[Hop]:
        """The hops that led on."""
        return [hop for hop in self.hops if hop.to]

    @property
    def is_opened(self) -> bool:
        """Whether somebody answered."""
        return not self.problem and self.status > 0

    @property
    def is_picture(self) -> bool:
        """Whether what came can be shown as a picture."""
        return self.is_opened and self.status == 200 and self.size != (0, 0)

    def as_json(self) -> dict[str, object]:
        """The answer as plain values."""
        return asdict(self)

    @classmethod
    def from_json(cls, value: Mapping[str, object]) -> Answer:
        """The answer that :meth:`as_json` gave."""
        return read(value, cls)


@dataclass(frozen=True)
class Answers:
    """Answers of the links and of the pictures of a message, by address as :func:`asked_address` writes it."""

    links: Mapping[str, Answer] = field(default_factory=dict)
    pictures: Mapping[str, Answer] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """One value for all of them: equal keys mean equal answers, whenever they were asked for."""
        told = [sorted((address, _lasting(answer)) for address, answer in group.items()) for group in (self.links, self.pictures)]
        return hashlib.sha256(json.dumps(told).encode("utf-8", "surrogatepass")).hexdigest()


def _lasting(answer: Answer) -> list[object]:
    """The facts that a finding may depend on: not the ms of each hop, but whether it was slow by the second."""
    hops = [[hop.address, hop.status, hop.to] for hop in answer.hops]
    page = asdict(answer.page) if answer.page else None
    landed = asdict(answer.landed) if answer.landed else None
    return [
        hops,
        answer.problem,
        answer.why,
        answer.content_type,
        answer.octets,
        answer.took_ms // 500,
        page,
        landed,
        answer.format,
        list(answer.size),
        dict(answer.facts) if answer.facts else None,
    ]
