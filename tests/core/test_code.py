"""A check's version follows from its code."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from jetwind.core.checking import code, registry

ROOT = Path(__file__).parents[2] / "src"


@pytest.fixture
def copied(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """The core as files that a test may change."""
    ignored = shutil.ignore_patterns("__pycache__")
    shutil.copytree(ROOT / "jetwind" / "core", tmp_path / "jetwind" / "core", ignore=ignored)
    monkeypatch.setattr(code, "_ROOT", tmp_path)
    code._path.cache_clear()
    yield tmp_path / "jetwind" / "core"
    code._path.cache_clear()


def versions(*checks: str) -> dict[str, str]:
    """The versions of some checks, worked out anew."""
    return {check: code.version_of([registry()[check].module]) for check in checks}


CHECKS = ("links.empty", "access.alt-missing", "wording.spelling", "footer.unsubscribe-missing", "envelope.subject-emoji-many")


def test_nothing_changed(copied: Path) -> None:
    """The same files have the same versions, wherever they lie; every check has one, and different modules have different ones."""
    before = versions(*CHECKS)
    assert before == versions(*CHECKS)
    assert len(set(before.values())) == len(CHECKS)
    assert code.versions().keys() == registry().keys()
    assert all(len(version) == 12 for version in code.versions().values())


@pytest.mark.parametrize(
    ("file", "changed"),
    [
        ("checks/links/target.py", {"links.empty"}),
        # What several import: the model of a message is part of every check.
        ("message/model.py", set(CHECKS)),
        # A data file that one of the modules names.
        ("facts/emoji.toml", {"envelope.subject-emoji-many"}),
        ("reports/sarif.py", set()),
    ],
)
def test_what_a_change_touches(copied: Path, file: str, changed: set[str]) -> None:
    """The checks that are made of the file, directly or through others, and no other."""
    before = versions(*CHECKS)
    path = copied / file
    path.write_text(path.read_text("utf-8") + "\n# another line\n", "utf-8")
    code._path.cache_clear()
    after = versions(*CHECKS)
    assert {check for check in CHECKS if before[check] != after[check]} >= changed
    if file != "message/model.py":
        assert "access.alt-missing" not in {check for check in CHECKS if before[check] != after[check]}
    if not changed:
        assert before == after
