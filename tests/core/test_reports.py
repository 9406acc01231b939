"""A review as JSON, SARIF, CSV and text."""

import csv
import io
import json
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from jetwind.core.checking import Context
from jetwind.core.mending import kinds_of
from jetwind.core.message import read_bytes
from jetwind.core.reports import Review, as_csv, as_json, as_sarif, as_text, review
from tests.factories import mail

SARIF_SCHEMA = Path(__file__).parents[1] / "vectors" / "sarif-2.1.0-rtm.5.json"


@pytest.fixture
def faulty() -> Review:
    """A review with findings in HTML, headers and the message as a whole."""
    html = '<p>Dear {name},</p>\r\n<a href="http://kiln.org/é">x</a><img src="=cmd.png">'
    return review(read_bytes(mail(html, None, Subject="x" * 70), "x.eml"), Context())


class TestJson:
    """The contract with everything that reads it."""

    def test_keys_and_values(self, faulty: Review) -> None:
        """Message, findings with place and fingerprint, outcomes, spam."""
        report = json.loads(as_json(faulty, {}))
        assert set(report) == {"jetwind", "message", "findings", "unlooked", "outcomes", "spam"}
        assert set(report["message"]) == {"sha256", "subject", "preheader", "html_bytes", "text_bytes", "image_bytes", "images", "links"}
        for finding in report["findings"]:
            assert set(finding) == {
                "check",
                "station",
                "level",
                "message",
                "fix",
                "basis",
                "fingerprint",
                "where",
                "places",
                "count",
                "data",
                "mend",
            }
            assert finding["places"][0] == finding["where"]
            assert set(finding["where"]) == {"part", "name", "start", "end"}
        assert report["outcomes"]["links.insecure"] == "findings"
        assert report["outcomes"]["fields.unknown"] == "clear"
        assert set(report["spam"]) == {"score", "band", "reasons"}

    def test_mends(self, faulty: Review) -> None:
        """Each finding says by which kind of mend a machine can put it right; null where it cannot."""
        kinds = kinds_of(faulty.message, Context(), faulty.results)
        told = {finding["check"]: finding["mend"] for finding in json.loads(as_json(faulty, kinds))["findings"]}
        assert told["text.missing"] in ("confirm", None) and told["links.insecure"] is None
        assert {"sure", "confirm", "fill"} >= {kind for kind in told.values() if kind is not None} != set()

    def test_places_read_back(self, faulty: Review) -> None:
        """Lines and columns from 1, offsets from 0, in the source as given."""
        assert faulty.message.html is not None
        places = {finding["check"]: finding["where"] for finding in json.loads(as_json(faulty, {}))["findings"]}
        insecure = places["links.insecure"]
        text = faulty.message.html.text
        assert text[insecure["start"]["offset"] : insecure["end"]["offset"]] == "http://kiln.org/é"
        assert (insecure["start"]["line"], insecure["start"]["column"]) == (2, 10)
        assert places["text.missing"] == {"part": "message", "name": "", "start": None, "end": None}

    def test_cannot_tell_says_why(self) -> None:
        """The reason stands behind a colon."""
        outcomes = json.loads(as_json(review(read_bytes(b"<p>x</p>", "a.html"), Context()), {}))["outcomes"]
        assert outcomes["envelope.subject-missing"] == "cannot-tell: the input has no headers"


class TestSarif:
    """OASIS SARIF 2.1.0: tests/vectors/README.md."""

    def test_valid_against_the_schema(self, faulty: Review) -> None:
        """The published JSON schema."""
        jsonschema.validate(json.loads(as_sarif(faulty, "mail.eml")), json.loads(SARIF_SCHEMA.read_text()))

    def test_what_the_schema_cannot_know(self, faulty: Review) -> None:
        """Rule indices point at their rules, regions at the characters."""
        run: dict[str, Any] = json.loads(as_sarif(faulty, "mail.eml"))["runs"][0]
        rules = run["tool"]["driver"]["rules"]
        assert run["results"]
        for result in run["results"]:
            assert rules[result["ruleIndex"]]["id"] == result["ruleId"]
        region = next(result for result in run["results"] if result["ruleId"] == "links.insecure")["locations"][0]["physicalLocation"][
            "region"
        ]
        assert faulty.message.html is not None
        assert faulty.message.html.text[region["charOffset"] : region["charOffset"] + region["charLength"]] == "http://kiln.org/é"


class TestTables:
    """CSV and text."""

    def test_csv_reads_back(self, faulty: Review) -> None:
        """A row a finding, in the order of the findings; no cell starts a formula."""
        rows = list(csv.DictReader(io.StringIO(as_csv(faulty.findings))))
        assert [row["check"] for row in rows] == [finding.check for finding in faulty.findings]
        assert not any(cell.startswith(("=", "+", "@")) for row in rows for cell in row.values())

    def test_stops_come_first(self, faulty: Review) -> None:
        """By weight, then by check and place."""
        levels = [finding.level.value for finding in faulty.findings]
        assert levels == sorted(levels, key=["stop", "fix", "note"].index)
        assert faulty.has_stop

    def test_text_for_people(self, faulty: Review) -> None:
        """Level, check, place, sentence, fix; a last line that counts."""
        text = as_text(faulty)
        assert "fix   links.insecure  (html 2:10)\n      The link is not secure: http://kiln.org/é\n      → Write https://" in text
        assert text.splitlines()[-1].startswith(f"{sum(finding.level.value == 'stop' for finding in faulty.findings)} stops, ")
