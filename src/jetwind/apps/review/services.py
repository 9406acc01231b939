"""Running the checks on a revision; looking, excusing, sending back."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import IntegrityError, transaction
from django.utils import timezone

from jetwind import __version__
from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import refuse_if_locked
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord, StationLook
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.services import reader_values
from jetwind.core.checking import STATIONS, Brief, Check, Context, Finding, Kind, Outcome, Place, UnusableBrief, registry
from jetwind.core.message import Sample
from jetwind.core.reports import Review
from jetwind.engines.bounded import review_bounded

CHECKS = "checks"

#: Called in the same transaction when a revision is sent back: apps above add what becomes void with it.
on_sent_back: list[Callable[[Revision, User], None]] = []


#: What apps above know of a revision that checks read: values of the context by name.
circumstances: list[Callable[[Revision], dict[str, Any]]] = []


def context_of(revision: Revision) -> Context:
    """The circumstances under which a revision is checked now."""
    mailing, workspace = revision.mailing, revision.mailing.workspace
    readers = tuple(
        Sample(reader.name, {name: str(value) for name, value in reader_values(reader).items()}) for reader in workspace.readers.all()
    )
    fields = frozenset(workspace.field_list) | {"email", "time_zone"}
    source = mailing.copied_from.revisions.last() if mailing.copied_from is not None else None
    known: dict[str, Any] = {}
    for tell in circumstances:
        known |= tell(revision)
    return Context(
        **known,
        kind=Kind(mailing.kind),
        planned=mailing.planned_at,
        now=timezone.now(),
        local_time=mailing.local_time,
        working_title=mailing.title,
        taken_titles=frozenset(Mailing.objects.filter(workspace=workspace).exclude(pk=mailing.pk).values_list("title", flat=True)),
        previous=message_of(source) if source is not None else None,
        brief=Brief.from_dict(mailing.brief),
        word_list=frozenset(word.casefold() for word in workspace.word_list),
        readers=readers,
        known_fields=fields if workspace.field_list or readers else None,
        practice_domains=frozenset(workspace.practice_domains),
        rulebooks=frozenset(workspace.rulebooks),
        settings=workspace.check_settings,
    )


def _plain(context: Context, name: str) -> Any:
    """One circumstance as a value that can be compared and kept."""
    value = getattr(context, name)
    if name == "now":
        # The clock runs on; what an answer depends on is whether the planned time has passed.
        return context.planned is not None and context.planned < value
    if name == "planned":
        return [value.isoformat(), str(value.date())] if value else None
    if name == "previous":
        return value.sha256 if value else None
    if name == "readers":
        return [[reader.name, dict(reader.values)] for reader in value]
    if name == "renders":
        return value.key if value else None
    if name == "brief":
        return value.as_dict()
    return sorted(value) if isinstance(value, frozenset) else value


def _digest(value: Any) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True, default=str).encode()).hexdigest()


def question_key(revision: Revision, context: Context) -> str:
    """SHA-256 over content, circumstances, and the checks' versions: equal keys have equal answers."""
    plain = {field.name: _plain(context, field.name) for field in dataclasses.fields(context)}
    versions = [(check.id, check.version) for check in registry().values()]
    return _digest([revision.content_sha256, __version__, versions, plain])


def answer_key(check: Check, used: Iterable[str], context: Context) -> str:
    """SHA-256 over what one answer depends on besides the content: the check, its settings, the circumstances it looked at."""
    own = context.settings.get(check.id, {})
    return _digest([__version__, check.id, check.version, own, {name: _plain(context, name) for name in sorted(used)}])


def ask_for_checks(revision: Revision, user: User | None = None) -> Work:
    """Have a revision checked in the background."""
    from jetwind.apps.review.tasks import check_revision

    return jobs.start(
        CHECKS,
        f"revision:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: check_revision.defer(revision_id=revision.pk, work_id=work_id),
    )


def is_outdated(revision_id: int) -> bool:
    """Whether the newest answer was given under other circumstances than those of now; a locked message keeps its answer."""
    revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
    run = revision.check_runs.order_by("-created_at").first()
    return run is not None and not revision.mailing.is_locked and run.key != question_key(revision, context_of(revision))


