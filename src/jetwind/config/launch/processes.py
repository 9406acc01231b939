"""Child processes: started, watched, stopped; and what a killed earlier run left behind."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path


class Children:
    """The processes of one run. Each writes to a log of its own and is known by a pid file, so that a later run can find it."""

    def __init__(self, run_folder: Path) -> None:
        self._folder = run_folder
        self._folder.mkdir(parents=True, exist_ok=True)
        self._running: dict[str, subprocess.Popen[bytes]] = {}

    def log(self, name: str) -> Path:
        """Where a child writes."""
        return self._folder / f"{name}.log"

    def start(self, name: str, command: Sequence[str], environment: Mapping[str, str]) -> None:
        """Start a child in a process group of its own, so that Ctrl-C reaches it through us, in order."""
        with self.log(name).open("ab") as log:
            child = subprocess.Popen(
                command, env=dict(environment), stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
            )
        self._running[name] = child
        (self._folder / f"{name}.pid").write_text(f"{child.pid} {_started(child.pid)}")

    def ended(self) -> tuple[str, int] | None:
        """The first child that ended by itself, and its exit status."""
        for name, child in self._running.items():
            if child.poll() is not None:
                return name, child.returncode
        return None

    def stop(self) -> None:
        """Ask every child to end, last started first; after ten seconds make it."""
        for name, child in reversed(list(self._running.items())):
            _end_group(child.pid, child)
            (self._folder / f"{name}.pid").unlink(missing_ok=True)
        self._running.clear()

    def clear_leftovers(self) -> list[str]:
        """End what a killed run left running; pid files of processes that are gone or are others by now are only removed."""
        ended = []
        for file in sorted(self._folder.glob("*.pid")):
            if file.name == "start.pid":
                continue
            number, _, started = file.read_text().partition(" ")
            if number.isdigit() and started and _started(int(number)) == started:
                _end_group(int(number))
                ended.append(file.stem)
            file.unlink(missing_ok=True)
        return ended


def is_alive(pid_file: Path) -> int | None:
    """The pid in a file, if that very process still runs."""
    try:
        number, _, started = pid_file.read_text().partition(" ")
    except OSError:
        return None
    return int(number) if number.isdigit() and started and _started(int(number)) == started else None


def mark_alive(pid_file: Path) -> None:
    """Write this process into a pid file."""
    pid_file.write_text(f"{os.getpid()} {_started(os.getpid())}")


def _started(pid: int) -> str:
    """When a process started, in clock ticks since boot: tells a process from a later one with the same number (proc(5))."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_text()
    except OSError:
        return ""
    fields = stat.rpartition(")")[2].split()
    return "" if fields[0] == "Z" else fields[19]


def _end_group(pid: int, child: subprocess.Popen[bytes] | None = None) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGTERM)
    deadline = time.monotonic() + 10
    while time.monotonic() < deadline:
        if (child.poll() is not None) if child else not _started(pid):
            break
        time.sleep(0.05)
    # Grandchildren such as a browser share the group; whatever is left of it goes now.
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGKILL)
    if child:
        child.wait(5)
