"""Rendering a revision in all profiles, once each."""

from __future__ import annotations

import hashlib
import json
import threading
from collections import Counter
from collections.abc import Iterator
from typing import Any, Protocol

from django.db import transaction

from jetwind import __version__
from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.models import Render
from jetwind.apps.workspace.access import permit
from jetwind.core.message import Message
from jetwind.core.profiles import Profile, Rewritten, profiles, rewrite
from jetwind.engines.browser import Browser, Capture, CaptureRequest

RENDERS = "renders"


class Renderer(Protocol):
    """What rendering needs of a browser."""

    def capture_all(self, requests: Any, done: Any) -> None:
        """Take pictures of all requests and hand each to ``done``."""


_browser: Renderer | None = None
_browser_lock = threading.Lock()


def the_browser() -> Renderer:
    """The one browser of this process, started with its first use and kept."""
    global _browser
    with _browser_lock:
        if _browser is None:
            _browser = Browser()
        return _browser


def plan(revision: Revision) -> list[tuple[Profile, str]]:
    """Which renders a revision gets: every profile with images shown, blocked, and at night."""
    return [(profile, mode.value) for mode in Render.Mode for profile in profiles().values()]


def ask_for_renders(revision: Revision, user: User | None = None) -> Work:
    """Have a revision rendered in the background; what is rendered already stays."""
    from jetwind.apps.previews.tasks import render_revision

    with transaction.atomic():
        wanted = plan(revision)
        for profile, mode in wanted:
            Render.objects.get_or_create(revision=revision, profile=profile.id, mode=mode)
        Render.objects.filter(revision=revision, state=Render.State.FAILED).update(state=Render.State.WAITING, problem="")
        return jobs.start(
            RENDERS,
            f"revision:{revision.pk}",
            doing="waiting for a worker",
            total=len(wanted),
            enqueue=lambda work_id: render_revision.defer(revision_id=revision.pk, work_id=work_id),
        )


def retry_renders(user: User, revision: Revision) -> None:
    """Render again what failed or was cancelled.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    ask_for_renders(revision)


def cancel_renders(user: User, revision: Revision) -> None:
    """Stop rendering after the current picture.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    work = jobs.latest(RENDERS, f"revision:{revision.pk}")
    if work is not None and work.is_open:
        jobs.cancel(work)


def render_now(revision: Revision, work_id: int, browser: Renderer) -> None:
    """Render what is still waiting. Safe to run twice, and after a worker was killed in the middle.

    Raises:
        Cancelled: somebody asked for it to stop.
    """
    message = message_of(revision)
    total = revision.renders.count()
    waiting = [render for render in revision.renders.filter(state=Render.State.WAITING) if render.profile in profiles()]
    done = total - len(waiting)
    jobs.report(work_id, done=done, total=total, doing="rewriting the message")
    to_take: dict[str, tuple[list[Render], Rewritten, CaptureRequest]] = {}
    for render, page, request in _requests(message, waiting):
        render.key = _key(page, request)
        twin = Render.objects.filter(key=render.key, state=Render.State.DONE).exclude(pk=render.pk).first()
        if twin is not None:
            _take_over(render, twin)
            done += 1
        elif render.key in to_take:
            # A message without pictures looks the same with them blocked.
            to_take[render.key][0].append(render)
        else:
            to_take[render.key] = ([render], page, request)
    jobs.report(work_id, done=done, total=total, doing="starting the browser" if to_take else "done")
    cancelled: list[jobs.Cancelled] = []
    asked = list(to_take.values())

    def taken(number: int, capture: Capture | Exception) -> bool:
        nonlocal done
        (first, *others), page, _ = asked[number]
        _finish(first, page, capture)
        for other in others:
            _take_over(other, first)
        done += 1 + len(others)
        try:
            jobs.report(work_id, done=done, total=total, doing=f"{profiles()[first.profile].name}, {first.get_mode_display()}")
        except jobs.Cancelled as stop:
            cancelled.append(stop)
            return False
        return True

    browser.capture_all([request for _, _, request in asked], taken)
    if cancelled:
        raise cancelled[0]


def _take_over(render: Render, twin: Render) -> None:
    """The answer to the same question, asked before."""
    for name in ("state", "problem", "blob_sha256", "content_type", "width", "height", "content_width", "cut", "boxes", "facts", "dropped"):
        setattr(render, name, getattr(twin, name))
    render.save()


def _requests(message: Message, renders: list[Render]) -> Iterator[tuple[Render, Rewritten, CaptureRequest]]:
    for render in renders:
        profile = profiles()[render.profile]
        page = rewrite(message, profile, "off" if render.mode == Render.Mode.BLOCKED else "on")
        parts = {digest: (part.content_type, part.data) for digest, part in page.parts.items()}
        yield (
            render,
            page,
            CaptureRequest(
                page.html, parts, profile.width, profile.first_screen, profile.pixel_ratio, dark=render.mode == Render.Mode.NIGHT
            ),
        )


def _key(page: Rewritten, request: CaptureRequest) -> str:
    asked = [__version__, request.html, sorted(page.parts), request.width, request.first_screen, request.pixel_ratio, request.dark]
    return hashlib.sha256(json.dumps(asked).encode("utf-8", "surrogatepass")).hexdigest()


def _finish(render: Render, page: Rewritten, capture: Capture | Exception) -> None:
    if isinstance(capture, Exception):
        render.state, render.problem = Render.State.FAILED, str(capture)
        render.save()
        return
    counts = Counter(item.feature for item in page.dropped)
    render.state = Render.State.DONE
    render.blob_sha256 = store.keep(capture.image)
    render.content_type = capture.content_type
    render.width, render.height, render.content_width, render.cut = capture.width, capture.height, capture.content_width, capture.cut
    render.boxes = [[box.element, box.kind, box.x, box.y, box.width, box.height] for box in capture.boxes]
    render.facts = {**capture.facts, "remote_pictures": page.remote_pictures}
    render.dropped = [{"feature": feature, "count": count} for feature, count in counts.items()]
    render.save()
