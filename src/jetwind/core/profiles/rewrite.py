"""Message and profile to the HTML that the browser renders, with the list of what was dropped, altered and added.

Only exact places of the source change. Every element that stands in the source is marked with its index, so that what
the browser measures can be laid beside findings.
"""

from __future__ import annotations

import html as html_standard
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Protocol

from jetwind.core.message import Message, Resource
from jetwind.core.profiles.profile import Profile
from jetwind.core.source import Span

#: The only host that the browser's proxy knows; ``.invalid`` never resolves (RFC 2606 §2).
PARTS_HOST = "parts.jetwind.invalid"
MARK_ATTRIBUTE = "data-jetwind-element"

Kind = Literal["dropped", "altered", "added"]


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that this client does to the message: which feature, its title for people, and where it stands in the source.

    ``span`` is None for what the client adds. ``feature`` is a name of the support table where ``is_listed``.
    """

    kind: Kind
    feature: str
    title: str
    span: Span | None
    is_listed: bool = False


@dataclass(frozen=True, slots=True)
class Rewritten:
    """HTML to render, the pictures it may load by path, what was changed, and how many pictures lie elsewhere.

    ``clipped`` tells that the client stops before the end.
    """

    html: str
    parts: Mapping[str, Resource]
    changes: tuple[Change, ...]
    remote_pictures: int = 0
    clipped: bool = False
    #: Indexes of elements whose picture does not show here.
    blocked: frozenset[int] = field(default_factory=frozenset)

    @property
    def dropped(self) -> tuple[Change, ...]:
        """What the client leaves out."""
        return tuple(change for change in self.changes if change.kind == "dropped")


def rewrite(message: Message, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
    """The HTML as a client takes it. A message without HTML is shown as its plain text.

    With ``only``, that feature of the support table alone is taken out ("" for none) and nothing else is done to the message, which
    tells whether the loss of the feature shows. With ``spared``, everything is done but the loss of that feature.
    """
    from jetwind.core.profiles.page import Page

    if message.html is None or message.document is None:
        return Rewritten(_plain_page(message, profile), {}, ())
    return Page(message, profile, only, spared).rewritten()


class Rewriter(Protocol):
    """Rewrites one message for profiles: :func:`rewrite` with the message given, here or in a helper process."""

    def __call__(self, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
        """The HTML as a client takes it."""


def untouched(rewriter: Rewriter, profile: Profile) -> Rewritten:
    """The HTML as an engine that lacks nothing would take it, in the same window: what the profile's render is held against."""
    return rewriter(replace(profile, engine="standards", prefix=""), only="")


def _plain_page(message: Message, profile: Profile) -> str:
    text = html_standard.escape(message.text.text if message.text else "")
    dark = "background:#1f1f1f;color:#fff;" if profile.is_night else ""
    return (
        f'<!doctype html><meta charset="utf-8"><body style="margin:16px;{dark}max-width:{profile.content_width - 32}px">'
        f'<pre {MARK_ATTRIBUTE}="0" style="white-space:pre-wrap;font:15px/1.5 monospace">{text}</pre>'
    )
