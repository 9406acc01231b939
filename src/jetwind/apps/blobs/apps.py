"""App configuration."""

from django.apps import AppConfig


class BlobsConfig(AppConfig):
    """The app blobs."""

    name = "jetwind.apps.blobs"
