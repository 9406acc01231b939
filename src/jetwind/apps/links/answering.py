"""Asking for the addresses of a message in the background, and the answers that stand for it."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Iterable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, numbered
from jetwind.apps.intake.stages import locked_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.links.house import fetcher_of, keeping_of, landing_browser_of, wire_of
from jetwind.apps.links.known import OPENED, SEEN
from jetwind.apps.links.models import CurrentAnswers, Kind, LinkAnswer, When, Wire
from jetwind.apps.review.answers import ask_for_checks, storable
from jetwind.apps.review.questions import readers_of
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking.circumstance import Later
from jetwind.core.images.elsewhere import with_fetched
from jetwind.core.links.answers import Answer, Answers
from jetwind.core.links.collection import Role
from jetwind.core.links.listing import Listing
from jetwind.core.links.opening import MOST_LANDINGS, MOST_PICTURE_OCTETS, DoorKeeping, as_resource, is_landing, to_open, without_way_out
from jetwind.core.message import Message, Resource, Shared
from jetwind.engines.bounded import listing_bounded, shown_elsewhere_bounded
from jetwind.engines.browser import CaptureFailed, Landing, landings
from jetwind.engines.fetch import Fetched, Wanted, fetch_all

_LISTING: Shared[Listing] = Shared("listing")

logger = logging.getLogger(__name__)


def listing(revision: Revision) -> Listing:
    """Everything that leads out of a revision, worked out once for its readers.

    Raises:
        PastBudget: it takes more than it may.
    """
    message, readers = message_of(revision), readers_of(revision)
    key = hashlib.sha256(repr([(one.name, sorted(one.values.items())) for one in readers]).encode("utf-8", "surrogatepass"))
    return message.shared(_LISTING.of(key.hexdigest()), lambda: listing_bounded(message, readers, start=settings.HELPERS_START))


@dataclass(frozen=True, slots=True)
class ToOpen:
    """The addresses of a revision that the worker opens, in their order; the role of each destination, by its address; and what stays shut."""

    addresses: tuple[str, ...]
    roles: Mapping[str, Role]
    keeping: DoorKeeping


def what_to_open(revision_id: int) -> ToOpen:
    """The addresses of a revision that are to be opened, asked of the workbench.

    Raises:
        PastBudget: the links cannot be listed.
    """
    revision = numbered(revision_id)
    keeping = keeping_of(revision)
    destinations = listing(revision).destinations
    wanted = tuple(one.address for one in to_open(destinations, keeping))
    return ToOpen(wanted, {one.address: one.role for one in destinations}, keeping)


def pictures_shown_elsewhere(revision_id: int) -> list[str]:
    """The addresses of the pictures of a revision that lie elsewhere, as its readers get them; to be asked of the workbench.

    Raises:
        PastBudget: they cannot be listed.
    """
    revision = numbered(revision_id)
    return shown_elsewhere_bounded(message_of(revision), readers_of(revision), start=settings.HELPERS_START)


def digest_of(address: str) -> str:
    """The digest by which an address is found."""
    return hashlib.sha256(address.encode("utf-8", "surrogatepass")).hexdigest()


def newest(workspace: Workspace, kind: str, addresses: Iterable[str]) -> dict[str, LinkAnswer]:
    """The newest answer to each address."""
    digests = {digest_of(address): address for address in addresses}
    rows = LinkAnswer.objects.filter(workspace=workspace, kind=kind, address_sha256__in=list(digests))
    rows = rows.order_by("address_sha256", "-asked_at", "-id").distinct("address_sha256")
    return {digests[row.address_sha256]: row for row in rows}


def still_fresh(rows: Mapping[str, LinkAnswer], since: datetime | None, addresses: Sequence[str] = ()) -> dict[str, LinkAnswer]:
    """Those that need not be asked again: fresh, and given after somebody asked for them anew (all, or those in ``addresses``)."""
    now = timezone.now()
    return {
        address: row
        for address, row in rows.items()
        if row.fresh_until > now and (since is None or row.asked_at >= since or (addresses and address not in addresses))
    }


def keep(workspace: Workspace, kind: str, answer: Answer, body: bytes = b"") -> LinkAnswer:
    """One answer as a row."""
    asked_at = parse_datetime(answer.asked_at) or timezone.now()
    fresh_until = parse_datetime(answer.fresh_until) or asked_at
    return LinkAnswer.objects.create(
        workspace=workspace,
        kind=kind,
        address=answer.address.replace("\0", ""),
        address_sha256=digest_of(answer.address),
        asked_at=asked_at,
        # What was not asked for is no answer that holds.
        fresh_until=asked_at if answer.problem == "not-opened" else fresh_until,
        answer=storable(answer.as_json()),
        blob_sha256=store.keep(body) if body else "",
    )


def open_now(
    revision: Revision, asked: ToOpen, work_id: int, since: datetime | None = None, only: Sequence[str] = ()
) -> dict[str, LinkAnswer]:
    """Open what may be opened of a revision. Safe to run twice, and after a worker was killed: an address with an answer is not asked again.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    workspace = revision.mailing.workspace
    wire = wire_of(workspace)
    wanted = asked.addresses
    there = still_fresh(newest(workspace, Kind.LINK, wanted), since, only)
    missing = [address for address in wanted if address not in there]
    total, came = len(wanted), dict(there)
    jobs.report(work_id, done=len(came), total=max(total, 1), doing="opening links")
    answers: list[Answer] = []
    with closing(fetch_all(lambda: fetcher_of(wire), [Wanted(address) for address in missing])) as coming:
        for fetched in coming if missing else ():
            answer = fetched.answer
            answers.append(answer)
            came[answer.address] = keep(workspace, Kind.LINK, answer)
            jobs.report(work_id, done=len(came), total=total, doing=answer.address[:80])
    for answer in without_way_out(answers, asked.keeping):
        if answer.problem == "not-opened":
            row = came[answer.address]
            row.answer, row.fresh_until = storable(answer.as_json()), row.asked_at
            row.save(update_fields=["answer", "fresh_until"])
    return came


