"""The Walkaround's frame: what every station's page needs around its own view.

Apps that own a station (previews, proofs, approvals) build on this; gauges are handed in from above at start.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest

from jetwind.apps.comments.selectors import PlacedThread, open_threads, people_of, placed
from jetwind.apps.intake.known import NEWEST_NUMBER
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.answers import CHECKS, crashed_checks
from jetwind.apps.review.known import WORKS
from jetwind.apps.review.models import CheckRun, FindingRecord
from jetwind.apps.review.selectors import ShownFinding, StationState, Walk, known_fingerprints, station_address, walk_of
from jetwind.apps.ui.given import whole_number
from jetwind.apps.workspace.access import PersonRequest, permissions_of
from jetwind.apps.workspace.selectors import options_of
from jetwind.core.checking import Outcome, registry
from jetwind.core.checking.mends import mends
from jetwind.core.checks.appearance.size import ClipOptions
from jetwind.core.message import Message
from jetwind.core.reports import STATIONS, station_of
from jetwind.core.source import Excerpt, Span
from jetwind.core.spam import SpamSum


@dataclass(frozen=True, slots=True)
class Gauge:
    """One measure in the strip. ``share`` from 0 to 1 draws a bar; None draws none. ``address`` is that of the page that tells more."""

    label: str
    value: str
    share: float | None = None
    address: str = ""


#: Where a refused reason waits for the page that shows it again.
KEPT_REASON = "kept_reason"
#: Where refused words of a comment wait likewise, with the thread that they are for: "new", or "thread-" and its number.
KEPT_WORDS = "kept_words"

#: More gauges, from apps above; one that has nothing to tell gives None.
gauges: list[Callable[[Walk], Gauge | None]] = []


@dataclass(frozen=True, slots=True)
class Keys:
    """Where the keys lead: the stations and findings before and after; None where there is none."""

    previous_station: str | None
    next_station: str | None
    previous_finding: str | None
    next_finding: str | None


@dataclass(frozen=True, slots=True)
class Permitted:
    """The acts that the person may do to this message now; a released message takes nothing more."""

    may_look: bool
    may_excuse: bool
    may_send: bool
    may_send_back: bool
    may_change: bool
    may_copy: bool
    may_comment: bool

    @classmethod
    def of(cls, allowed: frozenset[str], mailing: Mailing) -> Permitted:
        """From the permissions of the person's roles."""
        is_open = not mailing.is_locked
        return cls(
            may_look=is_open and "review:look" in allowed,
            may_excuse=is_open and "review:excuse" in allowed,
            may_send=is_open and "proof:send" in allowed,
            may_send_back=is_open and "review:send-back" in allowed,
            may_change=is_open and "mailing:change" in allowed,
            may_copy="mailing:copy" in allowed,
            may_comment=is_open and "comment:write" in allowed,
        )


@dataclass(frozen=True, slots=True)
class Frame:
    """A station's page around its own view. Its fields are what review/walkaround.html shows, by the same names."""

    revision: Revision
    mailing: Mailing
    walk: Walk
    state: StationState
    #: Every station with its address.
    course: list[tuple[StationState, str]]
    #: The findings of this station with their addresses, the selected one of any station, and its sheet.
    findings: list[tuple[ShownFinding, str]]
    chosen: ShownFinding | None
    sheet: Sheet | None
    gauges: list[Gauge]
    #: Checks under way, checks that crashed, and what the checks of this station answered that found nothing.
    work: Work | None
    #: All work on the revision, the newest of each kind.
    works: dict[str, Work]
    crashed: list[str]
    #: Checks that ran out of time or memory, station by station.
    ran_out: list[RanOut]
    answers: list[tuple[str, str, str, str]]
    newest_number: int
    allowed: frozenset[str]
    permitted: Permitted
    keys: Keys
    kept_reason: str
    comments: CommentsPane
    here: str
    test_address: str

    @property
    def is_newest(self) -> bool:
        """Whether no newer revision has come in."""
        return self.newest_number == self.revision.number

    def context(self) -> dict[str, Any]:
        """The values that a template needs; a view adds its own."""
        own = {field.name: getattr(self, field.name) for field in fields(self) if field.name not in ("permitted", "keys")}
        parts = (self.permitted, self.keys)
        return own | {"is_newest": self.is_newest} | {field.name: getattr(part, field.name) for part in parts for field in fields(part)}


