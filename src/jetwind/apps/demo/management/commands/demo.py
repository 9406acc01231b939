"""``manage.py demo``: load the demo world, once."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from jetwind.apps.demo import world


class Command(BaseCommand):
    """Does nothing in a house where somebody has lived."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Load it."""
        if not world.is_wanted():
            self.stdout.write("This house is lived in; the demo world stays out.")
            return
        world.build()
        self.stdout.write("The demo world is loaded.")
