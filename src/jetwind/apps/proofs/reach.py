"""Which addresses test sends may reach."""

from __future__ import annotations

from jetwind.apps.workspace.models import Workspace


def is_allowed(address: str, workspace: Workspace) -> bool:
    """Whether test sends may reach an address: its domain, or a parent of it, is one of the workspace's test domains."""
    domain = address.rpartition("@")[2].lower()
    return any(domain == allowed or domain.endswith(f".{allowed}") for allowed in workspace.test_domains)
