"""What arrived, and its copy, as the client profiles show them: pictures, the areas in which they differ, and what the checks say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.conf import settings

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.jobs import machines
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs.models import Arrival, ContentRender
from jetwind.apps.review.answers import storable
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import Held, at_the_workbench
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checking import Context, Finding
from jetwind.core.errors import JetwindError
from jetwind.core.images.difference import difference
from jetwind.core.message import Message, UnusableInput, read_bytes
from jetwind.core.profiles import profiles
from jetwind.core.reports import Review
from jetwind.engines.bounded import REWRITING, BoundedRewriter, PastBudget, review_bounded
from jetwind.engines.browser import ALL_SECONDS, Capture, CaptureRequest, Captures
from jetwind.engines.dictionaries import Installed

KIND, TASK = "arrival-renders", "proofs.render_arrival"


def contents_of(arrival: Arrival) -> list[str]:
    """The digests of what is rendered: the copy as it was handed over, where there is one, and what arrived."""
    copy = arrival.copy.copy_sha256 if arrival.copy is not None else ""
    return [digest for digest in (copy, arrival.blob_sha256) if digest]


def ask(user: User, arrival: Arrival, workspace: Workspace) -> Work:
    """Have an arrival and its copy rendered in the chosen profiles, and the arrival checked, in the background.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:view", workspace)
    rows = [ContentRender(content_sha256=digest, profile=name) for digest in contents_of(arrival) for name in chosen_profiles(workspace)]
    ContentRender.objects.bulk_create(rows, ignore_conflicts=True)
    again = ContentRender.objects.filter(content_sha256__in=contents_of(arrival), state=ContentRender.State.FAILED)
    again.update(state=ContentRender.State.WAITING, problem="")
    return jobs.start(
        KIND,
        f"arrival:{arrival.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(TASK, needs="renders", arrival_id=arrival.pk, workspace_id=workspace.pk, work_id=work_id),
    )


