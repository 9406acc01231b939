"""Looking for the mends of a revision, choosing among them, and taking the mended copy as the next revision."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from django.conf import settings
from django.urls import reverse

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.mends.models import PreparedMends
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.review.answers import as_record, storable
from jetwind.apps.review.models import CheckRun, Excuse
from jetwind.apps.review.questions import context_of, is_slow, message_to_check, newest_run, with_additions
from jetwind.apps.review.selectors import ShownFinding, StationState, Walk, shown_with, walk_of
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.core.checking import CheckResult, Context
from jetwind.core.checking.mends import MendKind, measured_checks, mends
from jetwind.core.mending import (
    Before,
    Mended,
    Offer,
    Withheld,
    as_patches,
    files_of,
    mended,
    offers_of,
    shown_of,
    strays,
    with_changes,
    worse,
)
from jetwind.core.message import Message, read_bytes
from jetwind.core.renders import Renders
from jetwind.core.renders.measured import Measured
from jetwind.core.reports import Review, station_of
from jetwind.engines.bounded import review_bounded

KIND, TASK = "mends", "mends.look_for_mends"
#: Changes of one mend that its row shows, and characters of a word that a person gives.
_SHOWN, LONGEST_WORD = 6, 500
#: Checks that the log names of those whose mends were taken.
_NAMED = 12


@dataclass(frozen=True, slots=True)
class Sums:
    """What a message comes to: open findings by level, lifted stripes of the windsock, points of spam risk, octets of its HTML."""

    stops: int
    fixes: int
    notes: int
    stripes: int
    spam: str
    octets: int


class _Judge:
    """Asks the checks about a message, and keeps the newest answer whole."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.last: Review | None = None

    def __call__(self, message: Message) -> Sequence[CheckResult]:
        self.last = review_bounded(message, self.context, start=settings.HELPERS_START)
        return self.last.results


@dataclass(slots=True)
class _Situation:
    """A revision to be mended: what the checks say of it, and its mends."""

    revision: Revision
    walk: Walk
    before: Before
    review: Review
    judge: _Judge
    offers: list[Offer]
    withheld: list[Withheld]

    def with_mends(self, offers: Sequence[Offer]) -> tuple[Mended, Review]:
        """The message with these mends, and what the checks say of it."""
        done = mended(self.before, offers)
        assert self.judge.last is not None, "the message itself was judged"
        return done, self.judge.last if done.taken else self.review

    @property
    def rendered(self) -> list[str]:
        """The checks that look at renders."""
        return [one.check for one in self.before.results if "renders" in one.used]

    def sums(self, review: Review, taken: Sequence[Offer] = ()) -> Sums:
        """The sums of a message with these mends, with the excuses in force and the stations that were looked at.

        What the checks read from renders stays as it is, but for what the mends put right.
        """
        run = self.walk.run or CheckRun(revision=self.revision)
        found = [shown_with(as_record(run, finding), self.walk.in_force) for finding in review.findings]
        mended_ones = {(one.check, one.finding) for one in taken}
        unread = {one.check for one in self.before.results if one.outcome == "cannot-tell" and "renders" in one.used}
        found += [
            one
            for state in self.walk.stations
            for one in state.findings
            if one.record.check_id in unread and (one.record.check_id, one.record.fingerprint) not in mended_ones
        ]
        stations = [self._with(state, found) for state in self.walk.stations]
        walk = replace(self.walk, stations=stations)
        octets = review.message.html.octets if review.message.html is not None else 0
        return Sums(walk.stops, walk.fixes, walk.notes, stripes=walk.readiness.stripes, spam=review.spam.in_words, octets=octets)

    def _with(self, state: StationState, found: Sequence[ShownFinding]) -> StationState:
        return replace(state, findings=[one for one in found if one.record.station == state.slug])


