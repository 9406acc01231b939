"""Reading threads, and finding their places in a revision."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from jetwind.apps.comments.known import OPEN_THREADS, PEOPLE, thread_columns
from jetwind.apps.comments.models import Thread
from jetwind.apps.intake.models import Revision
from jetwind.core.markup.anchor import Anchor, find_all
from jetwind.core.message import Message

Kind = Thread.Kind


@dataclass(frozen=True, slots=True)
class Said:
    """One comment. ``by`` is the number of its person; None where a recipient of a test copy said it."""

    by: int | None
    name: str
    words: str
    at: datetime
    told: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ReadThread:
    """A thread as it is read, with its comments. ``number`` is its own, ``revision`` that of the revision it was begun on.

    ``left`` and ``top`` are a point in per cent of the element's box.
    """

    number: int
    kind: str
    station: str
    fingerprint: str
    anchor: Mapping[str, Any] | None
    profile: str
    left: float | None
    top: float | None
    named: str
    revision: int
    comments: tuple[Said, ...]
    settled_at: datetime | None = None
    settled_by: str = ""

    @property
    def key(self) -> str:
        """Its number as text, for the forms of a page."""
        return str(self.number)

    @property
    def first(self) -> Said:
        """The comment that began it."""
        return self.comments[0]


@dataclass(frozen=True, slots=True)
class PlacedThread:
    """A thread where it stands in a revision: the index of its element, if it has one. ``gone`` says why its place is not there; else empty.

    ``changed`` says what changed at the place since.
    """

    thread: ReadThread
    element: int | None = None
    gone: str = ""
    changed: str = ""


def open_threads(revision: Revision) -> list[ReadThread]:
    """The threads about a revision that are open, the first begun first."""
    return [_read(row) for row in OPEN_THREADS.of(revision)]


def all_threads(revision: Revision) -> list[ReadThread]:
    """All threads about a revision, settled ones too, the newest begun first."""
    found = Thread.objects.filter(mailing=revision.mailing_id, revision__number__lte=revision.number)
    return [_read(row) for row in found.order_by("-pk").values_list(thread_columns(), flat=True)]


def people_of(revision: Revision) -> list[tuple[int, str]]:
    """Number and name of everybody who may be told, by name."""
    return sorted(((row["pk"], row["name"]) for row in PEOPLE.of(revision)), key=lambda one: one[1].casefold())


def placed(threads: Sequence[ReadThread], message: Message, fingerprints: Collection[str] | None) -> list[PlacedThread]:
    """Threads where they stand in a message. ``fingerprints`` are those of its findings, with the faults and causes that they tell; None before its checks ran."""
    anchored = [thread for thread in threads if thread.anchor is not None]
    document = message.document if anchored else None
    wanted = [Anchor.from_json(dict(thread.anchor or {})) for thread in anchored]
    elements = find_all(wanted, document) if document is not None else [None] * len(wanted)
    at = {thread.number: element for thread, element in zip(anchored, elements, strict=True)}
    found = []
    for thread in threads:
        if thread.anchor is not None:
            element = at[thread.number]
            found.append(
                PlacedThread(thread, element.index)
                if element is not None
                else PlacedThread(thread, gone="Its place is gone in this revision.")
            )
        elif thread.kind == Kind.FINDING and fingerprints is not None and thread.fingerprint not in fingerprints:
            found.append(PlacedThread(thread, gone="The finding is not there any more."))
        elif thread.kind == Kind.SUBJECT and thread.named != named_subject(message):
            found.append(PlacedThread(thread, changed=f"The subject has changed since; it was {thread.named}."))
        else:
            found.append(PlacedThread(thread))
    return found


def named_subject(message: Message) -> str:
    """The subject of a message, as a thread about it names it."""
    words = " ".join((message.subject or "").replace("\0", "").split())
    return f"“{words[:200]}”" if words else "an empty subject"


def _read(row: Mapping[str, Any]) -> ReadThread:
    said = (Said(one["by"], one["name"], one["words"], datetime.fromisoformat(one["at"]), tuple(one["told"])) for one in row["comments"])
    return ReadThread(
        number=row["pk"],
        kind=row["kind"],
        station=row["station"],
        fingerprint=row["fingerprint"],
        anchor=row["anchor"],
        profile=row["profile"],
        left=row["left"],
        top=row["top"],
        named=row["named"],
        revision=row["revision"],
        comments=tuple(said),
        settled_at=datetime.fromisoformat(row["settled_at"]) if row["settled_at"] else None,
        settled_by=row["settled_by"] or "",
    )
