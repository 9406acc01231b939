"""App configuration."""

from django.apps import AppConfig


class AccountsConfig(AppConfig):
    """The app accounts."""

    name = "jetwind.apps.accounts"
