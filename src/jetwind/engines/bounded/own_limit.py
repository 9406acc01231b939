"""A limit of processor time that a helper keeps by itself: the helper breaks the answer off and keeps the values that it had worked out before."""

from __future__ import annotations

import functools
import importlib._bootstrap
import signal
from collections.abc import Callable
from types import CodeType, FrameType
from typing import Any, Concatenate, ParamSpec, TypeVar

from jetwind.core.message import Message

Answer = TypeVar("Answer")
Given = ParamSpec("Given")

#: Functions that are not broken off: they work out what further answers need too, or read a module.
_FINISHED: frozenset[CodeType] = frozenset(
    {
        functools.cached_property.__get__.__code__,
        Message.shared.__code__,
        importlib._bootstrap._find_and_load.__code__,  # type: ignore[attr-defined]
    }
)
#: Seconds after which it is seen again whether such a function has come to its end.
_AGAIN_S = 0.02


class Late(BaseException):
    """The answer was broken off. No error of the work itself, so that nothing which handles those takes it for one."""


def within_own_limit(
    seconds: float,
    goes_on: Callable[[], None],
    question: Callable[Concatenate[Any, Given], Answer],
    given: Any,
    *args: Given.args,
    **kwargs: Given.kwargs,
) -> Answer:
    """``question(given, …)``, broken off after so many seconds of processor time of this process. For the main thread.

    ``goes_on`` is called, once, where the time is over while something is worked out that further answers need: it is finished first.

    Raises:
        Late: it was broken off.
        Exception: what the question raises.
    """
    has_told = False

    def over(_number: int, frame: FrameType | None) -> None:
        nonlocal has_told
        if not _is_finished_first(frame):
            raise Late
        if not has_told:
            has_told = True
            goes_on()
        signal.setitimer(signal.ITIMER_PROF, _AGAIN_S)

    before = signal.signal(signal.SIGPROF, over)
    try:
        signal.setitimer(signal.ITIMER_PROF, seconds)
        try:
            return question(given, *args, **kwargs)
        finally:
            signal.setitimer(signal.ITIMER_PROF, 0)
    finally:
        # Where the time was over at the very end, it was over between the two.
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)


def _is_finished_first(frame: FrameType | None) -> bool:
    """Whether a function that is not broken off is under way."""
    while frame is not None:
        if frame.f_code in _FINISHED:
            return True
        frame = frame.f_back
    return False
