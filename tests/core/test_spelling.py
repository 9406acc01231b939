"""Spelling: which words are known, which is one slip away, with the dictionaries of the machine and with none."""

import re
from pathlib import Path

import pytest

from jetwind.core.checking import Context, Outcome, registry, run_check
from jetwind.core.facts.spelling import is_common, is_known, suggestion
from jetwind.core.message import read_bytes
from jetwind.engines.dictionaries import Installed, WordLists
from tests.references import sdist

INSTALLED = Installed()
SLIP = b"<p>We have recieved your pots and glazes</p>"


class TestInstalled:
    """The dictionaries of Debian's packages, or the one that the package carries."""

    @pytest.mark.parametrize(
        ("word", "known"),
        [
            ("colour", True),
            ("color", True),
            ("organised", True),
            ("travelling", True),
            ("online", True),
            ("recieved", False),
            ("glazez", False),
        ],
    )
    def test_spelling(self, word: str, known: bool) -> None:
        """Both spellings of English, and words of the web."""
        assert is_known(INSTALLED, "en", word) is known

    def test_suggestions(self) -> None:
        """One slip away, or none."""
        assert suggestion(INSTALLED, "en", "recieved") == "received"
        assert suggestion(INSTALLED, "en", "qqqqqqqq") == ""
        assert INSTALLED.names("tlh") == ()

    def test_a_folder_without_dictionaries(self, tmp_path: Path) -> None:
        """English stays, through the package's own; what is there makes the key."""
        empty = Installed(tmp_path)
        assert empty.names("en") == ("en_US",) and empty.names("de") == ()
        assert empty.has("en_US", "kilns") and not empty.has("en_US", "recieved")
        (tmp_path / "de_DE.dic").write_text("1\nOfen\n")
        (tmp_path / "de_DE.aff").write_text("SET UTF-8\n")
        assert empty.names("de") == ("de_DE",)
        assert empty.has("de_DE", "Ofen") and not empty.has("de_DE", "Offen")
        assert empty.key == "[('de_DE', 7)]"


class TestTheCheck:
    """It asks what it is given, and says so where it is given nothing."""

    def answer(self, context: Context) -> tuple[Outcome, str]:
        """The outcome and what was told."""
        result = run_check(registry()["wording.spelling"], read_bytes(SLIP, "a.html"), context)
        return result.outcome, " ".join(finding.message for finding in result.findings) or result.reason

    def test_with_the_words_of_a_list(self) -> None:
        """Whatever the list has is right."""
        words = frozenset({"have", "received", "your", "pots", "glazes"})
        outcome, said = self.answer(Context(dictionaries=WordLists((("en", words),))))
        assert (outcome, said) == (Outcome.FINDINGS, "“recieved” is not in the dictionary; perhaps “received”.")
        assert self.answer(Context(dictionaries=WordLists((("en", words | {"recieved"}),))))[0] is Outcome.CLEAR

    def test_with_none(self) -> None:
        """It cannot tell: without dictionaries, or without one of the language."""
        assert self.answer(Context()) == (Outcome.CANNOT_TELL, "no dictionaries are at hand")
        assert self.answer(Context(dictionaries=WordLists())) == (Outcome.CANNOT_TELL, "there is no dictionary of the language “en”")

    def test_suggestions_have_a_limit(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Each takes milliseconds: of three hundred unknown words two hundred are compared with known ones, and the others are not told."""
        sought: list[str] = []

        def counted(_dictionaries: object, _language: str, word: str) -> str:
            sought.append(word)
            return f"{word}q"  # one letter doubled

        monkeypatch.setattr("jetwind.core.checks.wording.spelling.suggestion", counted)
        unknown = [f"pots{first}{second}q" for first in "abcdefghijklmnopqrst" for second in "abcdefghijklmno"]
        copy = "".join(f"<p>We glaze your pots and fire them with {word}</p>" for word in unknown * 2).encode()
        words = frozenset(["glaze", "your", "pots", "fire", "them", "with"])
        result = run_check(registry()["wording.spelling"], read_bytes(copy, "a.html"), Context(dictionaries=WordLists((("en", words),))))
        assert len(unknown) == 300
        assert len(result.findings) == 200
        assert len(sought) == len(set(sought)) == 200


def test_published_misspellings() -> None:
    """Of misspellings of common words, listed by people who found them in real texts, most are told, nearly all with the word meant.

    Source: the dictionary of PyPI's codespell 2.4.1, rows with one correction alone; every sixtieth of them.
    """
    lines = (sdist("codespell", "2.4.1") / "codespell_lib" / "data" / "dictionary.txt").read_text("utf-8").splitlines()
    found = [line.split("->") for line in lines if re.fullmatch("[a-z]{4,}->[a-z]+", line)]
    rows = [(slip, meant) for slip, meant in found if is_common(meant)][::60]
    told: dict[str, bool] = {}
    for slip, meant in rows:
        copy = f"<p>They know that {slip} is here on Monday with the others</p>".encode()
        result = run_check(registry()["wording.spelling"], read_bytes(copy, "a.html"), Context(dictionaries=INSTALLED))
        near = [finding.data["near"] for finding in result.findings if finding.data["word"] == slip]
        told |= {slip: near == [meant]} if near else {}
    assert len(rows) > 400
    assert len(told) > 0.6 * len(rows)
    assert sum(told.values()) > 0.96 * len(told)
