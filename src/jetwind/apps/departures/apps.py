"""App configuration."""

from django.apps import AppConfig


class DeparturesConfig(AppConfig):
    """The app departures."""

    name = "jetwind.apps.departures"
