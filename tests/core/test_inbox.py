"""The inbox row: widths of a real font, where lines are cut; the brief, rulebooks, what an inbox previews."""

from __future__ import annotations

import pickle
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from playwright.sync_api import Browser

from jetwind.core.checking import Brief, Context, Kind, RequiredItem, UnusableBrief, check_settings, registry, rulebooks, run, run_check
from jetwind.core.checking.circumstance import Later
from jetwind.core.checks.envelope.emoji import emoji
from jetwind.core.checks.envelope.sender import address_fault
from jetwind.core.checks.wording.brief import normal, pattern, places_of
from jetwind.core.facts import table
from jetwind.core.facts.tables import Emoji
from jetwind.core.images.words import PictureWords
from jetwind.core.links.addresses import organisational_domain
from jetwind.core.message import Envelope, Message, read_bytes, with_envelope
from jetwind.core.profiles.inbox import ROWS, draw, fit, text_width
from jetwind.core.prose.reading import reading_of
from jetwind.core.reports import as_html, review
from jetwind.engines.dictionaries import WordLists
from tests.chromium import in_chromium
from tests.factories import GOOD_HTML, mail

_MEASURE = (
    "([text, font, kerning]) => { const c = document.querySelector('canvas').getContext('2d'); "
    "c.font = font; c.fontKerning = kerning; return c.measureText(text).width }"
)


class TestWidths:
    """Against Chromium's own measure of the same font."""

    LINES = (
        "Twelve glazes, a fifth off until Sunday",
        "OPEN STUDIO WEEKEND AT SALTMARSH KILN WORKS!!",
        "Grüße aus dem Ofen: Öl, Übung, Straße",
        "Crème brûlée — naïve façade … “quoted” ‘words’",
        "£24.50 · 1,240 °C · 50 % · №7 · ©2027",
        "iiiiiiiiiillllllllllWWWWWWWWWW",
        "Ελληνικά και русский текст",
    )

    @pytest.mark.parametrize("weight", ["regular", "bold"])
    def test_agreement_with_chromium(self, weight: str) -> None:
        """Within half a per cent for text of many scripts, kerning switched off on both sides; with kerning within two per cent."""
        cases = [(line, kerning, tolerance) for line in self.LINES for kerning, tolerance in (("none", 0.005), ("normal", 0.02))]

        def measure(browser: Browser) -> list[float]:
            page = browser.new_page()
            page.set_content("<canvas></canvas>")
            font = f"{'bold ' if weight == 'bold' else ''}14px 'Liberation Sans'"
            return [page.evaluate(_MEASURE, [line, font, kerning]) for line, kerning, _ in cases]

        for (line, kerning, tolerance), measured in zip(cases, in_chromium(measure), strict=True):
            ours = text_width(line, 14, weight)  # type: ignore[arg-type]
            assert abs(ours - measured) <= max(0.5, measured * tolerance), (line, kerning, ours, measured)

    def test_what_the_font_lacks(self) -> None:
        """Emoji are wide, one to a cluster; marks and joiners take no room."""
        assert text_width("👩\u200d👩\u200d👧", 10) == text_width("🏺", 10) == 12.5
        assert text_width("e\u0301", 10) == text_width("e", 10)
        assert text_width("", 10) == 0


