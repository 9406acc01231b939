"""The Plain text station: both texts side by side, sentence by sentence, and the plain text made afresh."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest

from jetwind.apps.review.selectors import Walk
from jetwind.core.message import Message
from jetwind.core.prose.alignment import LIKE, Pair, Shingles, align, html_sentences, text_sentences
from jetwind.core.prose.plain import plain_from_html

_MOST_ROWS = 600


def page(request: HttpRequest, walk: Walk, message: Message) -> dict[str, Any]:
    """What the station's template needs."""
    html, text = html_sentences(message), text_sentences(message)
    pairs = align(html, text)[:_MOST_ROWS]
    of_html, of_text = Shingles(html), Shingles(text)
    source = message.text.source if message.text else None
    rows = []
    for pair in pairs:
        line = source.position(pair.text.span.start).line if source and pair.text and pair.text.span else ""
        state = _state(pair, of_html, of_text)
        rows.append((state, state in ("same", "elsewhere"), pair, line))
    return {
        "rows": rows,
        "lacking": sum(state == "only in the HTML" for state, *_ in rows),
        "extra": sum(state == "only in the plain text" for state, *_ in rows),
        "changed": sum(state == "worded otherwise" for state, *_ in rows),
        "has_html": message.html is not None,
        "has_text": message.text is not None,
        "afresh": plain_from_html(message) if message.html is not None else "",
    }


def _state(pair: Pair, of_html: Shingles, of_text: Shingles) -> str:
    """What a row says. A sentence without its like in the same place may still stand elsewhere on the other side."""
    if pair.likeness == 1:
        return "same"
    if pair.html is not None and pair.text is not None:
        return "worded otherwise"
    if pair.html is not None:
        return "elsewhere" if of_text.share(pair.html) >= LIKE else "only in the HTML"
    assert pair.text is not None
    return "elsewhere" if of_html.share(pair.text) >= LIKE else "only in the plain text"