def frame(request: PersonRequest, revision: Revision, slug: str) -> Frame:
    """The frame of a station's page."""
    walk = walk_of(revision)
    state = next(state for state in walk.stations if state.slug == slug)
    chosen = next((found for found in walk.findings if found.record.fingerprint == request.GET.get("finding")), None)
    at = chosen_place(request, chosen)
    message = message_of(revision)
    kept: dict[str, str] = {name: request.GET.get(name, "") for name in ("profile", "mode", "reader") if name in request.GET}
    allowed = permissions_of(request.user, revision.mailing.workspace)
    works = jobs.by_kind(WORKS.of(revision))

    def address(place: int) -> str:
        return _address(revision, slug, {**kept, **_query(chosen, place)})

    return Frame(
        revision=revision,
        mailing=revision.mailing,
        walk=walk,
        state=state,
        course=[(other, station_address(revision, other.slug)) for other in walk.stations],
        findings=[(found, _address(revision, slug, {**kept, "finding": found.record.fingerprint})) for found in state.findings],
        chosen=replace(chosen, record=chosen.record.at_place(at)) if chosen else None,
        sheet=sheet_of(message, chosen, at, address) if chosen else None,
        gauges=[*_gauges(walk, message), *filter(None, (make(walk) for make in gauges))],
        work=works.get(CHECKS),
        works=works,
        crashed=crashed_checks(walk.run) if walk.run else [],
        ran_out=ran_out_of(walk.run),
        answers=_answers(walk, state),
        newest_number=NEWEST_NUMBER.of(revision),
        allowed=allowed,
        permitted=Permitted.of(allowed, revision.mailing),
        keys=_keys(revision, walk, state, chosen, kept),
        kept_reason=_kept_reason(request, chosen),
        comments=_comments(request, walk, state, chosen, message=message, allowed=allowed),
        here=station_address(revision, slug),
        test_address=station_address(revision, "test-sends"),
    )


@dataclass(frozen=True, slots=True)
class CommentsPane:
    """What is said at a station. ``own`` are its threads, those about the selected finding first; ``open`` counts all of the message.

    ``about`` are the things that a new comment may be about, each with its value in the form. ``kept`` are refused words with their thread.
    """

    own: list[PlacedThread]
    open: int
    about: list[tuple[str, str]]
    people: list[tuple[int, str]]
    may_settle_all: bool
    kept: tuple[str, str] | None

    @property
    def new_words(self) -> str:
        """The refused words of a new comment."""
        return self.kept[1] if self.kept is not None and self.kept[0] == "new" else ""


def _comments(
    request: PersonRequest, walk: Walk, state: StationState, chosen: ShownFinding | None, *, message: Message, allowed: frozenset[str]
) -> CommentsPane:
    threads = open_threads(walk.revision)
    named = {chosen.record.fingerprint, chosen.record.cause, *chosen.record.members} - {""} if chosen is not None else set()
    own = [thread for thread in threads if thread.station == state.slug or thread.fingerprint in named]
    own.sort(key=lambda thread: thread.fingerprint not in named)
    about = [("station", f"the station {state.name}")]
    if state.slug == "envelope":
        about.insert(0, ("subject", "the subject"))
    if chosen is not None:
        about.insert(0, (chosen.record.fingerprint, "the selected finding"))
    kept = request.session.pop(KEPT_WORDS) if KEPT_WORDS in request.session else None
    return CommentsPane(
        own=placed(own, message, known_fingerprints(walk)),
        open=len(threads),
        about=about,
        people=people_of(walk.revision),
        may_settle_all="review:look" in allowed,
        kept=(str(kept[0]), str(kept[1])) if kept is not None else None,
    )


@dataclass(frozen=True, slots=True)
class RanOut:
    """The checks of a station that ran out of time or memory: identifier and name of each, and why."""

    station: str
    checks: list[tuple[str, str]]
    reasons: list[str]


def ran_out_of(run: CheckRun | None) -> list[RanOut]:
    """Checks of a run that ran out of time or memory, in the order of the walk."""
    known = registry()
    gone = (
        [(check_id, reason) for check_id, (outcome, reason, *_) in sorted(run.outcomes.items()) if outcome == Outcome.RAN_OUT.value]
        if run
        else []
    )
    found = []
    for station in STATIONS:
        own = [(check_id, reason) for check_id, reason in gone if station_of(check_id) == station]
        if own:
            names = [(check_id, known[check_id].name if check_id in known else check_id) for check_id, _ in own]
            found.append(RanOut(station.name, names, sorted({reason for _, reason in own})))
    return found


def chosen_place(request: HttpRequest, chosen: ShownFinding | None) -> int:
    """Which of the finding's places is looked at, counted from 0; in the address they count from 1."""
    number = whole_number(request.GET, "place", 1)
    return number - 1 if chosen is not None and 1 <= number <= len(chosen.record.others) + 1 else 0


def _query(chosen: ShownFinding | None, place: int) -> dict[str, str]:
    return {"finding": chosen.record.fingerprint, "place": str(place + 1)} if chosen is not None else {}


def _kept_reason(request: PersonRequest, chosen: ShownFinding | None) -> str:
    """A reason that was just refused, for its own finding and for one showing only."""
    if KEPT_REASON not in request.session:
        return ""
    fingerprint, reason = request.session.pop(KEPT_REASON)
    return str(reason) if chosen is not None and chosen.record.fingerprint == fingerprint else ""