class TestCutting:
    """fit and draw."""

    def test_what_fits_is_whole(self) -> None:
        """No ellipsis, nothing left."""
        assert fit("Spring", 200, 14) == ("Spring", "")

    def test_what_does_not_is_cut_with_room_for_the_ellipsis(self) -> None:
        """The shown part with its ellipsis fits, one character more would not."""
        shown, rest = fit("Twelve glazes, a fifth off", 100, 14)
        assert shown + rest == "Twelve glazes, a fifth off"
        assert text_width(shown + "…", 14) <= 100 < text_width(shown + rest[:2] + "…", 14)

    @given(st.text(max_size=60), st.floats(0, 400))
    def test_nothing_is_lost(self, text: str, width: float) -> None:
        """Shown and rest are the text, and no cluster is cut in two."""
        shown, rest = fit(text, width, 14)
        assert shown + rest == text

    def test_rows(self) -> None:
        """Four rows at four widths; in one line the preview text takes what the subject leaves."""
        assert len({row.width for row in ROWS}) == 4
        wide = draw(ROWS[0], "Kiln", "Spring", "Twelve glazes at a fifth off")
        assert [(line.field.what, line.is_cut) for line in wide] == [("sender", False), ("subject", False), ("preview", False)]
        crowded = draw(ROWS[1], "Kiln", "Spring " * 30, "Twelve")
        assert [(line.field.what, bool(line.shown), line.is_cut) for line in crowded] == [
            ("sender", True, False),
            ("subject", True, True),
            ("preview", False, True),
        ]
        phone = draw(ROWS[3], "Kiln " * 20, "Spring", "")
        assert [line.is_cut for line in phone] == [True, False, False]
        assert phone[0].end == round(phone[0].field.x + phone[0].width, 1)


class TestBrief:
    """Required and forbidden wording."""

    def test_forms_of_entries(self) -> None:
        """Texts, tables, one or several places, at the top or under [wording]."""
        brief = Brief.from_dict({"required": ["£24", {"text": "a fifth off", "places": "subject"}], "wording": {"forbidden": "£30"}})
        assert brief == Brief((RequiredItem("£24"), RequiredItem("a fifth off", ("subject",))), ("£30",))
        assert Brief.from_dict(brief.as_dict()) == brief
        by_place = Brief.from_dict({"required": {"html": ["£24", "code"], "subject": "£24"}})
        assert by_place == Brief((RequiredItem("£24", ("HTML", "subject")), RequiredItem("code", ("HTML",))))
        assert Brief.from_dict({"required": {"text": "x", "where": ["preheader"]}}) == Brief((RequiredItem("x", ("preview text",)),))

    @pytest.mark.parametrize(
        ("given_brief", "said"),
        [
            ({"required": [3]}, "“required”, entry 1 is a text or a table, not 3"),
            ({"required": [""]}, "not ''"),
            ({"required": {"attic": ["x"]}}, "'attic'; there are HTML"),
            ({"required": {"HTML": [3]}}, "“required”, “HTML”, entry 1 is a text, not 3"),
            ({"required": 3}, "“required” is a text, a table or a list, not 3"),
            ({"required": [{"text": "x", "places": ["attic"]}]}, "'attic'; there are HTML"),
            ({"required": [{"text": "x", "places": 3}]}, "“places” is a text or a list, not 3"),
            ({"wording": []}, "is a table"),
        ],
    )
    def test_unusable(self, given_brief: dict[str, object], said: str) -> None:
        """The entry and the remedy are named."""
        with pytest.raises(UnusableBrief, match=said):
            Brief.from_dict(given_brief)

    @pytest.mark.parametrize(
        ("item", "text", "stands"),
        [
            ("£24", "only £24!", True),
            ("£24", "£240", False),
            ("£24", "£24.50", False),
            ("£24", "£24. Come", True),
            ("a fifth off", "A\u00a0Fifth  off", True),
            ("it's", "It’s", True),
            ("10-12 March", "10–12 March", True),
            ("GLAZE", "GLAZES", False),
            ("1,240 °C", "at 1,240 °C", True),
        ],
    )
    def test_normal_form(self, item: str, text: str, stands: bool) -> None:
        """Spaces, case and typographic variants do not count; being part of a longer number or word does."""
        assert bool(pattern(item).search(normal(text))) is stands

    def test_grid(self) -> None:
        """Item × place: stands, missing, not asked for, or no such place."""
        message = with_envelope(read_bytes(b"<p>Only &pound;24</p>", "a.html"), Envelope(subject="Spring", sender_address="a@b.org"))
        assert places_of(message, RequiredItem("£24", ("HTML", "plain text", "subject"))) == {
            "HTML": True,
            "plain text": None,
            "subject": False,
            "preview text": None,
        }


