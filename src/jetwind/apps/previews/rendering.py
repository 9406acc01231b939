"""Carrying out renders: each waiting profile of each copy, and what is found out from them."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db.models import Count, Q
from django.utils import timezone

from jetwind import __version__
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.previews.as_whom import AS_WRITTEN, AsWhom, whom_of
from jetwind.apps.previews.models import LossTrial, Render
from jetwind.apps.previews.modes import OWN, in_words, shown_in
from jetwind.apps.review.answers import ask_for_checks, storable
from jetwind.apps.workspace.desk import at_the_workbench
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.images.elsewhere import with_fetched
from jetwind.core.message import Message, Resource
from jetwind.core.profiles import REFERENCE, Profile, Rewriter, Rewritten, profiles
from jetwind.core.readers import as_reader
from jetwind.core.renders.departure import departure
from jetwind.core.renders.led_back import LedBack
from jetwind.core.renders.measured import Measured
from jetwind.engines.bounded import BoundedRewriter, PastBudget
from jetwind.engines.browser import ALL_SECONDS, Capture, CaptureFailed, CaptureRequest, Captures, enlargeable, losses_shown, references


@dataclass(frozen=True)
class _Copy:
    """A message as it is rendered, and the way back to the one that it was merged from; None where it is that one itself."""

    whom: AsWhom
    source: Message
    message: Message
    led_back: LedBack | None
    #: How many elements the message has as it is rendered; 0 without HTML.
    elements: int
    rewriter: Rewriter

    def measured(self, found: Measured) -> Measured:
        """What was measured, with elements of the message itself."""
        return self.led_back.measured(found) if self.led_back is not None else found


#: Apps above bring pictures that lie elsewhere: from a revision, the message as it is rendered, and what to report while they come.
pictures_from_elsewhere: list[Callable[[Revision, Message, Callable[[str], None]], Mapping[str, Resource]]] = []


@contextmanager
def _copy_for(revision: Revision, whom: AsWhom, report: Callable[[str], None]) -> Iterator[_Copy]:
    source, message, led_back, elements = at_the_workbench(copy_of, revision.pk, whom)
    for bring in pictures_from_elsewhere:
        message = with_fetched(message, {**message.fetched, **bring(revision, message, report)})
    with BoundedRewriter(message, start=settings.HELPERS_START) as rewriter:
        yield _Copy(whom, source, message, led_back, elements, rewriter)


def copy_of(revision_id: int, whom: AsWhom) -> tuple[Message, Message, LedBack | None, int]:
    """A message, its copy for a reader, the way back from the one to the other, and how many elements the copy has."""
    source = message_of(_revision(revision_id))
    if whom.sample is None:
        return source, source, None, len(source.document.all_elements) if source.document is not None else 0
    merged = as_reader(source, whom.sample)
    document = merged.message.document
    return source, merged.message, LedBack(source, merged), len(document.all_elements) if document is not None else 0


def _revision(revision_id: int) -> Revision:
    return Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id)


def render_now(revision: Revision, work_id: int, browser: Captures) -> None:
    """Render what is still waiting and find out what shows. Safe to run twice, and after a worker was killed in the middle.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        PutOff: some took too long, and are tried again later.
    """
    deadline = 0.0
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

        with _copy_for(revision, whom, report) as copy:
            # Pictures that lie elsewhere have been waited for: a slow server takes nothing of the browser's minute.
            deadline = deadline or time.monotonic() + ALL_SECONDS
            _render(revision, work_id, browser, copy, deadline)
            if name == first.name:
                find_out(revision, copy, browser, deadline, report)

    put_off = list(revision.renders.filter(state=Render.State.WAITING, tries__gt=0, profile__in=profiles()).values_list("tries", flat=True))
    if put_off:
        pause = TRIED_AGAIN[min(max(put_off), len(TRIED_AGAIN)) - 1]
        renders = "a render" if len(put_off) == 1 else f"{len(put_off)} renders"
        raise jobs.PutOff(timezone.now() + pause, f"{renders} took too long; tried again when the machine may be free")


#: How long a render whose time was too short waits before it is tried again.
TRIED_AGAIN = (timedelta(seconds=30), timedelta(minutes=3), timedelta(minutes=10))


def _report(revision: Revision, work_id: int, doing: str) -> None:
    done, total = progress_of(revision)
    jobs.report(work_id, done=done, total=total, doing=doing)


def progress_of(revision: Revision) -> tuple[int, int]:
    """How many renders of a revision do not wait any more, and how many there are: counted at one moment, since others may ask for more."""
    counted = revision.renders.aggregate(total=Count("pk"), waiting=Count("pk", filter=Q(state=Render.State.WAITING)))
    return counted["total"] - counted["waiting"], counted["total"]


def _render(revision: Revision, work_id: int, browser: Captures, copy: _Copy, deadline: float) -> None:
    """One reader's copy in every profile that waits for it."""
    rows = revision.renders.filter(state=Render.State.WAITING)
    waiting = [render for render in rows.filter(reader=copy.whom.name) if render.profile in profiles()]
    done, total = progress_of(revision)
    jobs.report(work_id, done=done, total=total, doing="rewriting the message")
    to_take: dict[str, tuple[list[Render], Rewritten, CaptureRequest]] = {}
    for render in sorted(waiting, key=lambda render: (render.mode != OWN, list(profiles()).index(render.profile))):
        render.made_for = copy.whom.made_for
        profile = shown_in(profiles()[render.profile], render.mode)
        try:
            page = copy.rewriter(profile)
        except PastBudget as past:
            _give_up(render, f"The message cannot be rewritten for this client: {past}.")
            done += 1
            continue
        request = CaptureRequest.of(page, profile)
        key = _key(request, page)
        if key != render.key:
            # Found out from another page.
            render.spoken, render.enlarged = [], None
        render.key = key
        twin = Render.objects.filter(key=render.key, state=Render.State.DONE).exclude(pk=render.pk).first()
        if twin is not None:
            _take_over(render, twin, page, copy)
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
        _finish(first, page, capture, copy)
        for other in others:
            _take_over(other, first, copy.rewriter(shown_in(profiles()[other.profile], other.mode)), copy)
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


