"""App configuration."""

from django.apps import AppConfig

_PRELOAD = "jetwind.apps.workspace.desk_preload"


class WorkspaceConfig(AppConfig):
    """The app workspace."""

    name = "jetwind.apps.workspace"

    def ready(self) -> None:
        """Helpers of the desk are forked from a process that has the application loaded already."""
        from jetwind.engines.bounded.helper import PRELOADED

        if _PRELOAD not in PRELOADED:
            PRELOADED.append(_PRELOAD)
