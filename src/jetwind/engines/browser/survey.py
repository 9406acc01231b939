"""A message in many profiles: pictures and measurements, reference layouts, and which losses show."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Literal, Protocol, TypeVar

from jetwind.core.errors import JetwindError
from jetwind.core.profiles import REFERENCE, Profile, Rewriter, Rewritten, untouched
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.enlarged import Loss as Lost
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Answer, Effect, Shown, Trial, as_it_is, differing, effect, gather, trials, whole, with_it, without
from jetwind.core.renders.spoken import Spoken
from jetwind.engines.bounded.helper import PastBudget
from jetwind.engines.browser.capture import ALL_SECONDS, Capture, CaptureFailed, CaptureRequest, is_heavy

Item = TypeVar("Item")


class Captures(Protocol):
    """The functions of a browser that a survey needs."""

    def capture_all(
        self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool], seconds: float = ALL_SECONDS
    ) -> None:
        """Answer all requests and hand each to ``done``."""

    def spoken(self, request: CaptureRequest, seconds: float) -> tuple[Spoken, ...] | None:
        """The words that a screen reader says of a page; None where the page does not answer in time."""

    def enlarged(self, request: CaptureRequest, seconds: float) -> tuple[Lost, ...] | None:
        """The losses of a page whose text is set twice as large; None where the page does not answer in time."""


class OutOfTime(JetwindError):
    """Time on the clock ran out before every page was laid out. That says nothing of the message: a machine with less to do may get further."""


def survey(
    rewriter: Rewriter,
    pages: Mapping[str, tuple[Profile, Rewritten]],
    browser: Captures,
    picture: Literal["look", "compare", "none"],
    done: Callable[[str, Capture | Exception], bool],
) -> Renders:
    """Render every page, handing each to ``done`` as it comes, and find out which losses show.

    ``done`` answers False to stop; then the survey ends where it is.
    """
    ids = list(pages)
    renders: dict[str, Render] = {}
    failed: dict[str, str] = {}
    stopped = False

    def taken(number: int, capture: Capture | Exception) -> bool:
        nonlocal stopped
        profile, page = pages[ids[number]]
        if isinstance(capture, Exception):
            failed[profile.id] = str(capture)
        else:
            renders[profile.id] = Render(profile, capture.measured, page.clipped, page.blocked)
        stopped = not done(ids[number], capture)
        return not stopped

    deadline = time.monotonic() + ALL_SECONDS
    browser.capture_all([CaptureRequest.of(page, profile, picture) for profile, page in pages.values()], taken, ALL_SECONDS)
    ordered = {profile_id: renders[profile_id] for profile_id in ids if profile_id in renders}
    if stopped or not ordered:
        return Renders(ordered, failed, untold="rendering was broken off" if stopped else "there is no render")
    one = enlargeable([pages[profile_id][0] for profile_id in ordered])
    enlarged = browser.enlarged(CaptureRequest.of(pages[one.id][1], one, "none"), deadline - time.monotonic()) if one is not None else None
    if failed:
        return Renders(ordered, failed, untold="a profile could not be rendered", enlarged=enlarged)
    chosen = [profile for profile, _ in pages.values()]
    try:
        shown = losses_shown(rewriter, {profile_id: page for profile_id, (_, page) in pages.items()}, chosen, browser)
    except OutOfTime:
        shown = None
    return Renders(
        ordered,
        failed,
        shown=tuple(shown) if shown is not None else None,
        untold="" if shown is not None else TOO_SLOW,
        enlarged=enlarged,
    )


def enlargeable(chosen: Sequence[Profile]) -> Profile | None:
    """The profile whose text is enlarged: that which others are held against, else the first of a desktop; None where there is none."""
    desktops = [profile for profile in chosen if profile.device == "desktop" and profile.engine == "standards"]
    return next((profile for profile in desktops if profile.id == REFERENCE), desktops[0] if desktops else None)


class _Remembering:
    """Asks the rewriter once for each page: a client's own page in a window is held against that of every feature it lacks."""

    def __init__(self, rewriter: Rewriter) -> None:
        self._rewriter = rewriter
        self._known: dict[tuple[Profile, str | None, str], Rewritten] = {}

    def __call__(self, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
        """The page, asked for or remembered."""
        key = (profile, only, spared)
        if key not in self._known:
            self._known[key] = self._rewriter(profile, only=only, spared=spared)
        return self._known[key]


#: Why losses are not told.
TOO_SLOW = "the message takes too long to lay out to try each feature"


def references(rewriter: Rewriter, chosen: Sequence[Profile], browser: Captures, seconds: float = ALL_SECONDS) -> dict[str, Measured]:
    """For each profile the layout of the message in its window with nothing lost; equal windows are laid out once.

    Raises:
        OutOfTime: they are not all laid out in so many seconds.
    """
    deadline = time.monotonic() + seconds
    requests: dict[tuple[object, ...], CaptureRequest] = {}
    keys: dict[str, tuple[object, ...]] = {}
    for profile in chosen:
        try:
            request = CaptureRequest.of(untouched(rewriter, profile), profile, "none")
        except PastBudget:
            return {}
        keys[profile.id] = _key(request)
        requests.setdefault(keys[profile.id], request)
    answers = _measured(list(requests.values()), browser, deadline)
    by_key = dict(zip(requests, answers, strict=True))
    return {profile_id: measured for profile_id, key in keys.items() if (measured := by_key[key]) is not None}


def losses_shown(
    rewriter: Rewriter, pages: Mapping[str, Rewritten], chosen: Sequence[Profile], browser: Captures, seconds: float = ALL_SECONDS
) -> list[Shown] | None:
    """The features whose loss shows, or None where the message is too heavy to try them all.

    Raises:
        OutOfTime: they are not all tried in so many seconds.
    """
    if any(is_heavy(page.html) for page in pages.values()):
        # Hundreds of pages of this size would be held and laid out.
        return None
    try:
        return _losses_shown(_Remembering(rewriter), pages, chosen, browser, time.monotonic() + seconds)
    except PastBudget:
        return None


def _losses_shown(
    rewriter: Rewriter, pages: Mapping[str, Rewritten], chosen: Sequence[Profile], browser: Captures, deadline: float
) -> list[Shown]:
    by_id = {profile.id: profile for profile in chosen}
    tried = trials(dict(pages), chosen)
    bases: dict[Profile, Measured | None] = {}
    windows = list({trial.window: trial for trial in tried}.values())
    found = _measured([_request(whole(rewriter, trial), trial.window) for trial in windows], browser, deadline)
    bases.update(zip((trial.window for trial in windows), found, strict=True))
    # One client may lose a feature in part where another loses it whole: each way of losing it is laid out once.
    asked: list[tuple[Trial, CaptureRequest]] = []
    for trial in tried:
        ways: dict[str, list[str]] = {}
        for profile_id in trial.profiles:
            ways.setdefault(without(rewriter, trial, by_id[profile_id]).html, []).append(profile_id)
        for ids in ways.values():
            page = without(rewriter, trial, by_id[ids[0]])
            asked.append((Trial(trial.feature, trial.window, tuple(ids)), _request(page, trial.window)))
    answers: list[Answer] = []
    for some in _dozens(asked):
        if time.monotonic() > deadline:
            raise OutOfTime
        for (trial, _), after in zip(some, _measured([request for _, request in some], browser, deadline), strict=True):
            before = bases[trial.window]
            found_effect = effect(trial.feature, before, after) if before is not None and after is not None else None
            if found_effect is not None:
                answers.append(_answer(trial, found_effect, before, after))
    return gather(dict(pages), _confirmed(rewriter, answers, by_id, browser, deadline))


def _confirmed(rewriter: Rewriter, answers: list[Answer], by_id: Mapping[str, Profile], browser: Captures, deadline: float) -> list[Answer]:
    """The losses that show among everything else that the client loses.

    Where a client's losses show only together, so that keeping one of them changes nothing, those found one by one stand for it.
    """
    asked: list[tuple[Trial, Answer, str, CaptureRequest, CaptureRequest]] = []
    for alone in answers:
        trial = alone.trial
        ways: dict[tuple[str, str], list[str]] = {}
        for profile_id in trial.profiles:
            pair = (as_it_is(rewriter, trial, by_id[profile_id]).html, with_it(rewriter, trial, by_id[profile_id]).html)
            ways.setdefault(pair, []).append(profile_id)
        for ids in ways.values():
            profile = by_id[ids[0]]
            part = Trial(trial.feature, trial.window, tuple(ids))
            as_is, kept = (_request(page, trial.window) for page in (as_it_is(rewriter, trial, profile), with_it(rewriter, trial, profile)))
            asked.append((part, alone, profile.modelled_on, as_is, kept))
    requests = {_key(request): request for _, _, _, *pair in asked for request in pair}
    measured: dict[tuple[object, ...], Measured | None] = {}
    for some in _dozens(list(requests.items())):
        if time.monotonic() > deadline:
            raise OutOfTime
        measured.update(zip((key for key, _ in some), _measured([request for _, request in some], browser, deadline), strict=True))
    shows: list[Answer] = []
    silent: dict[tuple[str, Profile], list[Answer]] = {}
    loud: set[tuple[str, Profile]] = set()
    for part, alone, client, as_is, kept in asked:
        lost, whole_one = measured[_key(as_is)], measured[_key(kept)]
        among = effect(part.feature, whole_one, lost) if whole_one is not None and lost is not None else None
        if among is not None:
            shows.append(_answer(part, among, whole_one, lost))
            loud.add((client, part.window))
        elif alone.effect == "layout":
            silent.setdefault((client, part.window), []).append(replace(alone, trial=part))
    for where, parts in silent.items():
        if where not in loud and _departs(rewriter, parts[0].trial, by_id=by_id, measured=measured, browser=browser, deadline=deadline):
            shows += parts
    return shows


def _answer(trial: Trial, effect: Effect, before: Measured | None, after: Measured | None) -> Answer:
    return Answer(trial, effect, differing(before, after) if before is not None and after is not None else frozenset())


def _departs(
    rewriter: Rewriter,
    trial: Trial,
    by_id: Mapping[str, Profile],
    measured: Mapping[tuple[object, ...], Measured | None],
    browser: Captures,
    deadline: float,
) -> bool:
    """Whether the message as the client has it lies elsewhere than with nothing lost."""
    as_is = measured[_key(_request(as_it_is(rewriter, trial, by_id[trial.profiles[0]]), trial.window))]
    (before,) = _measured([_request(whole(rewriter, trial), trial.window)], browser, deadline)
    return before is not None and as_is is not None and effect("all", before, as_is) == "layout"


def _key(request: CaptureRequest) -> tuple[object, ...]:
    return (request.html, request.width, request.first_screen, request.room, request.dark, request.shrinks)


def _dozens(items: list[Item]) -> Iterator[list[Item]]:
    """Twelve at a time: between them the clock is looked at."""
    for start in range(0, len(items), 12):
        yield items[start : start + 12]


def _request(page: Rewritten, window: Profile) -> CaptureRequest:
    return CaptureRequest.of(page, window, "none", paint=True)


def _measured(requests: list[CaptureRequest], browser: Captures, deadline: float) -> list[Measured | None]:
    """Lay each page out and measure it; None stands for a page that cannot be laid out.

    Raises:
        OutOfTime: some would have needed more time.
    """
    answers: list[Measured | None] = [None] * len(requests)
    is_late = False

    def done(number: int, capture: Capture | Exception) -> bool:
        nonlocal is_late
        answers[number] = capture.measured if isinstance(capture, Capture) else None
        is_late = is_late or (isinstance(capture, CaptureFailed) and capture.for_time)
        return not is_late

    browser.capture_all(requests, done, max(0.0, deadline - time.monotonic()))
    if is_late:
        raise OutOfTime
    return answers
