"""Rewriting a message for a profile gathers its results here: the edits of the source, and the changes that they make."""

from __future__ import annotations

from functools import partial
from html import escape

from jetwind.core.markup import Attribute
from jetwind.core.message import Message, Shared
from jetwind.core.profiles.pictures import Pictures
from jetwind.core.profiles.plan import Plan, plan_of
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import Change, ChangeKind
from jetwind.core.profiles.stylesheet import CssChange
from jetwind.core.profiles.support import Loss
from jetwind.core.source import Edit, Span
from jetwind.core.styles import rules

_WEB_FONTS: Shared[frozenset[str]] = Shared("web fonts")


class Work:
    """One message under one plan. ``only`` and ``spared`` as in ``plan_of``."""

    def __init__(self, message: Message, profile: Profile, only: str | None, spared: str) -> None:
        self.message, self.profile = message, profile
        #: Whether everything that the client does is done, or at most one feature is taken out for a trial.
        self.is_whole = only is None
        self.plan: Plan = plan_of(profile, only, web_fonts(message), spared)
        self.edits: list[Edit] = []
        self.changes: list[Change] = []
        self.pictures = Pictures(message, profile, self.plan, self.lost, partial(self.note, "altered"))
        #: Elements whose picture is not shown.
        self.blocked: set[int] = set()

    def set(self, attribute: Attribute, value: str) -> None:
        """Give an attribute another value."""
        self.edits.append(Edit(attribute.span, f'{attribute.name}="{escape(value, quote=True)}"'))

    def css(self, change: CssChange, span: Span) -> None:
        """Tell of something done to a style sheet or attribute."""
        self.changes.append(Change(change.kind, change.feature, change.title, span, change.feature.startswith(("css-", "html-"))))

    def lost(self, kind: ChangeKind, loss: Loss, span: Span | None) -> None:
        """Tell of something that the client lacks."""
        self.changes.append(Change(kind, loss.feature, loss.title, span, True))

    def note(self, kind: ChangeKind, feature: str, title: str, span: Span | None) -> None:
        """Tell of something that no table of support lists."""
        self.changes.append(Change(kind, feature, title, span))


def web_fonts(message: Message) -> frozenset[str]:
    """The font families that a message brings by @font-face, lower case."""

    def read() -> frozenset[str]:
        assert message.document is not None
        found = (
            declaration.value.strip("\"' ").lower()
            for block in message.document.elements("style")
            for rule in (rules(block.text) if "@font-face" in block.text.lower() else ())
            if any(name == "font-face" for name, _ in rule.within)
            for declaration in rule.declarations
            if declaration.name == "font-family"
        )
        return frozenset(found)

    return message.shared(_WEB_FONTS, read)
