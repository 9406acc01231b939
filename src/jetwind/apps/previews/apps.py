"""App configuration, and the renders that follow a new revision."""

from django.apps import AppConfig


class PreviewsConfig(AppConfig):
    """The app previews."""

    name = "jetwind.apps.previews"

    def ready(self) -> None:
        """Render every new revision, tell the checks what was measured, and render anew when the audience or a reader changes."""
        from django.contrib.postgres.expressions import ArraySubquery
        from django.db.models import OuterRef, Subquery
        from django.db.models.functions import JSONObject

        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.previews.models import LossTrial, Render
        from jetwind.apps.previews.modes import OWN
        from jetwind.apps.previews.selectors import renders_for_checks
        from jetwind.apps.previews.services import ask_for_renders, ask_for_renders_of_house
        from jetwind.apps.review.questions import circumstances
        from jetwind.apps.workspace.services import on_audience_changed, on_settings_changed

        own = Render.objects.filter(revision=OuterRef("pk"), mode=OWN)
        trial = LossTrial.objects.filter(revision=OuterRef("pk"))
        known_of_revisions["own_renders"] = lambda: ArraySubquery(
            own.values_list(JSONObject(**{name: name for name in ("profile", "key", "state", "reader", "made_for")}))
        )
        known_of_revisions["loss_tried"] = lambda: Subquery(trial.values_list(JSONObject(key="key", profiles="profiles"))[:1])
        on_new_revision.append(ask_for_renders)
        circumstances.append(renders_for_checks)
        on_audience_changed.append(ask_for_renders_of_house)
        # A reader or a syntax may have changed, and with it the copy that is rendered.
        on_settings_changed.append(ask_for_renders_of_house)
