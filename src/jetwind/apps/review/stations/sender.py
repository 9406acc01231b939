"""The sender's papers: a chain of who vouches for whom, every look-up with its answer, and what to publish where it fails."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import path
from django.views.decorators.http import require_POST

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.review import sender_papers
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.station_page import Tool
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.core.message import Message
from jetwind.core.papers import Dkim, Lookup, Papers, Signing, aligned, sender_domain
from jetwind.core.papers.records import dkim_to_publish, dmarc_to_publish, spf_to_publish
from jetwind.core.source import Excerpt, Span

_SLUG = "sender"
State = Literal["holds", "fails", "unknown"]
#: Px of the drawing: its width, the columns, and what a box takes.
_WIDE, _COLUMNS, _PARTY_WIDE, _PARTY_TALL, _ROW = 724, (2, 286, 552), 170, 46, 96
_LONGEST = 30


@dataclass(frozen=True, slots=True)
class Party:
    """Somebody in the chain: who it is, in which role, and where it is drawn, in px."""

    title: str
    text: str
    state: State
    x: float
    y: float
    width: float = _PARTY_WIDE
    height: float = _PARTY_TALL


@dataclass(frozen=True, slots=True)
class Vouch:
    """One vouches for another: in words, whether it holds, and the line between the two, in px."""

    words: str
    state: State
    x1: float
    y1: float
    x2: float
    y2: float

    @property
    def middle(self) -> tuple[float, float]:
        """The middle of the line."""
        return ((self.x1 + self.x2) / 2, (self.y1 + self.y2) / 2)

    @property
    def words_at(self) -> tuple[float, float]:
        """Where the words stand: above the line, or below one that rises."""
        x, y = self.middle
        return x, y + (22 if self.y2 < self.y1 else -12 if self.y2 > self.y1 else -7)


@dataclass(frozen=True, slots=True)
class Publish:
    """A record that would mend something: its name, and the record as text."""

    why: str
    name: str
    record: str


@dataclass(frozen=True, slots=True)
class SenderChain:
    """The answers of the name records: the papers, the chain of who vouches for whom, every look-up, what to publish, where it stands in the source."""

    papers: Papers
    parties: list[Party]
    vouches: list[Vouch]
    #: Of the drawing, in px.
    size: tuple[float, float]
    lookups: list[tuple[str, Lookup]]
    publish: list[Publish]
    places: list[tuple[str, Excerpt]]


@dataclass(frozen=True, slots=True)
class Page:
    """The sender's domain, of whom the records are asked, what the workspace says of its signing; and what came of asking, once that was done."""

    domain: str
    asks_of: str
    signing: Signing
    asked: SenderChain | None


def page(request: PersonRequest, around: Frame) -> Page:
    """Who vouches for the sender of a revision."""
    revision = around.revision
    message = message_of(revision)
    kept = sender_papers.kept_papers(revision)
    asked = None
    if kept:
        papers = Papers.from_json(kept)
        parties, vouches, height = chain(papers)
        size = (float(_WIDE), height)
        asked = SenderChain(
            papers,
            parties,
            vouches=vouches,
            size=size,
            lookups=_lookups(papers),
            publish=list(_to_publish(papers)),
            places=_places(message, papers),
        )
    return Page(sender_domain(message), sender_papers.asks_of(revision), sender_papers.signing_of(revision), asked)


