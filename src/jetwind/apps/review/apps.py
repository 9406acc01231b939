"""App configuration, and what it adds to the apps below."""

from django.apps import AppConfig


class ReviewConfig(AppConfig):
    """The app review."""

    name = "jetwind.apps.review"

    def ready(self) -> None:
        """Tell the checks what is known, and show what every page needs of a revision."""
        from jetwind.apps.intake.known import facts
        from jetwind.apps.review.answers import preparations
        from jetwind.apps.review.instead import page_instead
        from jetwind.apps.review.known import LOOKS, MACHINES, PAPERS, PICTURES_READ, WORKS
        from jetwind.apps.review.picture_words import note_pictures, words_for_checks
        from jetwind.apps.review.questions import circumstances, newest_run_of
        from jetwind.apps.review.sender_papers import bring_up_to_date, papers_for_checks
        from jetwind.apps.review.stations.fields import messages_of
        from jetwind.apps.workspace.desk import instead, states_of_messages
        from jetwind.apps.workspace.reader_views import messages_of as shown_of_readers

        facts.extend([WORKS, LOOKS, MACHINES, PICTURES_READ, PAPERS])
        instead.append(page_instead)
        states_of_messages.append(newest_run_of)
        circumstances.append(words_for_checks)
        circumstances.append(papers_for_checks)
        preparations.append(note_pictures)
        preparations.append(bring_up_to_date)
        shown_of_readers.append(messages_of)
