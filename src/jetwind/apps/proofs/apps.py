"""App configuration."""

from django.apps import AppConfig


class ProofsConfig(AppConfig):
    """The app proofs."""

    name = "jetwind.apps.proofs"

    def ready(self) -> None:
        """Tell the checks what arrived."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.proofs.comparing import arrivals_for_checks
        from jetwind.apps.proofs.known import ARRIVALS_KEY
        from jetwind.apps.review.questions import circumstances

        facts.append(ARRIVALS_KEY)
        circumstances.append(arrivals_for_checks)
