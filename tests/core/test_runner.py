"""Outcomes, fingerprints, levels."""

import logging
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest

from jetwind.core.checking import Context, Hit, Kind, Level, Options, Outcome, Place, registry, run, run_check
from jetwind.core.checking.samples import pictured
from jetwind.core.message import Message, read_bytes
from jetwind.core.reports import station_of
from jetwind.engines.dictionaries import Installed
from tests.factories import mail


def prints(html: str, check: str = "links.insecure") -> list[str]:
    """Fingerprints that a check gives for some HTML."""
    return [finding.fingerprint for finding in run_check(registry()[check], read_bytes(html.encode(), "a.html"), Context()).findings]


class TestFingerprints:
    """Excuses are keyed by them."""

    LINK = '<a href="http://kiln.org/a">a</a>'

    def test_stays_when_other_source_moves(self) -> None:
        """Text added before, around and after plays no part."""
        assert prints(self.LINK) == prints(f"<h1>New heading</h1>\r\n\r\n<table><tr><td>{self.LINK}</table><p>after</p>")

    def test_changes_when_the_thing_changes(self) -> None:
        """Another address is another fault."""
        assert prints(self.LINK) != prints(self.LINK.replace("/a", "/b"))

    def test_equal_faults_are_one_finding_with_its_places(self) -> None:
        """Two pictures with the same address and no alt; and the same words in subject, HTML and plain text."""
        both = read_bytes(b'<img src="https://k.org/a.png"><p>x</p><img src="https://k.org/a.png">', "a.html")
        (found,) = run_check(registry()["access.alt-missing"], both, Context()).findings
        assert [place.start.offset for place in found.places if place.start] == [0, 39]
        assert found.fingerprint == prints('<img src="https://k.org/a.png">', "access.alt-missing")[0]
        everywhere = read_bytes(
            mail("<p>Lorem ipsum dolor sit amet</p>", text="Lorem ipsum dolor sit amet", Subject="Lorem ipsum dolor sit amet"), "x.eml"
        )
        (found,) = run_check(registry()["wording.placeholder"], everywhere, Context()).findings
        assert [place.part for place in found.places] == ["header", "html", "text"]

    def test_a_heavy_picture_replaced_by_another_heavy_one_is_new(self) -> None:
        """The bytes are part of the fault."""
        one, other = (
            run_check(
                registry()["images.heavy"],
                read_bytes(mail('<img src="cid:a" alt="x">', images={"a": filler * 250_000}), "x.eml"),
                Context(),
            ).findings[0]
            for filler in (b"a", b"b")
        )
        assert one.fingerprint != other.fingerprint


