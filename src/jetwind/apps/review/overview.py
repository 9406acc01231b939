"""The contents of the Fields station, asked of a helper."""

from __future__ import annotations

import hashlib

from django.conf import settings

from jetwind.apps.review.selectors import Walk
from jetwind.core.checking.overview import FieldOverview
from jetwind.core.message import Message, Shared
from jetwind.engines.bounded import overview_bounded

_OVERVIEW: Shared[FieldOverview] = Shared("overview")


def overview_of(walk: Walk, message: Message, chosen: str) -> FieldOverview:
    """Which fields the readers fill, worked out once for a message, its readers and what the renders said of them.

    Raises:
        PastBudget: the fields cannot be laid out for these readers.
    """
    context = walk.context
    wide = sorted(
        (str(one.record.data.get("name", "")), str(one.record.data["reader"]))
        for one in walk.findings
        if one.record.check_id == "fields.overflow" and one.record.data.get("reader")
    )
    readers = [(reader.name, sorted(reader.values.items())) for reader in context.readers]
    asked = repr((readers, sorted(context.known_fields or ()), wide, chosen))
    key = hashlib.sha256(asked.encode("utf-8", "surrogatepass")).hexdigest()
    return message.shared(
        _OVERVIEW.of(key),
        lambda: overview_bounded(message, context.readers, context.known_fields, wide, chosen, start=settings.HELPERS_START),
    )
