"""Spelling dictionaries, behind what the core declares of them in ``facts.spelling``."""

from jetwind.engines.dictionaries.fake import WordLists
from jetwind.engines.dictionaries.installed import Installed

__all__ = ["Installed", "WordLists"]
