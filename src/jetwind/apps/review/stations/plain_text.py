"""The Plain text station: both texts side by side, sentence by sentence, and the plain text made afresh."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import path
from django.views.decorators.http import require_http_methods

from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.intake.services import add_revision
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.core.message import Message, Shared
from jetwind.core.prose.alignment import LIKE, Pair, Shingles, align, html_sentences, text_sentences
from jetwind.core.prose.plain import plain_from_html, with_plain_text

_PAGE: Shared[Page] = Shared("page of the plain text")

_MOST_ROWS = 600


@dataclass(frozen=True, slots=True)
class Page:
    """Sentences of both texts in rows: what a row says, whether its sides agree, the pair, and its line in the plain text."""

    rows: list[tuple[str, bool, Pair, int | str]]
    #: How many sentences stand on one side only, or are worded otherwise on the other.
    lacking: int
    extra: int
    changed: int
    has_html: bool
    has_text: bool
    #: The plain text made of the HTML.
    afresh: str


def page(request: PersonRequest, around: Frame) -> Page:
    """Both texts, sentence by sentence."""
    message = message_of(around.revision)
    return message.shared(_PAGE, lambda: _page(message))


def _page(message: Message) -> Page:
    html, text = html_sentences(message), text_sentences(message)
    pairs = align(html, text)[:_MOST_ROWS]
    of_html, of_text = Shingles(html), Shingles(text)
    source = message.text.source if message.text else None
    rows: list[tuple[str, bool, Pair, int | str]] = []
    for pair in pairs:
        line = source.position(pair.text.span.start).line if source and pair.text and pair.text.span else ""
        state = _state(pair, of_html, of_text)
        rows.append((state, state in ("same", "elsewhere"), pair, line))
    return Page(
        rows,
        lacking=sum(state == "only in the HTML" for state, *_ in rows),
        extra=sum(state == "only in the plain text" for state, *_ in rows),
        changed=sum(state == "worded otherwise" for state, *_ in rows),
        has_html=message.html is not None,
        has_text=message.text is not None,
        afresh=plain_from_html(message) if message.html is not None else "",
    )


def _state(pair: Pair, of_html: Shingles, of_text: Shingles) -> str:
    """The kind of a row. A sentence without its like in the same place may still stand elsewhere on the other side."""
    if pair.likeness == 1:
        return "same"
    if pair.html is not None and pair.text is not None:
        return "worded otherwise"
    if pair.html is not None:
        return "elsewhere" if of_text.share(pair.html) >= LIKE else "only in the HTML"
    assert pair.text is not None
    return "elsewhere" if of_html.share(pair.text) >= LIKE else "only in the plain text"


@require_http_methods(["GET", "POST"])
@asks("mailing:view", send="mailing:change")
@once
def plain_text_afresh(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """The plain text made afresh from the HTML: GET saves it as a file, POST makes it the next revision."""
    revision = revision_for(request.user, mailing_id, number)
    message = message_of(revision)
    if message.html is None:
        raise Refused("The message has no HTML from which plain text could be made.")
    text = plain_from_html(message)
    if request.method == "GET":
        response = HttpResponse(text, content_type="text/plain; charset=utf-8")
        response["Content-Disposition"] = f'attachment; filename="message-{mailing_id}-r{number}.txt"'
        return response
    newest = revision.mailing.revisions.last()
    if newest is None or newest.pk != revision.pk:
        raise Refused(f"Revision {number} is not the newest; make the text from the newest one.")
    data = with_plain_text(message, text)
    name = revision.file_name if message.form == "eml" else f"{revision.file_name.rpartition('.')[0] or 'message'}.zip"
    made = add_revision(request.user, revision.mailing, data, name)
    messages.success(request, f"Revision {made.number} has the plain text made afresh.")
    return redirect(station_address(made, "plain-text"))


STATION = StationPage(
    "plain-text",
    "review/plain_text.html",
    page,
    routes=(path("plain-text-afresh/", plain_text_afresh, name="plain-text-afresh"),),
)
