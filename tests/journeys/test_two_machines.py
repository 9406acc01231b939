"""A web server and two workers from separate folders, with different dictionaries, fonts, browsers and programs, on one database.

No message goes out of date for it, no work is repeated, and no renders of different making stand side by side (docs/decisions/0034).
"""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from django.conf import settings
from django.contrib.sessions.backends.db import SessionStore
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.services import take_in
from jetwind.apps.jobs.models import Machine, Work
from jetwind.apps.previews.models import Render
from jetwind.apps.review.models import CheckRun
from jetwind.config.launch.cluster import port_of, reserved_port
from jetwind.core.reports import STATIONS
from jetwind.engines.browser.executable import find_executable
from tests.factories import mail
from tests.journeys.conftest import ROOT, Process, wait_until

GERMAN = (
    '<!doctype html><html lang="de"><body><p>Wir brennen am Dienstag, und die Glasur ist neu. Kommen Sie vorbei und sehen Sie die Schalen'
    " an, die wir gemacht haben. Die Werkstatt ist für alle offen, und wir freuen uns auf Sie.</p></body></html>"
)
_FONTS = '<?xml version="1.0"?><!DOCTYPE fontconfig SYSTEM "urn:fontconfig:fonts.dtd"><fontconfig><dir>{}</dir></fontconfig>'
_PROGRAM = '#!/bin/sh\ncase $1 in --version) echo "tesseract 9.9" ;; --list-langs) printf "List\\neng\\n" ;; *) cat >/dev/null ;; esac\n'


def machine(folder: Path, environment: dict[str, str], *, is_rich: bool) -> dict[str, str]:
    """The environment of a machine: the rich one has German and a program that reads pictures, the poor one few fonts and another browser."""
    folder.mkdir()
    dictionaries = folder / "hunspell"
    dictionaries.mkdir()
    own = {
        "JETWIND_STATE": str(folder),
        "JETWIND_SECRET_KEY": settings.SECRET_KEY,
        "JETWIND_DICTIONARIES": str(dictionaries),
        "JETWIND_TESSERACT": "",
    }
    if is_rich:
        # A dictionary in which every word of the message stands but one.
        words = sorted({word.strip(".,") for word in GERMAN.partition("<p>")[2].partition("</p>")[0].split()} - {"Glasur"})
        (dictionaries / "de_DE.dic").write_text(f"{len(words)}\n" + "\n".join(words) + "\n", "utf-8")
        (dictionaries / "de_DE.aff").write_text("SET UTF-8\n")
        (folder / "tesseract").write_text(_PROGRAM)
        (folder / "tesseract").chmod(0o755)
        own["JETWIND_TESSERACT"] = str(folder / "tesseract")
    else:
        (folder / "fonts.conf").write_text(_FONTS.format("/usr/share/fonts/truetype/dejavu"))
        browser = find_executable()
        assert browser is not None
        (folder / "another-shell").symlink_to(Path(shutil.which(browser) or browser).resolve())
        own |= {"FONTCONFIG_FILE": str(folder / "fonts.conf"), "JETWIND_CHROMIUM": str(folder / "another-shell")}
    return {**environment, **own}


class Site:
    """The web server as one signed-in person uses it."""

    def __init__(self, port: int, user: User) -> None:
        session = SessionStore()
        session["_auth_user_id"], session["_auth_user_backend"] = str(user.pk), "django.contrib.auth.backends.ModelBackend"
        session["_auth_user_hash"] = user.get_session_auth_hash()
        session.save()
        self._address, self._cookie = f"http://127.0.0.1:{port}", f"sessionid={session.session_key}"

    def page(self, path: str) -> str:
        """A page that is there."""
        request = urllib.request.Request(self._address + path, headers={"Cookie": self._cookie})
        with urllib.request.urlopen(request, timeout=60) as answer:
            return str(answer.read().decode())