def _situation(revision: Revision, words: Mapping[str, str]) -> _Situation:
    """The mends of a revision, without those of findings that are excused.

    What renders measured is left out of the proof, before and after alike: it is known of the message as it is, and of no mended copy yet. It is
    read for the mends that only a render proves.
    """
    walk = walk_of(revision)
    message = message_to_check(revision)
    octets = store.fetch(revision.source_sha256)
    context = context_of(revision)
    judge = _Judge(replace(context, renders=None))
    results = tuple(judge(message))
    assert judge.last is not None
    review = judge.last

    def read(data: bytes) -> Message:
        return with_additions(revision, read_like(revision, data))

    read_from_renders = measured_of(message, context, measured_checks()) if context.key_of("renders") is not None else ()
    known = {one.check: one for one in (*results, *read_from_renders)}.values()
    open_results = [replace(one, findings=tuple(found for found in one.findings if not _is_excused(found, walk))) for one in known]
    offers, withheld = offers_of(message, context, open_results, words)
    before = Before(message, octets, results, read, judge)
    return _Situation(revision, walk, before, review=review, judge=judge, offers=offers, withheld=withheld)


def measured_of(message: Message, context: Context, checks: Sequence[str]) -> tuple[CheckResult, ...]:
    """What these checks say of a message with its renders."""
    return review_bounded(message, context, only=checks, start=settings.HELPERS_START).results if checks else ()


def read_like(revision: Revision, data: bytes) -> Message:
    """A changed copy of a revision's file, read as the revision is."""
    return read_bytes(data, revision.file_name, envelope=revision.given_envelope, syntax=revision.mailing.field_syntax)


def has_wordless_mend(check_id: str) -> bool:
    """Whether a machine can mend what a check finds without a word of a person."""
    return any(not own.asks for own in mends().get(check_id, ()))


def mends_of_check(revision: Revision, check_id: str) -> list[str]:
    """The findings of a check that a machine can mend in a revision without a word, by fingerprint."""
    return [one.finding for one in _situation(revision, {}).offers if one.check == check_id and not one.asks]


def copies_with_one(revision: Revision, kind: MendKind, most: int) -> dict[str, str]:
    """For the first ``most`` mends of a kind that are offered, by the finding's fingerprint, the digest of the copy that has this mend alone."""
    found = _situation(revision, {})
    own = [one for one in _offered(revision, found) if one.kind is kind][:most]
    return {one.finding: store.keep(with_changes(found.before.message, found.before.octets, one.changes)) for one in own}


def _offered(revision: Revision, found: _Situation) -> list[Offer]:
    """The mends that were prepared and need no word."""
    kept = PreparedMends.objects.filter(revision=revision).first()
    prepared = {one["finding"] for one in kept.offers if not one["asks"]} if kept is not None else set()
    return [one for one in found.offers if one.finding in prepared and not one.asks]


def faults_on_renders(revision: Revision, digest: str, renders: Renders) -> tuple[dict[str, str], str]:
    """The mends that a render of the copy with all of them does not prove, by the finding's fingerprint, each with the reason.

    And the check that finds more on the copy than before, in a sentence; empty where none does.
    """
    found = _situation(revision, {})
    checks, context = found.rendered, context_of(revision)
    if context.key_of("renders") is None:
        # Nothing is known of the message as it is that the copy could be held against.
        return {}, ""
    measured = [one for one in _offered(revision, found) if one.is_measured]
    if measured and renders.failed:
        return dict.fromkeys([one.finding for one in measured], f"No render proves it: {next(iter(renders.failed.values()))}"), ""
    before = measured_of(found.before.message, context, checks)
    after = measured_of(found.before.read(store.fetch(digest)), replace(context, renders=renders), checks)
    there = {(one.check, fault.fingerprint) for one in after for finding in one.findings for fault in finding.told}
    unproven = {
        one.finding: "On a render the finding stays." for one in measured if all((one.check, fault) in there for fault in one.faults)
    }
    if renders.shown is None:
        of_losses = [one.finding for one in measured if one.check == "appearance.css-unsupported"]
        unproven |= dict.fromkeys(of_losses, "No render proves it: which losses show could not be tried.")
    return unproven, worse(before, after)


def copy_of_near(revision: Revision) -> tuple[str, list[str]]:
    """The digest of the copy with all mends that show at their place alone, and their findings by fingerprint."""
    found = _situation(revision, {})
    near = [one for one in _offered(revision, found) if one.reach == "element"]
    octets = with_changes(found.before.message, found.before.octets, [change for one in near for change in one.changes])
    return store.keep(octets), [one.finding for one in near]


