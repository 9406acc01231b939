"""``manage.py demo``: load the demo world, once."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from jetwind.apps.demo import world


class Command(BaseCommand):
    """Does nothing where the demo world is there already."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Load it."""
        if world.exists():
            self.stdout.write("The demo world is there already.")
            return
        world.build()
        self.stdout.write("The demo world is loaded.")
