"""The desk: pages of a message are made in helpers, and never in the process that serves everybody (decision 0031).

The web server finds out who asks and whether they may, hands the request to a helper, and sends on the answer. A helper that takes too
long or too much memory is ended; the person is told, and nobody else waits.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any, TypeVar

from django.conf import settings
from django.db import connection
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.middleware.csrf import get_token

from jetwind.apps.jobs import services as jobs
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.desk_side import Answered, DeskRequest, Given, Made, MadeThere, ask_of, carry_out, carry_out_work, is_helper
from jetwind.engines.bounded import Budget, Helper, PastBudget, prepare

Answer = TypeVar("Answer")

#: Helpers of one process. Its threads are four; pages that need no message are made without one.
PLACES = 3
#: A page of a large newsletter takes half a second. What somebody sends, such as a file to take in, may take longer.
LOOKING_S = 4.0
SENDING_S = 15.0
#: A sheet of all renders, or lighter files of many pictures, take some seconds.
LONG_S = 40.0
_LIMITS = Budget(answer_seconds=LONG_S, all_seconds=1_000_000.0, memory=700_000_000)
#: Octets of memory beyond which a helper is ended after its answer: what it keeps of messages is given back.
MOST_KEPT = 250_000_000
#: What a task works on by itself, besides what it asks of further helpers: seconds for the largest newsletter.
WORKING = Budget(answer_seconds=30.0, all_seconds=30.0, memory=700_000_000, clock_seconds=1_800.0)
#: Going through all messages of a house: each is read, and a thousand of them take a minute.
SECONDS_OF_A_HOUSE = 1_800.0
#: Seconds that a request waits for a place.
_WAITING_S = 20.0
#: For so many seconds a page that took too long is not tried again.
_REMEMBERED_S = 600.0
_MOST_REMEMBERED = 500

#: What apps above show in the place of a page of a message that could not be made: from the request, what the address names, and why.
instead: list[Callable[[HttpRequest, dict[str, Any], str], HttpResponse | None]] = []
#: Functions of apps above. Each takes the number of a message and gives a value; when the value changes, a page that took too long is tried again.
states_of_messages: list[Callable[[int], Hashable]] = []


class _NoPlace(PastBudget):
    """No helper became free in time: that says nothing of the message that was asked about."""


class _Desk:
    """The helpers of this process, each held by one thread at a time."""

    def __init__(self) -> None:
        self._free: list[Helper] = []
        self._made = 0
        self._changed = threading.Condition()
        self._past: OrderedDict[tuple[Any, ...], tuple[float, str, tuple[Hashable, ...]]] = OrderedDict()
        self._heavy_at_work = 0

    @contextmanager
    def place(self, *, heavy: bool) -> Iterator[Helper]:
        """A helper that nobody else asks meanwhile. Messages that took too long before have one place among them, so that small ones pass.

        Raises:
            _NoPlace: none became free in time.
        """
        deadline = time.monotonic() + _WAITING_S
        with self._changed:
            while (not self._free and self._made >= PLACES) or (heavy and self._heavy_at_work):
                if not self._changed.wait(max(0.0, deadline - time.monotonic())):
                    raise _NoPlace("others are being worked on, and no place became free in time")
            self._heavy_at_work += heavy
            if self._free:
                # The one that was asked last has most of its message still at hand.
                helper = self._free.pop()
            else:
                self._made += 1
                helper = Helper(_given(), _LIMITS, "server")
        try:
            yield helper
        finally:
            if helper.resident > MOST_KEPT:
                helper.close()
            with self._changed:
                self._free.append(helper)
                self._heavy_at_work -= heavy
                self._changed.notify_all()

    def known_past(self, key: tuple[Any, ...]) -> tuple[str, tuple[Hashable, ...]]:
        """Why a page was given up a moment ago, and how its message stood then; "" where it was not."""
        with self._changed:
            at, why, stood = self._past.get(key, (0.0, "", ()))
            return (why, stood) if why and time.monotonic() - at < _REMEMBERED_S else ("", ())

    def remember_past(self, key: tuple[Any, ...], why: str, stands: tuple[Hashable, ...]) -> None:
        """Note that a page was given up."""
        with self._changed:
            self._past[key] = (time.monotonic(), why, stands)
            self._past.move_to_end(key)
            while len(self._past) > _MOST_REMEMBERED:
                self._past.popitem(last=False)

    def close(self) -> None:
        """End every helper that is free."""
        with self._changed:
            for helper in self._free:
                helper.close()
            self._made -= len(self._free)
            self._free.clear()


_desk = _Desk()


def begin() -> None:
    """Have helpers made ready in the background, so that the first person who asks does not wait for it."""
    if settings.DESK == "helpers":
        prepare()


def close() -> None:
    """End the helpers of this process; the next request begins others."""
    _desk.close()


def _given() -> Given:
    """The facts of this process that helpers need besides its environment."""
    names = ("ALLOWED_HOSTS", "STORAGES", "HAS_MAILROOM", "PRACTICE_DIRECTORY", "ASKS_DNS", "MACHINE")
    return Given({**connection.settings_dict}, {name: getattr(settings, name) for name in names})


def _state_of_message(kwargs: dict[str, Any]) -> tuple[Hashable, ...]:
    """How the message of an address stands now."""
    return tuple(of(kwargs["mailing_id"]) for of in states_of_messages) if "mailing_id" in kwargs else ()


def at_the_desk(request: HttpRequest, kwargs: dict[str, Any], *, is_long: bool = False) -> HttpResponse:
    """The answer to a request whose sender may ask, made by a helper; within a helper the view is called as it is.

    Raises:
        Refused: the view refused, or it took more than it may.
        Exception: whatever else the view raised.
    """
    is_looking = request.method in ("GET", "HEAD")
    key, message = ("page", request.get_full_path(), request.user.pk), ("message", kwargs.get("mailing_id"))
    why, stood = _desk.known_past(key) if is_looking else ("", ())
    if why and stood == _state_of_message(kwargs):
        return _instead(request, kwargs, f"{why}; it was tried a moment ago")
    # A page may hold a form: its secret is the sender's, and is known before the page is made.
    get_token(request)
    seconds = LONG_S if is_long else LOOKING_S if is_looking else SENDING_S
    try:
        with _desk.place(heavy=bool(_desk.known_past(message)[0])) as helper:
            answer = helper.within(seconds).ask(carry_out, DeskRequest.of(request))
    except PastBudget as past:
        if not isinstance(past, _NoPlace):
            _desk.remember_past(message, str(past), ())
            if is_looking:
                _desk.remember_past(key, str(past), _state_of_message(kwargs))
        return _instead(request, kwargs, str(past))
    return _sent_on(request, answer)


class Workbench:
    """A helper of a task: functions that work on messages are carried out in it, and its memory is given back when it is closed.

    Within a transaction, in a helper, and where the house has no desk, functions are called as they are. ``patience`` multiplies the
    limits; ``seconds`` is how much processor time all functions together may take.
    """

    def __init__(self, *, patience: float = 1.0, seconds: float = WORKING.all_seconds) -> None:
        self._helper: Helper | None = None
        if not _works_here():
            self._helper = Helper(_given(), replace(WORKING.times(patience), all_seconds=seconds * patience), "server")

    def __enter__(self) -> Workbench:
        return self

    def __exit__(self, *_: object) -> None:
        if self._helper is not None:
            self._helper.close()

    def ask(self, work: Callable[..., Answer], *args: Any) -> Answer:
        """The answer of ``work``, a function of a module. The function's name, its arguments and its answer go from process to process.

        Helpers that the function asks have their own budgets.

        Raises:
            Failed: it takes more than it may.
            Exception: whatever the function raises.
        """
        try:
            return work(*args) if self._helper is None else self._helper.ask(carry_out_work, work, *args)
        except PastBudget as past:
            raise jobs.Failed(f"Working on the message {_said(str(past))}.") from past


def at_the_workbench(work: Callable[..., Answer], *args: Any, patience: float = 1.0) -> Answer:
    """The answer of one function of a task, worked out at a workbench of its own; see there.

    Raises:
        Failed: it takes more than it may.
        Exception: whatever the function raises.
    """
    with Workbench(patience=patience) as bench:
        return bench.ask(work, *args)


class Held:
    """Something made of a message, held by a helper and asked about there; the process that asks never has it.

    ``make`` is a function of a module that is called in the helper with ``args``, at the first question, and again where a helper was
    ended for taking too much. Use it as a context manager.
    """

    def __init__(self, make: Callable[..., Any], *args: Any, budget: Budget) -> None:
        if _works_here():
            self._helper = Helper(Made(make(*args)), budget, settings.HELPERS_START)
        else:
            self._helper = Helper(MadeThere(_given(), make, args), budget, "server")

    def __enter__(self) -> Held:
        return self

    def __exit__(self, *_: object) -> None:
        self._helper.close()

    def ask(self, question: Callable[..., Answer], *args: Any, **kwargs: Any) -> Answer:
        """``question(thing, …)``, a function of a module, answered by the helper.

        Raises:
            PastBudget: it takes more than it may.
            Exception: whatever the question, or the making, raises.
        """
        return self._helper.ask(ask_of, question, *args, **kwargs)

    @property
    def lives(self) -> bool:
        """Whether a helper is there that has made the thing."""
        return self._helper.lives

    def rest(self, most: int) -> None:
        """End the helper where it has more than ``most`` octets for itself: the next question begins another, which makes the thing anew."""
        if self._helper.resident > most:
            self._helper.close()

    def within(self, seconds: float) -> Held:
        """The same, whose next answers may take so long at most; the budget holds all the same."""
        self._helper.within(seconds)
        return self


def _works_here() -> bool:
    """Whether this process works on messages itself. What a transaction has written, no other process sees before its end."""
    return settings.DESK == "here" or is_helper() or connection.in_atomic_block


def _instead(request: HttpRequest, kwargs: dict[str, Any], why: str) -> HttpResponse:
    """The page that needs no work on the message; a form that could not be carried out is refused."""
    if request.method in ("GET", "HEAD"):
        for make in instead:
            if (page := make(request, kwargs, why)) is not None:
                return page
        raise Refused(f"This page cannot be made: working on the message {_said(why)}.")
    raise Refused(f"This cannot be done: working on the message {_said(why)}. Nothing was changed.")


def _said(why: str) -> str:
    return why if why.startswith(("took", "needed")) else f"was given up, since {why}"


def _sent_on(request: HttpRequest, answer: Answered) -> HttpResponse:
    leads = dict(answer.headers).get("Location", "")
    response: HttpResponse = HttpResponseRedirect(leads) if leads else HttpResponse(answer.content)
    response.status_code, response.reason_phrase = answer.status, answer.reason
    for name, value in answer.headers:
        response[name] = value
    response.cookies = answer.cookies
    return response