def land_now(revision: Revision, roles: Mapping[str, Role], work_id: int, rows: dict[str, LinkAnswer]) -> None:
    """Open the pages that readers are sent to in a browser. Safe to run twice: a page that was opened is not opened again.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    waiting = {
        row.address: row for row in rows.values() if not row.landing and row.address in roles and is_landing(row.value, roles[row.address])
    }
    asked = dict(list(waiting.items())[:MOST_LANDINGS])
    wire = wire_of(revision.mailing.workspace)
    jobs.report(work_id, done=len(rows), total=len(rows) + len(asked), doing="starting the browser")
    try:
        with closing(landings(lambda: landing_browser_of(wire), [row.value for row in asked.values()])) as coming:
            for number, landing in enumerate(coming if asked else (), 1):
                _keep_landing(asked[landing.answer.address], landing)
                jobs.report(work_id, done=len(rows) + number, total=len(rows) + len(asked), doing=f"page of {landing.answer.address}"[:80])
    except CaptureFailed as failure:
        # Without a browser the links are opened all the same; the check that needs it says so.
        logger.warning("landing pages cannot be shown: %s", failure, extra={"action": "landings.failed"})


def _keep_landing(row: LinkAnswer, landing: Landing) -> None:
    if landing.landed is None:
        row.landing = {"problem": landing.problem[:300]}
    else:
        row.landing = {"desktop": store.keep(landing.desktop), "phone": store.keep(landing.phone)}
        row.answer = storable(replace(row.value, landed=landing.landed).as_json())
    row.save(update_fields=["landing", "answer"])


def keep_current(revision: Revision, kind: str, rows: Iterable[LinkAnswer]) -> None:
    """Say which answers stand for a revision now. Links and pictures are asked for by two tasks, which may end at the same moment."""
    name = "links" if kind == Kind.LINK else "pictures"
    with transaction.atomic():
        locked_mailing(revision.mailing_id)
        opened = CurrentAnswers.objects.filter(revision=revision).first() or CurrentAnswers(revision=revision)
        standing = {row.address: row.pk for row in rows}
        if kind == Kind.PICTURE:
            # Copies of several readers show different pictures: those of one stay when another's come.
            before = LinkAnswer.objects.filter(pk__in=opened.pictures).values_list("address", "pk")
            standing = dict(before) | standing
        setattr(opened, name, sorted(standing.values()))
        answers = _answers(opened)
        opened.key = answers.key
        opened.there = sum(answer.is_opened and answer.status < 400 for answer in answers.links.values())
        opened.save()


def _answers(opened: CurrentAnswers) -> Answers:
    rows = LinkAnswer.objects.filter(pk__in=[*opened.links, *opened.pictures])
    values = [(row.kind, row.value) for row in rows]
    return Answers(*({value.address: value for of, value in values if of == kind} for kind in (Kind.LINK, Kind.PICTURE)))


def _kept_answers(revision_id: int) -> Answers:
    opened = CurrentAnswers.objects.filter(revision_id=revision_id).first()
    return _answers(opened) if opened is not None else Answers()


def answers_for_checks(revision: Revision) -> dict[str, Any]:
    """The answers of a revision's links and pictures, for the checks."""
    key = (OPENED.of(revision) or {}).get("key")
    known: dict[str, Any] = {"seen_by_hand": frozenset(one["address"] for one in SEEN.of(revision))}
    return known | ({"answers": Later(key, lambda: _kept_answers(revision.pk))} if key else {})


