"""App configuration."""

from django.apps import AppConfig


class JobsConfig(AppConfig):
    """The app jobs."""

    name = "jetwind.apps.jobs"
