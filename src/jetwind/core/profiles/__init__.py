"""Simulated clients as data, and the pure rewrite of a message that each asks for."""

from jetwind.core.profiles.profile import REFERENCE, Profile, profiles, usual
from jetwind.core.profiles.rewrite import rewrite, untouched
from jetwind.core.profiles.rewritten import MARK_ATTRIBUTE, PARTS_HOST, Change, Rewriter, Rewritten

__all__ = [
    "MARK_ATTRIBUTE",
    "PARTS_HOST",
    "REFERENCE",
    "Change",
    "Profile",
    "Rewriter",
    "Rewritten",
    "profiles",
    "rewrite",
    "untouched",
    "usual",
]
