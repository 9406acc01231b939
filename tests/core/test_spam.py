"""Spam risk: every reason on its samples, the sum and its bands, what never raises it, and weights that calibration made."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from jetwind.core.checking import CannotTell, Context, Kind, Outcome, Place, clear, finds, registry, run_check
from jetwind.core.checking.declaration import DeclarationError
from jetwind.core.checking.samples import CheckSample
from jetwind.core.message import Sample, read_bytes, with_envelope
from jetwind.core.message.envelope import Envelope
from jetwind.core.papers import Dmarc, Papers, Spf
from jetwind.core.spam import BANDS, GROUPS, Reason, SpamReason, SpamSum, band_of, declared, scores_of_others, spam_sum, weight_of
from jetwind.core.spam.declaring import reason
from jetwind.core.spam.total import measured_weights, with_subject
from jetwind.core.spam.words import LEAST, MOST, WordModel, word_model, words_of
from tests.factories import GOOD_HTML, GOOD_TEXT, mail

SAMPLES = [
    pytest.param(known, sample, id=f"{known.id}-{number}") for known in declared().values() for number, sample in enumerate(known.samples)
]
#: A letter that has nothing to hide, in words that the model does not know or that pull left.
CLEAN = "Twelve glazes, mixed by hand from ash and sea sand, stand on the shelf by the door. The wheel turns on Monday."
OUT = '<p>Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW. <a href="https://www.kiln.org/leave">Unsubscribe</a></p>'


def total(raw: bytes, kind: Kind = Kind.PROMOTIONAL, **more: Any) -> SpamSum:
    """The sum of a mail."""
    return spam_sum(read_bytes(raw, "x.eml"), Context(kind, **more))


def ids(raw: bytes, kind: Kind = Kind.PROMOTIONAL, **more: Any) -> set[str]:
    """The reasons that apply, without their prefix and without the words of the copy."""
    return {one.id.removeprefix("spam.") for one in total(raw, kind, **more).reasons} - {"words"}


class TestReasons:
    """Each is declared once, and fires where it must and nowhere else."""

    @pytest.mark.parametrize(("known", "sample"), SAMPLES)
    def test_sample(self, known: Reason, sample: CheckSample) -> None:
        """Applies or not, and where."""
        message = sample.message()
        try:
            evidence = known.judge(message, sample.context())
        except CannotTell:
            evidence = None
        assert (evidence is not None) is sample.fires
        if evidence is None:
            return
        assert evidence.said.strip()
        assert evidence.times != 0
        place = evidence.place
        source = message.source_of(place.part)
        if place.start is not None and place.end is not None and source is not None:
            assert 0 <= place.start.offset <= place.end.offset <= len(source.text)
            if sample.at is not None:
                assert source.text[place.start.offset : place.end.offset] == sample.at

    def test_at_least_forty_five(self) -> None:
        """In every group, and each says why and what helps."""
        assert len(declared()) >= 45
        assert {known.group for known in declared().values()} == set(GROUPS)
        for known in declared().values():
            assert known.name == known.name.strip()
            assert len(known.name) <= 50
            assert known.why.endswith((".", "”."))
            assert known.fix.endswith(("”.", "."))
            assert 0 < known.weight <= 4
            assert (known.judge.__doc__ or "").strip()

    @pytest.mark.parametrize(
        ("changes", "said"),
        [
            ({"id": "subject-missing"}, "declared twice"),
            ({"group": "weather"}, "there is no group"),
            ({"samples": [clear("<p>x</p>")]}, "a sample that fires"),
        ],
    )
    def test_a_wrong_declaration_fails_at_import(self, changes: dict[str, Any], said: str) -> None:
        """Never noticed later than that."""
        given = {
            "id": "made-up",
            "name": "x",
            "group": "links",
            "weight": 1.0,
            "why": "x.",
            "fix": "X.",
            "samples": [clear("<p>"), finds("<p>")],
        }
        with pytest.raises(DeclarationError, match=said):
            reason(**{**given, **changes})(lambda message, context: None)

    def test_clean_mail_has_none(self) -> None:
        """Nothing but its words, and those pull to the left or nowhere."""
        found = total(mail())
        assert {one.id for one in found.reasons} <= {"spam.words"}
        assert found.band() == "low"

    def test_ordinary_sales_words_are_no_reason(self) -> None:
        """Honest offers need them."""
        html = f"<p>Free testers in our spring sale: save a fifth. Order today, while we have them.</p>{OUT}"
        assert ids(mail(html, GOOD_TEXT)) <= {"parts-differ"}

    def test_a_receipt_needs_no_way_out(self) -> None:
        """Transactional mail is not held to it."""
        raw = mail("<p>Your receipt for two bowls, with thanks.</p>", None)
        assert "unsubscribe-missing" not in ids(raw, Kind.TRANSACTIONAL)
        assert "unsubscribe-missing" in ids(raw)

    def test_papers_count_where_they_were_asked(self) -> None:
        """No name records, no reason; a host that may not send, three."""
        spf = Spf("kiln.org", "192.0.2.9", "fail", "v=spf1 -all")
        papers = Papers("kiln.org", "zone file", spf, (), Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=none", "none"))
        assert not ids(mail()) & {"spf-fails", "dmarc-fails"}
        assert ids(mail(), papers=papers) >= {"spf-fails", "dmarc-fails"}


class TestSum:
    """Taken apart and put together."""

    def test_it_is_the_sum_of_its_reasons(self) -> None:
        """To a tenth, heaviest first."""
        found = total(mail("<p>Act now! Claim your prize! Buy! Now! Yes!</p>", None, Subject="YOU ARE A WINNER!!"))
        assert found.score() == pytest.approx(sum(one.weight for one in found.reasons), abs=0.051)
        assert [one.weight for one in found.reasons] == sorted((one.weight for one in found.reasons), reverse=True)
        assert found.band() == "high"

    def test_switching_a_reason_off(self) -> None:
        """The total without it, and its band."""
        found = SpamSum((SpamReason("spam.a", "A", 4.0, ""), SpamReason("spam.b", "B", 2.5, "")))
        assert (found.score(), found.band()) == (6.5, "high")
        assert (found.score(["spam.a"]), found.band(["spam.a"])) == (2.5, "low")
        assert (found.score(["spam.b"]), found.band(["spam.b"])) == (4.0, "medium")
        assert found.score(["spam.a", "spam.b"]) == 0.0
        assert BANDS == {"medium": 3.0, "high": 6.0}
        assert [band_of(score) for score in (-1.0, 2.9, 3.0, 5.9, 6.0)] == ["low", "low", "medium", "medium", "high"]

    def test_the_smallest_change(self) -> None:
        """The fewest reasons, and of as many the least work: searched, not told."""

        def made(*weights: tuple[str, float, int]) -> SpamSum:
            return SpamSum(tuple(SpamReason(name, name, weight, "", effort=effort) for name, weight, effort in weights))

        assert made(("a", 2.0, 1)).lightest_change() == ()
        assert made(("a", 2.0, 1), ("b", 1.5, 1)).lightest_change() == ("a",)
        assert made(("a", 2.0, 3), ("b", 1.5, 1)).lightest_change() == ("b",)
        # From high to medium: one of the two heavy ones, the easier.
        assert made(("a", 3.5, 3), ("b", 3.4, 1), ("c", 0.2, 1)).lightest_change() == ("b",)
        # The score is shown with one decimal place: 9.88 is 9.9, and without the heaviest it is 5.9 and not high.
        assert made(("a", 2.47, 1), ("b", 3.94, 1), ("c", 3.47, 1)).lightest_change() == ("b",)
        # Only two together are enough.
        assert made(("a", 1.6, 1), ("b", 1.6, 1), ("c", 1.6, 1), ("d", 1.0, 1)).lightest_change() == ("a", "b")

    @settings(deadline=None, max_examples=60)
    @given(st.lists(st.tuples(st.floats(-2, 4).map(lambda value: round(value, 2)), st.integers(1, 3)), min_size=1, max_size=8))
    def test_no_smaller_change_is_enough(self, weights: list[tuple[float, int]]) -> None:
        """Against every subset, tried one by one."""
        from itertools import combinations

        found = SpamSum(tuple(SpamReason(f"r{number}", "", weight, "", effort=effort) for number, (weight, effort) in enumerate(weights)))
        chosen = found.lightest_change()
        if found.band() == "low":
            assert chosen == ()
            return
        line = BANDS[found.band()]
        pushing = [one.id for one in found.reasons if one.weight > 0]
        enough = [one for size in range(1, len(pushing) + 1) for one in combinations(pushing, size) if found.score(one) < line]
        if not enough:
            assert chosen == ()
            return
        effort = {one.id: one.effort for one in found.reasons}
        assert len(chosen) == min(map(len, enough))
        assert sum(effort[one] for one in chosen) == min(sum(effort[one] for one in other) for other in enough if len(other) == len(chosen))

    def test_kept_and_read_back(self) -> None:
        """A sum with places and words goes into a database and back."""
        found = replace(
            total(mail("<p>Act now! free money credit business</p>", None, without=("Subject",))),
            others=scores_of_others(read_bytes(mail(), "x.eml"), Context()),
        )
        assert SpamSum.from_json(found.as_json()) == found
        assert SpamSum.from_json({"reasons": [{"id": "spam.a", "name": "A", "weight": 1.0, "evidence": "x"}]}).score() == 1.0

    def test_each_subject_variant_and_the_worst_reader(self) -> None:
        """Each with its own score."""
        html = f"{{% if member %}}<p>{CLEAN}</p>{{% else %}}<p>ACT NOW! CLAIM YOUR PRIZE! YOU HAVE WON! BUY! NOW! THE KILN IS FREE, AND SO IS THE CLAY, FOR ALL OF YOU TODAY!</p>{{% endif %}}{OUT}"
        message = with_envelope(
            read_bytes(html.encode(), "a.html"),
            Envelope("Glazes", "Kiln", "a@kiln.org", subject_variants=("GLAZES, GLAZES, GLAZES!!", "Pots")),
        )
        readers = (Sample("Member", {"member": "yes"}), Sample("Guest", {}))
        loud, plain, worst = scores_of_others(message, Context(readers=readers))
        assert (loud.kind, loud.name) == ("subject", "GLAZES, GLAZES, GLAZES!!")
        assert loud.score > plain.score
        assert (worst.kind, worst.name) == ("reader", "Guest")
        assert worst.score >= 3.0


class TestProperties:
    """What never raises the sum, and what always does."""

    @settings(deadline=None, max_examples=30, suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.sampled_from(
            [
                GOOD_HTML,
                f"<p>{CLEAN}</p>{OUT}",
                "<p>Hi</p><img src='https://k.org/a.png' width='600' height='300' alt=''>",
                "<p>Act now! Free money!</p>",
            ]
        ),
        st.booleans(),
    )
    def test_no_subject_never_lowers_the_band(self, html: str, has_text: bool) -> None:
        """And raises it for a message that is otherwise low."""
        order = ("low", "medium", "high")
        with_one = total(mail(html, GOOD_TEXT if has_text else None))
        without = total(mail(html, GOOD_TEXT if has_text else None, without=("Subject",)))
        assert order.index(without.band()) >= order.index(with_one.band())
        if with_one.band() == "low":
            assert without.band() != "low"

    @settings(deadline=None, max_examples=40, suppress_health_check=[HealthCheck.too_slow])
    @given(st.lists(st.sampled_from(CLEAN.replace(",", "").replace(".", "").split()), min_size=5, max_size=60), st.integers(0, 4))
    def test_real_text_never_raises_the_sum(self, words: list[str], pictures: int) -> None:
        """A paragraph of words that pull nowhere or to the left, added to any number of pictures."""
        images = "<img src='https://k.org/a.png' width='600' height='300' alt='Pots'>" * pictures
        before = total(mail(f"<p>Pots on the quay.</p>{images}{OUT}", GOOD_TEXT))
        added = " ".join(word for word in words if word_model().weights.get(word.lower(), 0) <= 0)
        after = total(mail(f"<p>Pots on the quay.</p><p>{added.capitalize()}.</p>{images}{OUT}", GOOD_TEXT))
        assert after.score() <= before.score()

    @pytest.mark.parametrize("html", [f"<p>{CLEAN}</p>", f"<p>Hi</p>{OUT}", f"<p>{CLEAN}</p>{OUT}", "<p>Buy! Now! Here! Today! Yes!</p>"])
    def test_a_plain_part_that_says_the_same_never_raises_it(self, html: str) -> None:
        """HTML alone scores at least as high."""
        from jetwind.core.prose.plain import plain_from_html

        text = plain_from_html(read_bytes(html.encode(), "a.html"))
        assert total(mail(html, text)).score() <= total(mail(html, None)).score()

    @pytest.mark.parametrize("pictures", range(6))
    def test_fewer_pictures_never_raise_it(self, pictures: int) -> None:
        """One picture less, of any number."""
        image = "<img src='https://k.org/a.png' width='600' height='300' alt='Pots'>"
        fewer, more = (total(mail(f"<p>{CLEAN}</p>{image * number}{OUT}", GOOD_TEXT)) for number in (pictures, pictures + 1))
        assert fewer.score() <= more.score()

    @pytest.mark.parametrize("body", [f"<p>{CLEAN}</p>", "<p>Hi</p>", "<p>Act now! Free money!</p>"])
    @pytest.mark.parametrize(
        "out",
        [
            OUT,
            "<p>You receive this because you signed up at our open studio. <a href='https://www.kiln.org/p'>Update your preferences</a> or <a href='https://www.kiln.org/u'>unsubscribe</a>.</p>",
            "<p><a href='https://www.kiln.org/web'>View in your browser</a></p>",
        ],
    )
    def test_what_a_rulebook_demands_never_raises_it(self, body: str, out: str) -> None:
        """Ways out, addresses and reasons are no words of the model."""
        assert total(mail(body + out, GOOD_TEXT)).score() <= total(mail(body, GOOD_TEXT)).score()

    @pytest.mark.parametrize("field", ["{{ offer }}", "*|OFFER|*", "%%OFFER_FREE_MONEY%%", "[[FREE MONEY]]"])
    def test_fields_are_unknown_values(self, field: str) -> None:
        """Of any syntax: their letters are neither words nor capitals."""
        with_field = total(mail(f"<p>{CLEAN} {field} {field}</p>{OUT}", None, Subject=f"Pots {field}"))
        without = total(mail(f"<p>{CLEAN}</p>{OUT}", None, Subject="Pots"))
        assert {one.id for one in with_field.reasons} <= {one.id for one in without.reasons}
        assert with_field.score() <= without.score()

    def test_an_unfilled_template_cannot_be_told_yet(self) -> None:
        """Not “hardly any text”."""
        image = "<img src='https://k.org/a.png' width='600' height='300' alt='Pots'>"
        raw = mail(f"{image}{{{{ content }}}}{OUT}", None)
        found = total(raw)
        assert "pictures-only" not in {one.id.removeprefix("spam.") for one in found.reasons}
        assert ("Pictures but hardly any text", "fields will bring text that is not known yet") in found.unknown or found.unknown == ()
        risk = run_check(
            registry()["spam.risk"],
            read_bytes(mail(f"{image}{{{{ content }}}}", None, List_Unsubscribe="<https://k.org/u>"), "x.eml"),
            Context(Kind.TRANSACTIONAL),
        )
        assert risk.outcome is Outcome.CANNOT_TELL
        assert "nothing can be told" in risk.reason

    @pytest.mark.parametrize(
        ("copy", "unknown"),
        [
            ("Nächsten Monat lernen Sie an fünf Abenden das Drehen an der Scheibe, und wir brennen alles, was Sie bis dahin gemacht haben. Die Tische sind für zwölf Leute da, die Schürzen hängen bei uns, und der Tee steht auf dem Ofen. Wer mit dem Zug kommt, geht vom Bahnhof aus am Hafen entlang und ist in zehn Minuten da.", {"Words of the copy", "Talk of money that waits somewhere"}),
            ("Nel mese prossimo si impara in cinque sere a lavorare al tornio, e noi cuociamo tutto quello che avete fatto fino ad allora. I tavoli sono per dodici persone, i grembiuli sono da noi, e il tè è sulla stufa. Chi viene con il treno va dalla stazione lungo il porto ed è qui in dieci minuti, anche con la pioggia.", {"Words of the copy", "Talk of loans and debts", "Threat to an account"}),
        ],
    )  # fmt: skip
    def test_no_language_is_silently_low(self, copy: str, unknown: set[str]) -> None:
        """Of copy in a language whose words nobody has measured, these reasons cannot be told, and so the sum cannot."""
        raw = mail(f"<p>{copy}</p>{OUT}", None, Subject="Kiln")
        found = total(raw)
        assert unknown <= {name for name, _ in found.unknown}
        assert found.band() == "low"
        risk = run_check(registry()["spam.risk"], read_bytes(raw, "x.eml"), Context(Kind.TRANSACTIONAL))
        assert risk.outcome is Outcome.CANNOT_TELL
        assert "in which nothing of the kind is known" in risk.reason

    @pytest.mark.parametrize(
        ("subject", "html"),
        [
            (
                "Summer sale: everything 30% off until Sunday",
                "<p>Shop our best sellers now and save up to 50% on selected items. Free shipping on all orders over $50. Limited stock, so order today.</p>",
            ),
            (
                "Your free trial ends in 3 days",
                "<p>Hi there, your free trial ends on Friday. Upgrade now to keep your invoices, reports and bank feeds. Plans start at $12 per month. If you have questions just reply.</p>",
            ),
            (
                "Last chance: 2-for-1 tickets end tonight",
                "<p>Our two for one offer on spring tickets ends tonight. Book online or call the box office. Members get an extra 10% off and free entry.</p>",
            ),
            (
                "Mortgage rates this week",
                "<p>The average five-year fixed rate fell to 4.1 per cent. If your deal ends this year our brokers can help you compare lenders and refinance.</p>",
            ),
            (
                "Thank you for your donation",
                "<p>Your gift of 25 will help us plant forty trees this winter. With your permission we can claim back tax on your donation at no cost to you.</p>",
            ),
            ("Ihre Bestellung ist unterwegs", "<p>Guten Tag, Ihre Bestellung wurde heute verschickt und kommt am Freitag an.</p>"),
        ],
    )
    def test_honest_mail_of_today_is_low(self, subject: str, html: str) -> None:
        """Offers, trials, loans and gifts as shops write them now, with and without plain text; written for this test."""
        for text in (None, GOOD_TEXT):
            assert (
                total(
                    mail(
                        f"<!doctype html><html lang='en'><head><title>x</title></head><body>{html}{OUT}</body></html>",
                        text,
                        Subject=subject,
                    )
                ).band()
                == "low"
            )


class TestWords:
    """The model: what it knows, and how its words pull."""

    def test_a_word_moves_it_the_way_it_pulls(self) -> None:
        """Right never lowers it, left never raises it, unknown changes nothing."""
        model = WordModel({"free": 1.5, "kiln": -1.0, "the": 0.0}, 1.0)
        assert model.pull(["free"]) > model.pull([]) == 0.0
        assert model.pull(["free", "kiln"]) < model.pull(["free"])
        assert model.pull(["kiln"]) < 0
        assert model.pull(["free", "unheard"]) == model.pull(["free"])
        assert model.strongest(["kiln", "free", "x"]) == [("free", 1.5), ("kiln", -1.0)]

    @settings(deadline=None)
    @given(st.lists(st.sampled_from(sorted(word_model().weights)), max_size=30, unique=True), st.sampled_from(sorted(word_model().weights)))
    def test_adding_any_word_of_the_model(self, words: list[str], more: str) -> None:
        """The same holds for what ships."""
        model = word_model()
        before, after = model.pull(words), model.pull([*words, more] if more not in words else words)
        assert after >= before if model.weights[more] > 0 else after <= before

    def test_words_alone_lead_out_of_no_band(self) -> None:
        """However many pull right."""
        worst = " ".join(word for word, weight in word_model().weights.items() if weight > 1)[:9_000]
        found = total(mail(f"<p>{worst}</p>{OUT}", GOOD_TEXT))
        words = next(one for one in found.reasons if one.id == "spam.words")
        assert words.weight == MOST < BANDS["medium"]
        assert -BANDS["medium"] <= LEAST
        assert words.words
        assert all(weight > 0 for _, weight in words.words[:6])

    def test_what_is_no_word_of_the_copy(self) -> None:
        """Addresses, hosts, marks of replies, names of lists, fields and ways out."""
        raw = mail(f"<p>Kiln credit@money.org www.free.org https://cash.org/x {{{{ prize }}}}</p>{OUT}", Subject="Re: [glazes] Ash")
        assert words_of(read_bytes(raw, "x.eml")) == {"ash", "kiln"}

    def test_no_text_ships(self) -> None:
        """Words and numbers, few and small."""
        path = Path("src/jetwind/core/facts/spam_words.json")
        assert path.stat().st_size < 60_000
        assert all(re.fullmatch(r"[^\W\d_]{3,20}", word) for word in word_model().weights)
        assert 1_000 < len(word_model().weights) <= 3_000


class TestWeights:
    """Measured weights are those of reasons that are measured."""

    def test_each_measured_reason_has_one(self) -> None:
        """And those set by hand have none."""
        measured = {known.id for known in declared().values() if not known.by_hand and known.id != "words"}
        assert set(measured_weights()) == measured
        for known in declared().values():
            assert weight_of(known) > 0
            if known.id in measured:
                assert 0.05 <= weight_of(known) <= min(3 * known.weight, 2) * 1.3 + 0.01

    def test_risk_is_told_by_its_band(self) -> None:
        """A finding from medium on, a stop when high, and where the evidence is."""
        message = read_bytes(mail("<p>Act now! Claim your prize! Buy! Now! Yes!</p>", None, Subject="YOU ARE A WINNER!!"), "x.eml")
        found = run_check(registry()["spam.risk"], message, Context()).findings
        assert [one.level.value for one in found] == ["stop"]
        assert found[0].place == Place("message")
        assert with_subject(message, "Pots").subject == "Pots"
