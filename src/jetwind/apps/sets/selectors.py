"""A set as its page shows it: members, coverage, causes, the sheet; and what a signature under a member rests on."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import Count, F, OuterRef, Q, QuerySet, Subquery, TextField
from django.db.models.functions import Cast, Length

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.previews.places import Box, share
from jetwind.apps.review.excusing import InForce
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord
from jetwind.apps.review.readiness import Readiness, listed, with_readiness
from jetwind.apps.review.selectors import shown_with, station_address
from jetwind.apps.sets.models import Member, MessageSet, NotedPieces, PieceUse
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking.mends import mends
from jetwind.core.profiles import profiles
from jetwind.core.renders.measured import Measured
from jetwind.core.reports import STATIONS, Station, station_of
from jetwind.core.sets import Cause, Difference, Told, differences, told_once

#: How wide and how tall a render may stand on the sheet, in px of the screen, and the largest scale.
WIDEST, TALLEST, LARGEST_SCALE = 230, 460, 0.6
#: Columns of findings that a list has no use for.
_LARGE = ("data", "others", "faults", "fix")
#: Characters of the measurements of a render that a page reads; a long newsletter has about 200,000.
LARGEST_MEASURED = 500_000
#: Sides of a message that are outlined on its render where they differ.
_OUTLINED = ("header", "footer")


@dataclass(frozen=True, slots=True)
class Row:
    """One expected member: its message with the newest revision and how ready it is, and what it has otherwise than the model.

    ``is_noted`` says that its pieces are known. All but ``member`` is empty while it is missing.
    """

    member: Member
    revision: Revision | None = None
    readiness: Readiness | None = None
    is_model: bool = False
    is_noted: bool = False
    differences: tuple[Difference, ...] = ()


@dataclass(frozen=True, slots=True)
class Mark:
    """A station of a member: ``mark`` is empty, half or full as on its course, ``words`` say so, ``address`` leads there."""

    mark: str
    words: str
    address: str


@dataclass(frozen=True, slots=True)
class Card:
    """A member's render on the sheet: sizes in px of the screen, and the boxes of what differs, each with a word, in per cent of the picture."""

    row: Row
    render: Render | None
    width: int
    height: int
    is_long: bool
    boxes: list[tuple[str, Box]]


@dataclass(frozen=True, slots=True)
class CauseRow:
    """Findings of one cause, the members that have it, and whether one of them is open."""

    cause: Cause
    members: list[Row]
    is_open: bool

    @property
    def does(self) -> str:
        """The sentence of the mend that needs no word; empty where there is none."""
        return next((own.does for own in mends().get(self.cause.first.check, ()) if not own.asks), "")

    @property
    def places(self) -> list[tuple[Row, str]]:
        """The members, each with the address of its finding."""
        return [(row, _address(row, self.cause)) for row in self.members]


def sets_of(workspace: Workspace) -> QuerySet[MessageSet]:
    """The sets of a workspace. ``expected`` counts the members that a set names, ``there`` those of them that have a message."""
    there = Count("members", filter=Q(members__mailing__isnull=False))
    return MessageSet.objects.filter(workspace=workspace).annotate(expected=Count("members"), there=there).select_related("model")


def rows_of(shown: MessageSet) -> list[Row]:
    """The expected members of a set, those that are there with everything that is known."""
    members = list(shown.members.all())
    newest = Revision.objects.filter(mailing=OuterRef("pk")).order_by("-number").values("pk")[:1]
    mailings = Mailing.objects.filter(pk__in=[one.mailing_id for one in members if one.mailing_id]).values(newest=Subquery(newest))
    revisions = {one.mailing_id: one for one in with_readiness(Revision.objects.filter(pk__in=mailings))}
    noted = {one.revision_id: one.value for one in NotedPieces.objects.filter(revision__in=[one.pk for one in revisions.values()])}
    model = revisions.get(shown.model_id or 0)
    model_traits = noted.get(model.pk) if model is not None else None
    rows = []
    for member in members:
        revision = revisions.get(member.mailing_id or 0)
        if revision is None:
            rows.append(Row(member))
            continue
        traits, is_model = noted.get(revision.pk), member.mailing_id == shown.model_id
        differs = differences(model_traits, traits) if model_traits is not None and traits is not None and not is_model else ()
        rows.append(Row(member, revision, listed(revision), is_model=is_model, is_noted=traits is not None, differences=differs))
    return rows


