"""Background work of the review."""

from __future__ import annotations

import logging

from procrastinate.contrib.django import app

from jetwind.apps.intake.selectors import numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import answers, lighter_files, picture_words
from jetwind.apps.review.questions import is_outdated
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.desk import at_the_workbench
from jetwind.apps.workspace.models import Workspace
from jetwind.engines.bounded import PastBudget

logger = logging.getLogger(__name__)


@app.task(name="review.check_revision", priority=10)
def check_revision(revision_id: int, work_id: int, patience: int = 1) -> None:
    """Run all checks on a revision, with so many times the usual limits."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing="running the checks")
        for number in range(len(answers.preparations)):
            try:
                at_the_workbench(prepare, revision_id, number)
            except jobs.Failed as failed:
                # The checks that need it say what they lack; the others are answered all the same.
                logger.warning("a preparation of the checks of revision %d: %s", revision_id, failed, extra={"action": "checks.unprepared"})
        at_the_workbench(check, revision_id, patience, patience=patience)
        jobs.report(work_id, done=1, total=1, doing="running the checks")
    if Work.objects.filter(pk=work_id, state=Work.State.DONE).exists():
        try:
            at_the_workbench(follow_checks, revision_id)
        except jobs.Failed:
            logger.warning("what follows the checks of revision %d is not known", revision_id, extra={"action": "checks.not-followed"})


def prepare(revision_id: int, number: int) -> None:
    """Carry out one of the preparations of the checks."""
    answers.prepare_now(numbered(revision_id), number)


def check(revision_id: int, patience: int) -> None:
    """Run the checks where they may take long."""
    answers.check_now(numbered(revision_id), patience, is_prepared=True)


def follow_checks(revision_id: int) -> None:
    """Ask for what the checks of a revision make due."""
    revision = numbered(revision_id)
    # A request that came while the checks ran was given that run, which had read the circumstances before the change: it is made again.
    if is_outdated(revision):
        answers.ask_for_checks(revision)
    # Pictures may have come from elsewhere since they were read last.
    picture_words.ask_for_reading(revision)


@app.task(name="review.read_pictures", priority=6)
def read_pictures(revision_id: int, work_id: int) -> None:
    """Read the words in the pictures of a revision, then run the checks that wait for them."""
    with jobs.carried_out(work_id):
        picture_words.read_now(numbered(revision_id), work_id)


@app.task(name="review.make_lighter_files", priority=9)
def make_lighter_files(revision_id: int, picture: str, work_id: int) -> None:
    """Make the files that may stand for a picture, for somebody who waits for them."""
    with jobs.carried_out(work_id):
        try:
            at_the_workbench(make_files, revision_id, picture)
        except Refused as why:
            raise jobs.Failed(why.sentence) from why


def make_files(revision_id: int, picture: str) -> None:
    """Make the files that may stand for a picture.

    Raises:
        Refused: the message shows no such picture any more.
        Failed: it takes more than it may.
    """
    try:
        lighter_files.make_now(numbered(revision_id), picture)
    except PastBudget as past:
        raise jobs.Failed(f"The files cannot be made: {past}.") from past


@app.task(name="review.recheck_messages", priority=5)
def recheck_messages(mailing_ids: list[int]) -> None:
    """Check again what a change of another message touches."""
    jobs.drop_broken_connections()
    answers.recheck_messages(mailing_ids)


@app.task(name="review.recheck_house", priority=5)
def recheck_house(workspace_id: int, work_id: int) -> None:
    """Check again what a change of the house touches."""
    with jobs.carried_out(work_id):
        answers.recheck_outdated(Workspace.objects.get(pk=workspace_id), work_id)