def _give_up(render: Render, problem: str) -> None:
    render.state, render.problem = Render.State.FAILED, problem
    render.save()


def find_out(revision: Revision, copy: _Copy, browser: Captures, deadline: float, report: Any = lambda doing: None) -> None:
    """How far each layout departs and which losses show; then the checks that read renders are asked again."""
    chosen = [profiles()[name] for name in chosen_profiles(revision.mailing.workspace)]
    own = {render.profile: render for render in revision.renders.filter(mode=OWN, **copy.whom.here)}
    finished = [profile for profile in chosen if profile.id in own and own[profile.id].state == Render.State.DONE]
    if not finished or any(profile.id not in own or own[profile.id].state == Render.State.WAITING for profile in chosen):
        return
    missing = [profile for profile in finished if own[profile.id].departure is None]
    if missing:
        report("measuring how far each layout departs")
        for profile_id, reference in references(copy.rewriter, missing, browser, deadline - time.monotonic()).items():
            render = own[profile_id]
            render.departure = departure(copy.measured(reference), render.layout).score
            render.save(update_fields=["departure"])
    _listen(copy, own.get(REFERENCE), browser, deadline, report)
    enlarged = enlargeable(finished)
    _enlarge(copy, own[enlarged.id] if enlarged is not None else None, browser, deadline, report)
    _try_losses(revision, copy, chosen, finished, browser, deadline, report)
    ask_for_checks(revision)


#: Elements of a message beyond which nobody listens to it: its tree alone would be megabytes.
_MOST_TO_HEAR = 8_000


def _listen(copy: _Copy, render: Render | None, browser: Captures, deadline: float, report: Any) -> None:
    """What a screen reader says of the message, from the browser that rendered it."""
    if render is None or render.state != Render.State.DONE or render.spoken or not 0 < copy.elements <= _MOST_TO_HEAR:
        return
    report("listening to what a screen reader says")
    profile = profiles()[REFERENCE]
    try:
        page = copy.rewriter(profile)
    except PastBudget:
        return
    said = browser.spoken(CaptureRequest.of(page, profile, "none"), deadline - time.monotonic())
    if said:
        led_back = copy.led_back
        rows = said if led_back is None else [replace(one, element=led_back.element(one.element)) for one in said]
        render.spoken = storable([one.as_row() for one in rows])
        render.save(update_fields=["spoken"])