@dataclass(frozen=True, slots=True)
class Sheet:
    """Everything about the selected finding."""

    finding: ShownFinding
    name: str
    why: str
    rule: str
    excerpt: Excerpt | None
    #: The number of the place shown, from 1, and of each place its address, where it stands in words, and what is wrong there.
    at: int
    places: list[tuple[str, str, str]]
    #: The sentence and the mend of the fault at this place, where the finding tells several together.
    fault: tuple[str, str] | None = None
    #: Whether a machine can mend what this check finds, in most cases at least.
    has_mend: bool = False

    @property
    def count(self) -> int:
        """How many places there are, listed or not."""
        return max(1, len(self.places)) + self.finding.record.more

    @property
    def before(self) -> str | None:
        """The address of the place before."""
        return self.places[self.at - 2][0] if self.at > 1 else None

    @property
    def after(self) -> str | None:
        """The address of the next place."""
        return self.places[self.at][0] if self.at < len(self.places) else None


_PARTS = {"html": "HTML", "text": "plain text"}


def place_in_words(finding: FindingRecord, number: int) -> tuple[str, str]:
    record, fault = finding.at_place(number), finding.fault_at(number)
    words = f"{_PARTS.get(record.part, record.part)} {record.name}".strip()
    where = f"{words}, line {record.line}, column {record.column}" if record.line else words
    return where, fault[0] if fault is not None else ""


def sheet_of(message: Message, finding: ShownFinding, at: int, address: Callable[[int], str]) -> Sheet:
    """The sheet of a finding as it stands at one of its places: the source around it, and what its check says of itself."""
    record = finding.record.at_place(at)
    numbers = range(len(finding.record.others) + 1) if finding.record.others else ()
    places = [(address(number), *place_in_words(finding.record, number)) for number in numbers]
    declared = registry().get(finding.record.check_id)
    return Sheet(
        replace(finding, record=record),
        declared.name if declared else finding.record.check_id,
        why=declared.why if declared else "",
        rule=declared.rule if declared else "",
        excerpt=excerpt_of(message, record),
        at=at + 1,
        places=places,
        fault=finding.record.fault_at(at),
        has_mend=finding.record.check_id in mends(),
    )


def excerpt_of(message: Message, record: FindingRecord) -> Excerpt | None:
    """The lines of the source around a finding, or None where it has no place in one."""
    source = message.source_of(record.part)
    if source is None or record.start is None or record.end is None:
        return None
    return source.excerpt(Span(record.start, record.end), lines=1, width=160)


def _gauges(walk: Walk, message: Message) -> list[Gauge]:
    octets = message.html.octets if message.html else 0
    pictures = int(walk.run.summary.get("picture_octets", message.image_octets)) if walk.run else message.image_octets
    spam = walk.run.spam if walk.run else None
    clip = options_of(walk.revision.mailing.workspace, "appearance.clipped")
    assert isinstance(clip, ClipOptions)
    most = clip.clip_octets
    return [
        Gauge("HTML", f"{octets / 1024:.1f} of {most / 1024:,.0f} KB", min(octets / max(most, 1), 1.0)),
        Gauge("images", f"{pictures / 1024:,.0f} KB"),
        Gauge("spam", _spam_in_words(spam)),
    ]


def _spam_in_words(kept: dict[str, Any] | None) -> str:
    if not kept:
        return "not yet"
    return SpamSum.from_json(kept).in_words


def _answers(walk: Walk, state: StationState) -> list[tuple[str, str, str, str]]:
    """Checks of this station that found nothing, or could not tell of everything, with their answer and reason."""
    if walk.run is None:
        return []
    checks = registry()
    return [
        (check_id, checks[check_id].name, "found in part" if outcome == "findings" else outcome.replace("-", " "), reason)
        for check_id, (outcome, reason, *_) in walk.run.outcomes.items()
        if check_id in checks and station_of(check_id).slug == state.slug and (outcome != "findings" or reason)
    ]


def _address(revision: Revision, slug: str, query: dict[str, str]) -> str:
    return station_address(revision, slug) + (f"?{urlencode(query)}" if query else "")


def _keys(revision: Revision, walk: Walk, state: StationState, chosen: ShownFinding | None, kept: dict[str, str]) -> Keys:
    """Targets of the keys; with no finding selected, the first is next."""
    number = walk.stations.index(state)
    prints = [found.record.fingerprint for found in state.findings]
    # A finding of another station may be selected here, to see its place on the render.
    at = prints.index(chosen.record.fingerprint) if chosen in state.findings and chosen is not None else None
    before = prints[at - 1] if at else None
    after = (prints[0] if prints else None) if at is None else prints[at + 1] if at + 1 < len(prints) else None

    def station(other: int) -> str | None:
        return station_address(revision, walk.stations[other].slug) if 0 <= other < len(walk.stations) else None

    def finding(fingerprint: str | None) -> str | None:
        return _address(revision, state.slug, {**kept, "finding": fingerprint}) if fingerprint else None

    return Keys(station(number - 1), station(number + 1), finding(before), finding(after))
