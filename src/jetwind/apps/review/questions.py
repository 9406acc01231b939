"""The question about a revision: its content, and the circumstances that an answer depends on.

An answer holds as long as the circumstances that its check looked at stay as they are. So each circumstance is as narrow as an answer
needs it: not all titles of the house, but whether this one is taken; not the whole word list, but those of its words that occur.

Facts of the machine that answered are circumstances, too (decision 0034): the code of the check, the dictionaries of the languages that it
read, the program that read pictures. Each is kept by its value, since a machine that has others makes no answer worse.
"""

from __future__ import annotations

import dataclasses
import hashlib
import html
import json
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any

from django.utils import timezone

from jetwind.apps.intake.known import ALIKE_TITLES, SAMPLE_READERS
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import machines
from jetwind.apps.review.known import MACHINES
from jetwind.apps.review.models import CheckRun
from jetwind.apps.workspace.rulebooks import rulebooks_for
from jetwind.core.checking import Brief, Check, Context, Kind, Outcome, registry
from jetwind.core.checking.context import WORDS_OF
from jetwind.core.message import Message, Sample
from jetwind.engines.dictionaries import Installed
from jetwind.engines.machine import MachineFacts

#: What apps above know of a revision that checks read: values of the context by name.
circumstances: list[Callable[[Revision], dict[str, Any]]] = []
#: What apps above add to the message itself before it is checked, such as its pictures that were fetched; covered by a circumstance's key.
additions: list[Callable[[Revision, Message], Message]] = []


def message_to_check(revision: Revision) -> Message:
    """The message with all that is known of it."""
    return with_additions(revision, message_of(revision))


def with_additions(revision: Revision, message: Message) -> Message:
    """The message of a revision, or a changed copy of it, with what apps above know of it."""
    for add in additions:
        message = add(revision, message)
    return message


def context_of(revision: Revision) -> Context:
    """The circumstances under which a revision is checked now."""
    mailing, workspace = revision.mailing, revision.mailing.workspace
    readers = readers_of(revision)
    fields = frozenset(workspace.field_list) | {"email", "time_zone"}
    source = None
    if mailing.copied_from is not None:
        mailing.copied_from.workspace = workspace
        source = mailing.copied_from.revisions.last()
    known: dict[str, Any] = {}
    for tell in circumstances:
        known |= tell(revision)
    return Context(
        **known,
        kind=Kind(mailing.kind),
        planned=mailing.planned_at,
        now=timezone.now(),
        local_time=mailing.local_time,
        working_title=mailing.title,
        taken_titles=_taken_titles(revision),
        previous=message_of(source) if source is not None else None,
        brief=Brief.from_dict(mailing.brief),
        word_list=_words_that_occur(frozenset(word.casefold() for word in workspace.word_list), message_of(revision)),
        dictionaries=Installed(),
        readers=readers,
        known_fields=fields if workspace.field_list or readers else None,
        practice_domains=frozenset(workspace.practice_domains),
        rulebooks=frozenset(workspace.rulebooks),
        house=rulebooks_for(workspace, mailing.kind, mailing.countries, (mailing.planned_at or timezone.now()).date()),
        settings=workspace.check_settings,
    )


def readers_of(revision: Revision) -> tuple[Sample, ...]:
    """The sample readers of a revision's house, as messages are merged for them."""
    return tuple(Sample(row["name"], {name: str(value) for name, value in _values_of(row).items()}) for row in SAMPLE_READERS.of(revision))


def _values_of(reader: Mapping[str, Any]) -> dict[str, Any]:
    return {**reader["values"], "email": reader["email"], "time_zone": reader["time_zone"]}


def _taken_titles(revision: Revision) -> frozenset[str]:
    """Titles of other messages that are this message's title but for capitals and blanks."""
    own = " ".join(revision.mailing.title.split()).casefold()
    return frozenset(title for title in ALIKE_TITLES.of(revision) if " ".join(title.split()).casefold() == own)


def _words_that_occur(words: frozenset[str], message: Message) -> frozenset[str]:
    if not words:
        return words
    parts = [message.subject, *message.subjects]
    parts += [message.html.text, _without_markup(message.html.text)] if message.html else []
    parts += [message.text.text] if message.text else []
    everything = "\n".join(parts).casefold()
    return frozenset(word for word in words if word in everything)


#: A tag, a comment, or a character that is not seen inside a word.
_UNSEEN = re.compile("<[^<>]{0,4000}>|[\u00ad\u200b-\u200d\u2060\ufeff]")


def _without_markup(source: str) -> str:
    """HTML as its letters follow one another: what parts a word there does not part it for a reader. No tree is built for it."""
    return _UNSEEN.sub("", html.unescape(_UNSEEN.sub("", source)))


#: Circumstances that are compared by something else than themselves. All others are plain values, or sets of such.
_AS_PLAIN: dict[str, Callable[[Context], Any]] = {
    # The clock runs on; what an answer depends on is whether the planned time has passed.
    "now": lambda context: context.planned is not None and context.now is not None and context.planned < context.now,
    "planned": lambda context: [context.planned.isoformat(), str(context.planned.date())] if context.planned else None,
    "previous": lambda context: context.previous.sha256 if context.previous else None,
    "readers": lambda context: [[reader.name, dict(reader.values)] for reader in context.readers],
    "house": lambda context: [book.key for book in context.house],
    "brief": lambda context: context.brief.as_dict(),
    # What lies in the database is told by its key, without being read.
    "renders": lambda context: context.key_of("renders"),
    "answers": lambda context: context.key_of("answers"),
    "picture_words": lambda context: context.key_of("picture_words"),
    "papers": lambda context: context.key_of("papers"),
    "arrivals": lambda context: context.key_of("arrivals"),
}


