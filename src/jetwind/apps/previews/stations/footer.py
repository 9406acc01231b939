"""The Footer station: the footer cut out of a render beside the demands of a rulebook, threads from each demand to what meets it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from jetwind.apps.intake.selectors import message_of
from jetwind.apps.previews.as_whom import AsWhom, as_whom, reader_choices
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.questions import readers_of
from jetwind.apps.review.selectors import ShownFinding
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.workspace.access import PersonRequest
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checking import Rulebook, registry, rulebooks
from jetwind.core.checking.copies import readers_copies
from jetwind.core.links.said import Demand, Said, footer_of
from jetwind.core.links.suggestions import suggestion
from jetwind.core.message import Message
from jetwind.core.profiles import REFERENCE, profiles
from jetwind.core.readers import AsReader, as_reader
from jetwind.core.renders.measured import Measured

SLUG = "footer"
#: Px of the drawing: its width, how wide the footer is shown, where demands begin, the room of one, and how tall the footer may be.
WIDTH, _CUT, _DEMANDS, _ROOM, _TALLEST = 724, 372, 420, 54, 900
#: Px of the drawing from a box to the picture's edge that may hold other words.
_ASIDE = 40
#: Px of the page above the first words of the footer, and how much of the page's end counts as footer.
_ABOVE, _END = 24, 0.5

#: Which demand's words keep a check.
_KEPT_BY: dict[str, Demand] = {
    "footer.unsubscribe-missing": "unsubscribe",
    "footer.unsubscribe-hidden": "unsubscribe",
    "footer.unsubscribe-target": "unsubscribe",
    "footer.unsubscribe-conditional": "unsubscribe",
    "footer.unsubscribe-words": "unsubscribe",
    "footer.address-missing": "address",
    "footer.identity-missing": "identity",
    "footer.reason-missing": "reason",
    "footer.preferences-missing": "preferences",
}
#: What a demand rests on: without it there is nothing to judge.
_RESTS_ON = {
    "footer.unsubscribe-hidden": "footer.unsubscribe-missing",
    "footer.unsubscribe-target": "footer.unsubscribe-missing",
    "footer.unsubscribe-conditional": "footer.unsubscribe-missing",
    "footer.unsubscribe-words": "footer.unsubscribe-missing",
    "footer.one-click": "footer.list-unsubscribe",
}


@dataclass(frozen=True, slots=True)
class DrawnDemand:
    """One demand in the drawing: what it says and where that stands, what the checks answered, the words that meet it, its thread in px."""

    says: str
    source: str
    check: str
    state: str
    words: str
    suggestion: str
    y: float
    thread: str
    spot: tuple[float, float, float, float] | None
    address: str

    @property
    def is_met(self) -> bool:
        """Whether the checks found nothing wrong."""
        return self.state == "met"


@dataclass(frozen=True, slots=True)
class Cut:
    """The footer cut out of a render: the render, what of the page is shown, in CSS px, and how large it is drawn, in px."""

    render: Render
    layout_width: float
    layout_height: float
    left: float
    top: float
    width: float
    height: float

    @property
    def scale(self) -> float:
        """Px of the drawing for one of the page."""
        return _CUT / max(self.width, 1)

    @property
    def drawn(self) -> tuple[float, float]:
        """Width and height of the drawing of the cut."""
        return _CUT, round(self.height * self.scale, 1)


@dataclass(frozen=True, slots=True)
class Page:
    """The footer cut out of a render, and every demand; where both are drawn, in px: the drawing's size, where demands begin, their width."""

    cut: Cut | None
    asked: list[DrawnDemand]
    drawing: tuple[int, float]
    demands_at: int
    demand_width: int
    #: Rulebooks and readers to choose from: address, name, whether it is chosen; and what is chosen.
    books: list[tuple[str, str, bool]]
    book: Rulebook | None
    readers: list[tuple[str, str, bool]]
    whom: AsWhom
    #: The reader for whom the cut was rendered, where that is another.
    drawn_for: str
    #: Readers whose copy lacks what the message has: their names, and what their copies lack.
    lacking: list[tuple[str, tuple[str, ...]]]
    says_nothing: bool


