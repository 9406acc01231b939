"""Carrying out renders: each waiting profile of each copy, and the losses and departures that follow from the renders."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, replace
from datetime import timedelta
from typing import Any, NamedTuple

from django.db import transaction
from django.db.models import Count, Q
from django.utils import timezone

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import machines
from jetwind.apps.jobs import services as jobs
from jetwind.apps.previews.as_whom import AS_WRITTEN, whom_of
from jetwind.apps.previews.copies import Copy, copy_for
from jetwind.apps.previews.models import LossTrial, Render
from jetwind.apps.previews.modes import OWN, in_words, shown_in
from jetwind.apps.review.answers import ask_for_checks, storable
from jetwind.apps.workspace.desk import at_the_workbench
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.profiles import REFERENCE, Profile, Rewritten, profiles
from jetwind.core.renders.departure import departure
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Shown
from jetwind.engines.bounded import PastBudget
from jetwind.engines.browser import (
    ALL_SECONDS,
    TOO_SLOW,
    Capture,
    CaptureFailed,
    CaptureRequest,
    Captures,
    OutOfTime,
    enlargeable,
    losses_shown,
    references,
)


def render_now(revision: Revision, work_id: int, browser: Captures) -> None:
    """Render what is still waiting and find out what shows. Safe to run twice, and after a worker was killed in the middle.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        PutOff: some took too long, and are tried again later.
    """
    deadline = 0.0
    late = 0
    first = at_the_workbench(whom_of, revision.pk)
    waiting = set(revision.renders.filter(state=Render.State.WAITING).values_list("reader", flat=True))
    for name in (first.name, *sorted(waiting - {first.name})):
        whom = first if name == first.name else at_the_workbench(whom_of, revision.pk, name or AS_WRITTEN)
        # A reader that is gone has nothing to be rendered.
        if whom.name != name:
            revision.renders.filter(reader=name, state=Render.State.WAITING).delete()
            continue

        def report(doing: str) -> None:
            _report(revision, work_id, doing)

        with copy_for(revision, whom, report) as copy:
            # Pictures that lie elsewhere have been waited for: a slow server takes nothing of the browser's minute.
            deadline = deadline or time.monotonic() + ALL_SECONDS
            beside = copy.beside(browser)
            _render(revision, work_id, beside, copy, deadline)
            if name == first.name:
                late = find_out(revision, copy, beside, report)

    put_off = list(revision.renders.filter(state=Render.State.WAITING, tries__gt=0, profile__in=profiles()).values_list("tries", flat=True))
    if put_off or late:
        pause = TRIED_AGAIN[min(max([*put_off, late]), len(TRIED_AGAIN)) - 1]
        what = "a render" if len(put_off) == 1 else f"{len(put_off)} renders" if put_off else "trying which losses show"
        raise jobs.PutOff(timezone.now() + pause, f"{what} took too long; tried again when the machine may be free")


#: How long a render whose time was too short waits before it is tried again.
TRIED_AGAIN = (timedelta(seconds=30), timedelta(minutes=3), timedelta(minutes=10))


def _report(revision: Revision, work_id: int, doing: str) -> None:
    done, total = progress_of(revision)
    jobs.report(work_id, done=done, total=total, doing=doing)


def progress_of(revision: Revision) -> tuple[int, int]:
    """How many renders of a revision do not wait any more, and how many there are: counted at one moment, since others may ask for more."""
    counted = revision.renders.aggregate(total=Count("pk"), waiting=Count("pk", filter=Q(state=Render.State.WAITING)))
    return counted["total"] - counted["waiting"], counted["total"]


#: Characters of pages that are held at once, waiting for the browser: sixteen of a newsletter have two million.
_PORTION = 8_000_000


class _Asked(NamedTuple):
    """Renders that show the same page alike, and what the browser is asked for."""

    renders: list[Render]
    request: CaptureRequest


def _render(revision: Revision, work_id: int, browser: Captures, copy: Copy, deadline: float) -> None:
    """One reader's copy in every profile that waits for it."""
    # Renders are held against each other: those that another browser, other fonts or other code made are made anew along with the rest.
    done = revision.renders.filter(state=Render.State.DONE, reader=copy.whom.name)
    done.exclude(made_with=machines.own_facts().renders_key).update(state=Render.State.WAITING, departure=None, problem="")
    rows = revision.renders.filter(state=Render.State.WAITING)
    waiting = [render for render in rows.filter(reader=copy.whom.name) if render.profile in profiles()]
    waiting.sort(key=lambda render: (render.mode != OWN, list(profiles()).index(render.profile)))
    _report(revision, work_id, "rewriting the message")
    to_take: dict[str, _Asked] = {}
    for render in waiting:
        _ask(render, copy, to_take)
        if sum(len(asked.request.html) for asked in to_take.values()) > _PORTION:
            _take(revision, work_id, browser=browser, copy=copy, deadline=deadline, asked=list(to_take.values()))
            to_take.clear()
    _report(revision, work_id, "starting the browser" if to_take else "done")
    _take(revision, work_id, browser=browser, copy=copy, deadline=deadline, asked=list(to_take.values()))