def with_pictures_kept(revision: Revision, message: Message) -> Message:
    """The message with the pictures that were fetched for it."""
    opened = CurrentAnswers.objects.filter(revision=revision).first()
    rows = LinkAnswer.objects.filter(pk__in=opened.pictures).order_by("pk") if opened is not None and opened.pictures else ()
    return with_fetched(message, _as_resources(rows))


def fetch_for_renders(revision: Revision, addresses: Sequence[str], report: Any) -> None:
    """Fetch the pictures of a message that lie elsewhere, before it is rendered, where the house does so by itself.

    Those that came stand for the revision; they are read where the message is rewritten.
    """
    wire = wire_of(revision.mailing.workspace)
    pictures_now(revision, wire, addresses, report, fetches=wire.pictures == When.ALWAYS)


def pictures_now(
    revision: Revision, wire: Wire, addresses: Sequence[str], report: Any, *, fetches: bool, since: datetime | None = None
) -> list[LinkAnswer]:
    """The answers to pictures: the newest there are, and with ``fetches`` asked for where none holds any more."""
    workspace = revision.mailing.workspace
    known = newest(workspace, Kind.PICTURE, addresses)
    there = still_fresh(known, since) if fetches else known
    missing = [address for address in addresses if address not in there] if fetches else []
    with closing(fetch_all(lambda: fetcher_of(wire), [Wanted(address, "picture") for address in missing])) as coming:
        for number, fetched in enumerate(coming if missing else (), 1):
            there[fetched.answer.address] = _keep_picture(workspace, fetched)
            report(f"fetching pictures, {number} of {len(missing)}")
    if there:
        keep_current(revision, Kind.PICTURE, there.values())
    return list(there.values())


def _keep_picture(workspace: Workspace, fetched: Fetched) -> LinkAnswer:
    return keep(workspace, Kind.PICTURE, fetched.answer, fetched.body if as_resource(fetched.answer, fetched.body) is not None else b"")


def _as_resources(rows: Iterable[LinkAnswer]) -> dict[str, Resource]:
    found: dict[str, Resource] = {}
    left = MOST_PICTURE_OCTETS
    for row in rows:
        data = store.fetch(row.blob_sha256) if row.blob_sha256 else b""
        left -= len(data)
        resource = as_resource(row.value, data) if data and left >= 0 else None
        if resource is not None:
            found[row.address] = resource
    return found


def ends_with_checks(revision: Revision, rows: Mapping[str, LinkAnswer]) -> None:
    """The answers stand for the revision, and the checks that read them are asked again."""
    keep_current(revision, Kind.LINK, rows.values())
    ask_for_checks(revision)
