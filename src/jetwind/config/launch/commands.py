"""The launcher's commands."""

from __future__ import annotations

import contextlib
import os
import secrets
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from jetwind.config.launch.changed import changed_files, tests_reached
from jetwind.config.launch.cluster import Cluster, SetupFailed, port_of, reserved_port
from jetwind.config.launch.processes import Children, is_alive, mark_alive

ROOT = Path(__file__).resolve().parents[4]
STATE = Path(os.environ.get("JETWIND_STATE", ROOT / ".jetwind")).absolute()
PREFERRED_PORT = 8400
#: That of the Mailroom; JETWIND_SMTP_PORT names another, and without JETWIND_SMTP_HOST means the Mailroom's.
PREFERRED_SMTP_PORT = 2525


def make_state() -> None:
    """The state folder, for its owner alone: it holds messages, passwords and logs. The user postgres may pass through to its cluster."""
    STATE.mkdir(parents=True, exist_ok=True)
    STATE.chmod(0o711 if os.geteuid() == 0 else 0o700)


def _step(text: str) -> None:
    print(f"  · {text}", flush=True)


@dataclass(frozen=True)
class _Database:
    """Where the database is, and how it is started again where it is ours and ended by itself."""

    url: str
    revive: Callable[[], list[str]] = list


@contextlib.contextmanager
def _database(*, owns: bool = False) -> Iterator[_Database]:
    """The database that ``DATABASE_URL`` names, or the project's own cluster, stopped at the end if it was started here.

    ``owns`` stops it in any case: ``start`` also ends what a killed earlier run left.
    """
    if url := os.environ.get("DATABASE_URL"):
        yield _Database(url)
        return
    cluster = Cluster(STATE)
    cluster.start()
    try:
        yield _Database(cluster.url(), cluster.revive)
    finally:
        if owns or cluster.started_here:
            cluster.stop()


def _environment(database: str, **more: str) -> dict[str, str]:
    # The shell's part makes the key in the usual state folder; another folder, such as that of a test, has its own.
    key = STATE / "secret-key"
    if not key.exists():
        key.touch(mode=0o600)
        key.write_text(secrets.token_urlsafe(64))
    return {
        **os.environ,
        "DATABASE_URL": database,
        "DJANGO_SETTINGS_MODULE": "jetwind.config.settings",
        "JETWIND_STATE": str(STATE),
        "PYTHONUNBUFFERED": "1",
        **more,
    }


def _manage(environment: dict[str, str], *arguments: str) -> None:
    done = subprocess.run(
        [sys.executable, str(ROOT / "manage.py"), *arguments], env=environment, capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise SetupFailed(f"manage.py {arguments[0]} failed: {(done.stderr or done.stdout).strip()[-1500:]}")


def _wait_for(address: str, children: Children, seconds: float = 60) -> None:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if ended := children.ended():
            raise SetupFailed(f"the {ended[0]} ended with status {ended[1]}; its log is {children.log(ended[0])}")
        with contextlib.suppress(urllib.error.URLError, OSError), urllib.request.urlopen(address, timeout=2) as answer:
            if answer.status == 200:
                return
        time.sleep(0.1)
    raise SetupFailed(f"{address} does not answer after {seconds:.0f} s; see {children.log('web')}")


def start(arguments: list[str]) -> int:
    """Start everything, print one address, stop everything on Ctrl-C. ``--empty`` leaves the demo world out."""
    if arguments not in ([], ["--empty"]):
        print("jetwind: start takes no arguments but --empty", file=sys.stderr)
        return 2
    is_empty = bool(arguments) or os.environ.get("JETWIND_DEMO") == "0"
    make_state()
    children = Children(STATE / "run")
    pid_file = STATE / "run" / "start.pid"
    if other := is_alive(pid_file):
        print(f"jetwind: it runs already, as process {other}; Ctrl-C there stops it", file=sys.stderr)
        return 1
    # Messages, logs and passwords are for the person who started this, and nobody else on the machine.
    os.umask(0o077)
    mark_alive(pid_file)
    # Ctrl-C too: a shell that starts a job in the background has it ignored, and then nobody could stop it so.
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.default_int_handler)
    print("Jetwind is starting", flush=True)
    try:
        if left := children.clear_leftovers():
            _step(f"ended what an earlier run left behind: {', '.join(left)}")
        _step("PostgreSQL")
        with _database(owns=True) as database:
            return _serve(children, database.url, database.revive, is_empty=is_empty)
    except SetupFailed as failure:
        print(f"jetwind: {failure}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 130
    finally:
        pid_file.unlink(missing_ok=True)


def _serve(children: Children, database: str, revive_database: Callable[[], list[str]], *, is_empty: bool) -> int:
    environment = _environment(database)
    _step("database tables")
    _manage(environment, "migrate", "--noinput")
    _step("styles and scripts")
    _manage(environment, "collectstatic", "--noinput", "--verbosity", "0")
    if not is_empty:
        _step("demo world")
        _manage(environment, "demo", *(["--short"] if os.environ.get("JETWIND_DEMO") == "short" else []))
    _manage(environment, "signing_keys")
    with (
        reserved_port(int(os.environ.get("JETWIND_PORT", PREFERRED_PORT))) as for_web,
        reserved_port(int(os.environ.get("JETWIND_SMTP_PORT", PREFERRED_SMTP_PORT))) as for_mailroom,
    ):
        return _serve_on(children, port_of(for_web), port_of(for_mailroom), environment, revive_database, is_empty=is_empty)


def _serve_on(
    children: Children, port: int, smtp: int, environment: dict[str, str], revive_database: Callable[[], list[str]], *, is_empty: bool
) -> int:
    # A person who names a mail server wants test sends there, and no Mailroom.
    has_own_server = "JETWIND_SMTP_HOST" in os.environ
    manage = [sys.executable, str(ROOT / "manage.py")]
    if not has_own_server:
        environment |= {"JETWIND_SMTP_PORT": str(smtp)}
    try:
        if not has_own_server:
            _step(f"Mailroom, the inbox stand-in (SMTP on 127.0.0.1:{smtp})")
            children.start("mailroom", [*manage, "mailroom"], environment)
        _step("practice field: the pages behind the demo's links, and mail servers to try")
        practice = STATE / "practice"
        practice.mkdir(exist_ok=True)
        environment |= {"JETWIND_PRACTICE": str(practice / "directory.json")}
        onward = [] if has_own_server else [str(smtp)]
        children.start("practice", [sys.executable, "-m", "jetwind.engines.practice", str(practice), *onward], environment)
        _step("worker")
        children.start("worker", [*manage, "worker"], environment)
        _step("web server")
        children.start("web", _web_server(port), environment)
        address = f"http://127.0.0.1:{port}/"
        _wait_for(f"{address}health/", children)
        _welcome(address, is_empty=is_empty)
        while True:
            for sentence in (*children.revive(), *revive_database()):
                print(f"jetwind: {sentence}", file=sys.stderr, flush=True)
            time.sleep(0.5)
    except KeyboardInterrupt:
        print("\nstopping", flush=True)
        return 130
    finally:
        # A second Ctrl-C must not leave half of it running.
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, signal.SIG_IGN)
        children.stop()