def straying(revision: Revision, digest: str, findings: Sequence[str], measured: Mapping[str, tuple[Measured, Measured]]) -> list[str]:
    """The profiles in which a copy with the mends of these findings shows something that none of them says.

    ``measured`` has for each profile how the message and its copy were laid out.
    """
    found = _situation(revision, {})
    own = [one for one in _offered(revision, found) if one.finding in findings]
    after = found.before.read(store.fetch(digest))
    return [name for name, (now, then) in measured.items() if strays(found.before.message, after, own, now, then)]


def _is_excused(finding: Any, walk: Walk) -> bool:
    return walk.in_force.covering(finding.fingerprint, finding.cause, finding.members) is not None


def rests_on(run: CheckRun) -> str:
    """A digest of the findings that have a mend and of the excuses: answers that change nothing of these leave the mends as they are."""
    found = run.findings.filter(check_id__in=list(mends())).values_list("check_id", "fingerprint")
    excuses = Excuse.objects.filter(mailing=run.revision.mailing_id, lifted_at=None).values_list("pk", flat=True)
    return hashlib.sha256(repr((sorted(found), sorted(excuses))).encode()).hexdigest()


def work_of(revision: Revision) -> Work | None:
    """How far the search for a revision's mends is; None where nobody asked for one."""
    return jobs.latest(KIND, f"mends:{revision.pk}")


def ask_for_mends(user: User, revision: Revision) -> Work:
    """Have the mends of a revision looked for and proven, in the background.

    Raises:
        NotAllowed, Refused: not permitted; the checks have not answered yet.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    if newest_run(revision) is None:
        raise Refused("The checks have not answered yet; mends are looked for in what they find.")
    return jobs.start(
        KIND,
        f"mends:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(TASK, is_slow=is_slow(revision), needs="checks", revision_id=revision.pk, work_id=work_id),
    )


def prepare_now(revision: Revision, without: Mapping[str, str] | None = None, only: str = "") -> PreparedMends | None:
    """Look for the mends of a revision, and prove them. Safe to run twice; None where the checks have not answered.

    ``without`` are mends to be withheld, by the fingerprint of the finding, each with the sentence that says why. With ``only``, the id of a check,
    there are no others, and the page of mends asks for a new search.
    """
    run = newest_run(revision)
    if run is None:
        return None
    found = _situation(revision, {})
    refused = without or {}
    found.withheld += [
        Withheld(one.check, one.finding, one.sentence, refused[one.finding]) for one in found.offers if one.finding in refused
    ]
    found.offers = [one for one in found.offers if one.finding not in refused and only in ("", one.check)]
    ready = [one for one in found.offers if not one.asks]
    every, review_of_all = found.with_mends(ready)
    only_sure = [one for one in every.taken if one.kind is MendKind.SURE]
    sure, review_of_sure = found.with_mends(only_sure) if len(only_sure) < len(every.taken) else (every, review_of_all)
    offers = [one for one in found.offers if one.asks or one in every.taken]
    told = {
        "rests_on": rests_on(run) if not only else "",
        "offers": storable([as_table(one, found) for one in offers]),
        "withheld": storable([asdict(one) for one in (*every.withheld, *found.withheld)]),
        "sums": {
            "now": asdict(found.sums(found.review)),
            "sure": asdict(found.sums(review_of_sure, sure.taken)),
            "all": asdict(found.sums(review_of_all, every.taken)),
        },
        "sure": len(sure.taken),
        "sure_sha256": store.keep(sure.octets),
        "all_sha256": store.keep(every.octets),
    }
    return PreparedMends.objects.update_or_create(revision=revision, defaults=told)[0]


def as_table(offer: Offer, found: _Situation) -> dict[str, Any]:
    """An offer as plain values, with the changed characters in their lines."""
    levels = {finding.fingerprint: finding.level.value for result in found.before.results for finding in result.findings}
    levels |= {one.record.fingerprint: one.record.level for state in found.walk.stations for one in state.findings}
    return {
        "check": offer.check,
        "station": station_of(offer.check).slug,
        "level": levels.get(offer.finding, "note"),
        "kind": offer.kind.value,
        "finding": offer.finding,
        "sentence": offer.sentence,
        "does": offer.does,
        "asks": offer.asks,
        "suggested": list(offer.suggested),
        "changes": [asdict(shown_of(found.before.message, change)) for change in offer.changes[:_SHOWN]],
        "more": max(len(offer.changes) - _SHOWN, 0),
    }


@dataclass(frozen=True, slots=True)
class Chosen:
    """The mends that a person chose: fingerprints of findings, and words for those that need one."""

    findings: frozenset[str]
    words: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What comes of chosen mends: the mended message, what it comes to now and then, and as tables the mends that have a word."""

    done: Mended
    before: Before
    now: Sums
    then: Sums
    filled: list[dict[str, Any]]


