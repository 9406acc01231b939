"""App configuration, and what it adds to the apps below."""

from django.apps import AppConfig


class PreviewsConfig(AppConfig):
    """The app previews."""

    name = "jetwind.apps.previews"

    def ready(self) -> None:
        """Tell the checks what was measured."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.previews.known import LOSS_TRIED, OWN_RENDERS
        from jetwind.apps.previews.selectors import renders_for_checks
        from jetwind.apps.review.questions import circumstances

        facts.extend([OWN_RENDERS, LOSS_TRIED])
        circumstances.append(renders_for_checks)
