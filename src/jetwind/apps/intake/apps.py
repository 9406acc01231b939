"""App configuration."""

from django.apps import AppConfig


class IntakeConfig(AppConfig):
    """The app intake."""

    name = "jetwind.apps.intake"