def page(request: PersonRequest, around: Frame) -> Page:
    """The footer beside what the rulebooks demand of it."""
    revision, message = around.revision, message_of(around.revision)
    context = around.walk.context
    books = [book for key, book in rulebooks().items() if not context.rulebooks or key in context.rulebooks] + list(context.house)
    chosen_book = next((book for book in books if book.id == request.GET.get("rulebook")), None)
    whom = as_whom(revision, request.GET.get("reader", ""))
    copy = as_reader(message, whom.sample) if whom.sample is not None else None
    shown = copy.message if copy is not None else message
    cut = _cut(around, whom, message, copy) or _cut(around, as_whom(revision), message, copy)
    asked = _asked(around, [chosen_book] if chosen_book is not None else books, message=message, shown=shown, copy=copy, cut=cut)

    def address(**changed: str) -> str:
        query = {"reader": request.GET.get("reader", ""), "rulebook": chosen_book.id if chosen_book else ""} | changed
        return f"{around.here}?{urlencode({name: value for name, value in query.items() if value})}"

    return Page(
        cut=cut,
        asked=asked,
        drawing=(WIDTH, max(cut.drawn[1] if cut is not None else 0, len(asked) * _ROOM) + 8),
        demands_at=_DEMANDS,
        demand_width=WIDTH - _DEMANDS - 2,
        books=[(address(rulebook=""), "Every one that applies", chosen_book is None)]
        + [(address(rulebook=book.id), book.name, book is chosen_book) for book in books],
        book=chosen_book,
        readers=[(address(reader=value), name, is_chosen) for value, name, is_chosen in reader_choices(revision, whom)],
        whom=whom,
        drawn_for=cut.render.reader if cut is not None and cut.render.reader != whom.name else "",
        lacking=_lacking(around, message),
        says_nothing=message.html is None and message.text is None,
    )


def _asked(
    around: Frame, books: Sequence[Rulebook], message: Message, shown: Message, copy: AsReader | None, cut: Cut | None
) -> list[DrawnDemand]:
    """Every demand once, with all its sources."""
    by_check: dict[str, list[tuple[str, str]]] = {}
    for book in books:
        for demand in book.demands:
            by_check.setdefault(demand.check, []).append((demand.says, f"{book.name}: {demand.source}"))
        for words in book.words:
            by_check.setdefault(f"footer.house-words {words}", []).append((f"“{words}”", f"{book.name}: house"))
    found = {_key_of(one): one for one in around.walk.findings}
    # A message without a footer has one finding, which tells all that a footer would hold.
    found |= {
        check: one
        for one in around.walk.findings
        if one.record.check_id.startswith("footer.")
        for check in one.record.data.get("checks", ())
    }
    outcomes = around.walk.run.outcomes if around.walk.run is not None else {}
    rows: list[DrawnDemand] = []
    met = {key: footer_of(shown).said(_KEPT_BY[key]) for key in by_check if key in _KEPT_BY}
    # What words meet comes first, so that threads stay near the footer.
    for key, sources in sorted(by_check.items(), key=lambda pair: met.get(pair[0]) is None):
        check = key.partition(" ")[0]
        said = met.get(key)
        finding = found.get(key)
        state = _state(check, finding is not None and finding.is_open, outcomes)
        rests_on = found.get(_RESTS_ON.get(check, ""))
        if state == "met" and rests_on is not None and rests_on.is_open:
            state = "nothing to judge"
        place = _place(message, copy, said) if said is not None else None
        y = len(rows) * _ROOM + 4
        spot, thread = _thread(cut, place, y)
        words = " ".join(said.words.split())[:60] if said is not None else ""
        lacks = suggestion(message, _KEPT_BY[check]) if check in _KEPT_BY and said is None else ""
        address = f"{around.here}?{urlencode({'finding': finding.record.fingerprint})}" if finding is not None else ""
        rows.append(
            DrawnDemand(
                sources[0][0],
                "; ".join(source for _, source in sources),
                check=check,
                state=state,
                words=words,
                suggestion=lacks,
                y=y,
                thread=thread,
                spot=spot,
                address=address,
            )
        )
    return rows


def _key_of(finding: ShownFinding) -> str:
    """The key of a finding on this page: its check, and of the house's wording the words."""
    check = finding.record.check_id
    return f"{check} {finding.record.data.get('words', '')}" if check == "footer.house-words" else check


def _state(check: str, is_open: bool, outcomes: dict[str, Any]) -> str:
    """The answer of the checks to a demand, in a word."""
    if check not in registry():
        return "not known"
    if is_open:
        return "not met"
    outcome = outcomes.get(check, ["not checked yet"])[0]
    return {
        "clear": "met",
        "findings": "met" if check == "footer.house-words" else "excused",
        "cannot-tell": "not known",
        "does-not-apply": "not asked of it",
    }.get(outcome, "not known")


def _place(message: Message, copy: AsReader | None, said: Said) -> int | None:
    """The element of the message itself that holds the words; None where they stand in no HTML."""
    if message.document is None or said.part != "html" or said.span is None:
        return None
    span = copy.in_source(said.span) if copy is not None else said.span
    if span is None:
        return None
    if said.element is not None and copy is None:
        return said.element.index
    return (
        message.document.element_around(span.start)
        if said.link is None
        else message.document.element_before(min(span.start + 1, len(message.document.source.text)))
    )


