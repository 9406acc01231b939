"""The start command as a person uses it, on a database of its own: ready, refused twice, recovered, stopped."""

import os
import re
import signal
import subprocess
import sys
import time
import urllib.parse
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest
from psycopg import sql

from jetwind.core.log import verify_lines

ROOT = Path(__file__).parents[2]


@pytest.fixture
def environment(tmp_path: Path, django_db_setup: None, settings: Any) -> Iterator[dict[str, str]]:
    """An empty database beside the tests' own, and a state folder without anything in it."""
    server = settings.DATABASES["default"]
    address = f"postgres://{server['USER']}:{server['PASSWORD']}@{server['HOST']}:{server['PORT']}"
    name = sql.Identifier(f"jetwind_start_{os.getpid()}")
    with psycopg.connect(f"{address}/postgres", autocommit=True) as connection:
        connection.execute(sql.SQL("create database {}").format(name))
        yield {
            **os.environ,
            "DATABASE_URL": f"{address}/jetwind_start_{os.getpid()}",
            "JETWIND_STATE": str(tmp_path / "state"),
            "PYTHONPATH": str(ROOT / "src"),
            "PYTHONUNBUFFERED": "1",
        }
        connection.execute(sql.SQL("drop database {} with (force)").format(name))


class Started:
    """A start command under way."""

    def __init__(self, environment: dict[str, str]) -> None:
        command = [sys.executable, "-m", "jetwind.config.launch", "start"]
        self.process = subprocess.Popen(command, env=environment, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        self.said = ""

    def until_ready(self) -> str:
        """Read until it says where it is; returns the address."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said += line
            if "Ctrl-C stops everything" in line:
                found = re.search(r"Jetwind is ready: +(http://127\.0\.0\.1:\d+/)", self.said)
                assert found is not None
                return found[1]
        pytest.fail(f"it ended: {self.said}")


def left_over(state: str) -> list[str]:
    """Command lines of processes that this state folder's run started and that still run."""
    found = []
    for file in Path("/proc").glob("[0-9]*/environ"):
        try:
            if f"JETWIND_STATE={state}".encode() in file.read_bytes().split(b"\0"):
                found.append((file.parent / "cmdline").read_bytes().replace(b"\0", b" ").decode())
        except OSError:
            continue
    return [line for line in found if line]


def files_of_the_server(address: str) -> dict[str, bytes]:
    """Files that the real web server gives a person of the demo: streamed by it, made by one of its helpers, and read by a program without a session."""
    browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())

    def read(path: str, **form: str) -> str:
        with browser.open(f"{address}{path}", urllib.parse.urlencode(form).encode() if form else None) as answer:
            return str(answer.read().decode())

    def token(page: str) -> str:
        found = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)
        assert found is not None
        return found[1]

    read("sign-in/", username="rosa", password="walk-the-round", csrfmiddlewaretoken=token(read("sign-in/")))
    page = read("calendar/")
    key = re.search(r'name="intent" value="([^"]+)"', page)
    made = read("calendar/set/", act="make", csrfmiddlewaretoken=token(page), intent=key[1] if key else "")
    subscribed = re.search(r"/(calendar/[^\"]+\.ics)", made)
    assert subscribed is not None
    with urllib.request.urlopen(f"{address}{subscribed[1]}") as answer:
        feed = answer.read()
    return {
        "log": read("log.jsonl").encode(),
        "table": read("log.csv").encode(),
        "departure": read("mailings/1/departure.ics").encode(),
        "feed": feed,
    }


def test_ready_recovered_and_stopped(environment: dict[str, str], tmp_path: Path) -> None:
    """It prints one address that answers, refuses a second start, survives its own death, and leaves nothing on Ctrl-C."""
    first = Started(environment)
    address = first.until_ready()
    with urllib.request.urlopen(f"{address}sign-in/") as answer:
        assert "Sign in" in answer.read().decode()
    for name in ("rosa", "amos", "petra", "odell", "walk-the-round"):
        assert name in first.said
    files = files_of_the_server(address)
    log = verify_lines(files["log"].decode().splitlines())
    assert (log.wrong, log.entries > 8, files["table"].count(b"\r\n") > log.entries) == ("", True, True)
    assert (files["departure"].count(b"BEGIN:VEVENT"), files["feed"].count(b"BEGIN:VEVENT") > 5) == (1, True)
    again = subprocess.run(
        [sys.executable, "-m", "jetwind.config.launch", "start"], env=environment, cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert again.returncode == 1
    assert "it runs already" in again.stderr

    first.process.kill()
    first.process.wait(10)
    assert left_over(environment["JETWIND_STATE"]) != []
    second = Started(environment)
    address = second.until_ready()
    assert "ended what an earlier run left behind: mailroom, practice, web, worker" in second.said
    for name in ("worker", "mailroom"):
        pid_file = tmp_path / "state" / "run" / f"{name}.pid"
        before = pid_file.read_text()
        os.kill(int(before.split()[0]), signal.SIGKILL)
        deadline = time.monotonic() + 60
        while pid_file.read_text() == before and time.monotonic() < deadline:
            time.sleep(0.1)
        assert pid_file.read_text() != before, f"the {name} is started again"
    with urllib.request.urlopen(f"{address}health/") as answer:
        assert answer.status == 200
    second.process.send_signal(signal.SIGINT)
    # How long it may take is for Children to say (test_launch); here only that it ends.
    assert second.process.wait(180) == 130
    deadline = time.monotonic() + 5
    while left_over(environment["JETWIND_STATE"]) and time.monotonic() < deadline:
        time.sleep(0.1)
    assert left_over(environment["JETWIND_STATE"]) == []
    assert list((tmp_path / "state" / "run").glob("*.pid")) == []
