"""Readers that are awkward on purpose: each has one thing in every field that messages stumble over (common practice, no published source)."""

from __future__ import annotations

from collections.abc import Iterable

from jetwind.core.message import Sample

#: What the fields of each hold, by what is awkward about it; None where the reader lacks them.
AWKWARD: dict[str, str | None] = {
    "nothing filled in": "",
    "fields missing": None,
    "one letter": "I",
    "forty letters": "Wilhelmina-Alexandria Featherstonehaugh-",
    "eighty letters without a break": "Llanfairpwllgwyngyll" * 4,
    "an apostrophe": "Niamh O’Brien-D'Arcy",
    "an ampersand": "Tess & Sons",
    "markup": "<b>Tess</b> <studio>",
    "quotation marks": 'Anna "Ash" Tove',
    "a per cent sign and a space": "100 % ash",
    "emoji": "Mo 🏺👩🏽‍🎨",
    "from right to left": "نور الدين",
    "Han characters": "陶子安",
    "a leading blank": " Tove",
    "all capitals": "ROSALIND QUILL",
    "a line break": "Tove\nMarsh",
    "a number with marks": "1.234,50",
    "a number without": "1234.5",
    "a date": "2027-03-09",
}
#: Fields that must stay of their kind, or nothing can be sent to the reader at all.
_KEPT = {"email": "reader@saltmarsh-kiln.example", "time_zone": "Europe/Amsterdam"}


def awkward_readers(fields: Iterable[str]) -> tuple[Sample, ...]:
    """A reader for each awkward thing, with a value for each of the fields, and one whose time zone is not known."""
    names = [name for name in dict.fromkeys(fields) if name not in _KEPT]
    made = [Sample(what, {**_KEPT, **({} if value is None else dict.fromkeys(names, value))}) for what, value in AWKWARD.items()]
    usual = dict.fromkeys(names, "Rosa")
    return (*made, Sample("no time zone", {"email": _KEPT["email"], **usual}))
