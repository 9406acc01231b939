"""App configuration, and the renders that follow a new revision."""

from django.apps import AppConfig


class PreviewsConfig(AppConfig):
    """The app previews."""

    name = "jetwind.apps.previews"

    def ready(self) -> None:
        """Render every new revision."""
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.previews.services import ask_for_renders

        on_new_revision.append(ask_for_renders)
