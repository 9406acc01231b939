"""App configuration."""

from django.apps import AppConfig


class ProofsConfig(AppConfig):
    """The app proofs."""

    name = "jetwind.apps.proofs"

    def ready(self) -> None:
        """Tell the checks what arrived, and the sheets of profiles what real screens showed."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.previews.stations.appearance import real_pictures
        from jetwind.apps.proofs import screenshots
        from jetwind.apps.proofs.comparing import arrivals_for_checks
        from jetwind.apps.proofs.known import ARRIVALS_KEY
        from jetwind.apps.review.questions import circumstances

        facts.append(ARRIVALS_KEY)
        real_pictures.append(screenshots.real_pictures)
        circumstances.append(arrivals_for_checks)
