"""Hostile files taken in through the web server, one after another, and worked on by a worker to their end.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.hostile_uploads [COUNT | NAME …]

For each file: how long the upload took, seconds of processor time of the worker and all that it starts, seconds on the clock until all its
work was over, the most memory that the worker's processes had (proportional set size: proc(5), smaps_rollup, Pss), and how long a small
message took beside it: a page of it, and from its upload to its checks.
A database of its own is made beside the others in the project's cluster, and removed.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from benchmarks.common import own_house
from jetwind.config.launch.commands import ROOT

PORT = 8497
#: Seconds after which a file's work counts as never ending.
_LONGEST_S = 900.0
_TICKS = os.sysconf("SC_CLK_TCK")


def tree_of(root: int) -> list[int]:
    """The process and all that it started, by number."""
    parents: dict[int, list[int]] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with contextlib.suppress(OSError, IndexError):
                parents.setdefault(int((entry / "stat").read_text().rpartition(")")[2].split()[1]), []).append(int(entry.name))
    found, waiting = [], [root]
    while waiting:
        found.append(waiting.pop())
        waiting += parents.get(found[-1], [])
    return found


def memory_of(root: int) -> dict[str, int]:
    """Octets that each process of a tree has for itself, shared pages counted in proportion, by number and command."""
    found = {}
    for number in tree_of(root):
        with contextlib.suppress(OSError):
            lines = Path(f"/proc/{number}/smaps_rollup").read_text().splitlines()
            words = Path(f"/proc/{number}/cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace").split()
            kind = next((word for word in words if word.startswith("--type")), " ".join(words[1:4]))[:30]
            found[f"{number} {kind}"] = sum(int(line.split()[1]) * 1024 for line in lines if line.startswith("Pss:"))
    return found


def processor_of(root: int) -> dict[int, float]:
    """Seconds of processor time of each process of a tree, by number."""
    found = {}
    for number in tree_of(root):
        with contextlib.suppress(OSError):
            fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
            found[number] = (int(fields[11]) + int(fields[12])) / _TICKS
    return found


class _Stays(urllib.request.HTTPRedirectHandler):
    """Follows no redirect: where one leads is the answer."""

    def redirect_request(self, *given: Any, **more: Any) -> None:
        """None, so that the redirect is raised."""


_OPENER = urllib.request.build_opener(_Stays)


class Site:
    """The web server as one signed-in person uses it."""

    def __init__(self, session: str) -> None:
        self._token = secrets.token_hex(16)
        self._cookie = f"sessionid={session}; csrftoken={self._token}"

    def ask(self, path: str, body: bytes | None = None, content_type: str = "") -> tuple[int, str, float]:
        """Status, where it leads, and seconds."""
        began = time.monotonic()
        headers = {"Cookie": self._cookie, "X-CSRFToken": self._token, **({"Content-Type": content_type} if content_type else {})}
        request = urllib.request.Request(f"http://127.0.0.1:{PORT}{path}", body, headers)
        try:
            with _OPENER.open(request, timeout=120) as answer:
                answer.read()
                status, where = answer.status, ""
        except urllib.error.HTTPError as told:
            status, where = told.code, told.headers.get("Location", "")
        return status, where, time.monotonic() - began

    def take_in(self, name: str, data: bytes) -> tuple[int | None, float]:
        """The number of the message that was made, None for a refusal; seconds."""
        edge = secrets.token_hex(8)
        head = (
            f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\nContent-Type: application/octet-stream\r\n\r\n'
        )
        body = head.encode() + data + f"\r\n--{edge}--\r\n".encode()
        status, where, seconds = self.ask("/take-in/", body, f"multipart/form-data; boundary={edge}")
        number = where.strip("/").split("/")
        return (int(number[1]) if status == 302 and len(number) > 1 and number[1].isdigit() else None), seconds


@dataclass
class Beside:
    """What a small message waited for, in seconds, while a large one was worked on."""

    pages: list[float] = field(default_factory=list)
    checks: list[float] = field(default_factory=list)


def small_messages(site: Site, stop: threading.Event, beside: Beside) -> None:
    """Take small messages in, one after another, and look at a page of each."""
    from django.db import connection

    from jetwind.apps.review.models import CheckRun
    from tests.factories import mail

    number = 0
    while not stop.is_set():
        number += 1
        began = time.monotonic()
        made, _ = site.take_in("small.eml", mail(f"<p>Small message {secrets.token_hex(6)}</p>"))
        if made is None:
            beside.pages.append(float("inf"))
            continue
        while not CheckRun.objects.filter(revision__mailing=made).exists():
            if time.monotonic() - began > 120:
                break
            time.sleep(0.1)
        beside.checks.append(time.monotonic() - began)
        status, _, seconds = site.ask(f"/mailings/{made}/r1/envelope/")
        beside.pages.append(seconds if status == 200 else float("inf"))
        stop.wait(3)
    connection.close()


@contextlib.contextmanager
def served(environment: dict[str, str], folder: Path) -> Iterator[int]:
    """The web server and a worker; gives the worker's number."""
    manage = [sys.executable, str(ROOT / "manage.py")]
    web = [sys.executable, "-m", "gunicorn", "--bind", f"127.0.0.1:{PORT}", "--workers", "2", "--threads", "4", "--timeout", "60"]
    with (folder / "web.log").open("ab") as log, (folder / "worker.log").open("ab") as other:
        children = [
            subprocess.Popen([*web, "jetwind.config.wsgi"], env=environment, stdout=log, stderr=log, start_new_session=True),
            subprocess.Popen([*manage, "worker"], env=environment, stdout=other, stderr=other, start_new_session=True),
        ]
    try:
        time.sleep(6)
        yield children[1].pid
    finally:
        for child in children:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child.pid, signal.SIGTERM)
        time.sleep(4)
        for child in children:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child.pid, signal.SIGKILL)


