"""Facts that a text states: what is found, what is left alone, and what agrees with what."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.prose.stated import KINDS, StatedDate, stated


def found(text: str, *languages: str) -> list[tuple[str, str]]:
    """Kind and comparable value of every fact."""
    return [(fact.kind, fact.value) for fact in stated(text, languages or ("en",))]


class TestPrices:
    """Amounts with a currency, however they are grouped."""

    @pytest.mark.parametrize(
        ("text", "value"),
        [
            ("£24", "GBP 24"),
            ("£24.50", "GBP 24.50"),
            ("£ 24.5", "GBP 24.50"),
            ("24,50 €", "EUR 24.50"),
            ("1.234,50 €", "EUR 1234.50"),
            ("€1,234.50", "EUR 1234.50"),
            ("CHF 1'200", "CHF 1200"),
            ("1 234,50 zł", "PLN 1234.50"),
            ("USD 12.00", "USD 12"),
            ("US$12", "USD 12"),
            ("250 kr", "kr 250"),
            ("24,- €", "EUR 24"),
            ("¥1,200", "JPY 1200"),
        ],
    )
    def test_read(self, text: str, value: str) -> None:
        """One price, with its value."""
        assert found(f"Only {text} today") == [("price", value)]

    @pytest.mark.parametrize("text", ["24 pots", "room 24", "version 2.4", "A4", "Route 66", "10 EURO pallets", "euro 24 h"])
    def test_left_alone(self, text: str) -> None:
        """Numbers without a currency are no prices."""
        assert [kind for kind, _ in found(text) if kind == "price"] == []

    def test_same_amount_written_otherwise_agrees(self) -> None:
        """£24 is not £24.50, but 1,234.50 is 1.234,50."""
        one, other, third = stated("€1,234.50 or 1.234,50 € or €1,234.51")
        assert one.agrees(other)
        assert not one.agrees(third)


class TestDates:
    """Days in words and numbers, in several languages."""

    @pytest.mark.parametrize(
        ("text", "languages", "value", "weekday"),
        [
            ("9 March 2027", ("en",), "2027-03-09", None),
            ("9th of March 2027", ("en",), "2027-03-09", None),
            ("March 9, 2027", ("en",), "2027-03-09", None),
            ("Tuesday, March 9th", ("en",), "03-09", 2),
            ("Tue 9 Mar", ("en",), "03-09", 2),
            ("9 March 2027 (Tuesday)", ("en",), "2027-03-09", 2),
            ("Sept. 30", ("en",), "09-30", None),
            ("2027-03-09", ("en",), "2027-03-09", None),
            ("9.3.2027", ("de", "en"), "2027-03-09", None),
            ("Dienstag, den 9. März 2027", ("de", "en"), "2027-03-09", 2),
            ("mardi 9 mars 2027", ("fr", "en"), "2027-03-09", 2),
            ("1er mai 2027", ("fr", "en"), "2027-05-01", None),
            ("martes, 9 de marzo de 2027", ("es", "en"), "2027-03-09", 2),
            ("martedì 9 marzo 2027", ("it", "en"), "2027-03-09", 2),
            ("terça-feira, 9 de março de 2027", ("pt", "en"), "2027-03-09", 2),
            ("dinsdag 9 maart 2027", ("nl", "en"), "2027-03-09", 2),
            ("tisdag 9 mars 2027", ("sv", "en"), "2027-03-09", 2),
            ("tirsdag 9. marts 2027", ("da", "en"), "2027-03-09", 2),
            ("wtorek, 9 marca 2027", ("pl", "en"), "2027-03-09", 2),
        ],
    )
    def test_read(self, text: str, languages: tuple[str, ...], value: str, weekday: int | None) -> None:
        """The day, and its weekday where it is named. Names of days and months: Unicode CLDR."""
        (fact,) = stated(f"Come on {text} to us", languages)
        assert (fact.kind, fact.value) == ("date", value)
        assert fact.day is not None
        assert fact.day.weekday == weekday
        assert fact.words in text

    @pytest.mark.parametrize(
        "text",
        [
            "We may 3 times",
            "we sat 9 hours",
            "192.168.1.20",
            "version 3.14.2",
            "31 February 2027",
            "99/99/2027",
            "1/2",
            "mar 3 edges",
            "order 2027-0309",
        ],
    )
    def test_left_alone(self, text: str) -> None:
        """Ordinary words, addresses, versions and days that do not exist."""
        assert [kind for kind, _ in found(text) if kind == "date"] == []

    def test_either_order_with_strokes(self) -> None:
        """9/3/2027 may be March or September, and agrees with both."""
        open_date, march, september, april = stated("9/3/2027, 9 March 2027, 3 September 2027, 9 April 2027")
        assert open_date.agrees(march)
        assert open_date.agrees(september)
        assert not open_date.agrees(april)

    def test_a_year_counts_only_where_both_give_one(self) -> None:
        """9 March agrees with 9 March 2027; two years do not agree."""
        bare, one, other = stated("9 March; 9 March 2027; 9 March 2026")
        assert bare.agrees(one)
        assert bare.agrees(other)
        assert not one.agrees(other)

    @pytest.mark.parametrize(
        ("month", "day", "near", "meant"),
        [
            (3, 9, date(2027, 3, 1), date(2027, 3, 9)),
            (1, 5, date(2026, 12, 20), date(2027, 1, 5)),  # over new year
            (12, 24, date(2027, 1, 10), date(2026, 12, 24)),  # a fortnight ago
            (6, 1, date(2026, 11, 25), date(2027, 6, 1)),
            (2, 29, date(2027, 12, 1), date(2028, 2, 29)),
        ],
    )
    def test_the_year_is_inferred(self, month: int, day: int, near: date, meant: date) -> None:
        """A date without a year is the next such day, seen from a quarter of a year before the planned time."""
        assert StatedDate(None, ((month, day),)).on_calendar(near) == (meant,)

    def test_without_a_planned_time_nothing_is_inferred(self) -> None:
        """Then it cannot be told."""
        assert StatedDate(None, ((3, 9),)).on_calendar(None) == ()


class TestOtherFacts:
    """Times, percentages, codes and phone numbers."""

    @pytest.mark.parametrize(
        ("text", "value"),
        [
            ("from 9am", "9:00"),
            ("at 9:30", "9:30"),
            ("at 9:30 pm", "21:30"),
            ("12 p.m.", "12:00"),
            ("12am", "0:00"),
            ("17:05", "17:05"),
            ("um 18 Uhr", "18:00"),
            ("à 18h30", "18:30"),
            ("9.30 a.m.", "9:30"),
        ],
    )
    def test_times(self, text: str, value: str) -> None:
        """Half-days are counted through."""
        assert ("time", value) in found(text)

    @pytest.mark.parametrize("text", ["48h sale", "version 9.30", "25:10", "1:2:3", "ratio 16:9:1", "9.30 kg"])
    def test_no_times(self, text: str) -> None:
        """Spans of time, versions and ratios."""
        assert [kind for kind, _ in found(text) if kind == "time"] == []

    @pytest.mark.parametrize(("text", "value"), [("20 %", "20"), ("20% off", "20"), ("12.5 percent", "12.50"), ("25 Prozent", "25")])
    def test_percentages(self, text: str, value: str) -> None:
        """With a sign or a word."""
        assert ("percentage", value) in found(text)

    @pytest.mark.parametrize(
        ("text", "value"),
        [
            ("Use code GLAZE20", "GLAZE20"),
            ("Gutscheincode: OFEN-10", "OFEN-10"),
            ("coupon “SAVE”", "SAVE"),
            ("with SPRING25 at the till", "SPRING25"),
        ],
    )
    def test_codes(self, text: str, value: str) -> None:
        """After a word for it, or letters and digits together."""
        assert ("code", value) in found(text)

    @pytest.mark.parametrize("text", ["dress code: casual", "SM4 7KW", "NASA", "code of conduct", "https://kiln.org/ABC123", "#A1B2C3"])
    def test_no_codes(self, text: str) -> None:
        """Postcodes, abbreviations, addresses and colours."""
        assert [kind for kind, _ in found(text) if kind == "code"] == []

    def test_phone_numbers_agree_by_their_last_digits(self) -> None:
        """With and without the country."""
        one, other, third = stated("+44 (0)20 7946 0958; 020 7946-0958; 020 7946 0959")
        assert {one.kind, other.kind} == {"phone number"}
        assert one.agrees(other)
        assert not one.agrees(third)

    @pytest.mark.parametrize("text", ["order 1234567890", "978-3-16-148410-0", "12,345,678 readers", "2027-03-09 10"])
    def test_no_phone_numbers(self, text: str) -> None:
        """Orders, books, counts and dates."""
        assert [kind for kind, _ in found(text) if kind == "phone number"] == []


@given(st.text(alphabet=st.sampled_from(list("0123456789 /.-:,£€%$()+ MarchTuesdycodeAPRIL\u00a0é")), max_size=80))
@settings(max_examples=400, deadline=None)
def test_spans_lie_in_the_text_and_do_not_overlap(text: str) -> None:
    """Whatever the text: facts in order, each in its own place."""
    end = 0
    for fact in stated(text, ("en", "de")):
        assert fact.kind in KINDS
        assert end <= fact.span.start < fact.span.end <= len(text)
        assert text[fact.span.start : fact.span.end].strip().startswith(fact.words[:1])
        end = fact.span.end
