"""A refusal names the one constraint that was hit; another database error is an error."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from django.db import IntegrityError, connection

import jetwind.apps
from jetwind.apps.proofs.models import TestList
from jetwind.apps.ui.refusal import Refused, refusing

pytestmark = pytest.mark.django_db


def test_the_constraint_that_was_hit(house: Any) -> None:
    """Its own sentence, and nothing kept of what was written before it."""
    with pytest.raises(Refused, match="There is one already"), refusing("one_list_of_a_name", "There is one already."):
        TestList.objects.create(workspace=house.workspace, name="kept nowhere")
        TestList.objects.create(workspace=house.workspace, name="twice")
        TestList.objects.create(workspace=house.workspace, name="twice")
    assert not TestList.objects.filter(name__in=["twice", "kept nowhere"]).exists()


def test_another_one(house: Any) -> None:
    """A value that the column cannot be without, and a constraint of another name."""
    with pytest.raises(IntegrityError), refusing("one_list_of_a_name", "There is one already."):
        TestList.objects.create(workspace=house.workspace, name=None)
    with pytest.raises(IntegrityError), refusing("one_reader_of_a_name", "There is a reader already."):
        TestList.objects.create(workspace=house.workspace, name="twice")
        TestList.objects.create(workspace=house.workspace, name="twice")


def test_every_name_is_one_of_the_database() -> None:
    """A constraint that is renamed would turn its refusal into an error, and nobody would notice."""
    sources = [path.read_text() for path in Path(jetwind.apps.__file__).parent.rglob("*.py")]
    named = {name for source in sources for name in re.findall(r'refusing\(\s*"(\w+)"', source)}
    assert len(named) >= 6
    with connection.cursor() as cursor:
        cursor.execute("SELECT conname FROM pg_constraint UNION SELECT indexname FROM pg_indexes")
        there = {name for (name,) in cursor.fetchall()}
    assert named <= there
    assert not [source for source in sources if "except IntegrityError:" in source]