#: Findings under the numbers of their revisions, and whether no excuse covers them.
Found = Mapping[tuple[int, FindingRecord], bool]


def coverage_of(rows: Sequence[Row], findings: Found) -> list[tuple[Station, list[Mark | None], int]]:
    """Each station with its mark for every row, and with the number of messages for which it is done; None for a missing message."""
    open_at: dict[int, set[str]] = defaultdict(set)
    for (revision, record), is_open in findings.items():
        if is_open and record.level != "note":
            open_at[revision].add(record.station)
    found = []
    for station in STATIONS:
        if station.slug == "sign-off":
            continue
        marks = [_mark(row, station, open_at) for row in rows]
        found.append((station, marks, sum(mark is not None and mark.mark == "full" for mark in marks)))
    return found


def _mark(row: Row, station: Station, open_at: Mapping[int, set[str]]) -> Mark | None:
    revision = row.revision
    if revision is None:
        return None
    has_open, facts = station.slug in open_at[revision.pk], revision.facts
    address = station_address(revision, station.slug)
    if station.slug in facts.left_out:
        return Mark("full", "left out", address)
    if station.slug in facts.looked_at:
        return Mark("half", "looked at, something is open", address) if has_open else Mark("full", "clear", address)
    return Mark("empty", "not looked at, something is open" if has_open else "not looked at", address)


def causes_of(rows: Sequence[Row], findings: Found) -> list[CauseRow]:
    """The findings of all members, told once for each cause; those that are open come first."""
    by_revision = {row.revision.pk: row for row in rows if row.revision is not None}
    order = {number: place for place, number in enumerate(by_revision)}
    told, is_open = [], {}
    for (revision, record), opened in findings.items():
        one = Told(
            revision,
            record.check_id,
            level=record.level,
            fingerprint=record.fingerprint,
            cause=record.cause,
            sentence=record.sentence,
        )
        told.append(one)
        is_open[one] = opened
    found = []
    for cause in told_once(told):
        # In the order of the set, as everywhere on its page.
        members = [by_revision[number] for number in sorted(cause.members, key=order.__getitem__)]
        found.append(CauseRow(cause, members, any(is_open[one] for one in cause.findings)))
    return sorted(found, key=lambda one: not one.is_open)


def _address(row: Row, cause: Cause) -> str:
    revision = row.revision
    assert revision is not None, "a finding is one of a message that is there"
    fingerprint = next(one.fingerprint for one in cause.findings if one.member == revision.pk)
    return f"{station_address(revision, station_of(cause.first.check).slug)}?finding={fingerprint}"


def findings_of(rows: Sequence[Row]) -> Found:
    """Every finding that the checks of the members told last."""
    revisions = [row.revision.pk for row in rows if row.revision is not None]
    runs = CheckRun.objects.filter(revision__in=revisions).order_by("revision_id", "-created_at").distinct("revision_id").values("pk")
    mailings = {row.revision.pk: row.revision.mailing_id for row in rows if row.revision is not None}
    excuses: dict[int, list[Excuse]] = defaultdict(list)
    for excuse in Excuse.objects.filter(mailing__in=mailings.values(), lifted_at=None):
        excuses[excuse.mailing_id].append(excuse)
    found: dict[tuple[int, FindingRecord], bool] = {}
    in_force: dict[int, InForce[Excuse]] = {}
    records = FindingRecord.objects.filter(run__in=runs).annotate(of_revision=F("run__revision")).order_by("run", "order")
    for record in records.defer(*_LARGE):
        revision = record.of_revision
        if revision not in in_force:
            holds = [one for one in excuses[mailings[revision]] if one.only_revision_id in (None, revision)]
            in_force[revision] = InForce((one.fingerprint, one.members, one) for one in holds)
        found[revision, record] = shown_with(record, in_force[revision]).is_open
    return found


