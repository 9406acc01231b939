"""The variables of the environment, the key, and the log."""

from __future__ import annotations

import json
import logging
import os
import re
import subprocess
import sys
from pathlib import Path

from jetwind.config.log import Json, Line
from jetwind.variables import VARIABLES

ROOT = Path(__file__).parents[2]


def test_every_variable_is_in_the_table_and_is_read() -> None:
    """What the code and the launcher read, and nothing else; in the order of the alphabet."""
    sources = [path for path in (ROOT / "src" / "jetwind").rglob("*.py") if path.name != "variables.py"] + [ROOT / "jetwind"]
    read = {name for path in sources for name in re.findall(r"\b(?:JETWIND_[A-Z0-9_]*[A-Z0-9]|DATABASE_URL)\b", path.read_text("utf-8"))}
    names = [one.name for one in VARIABLES]
    assert set(names) == read
    assert names == sorted(names)


def test_without_a_key_nothing_starts(tmp_path: Path) -> None:
    """The error says how to have one; an empty file is none."""
    (tmp_path / "secret-key").write_text("\n")
    environment = {name: value for name, value in os.environ.items() if name != "JETWIND_SECRET_KEY"} | {"JETWIND_STATE": str(tmp_path)}
    asked = [sys.executable, str(ROOT / "manage.py"), "check"]
    done = subprocess.run(asked, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode != 0
    assert "There is no secret key" in done.stderr and "JETWIND_SECRET_KEY gives it" in done.stderr


def record(**added: object) -> logging.LogRecord:
    """A record with fields of its own."""
    return logging.getLogger("jetwind.test").makeRecord(
        "jetwind.test", logging.WARNING, "a.py", 3, "a page took %s", ("too long",), None, extra=added
    )


def test_a_line_keeps_the_fields() -> None:
    """A value with a line break in it stays on the line."""
    line = Line().format(record(action="page.ended", octets=12, said="one\ntwo"))
    assert line.endswith("WARNING jetwind.test a page took too long action=page.ended octets=12 said=one two")


def test_json_keeps_the_fields() -> None:
    """One object a line, the traceback in it; a field cannot take the place of the message."""
    try:
        raise ValueError("bad\nword")
    except ValueError:
        given = record(action="page.ended", path=Path("/x"))
        given.exc_info = sys.exc_info()
    written = Json().format(given)
    assert "\n" not in written
    told = json.loads(written)
    assert (told["level"], told["message"], told["action"], told["path"]) == ("WARNING", "a page took too long", "page.ended", "/x")
    assert "ValueError: bad" in told["traceback"]
    assert told["time"].endswith("+00:00")
