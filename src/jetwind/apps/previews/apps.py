"""App configuration, and what it adds to the apps below."""

from django.apps import AppConfig


class PreviewsConfig(AppConfig):
    """The app previews."""

    name = "jetwind.apps.previews"

    def ready(self) -> None:
        """Tell the checks what was measured."""
        from django.contrib.postgres.expressions import ArraySubquery
        from django.db.models import OuterRef, Subquery
        from django.db.models.functions import JSONObject

        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.previews.models import LossTrial, Render
        from jetwind.apps.previews.modes import OWN
        from jetwind.apps.previews.selectors import renders_for_checks
        from jetwind.apps.review.questions import circumstances

        own = Render.objects.filter(revision=OuterRef("pk"), mode=OWN)
        trial = LossTrial.objects.filter(revision=OuterRef("pk"))
        known_of_revisions["own_renders"] = lambda: ArraySubquery(
            own.values_list(JSONObject(**{name: name for name in ("profile", "key", "state", "reader", "made_for")}))
        )
        known_of_revisions["loss_tried"] = lambda: Subquery(trial.values_list(JSONObject(key="key", profiles="profiles"))[:1])
        circumstances.append(renders_for_checks)