@pytest.fixture
def web(environment: dict[str, str], tmp_path: Path, house: Any) -> Iterator[Site]:
    """A web server on a third machine, which has no dictionary, no browser and no program at all."""
    (tmp_path / "web" / "hunspell").mkdir(parents=True)
    own = {
        "JETWIND_STATE": str(tmp_path / "web"),
        "JETWIND_SECRET_KEY": settings.SECRET_KEY,
        "JETWIND_DICTIONARIES": str(tmp_path / "web" / "hunspell"),
        "JETWIND_CHROMIUM": "/nowhere/chromium",
        "JETWIND_TESSERACT": "",
    }
    collect = [sys.executable, str(ROOT / "manage.py"), "collectstatic", "--no-input"]
    subprocess.run(collect, env={**environment, **own}, check=True, capture_output=True)
    with reserved_port() as listening:
        port = port_of(listening)
    asked = [sys.executable, "-m", "gunicorn", "--bind", f"127.0.0.1:{port}", "--threads", "4", "jetwind.config.wsgi"]
    process = Process(asked, {**environment, **own}, tmp_path / "web.log")
    wait_until(lambda: b"Listening at" in (tmp_path / "web.log").read_bytes(), "the web server's start", 60)
    yield Site(port, house.reviewer)
    process.stop()


def all_done() -> bool:
    """Whether no work is open."""
    return not Work.objects.filter(state__in=["waiting", "running"]).exists()


def look_at_everything(web: Site, mailing: Mailing) -> None:
    """Every station, as one after another comes to look; none says that the answers are old."""
    for station in STATIONS:
        assert "Circumstances have changed" not in web.page(f"/mailings/{mailing.pk}/r1/{station.slug}/"), station.slug


def test_nothing_stale_nothing_twice_nothing_mixed(house: Any, environment: dict[str, str], web: Site, tmp_path: Path) -> None:
    """The rich machine does the work while it is there; when it goes, its answers hold and the poor one goes on."""
    command = [sys.executable, str(ROOT / "manage.py"), "worker"]
    workers = {
        name: Process(command, machine(tmp_path / name, environment, is_rich=name == "rich"), tmp_path / f"{name}.log")
        for name in ("poor", "rich")
    }
    try:
        wait_until(lambda: Machine.objects.count() == 2, "both machines' rows", 60)
        first = take_in(house.author, house.workspace, mail(GERMAN, None, Subject="Die neue Glasur ist da"), "a.eml")
        wait_until(all_done, "the end of all work", 240)
        run = CheckRun.objects.filter(revision__mailing=first).latest("created_at")
        told = set(run.outcomes["wording.spelling"][2])
        assert any(one.startswith("dictionaries:de=") and one != "dictionaries:de=" for one in told), told
        jobs, runs = ProcrastinateJob.objects.count(), CheckRun.objects.count()
        for _ in range(2):
            look_at_everything(web, first)
            time.sleep(3)
        assert (ProcrastinateJob.objects.count(), CheckRun.objects.count()) == (jobs, runs)
        assert "Dictionaries of English" not in web.page("/settings/")

        workers["rich"].signal(signal.SIGTERM)
        wait_until(lambda: Machine.objects.filter(is_stopped=True).exists(), "the rich machine's end", 60)
        second = take_in(house.author, house.workspace, mail(GERMAN, None, Subject="Die zweite Glasur ist da"), "b.eml")
        wait_until(all_done, "the end of all work", 240)
        made = {
            mailing.pk: set(Render.objects.filter(revision__mailing=mailing).values_list("made_with", flat=True))
            for mailing in (first, second)
        }
        assert all(len(keys) == 1 for keys in made.values()) and made[first.pk] != made[second.pk], made
        assert set(Render.objects.values_list("state", flat=True)) == {"done"}
        for mailing in (first, second):
            look_at_everything(web, mailing)
        assert CheckRun.objects.filter(revision__mailing=first).count() == runs
        assert all_done()
    finally:
        for process in workers.values():
            process.stop()
