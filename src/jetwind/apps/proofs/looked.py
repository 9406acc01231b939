"""Who has looked at a test send, on which device, and what they said: the answers of recipients as a matrix of people and devices."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import OuterRef
from django.db.models.functions import JSONObject

from jetwind.apps.proofs.models import Reply, ReplyLink, ReplyPhoto

#: Devices that have a column; answers on further ones stand below the matrix.
_MOST_DEVICES = 6


@dataclass(frozen=True, slots=True)
class ReplyShown:
    """An answer: its person, whether the copy looks right, the words, the device, its photos by number, and the place of a tap."""

    name: str
    looks_right: bool
    words: str
    device: str
    at: datetime
    profile: str
    left: float | None
    top: float | None
    photos: list[int]
    #: The number of the thread that it began.
    thread: int | None


@dataclass(frozen=True, slots=True)
class Asked:
    """A recipient who was asked: the number of the link, the devices, whether an answer may still come, and the answers so far."""

    pk: int
    address: str
    name: str
    devices: list[str]
    is_open: bool
    reminders: int
    replies: list[ReplyShown]


@dataclass(frozen=True, slots=True)
class Row:
    """A recipient with a cell for each device: ``right``, ``wrong``, ``waiting``, or empty where the device is none of theirs."""

    asked: Asked
    cells: list[str]


@dataclass(frozen=True, slots=True)
class Matrix:
    """The people of a send and their devices; ``waiting`` is the number of people of whom an answer may still come."""

    devices: list[str]
    rows: list[Row]
    waiting: int


def links_of_send() -> ArraySubquery:
    """The links of each send of a query with their answers, one JSON object for each."""
    photos = ReplyPhoto.objects.filter(reply=OuterRef("pk")).order_by("pk").values("pk")
    names = ("looks_right", "words", "device", "at", "left", "top", "thread")
    said = (
        Reply.objects.filter(link=OuterRef("pk"))
        .order_by("pk")
        .values(row=JSONObject(photos=ArraySubquery(photos), profile="render__profile", **{n: n for n in names}))
    )
    own = ("pk", "address", "person", "devices", "expires_at", "withdrawn_at", "reminders")
    links = ReplyLink.objects.filter(send=OuterRef("pk")).order_by("pk")
    return ArraySubquery(links.values(row=JSONObject(replies=ArraySubquery(said), **{n: n for n in own})))


def asked_of(rows: Iterable[Mapping[str, Any]]) -> list[Asked]:
    """The people of a send, from the objects of :func:`links_of_send`."""
    return [_asked(row) for row in rows]


def _asked(row: Mapping[str, Any]) -> Asked:
    withdrawn = datetime.fromisoformat(row["withdrawn_at"]) if row["withdrawn_at"] else None
    link = ReplyLink(
        address=row["address"],
        person=row["person"],
        devices=row["devices"],
        expires_at=datetime.fromisoformat(row["expires_at"]),
        withdrawn_at=withdrawn,
    )
    replies = [
        ReplyShown(
            name=link.name,
            looks_right=one["looks_right"],
            words=one["words"],
            device=one["device"],
            at=datetime.fromisoformat(one["at"]),
            profile=one["profile"] or "",
            left=one["left"],
            top=one["top"],
            photos=one["photos"],
            thread=one["thread"],
        )
        for one in row["replies"]
    ]
    return Asked(
        pk=row["pk"],
        address=link.address,
        name=link.name,
        devices=link.own_devices,
        is_open=link.is_open,
        reminders=row["reminders"],
        replies=replies,
    )


def matrix_of(people: Iterable[Asked]) -> Matrix:
    """Who has looked, on what, and what is missing. The newest answer on a device counts."""
    people = list(people)
    named = [device for one in people for device in (*one.devices, *(reply.device for reply in one.replies))]
    devices = list(dict.fromkeys(device for device in named if device))[:_MOST_DEVICES]
    if any(not one.devices or any(not reply.device for reply in one.replies) for one in people):
        devices.append("")
    rows = [Row(one, [_cell(one, device) for device in devices]) for one in people]
    return Matrix(devices, rows, sum(one.is_open and not one.replies for one in people))


def _cell(asked: Asked, device: str) -> str:
    said = [reply.looks_right for reply in asked.replies if reply.device == device]
    if said:
        return "right" if said[-1] else "wrong"
    is_theirs = device in asked.devices if device else not asked.devices and not asked.replies
    return "waiting" if is_theirs and asked.is_open else ""