def _enlarge(copy: _Copy, render: Render | None, browser: Captures, deadline: float, report: Any) -> None:
    """What is lost of the message with its text set twice as large."""
    if render is None or render.enlarged is not None:
        return
    report("enlarging the text")
    profile = profiles()[render.profile]
    try:
        page = copy.rewriter(profile)
    except PastBudget:
        return
    lost = browser.enlarged(CaptureRequest.of(page, profile, "none"), deadline - time.monotonic())
    if lost is not None:
        lost = copy.led_back.enlarged(lost) if copy.led_back is not None else lost
        render.enlarged = [one.as_row() for one in lost]
        render.save(update_fields=["enlarged"])


def _try_losses(
    revision: Revision,
    copy: _Copy,
    chosen: Sequence[Profile],
    finished: Sequence[Profile],
    browser: Captures,
    deadline: float,
    report: Any,
) -> None:
    ids = [profile.id for profile in chosen]
    message = copy.message
    pictures = (*message.images, *message.fetched.values())
    content = [message.html.text if message.html else "", sorted(picture.sha256 for picture in pictures)]
    asked = [__version__, ids, [profile.id for profile in finished], content, copy.source.sha256 if copy.led_back is not None else ""]
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
            pages = {profile.id: copy.rewriter(profile) for profile in chosen}
            shown = losses_shown(copy.rewriter, pages, chosen, browser, deadline - time.monotonic())
        except PastBudget:
            shown = None
        if shown is not None and copy.led_back is not None:
            shown = [copy.led_back.shown(one) for one in shown]
        answer = {"shown": [asdict(one) for one in shown] if shown is not None else None, "untold": ""}
        if shown is None:
            answer["untold"] = "the message takes too long to lay out to try each feature"
    LossTrial.objects.update_or_create(revision=revision, defaults={"profiles": ids, "key": key, **answer})


def _take_over(render: Render, twin: Render, page: Rewritten, copy: _Copy) -> None:
    """The answer to the same question, asked before; what was dropped on the way, and where it stands, is each render's own."""
    for name in ("state", "problem", "blob_sha256", "content_type", "width", "height"):
        setattr(render, name, getattr(twin, name))
    if render.state == Render.State.DONE and (twin.tree or copy.led_back is not None):
        found = twin.layout
        if twin.tree:
            found = replace(found, blocks=tuple(replace(block, element=own) for block, own in zip(found.blocks, twin.tree, strict=True)))
        _keep_measured(render, found, copy)
    else:
        render.measured = twin.measured
    _keep_page(render, page, copy)
    render.save()


def _keep_measured(render: Render, found: Measured, copy: _Copy) -> None:
    render.tree = [block.element for block in found.blocks] if copy.led_back is not None else []
    render.measured = copy.measured(found).as_json()


def _key(request: CaptureRequest, page: Rewritten) -> str:
    window = [request.width, request.first_screen, request.pixel_ratio, request.dark, request.room, request.shrinks]
    return hashlib.sha256(
        json.dumps([__version__, request.html, sorted(page.parts), sorted(page.own.items()), window]).encode("utf-8", "surrogatepass")
    ).hexdigest()


def _finish(render: Render, page: Rewritten, capture: Capture | Exception, copy: _Copy) -> None:
    if isinstance(capture, CaptureFailed) and capture.for_time and render.tries < len(TRIED_AGAIN):
        # A machine that is busy, as it is at a first start, must not leave a message without its renders for good.
        render.tries += 1
        render.problem = f"{capture} It is tried again when the machine may be free."
        render.save()
        return
    if isinstance(capture, Exception):
        _give_up(render, str(capture))
        return
    render.problem = ""
    render.state = Render.State.DONE
    render.blob_sha256 = store.keep(capture.image)
    render.content_type = capture.content_type
    render.width, render.height = capture.width, capture.height
    _keep_measured(render, capture.measured, copy)
    _keep_page(render, page, copy)
    render.save()


#: Missing pictures whose addresses a render keeps.
_MOST_LACKING = 60


def _keep_page(render: Render, page: Rewritten, copy: _Copy) -> None:
    led_back = copy.led_back
    spans = [change.span if led_back is None or change.span is None else led_back.span(change.span) for change in page.changes]
    render.changes = [
        [change.kind, change.feature, change.title.replace("\0", ""), span.start if span else None, span.end if span else None]
        for change, span in zip(page.changes, spans, strict=True)
    ]
    blocked = page.blocked if led_back is None else {led_back.element(element) for element in page.blocked} - {-1}
    render.clipped, render.blocked = page.clipped, sorted(blocked)
    render.lacking = [address.replace("\0", "")[:500] for address in page.lacking[:_MOST_LACKING]]