def sheet_of(rows: Sequence[Row], profile: str) -> list[Card]:
    """The newest render of each member in one profile, on one scale, with what differs from the model."""
    revisions = [row.revision.pk for row in rows if row.revision is not None]
    renders = Render.objects.filter(revision__in=revisions, profile=profile, mode=OWN).defer("tree", "changes", "spoken", "measured")
    # Of several readers' copies, the one that is done, and was asked for last.
    newest = {one.revision_id: one for one in sorted(renders, key=lambda one: (one.state == Render.State.DONE, one.pk))}
    elements: dict[tuple[int, str], list[int]] = {}
    for use in PieceUse.objects.filter(revision__in=revisions, kind__in=_OUTLINED):
        elements[use.revision_id, use.kind] = use.elements
    layouts = _layouts(
        newest[row.revision.pk].pk for row in rows if row.revision is not None and row.differences and row.revision.pk in newest
    )
    # All members are shown in one profile, so that one scale holds for all of them.
    content_width = profiles()[profile].content_width
    scale = min(LARGEST_SCALE, WIDEST / content_width)
    width = round(content_width * scale)
    cards = []
    for row in rows:
        shot = newest.get(row.revision.pk) if row.revision is not None else None
        is_done = shot is not None and shot.state == Render.State.DONE
        height = round((shot.height if shot is not None and is_done else 400) * scale)
        boxes = _boxes(row, shot, layouts[shot.pk], elements) if shot is not None and is_done and shot.pk in layouts else []
        cards.append(Card(row, shot, width=width, height=min(height, TALLEST), is_long=height > TALLEST, boxes=boxes))
    return cards


def _layouts(renders: Iterable[int]) -> dict[int, Measured]:
    """The measurements of renders by their numbers. The server of pages reads none of a very large message, in which nothing is outlined."""
    text = Cast("measured", TextField())
    small = (
        Render.objects.filter(pk__in=list(renders), state=Render.State.DONE).annotate(size=Length(text)).filter(size__lte=LARGEST_MEASURED)
    )
    return {number: Measured.from_json(kept) for number, kept in small.values_list("pk", "measured")}


def _boxes(row: Row, shot: Render, layout: Measured, elements: Mapping[tuple[int, str], list[int]]) -> list[tuple[str, Box]]:
    found = []
    for one in row.differences:
        inside = [
            block
            for index in elements.get((shot.revision_id, one.side), ())
            for block in (layout.text_by_element.get(index), layout.by_element.get(index))
            if block is not None and block.width and block.height
        ]
        if inside:
            left, top = min(block.x for block in inside), min(block.y for block in inside)
            right, bottom = max(block.right for block in inside), max(block.bottom for block in inside)
            place = (share(left, shot.width), share(top, shot.height), share(right - left, shot.width), share(bottom - top, shot.height))
            found.append((one.side, place))
    return found


def differences_for_signatures(revision: Revision) -> dict[str, str]:
    """Sentences of what a revision has otherwise than the model of its set, by digests: a signature rests on them, and a new one voids it."""
    member = Member.objects.filter(mailing=revision.mailing_id).select_related("of").first()
    if member is None or member.of.model_id is None or member.of.model_id == revision.mailing_id:
        return {}
    own = NotedPieces.objects.filter(revision=revision).first()
    model = NotedPieces.objects.filter(revision__mailing=member.of.model_id).order_by("-revision__number").first()
    if own is None or model is None:
        return {}
    return {one.digest: one.sentence for one in differences(model.value, own.value)}


@dataclass(frozen=True, slots=True)
class Part:
    """A piece that several messages have: its kind, its words, and the revisions that have it."""

    kind: str
    words: str
    digest: str
    users: list[Revision]


