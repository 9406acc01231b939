"""The whole of Jetwind for a journey: web server, worker and Mailroom as processes, Chromium in front."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from jetwind.config.launch.cluster import port_of, reserved_port
from jetwind.engines.browser.executable import find_executable

ROOT = Path(__file__).parents[2]
# Playwright's synchronous driver runs a loop in this thread; the tests' own queries are made between its steps.
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "1")


def _work_of_the_test() -> list[tuple[Any, ...]]:
    """All work of the test's database, so that a failure says which of it was not done."""
    from jetwind.apps.jobs.models import Work

    try:
        return list(Work.objects.order_by("pk").values_list("kind", "subject", "state", "done", "total", "doing", "problem"))
    except Exception as failure:
        return [(repr(failure),)]


def wait_until(answer: Callable[[], Any], what: str, seconds: float = 60, work: Callable[[], Any] = _work_of_the_test) -> Any:
    """Ask until the answer is true. A test that waits in vain says what ``work`` is left."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if found := answer():
            return found
        time.sleep(0.1)
    pytest.fail(f"{what} did not happen within {seconds:.0f} s; the work: {work()}")


class Process:
    """A process of Jetwind on the test's database."""

    def __init__(self, command: list[str], environment: dict[str, str], log: Path) -> None:
        self.log = log
        with log.open("ab") as out:
            self._process = subprocess.Popen(command, env=environment, stdout=out, stderr=out, start_new_session=True)

    def signal(self, number: int) -> None:
        """Send a signal to it and everything it started."""
        os.killpg(self._process.pid, number)

    def kill(self) -> None:
        """End it and everything it started, without a warning."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._process.pid, signal.SIGKILL)
        self._process.wait(10)

    def stop(self) -> None:
        """Ask it to end; make it after a while."""
        self._process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(10)
        self.kill()


@pytest.fixture
def environment(transactional_db: None, tmp_path: Path, settings: Any) -> Iterator[dict[str, str]]:
    """What the processes need to work on the test's database and files."""
    database = settings.DATABASES["default"]
    name = database["NAME"]
    url = f"postgres://{database['USER']}:{database['PASSWORD']}@{database['HOST']}:{database['PORT']}/{name}"
    with reserved_port() as for_mailroom:
        yield {
            **os.environ,
            "DATABASE_URL": url,
            "JETWIND_BLOBS": str(tmp_path / "blobs"),
            "JETWIND_SMTP_PORT": str(port_of(for_mailroom)),
            "JETWIND_STALLED_AFTER": "2",
            "DJANGO_SETTINGS_MODULE": "jetwind.config.settings",
            "PYTHONUNBUFFERED": "1",
        }


@pytest.fixture
def start_worker(environment: dict[str, str], tmp_path: Path) -> Iterator[Callable[[], Process]]:
    """Starts workers, and ends them with the test."""
    started: list[Process] = []

    def start() -> Process:
        started.append(Process([sys.executable, str(ROOT / "manage.py"), "worker"], environment, tmp_path / "worker.log"))
        return started[-1]

    yield start
    for process in started:
        process.stop()


@pytest.fixture
def start_mailroom(environment: dict[str, str], tmp_path: Path) -> Iterator[Callable[[], Process]]:
    """Starts the Mailroom, and ends it with the test."""
    started: list[Process] = []

    def start() -> Process:
        log = tmp_path / f"mailroom-{len(started)}.log"
        started.append(Process([sys.executable, str(ROOT / "manage.py"), "mailroom"], environment, log))
        wait_until(lambda: b"Mailroom on" in log.read_bytes(), "the Mailroom's start", 30)
        return started[-1]

    yield start
    for process in started:
        process.stop()


@pytest.fixture
def mailroom(start_mailroom: Callable[[], Process]) -> None:
    """The Mailroom, listening."""
    start_mailroom()


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    """Debian's Chromium."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)
        yield browser
        browser.close()


@pytest.fixture
def sign_in(chromium: Browser, live_server: Any) -> Iterator[Callable[..., Page]]:
    """Opens a window of 1280 × 800 and signs a person in through the form; any script error fails the test."""
    contexts = []
    problems: list[str] = []

    def open_window(user: str, password: str = "a-long-password", **options: Any) -> Page:
        context = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=live_server.url, accept_downloads=True, **options)
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(60_000)
        # Two journeys with their workers and browsers may share two processors, on a machine that others use, too.
        page.set_default_navigation_timeout(180_000)
        page.on("pageerror", lambda failure: problems.append(str(failure)))
        page.on(
            "console",
            lambda message: problems.append(message.text) if message.type == "error" and "status of 4" not in message.text else None,
        )
        page.goto("/sign-in/")
        page.get_by_label("Name").fill(user)
        page.get_by_label("Password").fill(password)
        page.get_by_role("button", name="Sign in").click()
        page.wait_for_url("**/")
        return page

    yield open_window
    for context in contexts:
        context.close()
    assert problems == []
