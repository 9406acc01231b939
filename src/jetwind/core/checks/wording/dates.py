"""Dates are on the calendar, still to come, and of this year."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, date, datetime

from jetwind.core.checking import CannotTell, Context, Finding, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.copy import Copy
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, turns
from jetwind.core.checking.sample_values import Given
from jetwind.core.checking.stated_facts import facts_of
from jetwind.core.facts import phrase_pattern, table
from jetwind.core.facts.tables import CalendarNames
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.passages import sentences
from jetwind.core.prose.stated import Stated, StatedDate
from jetwind.core.source import Span

_PLANNED: Given = {"planned": datetime(2027, 3, 1, 9, 0, tzinfo=UTC)}
_NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def _dates(message: Message) -> Iterator[tuple[Copy, Stated, StatedDate]]:
    for copy, fact in facts_of(message):
        if fact.day is not None:
            yield copy, fact, fact.day


@check(
    id="wording.weekday-wrong",
    name="Weekday does not fit the date",
    level=Level.STOP,
    why="Half of the readers will go by the weekday and half by the date.",
    fix="Look the day up and correct the weekday or the date.",
    basis="ISO 8601 calendar (computed by Python's datetime)",
    samples=[
        clear("<p>Tuesday 9 March 2027, Fri 12 March 2027, 13 March 2027 (Saturday)</p>"),
        clear("<p>Join us on Tuesday, March 9th</p>", given=_PLANNED),
        clear("<p>From Monday: 9 March is a day to remember</p>", given=_PLANNED),
        clear("<p lang='de'>Dienstag, den 9. März 2027</p>"),
        clear("<p>On Tuesday 09/03/2027 and Tuesday 03/09/2027</p>"),  # day or month first: one reading fits
        clear("<p>We sat 9 March pots on the sun deck; may 3 of them last.</p>", given=_PLANNED),
        clear("<p>Tuesday 5 January</p>", given={"planned": datetime(2026, 12, 20, tzinfo=UTC)}),
        clear("<p>Fired on Tue Feb 14 09:12:44 2012</p>"),
        finds("<p>Fired on Mon Feb 14 09:12:44 2012</p>", at="Mon Feb 14 09:12:44 2012"),
        finds("<p>Fired on Mon Feb 14 09:12 CET 2012</p>"),
        finds("<p>Join us on Monday 9 March 2027</p>", at="Monday 9 March 2027"),
        finds("<p>Join us on Mon, March 9th 2027.</p>", at="Mon, March 9th 2027"),
        finds("<p>Join us on <b>Monday</b> 9 March</p>", at="Monday</b> 9 March", given=_PLANNED),
        finds("<html lang='de'><p>Montag, 9. März 2027</p></html>", at="Montag, 9. März 2027"),
        finds("<html lang='fr'><p>lundi 9 mars 2027</p></html>", at="lundi 9 mars 2027"),
        finds("<p>9 March 2027 (Monday)</p>"),
        finds("<p>Monday 9 March 2027, and Tuesday 10 March</p>", at="Monday 9 March 2027"),  # the second cannot be told
        finds("<p>Monday 2027-03-09</p>"),
        finds("<p>x</p>", envelope=Envelope(subject="Sale ends Monday 9 March 2027", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\n\nOpen on Monday,\nMarch 9, 2027.\n", at="Monday,\nMarch 9, 2027"),
    ],
)
def find_wrong_weekday(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A date that names its weekday has the one that the calendar gives."""
    near = context.planned.date() if context.planned else None
    open_date, told = "", False
    for copy, fact, day in _dates(message):
        if day.weekday is None:
            continue
        meant = day.on_calendar(near)
        if not meant:
            open_date = open_date or fact.words
        elif not any(found.isoweekday() == day.weekday for found in meant):
            told = True
            yield Hit(
                "“{words}”: {date} is a {weekday}.",
                copy.place(fact.span.start, fact.span.end),
                {"words": fact.words, "date": meant[0].isoformat(), "weekday": _NAMES[meant[0].weekday()]},
                identity=f"{fact.value}:{day.weekday}",
            )
    if open_date and near is None and not told:
        raise CannotTell(f"“{open_date}” gives no year, and no time is planned")


