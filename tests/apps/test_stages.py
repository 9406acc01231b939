"""The stages of a message as one table, and the one lock under which it changes."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from django.db import transaction

import jetwind.apps
from jetwind.apps.accounts.permissions import PERMISSIONS
from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.stages import MOVES, Stage, move, open_mailing
from jetwind.apps.ui.refusal import Refused
from tests.apps.helpers import taken_in

pytestmark = pytest.mark.django_db


def test_the_table() -> None:
    """Every stage is reached, every move is somebody's and is logged in words; nothing but taking a release back leads out of one."""
    assert {made.ends for made in MOVES.values()} | {Stage.TAKEN_IN} == set(Stage)
    assert [name for name, made in MOVES.items() if Stage.RELEASED in made.begins] == ["release taken back"]
    assert all(made.permission in PERMISSIONS for made in MOVES.values())
    assert all(not made.action or made.action in ACTIONS for made in MOVES.values())


@pytest.mark.parametrize("name", MOVES)
@pytest.mark.parametrize("stage", list(Stage))
def test_every_move_from_every_stage(house: Any, name: str, stage: Stage) -> None:
    """It leads where the table says, with its entry in the log; from where it does not begin, nothing happens."""
    mailing = taken_in(house).mailing
    Mailing.objects.filter(pk=mailing.pk).update(stage=stage)
    mailing.refresh_from_db()
    before = LogEntry.objects.count()
    told = {
        "sent back": {"revision": 1, "comment": "x"},
        "cleared": {"revision": 1, "content": "y"},
        "released": {"revision": 1, "record": "z"},
        "release taken back": {"revision": 1, "reason": "late"},
    }
    with transaction.atomic():
        move(mailing, name, house.reviewer, **told.get(name, {}))
    mailing.refresh_from_db()
    begins = stage in MOVES[name].begins
    assert mailing.stage == (MOVES[name].ends if begins else stage)
    assert LogEntry.objects.count() - before == (1 if begins and MOVES[name].action else 0)


def test_a_released_message_takes_nothing(house: Any) -> None:
    """Everybody who opens it to change it is told."""
    mailing = taken_in(house).mailing
    Mailing.objects.filter(pk=mailing.pk).update(stage=Stage.RELEASED)
    with pytest.raises(Refused, match="is released and locked"), open_mailing(mailing.pk):
        pytest.fail("it was opened")


def test_nothing_else_sets_a_stage_or_locks_a_message() -> None:
    """The table and the lock are in one module; migrations and the demo aside."""
    apps = Path(jetwind.apps.__file__).parent
    sources = {path: path.read_text() for path in apps.rglob("*.py") if "migrations" not in path.parts and path.name != "stages.py"}
    sets = [path.name for path, source in sources.items() if re.search(r"update\(\s*stage=|\.stage = ", source)]
    locks = [path.name for path, source in sources.items() if re.search(r"Mailing\.objects\.select_for_update", source)]
    assert (sets, locks) == ([], [])
