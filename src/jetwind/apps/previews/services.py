"""Rendering a revision in the profiles of its workspace, once each, and finding out what shows."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from jetwind import __version__
from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of, newest_open
from jetwind.apps.intake.services import refuse_if_locked
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.models import LossTrial, Mark, Render
from jetwind.apps.previews.modes import OWN, in_words, needed, shown_in
from jetwind.apps.review.answers import ask_for_checks
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.markup.anchor import anchor_of
from jetwind.core.message import Message
from jetwind.core.profiles import Profile, Rewriter, Rewritten, profiles
from jetwind.core.renders.departure import departure
from jetwind.engines.bounded import BoundedRewriter, PastBudget
from jetwind.engines.browser import ALL_SECONDS, Browser, Capture, CaptureRequest, Captures, losses_shown, references

RENDERS = "renders"
RENDERS_OF_HOUSE = "renders-of-house"

_browser: Captures | None = None
_browser_lock = threading.Lock()


def the_browser() -> Captures:
    """The one browser of this process, started with its first use and kept."""
    global _browser
    with _browser_lock:
        if _browser is None:
            _browser = Browser()
        return _browser


def ask_for_renders(revision: Revision, user: User | None = None, *, mode: str = OWN, only: Sequence[str] = ()) -> Work:
    """Have a revision rendered in the background, in all chosen profiles or in ``only``; what is rendered already stays."""
    chosen = [name for name in only if name in profiles()] or chosen_profiles(revision.mailing.workspace)
    with transaction.atomic():
        for name in chosen:
            # What a mode does not change, such as a desktop turned, has its own render.
            Render.objects.get_or_create(revision=revision, profile=name, mode=needed(profiles()[name], mode))
        Render.objects.filter(revision=revision, state=Render.State.FAILED).update(state=Render.State.WAITING, problem="")
        return jobs.start(
            RENDERS,
            f"revision:{revision.pk}",
            doing="waiting for a worker",
            total=revision.renders.count(),
            enqueue=lambda work_id: jobs.defer("previews.render_revision", revision_id=revision.pk, work_id=work_id),
        )


def show_mode(user: User, revision: Revision, mode: str, only: Sequence[str] = ()) -> None:
    """Render what a way of showing still lacks.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    ask_for_renders(revision, mode=mode, only=only)


def cancel_renders(user: User, revision: Revision) -> None:
    """Stop rendering after the current picture.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    work = jobs.latest(RENDERS, f"revision:{revision.pk}")
    if work is not None and work.is_open:
        jobs.cancel(work)


def ask_for_renders_of_house(workspace: Workspace) -> Work:
    """Have the newest revision of every message rendered in the profiles chosen now, in the background."""
    return jobs.start(
        RENDERS_OF_HOUSE,
        f"workspace:{workspace.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("previews.render_house", workspace_id=workspace.pk, work_id=work_id),
    )


def render_newest(workspace: Workspace, work_id: int) -> None:
    """Ask for the renders of the newest revision of every message that has not been released. Safe to run twice.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    for revision in jobs.each(work_id, newest_open(workspace), lambda one: one.mailing.title):
        ask_for_renders(revision)


def is_behind(revision: Revision, answered: Sequence[str]) -> bool:
    """Whether more was asked for while a revision was rendered in the profiles ``answered``: another choice of them, or another mode."""
    workspace = Workspace.objects.get(pk=revision.mailing.workspace_id)
    waiting = revision.renders.filter(state=Render.State.WAITING, profile__in=profiles())
    return chosen_profiles(workspace) != list(answered) or waiting.exists()


def render_now(revision: Revision, work_id: int, browser: Captures) -> None:
    """Render what is still waiting and find out what shows. Safe to run twice, and after a worker was killed in the middle.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
    """
    message = message_of(revision)
    with BoundedRewriter(message, start=settings.HELPERS_START) as rewriter:
        _render(revision, work_id, browser, message, rewriter)


