"""Faults of one cause are one finding: each with its own place, words, mend and fingerprint."""

import csv
import io
import json
import string
from collections.abc import Iterator

import pytest

from jetwind.core.checking import Context, Finding, Hit, Level, Outcome, registry, run_check
from jetwind.core.checking.declaration import Check, DeclarationError, check
from jetwind.core.checking.grouping import MOST_PLACES
from jetwind.core.checking.samples import clear, finds
from jetwind.core.message import Sample, read_bytes
from jetwind.core.reports import as_csv, as_html, as_json, as_sarif, as_text, review
from tests.factories import mail


def found(html: str, check_id: str = "links.insecure", context: Context | None = None) -> tuple[Finding, ...]:
    """What one check finds in some HTML."""
    answer = run_check(registry()[check_id], read_bytes(html.encode(), "a.html"), context or Context())
    assert answer.outcome is not Outcome.CRASHED, answer.reason
    return answer.findings


def over_http(count: int) -> str:
    """So many links, each with an address of its own."""
    return "".join(f'<a href="http://kiln.org/{number}">page {number}</a>' for number in range(count))


class TestTogether:
    """What the runner makes of hits."""

    def test_each_place_keeps_its_words_and_its_mend(self) -> None:
        """Three links over http are one finding; each says its own address and what to write."""
        (one,) = found(over_http(3))
        assert one.message == "3 links lead over http."
        assert [place.start.column for place in one.places if place.start] == [10, 48, 86]
        assert [fault.message for fault in one.faults] == [f"The link is not secure: http://kiln.org/{number}" for number in range(3)]
        assert "https://kiln.org/2" in one.fault_by_place[2].fix
        assert one.fix == registry()["links.insecure"].fix
        assert one.each("address") == [f"http://kiln.org/{number}" for number in range(3)]

    def test_one_fault_says_itself(self) -> None:
        """A single one has its own sentence, and so has one address that stands in several places."""
        (one,) = found(over_http(1))
        assert (one.message, one.faults, one.count) == ("The link is not secure: http://kiln.org/0", (), 1)
        (one,) = found(over_http(1) * 4)
        assert (one.message, one.faults, one.count) == ("The link is not secure: http://kiln.org/0", (), 4)

    def test_a_count_is_true_beyond_what_is_listed(self) -> None:
        """Nobody steps through more than two hundred, and the sentence says how many there are."""
        (one,) = found(over_http(MOST_PLACES + 50))
        assert one.message == f"{MOST_PLACES + 50} links lead over http."
        assert (len(one.places), one.more, one.count) == (MOST_PLACES, 50, MOST_PLACES + 50)
        assert len(one.members) == MOST_PLACES + 50

    def test_fingerprints(self) -> None:
        """They stay when faults change their order, and change when one comes, goes, or stands in one more place."""
        two, turned = over_http(2), '<p>x</p><a href="http://kiln.org/1">b</a><a href="http://kiln.org/0">a</a>'
        assert found(two)[0].fingerprint == found(turned)[0].fingerprint
        others = {found(html)[0].fingerprint for html in (over_http(1), over_http(3), two + over_http(1))}
        assert len(others | {found(two)[0].fingerprint}) == 4
        assert {found(over_http(number))[0].cause for number in (1, 2, 3)} == {found(two)[0].cause} != {""}
        assert found(over_http(1))[0].fingerprint in found(two)[0].members

    def test_levels_and_causes_are_kept_apart(self) -> None:
        """Tags that do not close and ids that stand twice are two causes of one check."""
        told = found("<div>a</div></div><p>x</b></p><p id=a>x</p><p id=a>y</p><p id=b>x</p><p id=b>y</p>", "appearance.parse-error")
        assert [finding.message for finding in told] == [
            "Clients have to mend 2 tags that do not open and close as they should.",
            "2 elements have an id that another has.",
        ]

    def test_what_is_no_cause_is_told_one_by_one(self) -> None:
        """Two words that stand twice in a row have nothing in common."""
        assert len(found("<p>We we fire on the the Monday.</p>", "wording.repeated-word")) == 2

    def test_readers_copies(self) -> None:
        """What only some readers get is told together for them, and never swallowed by what all get."""
        html = '<a href="#">all</a><a href="{{ a }}">one</a><a href="{{ b }}">two</a>'
        readers = (Sample("Tove", {"a": "#", "b": "#"}), Sample("Nils", {"a": "https://kiln.org/", "b": "https://kiln.org/"}))
        own, copies = found(html, "links.empty", Context(readers=readers))
        assert own.message == "The link “all” has no target (#)."
        assert copies.message == "For Tove: 2 links have no target."
        assert [html[place.start.offset : place.end.offset] for place in copies.places if place.start and place.end] == [
            "{{ a }}",
            "{{ b }}",
        ]

    def test_a_sentence_for_several_says_how_many(self) -> None:
        """A declaration without the number is refused at import."""
        with pytest.raises(DeclarationError, match="how"):
            check(
                id="links.never", name="Never", level=Level.NOTE, why="x", fix="x", basis="x", together="Some links.",
                samples=[clear("a"), finds("b")],
            )(_find)  # fmt: skip


def _find(*_: object) -> Iterator[Hit]:
    """Nothing."""
    return iter(())


_find.__module__ = "jetwind.core.checks.links.never"


class TestDeclared:
    """The sentences of all checks."""

    @pytest.mark.parametrize("declared", [one for one in registry().values() if one.together], ids=lambda one: one.id)
    def test_sentences_hold_nothing_but_the_number(self, declared: Check) -> None:
        """Data of one fault is not that of all, so no other place is left open in them, but the clients that losses are told for."""
        for sentence in declared.together.values():
            assert {name for _, name, _, _ in string.Formatter().parse(sentence) if name} - {"clients"} == {"many"}
            assert sentence.endswith(".")


class TestReports:
    """Nothing is untold in any of the formats."""

    RAW = mail(over_http(12), Subject="Spring glaze")

    def test_json(self) -> None:
        """Each place with its sentence, mend and fingerprint."""
        report = json.loads(as_json(review(read_bytes(self.RAW, "a.eml"), Context()), {}))
        (one,) = [finding for finding in report["findings"] if finding["check"] == "links.insecure"]
        html = [place for place in one["places"] if place["part"] == "html"]
        assert one["count"] == len(one["places"])
        assert [place["message"].rpartition("/")[2] for place in html] == [str(number) for number in range(12)]
        assert all(place["fix"] and place["fingerprint"] for place in html)
        assert len({place["fingerprint"] for place in html}) == 12

    def test_sarif_csv_text_and_html(self) -> None:
        """Locations with words of their own; a count; lines up to ten and the rest counted; a list."""
        told = review(read_bytes(self.RAW, "a.eml"), Context())
        results = json.loads(as_sarif(told, "a.eml"))["runs"][0]["results"]
        (one,) = [result for result in results if result["ruleId"] == "links.insecure"]
        assert one["locations"][3]["message"]["text"].startswith("The link is not secure: http://kiln.org/3 ")
        (row,) = [row for row in csv.DictReader(io.StringIO(as_csv(told.findings))) if row["check"] == "links.insecure"]
        assert int(row["places"]) == len(one["locations"])
        text = as_text(told)
        assert "http://kiln.org/9 (html" in text
        assert "http://kiln.org/10 (html" not in text
        assert "and 2 more" in text
        assert as_html(told).count("The link is not secure: http://kiln.org/") == 12
