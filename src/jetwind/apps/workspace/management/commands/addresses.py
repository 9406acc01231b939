"""``manage.py addresses``: write docs/permissions.md from the views' declarations."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

from jetwind.apps.workspace.addresses import as_markdown


class Command(BaseCommand):
    """The tests compare the file with what the views say."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Write it."""
        (settings.ROOT / "docs" / "permissions.md").write_text(as_markdown(), encoding="utf-8")