@dataclass(frozen=True, slots=True)
class Changed:
    """A piece that one message changed while others still have it as it was: its words before and now, empty where it is gone."""

    kind: str
    here: Revision
    before: str
    now: str
    still: list[Revision]


def shared_of(revisions: Sequence[Revision]) -> list[tuple[str, str, int]]:
    """Kind, digest and number of users of each piece that two or more of these revisions have, those with most users first."""
    uses = PieceUse.objects.filter(revision__in=[one.pk for one in revisions]).values("kind", "digest")
    counted = uses.annotate(users=Count("revision", distinct=True)).filter(users__gt=1).order_by("-users", "kind", "digest")
    return list(counted.values_list("kind", "digest", "users"))


def parts_of(revisions: Sequence[Revision], shared: Sequence[tuple[str, str, int]]) -> list[Part]:
    """These pieces, as :func:`shared_of` gives them, with their words and users."""
    by_number = {one.pk: one for one in revisions}
    wanted = {(kind, digest): Part(kind, "", digest, []) for kind, digest, _ in shared}
    words: dict[tuple[str, str], str] = {}
    uses = PieceUse.objects.filter(revision__in=by_number, digest__in=[digest for _, digest, _ in shared])
    for kind, digest, said, revision in uses.values_list("kind", "digest", "words", "revision"):
        if (kind, digest) in wanted:
            wanted[kind, digest].users.append(by_number[revision])
            words.setdefault((kind, digest), said)
    return [Part(part.kind, words.get(key, ""), part.digest, part.users) for key, part in wanted.items()]


def changed_of(revisions: Sequence[Revision]) -> list[Changed]:
    """The pieces that the newest revision of a message has otherwise than the one before, while other messages still have them."""
    later = [one for one in revisions if one.number > 1]
    before = {
        (one.mailing_id, one.number): one.pk
        for one in Revision.objects.filter(mailing__in=[one.mailing_id for one in later]).only("mailing_id", "number")
    }
    earlier = {one.pk: before[one.mailing_id, one.number - 1] for one in later if (one.mailing_id, one.number - 1) in before}
    by_revision: dict[int, dict[tuple[str, str], str]] = defaultdict(dict)
    users: dict[tuple[str, str], list[Revision]] = defaultdict(list)
    newest = {one.pk: one for one in revisions}
    # First what was changed, then who still has it: most messages have one revision, and are no part of the first.
    columns = ("revision", "kind", "digest", "words")
    for revision, kind, digest, words in PieceUse.objects.filter(revision__in=[*earlier, *earlier.values()]).values_list(*columns):
        by_revision[revision][kind, digest] = words
    gone = {digest for one in earlier for kind, digest in by_revision[earlier[one]] if (kind, digest) not in by_revision[one]}
    for revision, kind, digest in PieceUse.objects.filter(revision__in=newest, digest__in=gone).values_list(*columns[:3]):
        users[kind, digest].append(newest[revision])
    found = []
    for here in later:
        own, earlier_pieces = by_revision[here.pk], by_revision[earlier.get(here.pk, 0)]
        for (kind, digest), words in earlier_pieces.items():
            still = [one for one in users[kind, digest] if kind in _OUTLINED or not _are_copies(here.mailing, one.mailing)]
            if own and (kind, digest) not in own and still:
                now = next((said for (name, _), said in own.items() if name == kind), "") if kind in _OUTLINED else ""
                found.append(Changed(kind, here, words, now, still))
    return found


def _are_copies(one: Mailing, other: Mailing) -> bool:
    """Whether one message began as a copy of the other: what a copy says otherwise is what it was made for."""
    return one.copied_from_id == other.pk or other.copied_from_id == one.pk


def free_messages(workspace: Workspace) -> Iterable[Mailing]:
    """The messages of a workspace that belong to no set, by title: those that may be put into one."""
    found: QuerySet[Mailing, Any] = Mailing.objects.filter(workspace=workspace, member=None).exclude(stage=Mailing.Stage.RELEASED)
    return found.order_by("title", "pk")[:500]