def _cut(around: Frame, whom: AsWhom, message: Message, copy: AsReader | None) -> Cut | None:
    """The footer of the first render that shows this copy with its pictures, the reference profile before others."""
    ids = [name for name in chosen_profiles(around.mailing.workspace) if profiles()[name].images == "on"]
    rows = Render.objects.filter(revision=around.revision, mode=OWN, state=Render.State.DONE, profile__in=ids, **whom.here)
    shots = {row.profile: row for row in rows.defer("changes")}
    render = shots.get(REFERENCE) or next((shots[name] for name in ids if name in shots), None)
    if render is None or not render.height:
        return None
    layout = render.layout
    shown = [block for block in layout.of("text", "link", "image") if block.width > 0 and block.height > 0]
    # A short message ends before its page does.
    bottom = min(float(layout.height), max((block.bottom for block in shown), default=layout.height) + _ABOVE)
    tops = []
    for demand in ("unsubscribe", "address", "reason", "preferences", "identity"):
        said = footer_of(copy.message if copy is not None else message).said(demand)
        element = _place(message, copy, said) if said is not None else None
        box = _box(layout, message, element)
        if box is not None and box[1] > bottom * _END:
            tops.append(box[1])
    top = max(0.0, min(tops, default=bottom - 300) - _ABOVE)
    height = min(bottom - top, _TALLEST)
    # The column that the words stand in, without the empty ground at its sides.
    blocks = [block for block in shown if block.bottom > top]
    left = max(0.0, min((block.x for block in blocks), default=0.0) - _ABOVE)
    right = min(float(layout.width), max((block.right for block in blocks), default=layout.width) + _ABOVE)
    return Cut(render, layout.width, layout_height=layout.height, left=left, top=top, width=max(right - left, 200.0), height=height)


def _box(layout: Measured, message: Message, element: int | None) -> tuple[float, float, float, float] | None:
    """Where an element is on the page, in CSS px: its own block, or the nearest one around or inside it."""
    if element is None or message.document is None or not 0 <= element < len(message.document.all_elements):
        return None
    blocks = layout.by_element
    node = message.document.all_elements[element]
    for step in (node, *node.elements(), *node.ancestors()):
        if step.index in blocks:
            block = blocks[step.index]
            return block.x, block.y, block.width, block.height
    return None


def _thread(cut: Cut | None, element: int | None, y: float) -> tuple[tuple[float, float, float, float] | None, str]:
    """The box of the words on the cut, in px of the drawing, and the line from it to its demand."""
    if cut is None or element is None:
        return None, ""
    block = cut.render.layout.by_element.get(element)
    box = (block.x, block.y, block.width, block.height) if block is not None else None
    if box is None:
        box = _box(cut.render.layout, message_of(cut.render.revision), element)
    if box is None:
        return None, ""
    left, top = (box[0] - cut.left) * cut.scale, (box[1] - cut.top) * cut.scale
    width, height = box[2] * cut.scale, box[3] * cut.scale
    inside = 0 <= top < cut.drawn[1]
    edge, end_y = cut.drawn[0], y + (_ROOM - 8) / 2
    right = min(left + width, edge)
    # It leaves below the words, so that none of those beside them is crossed out, and bends only beyond the picture.
    start_y = (top + height if right < edge - _ASIDE else top + height / 2) if inside else 2.0
    middle = (edge + _DEMANDS) / 2
    path = f"M{right if inside else edge:.1f} {start_y:.1f}H{edge:.1f}C{middle:.1f} {start_y:.1f} {middle:.1f} {end_y:.1f} {_DEMANDS} {end_y:.1f}"
    return ((round(left, 1), round(top, 1), round(width, 1), round(height, 1)) if inside else None), path


def _lacking(around: Frame, message: Message) -> list[tuple[str, tuple[str, ...]]]:
    """Readers whose copy lacks what the message has: their names, and what their copies lack."""
    rows: dict[tuple[str, ...], list[str]] = {}
    for copy in readers_copies(message, readers_of(around.revision)):
        lacks = tuple(
            words
            for demand, words in (("unsubscribe", "the way out"), ("address", "the postal address"), ("identity", "the sender’s name"))
            if footer_of(message).said(demand) is not None and footer_of(copy.merged.message).said(demand) is None  # type: ignore[arg-type]
        )
        if lacks:
            rows.setdefault(lacks, []).extend(copy.readers)
    return [(", ".join(readers), lacks) for lacks, readers in rows.items()]


STATION = StationPage(SLUG, "previews/footer.html", page)
