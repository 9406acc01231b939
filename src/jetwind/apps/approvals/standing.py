"""Signatures that count: what each rests on, whether that still holds, and whether its condition is met."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q, QuerySet
from django.urls import reverse
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.known import SEEN, SIGNATURES
from jetwind.apps.approvals.models import SignOff
from jetwind.apps.audit.services import record
from jetwind.apps.comments.models import Thread
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.stages import locked_mailing, move
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import settle, tell
from jetwind.apps.proofs.models import Arrival, Reply, ReportKind, TestCopy
from jetwind.apps.review.models import CheckRun, FindingRecord
from jetwind.apps.review.questions import newest_run
from jetwind.apps.review.readiness import rule_for
from jetwind.apps.review.selectors import excuses_for, in_force_for, shown_with
from jetwind.apps.workspace.rulebooks import rulebooks_for
from jetwind.core.checking import Level, rulebooks
from jetwind.core.clearing import Rule, Signature, changes, open_places

#: What else a signature rests on, as apps above know it: the name of a part, and a table of names and values for a revision.
rests_further: dict[str, Callable[[Revision], dict[str, str]]] = {}
#: Characters of a reason for which signatures became void.
LONGEST_REASON = 200
#: Sentences of changes that are kept with a signature.
MOST_CHANGES = 40


def signature_facts(revision: Revision, rule: Rule) -> Mapping[str, Any]:
    """The signatures of a revision that are not void, as facts of the rule."""
    return {"signatures": tuple(_signatures(revision, rule, timezone.now()))}


def _signatures(revision: Revision, rule: Rule, now: datetime) -> list[Signature]:
    found = []
    for row in SIGNATURES.of(revision):
        at = parse_datetime(row["at"])
        if row["content"] != revision.content_sha256 or (
            rule.days is not None and at is not None and at + timedelta(days=rule.days) <= now
        ):
            continue
        found.append(Signature(frozenset(row["roles"]), row["waits_for"] or ""))
    return found


def seen_facts(revision: Revision, rule: Rule) -> Mapping[str, Any]:
    """Whether a recipient found a test copy right, anywhere or on a phone, as facts of the rule."""
    found = SEEN.of(revision)
    return {"is_seen": bool(found), "is_seen_on_phone": "phone" in found}


def is_enough(revision: Revision) -> bool:
    """Whether the signatures that count now clear a revision by its rule."""
    rule = rule_for(revision.mailing)
    return not open_places(rule, [one for one in _signatures(revision, rule, timezone.now()) if not one.waits_for])


def rests_on(revision: Revision) -> dict[str, dict[str, str]]:
    """Everything that a signature under a revision rests on, part by part."""
    mailing, workspace = revision.mailing, revision.mailing.workspace
    day = (mailing.planned_at or timezone.now()).date()
    names = workspace.rulebooks or [book.id for book in rulebooks().values()]
    syntax = mailing.field_syntax
    run = newest_run(revision)
    excuses = in_force_for(revision)
    shown = [shown_with(found, excuses) for found in run.findings.all()] if run is not None else []
    return {
        "content": {f"revision {revision.number}": revision.content_sha256},
        "fields": {"field list": " ".join(workspace.field_list), "syntax": repr(syntax)[:2000]},
        "rulebooks": {**dict.fromkeys(names, "applies"), **{book.name: book.key for book in _house_books(mailing, day)}},
        "settings of checks": {name: json.dumps(own, sort_keys=True) for name, own in workspace.check_settings.items()},
        "excuses": {one.fingerprint: f"{one.sentence} – {one.reason} ({one.by.shown_name})"[:500] for one in excuses_for(revision)},
        "findings": {
            one.record.fingerprint: f"{one.record.level}: {one.record.sentence}"[:500]
            for one in shown
            if one.is_open and one.record.level != Level.NOTE.value
        },
        "checks": _versions(run) if run is not None else {},
        "test sends": _troubles(revision),
        **{part: tell_of(revision) for part, tell_of in rests_further.items()},
    }


def _house_books(mailing: Mailing, day: Any) -> Any:
    return rulebooks_for(mailing.workspace, mailing.kind, mailing.countries, day)


def _versions(run: CheckRun) -> dict[str, str]:
    """The version of each check of a run: the digest of its code that its answer was kept with."""
    versions = {}
    for check_id, (_, _, told, *_) in run.outcomes.items():
        versions[check_id] = next((one.partition("=")[2] for one in told if one.startswith("code=")), "")
    return versions


def _troubles(revision: Revision) -> dict[str, str]:
    """What went wrong with the test sends of a revision. What went well voids nothing, so that it is not counted."""
    found = {}
    for copy in TestCopy.objects.filter(send__revision=revision, purpose=TestCopy.Purpose.COPY, state=TestCopy.State.REFUSED):
        found[f"copy {copy.pk}"] = f"The copy to {copy.address} was refused."
    bad = (ReportKind.BOUNCED, ReportKind.COMPLAINED)
    for report in Arrival.objects.filter(reports_on__send__revision=revision, report__in=bad, is_past=False).select_related("reports_on"):
        about = report.reports_on
        assert about is not None
        happened = "came back" if report.report == ReportKind.BOUNCED else "was complained about"
        found[f"report {report.pk}"] = f"The copy to {about.address} {happened}."
    for reply in Reply.objects.filter(link__send__revision=revision, looks_right=False).select_related("link"):
        who = reply.link.person or reply.link.address
        found[f"answer {reply.pk}"] = f"{who} found something wrong{f': {reply.words[:200]}' if reply.words else '.'}"
    return found


def reconsider(mailing: Mailing, actor: User | None) -> None:
    """Void each signature under the newest revision whose grounds have changed, and see whether conditions are met.

    The message is locked by the caller, and is not released. Its stage follows. ``actor`` is the person whose act changed something;
    None where no person's act did.
    """
    revision = Revision.objects.select_related("mailing__workspace", "mailing__syntax").filter(mailing=mailing).order_by("-number").first()
    if revision is None:
        return
    valid = list(revision.sign_offs.filter(voided_at=None).select_related("by"))
    if not valid:
        return
    revision.mailing = mailing
    now, grounds, rule = timezone.now(), rests_on(revision), rule_for(mailing)
    voided: list[SignOff] = []
    for one in valid:
        changed = changes(one.rests, grounds, _settled_by(one))
        if rule.days is not None and one.at + timedelta(days=rule.days) <= now:
            days = "1 day" if rule.days == 1 else f"{rule.days} days"
            changed = (f"A signature holds for {days}, which are over.", *changed)
        if changed:
            one.voided_at, one.voided_reason, one.changed = now, " ".join(changed)[:LONGEST_REASON], list(changed[:MOST_CHANGES])
            one.save(update_fields=["voided_at", "voided_reason", "changed"])
            record("approval.voided", actor=actor, mailing=mailing, revision=revision.number, reason=one.voided_reason)
            voided.append(one)
        else:
            _meet(one, actor)
    if mailing.stage == Mailing.Stage.CLEARED and not is_enough(revision):
        move(mailing, "sign-off void", actor)
    elif mailing.stage == Mailing.Stage.UNDER_REVIEW and is_enough(revision):
        settle(mailing, Notice.Kind.ASKED, Notice.Kind.GIVEN, Notice.Kind.DEADLINE)
        move(mailing, "cleared", actor, revision=revision.number, content=revision.content_sha256)
    path = reverse("station", args=[mailing.pk, revision.number, "sign-off"])
    for one in voided:
        if actor is None or one.by_id != actor.pk:
            tell([one.by], Notice.Kind.VOIDED, mailing, one.voided_reason, path)


def _settled_by(one: SignOff) -> frozenset[str]:
    """The names of excuses that the signature's own condition expects."""
    return frozenset(one.condition.get("names", ())) if one.condition.get("kind") == "finding" else frozenset()


