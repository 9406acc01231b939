"""A message in many profiles: pictures and measurements, reference layouts, and which losses show."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Literal, Protocol

from jetwind.core.message import Message
from jetwind.core.profiles import Profile, Rewritten, untouched
from jetwind.core.profiles.measured import Measured
from jetwind.core.profiles.renders import Render, Renders
from jetwind.core.profiles.showing import Effect, Shown, Trial, effect, gather, trials, whole, without
from jetwind.engines.browser.capture import Capture, CaptureRequest

#: Seconds that may be spent on finding out which losses show; real messages take one to four.
TRIAL_SECONDS = 60.0


class Captures(Protocol):
    """What a survey needs of a browser."""

    def capture_all(self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool]) -> None:
        """Answer all requests and hand each to ``done``."""


def survey(
    message: Message,
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

    browser.capture_all([CaptureRequest.of(page, profile, picture) for profile, page in pages.values()], taken)
    ordered = {profile_id: renders[profile_id] for profile_id in ids if profile_id in renders}
    if stopped or not ordered:
        return Renders(ordered, failed, untold="rendering was broken off" if stopped else "there is no render")
    if failed:
        return Renders(ordered, failed, untold="a profile could not be rendered")
    shown = losses_shown(
        message, {profile_id: page for profile_id, (_, page) in pages.items()}, [profile for profile, _ in pages.values()], browser
    )
    return Renders(ordered, failed, shown=tuple(shown) if shown is not None else None, untold="" if shown is not None else _SLOW)


_SLOW = "the message takes too long to lay out to try each feature"


def references(message: Message, chosen: Sequence[Profile], browser: Captures) -> dict[str, Measured]:
    """For each profile the layout of the message in its window with nothing lost; equal windows are laid out once."""
    requests: dict[tuple[object, ...], CaptureRequest] = {}
    keys: dict[str, tuple[object, ...]] = {}
    for profile in chosen:
        request = CaptureRequest.of(untouched(message, profile), profile, "none")
        keys[profile.id] = (request.html, request.width, request.first_screen, request.room, request.dark)
        requests.setdefault(keys[profile.id], request)
    answers = _measured(list(requests.values()), browser)
    by_key = dict(zip(requests, answers, strict=True))
    return {profile_id: measured for profile_id, key in keys.items() if (measured := by_key[key]) is not None}


def losses_shown(message: Message, pages: Mapping[str, Rewritten], chosen: Sequence[Profile], browser: Captures) -> list[Shown] | None:
    """The features whose loss shows, or None where the message is too slow to try them all."""
    if message.html is None:
        return []
    by_id = {profile.id: profile for profile in chosen}
    tried = trials(dict(pages), chosen)
    started = time.monotonic()
    bases: dict[Profile, Measured | None] = {}
    windows = list({trial.window: trial for trial in tried}.values())
    found = _measured([_request(whole(message, trial), trial.window) for trial in windows], browser)
    bases.update(zip((trial.window for trial in windows), found, strict=True))
    # One client may lose a feature in part where another loses it whole: each way of losing it is laid out once.
    asked: list[tuple[Trial, CaptureRequest]] = []
    for trial in tried:
        ways: dict[str, list[str]] = {}
        for profile_id in trial.profiles:
            ways.setdefault(without(message, trial, by_id[profile_id]).html, []).append(profile_id)
        for ids in ways.values():
            page = without(message, trial, by_id[ids[0]])
            asked.append((Trial(trial.feature, trial.window, tuple(ids)), _request(page, trial.window)))
    answers: list[tuple[Trial, Effect | None]] = []
    for start in range(0, len(asked), 12):
        if time.monotonic() - started > TRIAL_SECONDS:
            return None
        some = asked[start : start + 12]
        for (trial, _), after in zip(some, _measured([request for _, request in some], browser), strict=True):
            before = bases[trial.window]
            answers.append((trial, effect(trial.feature, before, after) if before is not None and after is not None else None))
    return gather(dict(pages), answers)


def _request(page: Rewritten, window: Profile) -> CaptureRequest:
    return CaptureRequest.of(page, window, "none", paint=True)


def _measured(requests: list[CaptureRequest], browser: Captures) -> list[Measured | None]:
    answers: list[Measured | None] = [None] * len(requests)

    def done(number: int, capture: Capture | Exception) -> bool:
        answers[number] = capture.measured if isinstance(capture, Capture) else None
        return True

    browser.capture_all(requests, done)
    return answers
