"""A helper process: it holds one thing, is asked about it, and is ended where an answer costs too much.

What is counted is the helper's own processor time, so that a busy machine makes no answer fail; time on the clock is only a backstop.
A fresh helper takes over after one was ended, until the whole budget is spent.
"""

from __future__ import annotations

import contextlib
import ctypes
import gc
import multiprocessing
import os
import pickle
import resource
import signal
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing import forkserver
from multiprocessing.connection import Connection
from multiprocessing.context import BaseContext
from pathlib import Path
from typing import Any, Concatenate, Literal, ParamSpec, Protocol, TypeVar

from jetwind.core.errors import PastBudget
from jetwind.engines.bounded.own_limit import Late, within_own_limit

Answer = TypeVar("Answer")
Given = ParamSpec("Given")

#: How a helper begins. ``fork`` is for a program of one thread, such as the command line. ``server`` forks from a process that was
#: made for it and holds nothing but the program: for workers, whose threads may hold locks.
#: ``here`` is for a process that is a helper itself: questions are answered in it, and its own limits hold.
Start = Literal["fork", "server", "here"]

#: Imported once by the process that helpers are forked from; programs above may add what their helpers need.
PRELOADED = ["jetwind.engines.bounded.preload"]
#: Time on the clock for each second of budget: two processors shared with a browser.
_PATIENCE = 6.0
#: A helper that is to break off by itself is ended after so many times the seconds that it was given.
_GENTLY = 2.0
_TICKS = os.sysconf("SC_CLK_TCK")


def prepare() -> None:
    """Begin the process that helpers are forked from, without waiting for it: what it imports takes seconds."""
    _server()
    forkserver.ensure_running()


def _server() -> BaseContext:
    server = multiprocessing.get_context("forkserver")
    server.set_forkserver_preload(list(PRELOADED))
    return server


@dataclass(frozen=True, slots=True)
class Budget:
    """Seconds of processor time for one answer and for all of them, and octets of memory beyond what the program itself takes.

    A helper that asks further helpers is counted without them: they have budgets of their own.
    """

    answer_seconds: float
    all_seconds: float
    memory: int
    #: Seconds on the clock for one answer; 0 for six times those of processor time, which two processors shared with a browser need.
    clock_seconds: float = 0.0

    def times(self, factor: float) -> Budget:
        """So many times the seconds, and up to twice the memory: a machine has no more of it because somebody waits longer."""
        return Budget(
            self.answer_seconds * factor, self.all_seconds * factor, int(self.memory * min(factor, 2.0)), self.clock_seconds * factor
        )


class Holder(Protocol):
    """A holder of something that answers questions about it: a helper, or a stand-in in front of one."""

    def ask(self, question: Callable[Concatenate[Any, Given], Answer], *args: Given.args, **kwargs: Given.kwargs) -> Answer:
        """``question(thing, …)``; raises PastBudget where the answer costs more than it may."""