def outcome_of(revision: Revision, chosen: Chosen) -> Outcome:
    """The message with the mends that a person chose, proven.

    Raises:
        Refused: nothing was chosen; a word is too long; a mend is not there any more.
    """
    words = {finding: word for finding, word in chosen.words.items() if word.strip()}
    wanted = chosen.findings | set(words)
    if not wanted:
        raise Refused("Choose a mend first.")
    if any(len(word) > LONGEST_WORD for word in words.values()):
        raise Refused(f"A word may have {LONGEST_WORD} characters.")
    found = _situation(revision, words)
    picked = [one for one in found.offers if one.finding in wanted and one.changes]
    if len(picked) < len(wanted):
        gone = len(wanted) - len(picked)
        why = next((one.why for one in found.withheld if one.finding in wanted), "Look for mends again.")
        raise Refused(f"{'A mend that you chose is' if gone == 1 else f'{gone} mends that you chose are'} not offered any more. {why}")
    done, review = found.with_mends(picked)
    filled = [as_table(one, found) for one in done.taken if one.asks]
    return Outcome(done, found.before, now=found.sums(found.review), then=found.sums(review, done.taken), filled=filled)


def take(user: User, revision: Revision, chosen: Chosen) -> tuple[Revision, Outcome]:
    """The next revision, with the mends that a person chose; the author of the revision before is told.

    Raises:
        NotAllowed, Refused: not permitted; released; not the newest revision; nothing chosen, or nothing of it holds.
    """
    permit(user, "mailing:change", revision.mailing.workspace)
    _refuse_older(revision, revision.mailing.revisions.last())
    outcome = outcome_of(revision, chosen)
    if not outcome.done.taken:
        raise Refused(f"No mend that you chose holds. {outcome.done.withheld[0].why}")
    store.keep(outcome.done.octets)
    with open_mailing(revision.mailing_id) as locked:
        _refuse_older(revision, locked.revisions.last())
        made = add_revision(user, revision.mailing, outcome.done.octets, revision.file_name)
        checks = Counter(one.check for one in outcome.done.taken)
        named = ", ".join(sorted(checks)[:_NAMED]) + (f" and {len(checks) - _NAMED} more" if len(checks) > _NAMED else "")
        number = len(outcome.done.taken)
        record("revision.mended", actor=user, mailing=revision.mailing, revision=made.number, count=number, checks=named)
        if revision.uploaded_by_id != user.pk:
            counted = "1 mend" if number == 1 else f"{number} mends"
            words = f"{user.shown_name} took {counted}; revision {made.number} came of your revision {revision.number}."
            tell([revision.uploaded_by], Notice.Kind.MENDED, revision.mailing, words, reverse("compare", args=[revision.mailing_id]))
    return made, outcome


def _refuse_older(revision: Revision, newest: Revision | None) -> None:
    if newest is None or newest.pk != revision.pk:
        raise Refused(f"Revision {revision.number} is not the newest; take the mends of the newest one.")


#: Forms in which a mended copy is saved.
Form = Literal["message", "patch"]


def saved(revision: Revision, chosen: Chosen, form: Form) -> tuple[bytes, str]:
    """The mended copy as a file, or the mends as a patch that ``git apply`` takes; and the name of the file.

    Raises:
        Refused: as :func:`outcome_of`; nothing of it holds.
    """
    outcome = outcome_of(revision, chosen)
    if not outcome.done.taken:
        raise Refused(f"No mend that you chose holds. {outcome.done.withheld[0].why}")
    if form == "patch":
        before, after = (
            files_of(message, octets, revision.file_name)
            for message, octets in ((outcome.before.message, outcome.before.octets), (outcome.done.message, outcome.done.octets))
        )
        return as_patches(before, after), f"{revision.file_name}.patch"
    stem, dot, ending = revision.file_name.rpartition(".")
    return outcome.done.octets, f"{stem}-mended.{ending}" if dot else f"{revision.file_name}-mended"
