"""Run checks over a message. A check that crashes is reported as crashed and the run goes on."""

from __future__ import annotations

import logging
from collections.abc import Collection, Iterator
from dataclasses import replace
from itertools import islice

from jetwind.core.checking.context import Context
from jetwind.core.checking.copies import ReadersCopy, readers_copies, told_of_copies
from jetwind.core.checking.declaration import Check, Options
from jetwind.core.checking.field_texts import uses
from jetwind.core.checking.finding import CannotTell, CheckResult, DoesNotApply, Finding, Hit, Level, Outcome
from jetwind.core.checking.grouping import MOST_PLACES, cause_of, fingerprint, together
from jetwind.core.checking.registry import registry
from jetwind.core.checking.rulebooks import exempt, is_demanded
from jetwind.core.checking.settings import check_settings
from jetwind.core.message import Message

#: Nobody reads more of one kind, and a message made of faults must not fill the database.
MOST_FINDINGS = 500
MOST_HITS = 2_000

logger = logging.getLogger(__name__)


def run(message: Message, context: Context, only: Collection[str] | None = None) -> tuple[CheckResult, ...]:
    """The answers of all checks, or of those in ``only``, sorted by check id.

    Raises:
        KeyError: ``only`` names a check that does not exist.
        UnusableSetting: the context's settings do not fit a check.
    """
    checks = registry()
    chosen = list(checks.values()) if only is None else [checks[check_id] for check_id in sorted(only)]
    context = replace(context, asked=frozenset(one.id for one in chosen))
    return tuple(run_check(chosen_check, message, context) for chosen_check in chosen)


def run_check(declared: Check, message: Message, context: Context) -> CheckResult:
    """The answer of one check."""
    level, options = check_settings(declared, context.settings)
    if level == "off":
        return CheckResult(declared.id, Outcome.DOES_NOT_APPLY, reason="switched off in the settings")
    looked_at = frozenset({"rulebooks", "house"} if is_demanded(declared.id) else {"rulebooks"})
    if exempt(declared.id, context.rulebooks, context.house):
        return CheckResult(declared.id, Outcome.DOES_NOT_APPLY, reason="no chosen rulebook asks for it", used=looked_at)
    changed = Level(level) if level != declared.level else None
    watched = context.watched()
    answer = _answer(declared, message, watched, options, changed)
    return replace(answer, used=looked_at | watched.used)


def _answer(declared: Check, message: Message, context: Context, options: Options, changed: Level | None) -> CheckResult:
    try:
        hits, unseen = _until_it_cannot_tell(declared.find(message, context, options), MOST_HITS + 1)
        faults = list(_complete(declared, message, hits[:MOST_HITS], changed))
        of_copies = (
            list(_of_copies(declared, message, context=context, options=options, changed=changed, own=faults)) if declared.merged else []
        )
        findings = tuple(islice((*together(declared, faults), *together(declared, of_copies)), MOST_FINDINGS + 1))
        most = MOST_FINDINGS if len(findings) > MOST_FINDINGS else MOST_HITS if len(hits) > MOST_HITS else 0
        findings = findings[:MOST_FINDINGS]
    except DoesNotApply as answer:
        return CheckResult(declared.id, Outcome.DOES_NOT_APPLY, reason=str(answer))
    except CannotTell as answer:
        return CheckResult(declared.id, Outcome.CANNOT_TELL, reason=str(answer))
    except Exception as crash:
        logger.exception("check crashed", extra={"action": "check.crashed", "check": declared.id})
        return CheckResult(declared.id, Outcome.CRASHED, reason=f"{type(crash).__name__}: {crash}")
    reason = f"there are more; the first {most:,} are shown" if most else unseen
    return CheckResult(declared.id, Outcome.FINDINGS if findings else Outcome.CLEAR, findings, reason)


def _until_it_cannot_tell(found: Iterator[Hit], most: int) -> tuple[list[Hit], str]:
    """The hits, and what could not be told of the rest: some pictures may have been fetched and others not.

    Raises:
        CannotTell: nothing was found before.
    """
    hits: list[Hit] = []
    try:
        for hit in islice(found, most):
            hits.append(hit)
    except CannotTell as rest:
        if not hits:
            raise
        return hits, f"of the rest nothing can be told: {rest}"
    return hits, ""


def _of_copies(
    declared: Check, message: Message, context: Context, options: Options, changed: Level | None, own: list[Finding]
) -> Iterator[Finding]:
    """The hits of the check in the copies that sample readers get and not in the message itself."""
    if not uses(message):
        return
    found: list[tuple[ReadersCopy, Finding]] = []
    for copy in readers_copies(message, context.readers):
        try:
            hits, _ = _until_it_cannot_tell(declared.find(copy.merged.message, context, options), MOST_HITS)
        except (DoesNotApply, CannotTell):
            continue
        found += ((copy, finding) for finding in _complete(declared, copy.merged.message, hits, changed))
    yield from told_of_copies(found, message, own)


def _complete(declared: Check, message: Message, hits: list[Hit], changed: Level | None) -> Iterator[Finding]:
    """Faults of hits: those of one identity are one fault with several places, as heavy as the heaviest of them."""
    same: dict[str, list[Hit]] = {}
    for hit in hits:
        identity = hit.identity if hit.identity is not None else _source_at(message, hit)
        same.setdefault(" ".join(identity.split()), []).append(hit)
    for identity, group in same.items():
        level = min((hit.level or declared.level for hit in group), key=list(Level).index)
        first = next(hit for hit in group if (hit.level or declared.level) is level)
        places = dict.fromkeys(place for hit in (first, *group) for place in (hit.place, *hit.also))
        yield Finding(
            check=declared.id,
            level=changed or level,
            template=first.message,
            data=dict(first.data),
            place=first.place,
            fix=first.fix or declared.fix,
            basis=declared.basis,
            fingerprint=fingerprint(declared.id, identity),
            others=tuple(islice(places, 1, MOST_PLACES)),
            more=max(0, len(places) - MOST_PLACES),
            cause=cause_of(declared, first.cause, first.among),
            several=declared.together.get(first.cause, ""),
        )


def _source_at(message: Message, hit: Hit) -> str:
    place = hit.place
    source = {
        "html": message.html.source if message.html else None,
        "text": message.text.source if message.text else None,
        "header": message.header_source,
    }.get(place.part)
    if source is None or place.start is None or place.end is None:
        return f"{place.part}:{place.name}"
    return f"{place.part}:{place.name}:{source.text[place.start.offset : place.end.offset]}"
