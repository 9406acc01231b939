"""What the documents show runs, and what they name is there."""

from __future__ import annotations

import fnmatch
import re
import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from jetwind.core.checking import declaration
from jetwind.core.checking.runner import run_check
from jetwind.engines.dictionaries import Installed

ROOT = Path(__file__).parents[2]
#: Files that CONTRIBUTING makes as examples.
EXAMPLES = {
    "src/jetwind/core/checks/wording/shouting.py",
    "src/jetwind/apps/review/stations/word_counts.py",
    "src/jetwind/apps/review/templates/review/word_counts.html",
}


@pytest.mark.parametrize("page", ["ARCHITECTURE.md", "CONTRIBUTING.md", "README.md"])
def test_every_file_that_is_named_is_there(page: str) -> None:
    """A name such as `review/frame.py`, in whichever folder it lies; files of git alone count."""
    listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.splitlines()
    text = (ROOT / page).read_text("utf-8")
    named = set(re.findall(r"`([\w./*-]+\.(?:py|js|toml|html|md))(?::[^`]*)?`", text)) - EXAMPLES
    missing = [name for name in named if not any(fnmatch.fnmatch(path, f"*/{name}") or path == name for path in listed)]
    assert missing == []


def test_links_between_documents_lead_somewhere() -> None:
    """Every relative link of every page."""
    pages = [ROOT / name for name in ("README.md", "ARCHITECTURE.md", "CONTRIBUTING.md")] + sorted((ROOT / "docs").rglob("*.md"))
    wrong = []
    for page in pages:
        for target in re.findall(r"\]\(([^)#:\s]+)(?:#[^)]*)?\)", page.read_text("utf-8")):
            if not (page.parent / target).exists():
                wrong.append(f"{page.name}: {target}")
    assert wrong == []


def test_the_example_of_a_check(monkeypatch: pytest.MonkeyPatch) -> None:
    """As it stands in CONTRIBUTING.md it is a check whose samples say what it does."""
    source = re.findall(r"```python\n(.*?)```", (ROOT / "CONTRIBUTING.md").read_text("utf-8"), re.S)[0]
    monkeypatch.setattr(declaration, "_declared", {})
    space: dict[str, Any] = {"__name__": "jetwind.core.checks.wording.shouting"}
    exec(compile("from __future__ import annotations\n" + source, "CONTRIBUTING.md", "exec"), space)
    (declared,) = declaration.declared().values()
    assert declared.id == "wording.shouting"
    for sample in declared.samples:
        result = run_check(declared, sample.message(), replace(sample.context(), dictionaries=Installed()))
        assert bool(result.findings) is sample.fires, result
        assert result.outcome.value != "crashed"


def test_the_commands_at_its_head() -> None:
    """The commands that CONTRIBUTING.md begins with are those of the launcher."""
    told = subprocess.run(["bash", str(ROOT / "jetwind")], capture_output=True, text=True, check=False)
    usage = told.stdout + told.stderr
    for command in re.findall(r"^    \./jetwind (\w+)", (ROOT / "CONTRIBUTING.md").read_text("utf-8"), re.M):
        assert f"./jetwind {command}" in usage
