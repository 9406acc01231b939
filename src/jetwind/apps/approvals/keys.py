"""The key of a workspace, with which its packages are signed."""

from __future__ import annotations

from jetwind.apps.approvals.models import SigningKey
from jetwind.apps.proofs.sealing import opened, seal
from jetwind.apps.workspace.models import Workspace
from jetwind.core.package import fingerprint_of, new_private_key, public_half, public_key_of


def make_missing_keys() -> int:
    """Give each workspace a key that has none; returns how many were made. Two at once make one."""
    made = 0
    for workspace in Workspace.objects.filter(signing_key=None):
        private = new_private_key()
        _, is_new = SigningKey.objects.get_or_create(
            workspace=workspace, defaults={"public_pem": public_half(private), "sealed_private": seal(private)}
        )
        made += is_new
    return made


def private_key_of(workspace: Workspace) -> str:
    """The private key of a workspace, in PEM; it is made where the workspace has none.

    Raises:
        Unreadable: the key of this installation was changed since.
    """
    if not SigningKey.objects.filter(workspace=workspace).exists():
        make_missing_keys()
    return opened(SigningKey.objects.get(workspace=workspace).sealed_private)


def shown_key(workspace: Workspace) -> tuple[str, str] | None:
    """The public half of a workspace's key in PEM, and its fingerprint; None before it was made."""
    found = SigningKey.objects.filter(workspace=workspace).values_list("public_pem", flat=True).first()
    return (found, fingerprint_of(public_key_of(found.encode()))) if found is not None else None
