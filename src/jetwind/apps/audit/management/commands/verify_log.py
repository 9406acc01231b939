"""``manage.py verify_log``: verifies every entry of the log now; workers do it every hour."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError

from jetwind.apps.audit.services import verify


class Command(BaseCommand):
    """Verifies the whole log, entry by entry."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Verify every entry, and keep the result, which Settings shows.

        Raises:
            CommandError: an entry does not follow from the one before.
        """
        found = verify()
        if found.broken is not None:
            raise CommandError(f"The log does not hold from entry {found.broken} on: somebody changed it outside of Jetwind.")
        self.stdout.write(f"The log is whole: each of its {found.entries:,} entries follows from the one before.")
