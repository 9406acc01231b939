"""App configuration."""

from django.apps import AppConfig


class DemoConfig(AppConfig):
    """The app demo."""

    name = "jetwind.apps.demo"
