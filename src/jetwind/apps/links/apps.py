"""App configuration, and what follows a new revision."""

from django.apps import AppConfig


class LinksConfig(AppConfig):
    """The app links."""

    name = "jetwind.apps.links"

    def ready(self) -> None:
        """Tell the checks what links answered, and give renders the pictures that lie elsewhere."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.links.answering import answers_for_checks, fetch_for_renders, with_pictures_kept
        from jetwind.apps.links.house import mark_of
        from jetwind.apps.links.known import LET_OPEN, OPENED, SEEN, WIRE
        from jetwind.apps.links.rewritten import follow_rewritten
        from jetwind.apps.links.stations.links import gauge
        from jetwind.apps.previews.copies import before_renders, kept_pictures
        from jetwind.apps.proofs.comparing import followers
        from jetwind.apps.review.frame import gauges
        from jetwind.apps.review.questions import additions, circumstances
        from jetwind.apps.review.sender_papers import marks

        facts.extend([OPENED, SEEN, WIRE, LET_OPEN])
        gauges.append(gauge)
        marks.append(mark_of)
        circumstances.append(answers_for_checks)
        additions.append(with_pictures_kept)
        followers.append(follow_rewritten)
        before_renders.append(fetch_for_renders)
        kept_pictures.append(with_pictures_kept)
