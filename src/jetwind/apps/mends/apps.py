"""App configuration."""

from django.apps import AppConfig


class MendsConfig(AppConfig):
    """The app mends."""

    name = "jetwind.apps.mends"

    def ready(self) -> None:
        """Have a revision come with the number of its sure mends."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.mends.known import SURE_MENDS

        facts.append(SURE_MENDS)
