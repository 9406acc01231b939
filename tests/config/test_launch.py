"""The launcher's own parts: ports, pid files, leftovers, the private cluster."""

import os
import shutil
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from jetwind.config.launch.cluster import free_port, port_of, reserved_port
from jetwind.config.launch.processes import Children, is_alive, mark_alive

ROOT = Path(__file__).parents[2]


def test_a_taken_port_is_passed_over() -> None:
    """The preferred port where it is free, else another."""
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        assert free_port(taken.getsockname()[1]) != taken.getsockname()[1]


def test_a_reserved_port_waits_for_its_child() -> None:
    """Nobody else is given it; who listens there as servers do finds it free, again and again."""
    with reserved_port() as held:
        with socket.socket() as other, pytest.raises(OSError, match="in use"):
            other.bind(("127.0.0.1", port_of(held)))
        for _ in range(2):
            with socket.create_server(("127.0.0.1", port_of(held))) as child:
                socket.create_connection(child.getsockname()).close()


class TestPidFiles:
    """A number alone does not tell a process from a later one."""

    def test_own_process_is_alive(self, tmp_path: Path) -> None:
        """Marked and found."""
        mark_alive(tmp_path / "a.pid")
        assert is_alive(tmp_path / "a.pid") == os.getpid()

    @pytest.mark.parametrize("content", ["", "x", "99999999 5", "{own} 1", "{own}"])
    def test_stale_files_are_nobody(self, tmp_path: Path, content: str) -> None:
        """Gone, another's number, cut short by a full disk."""
        (tmp_path / "a.pid").write_text(content.format(own=os.getpid()))
        assert is_alive(tmp_path / "a.pid") is None

    def test_no_file(self, tmp_path: Path) -> None:
        """Nobody."""
        assert is_alive(tmp_path / "a.pid") is None