class TestRulebooks:
    """Laws as data."""

    def test_every_demand_is_a_check(self) -> None:
        """No demand for what does not exist."""
        assert all(demand.check in registry() and demand.says and demand.source for book in rulebooks().values() for demand in book.demands)

    def test_a_chosen_rulebook_asks_for_its_own(self) -> None:
        """Where no chosen rulebook asks, the check does not apply; where none is chosen, all do."""
        message = read_bytes(b"<p>x</p>", "a.html")
        address = registry()["footer.address-missing"]
        assert run_check(address, message, Context()).findings
        assert run_check(address, message, Context(rulebooks=frozenset({"united-states"}))).findings
        spared = run_check(address, message, Context(rulebooks=frozenset({"european-union"})))
        assert (spared.findings, spared.reason) == ((), "no chosen rulebook asks for it")
        assert run_check(
            registry()["links.empty"], read_bytes(b"<a href=''>x</a>", "a.html"), Context(rulebooks=frozenset({"canada"}))
        ).findings


class TestWatching:
    """What a check looked at is known, so that its answer can be kept."""

    def test_reads_are_noted(self) -> None:
        """Each circumstance by its name, once."""
        watched = Context(kind=Kind.NEWSLETTER).watched()
        assert (watched.kind, watched.kind.is_bulk, watched.brief) == (Kind.NEWSLETTER, True, Brief())
        assert watched.used == {"kind", "brief"}

    def test_what_is_read_later(self) -> None:
        """Its key is told without reading; it is read once, and noted as any other; a copy to be handed over holds the value."""
        read: list[str] = []
        words = Later("k", lambda: read.append("words") or PictureWords())
        context = Context(picture_words=words)
        assert (context.key_of("picture_words"), context.key_of("renders"), read) == ("k", None, [])
        watched = context.watched()
        assert watched.picture_words == PictureWords() and context.picture_words is watched.picture_words
        assert (read, watched.used) == (["words"], {"picture_words"})
        assert pickle.loads(pickle.dumps(replace(context, asked=frozenset()))).picture_words == PictureWords()

    def test_answers_say_what_they_used(self) -> None:
        """Every check of a real run; the weekday check looks at the planned time, the doctype check at nothing."""
        used = {
            result.check: result.used
            for result in run(
                read_bytes(mail(GOOD_HTML.replace("quay", "quay on Monday 9 March")), "a.eml"),
                Context(dictionaries=WordLists((("en", frozenset({"quay"})),))),
            )
        }
        assert used["wording.weekday-wrong"] == {"planned", "rulebooks"}
        assert used["appearance.doctype"] == {"rulebooks"}
        assert "kind" in used["spam.risk"]
        assert used["wording.spelling"] == {"word_list", "dictionaries:en", "rulebooks"}

    def test_spam_asked_twice_still_notes_the_kind(self) -> None:
        """The sum is made once, its circumstances are noted each time."""
        message = read_bytes(mail(), "a.eml")
        assert all("kind" in run_check(registry()["spam.risk"], message, Context()).used for _ in range(2))


class TestFacts:
    """Tables against what is known elsewhere."""

    def test_emoji_newer_than_unicode_14_are_unassigned_there(self) -> None:
        """Python 3.11 carries Unicode 14.0: single characters of later emoji have no name in it, those of 14.0 have."""
        import unicodedata

        assert unicodedata.unidata_version == "14.0.0"
        single = [
            (group["version"], sequence)
            for group in table("emoji", Emoji)["added"]
            for sequence in group["sequences"]
            if len(sequence) == 1
        ]
        assert len(single) > 60
        for version, char in single:
            assert (unicodedata.category(char) == "Cn") is (version != "14.0"), (version, char)

    @pytest.mark.parametrize(
        ("text", "count"),
        [("👩\u200d👩\u200d👧🏺", 2), ("1 2 # *", 0), ("1\ufe0f\u20e3", 1), ("🇬🇧🇩🇪", 2), ("© ™", 0), ("❤\ufe0f", 1), ("👍🏽", 1)],
    )
    def test_emoji_are_clusters(self, text: str, count: int) -> None:
        """Unicode UTS #51, UAX #29."""
        assert len(emoji(text)) == count

    @pytest.mark.parametrize(
        ("address", "fault"),
        [
            ("a@kiln.org", ""),
            ("a.b+c@mail.kiln.org", ""),
            ('"odd local"@kiln.org', ""),
            ("a@[192.0.2.1]", ""),
            ("töpfer@töpferei.example", ""),
            (".a@kiln.org", "no mailbox name"),
            ("a..b@kiln.org", "no mailbox name"),
            ("a@kiln", "lacks its top-level domain"),
            ("a@-kiln.org", "no domain"),
            ("a@kiln_x.org", "no domain"),
            ("a@192.0.2.1", "ends in a number"),
            (f"{'a' * 65}@kiln.org", "no mailbox name"),
            ("kiln.org", "has no @"),
        ],
    )
    def test_addresses(self, address: str, fault: str) -> None:
        """RFC 5322 §3.4.1, RFC 5321 §4.1.2; from memory."""
        said = address_fault(address)
        assert (fault in said) if fault else said == ""

    @pytest.mark.parametrize(
        ("host", "domain"),
        [("news.kiln.co.uk", "kiln.co.uk"), ("kiln.org", "kiln.org"), ("a.b.kiln.org.", "kiln.org"), ("localhost", "localhost")],
    )
    def test_organizational_domains(self, host: str, domain: str) -> None:
        """By the Public Suffix List (RFC 7489 §3.2)."""
        assert organisational_domain(host) == domain


