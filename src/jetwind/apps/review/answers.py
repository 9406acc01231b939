"""Having a revision checked, and what the checks answered: kept, taken up again where it still holds, read back for reports."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import datetime
from typing import Any, cast

from django.conf import settings
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.known import plain_title
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of, newest_open, numbered
from jetwind.apps.intake.stages import locked_mailing
from jetwind.apps.jobs import machines
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.models import CheckRun, FindingRecord
from jetwind.apps.review.questions import Question, context_of, is_outdated, is_slow, message_to_check, newest_run
from jetwind.apps.ui.following import follows
from jetwind.apps.workspace.desk import SECONDS_OF_A_HOUSE, Workbench
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import CheckResult, Fault, Finding, Level, Outcome, Part, Place, registry
from jetwind.core.message import Message
from jetwind.core.reports import Review, Summary, station_of, summary_of
from jetwind.core.spam import SpamSum
from jetwind.engines.bounded import CHECKING, review_bounded

#: Called before a revision is checked: what its circumstances say is brought up to date.
preparations: list[Callable[[Revision], None]] = []

CHECKS = "checks"
RECHECKS = "rechecks"


#: How many times the usual time and memory a person may have spent on a message whose checks ran out.
PATIENT = 6


def ask_for_checks(revision: Revision, user: User | None = None, *, patience: int = 1) -> Work:
    """Have a revision checked in the background; with ``patience``, the checks that ran out once more, with so many times the usual limit."""
    return jobs.start(
        CHECKS,
        f"revision:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(
            "review.check_revision",
            is_slow=patience > 1 or is_slow(revision),
            needs="checks",
            revision_id=revision.pk,
            work_id=work_id,
            **({"patience": patience} if patience > 1 else {}),
        ),
    )


def ask_for_rechecks(workspace: Workspace) -> Work:
    """Have every message of a house that a change touches checked again in the background."""
    return jobs.start(
        RECHECKS,
        f"workspace:{workspace.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("review.recheck_house", needs="checks", workspace_id=workspace.pk, work_id=work_id),
    )


def recheck_alike(mailing: Mailing, titles: Collection[str]) -> None:
    """Have the open messages of a house checked again that have one of these titles, but for capitals and blanks, like ``mailing``."""
    plain = {" ".join(title.split()).lower() for title in titles}
    others = Mailing.objects.filter(workspace_id=mailing.workspace_id).exclude(pk=mailing.pk).annotate(plain=plain_title("title"))
    _recheck_soon(others.filter(plain__in=plain))


def recheck_copies(mailing: Mailing) -> None:
    """Have the open copies of a message checked again: some checks hold them against it."""
    _recheck_soon(Mailing.objects.filter(copied_from=mailing))


def recheck_planned(since: datetime, until: datetime) -> None:
    """Have the open messages checked again whose planned time lies after ``since`` and not after ``until``."""
    _recheck_soon(Mailing.objects.filter(planned_at__gt=since, planned_at__lte=until))


def _recheck_soon(mailings: QuerySet[Mailing]) -> None:
    # Work of other messages is asked for by a task of its own: here it would be locked in another order than elsewhere.
    numbers = list(mailings.exclude(stage=Mailing.Stage.RELEASED).order_by("pk").values_list("pk", flat=True))
    if numbers:
        jobs.defer("review.recheck_messages", needs="checks", mailing_ids=numbers)


def recheck_messages(mailing_ids: Sequence[int]) -> None:
    """Have the newest revision of each of these messages checked again where its answers no longer hold."""
    with Workbench(seconds=SECONDS_OF_A_HOUSE) as bench:
        for number in mailing_ids:
            newest = Revision.objects.filter(mailing_id=number).order_by("number").last()
            if newest is not None:
                bench.ask(recheck_if_outdated, newest.pk)


def recheck_outdated(workspace: Workspace, work_id: int) -> None:
    """Have the newest revision of each message checked again whose answers no longer hold. Safe to run twice.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    with Workbench(seconds=SECONDS_OF_A_HOUSE) as bench:
        for revision in jobs.each(work_id, newest_open(workspace), lambda one: one.mailing.title):
            bench.ask(recheck_if_outdated, revision.pk)


