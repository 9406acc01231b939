"""The database away for ten seconds in the middle of everything: pages say so, and every piece of work comes to its end by itself."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import psycopg

from jetwind.config.launch.cluster import Cluster
from tests.journeys.conftest import ROOT, wait_until


class Visitor:
    """A signed-in person without a browser."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))

    def get(self, path: str) -> tuple[int, str]:
        """Status and text of a page."""
        try:
            with self._opener.open(self.address + path, timeout=30) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as refused:
            return refused.code, refused.read().decode()

    def send(self, page: str, action: str, **fields: str) -> int:
        """Send a form of a page."""
        token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', self.get(page)[1])
        assert token is not None
        data = urlencode({**fields, "csrfmiddlewaretoken": token[1]}).encode()
        with self._opener.open(self.address + action, data, timeout=30) as answer:
            return int(answer.status)


def test_ten_seconds_without_a_database(tmp_path: Path) -> None:
    """Renders of several messages and a test send are under way when it goes; after its return all of them go on to their end."""
    cluster = Cluster(tmp_path / "database")
    (tmp_path / "database").mkdir()
    cluster.start()
    environment = {
        **os.environ,
        "DATABASE_URL": cluster.url(),
        "JETWIND_STATE": str(tmp_path / "state"),
        "JETWIND_DEMO": "short",
        # Any that is free: asked for here they might be another's by the time they are used.
        "JETWIND_PORT": "0",
        "JETWIND_SMTP_PORT": "0",
        "JETWIND_STALLED_AFTER": "6",
        "PYTHONPATH": str(ROOT / "src"),
        "PYTHONUNBUFFERED": "1",
    }
    log = (tmp_path / "start.log").open("w")

    def is_started() -> bool:
        return "Ctrl-C stops everything" in (tmp_path / "start.log").read_text()

    jetwind = subprocess.Popen([sys.executable, "-m", "jetwind.config.launch", "start"], env=environment, cwd=ROOT, stdout=log, stderr=log)
    try:
        wait_until(lambda: is_started() or jetwind.poll() is not None, "the start", 120)
        assert is_started(), (tmp_path / "start.log").read_text()
        found = re.search(r"http://127\.0\.0\.1:\d+", (tmp_path / "start.log").read_text())
        assert found is not None
        rosa = Visitor(found[0])
        rosa.send("/sign-in/", "/sign-in/", username="rosa", password="walk-the-round")

        def ask(query: str) -> Any:
            with psycopg.connect(cluster.url()) as connection:
                return connection.execute(query).fetchall()

        wait_until(
            lambda: ask("select 1 from jobs_work where kind = 'renders' and state = 'running' and done > 2"), "renders under way", 180
        )
        mailing, lists = ask("select min(id) from intake_mailing")[0][0], ask("select min(id) from proofs_testlist")[0][0]
        rosa.send(f"/mailings/{mailing}/r1/test-sends/", f"/mailings/{mailing}/r1/test-sends/send/", list=str(lists))
        assert ask("select count(*) from jobs_work where state in ('waiting', 'running')")[0][0] > 0

        cluster._run(str(cluster._bin / "pg_ctl"), "stop", "-D", str(cluster.data), "-m", "immediate", "-w", check=False)
        gone = time.monotonic()
        status, page = rosa.get("/")
        assert (status, "The database is away" in page, 'http-equiv="refresh"' in page) == (503, True, True)
        assert Visitor(found[0]).get("/health/") == (503, "the database is away")
        time.sleep(max(0.0, 10 - (time.monotonic() - gone)))
        cluster.start()

        wait_until(lambda: rosa.get("/")[0] == 200, "the page's return", 30)

        def left() -> Any:
            return ask("select kind, subject, state, done, total, problem from jobs_work where state in ('waiting', 'running') order by id")

        # The renders of ten messages take their time on a machine that others use: the work may be slow, but must not stand still.
        while work := left():
            wait_until(lambda before=work: left() != before, "any progress of the work", 120, work=left)
        assert ask("select distinct state from jobs_work") == [("done",)]
        assert ask("select distinct state from previews_render") == [("done",)]
        assert ask("select distinct state from proofs_testcopy") == [("handed-over",)]
        assert ask("select count(*), count(distinct message_id) from proofs_arrival") == [(3, 3)]
    finally:
        jetwind.send_signal(signal.SIGTERM)
        jetwind.wait(120)
        log.close()
        cluster.stop()