@check(
    id="wording.date-past",
    name="Date already past when the message leaves",
    level=Level.FIX,
    why="The copy invites the reader to something that is over.",
    fix="Put the new date in, or tell it as past.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>Join us on 9 March 2027</p>", given=_PLANNED),
        clear("<p>The kiln was built on 2 May 1998, and we have fired since 3 June 2001.</p>", given=_PLANNED),
        clear("<p>Order of 12 February 2027, paid on 13 February 2027.</p>", given=_PLANNED),
        clear("<p>Thank you for joining us on 20 February!</p>", given=_PLANNED),
        clear("<p>Last updated on 1 February 2027. Terms from 1 January 2020.</p>", given=_PLANNED),
        clear("<p>Photo of 3 February 2027</p>", given=_PLANNED),
        clear("<p>The sale ends on 1 March 2027</p>", given=_PLANNED),  # the very day
        finds("<p>Join us on 20 February 2027</p>", at="20 February 2027", given=_PLANNED),
        finds("<p>The sale ends on Sunday 28 February.</p>", at="Sunday 28 February", given=_PLANNED),
        finds("<p>Valid until 2027-02-15</p>", at="2027-02-15", given=_PLANNED),
        finds("<p>Open studio<br>Saturday 20 February 2027, 10:00 to 16:00</p>", given=_PLANNED),
        finds("<html lang='de'><p>Gültig bis zum 15. Februar 2027</p></html>", at="15. Februar 2027", given=_PLANNED),
        finds("<p>x</p>", envelope=Envelope(subject="Register by 20 February 2027", sender_address="a@b.org"), given=_PLANNED),
    ],
)
def find_past(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A date that reads as an event or a deadline does not lie before the planned day."""
    if context.planned is None:
        raise CannotTell("no time is planned")
    planned = context.planned.date()
    told: set[tuple[str, str]] = set()
    everything = facts_of(message)
    for copy, fact, day in _dates(message):
        meant = day.on_calendar(planned)
        if not meant or any(found >= planned for found in meant) or (planned - max(meant)).days > 400:
            continue
        if (copy.where, fact.value) in told or (copy.where == copies.TEXT and (copies.HTML, fact.value) in told):
            continue
        if not _reads_as_coming(copy.text, fact, [other for holder, other in everything if holder is copy]):
            continue
        told.add((copy.where, fact.value))
        yield Hit(
            "“{words}” is before {planned}, when the message leaves.",
            copy.place(fact.span.start, fact.span.end),
            {"words": fact.words, "date": max(meant).isoformat(), "planned": planned.isoformat()},
            identity=fact.value,
        )


def _reads_as_coming(text: str, fact: Stated, facts: list[Stated]) -> bool:
    """Whether its sentence speaks of an event or a deadline: by a cue, or by a time of day beside the date."""
    around = next((span for span in sentences(text) if fact.span.start in span), None)
    start, end = (around.start, max(around.end, fact.span.end)) if around else (0, len(text))
    before, after = text[start : fact.span.start], text[fact.span.end : end]
    if phrase_pattern("phrases", "past_cue").search(before + " . " + after):
        return False
    if phrase_pattern("phrases", "coming_cue").search(before[-60:]) or phrase_pattern("phrases", "coming_cue_after").search(after[:40]):
        return True
    return any(other.kind == "time" and 0 <= other.span.start - fact.span.end < 14 for other in facts)


_COPYRIGHT = re.compile(
    r"(?:©|\(c\)|\bcopyright\b|&copy;)(?:(?!©|\(c\))[^\n.{}]){0,60}?(?<!\d)(?P<a>(?:19|20)\d\d)(?!\d)(?:\s?[-–—/]\s?(?P<b>(?:19|20)?\d\d)(?!\d))?|(?<!\d)(?P<c>(?:19|20)\d\d)\s?(?:©|\(c\))",
    re.IGNORECASE,
)


@check(
    id="wording.year-stale",
    name="Copyright year of another year",
    level=Level.FIX,
    why="It shows that the footer is an old one, and readers wonder what else is.",
    fix="Write the year in which the message leaves, or take the year out.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>© 2027 Kiln</p><p>Copyright 2019–2027, © Kiln 2015-27</p>", given=_PLANNED),
        clear("<p>© Kiln. Since 2001</p>", given=_PLANNED),
        clear("<p>© {{ year }} Kiln</p>", given=_PLANNED),
        clear("<p>Founded in 1998. Copyright Kiln.</p>", given=_PLANNED),
        clear("<p>© 2027 Kiln</p>", given={"planned": datetime(2026, 12, 31, 23, 30, tzinfo=UTC)}),  # new year's night
        finds("<p>© 2026 Kiln</p>", at="© 2026", given=_PLANNED),
        finds("<p>Copyright &copy; 2019-2025 Kiln</p>", given=_PLANNED),
        finds("<p>&copy; Saltmarsh Kiln Works 2024</p>", given=_PLANNED),
        finds("Subject: x\nFrom: a@b.org\n\n(c) 2024 Kiln\n", at="(c) 2024", given=_PLANNED),
    ],
)
def find_stale(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The copyright year, or the last of a range, is the year of the planned time."""
    moment = context.planned or context.now
    if moment is None:
        raise CannotTell("no time is planned")
    told: set[str] = set()
    for copy, match, year in _stale_years(message, moment):
        if copy.where in told:
            continue
        told.add(copy.where)
        yield Hit(
            "The copyright year in the {where} is {year}; the message leaves in {planned}.",
            copy.place(match.start(), match.end()),
            {"where": copy.where, "year": str(year), "planned": str(moment.year)},
            identity=str(year),
        )


def _stale_years(message: Message, moment: datetime) -> Iterator[tuple[Copy, re.Match[str], int]]:
    """Each copyright year of another year: the copy, the words, and the year."""
    for copy in copies.all_copy(message):
        for match in _COPYRIGHT.finditer(copy.text):
            written = match["b"] or match["a"] or match["c"]
            year = int(written) if len(written) == 4 else int((match["a"] or "2000")[:2] + written)
            if not _is_this_year(year, moment):
                yield copy, match, year


@mend(
    "wording.year-stale",
    kind=MendKind.CONFIRM,
    does="The copyright year, or the last of a range, becomes the year in which the message leaves.",
    leaves="A year of two digits at the end of a range is left to a person.",
    samples=[
        turns(
            "<p>© 2026 Kiln</p><p>Copyright &copy; 2019-2025 Kiln</p>",
            "<p>© 2027 Kiln</p><p>Copyright &copy; 2019-2027 Kiln</p>",
            given=_PLANNED,
        ),
        turns("Subject: x\nFrom: a@b.org\n\n(c) 2024 Kiln\n", "Subject: x\nFrom: a@b.org\n\n(c) 2027 Kiln\n", given=_PLANNED),
        leaves_alone("<p>© 2019-25 Kiln</p>", given=_PLANNED),
    ],
)
def mend_year(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Every stale year of the message: one that stayed would be told next."""
    moment = context.planned or context.now
    for copy, match, year in _stale_years(message, moment) if moment is not None else ():
        if (found := source_at(message, copy.place(match.start(), match.end()))) is None:
            continue
        part, span, written = found
        at = written.rfind(str(year))
        if moment is not None and at >= 0 and written[at + 4 :].strip(" ©") == "":
            yield Change(part, Span(span.start + at, span.start + at + 4), str(moment.year))


def _is_this_year(year: int, moment: datetime) -> bool:
    """The year of the planned day, or of the next one: zones part at new year."""
    return year == moment.year or (date(moment.year, moment.month, moment.day) == date(moment.year, 12, 31) and year == moment.year + 1)


@mend(
    "wording.weekday-wrong",
    kind=MendKind.CONFIRM,
    does="The weekday becomes the one that the calendar gives for the date.",
    leaves="The date is taken for right; whether the weekday was, a person decides. Weekdays in headers are left.",
    samples=[
        turns("<p>Join us on Monday 9 March 2027</p>", "<p>Join us on Tuesday 9 March 2027</p>"),
        turns("<p>Join us on Mon, March 9th 2027.</p>", "<p>Join us on Tue, March 9th 2027.</p>"),
        turns("<html lang='de'><p>Montag, 9. März 2027</p></html>", "<html lang='de'><p>Dienstag, 9. März 2027</p></html>"),
        leaves_alone("<p>x</p>", envelope=Envelope(subject="Sale ends Monday 9 March 2027", sender_address="a@b.org")),
    ],
)
def mend_weekday(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """A name of the same language and length, with the capitals of the one before."""
    when = date.fromisoformat(str(finding.data.get("date") or next(iter(finding.each("date")))))
    found = source_at(message, finding.place)
    if found is None or found[0] == "header" or len(finding.places) > 1:
        return
    part, span, written = found
    for names in table("calendar", dict[str, CalendarNames]).values():
        for day in names["weekdays"]:
            for length, word in enumerate(day):
                match = re.search(rf"(?<!\w){re.escape(word)}(?!\w)", written, re.IGNORECASE)
                right = names["weekdays"][when.isoweekday() - 1]
                if match is not None and word not in right and match[0].isascii() == word.isascii():
                    said = right[min(length, len(right) - 1)]
                    said = said.capitalize() if match[0][0].isupper() else said
                    yield Change(part, Span(span.start + match.start(), span.start + match.end()), said)
                    return
