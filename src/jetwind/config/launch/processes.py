"""Child processes: started, watched, stopped; and what a killed earlier run left behind."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

#: How long all children together may take to end by themselves, in seconds. What they were doing is taken up again at the next start.
PATIENCE = 4.0
#: A child that ends by itself is started again after so many seconds, longer each time; one that ran for a while begins anew.
PAUSES = (0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 30.0)
RAN_WELL = 60.0


@dataclass
class _Child:
    """One child: how it is started, the process that runs, and how it fared."""

    command: Sequence[str]
    environment: Mapping[str, str]
    process: subprocess.Popen[bytes]
    started: float
    failures: int = 0
    again_at: float | None = None


class Children:
    """The processes of one run. Each writes to a log of its own and is known by a pid file, so that a later run can find it."""

    def __init__(self, run_folder: Path) -> None:
        self._folder = run_folder
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._folder.chmod(0o700)
        self._children: dict[str, _Child] = {}

    def log(self, name: str) -> Path:
        """Where a child writes."""
        return self._folder / f"{name}.log"

    def start(self, name: str, command: Sequence[str], environment: Mapping[str, str]) -> None:
        """Start a child in a process group of its own, so that Ctrl-C reaches it through us, in order."""
        self._children[name] = _Child(command, environment, self._spawn(name, command, environment), time.monotonic())

    def _spawn(self, name: str, command: Sequence[str], environment: Mapping[str, str]) -> subprocess.Popen[bytes]:
        with self.log(name).open("ab") as log:
            child = subprocess.Popen(
                command, env=dict(environment), stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
            )
        (self._folder / f"{name}.pid").write_text(f"{child.pid} {_started(child.pid)}")
        return child

    def ended(self) -> tuple[str, int] | None:
        """The first child that ended by itself, and its exit status."""
        for name, child in self._children.items():
            if child.process.poll() is not None:
                return name, child.process.returncode
        return None

    def revive(self) -> list[str]:
        """Start again what ended by itself, after a pause that grows. Returns what happened since the last call, as sentences."""
        told = []
        now = time.monotonic()
        for name, child in self._children.items():
            status = child.process.poll()
            if status is None:
                continue
            if child.again_at is None:
                # What the dead one had started, such as a browser, would go on without it.
                _kill_group(child.process.pid)
                child.failures = 0 if now - child.started > RAN_WELL else child.failures
                pause = PAUSES[min(child.failures, len(PAUSES) - 1)]
                child.failures, child.again_at = child.failures + 1, now + pause
                told.append(f"the {name} ended {_in_words(status)}; it is started again in {pause:g} s (its log is {self.log(name)})")
            elif now >= child.again_at:
                child.process = self._spawn(name, child.command, child.environment)
                child.started, child.again_at = now, None
                told.append(f"the {name} is started again")
        return told

    def stop(self, patience: float = PATIENCE) -> None:
        """Ask all children to end at once. After ``patience`` seconds, end those that are left."""
        for child in self._children.values():
            _ask_group(child.process.pid)
        deadline = time.monotonic() + patience
        while time.monotonic() < deadline and any(child.process.poll() is None for child in self._children.values()):
            time.sleep(0.05)
        for name, child in self._children.items():
            # Grandchildren such as a browser share the group; every process that is left in the group ends now.
            _kill_group(child.process.pid)
            child.process.wait()
            (self._folder / f"{name}.pid").unlink(missing_ok=True)
        self._children.clear()

    def clear_leftovers(self) -> list[str]:
        """End what a killed run left running; pid files of processes that are gone or are others by now are only removed."""
        left: dict[str, int] = {}
        for file in sorted(self._folder.glob("*.pid")):
            if file.name == "start.pid":
                continue
            number, _, started = file.read_text().partition(" ")
            if number.isdigit() and started and _started(int(number)) == started:
                left[file.stem] = int(number)
                _ask_group(int(number))
            file.unlink(missing_ok=True)
        deadline = time.monotonic() + PATIENCE
        while time.monotonic() < deadline and any(_started(pid) for pid in left.values()):
            time.sleep(0.05)
        for pid in left.values():
            _kill_group(pid)
        return list(left)


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


def _ask_group(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGTERM)
        # A child that somebody paused could not hear it.
        os.killpg(pid, signal.SIGCONT)


def _kill_group(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGKILL)


def _in_words(status: int) -> str:
    return f"with status {status}" if status >= 0 else f"by signal {signal.Signals(-status).name}"
