"""Background work about the log."""

from __future__ import annotations

from django.db import close_old_connections
from procrastinate.contrib.django import app

from jetwind.apps.audit.services import verify


@app.task(name="audit.verify_log", priority=1)
def verify_log() -> None:
    """Verify every entry of the log."""
    close_old_connections()
    verify()
