"""The chain of who vouches for whom, as it is drawn: what holds, what fails, what nobody knows."""

from __future__ import annotations

from typing import Any

import pytest

from jetwind.apps.review.stations.sender import Party, Vouch, chain
from jetwind.core.papers import Dkim, Dmarc, Papers, Spf

PASS = Spf("kiln.org", "192.0.2.25", "pass", "v=spf1 ip4:192.0.2.25 -all")
SIGNED = Dkim("kiln.org", "spring", "pass")
GOOD = Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=reject", "reject", aligned=("SPF", "DKIM"))


def drawn(**parts: Any) -> tuple[dict[str, Party], list[Vouch], float]:
    """Boxes by their titles, lines, and the height."""
    boxes, vouches, height = chain(Papers("kiln.org", "zone file", **{"spf": PASS, "dkim": (SIGNED,), "dmarc": GOOD, **parts}))
    return {box.title: box for box in boxes}, vouches, height


def told(vouches: list[Vouch]) -> list[tuple[str, str]]:
    """What each line says, and whether it holds."""
    return [(one.words, one.state) for one in vouches]


def test_everything_holds() -> None:
    """Host and signature lead to From, over a record that asks for something."""
    boxes, vouches, _ = drawn()
    assert told(vouches) == [("SPF says pass", "holds"), ("aligned", "holds"), ("DKIM verifies", "holds"), ("aligned", "holds")]
    assert {box.state for box in boxes.values()} == {"holds"}
    assert boxes["DMARC record"].text == "asks for reject"


@pytest.mark.parametrize(
    ("parts", "lines"),
    [
        (
            {
                "spf": Spf("kiln.org", "192.0.2.9", "fail", "v=spf1 -all"),
                "dmarc": Dmarc("kiln.org", "kiln.org", "x", "v", "reject", aligned=("DKIM",)),
            },
            [("SPF says fail", "fails"), ("does not count", "fails"), ("DKIM verifies", "holds"), ("aligned", "holds")],
        ),
        (
            {
                "spf": Spf("elsewhere.net", "192.0.2.9", "pass", "v"),
                "dmarc": Dmarc("kiln.org", "kiln.org", "x", "v", "reject", aligned=("DKIM",)),
            },
            [("SPF says pass", "holds"), ("not aligned", "fails"), ("DKIM verifies", "holds"), ("aligned", "holds")],
        ),
        (
            {"dkim": (Dkim("elsewhere.net", "x", "pass"),), "dmarc": Dmarc("kiln.org", "kiln.org", "x", "v", "reject", aligned=("SPF",))},
            [("SPF says pass", "holds"), ("aligned", "holds"), ("DKIM verifies", "holds"), ("not aligned", "fails")],
        ),
        (
            {
                "dkim": (Dkim("kiln.org", "x", "fail", "the body was changed"),),
                "dmarc": Dmarc("kiln.org", "kiln.org", "x", "v", "reject", aligned=("SPF",)),
            },
            [("SPF says pass", "holds"), ("aligned", "holds"), ("DKIM fails", "fails"), ("does not count", "fails")],
        ),
        (
            {"spf": Spf("kiln.org", "", "neutral", "v=spf1 -all"), "dkim": ()},
            [("no host to ask for", "unknown"), ("not known", "unknown")],
        ),
        (
            {"spf": Spf("kiln.org", "192.0.2.9", "temperror"), "dkim": (Dkim("kiln.org", "x", "temperror"),)},
            [
                ("SPF says temperror", "unknown"),
                ("not known", "unknown"),
                ("nobody answered", "unknown"),
                ("not known", "unknown"),
            ],
        ),
    ],
)
def test_what_fails_and_what_nobody_knows(parts: dict[str, Any], lines: list[tuple[str, str]]) -> None:
    """A cross is never drawn where nobody answered."""
    assert told(drawn(**parts)[1]) == lines


@pytest.mark.parametrize(
    ("dmarc", "box", "sender"),
    [
        (Dmarc("kiln.org", "kiln.org"), "fails", "fails"),
        (Dmarc("kiln.org", "kiln.org", "x", "v=DMARC1", why="it has no policy p"), "fails", "fails"),
        (Dmarc("kiln.org", "kiln.org", "x", "v", "none"), "holds", "fails"),
        (GOOD, "holds", "holds"),
    ],
)
def test_the_record(dmarc: Dmarc, box: str, sender: str) -> None:
    """None, one that is not used, and one under which nothing is aligned."""
    boxes, _, _ = drawn(dmarc=dmarc)
    assert (boxes["DMARC record"].state, boxes["From"].state) == (box, sender)


def test_a_signature_to_come_and_none() -> None:
    """A template, with and without what the house says of its signing."""
    boxes, vouches, _ = chain(Papers("kiln.org", "DNS", PASS, (Dkim("kiln.org", "spring", "planned"),), GOOD, is_planned=True))
    assert "Signature to come" in {box.title for box in boxes}
    assert ("key is published", "holds") in told(vouches)
    assert drawn(dkim=())[0]["Signature"].text == "none yet"


def test_four_signatures_at_most_and_nothing_crosses_the_edge() -> None:
    """The drawing grows with the signatures it shows, and every box lies inside it."""
    boxes, vouches, height = chain(Papers("kiln.org", "DNS", PASS, (SIGNED,) * 8, GOOD))
    assert sum(box.title.startswith("Signature") for box in boxes) == 4
    assert all(box.y >= 0 and box.y + box.height <= height and box.x + box.width <= 724 for box in boxes)
    assert len(vouches) == 2 + 2 * 4
