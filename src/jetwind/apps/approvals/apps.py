"""App configuration, and what a new revision does to sign-offs."""

from django.apps import AppConfig


class ApprovalsConfig(AppConfig):
    """The app approvals."""

    name = "jetwind.apps.approvals"

    def ready(self) -> None:
        """Put the gauge of the sign-offs into the strip."""
        from django.db.models import Count, OuterRef, Subquery

        from jetwind.apps.approvals.models import SignOff
        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.review.frame import Gauge, gauges
        from jetwind.apps.review.selectors import Walk

        def sign_offs(walk: Walk) -> Gauge:
            # Where nothing is signed the subquery gives no row, which is None.
            valid = getattr(walk.revision, "valid_sign_offs", 0) or 0
            return Gauge("sign-offs", f"{valid}/{walk.revision.mailing.workspace.sign_offs_required}")

        def valid_sign_offs() -> Subquery:
            valid = SignOff.objects.filter(revision=OuterRef("pk"), voided_at=None).order_by().values("revision")
            return Subquery(valid.annotate(number=Count("pk")).values("number"))

        known_of_revisions["valid_sign_offs"] = valid_sign_offs
        gauges.append(sign_offs)
