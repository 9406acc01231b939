"""App configuration."""

from django.apps import AppConfig


class LogConfig(AppConfig):
    """The app audit."""

    name = "jetwind.apps.audit"
