"""The copy that spam risk is judged by: what a sender says, without what a rulebook makes everybody say."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from jetwind.core.checking.copy import Copy, html, plain_text
from jetwind.core.facts import phrase_pattern
from jetwind.core.message import Message, Shared
from jetwind.core.prose.passages import sentences
from jetwind.core.prose.postal import postal_address

_SPOKEN: Shared[tuple[Copy, ...]] = Shared("spoken")

#: What links and sentences are there for that laws and readers ask of everybody: they say nothing of who sends.
_DEMANDED = ("unsubscribe", "preferences", "view_in_browser", "legal", "contact", "reason")
#: Without figures like these a sentence holds no postal address; asking costs little.
_CODE = re.compile(r"\b\d{4,6}\b|\b[A-Z]{1,2}\d[A-Z\d]?\s?\d[A-Z]{2}\b|\b\d{3}[ -]\d{2,4}\b")

#: Characters of a longer sentence say more than what is demanded, or there is no sentence at all.
_LONGEST = 400


def spoken(message: Message) -> Iterator[Copy]:
    """The visible copy, sentence by sentence, of the HTML, or of the plain text where there is none; fields are filler.

    Sentences by which a reader leaves the list, chooses, reads in a browser, finds terms or is told why they get it are left out, and so are
    those that hold the sender's postal address.
    """
    return iter(message.shared(_SPOKEN, lambda: tuple(_spoken(message))))


def _spoken(message: Message) -> Iterator[Copy]:
    copies = list(html(message) if message.html is not None else plain_text(message))
    # Which phrases occur at all is found out once: a message holds few of the hundreds.
    whole = "\n".join(copy.text for copy in copies)
    patterns = [found for key in _DEMANDED if (found := phrase_pattern("phrases", key).within(whole)) is not None]
    for copy in copies:
        for span in sentences(copy.text):
            text = copy.text[span.start : span.end]
            is_demanded = any(pattern.search(text) for pattern in patterns) or (_CODE.search(text) and postal_address(text))
            if not is_demanded or len(text) > _LONGEST:
                yield _part(copy, span.start, span.end)


def _part(copy: Copy, start: int, end: int) -> Copy:
    if start == 0 and end == len(copy.text):
        return copy
    return replace(
        copy, text=copy.text[start:end], written=copy.written[start:end], place=lambda first, last: copy.place(start + first, start + last)
    )
