"""App configuration."""

from django.apps import AppConfig


class InstructionsConfig(AppConfig):
    """The app instructions."""

    name = "jetwind.apps.instructions"

    def ready(self) -> None:
        """Have a revision come with the instructions for it, and the Walkaround show how many of them hold."""
        from jetwind.apps.instructions.known import INSTRUCTIONS
        from jetwind.apps.instructions.selectors import gauge
        from jetwind.apps.intake.known import facts
        from jetwind.apps.review.frame import gauges

        facts.append(INSTRUCTIONS)
        gauges.append(gauge)
