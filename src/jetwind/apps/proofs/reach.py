"""Which addresses test sends may reach."""

from __future__ import annotations

from django.conf import settings

from jetwind.apps.workspace.models import Workspace
from jetwind.engines.mail import BOXES, Box


def is_allowed(address: str, workspace: Workspace) -> bool:
    """Whether test sends may reach an address: its domain, or a parent of it, is one of the workspace's test domains."""
    domain = address.rpartition("@")[2].lower()
    return any(domain == allowed or domain.endswith(f".{allowed}") for allowed in workspace.test_domains)


def practice_boxes(workspace: Workspace) -> list[Box]:
    """The practice mailboxes that a workspace may send tests to.

    The list is empty where the administrator named another mail server for test sends: then no Mailroom runs, and the boxes belong to it.
    """
    return [box for box in BOXES.values() if settings.HAS_MAILROOM and is_allowed(box.address, workspace)]