class TestOutcomes:
    """Findings, clear, cannot tell, does not apply, crashed."""

    def test_what_was_found_before_it_cannot_tell(self) -> None:
        """Of two pictures one was fetched: its fault is told, and that nothing is known of the other."""
        html = "<img src='https://kiln.org/a.jpg' width='300' alt='A'><img src='https://kiln.org/b.jpg' width='300' alt='B'>"
        message = read_bytes(mail(html, None), "a.eml")
        answer = run_check(registry()["images.location"], message, Context(**pictured("https://kiln.org/a.jpg", has_position=True)))
        assert (answer.outcome, len(answer.findings)) == (Outcome.FINDINGS, 1)
        assert answer.reason == "of the rest nothing can be told: 1 picture lies elsewhere and was not fetched"
        answer = run_check(registry()["images.location"], message, Context(**pictured("https://kiln.org/a.jpg")))
        assert (answer.outcome, answer.findings) == (Outcome.CANNOT_TELL, ())

    def test_each_is_given(self) -> None:
        """On one message of HTML alone."""
        results = {
            result.check: result for result in run(read_bytes(b"<p>Hello {{ x }} at the quay</p>", "a.html"), Context(Kind.TRANSACTIONAL))
        }
        assert results["envelope.subject-missing"].outcome is Outcome.CANNOT_TELL
        assert results["envelope.subject-missing"].reason == "the input has no headers"
        assert results["footer.unsubscribe-missing"].outcome is Outcome.DOES_NOT_APPLY
        assert results["links.empty"].outcome is Outcome.CLEAR
        assert results["fields.unknown"].outcome is Outcome.CANNOT_TELL

    def test_a_crash_is_shown_and_the_run_goes_on(self, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture) -> None:
        """One broken check does not take the others with it."""

        def broken(message: Message, context: Context, options: Options) -> Iterator[Hit]:
            """Break."""
            raise ZeroDivisionError("by design")
            yield

        registry()
        from jetwind.core.checking import declaration

        monkeypatch.setitem(registry(), "links.empty", replace(declaration.declared()["links.empty"], find=broken))
        with caplog.at_level(logging.ERROR):
            results = {result.check: result for result in run(read_bytes(b"<p>x</p>", "a.html"), Context())}
        assert results["links.empty"].outcome is Outcome.CRASHED
        assert results["links.empty"].reason == "ZeroDivisionError: by design"
        assert results["links.insecure"].outcome is Outcome.CLEAR
        assert "check crashed" in caplog.text

    def test_switched_off(self) -> None:
        """A check that the house switched off says so."""
        result = run_check(
            registry()["links.insecure"],
            read_bytes(b"<a href='http://k.org'>x</a>", "a.html"),
            Context(settings={"links.insecure": {"level": "off"}}),
        )
        assert (result.outcome, result.reason) == (Outcome.DOES_NOT_APPLY, "switched off in the settings")

    def test_level_of_the_house_wins(self) -> None:
        """A changed level is the finding's level."""
        result = run_check(
            registry()["links.insecure"],
            read_bytes(b"<a href='http://k.org'>x</a>", "a.html"),
            Context(settings={"links.insecure": {"level": "stop"}}),
        )
        assert [finding.level for finding in result.findings] == [Level.STOP]

    def test_only_some_and_unknown(self) -> None:
        """Only the named checks run; an unknown name is a KeyError."""
        message = read_bytes(b"<p>x</p>", "a.html")
        assert [result.check for result in run(message, Context(), ["links.empty", "access.alt-missing"])] == [
            "access.alt-missing",
            "links.empty",
        ]
        with pytest.raises(KeyError):
            run(message, Context(), ["links.nothing"])

    def test_sentences_show_long_values_shortened(self) -> None:
        """A value of a thousand characters does not become a sentence of a thousand."""
        (finding,) = run_check(
            registry()["links.insecure"], read_bytes(f"<a href='http://k.org/{'x' * 1000}'>x</a>".encode(), "a.html"), Context()
        ).findings
        assert len(finding.message) < 140
        assert len(str(finding.data["address"])) > 1000
        assert Place("message").start is None


class TestCleanMessages:
    """A clean professional message yields no stop and no fix."""

    @pytest.mark.parametrize(
        "change",
        [
            {},
            {"Subject": "Grüße aus dem Ofen"},
            {"Subject": "🎉 Glazes for your spring pots"},
            {"Reply_To": "studio@kiln.org"},
            {"To": "{{ email }}"},
            {"attachments": {"terms.pdf": b"%PDF-1.4"}},
        ],
        ids=str,
    )
    def test_clean_mail(self, change: dict[str, Any]) -> None:
        """Ordinary variations of a good mail."""
        results = run(
            read_bytes(mail(**change), "x.eml"), Context(known_fields=frozenset({"first_name", "email"}), dictionaries=Installed())
        )
        assert [finding.message for result in results for finding in result.findings] == []

    def test_demo_messages(self) -> None:
        """The demo's clean messages are clean, and its faulty one has something at every station that has checks."""
        from jetwind.apps.demo import messages

        fields = frozenset(["first_name", "last_name", "member_number", "course_title", "slot", "pick_up_date", "email"])
        practice = frozenset({"saltmarsh-kiln.example"})
        for raw, kind in ((messages.clean_sale(), Kind.PROMOTIONAL), (messages.pick_up_notice(), Kind.TRANSACTIONAL)):
            results = run(read_bytes(raw, "x.eml"), Context(kind, known_fields=fields, practice_domains=practice, dictionaries=Installed()))
            assert [finding.message for result in results for finding in result.findings] == []
        faulty = run(
            read_bytes(messages.faulty_weekend(), "x.eml"),
            Context(Kind.NEWSLETTER, known_fields=fields, practice_domains=practice, dictionaries=Installed()),
        )
        stations = {station_of(finding.check).name for result in faulty for finding in result.findings}
        assert stations == {"Envelope", "Appearance", "Wording", "Fields", "Links", "Images", "Access", "Spam risk", "Footer", "Plain text"}