def _render(revision: Revision, work_id: int, browser: Captures, message: Message, rewriter: Rewriter) -> None:
    deadline = time.monotonic() + ALL_SECONDS
    total = revision.renders.count()
    waiting = [render for render in revision.renders.filter(state=Render.State.WAITING) if render.profile in profiles()]
    done = total - len(waiting)
    jobs.report(work_id, done=done, total=total, doing="rewriting the message")
    to_take: dict[str, tuple[list[Render], Rewritten, CaptureRequest]] = {}
    for render in sorted(waiting, key=lambda render: (render.mode != OWN, list(profiles()).index(render.profile))):
        profile = shown_in(profiles()[render.profile], render.mode)
        try:
            page = rewriter(profile)
        except PastBudget as past:
            _give_up(render, f"The message cannot be rewritten for this client: {past}.")
            done += 1
            continue
        request = CaptureRequest.of(page, profile)
        render.key = _key(request, page)
        twin = Render.objects.filter(key=render.key, state=Render.State.DONE).exclude(pk=render.pk).first()
        if twin is not None:
            _take_over(render, twin, page)
            done += 1
        elif render.key in to_take:
            # Two profiles that take the message alike, or a message that looks the same with its pictures blocked.
            to_take[render.key][0].append(render)
        else:
            to_take[render.key] = ([render], page, request)
    jobs.report(work_id, done=done, total=total, doing="starting the browser" if to_take else "done")
    stopped: list[jobs.Cancelled | jobs.GivenBack] = []
    asked = list(to_take.values())

    def taken(number: int, capture: Capture | Exception) -> bool:
        nonlocal done
        jobs.drop_broken_connections()
        (first, *others), page, _ = asked[number]
        _finish(first, page, capture)
        for other in others:
            _take_over(other, first, rewriter(shown_in(profiles()[other.profile], other.mode)))
        done += 1 + len(others)
        profile = profiles()[first.profile]
        try:
            jobs.report(work_id, done=done, total=total, doing=", ".join(filter(None, (profile.name, in_words(profile, first.mode)))))
        except (jobs.Cancelled, jobs.GivenBack) as stop:
            stopped.append(stop)
            return False
        return True

    browser.capture_all([request for _, _, request in asked], taken, seconds=deadline - time.monotonic())
    if stopped:
        raise stopped[0]
    find_out(revision, message, browser, rewriter, deadline, lambda doing: jobs.report(work_id, done=done, total=total, doing=doing))


def _give_up(render: Render, problem: str) -> None:
    render.state, render.problem = Render.State.FAILED, problem
    render.save()


def find_out(
    revision: Revision, message: Message, browser: Captures, rewriter: Rewriter, deadline: float, report: Any = lambda doing: None
) -> None:
    """How far each layout departs and which losses show; then the checks that read renders are asked again."""
    chosen = [profiles()[name] for name in chosen_profiles(revision.mailing.workspace)]
    own = {render.profile: render for render in revision.renders.filter(mode=OWN)}
    finished = [profile for profile in chosen if profile.id in own and own[profile.id].state == Render.State.DONE]
    if not finished or any(profile.id not in own or own[profile.id].state == Render.State.WAITING for profile in chosen):
        return
    missing = [profile for profile in finished if own[profile.id].departure is None]
    if missing:
        report("measuring how far each layout departs")
        for profile_id, reference in references(rewriter, missing, browser, deadline - time.monotonic()).items():
            render = own[profile_id]
            render.departure = departure(reference, render.layout).score
            render.save(update_fields=["departure"])
    _try_losses(revision, message, chosen, finished, browser, rewriter, deadline, report)
    ask_for_checks(revision)


