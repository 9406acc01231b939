"""The state of a walk: findings with their excuses, marks of the course, readiness."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from django.urls import reverse

from jetwind.apps.comments.known import OPEN_THREADS
from jetwind.apps.intake.known import NEWEST_NUMBER
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import OPEN
from jetwind.apps.review.answers import CHECKS
from jetwind.apps.review.excusing import InForce
from jetwind.apps.review.known import LOOKS, WORKS
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord
from jetwind.apps.review.questions import Question, context_of, machines_of, newest_run
from jetwind.apps.review.readiness import Readiness, readiness
from jetwind.core.checking import Context, Level
from jetwind.core.reports import STATIONS, Station


@dataclass(frozen=True, slots=True)
class ShownFinding:
    """A finding as it stands now: with the excuse that is in force, if any."""

    record: FindingRecord
    excuse: Excuse | None

    @property
    def is_open(self) -> bool:
        """Whether it still counts."""
        return self.excuse is None


@dataclass(slots=True)
class StationState:
    """A station's mark on the course: ``empty`` not looked at, ``half`` looked at with open findings, ``full`` clear."""

    station: Station
    looked: bool
    findings: list[ShownFinding] = field(default_factory=list)
    #: Why it is left out and who said so; empty where it is not.
    left_out: str = ""
    left_out_by: str = ""

    @property
    def slug(self) -> str:
        """Slug of the station."""
        return self.station.slug

    @property
    def name(self) -> str:
        """Name of the station."""
        return self.station.name

    @property
    def open(self) -> list[ShownFinding]:
        """Findings not excused."""
        return [finding for finding in self.findings if finding.is_open]

    @property
    def weighty(self) -> int:
        """Open stops and fixes: notes do not keep a station from being clear."""
        return sum(finding.record.level != Level.NOTE.value for finding in self.open)

    @property
    def stops(self) -> int:
        """Open stops."""
        return sum(finding.record.level == Level.STOP.value for finding in self.open)

    @property
    def mark(self) -> str:
        """The course, as it is drawn. A station that is left out is not clear."""
        if not self.looked or self.left_out:
            return "empty"
        return "half" if self.weighty else "full"


@dataclass(slots=True)
class Walk:
    """One revision's walk."""

    revision: Revision
    run: CheckRun | None
    stations: list[StationState]
    is_stale: bool
    #: Work on the revision waits or runs; the checks wait or run.
    is_busy: bool
    is_checking: bool
    context: Context
    in_force: InForce[Excuse]

    @property
    def findings(self) -> list[ShownFinding]:
        """All findings, station by station."""
        return [finding for state in self.stations for finding in state.findings]

    def count(self, level: str) -> int:
        """Open findings of a level."""
        return sum(finding.is_open and finding.record.level == level for finding in self.findings)

    @property
    def unlooked(self) -> list[str]:
        """Checks that looked at nothing to the end."""
        return self.run.unlooked if self.run is not None else []

    @property
    def stops(self) -> int:
        """Open stops."""
        return self.count("stop")

    @property
    def fixes(self) -> int:
        """Open fixes."""
        return self.count("fix")

    @property
    def notes(self) -> int:
        """Open notes."""
        return self.count("note")

    @property
    def readiness(self) -> Readiness:
        """How near the message is to leaving, with everything that is missing."""
        walked = [state for state in self.stations if state.slug != "sign-off"]
        newest = NEWEST_NUMBER.of(self.revision)
        unconfirmed = self._unconfirmed()
        counted = {
            "newer": newest if newest > self.revision.number else 0,
            "is_checked": self.run is not None,
            "is_busy": self.is_busy,
            "is_stale": self.is_stale or self.is_checking,
            "unlooked": len(self.unlooked),
            "stops": self.stops,
            "fixes": self.fixes,
            "comments": len(OPEN_THREADS.of(self.revision)),
            "looked": frozenset(state.slug for state in walked if state.looked and not state.left_out),
            "left_out": frozenset(state.slug for state in walked if state.left_out),
            "unconfirmed": len(unconfirmed),
            "unconfirmed_of_reviewers": sum(not one.by_approver for one in unconfirmed),
        }
        return readiness(self.revision, counted, sum(state.mark == "full" for state in walked))

    def _unconfirmed(self) -> set[Excuse]:
        """The excuses of stops and fixes that cover a finding and that nobody has confirmed."""
        records = [found.record for found in self.findings]
        touching = {excuse for one in records for excuse in self.in_force.touching(one.fingerprint, one.cause, one.members)}
        return {excuse for excuse in touching if excuse.confirmed_at is None and excuse.level != Level.NOTE.value}


def known_fingerprints(walk: Walk) -> frozenset[str] | None:
    """The fingerprints of a walk's findings, with those of the causes and faults that they tell; None before the checks ran."""
    if walk.run is None:
        return None
    records = [found.record for found in walk.findings]
    return frozenset(name for one in records for name in (one.fingerprint, one.cause, *one.members) if name)


def walk_of(revision: Revision) -> Walk:
    """The walk of a revision as it stands now."""
    run = newest_run(revision)
    looks = {look["station"]: look for look in LOOKS.of(revision)}
    excuses = in_force_for(revision)
    records = list(run.findings.all()) if run else []
    stations = []
    for station in STATIONS:
        own = [shown_with(found, excuses) for found in records if found.station == station.slug]
        # Nobody "looks at" the sign-off: its mark is full once the message is cleared.
        is_signed = station.slug == "sign-off" and revision.mailing.stage in (Mailing.Stage.CLEARED, Mailing.Stage.RELEASED)
        look = looks.get(station.slug)
        state = StationState(station, is_signed or look is not None, own)
        if look is not None and look["left_out"]:
            state.left_out, state.left_out_by = look["left_out"], look["by"]
        stations.append(state)
    context = context_of(revision)
    is_stale = (
        run is not None and not revision.mailing.is_locked and not Question(revision, context, machines_of(revision)).is_answered_by(run)
    )
    return Walk(
        revision,
        run,
        stations=stations,
        is_stale=is_stale,
        is_busy=any(work["state"] in OPEN for work in WORKS.of(revision)),
        is_checking=any(work["state"] in OPEN and work["kind"] == CHECKS for work in WORKS.of(revision)),
        context=context,
        in_force=excuses,
    )


def excuses_for(revision: Revision) -> Iterable[Excuse]:
    """Excuses in force for a revision."""
    in_force = Excuse.objects.filter(mailing_id=revision.mailing_id, lifted_at=None).select_related("by", "confirmed_by")
    return [excuse for excuse in in_force if excuse.only_revision_id in (None, revision.pk)]


def in_force_for(revision: Revision) -> InForce[Excuse]:
    """The excuses in force for a revision, by what they cover."""
    return InForce((excuse.fingerprint, excuse.members, excuse) for excuse in excuses_for(revision))


def shown_with(record: FindingRecord, excuses: InForce[Excuse]) -> ShownFinding:
    """A finding with the excuse that covers it."""
    return ShownFinding(record, excuses.covering(record.fingerprint, record.cause, record.members))


def station_address(revision: Revision, slug: str) -> str:
    """The address of a station of a revision."""
    return reverse("station", args=[revision.mailing_id, revision.number, slug])
