"""App configuration."""

from django.apps import AppConfig


class ProofsConfig(AppConfig):
    """The app proofs."""

    name = "jetwind.apps.proofs"
