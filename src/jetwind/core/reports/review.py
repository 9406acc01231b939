"""One review: the message, the answers of all checks, and the spam sum."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

from jetwind.core.checking import CheckResult, Context, Finding, Level, run
from jetwind.core.links import links
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.spam import SpamSum, scores_of_others, spam_sum

_WEIGHT = {Level.STOP: 0, Level.FIX: 1, Level.NOTE: 2}


@dataclass(frozen=True, slots=True)
class Summary:
    """A report's facts of the message itself that have to be worked out: the preview text, the number of links, the weight of pictures in octets."""

    preview_text: str
    links: int
    picture_octets: int = 0


def summary_of(message: Message) -> Summary:
    """The summary of a message."""
    return Summary(reading_of(message).preview_text, sum(1 for _ in links(message)), message.loaded_octets)


@dataclass(frozen=True)
class Review:
    """The answers of all checks about one message."""

    message: Message
    results: tuple[CheckResult, ...]
    spam: SpamSum
    summary: Summary

    @property
    def findings(self) -> list[Finding]:
        """All findings, stops first, then in the order of checks and places."""
        found = [finding for result in self.results for finding in result.findings]
        return sorted(
            found, key=lambda finding: (_WEIGHT[finding.level], finding.check, finding.place.start.offset if finding.place.start else -1)
        )

    @property
    def has_stop(self) -> bool:
        """Whether anything forbids the release."""
        return any(finding.level is Level.STOP for finding in self.findings)

    @property
    def unlooked(self) -> list[str]:
        """Checks that looked at nothing to the end: they ran out of time or memory, or crashed. They never count as clear."""
        return [result.check for result in self.results if result.outcome.is_unlooked]


def review(message: Message, context: Context, only: Collection[str] | None = None) -> Review:
    """Run all checks, or those in ``only``, over a message.

    Raises:
        KeyError: ``only`` names a check that does not exist.
        UnusableSetting: the context's settings do not fit a check.
    """
    results = run(message, context, only)
    spam = replace(spam_sum(message, context), others=scores_of_others(message, context))
    return Review(message, results, spam, summary_of(message))
