"""App configuration, and what follows a new revision."""

from django.apps import AppConfig


class LinksConfig(AppConfig):
    """The app links."""

    name = "jetwind.apps.links"

    def ready(self) -> None:
        """Open the links of every new revision, tell the checks what they answered, and give renders the pictures that lie elsewhere."""
        from django.contrib.postgres.expressions import ArraySubquery
        from django.db.models import OuterRef, Subquery

        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.links.answering import answers_for_checks, pictures_for_renders
        from jetwind.apps.links.models import Opened, SeenByHand
        from jetwind.apps.links.services import follow_new_revision
        from jetwind.apps.previews.rendering import pictures_from_elsewhere
        from jetwind.apps.review.questions import circumstances

        opened = Opened.objects.filter(revision=OuterRef("pk"))
        seen = SeenByHand.objects.filter(mailing=OuterRef("mailing_id")).order_by("id")
        known_of_revisions["opened_key"] = lambda: Subquery(opened.values("key")[:1])
        known_of_revisions["links_seen"] = lambda: ArraySubquery(seen.values("address"))
        on_new_revision.append(follow_new_revision)
        circumstances.append(answers_for_checks)
        pictures_from_elsewhere.append(pictures_for_renders)
