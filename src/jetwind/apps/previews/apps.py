"""App configuration, and the renders that follow a new revision."""

from django.apps import AppConfig


class PreviewsConfig(AppConfig):
    """The app previews."""

    name = "jetwind.apps.previews"

    def ready(self) -> None:
        """Render every new revision, tell the checks what was measured, and render anew when the audience changes."""
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.previews.selectors import renders_for_checks
        from jetwind.apps.previews.services import ask_for_renders, ask_for_renders_of_house
        from jetwind.apps.review.questions import circumstances
        from jetwind.apps.workspace.services import on_audience_changed

        on_new_revision.append(ask_for_renders)
        circumstances.append(renders_for_checks)
        on_audience_changed.append(ask_for_renders_of_house)
