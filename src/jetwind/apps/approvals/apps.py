"""App configuration, and what a new revision does to sign-offs."""

from django.apps import AppConfig


class ApprovalsConfig(AppConfig):
    """The app approvals."""

    name = "jetwind.apps.approvals"

    def ready(self) -> None:
        """Put the gauge of the sign-offs into the strip."""
        from jetwind.apps.approvals.known import VALID_SIGN_OFFS
        from jetwind.apps.intake.known import facts
        from jetwind.apps.review.frame import Gauge, gauges
        from jetwind.apps.review.selectors import Walk

        def sign_offs(walk: Walk) -> Gauge:
            return Gauge("sign-offs", f"{VALID_SIGN_OFFS.of(walk.revision) or 0}/{walk.revision.mailing.workspace.sign_offs_required}")

        facts.append(VALID_SIGN_OFFS)
        gauges.append(sign_offs)
