"""App configuration."""

from django.apps import AppConfig


class NoticesConfig(AppConfig):
    """The app notices."""

    name = "jetwind.apps.notices"

    def ready(self) -> None:
        """Have the top line of every page tell how much waits, with the question that a page asks anyway."""
        from jetwind.apps.notices.services import unread_of_membership
        from jetwind.apps.workspace import access

        access.counts_unread = unread_of_membership
