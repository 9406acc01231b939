"""``check FILE`` from nothing, against starting Python with the same imports.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.cold_check
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.common import compare
from tests.factories import mail


def main() -> None:
    """Print the row."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.eml"
        path.write_bytes(mail())
        imports = [sys.executable, "-c", "import click, turbohtml, tinycss2, liquid, regex, email, PIL"]
        check = [sys.executable, "-m", "jetwind.cli", "check", str(path)]
        compare(
            "check FILE, cold",
            "Python with the same imports",
            lambda: subprocess.run(imports, check=True),
            lambda: subprocess.run(check, capture_output=True, check=False),
            2,
        )


if __name__ == "__main__":
    main()
