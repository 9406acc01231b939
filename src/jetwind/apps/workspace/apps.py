"""App configuration."""

from django.apps import AppConfig


class WorkspaceConfig(AppConfig):
    """The app workspace."""

    name = "jetwind.apps.workspace"
