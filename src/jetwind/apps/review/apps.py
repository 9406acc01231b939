"""App configuration, and the checks that follow a new revision."""

from django.apps import AppConfig


class ReviewConfig(AppConfig):
    """The app review."""

    name = "jetwind.apps.review"

    def ready(self) -> None:
        """Check every new revision."""
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.review.services import ask_for_checks

        on_new_revision.append(ask_for_checks)