def _meet(one: SignOff, actor: User | None) -> None:
    """Note that the condition of a signature is met, or that it is open again."""
    if not one.condition:
        return
    is_met = condition_is_met(one.revision, one.condition)
    if is_met == (one.condition_met_at is not None):
        return
    one.condition_met_at = timezone.now() if is_met else None
    one.save(update_fields=["condition_met_at"])
    record(
        "approval.condition-met" if is_met else "approval.condition-open",
        actor=actor,
        mailing=one.mailing,
        revision=one.revision.number,
        who=one.by.shown_name,
        condition=one.condition["words"],
    )


def condition_is_met(revision: Revision, condition: Mapping[str, Any]) -> bool:
    """Whether the comment of a condition is settled, or its finding is excused or gone."""
    if condition["kind"] == "comment":
        return not Thread.objects.filter(pk=condition["name"], mailing_id=revision.mailing_id, settled_at=None).exists()
    run = newest_run(revision)
    if run is None:
        return False
    excuses = in_force_for(revision)
    names = condition["names"]
    records: list[FindingRecord] = list(run.findings.filter(Q(fingerprint__in=names) | Q(cause__in=[name for name in names if name])))
    return all(shown_with(found, excuses).excuse is not None for found in records)


def signed_and_open() -> QuerySet[Mailing]:
    """The messages that have a valid signature and are not released."""
    signed = SignOff.objects.filter(voided_at=None).values("mailing")
    return Mailing.objects.filter(pk__in=signed).exclude(stage=Mailing.Stage.RELEASED).order_by("pk")


def with_signatures_that_end() -> list[int]:
    """The numbers of the messages with a valid signature for which the rule says how long it holds."""
    return [mailing.pk for mailing in signed_and_open().select_related("workspace") if rule_for(mailing).days is not None]


def reconsider_now(mailing_id: int) -> None:
    """See again which signatures of a message hold. A released message keeps what it has, and one that is gone has none."""
    with transaction.atomic():
        mailing = Mailing.objects.filter(pk=mailing_id).first() and locked_mailing(mailing_id)
        if mailing is not None and not mailing.is_locked:
            reconsider(mailing, None)
