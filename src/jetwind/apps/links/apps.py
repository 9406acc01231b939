"""App configuration, and what follows a new revision."""

from django.apps import AppConfig


class LinksConfig(AppConfig):
    """The app links."""

    name = "jetwind.apps.links"

    def ready(self) -> None:
        """Tell the checks what links answered, and give renders the pictures that lie elsewhere."""
        from django.contrib.postgres.expressions import ArraySubquery
        from django.db.models import OuterRef, Subquery
        from django.db.models.functions import JSONObject

        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.links.answering import answers_for_checks, fetch_for_renders, with_pictures_kept
        from jetwind.apps.links.house import LISTS, SINGLE, mark_of
        from jetwind.apps.links.models import LetOpen, Opened, SeenByHand, Wire
        from jetwind.apps.links.station import gauge
        from jetwind.apps.previews.copies import before_renders, kept_pictures
        from jetwind.apps.review.frame import gauges
        from jetwind.apps.review.questions import additions, circumstances
        from jetwind.apps.review.sender_papers import marks

        opened = Opened.objects.filter(revision=OuterRef("pk"))
        seen = SeenByHand.objects.filter(mailing=OuterRef("mailing_id")).order_by("id")
        wire = Wire.objects.filter(workspace=OuterRef("mailing__workspace_id"))
        let_open = LetOpen.objects.filter(mailing=OuterRef("mailing_id")).order_by("id")
        known_of_revisions["opened_row"] = lambda: Subquery(
            opened.values_list(JSONObject(key="key", links="links", pictures="pictures", there="there"))[:1]
        )
        known_of_revisions["links_seen"] = lambda: ArraySubquery(
            seen.values_list(JSONObject(address="address", at="at", first="by__first_name", last="by__last_name", name="by__username"))
        )
        known_of_revisions["wire_row"] = lambda: Subquery(wire.values_list(JSONObject(**{name: name for name in (*LISTS, *SINGLE)}))[:1])
        known_of_revisions["links_let_open"] = lambda: ArraySubquery(let_open.values("address"))
        gauges.append(gauge)
        marks.append(mark_of)
        circumstances.append(answers_for_checks)
        additions.append(with_pictures_kept)
        before_renders.append(fetch_for_renders)
        kept_pictures.append(with_pictures_kept)