def carry_out(arrival: Arrival, workspace: Workspace, work_id: int, browser: Captures) -> None:
    """Render what waits, and ask the checks. Safe to run twice.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    made_with = machines.own_facts().renders_key
    rows = ContentRender.objects.filter(content_sha256__in=contents_of(arrival))
    # Pictures are held against each other: those that another browser, other fonts or other code made are made anew.
    rows.filter(state=ContentRender.State.DONE).exclude(made_with=made_with).update(state=ContentRender.State.WAITING)
    total = rows.count() + 1
    for digest in contents_of(arrival):
        waiting = [row for row in rows.filter(content_sha256=digest, state=ContentRender.State.WAITING) if row.profile in profiles()]
        _render(waiting, digest, browser, lambda row: _report(work_id, rows, total, profiles()[row.profile].name))
    jobs.report(work_id, done=total - 1, total=total, doing="asking the checks")
    Arrival.objects.filter(pk=arrival.pk).update(findings=storable(at_the_workbench(findings_of, arrival.pk, workspace.pk)))


def render_mail(digest: str, names: Sequence[str], browser: Captures) -> None:
    """Render a mail in the profiles of ``names`` that wait, or whose picture another browser, other fonts or other code made."""
    rows = ContentRender.objects.filter(content_sha256=digest, profile__in=names)
    done = rows.filter(state=ContentRender.State.DONE)
    done.exclude(made_with=machines.own_facts().renders_key).update(state=ContentRender.State.WAITING)
    _render(list(rows.filter(state=ContentRender.State.WAITING)), digest, browser, lambda row: None)


def _report(work_id: int, rows: Any, total: int, doing: str) -> None:
    jobs.report(work_id, done=total - 1 - rows.filter(state=ContentRender.State.WAITING).count(), total=total, doing=doing)


def _mail(digest: str) -> Message:
    return read_bytes(store.fetch(digest), "mail.eml")


def _render(waiting: Sequence[ContentRender], digest: str, browser: Captures, report: Any) -> None:
    """The pictures of one mail in the profiles that wait."""
    asked: list[tuple[ContentRender, CaptureRequest]] = []
    made_with = machines.own_facts().renders_key
    with Held(_mail, digest, budget=REWRITING) as held:
        rewriter = BoundedRewriter(held)
        for row in waiting:
            row.made_with = made_with
            profile = profiles()[row.profile]
            try:
                asked.append((row, CaptureRequest.of(rewriter(profile), profile)))
            except (PastBudget, JetwindError) as failure:
                _keep(row, failure)

    stopped: list[BaseException] = []

    def taken(number: int, capture: Capture | Exception) -> bool:
        jobs.drop_broken_connections()
        _keep(asked[number][0], capture)
        try:
            report(asked[number][0])
        except (jobs.Cancelled, jobs.GivenBack) as stop:
            stopped.append(stop)
            return False
        return True

    browser.capture_all([request for _, request in asked], taken, seconds=ALL_SECONDS)
    if stopped:
        raise stopped[0]


def _keep(row: ContentRender, capture: Capture | Exception) -> None:
    if isinstance(capture, Exception):
        row.state, row.problem = ContentRender.State.FAILED, f"It cannot be rendered: {capture}"[:300]
    else:
        row.state, row.problem = ContentRender.State.DONE, ""
        row.blob_sha256, row.content_type = store.keep(capture.image), capture.content_type
        row.width, row.height = capture.width, capture.height
    row.save()


def findings_of(arrival_id: int, workspace_id: int) -> list[list[Any]]:
    """The findings of the checks in an arrival, each with whether the copy lacks it; without renders, opened links and name records.

    To be asked of the workbench.
    """
    arrival = Arrival.objects.select_related("copy__send").get(pk=arrival_id)
    workspace = Workspace.objects.get(pk=workspace_id)
    context = Context(
        dictionaries=Installed(),
        word_list=frozenset(word.casefold() for word in workspace.word_list),
        practice_domains=frozenset(workspace.practice_domains),
        rulebooks=frozenset(workspace.rulebooks),
        settings=workspace.check_settings,
    )
    reviews = [_review(digest, context) for digest in contents_of(arrival)]
    if reviews[-1] is None:
        return []
    before = reviews[0] if len(reviews) == 2 else None
    known = {name for found in before.findings for name in (found.fingerprint, *found.members)} if before is not None else set()
    rows = []
    for found in reviews[-1].findings:
        # A finding that tells several faults is new where one of them is.
        is_new = before is not None and not (set(found.members) or {found.fingerprint}) <= known
        if not _is_of_exchange(found, arrival, is_new=is_new):
            rows.append([found.level.value, found.check, found.message, is_new])
    return rows


def _is_of_exchange(found: Finding, arrival: Arrival, *, is_new: bool) -> bool:
    """Whether a finding is about an unsubscribe address that Jetwind put into the copy: readers never get that address.

    At an address without https, a header for one click fails its check in every copy; a fault that came on the way is told all the same.
    """
    send = arrival.copy.send if arrival.copy is not None else None
    if send is None or not send.base or send.leaves_addresses:
        return False
    is_of_header = found.check == "footer.one-click" and not send.base.startswith("https:") and not is_new
    return is_of_header or f"{send.base}/way-out/" in found.message


def _review(digest: str, context: Context) -> Review | None:
    try:
        return review_bounded(_mail(digest), context, start=settings.HELPERS_START)
    except UnusableInput:
        return None


@dataclass(frozen=True, slots=True)
class Pair:
    """The pictures of a copy and of its arrival in one profile, by number; None where one is not there. ``areas`` are where they differ, in per cent of the larger.

    ``share`` is how much of the picture differs, in per cent.
    """

    copy: ContentRender | None
    arrived: ContentRender | None
    areas: list[tuple[float, float, float, float]]
    share: float

    @property
    def is_whole(self) -> bool:
        """Whether both pictures are there, made alike, so that they may be held against each other."""
        return self.copy is not None and self.arrived is not None and self.copy.made_with == self.arrived.made_with


def pair_of(arrival: Arrival, profile: str) -> Pair:
    """The two pictures in a profile, held against each other."""
    rows = {row.content_sha256: row for row in ContentRender.objects.filter(content_sha256__in=contents_of(arrival), profile=profile)}
    done = {digest: row for digest, row in rows.items() if row.state == ContentRender.State.DONE}
    copy = done.get(arrival.copy.copy_sha256) if arrival.copy is not None else None
    arrived = done.get(arrival.blob_sha256)
    alone = Pair(copy, arrived, [], 0.0)
    if copy is None or arrived is None or copy.made_with != arrived.made_with or copy.blob_sha256 == arrived.blob_sha256:
        return alone
    try:
        found = difference(store.fetch(copy.blob_sha256), copy.width, store.fetch(arrived.blob_sha256), arrived.width)
    except (store.BlobMissing, OSError):
        return alone
    areas = [
        (100 * x / found.width, 100 * y / found.height, 100 * wide / found.width, 100 * tall / found.height)
        for x, y, wide, tall in found.areas()
    ]
    return Pair(copy, arrived, areas, round(100 * found.share, 1))


def states_of(arrival: Arrival, names: Sequence[str]) -> dict[str, str]:
    """For each profile whether the two pictures are there: done, waiting, failed or none."""
    rows = ContentRender.objects.filter(content_sha256__in=contents_of(arrival), profile__in=names).values_list("profile", "state")
    found: dict[str, set[str]] = {}
    for profile, state in rows:
        found.setdefault(profile, set()).add(state)
    order = (ContentRender.State.FAILED, ContentRender.State.WAITING, ContentRender.State.DONE)
    return {name: next((state.value for state in order if state.value in found.get(name, ())), "none") for name in names}