class TestPreview:
    """What an inbox would show."""

    def pieces(self, html: str, envelope: Envelope | None = None) -> list[tuple[str, str]]:
        """Words and kind of each piece."""
        message: Message = read_bytes(html.encode(), "a.html", envelope=envelope)
        return [(piece.text, piece.kind) for piece in reading_of(message).inbox_pieces(40)]

    def test_kinds(self) -> None:
        """Hidden lead-in, then copy, then alternative text, until the room is taken."""
        assert self.pieces(
            "<body><div style='display:none'>Lead</div><p>Copy</p><img alt='Bowl'><p style='display:none'>late</p><p>More words than fit in forty characters</p><p>no</p></body>"
        ) == [
            ("Lead", "hidden"),
            ("Copy", "visible"),
            ("Bowl", "alternative text"),
            ("More words than fit in forty characters", "visible"),
        ]

    def test_padding_takes_room(self) -> None:
        """Invisible padding pushes what follows out of sight."""
        assert self.pieces(f"<body><div style='display:none'>Lead{'&#847;&zwnj;' * 30}</div><p>Copy</p></body>") == [("Lead", "hidden")]

    def test_a_given_text_comes_first(self) -> None:
        """It was given with the envelope."""
        assert self.pieces("<p>Copy</p>", Envelope(subject="x", preview_text="Given"))[0] == ("Given", "given")


class TestHtmlReport:
    """One file that stands alone."""

    def test_nothing_of_the_message_gets_out(self) -> None:
        """Hostile words are escaped; the file loads and runs nothing."""
        hostile = "<a href='#'>\"><script>alert(1)</script><img src=x onerror=alert(2)></a>"
        report = as_html(review(read_bytes(mail(hostile, Subject="<script>alert(0)</script>"), "a.eml"), Context()))
        assert "<script" not in report.replace("&lt;script", "")
        assert "<img" not in report
        assert "default-src 'none'" in report
        assert "://" not in report.split("</style>")[0]
        assert "links.empty" in report

    def test_every_finding_and_answer(self) -> None:
        """Sentences, fixes and fingerprints; and the checks that found nothing."""
        result = review(read_bytes(b"<a href='#'>x</a>", "a.html"), Context())
        report = as_html(result, "Spring <sale>")
        assert "<h1>Spring &lt;sale&gt;</h1>" in report
        assert all(finding.fingerprint in report for finding in result.findings)
        assert all(answer.check in report for answer in result.results)


class TestSettings:
    """Every check's own defaults can be set."""

    @pytest.mark.parametrize("check_id", registry())
    def test_defaults_are_usable(self, check_id: str) -> None:
        """What is shipped passes the same gate as what a house sets."""
        import dataclasses

        declared = registry()[check_id]
        own = {"level": "note", **dataclasses.asdict(declared.options())}
        assert check_settings(declared, {check_id: own}) == ("note", declared.options())
