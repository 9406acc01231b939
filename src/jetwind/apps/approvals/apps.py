"""App configuration, and what the app tells of a revision."""

from django.apps import AppConfig


class ApprovalsConfig(AppConfig):
    """The app approvals."""

    name = "jetwind.apps.approvals"

    def ready(self) -> None:
        """Put the gauge of the signatures into the strip, and give the rule of sign-off its facts."""
        from jetwind.apps.approvals.known import RELEASES, SEEN, SIGNATURES
        from jetwind.apps.approvals.standing import seen_facts, signature_facts
        from jetwind.apps.intake.known import facts
        from jetwind.apps.review.frame import Gauge, gauges
        from jetwind.apps.review.readiness import FactsFromAbove, from_above, rule_for
        from jetwind.apps.review.selectors import Walk
        from jetwind.core.clearing import open_places

        def sign_offs(walk: Walk) -> Gauge:
            rule = rule_for(walk.revision.mailing)
            given = [one for one in signature_facts(walk.revision, rule)["signatures"] if not one.waits_for]
            needed = len(rule.signers)
            return Gauge("sign-offs", f"{needed - len(open_places(rule, given))}/{needed}")

        facts.extend([SIGNATURES, SEEN, RELEASES])
        from_above.extend([FactsFromAbove(SIGNATURES, signature_facts), FactsFromAbove(SEEN, seen_facts)])
        gauges.append(sign_offs)
