"""A Chromium process and the messages to it: Chrome DevTools Protocol as JSON over two pipes, each message ended by a zero octet.

Why not a driver: one that is a process of its own costs a second to start and a third of each picture; the pipes also end the
browser when this process dies, however it dies. The protocol is described in the browser's own documentation (DevTools Protocol,
"tip of tree"); the pipes are the flag ``--remote-debugging-pipe`` (file descriptor 3 to read, 4 to write).
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import json
import os
import shutil
import signal
import tempfile
from collections.abc import Sequence
from typing import Any

from jetwind.core.errors import JetwindError
from jetwind.engines.browser.fonts import configuration

#: Octets read from the browser at once; a picture comes as one message of megabytes.
_READ = 1 << 20
#: A browser that was asked to end and has not after this many seconds is killed.
_ENDING_S = 3.0
#: Chromium reads from file 3 and writes to file 4: our own ends of the pipes are given higher numbers, so that they are not overwritten.
_ABOVE = 10

#: Events that say that a page has died or was taken away.
_PAGE_GONE = ("Inspector.targetCrashed", "Target.detachedFromTarget")
#: What is raised then for all who wait.
CLOSED = "the page or the browser is closed"


class DevToolsError(JetwindError):
    """The browser refused a command, or went away before it had answered."""


class DevTools:
    """One browser process. Every method belongs to the loop in which :meth:`start` was awaited."""

    def __init__(self) -> None:
        #: Of the browser's own process; 0 while there is none.
        self.pid = 0
        self._write = -1
        self._read = -1
        self._folder = ""
        self._number = 0
        self._incoming = bytearray()
        self._searched = 0
        self._outgoing = bytearray()
        #: Who waits: for the answer to a command by its number, for an event by its name; each with the session it belongs to.
        self._waiting: dict[int | str, tuple[str, asyncio.Future[dict[str, Any]]]] = {}
        #: Sessions of pages that have died: a command to one would never be answered.
        self._dead: set[str] = set()
        self._gone = asyncio.Event()

    @property
    def is_open(self) -> bool:
        """Whether the browser still answers."""
        return self.pid != 0 and not self._gone.is_set()

    async def start(self, executable: str, flags: Sequence[str], patience_s: float) -> None:
        """Start the browser and wait until it answers.

        Raises:
            DevToolsError: it cannot be started, or ends at once.
            TimeoutError: it does not answer in ``patience_s`` seconds.
        """
        self._folder = tempfile.mkdtemp(prefix="jetwind-browser-")
        arguments = [executable, "--headless", "--remote-debugging-pipe", f"--user-data-dir={self._folder}", *flags, "about:blank"]
        ours, theirs = _pipes()
        self._write, self._read = ours
        try:
            self.pid = os.posix_spawn(
                executable,
                arguments,
                {**os.environ, "FONTCONFIG_FILE": str(configuration())},
                file_actions=[
                    (os.POSIX_SPAWN_DUP2, theirs[0], 3),
                    (os.POSIX_SPAWN_DUP2, theirs[1], 4),
                    *((os.POSIX_SPAWN_OPEN, stream, os.devnull, os.O_RDWR, 0) for stream in (0, 1, 2)),
                ],
                # A group of its own: Ctrl-C in the terminal is for us, who then end it.
                setpgroup=0,
            )
        except OSError as failure:
            self._release()
            raise DevToolsError(f"{executable}: {failure.strerror}") from failure
        finally:
            for descriptor in theirs:
                os.close(descriptor)
        for descriptor in ours:
            os.set_blocking(descriptor, False)
        asyncio.get_running_loop().add_reader(self._read, self._readable)
        await asyncio.wait_for(self.send("Browser.getVersion"), patience_s)

    async def send(self, method: str, parameters: dict[str, Any] | None = None, session: str = "") -> dict[str, Any]:
        """One command, to a page's session or to the browser, and its answer.

        Raises:
            DevToolsError: refused, or the page or the browser is gone.
        """
        if not self.is_open or session in self._dead:
            raise DevToolsError(CLOSED)
        self._number += 1
        answer = self._wait(self._number, session)
        message = {"id": self._number, "method": method, "params": parameters or {}} | ({"sessionId": session} if session else {})
        self._outgoing += json.dumps(message).encode() + b"\0"
        self._writable()
        return await answer

    def coming(self, session: str, event: str) -> asyncio.Future[dict[str, Any]]:
        """The next event of this name in a session: its parameters, or :class:`DevToolsError` when the page is gone."""
        return self._wait(f"{session} {event}", session)

    async def close(self) -> None:
        """End the browser and all it started, and remove its folder."""
        if self.is_open:
            with contextlib.suppress(DevToolsError, TimeoutError):
                await asyncio.wait_for(self.send("Browser.close"), _ENDING_S)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._gone.wait(), _ENDING_S)
        self._end()
        if self.pid:
            pid, self.pid = self.pid, 0
            with contextlib.suppress(ProcessLookupError):
                os.killpg(pid, signal.SIGKILL)
            await asyncio.to_thread(_reap, pid)
        self._release()

    def _wait(self, key: int | str, session: str) -> asyncio.Future[dict[str, Any]]:
        waiting: asyncio.Future[dict[str, Any]] = asyncio.get_running_loop().create_future()
        self._waiting[key] = (session, waiting)
        return waiting

    def _writable(self) -> None:
        loop = asyncio.get_running_loop()
        try:
            while self._outgoing:
                del self._outgoing[: os.write(self._write, self._outgoing)]
        except BlockingIOError:
            loop.add_writer(self._write, self._writable)
            return
        except OSError:
            self._end()
            return
        loop.remove_writer(self._write)

    def _readable(self) -> None:
        try:
            part = os.read(self._read, _READ)
        except BlockingIOError:
            return
        except OSError:
            part = b""
        if not part:
            self._end()
            return
        self._incoming += part
        while (end := self._incoming.find(b"\0", self._searched)) >= 0:
            message = json.loads(self._incoming[:end])
            del self._incoming[: end + 1]
            self._searched = 0
            self._receive(message)
        self._searched = len(self._incoming)

    def _receive(self, message: dict[str, Any]) -> None:
        event = message.get("method")
        if event in _PAGE_GONE:
            session = message.get("sessionId") or message["params"]["sessionId"]
            self._dead.add(session)
            self._fail(session)
            return
        key = message["id"] if "id" in message else f"{message.get('sessionId', '')} {event}"
        _, waiting = self._waiting.pop(key, ("", None))
        if waiting is None or waiting.done():
            return
        if "error" in message:
            waiting.set_exception(DevToolsError(message["error"].get("message", "refused")))
        else:
            waiting.set_result(message["result"] if "id" in message else message.get("params", {}))

    def _fail(self, session: str) -> None:
        """Tell all who wait for something of this session (empty: of any) that it will not come."""
        for key, (of, waiting) in list(self._waiting.items()):
            if session in ("", of):
                del self._waiting[key]
                if not waiting.done():
                    waiting.set_exception(DevToolsError(CLOSED))

    def _end(self) -> None:
        if self._gone.is_set():
            return
        self._gone.set()
        loop = asyncio.get_running_loop()
        for descriptor, forget in ((self._read, loop.remove_reader), (self._write, loop.remove_writer)):
            if descriptor >= 0:
                forget(descriptor)
        self._fail("")

    def _release(self) -> None:
        for descriptor in (self._write, self._read):
            if descriptor >= 0:
                os.close(descriptor)
        self._write = self._read = -1
        shutil.rmtree(self._folder, ignore_errors=True)


def _pipes() -> tuple[tuple[int, int], tuple[int, int]]:
    """Two pipes: our (write, read) ends and the browser's (read, write) ones."""
    descriptors = [*os.pipe(), *os.pipe()]
    raised = [fcntl.fcntl(descriptor, fcntl.F_DUPFD_CLOEXEC, _ABOVE) for descriptor in descriptors]
    for descriptor in descriptors:
        os.close(descriptor)
    there, write, read, back = raised
    return (write, read), (there, back)


def _reap(pid: int) -> None:
    with contextlib.suppress(ChildProcessError):
        os.waitpid(pid, 0)