def _plain(context: Context, name: str) -> Any:
    """One circumstance as a value that can be compared and kept."""
    if name in _AS_PLAIN:
        return _AS_PLAIN[name](context)
    value = getattr(context, name)
    return sorted(value) if isinstance(value, frozenset) else value


def _digest(value: Any) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True, default=str).encode()).hexdigest()


class Question:
    """A revision under circumstances. Equal keys have equal answers.

    ``machines`` are the facts of the machines that may have answered: of this worker, where it answers itself.
    """

    def __init__(self, revision: Revision, context: Context, machines: Sequence[MachineFacts]) -> None:
        self.revision, self.context, self.machines = revision, context, tuple(machines)
        self._parts: dict[str, str] = {}

    @cached_property
    def key(self) -> str:
        """SHA-256 over content, circumstances, and what the first of the machines works with."""
        return self._key(self.machines[0])

    def _key(self, facts: MachineFacts) -> str:
        return _digest([self._asked, facts.checks_key, facts.reading])

    @cached_property
    def _asked(self) -> list[Any]:
        names = sorted(field.name for field in dataclasses.fields(self.context) if field.name != "dictionaries")
        return [self.revision.content_sha256, self._syntax, [[name, self._part(name)] for name in names]]

    @cached_property
    def _syntax(self) -> str:
        """How the message's fields are written, which every check reads it by."""
        return repr(self.revision.mailing.field_syntax)

    def told(self, check: Check, used: Iterable[str]) -> list[str]:
        """The facts that an answer hangs on, to be kept with the answer: circumstances by name, facts of the machine that answered with their values."""
        names = set(used)
        facts = self.machines[0]
        values = {f"{name}={facts.words.get(name.removeprefix(WORDS_OF), '')}" for name in names if name.startswith(WORDS_OF)}
        values |= {f"reading={facts.reading}"} if "picture_words" in names else set()
        plain = {name for name in names if not name.startswith(WORDS_OF)}
        return sorted(plain | values | {f"code={facts.checks.get(check.id, '')}"})

    def answer_key(self, check: Check, told: Iterable[str]) -> str:
        """SHA-256 over what one answer depends on besides the content: the check, its settings, and what ``told`` says it hangs on."""
        own = self.context.settings.get(check.id, {})
        hangs_on = [[one, "" if "=" in one else self._part(one)] for one in sorted(told)]
        return _digest([check.id, own, self._syntax, hangs_on])

    def still_valid(self, run: CheckRun) -> dict[str, list[Any]]:
        """The answers of a run that still hold, by check."""
        checks = registry()
        return {
            check_id: answer
            for check_id, answer in run.outcomes.items()
            if check_id in checks
            and len(answer) == 4
            and not Outcome(answer[0]).is_unlooked
            and all(self._holds(check_id, one) for one in answer[2] if "=" in one)
            and answer[3] == self.answer_key(checks[check_id], answer[2])
        }

    def _holds(self, check_id: str, fact: str) -> bool:
        """Whether a fact that an answer hangs on, with its value, still holds beside what the machines have."""
        name, _, value = fact.partition("=")
        if name == "code":
            return machines.holds(value, self.machines, lambda facts: facts.checks.get(check_id, ""))
        if name == "reading":
            return machines.holds(value, self.machines, lambda facts: facts.reading)
        language = name.removeprefix(WORDS_OF)
        return machines.holds(value, self.machines, lambda facts: facts.words.get(language, ""))

    def is_answered_by(self, run: CheckRun) -> bool:
        """Whether a run answers this very question, or one that differs in nothing that any of its checks looked at."""
        # Of several machines, another may have what the one that answered lacked: then each answer is looked at.
        return (len(self.machines) == 1 and run.key == self.key) or set(self.still_valid(run)) == set(registry())

    def _part(self, name: str) -> str:
        if name not in self._parts:
            self._parts[name] = _digest(_plain(self.context, name))
        return self._parts[name]


def machines_of(revision: Revision) -> tuple[MachineFacts, ...]:
    """The facts of the machines at work, as they came with a revision or from the database."""
    return machines.known(MACHINES.of(revision))


def newest_run(revision: Revision) -> CheckRun | None:
    """The answers that were given last."""
    return revision.check_runs.order_by("-created_at").first()


def newest_run_of(mailing_id: int) -> int | None:
    """The number of the run that answered last for any revision of a message."""
    return CheckRun.objects.filter(revision__mailing_id=mailing_id).order_by("-pk").values_list("pk", flat=True).first()


def is_slow(revision: Revision) -> bool:
    """Whether work on a revision waits for others like it, so that small messages pass: it is large, or its checks ran out last time."""
    return revision.is_large or ((last := newest_run(revision)) is not None and bool(last.unlooked))


def is_outdated(revision: Revision) -> bool:
    """Whether the newest answers were given under other circumstances than those of now; a locked message keeps its answers."""
    run = newest_run(revision)
    return (
        run is not None
        and not revision.mailing.is_locked
        and not Question(revision, context_of(revision), machines_of(revision)).is_answered_by(run)
    )
