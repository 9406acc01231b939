"""A message rewritten for client profiles in a helper process."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from jetwind.core.message import Message, Resource
from jetwind.core.profiles import Profile, Rewritten, rewrite
from jetwind.engines.bounded.helper import Budget, Holder

#: A rewrite of a large newsletter takes a tenth of a second; trying which losses show asks for some hundreds.
REWRITING = Budget(answer_seconds=5.0, all_seconds=20.0, memory=600_000_000)


class BoundedRewriter:
    """Rewrites the message that a helper holds. Pictures travel from the helper once each."""

    def __init__(self, helper: Holder) -> None:
        self._helper = helper
        self._parts: dict[str, Resource] = {}

    def __call__(self, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
        """The message as a client takes it; see :func:`jetwind.core.profiles.rewrite`.

        Raises:
            PastBudget: it takes too long or needs too much memory.
        """
        page, parts = self._helper.ask(_rewrite, profile, only, spared, frozenset(self._parts))
        self._parts |= {digest: resource for digest, resource in parts.items() if resource is not None}
        return replace(page, parts={digest: self._parts[digest] for digest in parts})


def _rewrite(
    message: Message, profile: Profile, only: str | None, spared: str, known: frozenset[str]
) -> tuple[Rewritten, Mapping[str, Any]]:
    page = rewrite(message, profile, only=only, spared=spared)
    parts = {digest: None if digest in known else resource for digest, resource in page.parts.items()}
    return replace(page, parts={}), parts