def _ask(render: Render, copy: Copy, to_take: dict[str, _Asked]) -> None:
    """Answer a render from another that shows the same, or add it to those that the browser is asked for."""
    render.made_for = copy.whom.made_for
    render.made_with = machines.own_facts().renders_key
    profile = shown_in(profiles()[render.profile], render.mode)
    try:
        page = copy.rewriter(profile)
        _note_page(render, page, copy)
    except PastBudget as past:
        _give_up(render, f"The message cannot be rewritten for this client: {past}.")
        return
    request = CaptureRequest.of(page, profile)
    key = _key(request, page)
    if key != render.key:
        # Found out from another page.
        render.spoken, render.enlarged = [], None
    render.key = key
    twin = Render.objects.filter(key=render.key, state=Render.State.DONE).exclude(pk=render.pk).first()
    if twin is not None:
        _take_over(render, twin, copy)
    elif render.key in to_take:
        # Two profiles that take the message alike, or a message that looks the same with its pictures blocked.
        to_take[render.key].renders.append(render)
    else:
        to_take[render.key] = _Asked([render], request)


def _take(revision: Revision, work_id: int, browser: Captures, copy: Copy, deadline: float, asked: Sequence[_Asked]) -> None:
    """Have the browser take these pages, and keep what comes."""
    stopped: list[jobs.Cancelled | jobs.GivenBack] = []

    def taken(number: int, capture: Capture | Exception) -> bool:
        jobs.drop_broken_connections()
        first, *others = asked[number].renders
        _finish(first, capture, copy)
        for other in others:
            _take_over(other, first, copy)
        profile = profiles()[first.profile]
        try:
            _report(revision, work_id, ", ".join(filter(None, (profile.name, in_words(profile, first.mode)))))
        except (jobs.Cancelled, jobs.GivenBack) as stop:
            stopped.append(stop)
            return False
        return True

    browser.capture_all([one.request for one in asked], taken, seconds=deadline - time.monotonic())
    if stopped:
        raise stopped[0]


def _give_up(render: Render, problem: str) -> None:
    render.state, render.problem = Render.State.FAILED, problem
    render.save()