def _runs(pid: int) -> bool:
    """Whether a process is there and no zombie."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


class TestChildren:
    """Started, watched, ended."""

    def test_stop_ends_the_whole_group(self, tmp_path: Path) -> None:
        """A grandchild goes with its parent."""
        children = Children(tmp_path)
        children.start("sleeper", ["bash", "-c", "sleep 300 & echo $! ; wait"], dict(os.environ))
        deadline = time.monotonic() + 5
        while not children.log("sleeper").read_text().strip() and time.monotonic() < deadline:
            time.sleep(0.02)
        grandchild = int(children.log("sleeper").read_text())
        assert children.ended() is None
        children.stop()
        deadline = time.monotonic() + 10
        while _runs(grandchild) and time.monotonic() < deadline:
            time.sleep(0.02)
        assert not _runs(grandchild)
        assert list(tmp_path.glob("*.pid")) == []

    def test_all_share_one_patience(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """Three children that do not listen are waited for together, not one after the other; then all are ended."""
        children = Children(tmp_path)
        for name in ("one", "two", "three"):
            children.start(name, ["bash", "-c", "trap '' TERM; echo ready; while :; do sleep 0.1; done"], dict(os.environ))
        deadline = time.monotonic() + 30
        while any(not children.log(name).read_text() for name in ("one", "two", "three")) and time.monotonic() < deadline:
            time.sleep(0.02)
        slept: list[float] = []
        now = [0.0]

        def sleep(seconds: float) -> None:
            slept.append(seconds)
            now[0] += seconds

        monkeypatch.setattr("jetwind.config.launch.processes.time.sleep", sleep)
        monkeypatch.setattr("jetwind.config.launch.processes.time.monotonic", lambda: now[0])
        pids = [int((tmp_path / f"{name}.pid").read_text().split()[0]) for name in ("one", "two", "three")]
        children.stop(patience=2.0)
        assert 2.0 <= sum(slept) < 2.2
        assert not any(_runs(pid) for pid in pids)

    def test_what_dies_is_started_again(self, tmp_path: Path) -> None:
        """With a pause that grows, said in sentences; the others go on."""
        children = Children(tmp_path)
        children.start("steady", ["sleep", "300"], dict(os.environ))
        children.start("short", [sys.executable, "-c", "raise SystemExit(3)"], dict(os.environ))
        told: list[str] = []
        deadline = time.monotonic() + 60
        while sum("again in" in sentence for sentence in told) < 3 and time.monotonic() < deadline:
            told += children.revive()
            time.sleep(0.02)
        children.stop()
        assert [sentence.split(" (")[0] for sentence in told] == [
            "the short ended with status 3; it is started again in 0.5 s",
            "the short is started again",
            "the short ended with status 3; it is started again in 1 s",
            "the short is started again",
            "the short ended with status 3; it is started again in 2 s",
        ]

    def test_an_ended_child_is_noticed(self, tmp_path: Path) -> None:
        """With its name and status."""
        children = Children(tmp_path)
        children.start("short", [sys.executable, "-c", "raise SystemExit(3)"], dict(os.environ))
        deadline = time.monotonic() + 10
        while children.ended() is None and time.monotonic() < deadline:
            time.sleep(0.02)
        assert children.ended() == ("short", 3)

    def test_leftovers_of_a_killed_run_are_ended(self, tmp_path: Path) -> None:
        """What runs is ended, what is stale is only forgotten."""
        Children(tmp_path).start("left", ["sleep", "300"], dict(os.environ))
        (tmp_path / "gone.pid").write_text("99999999 1")
        pid = int((tmp_path / "left.pid").read_text().split()[0])
        assert Children(tmp_path).clear_leftovers() == ["left"]
        os.waitpid(pid, 0)
        assert list(tmp_path.glob("*.pid")) == []


class TestScript:
    """The shell part."""

    def test_help_and_wrong_command(self) -> None:
        """Usage, on the right stream, with the right status."""
        good = subprocess.run([ROOT / "jetwind", "--help"], capture_output=True, text=True, check=False)
        assert good.returncode == 0
        assert "./jetwind start" in good.stdout
        bad = subprocess.run([ROOT / "jetwind", "fly"], capture_output=True, text=True, check=False)
        assert (bad.returncode, bad.stdout) == (2, "")

    def test_check_needs_no_database(self, tmp_path: Path) -> None:
        """Through the launcher, with PostgreSQL out of reach."""
        (tmp_path / "a.html").write_text("<p>x</p>")
        environment = {**os.environ, "DATABASE_URL": "postgres://nobody@127.0.0.1:1/none"}
        done = subprocess.run(
            [ROOT / "jetwind", "check", str(tmp_path / "a.html"), "--only", "links.empty"],
            capture_output=True,
            text=True,
            check=False,
            env=environment,
        )
        assert done.returncode == 0, done.stderr
        assert "0 stops" in done.stdout


class TestCluster:
    """The private PostgreSQL server."""

    def test_made_started_asked_and_stopped(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """A cluster of its own with a password of its own, on another port where its own was taken; started again it is the same one."""
        import psycopg

        from jetwind.config.launch import cluster as module
        from jetwind.config.launch.cluster import Cluster, SetupFailed

        taken = socket.create_server(("127.0.0.1", 0))
        others = port_of(taken)
        monkeypatch.setattr(module, "free_port", lambda preferred=0: others if preferred and taken.fileno() > 0 else free_port(preferred))

        # The user postgres may not look into pytest's folder; as root the cluster lies beside Debian's own.
        cluster = Cluster(tmp_path)
        try:
            with taken:
                cluster.start()
            with psycopg.connect(cluster.url()) as connection:
                connection.execute("create table kept (x int)")
            with pytest.raises(psycopg.OperationalError):
                psycopg.connect(cluster.url().replace("jetwind:", "jetwind:wrong"))
            cluster.stop()
            assert not cluster.is_running()
            again = Cluster(tmp_path)
            again.start()
            with psycopg.connect(again.url()) as connection:
                assert connection.execute("select count(*) from kept").fetchone() == (0,)
                again.stop()
                assert again.is_running(), "a cluster in use is not stopped"
            # The state folder was removed, as by a new clone: the old cluster goes, or a person is asked.
            (tmp_path / "database-password").unlink()
            third = Cluster(tmp_path)
            if third.data.is_relative_to(tmp_path):
                with pytest.raises(SetupFailed, match="is missing"):
                    third.start()
            else:
                third.start()
                with psycopg.connect(third.url()) as connection:
                    assert connection.execute("select to_regclass('kept')").fetchone() == (None,)
        finally:
            last = Cluster(tmp_path)
            last._run(str(last._bin / "pg_ctl"), "stop", "-D", str(last.data), "-m", "immediate", check=False)
            shutil.rmtree(last.data, ignore_errors=True)
