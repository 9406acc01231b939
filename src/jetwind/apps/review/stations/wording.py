"""The Wording station: the copy beside its source, the brief as a grid, facts across the parts, and the earlier message."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import path
from django.views.decorators.http import require_POST

from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.review import services
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.selectors import Walk, station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.services import add_word
from jetwind.core.checking import PLACES, Context
from jetwind.core.checking import copy as copies
from jetwind.core.checking.stated_facts import facts_of
from jetwind.core.checks.wording.brief import places_of
from jetwind.core.checks.wording.carried_over import CarriedOptions, campaign_values
from jetwind.core.message import Message
from jetwind.core.prose.alignment import Pair
from jetwind.core.prose.comparison import EnvelopeChange, envelope_changes, text_changes
from jetwind.core.prose.outline import outline_of
from jetwind.core.prose.reading import reading_of
from jetwind.core.prose.stated import KINDS, Stated

_MOST_PASSAGES = 300
_COLUMNS = {copies.HTML: "HTML", copies.ALT: "HTML", copies.PREVIEW: "HTML", copies.TEXT: "plain text", copies.SUBJECT: "subject"}


@dataclass(slots=True)
class FactRow:
    """One fact in the words of each part."""

    kind: str
    fact: Stated
    words: dict[str, list[str]] = field(default_factory=lambda: {"HTML": [], "plain text": [], "subject": []})
    remark: str = ""

    @property
    def cells(self) -> list[str]:
        """The words of HTML, plain text and subject."""
        return [", ".join(dict.fromkeys(words)) for words in self.words.values()]

    def differs(self, parts: set[str]) -> bool:
        """Whether HTML and plain text, both there, do not both state it."""
        return parts >= {"HTML", "plain text"} and bool(self.words["HTML"]) is not bool(self.words["plain text"])


@dataclass(frozen=True, slots=True)
class Earlier:
    """The changes since the message that this one was copied from, and what stayed though it usually changes: the kind, and the words."""

    stayed: list[tuple[str, str]]
    envelope: list[EnvelopeChange]
    text: list[Pair]
    #: How many passages are the same.
    same: int


@dataclass(frozen=True, slots=True)
class Page:
    """The copy, passage by passage: its section, its words, its line, its source."""

    copy: list[tuple[str, str, int | str, str]]
    is_cut: bool
    #: The parts that a required wording may be asked in; each required wording with where it stands; forbidden ones.
    places: Sequence[str]
    brief_rows: list[tuple[str, list[bool | None]]]
    forbidden: list[str]
    #: Facts that the parts state, and whether HTML and plain text differ in them.
    facts: list[tuple[FactRow, bool]]
    previous: Earlier | None
    source_mailing: Mailing | None
    #: Words that the newest check does not know, and those that the workspace added.
    unknown_words: list[str]
    word_list: list[str]


def page(request: PersonRequest, around: Frame) -> Page:
    """The copy, the brief, the facts, and what changed since the earlier message."""
    walk, message = around.walk, message_of(around.revision)
    context = walk.context
    parts = {name for name, there in (("HTML", message.html), ("plain text", message.text)) if there is not None}
    rows = fact_rows(message, context)
    return Page(
        copy=_copy(message),
        is_cut=len(reading_of(message).passages) > _MOST_PASSAGES,
        places=PLACES,
        brief_rows=[(item.text, list(places_of(message, item).values())) for item in context.brief.required],
        forbidden=list(context.brief.forbidden),
        facts=[(row, row.differs(parts)) for row in rows],
        previous=_previous(message, context),
        source_mailing=walk.revision.mailing.copied_from,
        unknown_words=_unknown_words(walk),
        word_list=sorted(context.word_list),
    )


def _copy(message: Message) -> list[tuple[str, str, int | str, str]]:
    """Passages with their section, their line and the source they come from; paragraphs of plain text where there is no HTML."""
    if message.document is None:
        starts = [(copy, copy.place(0, 1).start) for copy in copies.plain_text(message)]
        return [("plain text", copy.text, start.line if start else "", copy.text) for copy, start in starts]
    source = message.document.source
    found: list[tuple[str, str, int | str, str]] = []
    for section, passage in outline_of(message).sections[:_MOST_PASSAGES]:
        span, _ = passage.span(source, 0, len(passage.text))
        raw = source.slice(span) if span else ""
        found.append(
            (
                section,
                passage.text.strip(),
                source.position(span.start).line if span else "",
                raw if len(raw) <= 300 else raw[:220] + " … " + raw[-60:],
            )
        )
    return found


def fact_rows(message: Message, context: Context) -> list[FactRow]:
    """Facts of all parts, the same fact in one row, in the order of kinds."""
    rows: list[FactRow] = []
    for copy, fact in facts_of(message):
        row = next((row for row in rows if row.fact.agrees(fact)), None)
        if row is None:
            row = FactRow(fact.kind, fact)
            rows.append(row)
        row.words[_COLUMNS[copy.where]].append(fact.words)
    near = context.planned.date() if context.planned else None
    for row in rows:
        row.remark = _calendar(row.fact, near)
    return sorted(rows, key=lambda row: (KINDS.index(row.fact.kind), row.fact.value))


def _calendar(fact: Stated, planned: date | None) -> str:
    """The day of a date, and how far it is from the planned one."""
    if fact.day is None:
        return ""
    days = fact.day.on_calendar(planned)
    if not days:
        return "no year, and no time planned"
    day = days[0]
    said = f"{day:%a} {day.day} {day:%b %Y}"
    if fact.day.weekday and day.isoweekday() != fact.day.weekday and len(days) == 1:
        said += f", not {fact.day.weekday_word}"
    if planned is None:
        return said
    apart = (day - planned).days
    if apart == 0:
        return f"{said}, the day it leaves"
    return f"{said}, {abs(apart)} {'day' if abs(apart) == 1 else 'days'} {'after' if apart > 0 else 'before'} it leaves"


def _previous(message: Message, context: Context) -> Earlier | None:
    """The changes since the message that this one was copied from, and what stayed though it usually changes."""
    earlier = context.previous
    if earlier is None:
        return None
    facts_then = [fact for _, fact in facts_of(earlier)]
    stayed: list[tuple[str, str]] = []
    for change in envelope_changes(earlier, message):
        if change.is_same and change.after and change.name in ("Subject", "Preview text"):
            stayed.append((change.name, change.after))
    told: list[Stated] = []
    for _, fact in facts_of(message):
        if (
            fact.kind in ("date", "price", "code")
            and any(fact.agrees(other) for other in facts_then)
            and not any(fact.agrees(other) for other in told)
        ):
            told.append(fact)
            stayed.append((fact.kind.capitalize(), fact.words))
    then = campaign_values(earlier, CarriedOptions().parameters)
    stayed += [
        ("Link parameter", f"{name}={value}")
        for name, value in campaign_values(message, CarriedOptions().parameters)
        if (name, value) in then
    ]
    pairs = text_changes(earlier, message)
    return Earlier(
        stayed=stayed,
        envelope=[change for change in envelope_changes(earlier, message) if not change.is_same],
        text=[pair for pair in pairs if pair.likeness < 1][:120],
        same=sum(pair.likeness == 1 for pair in pairs),
    )


def _unknown_words(walk: Walk) -> list[str]:
    """The words that the newest run of the spelling check does not know."""
    found = [finding.record for finding in walk.findings if finding.record.check_id == "wording.spelling"]
    return [str(record.data["word"]) for record in found if "word" in record.data]


@require_POST
@asks(send="mailing:change")
@once
def brief(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Add to the brief, or take from it; the brief belongs to the mailing, so every revision is held against it."""
    revision = revision_for(request.user, mailing_id, number)
    what, text = request.POST.get("what", ""), request.POST.get("text", "")
    if what == "required":
        services.require_wording(
            request.user, revision.mailing, text, [place for place in PLACES if place in request.POST.getlist("place")]
        )
    elif what == "forbidden":
        services.forbid_wording(request.user, revision.mailing, text)
    elif what in ("take-required", "take-forbidden"):
        services.drop_wording(request.user, revision.mailing, text, forbidden=what == "take-forbidden")
    return redirect(f"{station_address(revision, 'wording')}#brief")


@require_POST
@asks(send="workspace:configure")
@once
def learn_word(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Add a word to the workspace's word list, and check again."""
    revision = revision_for(request.user, mailing_id, number)
    word = request.POST.get("word", "").strip()
    add_word(request.user, revision.mailing.workspace, word)
    messages.success(request, f"“{word}” is in the word list; the message is being checked again.")
    return redirect(f"{station_address(revision, 'wording')}#words")


STATION = StationPage(
    "wording",
    "review/wording.html",
    page,
    routes=(path("brief/", brief, name="brief"), path("learn-word/", learn_word, name="learn-word")),
)