def _web_server(port: int) -> list[str]:
    """The command that serves the pages on a port of this machine."""
    # Without the folder and the switch of the control socket it writes to the home folder and to /tmp.
    options = f"--bind 127.0.0.1:{port} --workers 2 --threads 4 --timeout 60 --graceful-timeout 3 --access-logfile - --no-control-socket"
    return [sys.executable, "-m", "gunicorn", *options.split(), "--worker-tmp-dir", str(STATE / "run"), "jetwind.config.wsgi"]


def _welcome(address: str, *, is_empty: bool) -> None:
    """Print the address, and the names to sign in with."""
    print(f"\nJetwind is ready:  {address}\n", flush=True)
    if is_empty:
        print("The house is empty: its first page makes the first workspace and its owner.")
    else:
        print("Demo sign-ins, password for all: walk-the-round")
        for name, what in (("rosa", "reviewer"), ("amos", "author"), ("petra", "approver"), ("odell", "operator and owner")):
            print(f"  {name:<6} {what}")
    print(f"\nLogs are in {STATE / 'run'}. Ctrl-C stops everything.", flush=True)


#: First what takes processors, on all of them; then whole runs of Jetwind with browsers and mail servers, which mostly wait, two at a time.
_SIDE_BY_SIDE = ("tests/core", "tests/engines", "tests/apps", "tests/cli")
_WHOLE_RUNS = ("tests/config", "tests/journeys")


def test(arguments: list[str]) -> int:
    """Run every test against the project's own database server; ``arguments`` go to pytest, and may name the tests to run.

    With ``--changed``, or ``--changed=COMMIT``, only those are run that the changed files reach.
    """
    make_state()
    since = next((argument for argument in arguments if argument.split("=")[0] == "--changed"), None)
    if since is not None:
        reached = tests_reached(ROOT, changed_files(ROOT, since.partition("=")[2] or "HEAD"))
        print("\n".join(("Reached:", *reached)) if reached else "No test is reached.")
        if not reached:
            return 0
        arguments = [argument for argument in arguments if argument != since] + ([] if reached == ["tests"] else ["-n", "2", *reached])
    names_tests = any(not argument.startswith("-") for argument in arguments)
    processes = str(min(os.cpu_count() or 1, 4))
    spread = ["--dist", "worksteal"]
    runs = (
        [arguments]
        if names_tests
        else [["-n", processes, *spread, *arguments, *_SIDE_BY_SIDE], ["-n", "2", *spread, *arguments, *_WHOLE_RUNS]]
    )
    try:
        with _database() as database:
            environment = _environment(database.url)
            statuses = [
                subprocess.run([sys.executable, "-m", "pytest", *run], env=environment, cwd=ROOT, check=False).returncode for run in runs
            ]
            return max(statuses)
    except SetupFailed as failure:
        print(f"jetwind: {failure}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 130


def manage(arguments: list[str]) -> int:
    """Django's manage.py with the database there."""
    make_state()
    try:
        with _database() as database:
            return subprocess.run(
                [sys.executable, str(ROOT / "manage.py"), *arguments], env=_environment(database.url), cwd=ROOT, check=False
            ).returncode
    except SetupFailed as failure:
        print(f"jetwind: {failure}", file=sys.stderr)
        return 1