def recheck(user: User, revision: Revision) -> None:
    """Check a revision again, since circumstances changed.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "review:look", revision.mailing.workspace)
    with transaction.atomic():
        ask_for_checks(revision)
        record("review.rechecked", actor=user, mailing_id=revision.mailing_id, revision=revision.number)


def change_brief(user: User, mailing: Mailing, given: dict[str, Any]) -> None:
    """Set what the message must and must not say; its newest revision is checked again.

    Raises:
        NotAllowed, Refused: not permitted; released; an entry that cannot be used.
    """
    permit(user, "mailing:change", mailing.workspace)
    try:
        brief = Brief.from_dict(given)
    except UnusableBrief as refused:
        raise Refused(str(refused)) from refused
    with transaction.atomic():
        locked = Mailing.objects.select_for_update().get(pk=mailing.pk)
        refuse_if_locked(locked)
        if locked.brief == brief.as_dict():
            return
        Mailing.objects.filter(pk=mailing.pk).update(brief=brief.as_dict())
        record("mailing.changed", actor=user, mailing_id=mailing.pk, fields="the brief")
        newest = locked.revisions.last()
        if newest is not None:
            ask_for_checks(newest)


def answer_now(revision: Revision) -> Review:
    """What all checks say of a revision under the circumstances of now, for a report."""
    return review_bounded(message_of(revision), context_of(revision), start=settings.HELPERS_START)


def check_now(revision: Revision) -> CheckRun:
    """Run all checks, unless the same question was answered before. Safe to run twice."""
    context = context_of(revision)
    key = question_key(revision, context)
    known = CheckRun.objects.filter(revision=revision, key=key).first()
    if known is not None:
        # Asked again under circumstances that held before: its answer becomes the newest one.
        CheckRun.objects.filter(pk=known.pk).update(created_at=timezone.now())
        return known
    kept = _kept_answers(revision, context)
    checks = registry()
    asked = [check_id for check_id in checks if check_id not in kept.outcomes]
    answer = review_bounded(message_of(revision), context, asked, start=settings.HELPERS_START)
    outcomes = {
        result.check: [
            result.outcome.value,
            result.reason,
            sorted(result.used),
            answer_key(checks[result.check], result.used, context) if result.is_lasting else "",
        ]
        for result in answer.results
    }
    spam = {
        "score": answer.spam.score(),
        "band": answer.spam.band(),
        "reasons": [dataclasses.asdict(reason) for reason in answer.spam.reasons],
    }
    with transaction.atomic():
        run, is_new = CheckRun.objects.get_or_create(
            revision=revision,
            key=key,
            defaults={"outcomes": _storable(dict(sorted({**kept.outcomes, **outcomes}.items()))), "spam": _storable(spam)},
        )
        if is_new:
            made = [_as_record(run, 0, finding) for finding in answer.findings]
            for record_kept in kept.findings:
                record_kept.pk, record_kept.run = None, run
                record_kept._state.adding = True
            everything = sorted((*made, *kept.findings), key=lambda found: (_WEIGHT[found.level], found.check_id, found.start or -1))
            for order, found in enumerate(everything):
                found.order = order
            FindingRecord.objects.bulk_create(everything)
    return run


_WEIGHT = {"stop": 0, "fix": 1, "note": 2}


@dataclass(frozen=True)
class _Kept:
    """Answers of the last run that still hold, with their findings."""

    outcomes: dict[str, list[Any]]
    findings: list[FindingRecord]


def _kept_answers(revision: Revision, context: Context) -> _Kept:
    """What a recheck need not ask again: the content is the same, and so is everything that the check looked at."""
    last = revision.check_runs.order_by("-created_at").first()
    if last is None:
        return _Kept({}, [])
    checks = registry()
    outcomes = {
        check_id: answer
        for check_id, answer in last.outcomes.items()
        if check_id in checks
        and len(answer) == 4
        and answer[0] != Outcome.CRASHED.value
        and answer[3] == answer_key(checks[check_id], answer[2], context)
    }
    return _Kept(outcomes, [found for found in last.findings.all() if found.check_id in outcomes])


def _storable(value: Any) -> Any:
    """Plain values that PostgreSQL takes: it refuses NUL and lone surrogates, which a hostile message may hold."""
    if isinstance(value, str):
        return value.replace("\0", "").encode("utf-8", "replace").decode()
    if isinstance(value, Mapping):
        return {_storable(str(key)): _storable(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple, set, frozenset)):
        return [_storable(inner) for inner in value]
    return value if value is None or isinstance(value, (bool, int, float)) else _storable(str(value))


def _as_table(place: Place) -> dict[str, Any]:
    return {
        "part": place.part,
        "name": _storable(place.name)[:255],
        "start": place.start.offset if place.start else None,
        "end": place.end.offset if place.end else None,
        "line": place.start.line if place.start else None,
        "column": place.start.column if place.start else None,
        "element": place.element,
    }


def _as_record(run: CheckRun, order: int, finding: Finding) -> FindingRecord:
    return FindingRecord(
        run=run,
        order=order,
        check_id=finding.check,
        station=finding.station.slug,
        level=finding.level.value,
        fingerprint=finding.fingerprint,
        template=finding.template[:240],
        data=_storable(finding.data),
        **_as_table(finding.place),
        others=[_as_table(other) for other in finding.others],
        fix=_storable(finding.fix),
        basis=finding.basis,
        sentence=_storable(finding.message),
    )


def look_at(user: User, revision: Revision, station: str) -> None:
    """Say that a station has been looked at. The first look takes the mailing under review.

    Raises:
        NotAllowed, Refused: not permitted; released; no such station.
    """
    permit(user, "review:look", revision.mailing.workspace)
    if station not in {known.slug for known in STATIONS}:
        raise Refused(f"There is no station “{station}”.")
    with transaction.atomic():
        mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
        refuse_if_locked(mailing)
        _, is_new = StationLook.objects.get_or_create(revision=revision, station=station, defaults={"by": user})
        if is_new:
            name = next(known.name for known in STATIONS if known.slug == station)
            record("station.looked", actor=user, mailing_id=mailing.pk, station=name, revision=revision.number)
        if mailing.stage == Mailing.Stage.TAKEN_IN:
            Mailing.objects.filter(pk=mailing.pk).update(stage=Mailing.Stage.UNDER_REVIEW)
            record("review.started", actor=user, mailing_id=mailing.pk)


def unlook(user: User, revision: Revision, station: str) -> None:
    """Take back that a station has been looked at.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:look", revision.mailing.workspace)
    refuse_if_locked(revision.mailing)
    StationLook.objects.filter(revision=revision, station=station).delete()


