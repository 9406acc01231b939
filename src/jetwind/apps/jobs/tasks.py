"""Background work about background work."""

from __future__ import annotations

from typing import Any

from procrastinate import JobContext
from procrastinate.contrib.django import app

from jetwind.apps.jobs import services
from jetwind.engines.machine import Needs


@app.task(name="jobs.sweep", priority=1)
def sweep() -> None:
    """Forget work of long ago."""
    services.drop_broken_connections()
    services.sweep()


@app.task(name="jobs.take_up_slow", pass_context=True)
def take_up_slow(context: JobContext, task: str, arguments: dict[str, Any], work_id: int, needs: Needs | None = None) -> None:
    """Take slow work up whose time has come."""
    services.drop_broken_connections()
    services.take_up_slow(task, arguments, work_id, context.job.priority, needs)
