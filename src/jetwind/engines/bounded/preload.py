"""What helpers need, loaded once by the process that they are forked from."""

from __future__ import annotations

from jetwind.core.checking import registry
from jetwind.core.facts.spelling import is_known
from jetwind.core.profiles import page, profiles
from jetwind.core.reports import review
from jetwind.engines.dictionaries import Installed

__all__ = ["page", "review"]

registry()
profiles()
is_known(Installed(), "en", "word")
