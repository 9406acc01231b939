"""Give each workspace the key that signs its packages."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from jetwind.apps.approvals.keys import make_missing_keys


class Command(BaseCommand):
    """The command signing_keys."""

    help = "Makes the key that signs packages for each workspace that has none. The start of Jetwind does it."

    def handle(self, *args: Any, **options: Any) -> None:
        """Make them, and say how many."""
        made = make_missing_keys()
        self.stdout.write("No key was missing." if not made else f"{made} keys were made." if made > 1 else "1 key was made.")