def recheck_if_outdated(revision_id: int) -> None:
    """Have a revision checked where its newest answers no longer hold."""
    revision = numbered(revision_id)
    if is_outdated(revision):
        ask_for_checks(revision)


def prepare_now(revision: Revision, number: int) -> None:
    """Carry out one of the preparations of the checks; a released message keeps what it has."""
    if not revision.mailing.is_locked or newest_run(revision) is None:
        preparations[number](revision)


def check_now(revision: Revision, patience: int = 1, *, is_prepared: bool = False) -> CheckRun:
    """Run all checks, unless the same question was answered before. Safe to run twice. A released message keeps its answers.

    ``patience`` multiplies the limits, and asks once more what ran out before. ``is_prepared`` says that the preparations were carried out.
    """
    last = newest_run(revision)
    if last is not None and revision.mailing.is_locked:
        return last
    for prepare in () if is_prepared else preparations:
        prepare(revision)
    question = Question(revision, context_of(revision), [machines.own_facts()])
    asks_again = last is not None and patience > 1 and bool(last.unlooked)
    if last is not None and not asks_again and question.is_answered_by(last):
        return last
    known = CheckRun.objects.filter(revision=revision, key=question.key).first()
    if known is not None and not asks_again:
        # Asked again under circumstances that held before: its answer becomes the newest one.
        with transaction.atomic():
            mailing = locked_mailing(revision.mailing_id)
            CheckRun.objects.filter(pk=known.pk).update(created_at=timezone.now())
            if not mailing.is_locked:
                follows().answers_known(mailing)
        return known
    holding = question.still_valid(last) if last is not None else {}
    asked = [check_id for check_id in registry() if check_id not in holding]
    budget = CHECKING.times(patience)
    # What is asked again stands beside what held: one cause is told once in both together.
    context = dataclasses.replace(question.context, asked=frozenset(registry()))
    answer = review_bounded(message_to_check(revision), context, asked, start=settings.HELPERS_START, budget=budget)
    return _keep(revision, question, answer, last, holding)


def _keep(revision: Revision, question: Question, answer: Review, last: CheckRun | None, holding: Mapping[str, list[Any]]) -> CheckRun:
    """A run of what was answered now and what held from the run before."""
    outcomes = {result.check: _outcome(question, result) for result in answer.results}
    all_outcomes = dict(sorted({**holding, **outcomes}.items()))
    unlooked = sum(Outcome(outcome).is_unlooked for outcome, *_ in all_outcomes.values())
    told = {
        "outcomes": all_outcomes,
        "spam": answer.spam.as_json(),
        "summary": dataclasses.asdict(answer.summary) | {"unlooked": unlooked},
    }
    with transaction.atomic():
        # Answers of checks that were under way when the message was released come too late.
        mailing = locked_mailing(revision.mailing_id)
        if last is not None and mailing.is_locked:
            return last
        given = {name: storable(value) for name, value in told.items()}
        run, is_new = CheckRun.objects.get_or_create(revision=revision, key=question.key, defaults=given)
        if not is_new and not run.unlooked:
            return run
        kept = [found for found in last.findings.all() if found.check_id in holding] if last is not None else []
        if not is_new:
            # The same question was asked once more with a longer limit; the new answers replace those that ran out.
            run.findings.all().delete()
            for name, value in {**given, "created_at": timezone.now()}.items():
                setattr(run, name, value)
            run.save()
        made = [as_record(run, finding) for finding in answer.findings]
        for found in kept:
            found.pk, found.run = None, run
            found._state.adding = True
        everything = sorted((*made, *kept), key=lambda found: (_WEIGHT[found.level], found.check_id, found.start or -1))
        for order, found in enumerate(everything):
            found.order = order
        FindingRecord.objects.bulk_create(everything)
        if not mailing.is_locked:
            follows().answers_known(mailing)
    return run


