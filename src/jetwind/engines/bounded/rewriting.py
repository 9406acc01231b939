"""A message rewritten for client profiles in a helper process."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from jetwind.core.message import Message, Resource
from jetwind.core.profiles import Profile, Rewritten, rewrite
from jetwind.engines.bounded.helper import Budget, Helper, Start

#: A rewrite of a large newsletter takes a tenth of a second; trying which losses show asks for some hundreds.
REWRITING = Budget(answer_seconds=5.0, all_seconds=20.0, memory=600_000_000)


class BoundedRewriter:
    """Rewrites one message; made to be closed. Pictures travel from the helper once each."""

    def __init__(self, message: Message, *, start: Start, budget: Budget = REWRITING) -> None:
        self._helper = Helper(message, budget, start)
        self._parts: dict[str, Resource] = {}

    def __enter__(self) -> BoundedRewriter:
        return self

    def __exit__(self, *_: object) -> None:
        self._helper.close()

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
