"""Facts that a text states: prices, dates, times, percentages, codes, phone numbers; each with its place and a comparable value."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache
from typing import Literal

from jetwind.core.facts import table
from jetwind.core.facts.tables import CalendarNames
from jetwind.core.source import Span

FactKind = Literal["price", "date", "time", "percentage", "code", "phone number"]
KINDS: tuple[FactKind, ...] = ("price", "date", "time", "percentage", "code", "phone number")

#: Currency signs (Unicode category Sc) and codes (ISO 4217) with how they are compared.
_CURRENCY = {"€": "EUR", "£": "GBP", "$": "USD", "¥": "JPY", "zł": "PLN", "Kč": "CZK", "kr": "kr", "Fr.": "CHF", "US$": "USD"}
_CODES = "EUR|GBP|USD|CHF|CAD|AUD|NZD|SEK|NOK|DKK|PLN|CZK|JPY|INR|HUF|RON|ZAR|BRL|MXN"
_SIGN = rf"(?:US\$|[$€£¥₹₽₩₺₫₪₴฿]|(?:{_CODES})(?![A-Za-z]))"
_AFTER = rf"(?:[€£¥₹₽₺₴]|(?:{_CODES})(?![A-Za-z])|(?:kr|zł|Kč|Fr\.)(?![A-Za-z]))"
#: No price has more than eighteen digits: a longer row of numbers is read piece by piece.
_NUMBER = r"\d{1,3}(?:[.,'’\u00a0\u202f ]\d{3}){1,5}(?:[.,]\d{1,2}(?!\d))?|\d{1,18}(?:[.,]\d{1,2}(?!\d))?"
_PRICE = re.compile(
    rf"(?P<sign>(?<![A-Za-z]){_SIGN})\s?(?P<number>{_NUMBER})|(?<![\w.,])(?P<number2>{_NUMBER})(?:[.,]-)?\s?(?P<sign2>{_AFTER})"
)
#: Currencies by their names, with how they are compared. A pound is a weight where something is weighed out.
_NAMED = {"euro": "EUR", "pound": "GBP", "dollar": "USD", "franc": "CHF", "krona": "kr", "krone": "kr", "kronor": "kr", "kroner": "kr", "yen": "JPY", "zloty": "PLN", "złoty": "PLN", "kr": "kr"}  # fmt: skip
_NAMED_PRICE = re.compile(
    rf"(?<![\w.,])(?P<number>{_NUMBER})\s?(?P<name>[Ee]uro|[Pp]ound|[Dd]ollar|[Ff]ranc|[Kk]rona|[Kk]rone|[Kk]ronor|[Kk]roner|[Yy]en|[Zz]loty|[Zz]łoty)(?:e?s|ch)?(?!\w)(?!\s+(?:of|heavier|lighter|pallet)\b)"
    rf"|(?<![\w.])(?P<name2>[Kk]r|[Ee]uro)\.?\s(?P<number2>{_NUMBER})(?![\w%])(?!\s?(?:h|hours?|Uhr|min|minutes?|cm|mm|kg|g)\b)"
)
_PERCENT = re.compile(
    r"(?<![\w.,])(\d{1,3}(?:[.,]\d{1,2})?)\s?(?:%|per\s?cent\b|percent\b|prozent\b|procent\b|por\s?ciento\b|pour\s?cent\b|per\s?cento\b)",
    re.IGNORECASE,
)
_TIME = re.compile(
    r"(?<![\w.:,/-])(?:(?P<h>[01]?\d|2[0-3])[:.](?P<m>[0-5]\d)(?!\d|[.:,/]\d|\s?%)(?:\s?(?P<ap>[ap])\.?m\b\.?)?|(?P<h2>1[0-2]|0?[1-9])\s?(?P<ap2>[ap])\.?m\b\.?"
    r"|(?P<h3>[01]?\d|2[0-3])\s?[hH](?P<m3>[0-5]\d)?(?!\w)|(?P<h4>[01]?\d|2[0-3])\s(?:Uhr|heures?)\b)",
    re.IGNORECASE,
)
#: A time with a point between needs a word for it; else it is a number, a price or a date.
_POINTED = re.compile(r"\d\.\d")
_CODE = re.compile(
    r"(?i:\b(?:promo|discount|voucher|coupon|offer|gutschein|rabatt|aktions)?-?\s?(?:code|codes|coupon|voucher|code\s+promo|código|codice|kod|koodi|kode|gutscheincode)\b)"
    r"[\s:\"“”„'‘’»«]{1,4}(?P<code>[A-Z0-9][A-Z0-9-]{2,19})(?![\w-])|(?<![\w@./#%-])(?P<bare>(?=[A-Z]*[A-Z][A-Z]+\d|\d+[A-Z]{2})[A-Z0-9]{5,16})(?![\w@/-])"
)
_PHONE = re.compile(r"(?<![\w.,/+-])(?P<plus>\+|00(?=[1-9])|0|\()\d[\d\u00a0\u2011 ().\-/]{6,22}\d(?![\w/]|[.,-]\d)")
_ISO_DATE = re.compile(r"(?<![\d-])(\d{4})-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])(?![\d-])")
_NUMERIC_DATE = re.compile(r"(?<![\w./-])(\d{1,2})([./])(\d{1,2})\2(\d{4}|\d{2})(?![\w/])")


@dataclass(frozen=True, slots=True)
class StatedDate:
    """A date as a text gives it. ``readings`` are (month, day), more than one where the order is open; ``weekday`` is 1 for Monday."""

    year: int | None
    readings: tuple[tuple[int, int], ...]
    weekday: int | None = None
    weekday_word: str = ""

    def on_calendar(self, near: date | None) -> tuple[date, ...]:
        """The days it may mean. A date without a year is the next such day seen from a quarter of a year before ``near``."""
        found = []
        for month, day in self.readings:
            years = [self.year] if self.year is not None else _years(near)
            for year in years:
                made = _date(year, month, day)
                if made is not None and (self.year is not None or near is None or timedelta(-90) <= made - near < timedelta(276)):
                    found.append(made)
        return tuple(found)

    def agrees(self, other: StatedDate) -> bool:
        """Whether both may mean one day: years count only where both give one."""
        if self.year is not None and other.year is not None and self.year != other.year:
            return False
        return bool(set(self.readings) & set(other.readings))


@dataclass(frozen=True, slots=True)
class Stated:
    """One fact: its kind, its words, where they stand in the text, and what it is compared by."""

    kind: FactKind
    words: str
    span: Span
    value: str
    day: StatedDate | None = None

    def agrees(self, other: Stated) -> bool:
        """Whether two facts of a kind say the same."""
        if self.kind != other.kind:
            return False
        if self.day is not None and other.day is not None:
            return self.day.agrees(other.day)
        if self.kind == "phone number":
            return self.value[-8:] == other.value[-8:]
        return self.value == other.value


def stated(text: str, languages: Sequence[str] = ("en",)) -> list[Stated]:
    """All facts of a text in the order in which they stand. ``languages`` name months and weekdays."""
    if not any(map(str.isdigit, text)):
        return [] if "ode" not in text.lower() and "oupon" not in text.lower() and "oucher" not in text.lower() else list(_codes(text, []))
    found: list[Stated] = list(_dates(text, languages))
    taken = [item.span for item in found]
    covered = bytearray(len(text))
    for span in taken:
        covered[span.start : span.end] = b"\1" * (span.end - span.start)
    for finder in (_prices, _named_prices, _percentages, _phones, _times, _codes):
        for item in finder(text, taken):
            if not any(covered[item.span.start : item.span.end]):
                found.append(item)
                taken.append(item.span)
                covered[item.span.start : item.span.end] = b"\1" * (item.span.end - item.span.start)
    return sorted(found, key=lambda item: item.span.start)


def _prices(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _PRICE.finditer(text):
        sign = match["sign"] or match["sign2"]
        number = _number(match["number"] or match["number2"])
        yield Stated("price", match[0].strip(), Span(match.start(), match.end()), f"{_CURRENCY.get(sign, sign.upper())} {number}")


def _named_prices(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _NAMED_PRICE.finditer(text):
        name = (match["name"] or match["name2"]).lower()
        number = _number(match["number"] or match["number2"])
        yield Stated("price", match[0].strip(), Span(match.start(), match.end()), f"{_NAMED[name]} {number}")


def _number(written: str) -> str:
    """A number without its grouping marks: the last mark before one or two digits is the decimal one."""
    plain = re.sub(r"[\s'’\u00a0\u202f]", "", written)
    match = re.fullmatch(r"(.*?)[.,](\d{1,2})", plain)
    whole, fraction = (match[1], match[2]) if match else (plain, "")
    whole = re.sub(r"[.,]", "", whole).lstrip("0") or "0"
    fraction = fraction.ljust(2, "0").rstrip("0") if fraction else ""
    return f"{whole}.{fraction.ljust(2, '0')}" if fraction else whole


def _percentages(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _PERCENT.finditer(text):
        yield Stated("percentage", match[0], Span(match.start(), match.end()), _number(match[1]))


def _times(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _TIME.finditer(text):
        if _POINTED.search(match[0]) and not match["ap"] and not re.match(r"\s?(?:Uhr|h\b)", text[match.end() :]):
            continue
        hour = int(match["h"] or match["h2"] or match["h3"] or match["h4"])
        if (
            match["h3"]
            and not match["m3"]
            and "h" in match[0]
            and not re.search(r"\b(?:à|à partir de|de|dès|at|um|às|vers)\s\Z", text[: match.start()])
        ):
            continue  # “48 h” and “2h” are spans of time
        minute = int(match["m"] or match["m3"] or 0)
        half = (match["ap"] or match["ap2"] or "").lower()
        if half:
            hour = hour % 12 + (12 if half == "p" else 0)
        yield Stated("time", match[0].strip(), Span(match.start(), match.end()), f"{hour}:{minute:02}")


def _codes(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _CODE.finditer(text):
        group = "code" if match["code"] else "bare"
        words = match[group]
        if group == "code" and words.isdigit() and len(words) < 4:
            continue
        yield Stated("code", words, Span(match.start(group), match.end(group)), words.upper())


def _phones(text: str, taken: list[Span]) -> Iterator[Stated]:
    for match in _PHONE.finditer(text):
        digits = re.sub(r"\D", "", match[0].replace("(0)", ""))
        if 8 <= len(digits) <= 15 and not _ISO_DATE.search(match[0]):
            yield Stated("phone number", match[0], Span(match.start(), match.end()), digits)


@lru_cache(maxsize=64)
def _names(languages: tuple[str, ...]) -> tuple[re.Pattern[str], dict[str, int], dict[str, int]]:
    months: dict[str, int] = {}
    weekdays: dict[str, int] = {}
    known = table("calendar", dict[str, CalendarNames])
    for language in languages:
        names = known.get({"no": "nb", "nn": "nb"}.get(language, language))
        for target, of_language in ((months, names["months"]), (weekdays, names["weekdays"])) if names is not None else ():
            for number, forms in enumerate(of_language, 1):
                for form in forms:
                    target.setdefault(form, number)
    day_names = _either(weekdays)
    month_names = _either(months)
    weekday = rf"(?:(?<!\w)(?P<W>{day_names})(?!\w)\.?,?\s+(?:(?:the|den|dem|der|le|el|il|dia|día|den|em)\s+)?)?"
    day = r"(?P<D>0?[1-9]|[12]\d|3[01])(?:st|nd|rd|th|er|\.|º|ª)?"
    # The year may stand behind a time and a zone, as programs write it: "Feb 14 09:12:44 CET 2012".
    clock = r"\s+\d{1,2}:\d\d(?::\d\d)?\s+(?:[A-Z]{2,5}\s+)?"
    year = rf"(?:(?:,?\s+(?:de\s+|del\s+)?|{clock})(?P<Y>(?:19|20)\d\d)(?!\d|[.,]\d|\s?%))?"
    of = r"(?:\s+(?:of|de|del))?"
    after = rf"(?:\s*\(?,?\s*(?<=[\s(])(?P<V>{day_names})(?!\w))?"
    day_first = rf"{weekday}(?<![\w.,:/-]){day}{of}[\s-]+(?P<M>{month_names})(?!\w)\.?{year}{after}"
    month_first = rf"{weekday}(?<!\w)(?P<M>{month_names})(?!\w)\.?\s+{day}(?!\w|[.:,/-]\d|\s?[%€£$]){year}{after}"
    numeric = rf"(?<!\w)(?P<W>{day_names})(?!\w)\.?,?\s+(?:(?:the|den|dem|der|le|el|il)\s+)?(?:(?P<I>\d{{4}}-\d\d-\d\d)|(?P<D>\d{{1,2}})(?P<S>[./])(?P<M>\d{{1,2}})(?:(?P=S)(?P<Y>\d{{4}}|\d\d)?)?)(?![\w/:%])"
    pattern = "|".join(
        re.sub(r"\(\?P([<=])(\w)([>)])", lambda group, prefix=prefix: f"(?P{group[1]}{prefix}{group[2]}{group[3]}", part)  # type: ignore[misc]
        for prefix, part in (("a", day_first), ("b", month_first), ("c", numeric))
    )
    return re.compile(pattern, re.IGNORECASE), months, weekdays


def _either(names: dict[str, int]) -> str:
    return "|".join(re.escape(name) for name in sorted(names, key=len, reverse=True)) or r"(?!)"


def _dates(text: str, languages: Sequence[str]) -> Iterator[Stated]:
    pattern, months, weekdays = _names(tuple(languages))
    covered = bytearray(len(text))
    for match in pattern.finditer(text):
        prefix = next(letter for letter in "abc" if match[f"{letter}D"] or (letter == "c" and match["cI"]))
        got = {key[1:]: value for key, value in match.groupdict().items() if key[0] == prefix and value}
        word = got.get("W") or got.get("V") or ""
        # A short weekday name that is also an ordinary word counts only with a capital, as does a short month.
        if word and len(word) <= 3 and word.islower() and prefix != "c":
            word = ""
        if prefix != "c" and len(got["M"]) <= 3 and got["M"].islower() and languages[0] == "en":
            continue
        weekday = weekdays.get(word.lower()) if word else None
        year: int | None
        if "I" in got:
            year, month, day = (int(part) for part in got["I"].split("-"))
            readings: tuple[tuple[int, int], ...] = ((month, day),)
        elif prefix == "c":
            year_text = got.get("Y")
            year = _year(year_text)
            readings = _orders(int(got["D"]), int(got["M"]), got["S"])
        else:
            year, readings = _year(got.get("Y")), ((months[got["M"].lower()], int(got["D"])),)
        readings = tuple(pair for pair in readings if _date(year or 2024, *pair))
        if readings:
            words = match[0].rstrip(". ")
            span = Span(match.start(), match.start() + len(words))
            covered[span.start : span.end] = b"\1" * (span.end - span.start)
            stated_date = StatedDate(year, readings, weekday, word)
            yield Stated("date", words, span, _shown(stated_date), stated_date)
    for match in (*_ISO_DATE.finditer(text), *_NUMERIC_DATE.finditer(text)):
        span = Span(match.start(), match.end())
        if any(covered[span.start : span.end]):
            continue
        found_year: int | None
        if match.re is _ISO_DATE:
            found_year, readings = int(match[1]), ((int(match[2]), int(match[3])),)
        else:
            found_year, readings = _year(match[4]), _orders(int(match[1]), int(match[3]), match[2])
        readings = tuple(pair for pair in readings if _date(found_year or 2024, *pair))
        if readings:
            stated_date = StatedDate(found_year, readings)
            yield Stated("date", match[0], span, _shown(stated_date), stated_date)


def _orders(first: int, second: int, separator: str) -> tuple[tuple[int, int], ...]:
    """Readings of two numbers as (month, day): with points the day comes first everywhere, with strokes either may."""
    day_first, month_first = (second, first), (first, second)
    both = (day_first,) if separator == "." else (day_first, month_first)
    return tuple(dict.fromkeys(pair for pair in both if 1 <= pair[0] <= 12 and 1 <= pair[1] <= 31))


def _year(written: str | None) -> int | None:
    if not written:
        return None
    return int(written) if len(written) == 4 else 2000 + int(written)


def _date(year: int, month: int, day: int) -> date | None:
    try:
        return date(year, month, day)
    except ValueError:
        return None


def _years(near: date | None) -> list[int]:
    return [] if near is None else [near.year - 1, near.year, near.year + 1]


def _shown(found: StatedDate) -> str:
    month, day = found.readings[0]
    return f"{found.year}-{month:02}-{day:02}" if found.year else f"{month:02}-{day:02}"
