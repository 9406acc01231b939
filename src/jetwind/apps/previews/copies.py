"""A message as it is rendered for one reader, held by a helper: the process that asks for renders never has it.

While the browser works, a helper that holds much memory is ended: the two together would take more than a worker may. The next question
begins another, which makes the copy anew.
"""

from __future__ import annotations

import hashlib
import json
import logging
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.previews.as_whom import AsWhom
from jetwind.apps.workspace.desk import Held, at_the_workbench
from jetwind.core.images.elsewhere import remote_pictures
from jetwind.core.message import Message
from jetwind.core.profiles import Change, Rewriter
from jetwind.core.readers import as_reader
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.led_back import ElementsBack, LedBack
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Shown
from jetwind.core.renders.spoken import Spoken
from jetwind.engines.bounded import REWRITING, BoundedRewriter, Budget, PastBudget
from jetwind.engines.browser import ALL_SECONDS, Capture, CaptureRequest, Captures

logger = logging.getLogger(__name__)

#: Seconds of processor time until a copy can be rewritten: it is read, filled for its reader, and the way back from it is found.
_MAKING_S = 20.0
#: How often a copy may be made, at its longest: at first, and again after the browser had the memory.
_MAKINGS = 4
#: The budget of a helper that holds a copy.
COPYING = Budget(
    answer_seconds=_MAKING_S,
    all_seconds=_MAKINGS * _MAKING_S + REWRITING.all_seconds,
    memory=REWRITING.memory,
    clock_seconds=_MAKING_S * 6,
)
#: Octets that the helper may have for itself while the browser works; that of a large newsletter has 25 million.
MOST_BESIDE_THE_BROWSER = 80_000_000

#: Called before a copy is rendered, with the addresses of its pictures that lie elsewhere and a function that reports.
before_renders: list[Callable[[Revision, Sequence[str], Callable[[str], None]], None]] = []
#: What apps above add to a message before it is rewritten: its pictures that were fetched.
kept_pictures: list[Callable[[Revision, Message], Message]] = []


@dataclass(frozen=True, slots=True)
class Made:
    """The values that the helper holds: the message, its copy for a reader, and the way back from the copy; None where the copy is the message."""

    source: Message
    message: Message
    led_back: LedBack | None


@dataclass(frozen=True, slots=True)
class Facts:
    """Facts of a copy. ``elements`` counts its elements, 0 without HTML. ``key`` changes with everything that its renders depend on.

    ``back`` leads its elements back to the message that the copy was made from; None where the copy is the message.
    """

    elements: int
    key: str
    back: ElementsBack | None


class Copy:
    """A reader's copy, and the way back to the message that it was merged from."""

    def __init__(self, whom: AsWhom, held: Held) -> None:
        self.whom = whom
        self._held = held
        self.facts: Facts = self._ask(_facts)
        self.rewriter: Rewriter = BoundedRewriter(_ItsMessage(self._ask))

    @property
    def is_led(self) -> bool:
        """Whether places are led back to another message."""
        return self.facts.back is not None

    def measured(self, found: Measured) -> Measured:
        """The measurements, with elements of the message itself."""
        return self.facts.back.measured(found) if self.facts.back is not None else found

    def elements(self, found: Sequence[int]) -> list[int]:
        """Elements of the message for elements of the copy, one for one; -1 for what no element of the message stands for."""
        return [self.facts.back.element(element) for element in found] if self.facts.back is not None else list(found)

    def enlarged(self, found: tuple[Loss, ...]) -> tuple[Loss, ...]:
        """The losses with larger text, with elements of the message itself."""
        return self.facts.back.enlarged(found) if self.facts.back is not None else found

    def changes(self, found: Sequence[Change]) -> list[list[Any]]:
        """The changes that a client makes, as rows to be kept: kind, feature, title, start and end in the source."""
        return self._ask(_changes, tuple(found)) if self.is_led else _changes(None, found)

    def shown(self, found: Sequence[Shown]) -> list[Shown]:
        """Losses that show, with places of the message itself."""
        return self._ask(_shown, list(found)) if self.is_led else list(found)

    def beside(self, browser: Captures) -> Captures:
        """The browser, before which the helper gives way where it holds much memory."""
        return _GivesWay(self._held, browser)

    def _ask(self, question: Callable[..., Any], *args: Any) -> Any:
        # The first question to a helper makes the copy.
        return self._held.within(REWRITING.answer_seconds if self._held.lives else _MAKING_S).ask(question, *args)


