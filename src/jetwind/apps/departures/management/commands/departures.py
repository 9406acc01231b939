"""Tell on the command line what each message waits for: the same list of sentences as on Departures and Sign-off."""

from __future__ import annotations

from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from jetwind.apps.departures.selectors import leaving, messages
from jetwind.apps.workspace.models import Workspace


class Command(BaseCommand):
    """The command departures."""

    help = "Tells of each message that is not released what is missing until it may leave, and whose turn it is."

    def add_arguments(self, parser: ArgumentParser) -> None:
        """The workspace, and the message."""
        parser.add_argument("--workspace", help="the name of the workspace; without it, all of them")
        parser.add_argument("--message", type=int, help="the number of one message, as its address has it")

    def handle(self, *args: Any, **options: Any) -> None:
        """Write them out, the one that leaves first coming first.

        Raises:
            CommandError: there is no such workspace or message.
        """
        workspaces = Workspace.objects.order_by("pk")
        if options["workspace"]:
            workspaces = workspaces.filter(name=options["workspace"])
        if not workspaces:
            raise CommandError(f"There is no workspace “{options['workspace']}”.")
        told = 0
        for workspace in workspaces:
            found = messages(workspace).exclude(stage="released")
            if options["message"]:
                found = found.filter(pk=options["message"])
            for row in leaving(found.values_list("pk", flat=True)):
                told += 1
                turn = f" ({row.readiness.whose_turn})" if row.readiness.whose_turn else ""
                self.stdout.write(f"{row.mailing.pk}  {row.mailing.title}, r{row.revision.number}, {row.mailing.get_stage_display()}{turn}")
                for words in [one.words for one in row.readiness.missing] or [row.readiness.holding]:
                    self.stdout.write(f"    {words}")
        if options["message"] and not told:
            raise CommandError(f"There is no message {options['message']} that is not released.")
