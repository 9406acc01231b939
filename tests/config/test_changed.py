"""Which tests changed files reach."""

import subprocess
from pathlib import Path

import pytest

from jetwind.config.launch import changed
from jetwind.config.settings import ROOT


def reached(*names: str) -> list[str]:
    """The tests that these files reach."""
    return changed.tests_reached(ROOT, [Path(name) for name in names])


@pytest.mark.parametrize(
    ("name", "inside", "outside"),
    [
        # A test by itself, and what shares its module with others.
        ("tests/core/test_mime.py", ["tests/core/test_mime.py"], ["tests/apps", "tests/core/test_styles.py"]),
        ("tests/factories.py", ["tests/apps/test_links.py", "tests/core/test_mime.py"], []),
        # The lowest module reaches the whole; a check reaches what loads checks, though nobody imports it.
        ("src/jetwind/core/source/text.py", ["tests/apps", "tests/core/test_mime.py", "tests/engines/test_browser.py"], []),
        ("src/jetwind/core/checks/wording/words.py", ["tests/core/test_catalogue.py", "tests/apps"], ["tests/core/test_cells.py"]),
        # Templates and data belong to the package that they lie in.
        ("src/jetwind/apps/links/templates/links/station.html", ["tests/apps", "tests/journeys"], ["tests/core/test_mime.py"]),
        ("src/jetwind/core/facts/spam_weights.toml", ["tests/core/test_spam.py", "tests/apps"], []),
        ("src/jetwind/cli/docs.py", ["tests/core/test_catalogue.py"], ["tests/apps", "tests/journeys"]),
        ("README.md", ["tests/core/test_documents.py"], ["tests/apps", "tests"]),
        ("requirements.lock", ["tests"], []),
    ],
)
def test_what_is_reached(name: str, inside: list[str], outside: list[str]) -> None:
    """By imports, by what is loaded while the program runs, by the package."""
    found = reached(name)
    assert not set(inside) - set(found)
    assert not set(outside) & set(found)


def test_nothing() -> None:
    """No change reaches no test."""
    assert reached() == []


def test_files_that_git_tells(tmp_path: Path) -> None:
    """Changed since a commit, and new ones that git does not know."""
    for command in ("init -q", "-c user.name=a -c user.email=a@kiln.org commit -q --allow-empty -m one"):
        subprocess.run(["git", *command.split()], cwd=tmp_path, check=True)
    (tmp_path / "new.py").write_text("")
    assert changed.changed_files(tmp_path, "HEAD") == [Path("new.py")]
    with pytest.raises(subprocess.CalledProcessError):
        changed.changed_files(tmp_path, "no-such-commit")