def _outcome(question: Question, result: CheckResult) -> list[Any]:
    """The answer of a check, why, what the answer hangs on, and the key of that; empty where nothing was looked at."""
    declared = registry()[result.check]
    told = question.told(declared, result.used)
    return [result.outcome.value, result.reason, told, "" if result.outcome.is_unlooked else question.answer_key(declared, told)]


_WEIGHT = {"stop": 0, "fix": 1, "note": 2}


def storable(value: Any) -> Any:
    """Plain values that PostgreSQL takes: it refuses NUL and lone surrogates, which a hostile message may hold."""
    if isinstance(value, str):
        return value.replace("\0", "").encode("utf-8", "replace").decode()
    if isinstance(value, Mapping):
        return {storable(str(key)): storable(inner) for key, inner in value.items()}
    if isinstance(value, (list, tuple, set, frozenset)):
        return [storable(inner) for inner in value]
    return value if value is None or isinstance(value, (bool, int, float)) else storable(str(value))


def _as_table(place: Place) -> dict[str, Any]:
    return {
        "part": place.part,
        "name": storable(place.name)[:255],
        "start": place.start.offset if place.start else None,
        "end": place.end.offset if place.end else None,
        "line": place.start.line if place.start else None,
        "column": place.start.column if place.start else None,
        "element": place.element,
    }


def as_record(run: CheckRun, finding: Finding) -> FindingRecord:
    """A finding as a row of a run; not saved."""
    return FindingRecord(
        run=run,
        order=0,
        check_id=finding.check,
        station=station_of(finding.check).slug,
        level=finding.level.value,
        fingerprint=finding.fingerprint,
        template=finding.template[:240],
        data=storable(finding.data),
        **_as_table(finding.place),
        others=[_as_table(other) for other in finding.others],
        more=finding.more,
        cause=finding.cause,
        members=finding.members,
        faults=[
            [storable(fault.message), storable(fault.fix), fault.fingerprint, fault.places] for fault in finding.faults if fault.places
        ],
        fix=storable(finding.fix),
        basis=finding.basis,
        sentence=storable(finding.message),
    )


def stored_review(run: CheckRun) -> Review:
    """A run as the reports take it: the stored answers in their stored words."""
    message = message_of(run.revision)
    findings: dict[str, list[Finding]] = {}
    for found in run.findings.all():
        findings.setdefault(found.check_id, []).append(_as_finding(found, message))
    results = tuple(
        CheckResult(check_id, Outcome(answer[0]), tuple(findings.get(check_id, ())), answer[1])
        for check_id, answer in sorted(run.outcomes.items())
    )
    return Review(message, results, SpamSum.from_json(run.spam), _summary(run) or summary_of(message))


def _as_finding(record: FindingRecord, message: Message) -> Finding:
    first, *others = (_as_place(record.at_place(number), message) for number in range(len(record.others) + 1))
    return Finding(
        check=record.check_id,
        level=Level(record.level),
        template=record.template,
        data=record.data,
        place=first,
        fix=record.fix,
        basis=record.basis,
        fingerprint=record.fingerprint,
        others=tuple(others),
        more=record.more,
        cause=record.cause,
        faults=tuple(Fault(*fault) for fault in record.faults),
    )


def _as_place(record: FindingRecord, message: Message) -> Place:
    part = cast(Part, record.part)
    source = message.source_of(part)
    if source is None or record.start is None or record.end is None:
        return Place(part, record.name, element=record.element)
    return Place(part, record.name, source.position(record.start), source.position(record.end), record.element)


def _summary(run: CheckRun) -> Summary | None:
    kept = {name: value for name, value in run.summary.items() if name in Summary.__dataclass_fields__}
    return Summary(**kept) if kept else None


def crashed_checks(run: CheckRun) -> list[str]:
    """Checks that failed in a run; shown, since silence would read as clear."""
    return [check_id for check_id, (outcome, *_) in run.outcomes.items() if outcome == Outcome.CRASHED.value]
