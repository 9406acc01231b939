"""Simulated clients as data, and the pure rewrite of a message that each asks for."""

from jetwind.core.profiles.profile import Profile, profiles
from jetwind.core.profiles.rewrite import MARK_ATTRIBUTE, PARTS_HOST, Dropped, Rewritten, rewrite

__all__ = ["MARK_ATTRIBUTE", "PARTS_HOST", "Dropped", "Profile", "Rewritten", "profiles", "rewrite"]