def excuse(user: User, revision: Revision, fingerprint: str, reason: str, *, only_this_revision: bool) -> Excuse:
    """Accept a finding with a reason.

    Raises:
        NotAllowed, Refused: not permitted; released; no such finding; no reason; excused already.
    """
    permit(user, "review:excuse", revision.mailing.workspace)
    reason = " ".join(reason.split())
    if len(reason) < 4:
        raise Refused("An excuse needs a reason that a colleague will understand.")
    if len(reason) > 500:
        raise Refused(f"The reason has {len(reason)} characters; there is room for 500.")
    run = revision.check_runs.order_by("-created_at").first()
    found = run.findings.filter(fingerprint=fingerprint).first() if run else None
    if found is None:
        raise Refused("This finding is not in the newest check of the revision; load the page again.")
    try:
        with transaction.atomic():
            mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
            refuse_if_locked(mailing)
            Excuse.objects.filter(mailing=mailing, fingerprint=fingerprint, lifted_at=None, only_revision__isnull=False).exclude(
                only_revision=revision
            ).update(lifted_at=timezone.now())
            made = Excuse.objects.create(
                mailing=mailing,
                check_id=found.check_id,
                fingerprint=fingerprint,
                only_revision=revision if only_this_revision else None,
                reason=reason,
                sentence=found.sentence,
                level=found.level,
                by=user,
            )
            record("finding.excused", actor=user, mailing_id=mailing.pk, check=found.check_id, reason=reason, fingerprint=fingerprint)
    except IntegrityError:
        raise Refused("Somebody excused this finding a moment ago; load the page again.") from None
    return made


def lift_excuse(user: User, revision: Revision, fingerprint: str) -> None:
    """Take an excuse back.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:excuse", revision.mailing.workspace)
    with transaction.atomic():
        mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
        refuse_if_locked(mailing)
        for made in Excuse.objects.filter(mailing=mailing, fingerprint=fingerprint, lifted_at=None):
            made.lifted_at = timezone.now()
            made.save(update_fields=["lifted_at"])
            record("finding.excuse-lifted", actor=user, mailing_id=mailing.pk, check=made.check_id, fingerprint=fingerprint)


def send_back(user: User, revision: Revision, comment: str) -> None:
    """Give the message back to its author.

    Raises:
        NotAllowed, Refused: not permitted; released; not the newest revision; no comment.
    """
    permit(user, "review:send-back", revision.mailing.workspace)
    comment = " ".join(comment.split())
    if not comment:
        raise Refused("Say in a sentence what the author should change.")
    with transaction.atomic():
        mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
        refuse_if_locked(mailing)
        newest = mailing.revisions.last()
        if newest is None or newest.pk != revision.pk:
            raise Refused(f"Revision {revision.number} is not the newest; look at the newest one first.")
        Mailing.objects.filter(pk=mailing.pk).update(stage=Mailing.Stage.SENT_BACK)
        record("review.sent-back", actor=user, mailing_id=mailing.pk, revision=revision.number, comment=comment)
        for follow in on_sent_back:
            follow(revision, user)


def crashed_checks(run: CheckRun) -> list[str]:
    """Checks that failed in a run; shown, since silence would read as clear."""
    return [check_id for check_id, (outcome, *_) in run.outcomes.items() if outcome == Outcome.CRASHED.value]