@require_POST
@asks(send="review:look")
@once
def ask(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Have the name records asked again."""
    revision: Revision = revision_for(request.user, mailing_id, number)
    sender_papers.ask_anew(request.user, revision)
    messages.success(request, "The name records are asked again, in the background.")
    return redirect(station_address(revision, _SLUG))


def chain(papers: Papers) -> tuple[list[Party], list[Vouch], float]:
    """The chain as parties and lines, and how tall it is in px."""
    dmarc, spf = papers.dmarc, papers.spf
    rows = max(2, 1 + len(papers.dkim[:4]))
    middle = 14 + (rows - 1) * _ROW / 2
    left, centre, right = _COLUMNS
    parties: list[Party] = []
    vouches: list[Vouch] = []
    passes = bool(dmarc and dmarc.aligned and dmarc.record and not dmarc.why)
    if spf is not None:
        state: State = "holds" if spf.result == "pass" else "unknown" if spf.result == "temperror" or not spf.host else "fails"
        parties.append(Party("Sending host", spf.host or "not named", state, left, 14))
        parties.append(Party(f"SPF record, {spf.identity}", spf.domain, "holds" if spf.record else "fails", centre, 14))
        vouches.append(_between(f"SPF says {spf.result}" if spf.host else "no host to ask for", state, parties[0], parties[1]))
        lines_up: State = "unknown" if state == "unknown" else "holds" if dmarc and "SPF" in dmarc.aligned else "fails"
        vouches.append(
            Vouch(
                _said_of(lines_up, state),
                lines_up,
                x1=centre + _PARTY_WIDE,
                y1=37,
                x2=right,
                y2=middle + 23,
            )
        )
    for number, one in enumerate(papers.dkim[:4], 1):
        top = 14 + number * _ROW
        state = "holds" if one.result in ("pass", "planned") else "unknown" if one.result == "temperror" else "fails"
        name = "Signature to come" if papers.is_planned else f"Signature {number}" if len(papers.dkim) > 1 else "Signature"
        one_box = Party(name, f"selector {one.selector}" if one.selector else one.why, state, left, top)
        key_box = Party("Key of", one.domain or "nobody", _key_state(one, state), centre, top)
        parties += [one_box, key_box]
        said = {"pass": "DKIM verifies", "planned": "key is published", "temperror": "nobody answered"}.get(one.result, "DKIM fails")
        vouches.append(_between(said, state, one_box, key_box))
        fits = state == "holds" and dmarc is not None and "DKIM" in dmarc.aligned and aligned(one.domain, dmarc.domain, strict=False)
        fit: State = "holds" if fits else "unknown" if state == "unknown" else "fails"
        vouches.append(Vouch(_said_of(fit, state), fit, x1=centre + _PARTY_WIDE, y1=top + 23, x2=right, y2=middle + 23))
    if not papers.dkim:
        parties.append(Party("Signature", "none yet", "unknown", left, 14 + _ROW))
    parties.append(
        Party(
            "From",
            papers.domain,
            "holds" if passes else "fails" if dmarc and (not dmarc.record or not dmarc.aligned) else "unknown",
            right,
            middle,
        )
    )
    if dmarc is not None:
        text = f"asks for {dmarc.policy}" if dmarc.policy else "no usable record"
        parties.append(
            Party("DMARC record", text, "holds" if dmarc.record and not dmarc.why else "fails", right, middle + _PARTY_TALL + 10)
        )
    return parties, vouches, max(14 + rows * _ROW, middle + 2 * _PARTY_TALL + 30)


def _key_state(one: Dkim, state: State) -> State:
    """How the key of a signature stands: it fails where its record does, and nobody knows it where the signature itself is at fault."""
    if state != "fails":
        return state
    return "fails" if "record" in one.why or "key" in one.why else "unknown"


def _said_of(fit: State, vouched: State) -> str:
    """The words of the line from a domain to From: whether it counts, given whether the domain vouched at all."""
    if fit == "fails":
        return "not aligned" if vouched == "holds" else "does not count"
    return "aligned" if fit == "holds" else "not known"


def _between(words: str, state: State, one: Party, other: Party) -> Vouch:
    return Vouch(words, state, x1=one.x + one.width, y1=one.y + one.height / 2, x2=other.x, y2=other.y + other.height / 2)


def _lookups(papers: Papers) -> list[tuple[str, Lookup]]:
    """Every look-up with what it was for, in the order in which they were made."""
    found: list[tuple[str, Lookup]] = []
    found += [("SPF", one) for one in (papers.spf.lookups if papers.spf else ())]
    found += [("DKIM", one) for signed in papers.dkim for one in signed.lookups]
    found += [("DMARC", one) for one in (papers.dmarc.lookups if papers.dmarc else ())]
    found += [("BIMI", one) for one in (papers.bimi.lookups if papers.bimi else ())]
    return found


def _to_publish(papers: Papers) -> Iterator[Publish]:
    spf, dmarc = papers.spf, papers.dmarc
    if spf is not None and spf.result in ("none", "fail", "softfail", "neutral") and (spf.host or spf.result == "none"):
        yield Publish("So that SPF passes for the sending host", spf.domain, spf_to_publish(spf))
    for one in papers.dkim:
        if "record" in one.why:
            where, _, record = dkim_to_publish(one).removeprefix("Publish as TXT at ").partition(": ")
            yield Publish("So that the signature can be verified", where, record)
    if dmarc is not None and (not dmarc.record or dmarc.why):
        yield Publish("So that receivers know what to do", f"_dmarc.{dmarc.organisation}", dmarc_to_publish(dmarc))


def _places(message: Message, papers: Papers) -> list[tuple[str, Excerpt]]:
    """The place in the header of each paper."""
    found: list[tuple[str, Excerpt]] = []
    for name in ("From", "Return-Path", "DKIM-Signature"):
        for header in list(message.header_fields(name))[:4]:
            if header.span is not None:
                span = Span(header.span.start, min(header.span.end, header.span.start + 400))
                found.append((name, message.header_source.excerpt(span, lines=0, width=400)))
    return found


TOOL = Tool(
    _SLUG,
    "test-sends",
    label="The sender’s papers",
    template="review/sender.html",
    page=page,
    routes=(path("sender/ask/", ask, name="ask-sender"),),
)