class _GivesWay:
    """Asks the browser after the helper of a copy has given its memory back."""

    def __init__(self, held: Held, browser: Captures) -> None:
        self._held, self._browser = held, browser

    def capture_all(
        self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool], seconds: float = ALL_SECONDS
    ) -> None:
        self._held.rest(MOST_BESIDE_THE_BROWSER)
        self._browser.capture_all(requests, done, seconds)

    def spoken(self, request: CaptureRequest, seconds: float) -> tuple[Spoken, ...] | None:
        self._held.rest(MOST_BESIDE_THE_BROWSER)
        return self._browser.spoken(request, seconds)

    def enlarged(self, request: CaptureRequest, seconds: float) -> tuple[Loss, ...] | None:
        self._held.rest(MOST_BESIDE_THE_BROWSER)
        return self._browser.enlarged(request, seconds)


class _ItsMessage:
    """Answers questions about the message of a copy; the rewriter knows nothing of the way back."""

    def __init__(self, ask: Callable[..., Any]) -> None:
        self._ask = ask

    def ask(self, question: Any, *args: Any, **kwargs: Any) -> Any:
        return self._ask(_of_message, question, args, kwargs)


@contextmanager
def copy_for(revision: Revision, whom: AsWhom, report: Callable[[str], None]) -> Iterator[Copy]:
    """A revision as a reader gets it, with its pictures that lie elsewhere as far as they came.

    Raises:
        Failed: the copy cannot be made within its limits.
    """
    addresses: list[str] = []
    if before_renders:
        try:
            addresses = at_the_workbench(addresses_of_pictures, revision.pk, whom)
        except jobs.Failed as failed:
            # The message is rendered all the same, without them.
            logger.warning("pictures from elsewhere cannot be listed: %s", failed, extra={"action": "pictures.past-budget"})
    for fetch in before_renders if addresses else ():
        fetch(revision, addresses, report)
    try:
        held = Held(made, revision.pk, whom, budget=COPYING)
        with held:
            yield Copy(whom, held)
    except PastBudget as past:
        raise jobs.Failed(f"The message cannot be rendered: {past}.") from past


def addresses_of_pictures(revision_id: int, whom: AsWhom) -> list[str]:
    """The addresses of the pictures of a copy that lie elsewhere and show something."""
    return [one.address for one in remote_pictures(_merged(message_of(numbered(revision_id)), whom).message) if not one.is_tracking]


def made(revision_id: int, whom: AsWhom) -> Made:
    """A revision as a reader gets it, with the pictures that were fetched."""
    revision = numbered(revision_id)
    return made_of(revision, message_of(revision), whom)


def made_of(revision: Revision, message: Message, whom: AsWhom) -> Made:
    """A changed copy of a revision's message as a reader gets it, with the pictures that were fetched for the revision."""
    merged = _merged(message, whom)
    return Made(merged.source, _with_pictures(revision, merged.message), merged.led_back)


def _with_pictures(revision: Revision, message: Message) -> Message:
    for add in kept_pictures:
        message = add(revision, message)
    return message


def _merged(source: Message, whom: AsWhom) -> Made:
    if whom.sample is None:
        return Made(source, source, None)
    merged = as_reader(source, whom.sample)
    return Made(source, merged.message, LedBack(source, merged))


def _facts(copy: Made) -> Facts:
    message, document = copy.message, copy.message.document
    pictures = (*message.images, *message.fetched.values())
    asked = [message.html.text if message.html else "", sorted(picture.sha256 for picture in pictures)]
    asked.append(copy.source.sha256 if copy.led_back is not None else "")
    key = hashlib.sha256(json.dumps(asked).encode("utf-8", "surrogatepass")).hexdigest()
    back = copy.led_back.elements if copy.led_back is not None else None
    return Facts(len(document.all_elements) if document is not None else 0, key, back)


def _of_message(copy: Made, question: Callable[..., Any], args: tuple[Any, ...], kwargs: Mapping[str, Any]) -> Any:
    return question(copy.message, *args, **kwargs)


def _way_back(copy: Made) -> LedBack:
    assert copy.led_back is not None
    return copy.led_back


def _changes(copy: Made | None, found: Sequence[Change]) -> list[list[Any]]:
    rows: list[list[Any]] = []
    for change in found:
        span = change.span if copy is None or change.span is None else _way_back(copy).span(change.span)
        place = [span.start, span.end] if span is not None else [None, None]
        rows.append([change.kind, change.feature, change.title.replace("\0", ""), *place])
    return rows


def _shown(copy: Made, found: list[Shown]) -> list[Shown]:
    return [_way_back(copy).shown(one) for one in found]
