"""``manage.py demo``: load the demo world, once."""

from __future__ import annotations

from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand
from django.db import transaction

from jetwind.apps.demo import answers, world
from jetwind.apps.intake.models import Revision
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.models import CheckRun


class Command(BaseCommand):
    """Does nothing in a house where somebody has lived."""

    help = __doc__

    def add_arguments(self, parser: ArgumentParser) -> None:
        """The demo in short, and the file of answers."""
        parser.add_argument("--short", action="store_true", help="leave out the messages with a past and the automatic ones")
        parser.add_argument("--write-answers", action="store_true", help="ask the checks about the past, write their answers, load nothing")

    def handle(self, *args: Any, **options: Any) -> None:
        """Load it."""
        if not world.is_wanted():
            self.stdout.write("This house is lived in; the demo world stays out.")
            return
        if options["write_answers"]:
            self.stdout.write(f"The answers of the checks are written: {_write_answers():,} octets.")
            return
        world.build(is_short=options["short"])
        self.stdout.write("The demo world is loaded.")


def _write_answers() -> int:
    """Write what the checks say about each revision of the past, in a world that is gone afterwards; returns the octets of the file."""
    runs: list[CheckRun] = []

    def ask(revision: Revision) -> None:
        # Without the name records of the sender, which the machine asks for.
        runs.append(check_now(revision, is_prepared=True))

    with transaction.atomic():
        world.build(give_answers=ask)
        size = answers.write(runs)
        transaction.set_rollback(True)
    return size
