"""A request that the database broke off because of another one is carried out once more, by itself.

Locks are taken in one order (docs/decisions/0030), so that this is rare; what is left is two people who insert the same thing at once.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any, Concatenate, ParamSpec, TypeVar

from django.db import DatabaseError, connection
from django.http import HttpRequest
from django.http.response import HttpResponseBase

from jetwind.apps.ui.refusal import Refused

Rest = ParamSpec("Rest")
#: The kind of request that a view takes.
Request = TypeVar("Request", bound=HttpRequest)
#: The kind of answer that a view gives.
Answer = TypeVar("Answer", bound=HttpResponseBase)
logger = logging.getLogger(__name__)

#: Serialisation failure, deadlock, and a row that somebody else inserted first (PostgreSQL documentation, appendix A).
CONFLICTS = frozenset({"40001", "40P01", "23505"})
TIMES = 4


def is_conflict(failure: DatabaseError) -> bool:
    """Whether a statement failed because of what somebody else did at the same moment."""
    return getattr(failure.__cause__, "sqlstate", None) in CONFLICTS


def tried_again(view: Callable[Concatenate[Request, Rest], Answer], request: Request, /, *args: Rest.args, **kwargs: Rest.kwargs) -> Answer:
    """The view's answer; a view that a conflict broke off has changed nothing, and is called again.

    Raises:
        Refused: it was broken off again and again.
    """
    said: list[Any] = getattr(getattr(request, "_messages", None), "_queued_messages", [])
    said_before = len(said)
    for turn in range(1, TIMES + 1):
        try:
            return view(request, *args, **kwargs)
        except DatabaseError as failure:
            # Within a transaction of the caller nothing can be asked any more.
            if connection.in_atomic_block or not is_conflict(failure):
                raise
            logger.warning("%s was broken off by a conflict, time %d: %s", request.path, turn, failure)
        del said[said_before:]
        for name in request.FILES:
            for upload in request.FILES.getlist(name):
                upload.seek(0)
    raise Refused("Somebody else changed the same at this moment, several times over. Nothing was changed; try again.")