def _try_losses(
    revision: Revision,
    message: Message,
    chosen: Sequence[Profile],
    finished: Sequence[Profile],
    browser: Captures,
    rewriter: Rewriter,
    deadline: float,
    report: Any,
) -> None:
    ids = [profile.id for profile in chosen]
    content = [message.html.text if message.html else "", sorted(picture.sha256 for picture in message.images)]
    asked = [__version__, ids, [profile.id for profile in finished], content]
    key = hashlib.sha256(json.dumps(asked).encode("utf-8", "surrogatepass")).hexdigest()
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
            shown = losses_shown(
                rewriter, {profile.id: rewriter(profile) for profile in chosen}, chosen, browser, deadline - time.monotonic()
            )
        except PastBudget:
            shown = None
        answer = {"shown": [asdict(one) for one in shown] if shown is not None else None, "untold": ""}
        if shown is None:
            answer["untold"] = "the message takes too long to lay out to try each feature"
    LossTrial.objects.update_or_create(revision=revision, defaults={"profiles": ids, "key": key, **answer})


def _take_over(render: Render, twin: Render, page: Rewritten) -> None:
    """The answer to the same question, asked before; what was dropped on the way is each profile's own."""
    for name in ("state", "problem", "blob_sha256", "content_type", "width", "height", "measured"):
        setattr(render, name, getattr(twin, name))
    _keep_page(render, page)
    render.save()


def _key(request: CaptureRequest, page: Rewritten) -> str:
    window = [request.width, request.first_screen, request.pixel_ratio, request.dark, request.room, request.shrinks]
    return hashlib.sha256(json.dumps([__version__, request.html, sorted(page.parts), window]).encode("utf-8", "surrogatepass")).hexdigest()


def _finish(render: Render, page: Rewritten, capture: Capture | Exception) -> None:
    if isinstance(capture, Exception):
        _give_up(render, str(capture))
        return
    render.state = Render.State.DONE
    render.blob_sha256 = store.keep(capture.image)
    render.content_type = capture.content_type
    render.width, render.height = capture.width, capture.height
    render.measured = capture.measured.as_json()
    _keep_page(render, page)
    render.save()


def _keep_page(render: Render, page: Rewritten) -> None:
    render.changes = [
        [
            change.kind,
            change.feature,
            change.title.replace("\0", ""),
            change.span.start if change.span else None,
            change.span.end if change.span else None,
        ]
        for change in page.changes
    ]
    render.clipped, render.blocked, render.remote_pictures = page.clipped, sorted(page.blocked), page.remote_pictures


def set_mark(user: User, revision: Revision, profile: str, element: int, comment: str) -> Mark:
    """Set a mark with a comment at an element.

    Raises:
        NotAllowed, Refused: not permitted; released; no such element; no comment.
    """
    permit(user, "review:look", revision.mailing.workspace)
    comment = " ".join(comment.replace("\0", "").split())
    if not comment:
        raise Refused("Say in a few words what the mark is about.")
    if len(comment) > 500:
        raise Refused(f"The comment has {len(comment)} characters; there is room for 500.")
    document = message_of(revision).document
    if document is None or not 0 <= element < len(document.all_elements):
        raise Refused("There is nothing of the message at this place; click on a text, a picture or a button.")
    with transaction.atomic():
        mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
        refuse_if_locked(mailing)
        anchor = json.loads(json.dumps(anchor_of(document.all_elements[element], document).as_json()).replace("\\u0000", ""))
        mark = Mark.objects.create(mailing=mailing, revision=revision, profile=profile, anchor=anchor, comment=comment, by=user)
        record("mark.set", actor=user, mailing_id=mailing.pk, revision=revision.number, comment=comment)
    return mark


def settle_mark(user: User, mark: Mark) -> None:
    """Say that what a mark asks for is done.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:look", mark.mailing.workspace)
    with transaction.atomic():
        refuse_if_locked(Mailing.objects.select_for_update().get(pk=mark.mailing_id))
        if Mark.objects.filter(pk=mark.pk, settled_at=None).update(settled_at=timezone.now(), settled_by=user):
            record("mark.settled", actor=user, mailing_id=mark.mailing_id, comment=mark.comment)