def find_out(revision: Revision, copy: Copy, browser: Captures, report: Any = lambda doing: None) -> int:
    """How far each layout departs and which losses show; then the checks that read renders are asked again.

    Returns how often time has run out before all was found out, 0 where it is: a busy machine must give no other answer than a free one.
    """
    chosen = [profiles()[name] for name in chosen_profiles(revision.mailing.workspace)]
    own = {render.profile: render for render in revision.renders.filter(mode=OWN, **copy.whom.here)}
    finished = [profile for profile in chosen if profile.id in own and own[profile.id].state == Render.State.DONE]
    if not finished or any(profile.id not in own or own[profile.id].state == Render.State.WAITING for profile in chosen):
        return 0
    deadline = time.monotonic() + ALL_SECONDS
    enlarged = enlargeable(finished)
    is_late = False
    steps: tuple[Callable[[], None], ...] = (
        lambda: _measure_departures(copy, own, finished=finished, browser=browser, deadline=deadline, report=report),
        lambda: _listen(copy, own.get(REFERENCE), browser, deadline, report),
        lambda: _enlarge(copy, own[enlarged.id] if enlarged is not None else None, browser, deadline, report),
        lambda: _try_losses(revision, copy, chosen=chosen, finished=finished, browser=browser, deadline=deadline, report=report),
    )
    for step in steps:
        try:
            # What a copy costs too much to be asked for stays unknown, and the checks say so; the rest is found out all the same.
            with suppress(PastBudget):
                step()
        except OutOfTime:
            is_late = True
    tries = _note_late(revision, chosen, copy) if is_late else 0
    ask_for_checks(revision)
    return tries


@transaction.atomic
def _note_late(revision: Revision, chosen: Sequence[Profile], copy: Copy) -> int:
    """Note that time ran out; how often it has, 0 where nothing is tried again."""
    ids = [profile.id for profile in chosen]
    LossTrial.objects.get_or_create(revision=revision, defaults={"profiles": ids, "key": ""})
    trial = LossTrial.objects.select_for_update(no_key=True).get(revision=revision)
    trial.tries += 1
    key = _trial_key(ids, ids, copy)
    goes_on = trial.tries <= len(TRIED_AGAIN)
    if trial.key != key:
        trial.profiles, trial.shown, trial.key = ids, None, "" if goes_on else key
        trial.untold = "the machine was too busy to try which losses show; it is tried again" if goes_on else TOO_SLOW
    trial.save()
    return trial.tries if goes_on else 0


def _measure_departures(
    copy: Copy, own: Mapping[str, Render], finished: Sequence[Profile], browser: Captures, deadline: float, report: Any
) -> None:
    """How far the layout of each profile departs from that of the message with nothing lost."""
    missing = [profile for profile in finished if own[profile.id].departure is None]
    if not missing:
        return
    report("measuring how far each layout departs")
    for profile_id, reference in references(copy.rewriter, missing, browser, deadline - time.monotonic()).items():
        render = own[profile_id]
        render.departure = departure(copy.measured(reference), render.layout).score
        render.save(update_fields=["departure"])


#: Elements of a message beyond which nobody listens to it: its tree alone would be megabytes.
_MOST_TO_HEAR = 8_000


def _listen(copy: Copy, render: Render | None, browser: Captures, deadline: float, report: Any) -> None:
    """The words that a screen reader says of the message, from the browser that rendered it."""
    if render is None or render.state != Render.State.DONE or render.spoken or not 0 < copy.facts.elements <= _MOST_TO_HEAR:
        return
    report("listening to what a screen reader says")
    profile = profiles()[REFERENCE]
    page = copy.rewriter(profile)
    said = browser.spoken(CaptureRequest.of(page, profile, "none"), deadline - time.monotonic())
    if said:
        elements = copy.elements([one.element for one in said])
        render.spoken = storable([replace(one, element=element).as_row() for one, element in zip(said, elements, strict=True)])
        render.save(update_fields=["spoken"])


def _enlarge(copy: Copy, render: Render | None, browser: Captures, deadline: float, report: Any) -> None:
    """The losses of the message with its text set twice as large."""
    if render is None or render.enlarged is not None:
        return
    report("enlarging the text")
    profile = profiles()[render.profile]
    page = copy.rewriter(profile)
    lost = browser.enlarged(CaptureRequest.of(page, profile, "none"), deadline - time.monotonic())
    if lost is not None:
        render.enlarged = [one.as_row() for one in copy.enlarged(lost)]
        render.save(update_fields=["enlarged"])


