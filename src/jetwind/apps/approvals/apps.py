"""App configuration, and what a new revision does to sign-offs."""

from django.apps import AppConfig


class ApprovalsConfig(AppConfig):
    """The app approvals."""

    name = "jetwind.apps.approvals"

    def ready(self) -> None:
        """Void sign-offs on a new revision, and put their gauge into the strip."""
        from jetwind.apps.approvals.services import void_earlier, void_sent_back
        from jetwind.apps.intake.services import on_new_revision
        from jetwind.apps.review.frame import Gauge, gauges
        from jetwind.apps.review.selectors import Walk
        from jetwind.apps.review.services import on_sent_back

        def sign_offs(walk: Walk) -> Gauge:
            valid = walk.revision.sign_offs.filter(voided_at=None).count()
            return Gauge("sign-offs", f"{valid}/{walk.revision.mailing.workspace.sign_offs_required}")

        on_new_revision.append(void_earlier)
        on_sent_back.append(void_sent_back)
        gauges.append(sign_offs)
