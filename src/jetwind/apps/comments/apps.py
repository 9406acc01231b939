"""App configuration."""

from django.apps import AppConfig


class CommentsConfig(AppConfig):
    """The app comments."""

    name = "jetwind.apps.comments"

    def ready(self) -> None:
        """Have a revision come with what is said about it, and with the people who may be told."""
        from jetwind.apps.comments.known import OPEN_THREADS, PEOPLE
        from jetwind.apps.intake.known import facts

        facts.extend([OPEN_THREADS, PEOPLE])
