"""The result of a rewrite: the HTML that the browser renders, with the list of what was dropped, altered and added."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, Protocol

from jetwind.core.message import Resource
from jetwind.core.profiles.profile import Profile
from jetwind.core.source import Span

#: The only host that the browser's proxy knows; ``.invalid`` never resolves (RFC 2606 §2).
PARTS_HOST = "parts.jetwind.invalid"
MARK_ATTRIBUTE = "data-jetwind-element"

ChangeKind = Literal["dropped", "altered", "added"]


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that this client does to the message: which feature, its title for people, and where it stands in the source.

    ``span`` is None for what the client adds. ``feature`` is a name of the support table where ``is_listed``.
    """

    kind: ChangeKind
    feature: str
    title: str
    span: Span | None
    is_listed: bool = False


@dataclass(frozen=True, slots=True)
class Rewritten:
    """HTML to render, the pictures it may load by path, what was changed, and the addresses of pictures that lie elsewhere and are not there.

    ``clipped`` tells that the client stops before the end.
    """

    html: str
    parts: Mapping[str, Resource]
    changes: tuple[Change, ...]
    lacking: tuple[str, ...] = ()
    clipped: bool = False
    #: Indexes of elements whose picture does not show here.
    blocked: frozenset[int] = field(default_factory=frozenset)
    #: Pictures that were fetched keep their own addresses: for each, as a browser asks for it, the path of the part that it gets.
    own: Mapping[str, str] = field(default_factory=dict)
    #: One value for all that was fetched for the message, whatever the profile shows of it; empty where nothing was.
    fetched: str = ""
    #: Pixels of all pictures that it may load, together.
    pixels: int = 0

    @property
    def dropped(self) -> tuple[Change, ...]:
        """The parts that the client leaves out."""
        return tuple(change for change in self.changes if change.kind == "dropped")


class Rewriter(Protocol):
    """Rewrites one message for profiles: :func:`jetwind.core.profiles.rewrite` with the message given, here or in a helper process."""

    def __call__(self, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
        """The HTML as a client takes it."""