def one(site: Site, worker: int, name: str, data: bytes) -> tuple[str, int, float, float]:
    """One file from its upload to the end of its work: a line to print, and its memory, processor time and clock."""
    from jetwind.apps.jobs.models import Work
    from jetwind.apps.review.models import CheckRun

    stop, beside = threading.Event(), Beside()
    most: list[dict[str, int]] = [{}]
    # What a process has used is gone with it, so it is noted while it lives: of each, the last that was seen.
    before, used = processor_of(worker), {}

    def watch() -> None:
        while not stop.is_set():
            most[0] = max(most[0], memory_of(worker), key=lambda found: sum(found.values()))
            used.update(processor_of(worker))
            stop.wait(0.3)

    began = time.monotonic()
    threads = [threading.Thread(target=watch), threading.Thread(target=small_messages, args=(site, stop, beside))]
    for thread in threads:
        thread.start()
    made, upload = site.take_in(name, data)
    told = "refused"
    if made is not None:
        open_states = [Work.State.WAITING, Work.State.RUNNING]
        subject = f"revision:{made_revision(made)}"
        while Work.objects.filter(subject=subject, state__in=open_states).exclude(doing__contains="tried again").exists():
            if time.monotonic() - began > _LONGEST_S:
                break
            time.sleep(0.2)
        works = ", ".join(f"{work.kind} {work.state}" for work in Work.objects.filter(subject=subject).exclude(state=Work.State.DONE))
        run = CheckRun.objects.filter(revision__mailing=made).order_by("-created_at").first()
        told = f"{len(run.unlooked) if run is not None else '?'} ran out{'; ' + works if works else ''}"
    clock = time.monotonic() - began
    stop.set()
    for thread in threads:
        thread.join()
    spent = sum(seconds - before.get(number, 0.0) for number, seconds in used.items())
    waited = f"{max(beside.pages, default=0):5.2f} {max(beside.checks, default=0):6.1f}"
    peak = sum(most[0].values())
    if peak > 1_000_000_000:
        largest = sorted(most[0].items(), key=lambda pair: -pair[1])[:26]
        told += " [" + ", ".join(f"{kind}: {octets / 1e6:.0f}" for kind, octets in largest) + "]"
    return f"{upload:6.1f} {spent:7.1f} {clock:7.1f} {peak / 1e6:7.0f}  {waited}  {told}", peak, spent, clock


def made_revision(mailing: int) -> int:
    """The number of the first revision of a message."""
    from jetwind.apps.intake.models import Revision

    return Revision.objects.get(mailing_id=mailing).pk


def main(wanted: list[str]) -> None:
    """Print a row for each file, and the worst of each column."""
    from django.contrib.sessions.backends.db import SessionStore
    from django.db import connection

    from jetwind.apps.accounts.models import User
    from jetwind.apps.demo import world
    from tests.hostile import uploads

    world.build()
    user = User.objects.get(username="odell")
    from jetwind.apps.workspace.models import Membership

    Membership.objects.filter(user=user).update(roles=["owner", "author", "reviewer", "approver", "operator"])
    session = SessionStore()
    session["_auth_user_id"], session["_auth_user_backend"] = str(user.pk), "django.contrib.auth.backends.ModelBackend"
    session["_auth_user_hash"] = user.get_session_auth_hash()
    session.save()
    assert session.session_key
    site = Site(session.session_key)
    folder = Path(tempfile.mkdtemp())
    environment = {**os.environ, "DATABASE_URL": os.environ["DATABASE_URL"].rpartition("/")[0] + "/" + connection.settings_dict["NAME"]}
    names: list[Any] = list(uploads(int(wanted[0]) if wanted and wanted[0].isdigit() else 160))
    if wanted and not wanted[0].isdigit():
        names = [(name, make) for name, make in names if name in wanted]
    worst = [0.0, 0.0, 0.0]
    with served(environment, folder) as worker:
        print(f"logs: {folder}; worker before: {sum(memory_of(worker).values()) / 1e6:.0f} MB")
        one(site, worker, "warm.eml", b"Subject: x\n\nword\n")
        print("upload processor clock   memory   small: page, checks   what became of it")
        for name, make in names:
            file_name, data = make()
            row, *figures = one(site, worker, file_name, data)
            worst = [max(pair) for pair in zip(worst, figures, strict=True)]
            print(f"{row}  {name}", flush=True)
        time.sleep(3)
        print(f"worst: {worst[0] / 1e6:.0f} MB, {worst[1]:.0f} s of processor time, {worst[2]:.0f} s on the clock")
        print({name: octets // 1_000_000 for name, octets in memory_of(worker).items()})
        print(f"worker after: {sum(memory_of(worker).values()) / 1e6:.0f} MB")


if __name__ == "__main__":
    with own_house(PYTHONPATH=f"{ROOT / 'src'}:{ROOT}", JETWIND_ASKS_DNS="no"):
        main(sys.argv[1:])
