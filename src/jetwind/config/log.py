"""How records of the log are written: with every field that they were given, in a line of text or of JSON."""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime
from typing import Any

#: What every record has; the rest is what its author added (logging, LogRecord attributes).
_OWN = frozenset(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


def _added(record: logging.LogRecord) -> dict[str, Any]:
    return {name: value for name, value in vars(record).items() if name not in _OWN and not name.startswith("_")}


class Line(logging.Formatter):
    """Time, level, logger and message, then the fields that the record was given, as ``name=value``."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(levelname)s %(name)s %(message)s")

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 (logging's own name)
        """The line; what a field holds keeps to it."""
        fields = [f"{name}={' '.join(str(value).split())[:300]}" for name, value in sorted(_added(record).items())]
        return " ".join([super().formatMessage(record), *fields])


class Json(logging.Formatter):
    """One object a line: ``time`` (UTC, ISO 8601), ``level``, ``logger``, ``message``, ``traceback`` where there is one, and the fields."""

    def format(self, record: logging.LogRecord) -> str:
        """The object."""
        told: dict[str, Any] = {
            "time": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname,
            "logger": record.name,
            "message": record.getMessage(),
        }
        if record.exc_info:
            told["traceback"] = self.formatException(record.exc_info)
        return json.dumps({**_added(record), **told}, default=str, ensure_ascii=False)
