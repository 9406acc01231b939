"""Rendering a revision in the profiles of its workspace, once each, and finding out what shows."""

from __future__ import annotations

import threading
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.services import Place, anchored, say
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, newest_open, numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.machines import best_for
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.as_whom import AsWhom, as_whom, whom_of
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN, needed
from jetwind.apps.previews.selectors import renders_for_checks
from jetwind.apps.review.questions import is_slow, machines_of
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import SECONDS_OF_A_HOUSE, Workbench, at_the_workbench
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.markup import Document, Element
from jetwind.core.profiles import profiles
from jetwind.engines.browser import Browser, Captures

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


def ask_for_renders(
    revision: Revision, user: User | None = None, *, mode: str = OWN, only: Sequence[str] = (), whom: AsWhom | None = None
) -> Work:
    """Have a revision rendered in the background, in all chosen profiles or in ``only``. Finished renders stay.

    ``whom`` says as which reader gets it; left out, as the one whose copy is longest.
    """
    chosen = [name for name in only if name in profiles()] or chosen_profiles(revision.mailing.workspace)
    whom = whom if whom is not None else at_the_workbench(whom_of, revision.pk)
    with transaction.atomic():
        # What a mode does not change, such as a desktop turned, has its own render.
        modes = {name: needed(profiles()[name], mode) for name in chosen}
        rows = [Render(revision=revision, profile=name, mode=modes[name], reader=whom.name, made_for=whom.made_for) for name in modes]
        Render.objects.bulk_create(rows, ignore_conflicts=True)
        # Made for values that the reader no longer has.
        others = Render.objects.filter(revision=revision, reader=whom.name, profile__in=modes).exclude(made_for=whom.made_for)
        outdated = [row.pk for row in others.only("profile", "mode") if row.mode == modes[row.profile]]
        Render.objects.filter(pk__in=outdated).update(made_for=whom.made_for, state=Render.State.WAITING, departure=None, problem="")
        Render.objects.filter(revision=revision, state=Render.State.FAILED).update(state=Render.State.WAITING, problem="", tries=0)
        work = jobs.start(
            RENDERS,
            f"revision:{revision.pk}",
            doing="waiting for a worker",
            total=revision.renders.count(),
            enqueue=lambda work_id: jobs.defer(
                "previews.render_revision", is_slow=is_slow(revision), needs="renders", revision_id=revision.pk, work_id=work_id
            ),
        )
        # What waits for a free machine is not waited for by what somebody asks for now.
        jobs.hurry(work)
        return work


def show_mode(user: User, revision: Revision, mode: str, only: Sequence[str] = (), reader: str = "") -> None:
    """Render what a way of showing, or a reader's copy, still lacks; what the machine that renders now would make otherwise is made anew.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    best = best_for("renders")
    if best is not None:
        _make_anew(revision, {best.renders_key})
    ask_for_renders(revision, mode=mode, only=only, whom=as_whom(revision, reader))


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
    with Workbench(seconds=SECONDS_OF_A_HOUSE) as bench:
        for revision in jobs.each(work_id, newest_open(workspace), lambda one: one.mailing.title):
            bench.ask(render_what_is_missing, revision.pk)


def render_what_is_missing(revision_id: int) -> None:
    """Have a revision rendered where its renders are not whole, show another copy than now, or were made with what no machine has any more."""
    revision = numbered(revision_id)
    if not renders_for_checks(revision) or made_otherwise(revision):
        ask_for_renders(revision)


def made_otherwise(revision: Revision) -> bool:
    """Have the renders wait again that were made with a browser, fonts or code that no machine has any more; whether there are any.

    Nothing waits again while no machine has a browser at all.
    """
    keys = {facts.renders_key for facts in machines_of(revision)} - {""}
    return bool(keys) and _make_anew(revision, keys)


def _make_anew(revision: Revision, keys: Collection[str]) -> bool:
    """Have the renders wait again that were made with none of ``keys``; whether there are any."""
    old = revision.renders.filter(state=Render.State.DONE).exclude(made_with__in=keys)
    return bool(old.update(state=Render.State.WAITING, departure=None, problem=""))


def is_behind(revision: Revision, answered: Sequence[str]) -> bool:
    """Whether more was asked for while a revision was rendered in the profiles ``answered``: another choice of them, or another mode."""
    workspace = Workspace.objects.get(pk=revision.mailing.workspace_id)
    waiting = revision.renders.filter(state=Render.State.WAITING, profile__in=profiles())
    return chosen_profiles(workspace) != list(answered) or waiting.exists()


@dataclass(frozen=True, slots=True)
class Pointed:
    """The element of a render that somebody pointed at, and where in its box, in per cent; no place where it was chosen from a list."""

    element: int
    left: float | None = None
    top: float | None = None


def comment_on(user: User, revision: Revision, profile: str, pointed: Pointed, words: str, told: Collection[int] = ()) -> Thread:
    """Begin a thread at an element, or at a point of a render.

    Raises:
        NotAllowed, Refused: no such element; as :func:`jetwind.apps.comments.services.say`.
    """
    document = message_of(revision).document
    if document is None or not 0 <= pointed.element < len(document.all_elements):
        raise Refused("There is nothing of the message at this place; click on a text, a picture or a button.")
    return say(user, revision, place_at(document, profile, pointed), words, told)


def place_at(document: Document, profile: str, pointed: Pointed) -> Place:
    """The place of an element, or of a point in its box, as a thread keeps it."""
    element = document.all_elements[pointed.element]
    kind = Thread.Kind.ELEMENT if pointed.left is None else Thread.Kind.POINT
    anchor = anchored(element, document)
    return Place(kind, "appearance", described(element), anchor=anchor, profile=profile[:40], left=pointed.left, top=pointed.top)


def described(element: Element) -> str:
    """An element in a few words: what it is and what it says."""
    words = " ".join(element.text.split())
    if element.tag == "img":
        words = element.get("alt") or element.get("src") or ""
    kind = {"a": "Link", "img": "Picture", "h1": "Heading", "h2": "Heading", "h3": "Heading"}.get(element.tag, "Text")
    return f"{kind} “{words[:50]}{'…' if len(words) > 50 else ''}”"
