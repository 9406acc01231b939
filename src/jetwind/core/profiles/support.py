"""The features that each client of the support table lacks, as losses that can be carried out on a message.

Source: the open client-support table, facts/client_support.json (origin, date and licence stand in it), sorted by
facts/client_features.toml; partly supported features through facts/client_notes.toml.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from importlib.resources import files
from typing import Literal

from jetwind.core.facts import table
from jetwind.core.facts.tables import FeatureRow, NoteRow, Notes, Support, SupportEntry

Account = Literal["own", "other"]


@dataclass(frozen=True, slots=True)
class Feature:
    """A feature of the table and what becomes of a message where it is missing. ``how`` and the rest: see facts/client_features.toml."""

    slug: str
    title: str
    category: str
    how: str
    names: frozenset[str]
    properties: frozenset[str] | None
    tag: str
    then: str
    is_unseen: bool
    why: str
    clients: Mapping[str, str]
    notes: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Loss:
    """A feature that a client takes out of a message, in full or as far as a note of the table says."""

    feature: str
    title: str
    how: str
    names: frozenset[str]
    properties: frozenset[str] | None = None
    tag: str = ""
    then: str = ""
    values: re.Pattern[str] | None = None
    elements: frozenset[str] | None = None
    not_elements: frozenset[str] | None = None
    where: Literal["", "attribute", "sheet"] = ""

    def spares(self, tag: str) -> bool:
        """Whether an element of this name keeps the feature."""
        return (self.elements is not None and tag not in self.elements) or (self.not_elements is not None and tag in self.not_elements)


@lru_cache(maxsize=1)
def origin() -> dict[str, str]:
    """Where the table comes from: package, date, licence."""
    return dict(_support()["origin"])


@lru_cache(maxsize=1)
def features() -> dict[str, Feature]:
    """Every feature of the table by its slug, in the table's order.

    One that nobody has classified yet, of a newer table, is applied by what its name and category say where that is plain, and is
    told as not yet applied otherwise.
    """
    sorting = table("client_features", dict[str, FeatureRow])
    found: dict[str, Feature] = {}
    for slug, entry in _support()["features"].items():
        given = sorting.get(slug) or _by_its_name(slug, entry)
        properties = given.get("properties")
        found[slug] = Feature(
            slug,
            entry["title"],
            category=entry["category"],
            how=given["how"],
            names=frozenset(given.get("names", ())),
            properties=frozenset(properties) if properties else None,
            tag=given.get("tag", ""),
            then=given.get("then", ""),
            is_unseen=given.get("unseen", False),
            why=given.get("why", ""),
            clients=entry["clients"],
            notes=entry["notes"],
        )
    return found


#: Why a feature takes nothing out although the table says that clients lack it.
NOT_YET = "not yet applied: nobody has said what becomes of a message without it"


def _by_its_name(slug: str, entry: SupportEntry) -> FeatureRow:
    """A feature as far as its name and category tell of it: a CSS property, an element or an attribute that has the name of the slug."""
    name = slug.partition("-")[2]
    title = entry["title"].strip().lower()
    if (
        entry["category"] == "css"
        and re.fullmatch(r"[a-z]+(?:-[a-z]+)*", name)
        and title.removesuffix(" property").removesuffix(" css") == name
    ):
        return {"how": "property", "names": [name]}
    if entry["category"] == "html" and title in (f"<{name}>", f"<{name}> element"):
        return {"how": "element", "names": [name]}
    if entry["category"] == "html" and title == f"{name} attribute":
        return {"how": "attribute", "names": [name]}
    return {"how": "none", "why": NOT_YET}


def not_yet_applied() -> list[Feature]:
    """Features of the table of which nobody has said what becomes of a message without them."""
    return [feature for feature in features().values() if feature.why == NOT_YET]


@lru_cache(maxsize=128)
def losses(client: str, account: Account = "own") -> tuple[Loss, ...]:
    """The losses of a client (``family platform``). An unknown value or a missing one takes nothing out.

    Raises:
        ValueError: the table has no such client.
    """
    if not any(client in feature.clients for feature in features().values()):
        raise ValueError(f"the support table has no client {client!r}")
    return tuple(loss for feature in features().values() for loss in _losses_of(feature, client, account))


def unsimulated(client: str, account: Account = "own") -> list[tuple[str, str]]:
    """Title and note of what this client lacks, or supports partly, in a way that no loss carries out."""
    left: list[tuple[str, str]] = []
    for feature in features().values():
        value = feature.clients.get(client, "")
        if feature.why == NOT_YET and value[:1] in ("n", "a"):
            left.append((feature.title, NOT_YET))
        if not value.startswith("a") or feature.how == "none":
            continue
        for number in value.split()[1:]:
            note = feature.notes.get(number, "")
            if not any(_fits(reading, note, feature.slug) for reading in _notes()):
                left.append((feature.title, note or "a note that the table does not give"))
    return left


def coverage() -> dict[str, Counter[str]]:
    """For each category of the table, how many features are applied by a transformation, are not applicable, or are not yet applied."""
    counts: dict[str, Counter[str]] = {}
    for feature in features().values():
        kind = "not yet applied" if feature.why == NOT_YET else "not applicable" if feature.how == "none" else "applied"
        counts.setdefault(feature.category, Counter())[kind] += 1
    return counts


def _losses_of(feature: Feature, client: str, account: Account) -> Iterator[Loss]:
    value = feature.clients.get(client, "")
    if feature.how == "none" or value[:1] not in ("n", "a"):
        return
    whole = Loss(
        feature.slug, feature.title, how=feature.how, names=feature.names, properties=feature.properties, tag=feature.tag, then=feature.then
    )
    readings = [
        reading for number in value.split()[1:] for reading in _notes() if _fits(reading, feature.notes.get(number, ""), feature.slug)
    ]
    if value.startswith("n"):
        # A note on a plain "no" can still say what is put in its place.
        then = next((reading["then"] for reading in readings if "then" in reading), None)
        yield whole if then is None else replace(whole, then=then)
        return
    for reading in readings:
        if "nothing" in reading or reading.get("account", account) != account:
            continue
        pattern = reading.get("values")
        yield replace(
            whole,
            names=frozenset(reading["names"]) if "names" in reading else whole.names,
            then=reading.get("then", whole.then),
            values=re.compile(pattern, re.IGNORECASE) if pattern else None,
            elements=frozenset(reading["elements"]) if "elements" in reading else None,
            not_elements=frozenset(reading["not_elements"]) if "not_elements" in reading else None,
            where=reading.get("where", ""),
        )


def _fits(reading: NoteRow, note: str, slug: str) -> bool:
    if slug not in reading.get("features", (slug,)):
        return False
    if "starts" in reading:
        return note.removeprefix("Partial. ").startswith(reading["starts"])
    return reading["says"] in note


def _notes() -> list[NoteRow]:
    return table("client_notes", Notes)["notes"]


@lru_cache(maxsize=1)
def _support() -> Support:
    found: Support = json.loads(files("jetwind.core.facts").joinpath("client_support.json").read_text("utf-8"))
    return found
