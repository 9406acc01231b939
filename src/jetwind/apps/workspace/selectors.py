"""Reading the house."""

from __future__ import annotations

from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import Options, check_settings, registry
from jetwind.core.profiles import profiles, usual


def chosen_profiles(workspace: Workspace) -> list[str]:
    """The profiles that a house renders in: those its audience uses, or those of most readers where nobody said."""
    used = [name for name in profiles() if float(workspace.audience.get(name, 0)) > 0]
    return used or list(usual())


def options_of(workspace: Workspace, check_id: str) -> Options:
    """The thresholds of a check as this house has them, for a screen that shows what the check measures.

    Raises:
        KeyError: there is no such check.
    """
    return check_settings(registry()[check_id], workspace.check_settings)[1]
