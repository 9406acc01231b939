"""App configuration."""

from django.apps import AppConfig


class UiConfig(AppConfig):
    """The app ui."""

    name = "jetwind.apps.ui"