def _try_losses(
    revision: Revision,
    copy: Copy,
    chosen: Sequence[Profile],
    finished: Sequence[Profile],
    browser: Captures,
    deadline: float,
    report: Any,
) -> None:
    ids = [profile.id for profile in chosen]
    key = _trial_key(ids, [profile.id for profile in finished], copy)
    if LossTrial.objects.filter(revision=revision, key=key).exists():
        return
    twin = LossTrial.objects.filter(key=key).first()
    if twin is not None:
        answer: dict[str, Any] = {"shown": twin.shown, "untold": twin.untold}
    elif len(finished) < len(chosen):
        answer = {"shown": None, "untold": "a profile could not be rendered"}
    else:
        report("trying which losses show")
        try:
            pages = {profile.id: copy.rewriter(profile) for profile in chosen}
            found = losses_shown(copy.rewriter, pages, chosen, browser, deadline - time.monotonic())
            shown = copy.shown(found) if found is not None else None
        except PastBudget:
            shown = None
        answer = {"shown": [asdict(one) for one in shown] if shown is not None else None, "untold": ""}
        if shown is None:
            answer["untold"] = TOO_SLOW
    LossTrial.objects.update_or_create(revision=revision, defaults={"profiles": ids, "key": key, "tries": 0, **answer})


def _trial_key(chosen: Sequence[str], finished: Sequence[str], copy: Copy) -> str:
    """Changes with everything that an answer about losses depends on."""
    asked = [machines.own_facts().renders_key, list(Shown.__slots__), chosen, finished, copy.facts.key]
    return hashlib.sha256(json.dumps(asked).encode()).hexdigest()


def _take_over(render: Render, twin: Render, copy: Copy) -> None:
    """The answer to the same question, asked before; what was dropped on the way, and where it stands, is each render's own."""
    if twin.state == Render.State.DONE and (twin.tree or copy.is_led):
        found = twin.layout
        if twin.tree:
            found = replace(found, blocks=tuple(replace(block, element=own) for block, own in zip(found.blocks, twin.tree, strict=True)))
        _keep_measured(render, found, copy)
    else:
        render.measured = twin.measured
    for name in ("state", "problem", "blob_sha256", "content_type", "width", "height"):
        setattr(render, name, getattr(twin, name))
    render.save()


def _keep_measured(render: Render, found: Measured, copy: Copy) -> None:
    render.tree = [block.element for block in found.blocks] if copy.is_led else []
    render.measured = copy.measured(found).as_json()


def _key(request: CaptureRequest, page: Rewritten) -> str:
    window = [request.width, request.first_screen, request.pixel_ratio, request.dark, request.room, request.shrinks]
    return hashlib.sha256(
        json.dumps([machines.own_facts().renders_key, request.html, sorted(page.parts), sorted(page.own.items()), window]).encode(
            "utf-8", "surrogatepass"
        )
    ).hexdigest()


def _finish(render: Render, capture: Capture | Exception, copy: Copy) -> None:
    if isinstance(capture, CaptureFailed) and capture.for_time and render.tries < len(TRIED_AGAIN):
        # A machine that is busy, as it is at a first start, must not leave a message without its renders for good.
        render.tries += 1
        render.problem = f"{capture} It is tried again when the machine may be free."
        render.save()
        return
    if isinstance(capture, Exception):
        _give_up(render, str(capture))
        return
    _keep_measured(render, capture.measured, copy)
    render.problem = ""
    render.state = Render.State.DONE
    render.blob_sha256 = store.keep(capture.image)
    render.content_type = capture.content_type
    render.width, render.height = capture.width, capture.height
    render.save()


#: Missing pictures whose addresses a render keeps.
_MOST_LACKING = 60


def _note_page(render: Render, page: Rewritten, copy: Copy) -> None:
    """Note on a render, without saving it, where its page was changed and what it lacks: afterwards the copy may be gone."""
    render.changes = copy.changes(page.changes)
    blocked = set(copy.elements(sorted(page.blocked)))
    render.clipped, render.blocked = page.clipped, sorted(blocked - {-1} if copy.is_led else blocked)
    render.lacking = [address.replace("\0", "")[:500] for address in page.lacking[:_MOST_LACKING]]
