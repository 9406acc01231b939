"""The machines of the workers as Settings shows them, and what none of them can do."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.utils import timezone

from jetwind.apps.jobs.machines import GONE_AFTER, queue_for, queues_of
from jetwind.apps.jobs.models import Machine
from jetwind.core.facts import table
from jetwind.core.facts.tables import Languages
from jetwind.engines.machine import MachineFacts


@dataclass(frozen=True, slots=True)
class MachineRow:
    """One worker: its machine, when it was seen last and whether it is at work, what it has, and the work it does best."""

    host: str
    seen_at: datetime
    is_at_work: bool
    languages: list[str]
    reading: str
    browser: str
    scripts: tuple[str, ...]
    does: list[str]


def machine_rows() -> list[MachineRow]:
    """Every worker that has a row, those at work in front."""
    best = {queue_for("checks"): "checks", queue_for("renders"): "renders", queue_for("pictures"): "words in pictures"}
    rows = []
    for machine in Machine.objects.all():
        facts = MachineFacts.from_json(machine.facts)
        is_at_work = not machine.is_stopped and timezone.now() - machine.seen_at < GONE_AFTER
        does = [what for queue, what in best.items() if is_at_work and queue in queues_of(facts)]
        languages = [_in_words(code) for code in facts.words]
        browser = _browser_in_words(facts.browser)
        rows.append(
            MachineRow(
                machine.host,
                machine.seen_at,
                is_at_work=is_at_work,
                languages=languages,
                reading=facts.reading,
                browser=browser,
                scripts=facts.scripts,
                does=does,
            )
        )
    return sorted(rows, key=lambda row: (not row.is_at_work, row.host))


def what_none_can(rows: list[MachineRow]) -> list[str]:
    """The tasks that no machine at work can do, as sentences."""
    there = [row for row in rows if row.is_at_work]
    if not there:
        return ["No worker is at work: nothing is checked, rendered or sent until one is started."]
    found = []
    if not any(row.browser for row in there):
        found.append("No machine has a Chromium: nothing is rendered. “apt-get install chromium-headless-shell” brings one.")
    if not any(row.reading for row in there):
        found.append("No machine reads words in pictures: reviewers enter them by hand. “apt-get install tesseract-ocr” brings a program.")
    known = {language for row in there for language in row.languages}
    lacking = [name for name in _names().values() if name not in known]
    if lacking:
        found.append(
            f"No machine has a dictionary of {_listed(lacking)}: spelling is not judged there. Debian's hunspell packages bring them."
        )
    lost = sorted(set.intersection(*(set(row.scripts) for row in there if row.browser)) if any(row.browser for row in there) else ())
    if lost:
        found.append(f"No machine has a font for {_listed(lost)}: such letters are drawn as boxes.")
    checking = {language for row in there if "checks" in row.does for language in row.languages}
    elsewhere = sorted(known - checking) if checking else []
    if elsewhere:
        found.append(
            f"Dictionaries of {_listed(elsewhere)} are on a machine that does not run the checks, since another has more languages."
            " Install them there, too."
        )
    return found


def _browser_in_words(browser: str) -> str:
    """The browser in words, such as "Chromium 130.0.1 (headless shell)": the file's name says only which of the two it is."""
    file, _, said = browser.partition(" ")
    return f"{said} (headless shell)" if "headless" in file else said


def _names() -> dict[str, str]:
    return table("languages", Languages)["names"]


def _in_words(code: str) -> str:
    return _names().get(code, code)


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