class Helper:
    """Answers questions about ``given``. Use it as a context manager; not to be shared by threads.

    Whichever way a helper begins, it is handed ``given`` pickled, so that both ways answer alike and a forked helper never works with
    what belongs to its parent, such as a connection to the database.
    """

    def __init__(self, given: Any, budget: Budget, start: Start) -> None:
        self._here = given if start == "here" else None
        self._given, self._budget = pickle.dumps(given) if start != "here" else b"", budget
        self._context: BaseContext = _server() if start == "server" else multiprocessing.get_context("fork")
        self._process: Any = None
        self._pipe: Connection | None = None
        self._spent = 0.0
        self._most = budget.answer_seconds
        self._is_gentle, self._finishes = False, True

    def __enter__(self) -> Helper:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @property
    def left(self) -> float:
        """Seconds of processor time that may still be used."""
        return max(0.0, self._budget.all_seconds - self._spent - self._used())

    @property
    def resident(self) -> int:
        """Octets of memory that the helper has for itself alone now (proc(5), smaps_rollup: what is private); 0 where none lives.

        Pages that it shares with the process that it was forked from are not counted: they stay when the helper ends.
        """
        if self._process is None:
            return 0
        try:
            lines = Path(f"/proc/{self._process.pid}/smaps_rollup").read_text().splitlines()
        except OSError:
            return 0
        return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith("Private_"))

    @property
    def lives(self) -> bool:
        """Whether a process is there that has been asked before, and keeps what it worked out."""
        return self._process is not None

    def within(self, seconds: float, *, gently: bool = False) -> Helper:
        """The same helper, whose next answers may take so long at most; the budget holds all the same.

        ``gently`` has the helper break an answer off by itself, so that it lives on with all that it has worked out. What it works out for
        several answers it finishes first, up to the budget of one answer. Only where it does not break off in twice the time is it ended.
        Questions about a database must not be broken off so.
        """
        self._most, self._is_gentle = seconds, gently
        return self

    def ask(self, question: Callable[Concatenate[Any, Given], Answer], *args: Given.args, **kwargs: Given.kwargs) -> Answer:
        """``question(given, …)``, worked out by the helper. ``question`` is a function of a module.

        Raises:
            PastBudget: the answer takes too long, needs too much memory, or took the helper down.
            Exception: what the question itself raises.
        """
        if self._here is not None:
            return question(self._here, *args, **kwargs)
        if not self.left:
            raise PastBudget(f"the message takes longer than {self._budget.all_seconds:g} s in all")
        if self._pipe is None:
            self._begin()
        assert self._pipe is not None
        try:
            kind, answer = self._answered(self._pipe, (question, args, kwargs))
        except (EOFError, OSError, BrokenPipeError):
            self._end()
            raise PastBudget("it took the process down that worked on it") from None
        if kind == "answer":
            return answer  # type: ignore[no-any-return]
        if kind == "late":
            raise PastBudget(f"took longer than {self._most:g} s")
        if kind == "memory":
            self._end()
            raise PastBudget(f"needed more than {self._budget.memory // 1_000_000} MB")
        raise answer

    def close(self) -> None:
        """End the helper."""
        self._end()

    def _begin(self) -> None:
        ours, theirs = self._context.Pipe()
        process = self._context.Process(target=_serve, args=(theirs, self._given, self._budget), daemon=True)  # type: ignore[attr-defined]
        process.start()
        theirs.close()
        self._process, self._pipe = process, ours

    def _answered(self, pipe: Connection, asked: tuple[Any, ...]) -> tuple[str, Any]:
        """The kind of the helper's answer, and the answer.

        Raises:
            PastBudget: none came in time.
            EOFError, OSError: the helper ended.
        """
        most = min(self._most, self._budget.answer_seconds)
        pipe.send((*asked, most if self._is_gentle else 0.0))
        self._wait(pipe, most * _GENTLY if self._is_gentle else most)
        kind, answer = pipe.recv()
        if kind == "goes on":
            more = self._budget.answer_seconds - most if self._finishes else 0.0
            # What does not come to its end once is not waited for again: the next answers would each take as long.
            self._finishes = False
            self._wait(pipe, max(more, most))
            kind, answer = pipe.recv()
            self._finishes = True
        return kind, answer

    def _wait(self, pipe: Connection, seconds: float) -> None:
        """Until something is said, or the helper has used up so many seconds.

        Raises:
            PastBudget: it has, and was ended.
        """
        left = min(seconds, self.left)
        started, before = time.monotonic(), self._used()
        if pipe.poll(min(0.2, left)):
            return
        while not pipe.poll(min(0.1, max(left / 4, 0.02))):
            used = self._used() - before
            if used <= left and time.monotonic() - started <= (self._budget.clock_seconds or left * _PATIENCE):
                continue
            self._end()
            if left < seconds:
                raise PastBudget(f"the message takes longer than {self._budget.all_seconds:g} s in all")
            raise PastBudget(f"took longer than {min(self._most, self._budget.answer_seconds):g} s")

    def _used(self) -> float:
        """Seconds of processor time that the helper has used (proc(5), stat, fields 14 and 15)."""
        if self._process is None:
            return 0.0
        try:
            fields = Path(f"/proc/{self._process.pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            return 0.0
        return (int(fields[11]) + int(fields[12])) / _TICKS

    def _end(self) -> None:
        if self._process is None:
            return
        self._spent += self._used()
        self._process.kill()
        self._process.join(10)
        if self._pipe is not None:
            self._pipe.close()
        self._process = self._pipe = None


def _serve(pipe: Connection, pickled: bytes, budget: Budget) -> None:
    """The helper's whole life: question, answer, question, until the pipe ends. What it is given is loaded for the first of them."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _end_with_its_parent()
    # Objects made before the fork are left out of garbage collection: looking at them would copy their memory pages.
    gc.freeze()
    # With those left out, Python would take the tree of a message for many times what there was before, and collect again and again.
    gc.set_threshold(100_000, 20, 100)
    with contextlib.suppress(ValueError, OSError):
        # Anonymous memory alone is counted: a fork maps all that its parent maps.
        wanted = _data_octets() + budget.memory
        resource.setrlimit(resource.RLIMIT_DATA, (wanted, resource.RLIM_INFINITY))
        resource.setrlimit(resource.RLIMIT_CPU, (int(budget.all_seconds) + 5, int(budget.all_seconds) + 10))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    given: Any = None
    is_loaded = False
    while True:
        try:
            question, args, kwargs, most = pipe.recv()
        except (EOFError, OSError):
            return
        try:
            if not is_loaded:
                given, is_loaded = pickle.loads(pickled), True  # noqa: S301 - from the parent's hand, not from a message
            answer: tuple[str, Any] = (
                "answer",
                within_own_limit(most, lambda: pipe.send(("goes on", None)), question, given, *args, **kwargs)
                if most
                else question(given, *args, **kwargs),
            )
        except Late:
            answer = ("late", None)
        except MemoryError:
            answer = ("memory", None)
        except Exception as failure:
            answer = ("failure", failure)
        try:
            pipe.send(answer)
        except MemoryError:
            pipe.send(("memory", None))
        except OSError:
            return
        except Exception as unsendable:  # an answer or a failure that cannot be pickled
            pipe.send(("failure", RuntimeError(f"{type(unsendable).__name__}: {unsendable}")))


def _end_with_its_parent() -> None:
    """Have the kernel end this process when the one that began it ends, however it does (prctl(2), PR_SET_PDEATHSIG)."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)


def may_ask_helpers() -> None:
    """Let a helper begin helpers of its own: multiprocessing keeps that from processes that end with their parent, as helpers do."""
    multiprocessing.current_process()._config["daemon"] = False  # type: ignore[attr-defined]


def _data_octets() -> int:
    """Octets of data that this process has now (proc(5), status, VmData)."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmData:"):
            return int(line.split()[1]) * 1024
    return 0
