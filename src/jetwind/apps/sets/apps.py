"""App configuration, and what it adds to the apps below."""

from django.apps import AppConfig


class SetsConfig(AppConfig):
    """The app sets."""

    name = "jetwind.apps.sets"

    def ready(self) -> None:
        """Note the pieces of what is checked, and say what a signature under a member rests on."""
        from jetwind.apps.approvals.standing import rests_further
        from jetwind.apps.review.answers import preparations
        from jetwind.apps.sets.noting import note_pieces
        from jetwind.apps.sets.selectors import differences_for_signatures

        preparations.append(note_pieces)
        rests_further["set"] = differences_for_signatures
