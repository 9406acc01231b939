"""What every benchmark shares: the floor and our own figure in turn, the median of at least three, the ratio to the goal."""

from __future__ import annotations

import os
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path


def milliseconds(work: Callable[[], object]) -> float:
    """How long one call takes."""
    start = time.perf_counter()
    work()
    return (time.perf_counter() - start) * 1000


def compare(what: str, floor_name: str, floor: Callable[[], object], own: Callable[[], object], goal: float, rounds: int = 5) -> None:
    """Print floor, own figure, ratio and goal; the two are measured in turn, so that a machine that slows down slows both."""
    floors, owns = [], []
    for _ in range(rounds):
        floors.append(milliseconds(floor))
        owns.append(milliseconds(own))
    low, high = statistics.median(floors), statistics.median(owns)
    verdict = "met" if high / low <= goal else "MISSED"
    print(f"{what}: floor ({floor_name}) {low:.1f} ms, own {high:.1f} ms, ratio {high / low:.2f}, goal {goal:g}: {verdict}")


@contextmanager
def own_house(**environment: str) -> Iterator[None]:
    """Django with a database of its own beside the others in the project's cluster, and an empty state folder; both are removed.

    ``environment`` are further variables for it and for the processes that it starts.
    """
    import django

    from jetwind.config.launch.cluster import Cluster
    from jetwind.config.launch.commands import STATE

    cluster = Cluster(STATE)
    cluster.start()
    with tempfile.TemporaryDirectory() as state:
        (Path(state) / "secret-key").write_text("of a benchmark " * 5)
        os.environ |= {
            "DATABASE_URL": cluster.url(),
            "DJANGO_SETTINGS_MODULE": "jetwind.config.settings",
            "JETWIND_STATE": state,
            **environment,
        }
        django.setup()
        from django.core.management import call_command
        from django.db import connection

        call_command("collectstatic", interactive=False, verbosity=0)
        connection.creation.create_test_db(verbosity=0, autoclobber=True)
        try:
            yield
        finally:
            # Helpers hold connections to the database that goes now.
            time.sleep(1)
            connection.creation.destroy_test_db(connection.settings_dict["NAME"], verbosity=0)
            if cluster.started_here:
                cluster.stop()
