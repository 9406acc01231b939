"""App configuration, and what it adds to the apps below."""

from django.apps import AppConfig


class ReviewConfig(AppConfig):
    """The app review."""

    name = "jetwind.apps.review"

    def ready(self) -> None:
        """Tell the checks what is known, and show what every page needs of a revision."""
        from django.contrib.postgres.expressions import ArraySubquery
        from django.db.models import CharField, OuterRef, Subquery, Value
        from django.db.models.functions import Cast, Concat, JSONObject

        from jetwind.apps.intake.selectors import known_of_revisions
        from jetwind.apps.jobs.machines import in_the_house
        from jetwind.apps.jobs.services import latest_of_each
        from jetwind.apps.review.answers import preparations
        from jetwind.apps.review.fields_station import messages_of
        from jetwind.apps.review.instead import page_instead
        from jetwind.apps.review.models import PicturesRead, SenderPapers, StationLook
        from jetwind.apps.review.picture_words import stand, words_for_checks
        from jetwind.apps.review.questions import circumstances, newest_run_of
        from jetwind.apps.review.sender_papers import bring_up_to_date, papers_for_checks
        from jetwind.apps.workspace.desk import instead, standing
        from jetwind.apps.workspace.reader_views import messages_of as shown_of_readers

        subject = Concat(Value("revision:"), Cast(OuterRef("pk"), CharField()))
        known_of_revisions["works"] = lambda: ArraySubquery(latest_of_each(subject))
        known_of_revisions["looked_at"] = lambda: ArraySubquery(StationLook.objects.filter(revision=OuterRef("pk")).values("station"))

        known_of_revisions["machines"] = in_the_house

        read = PicturesRead.objects.filter(revision=OuterRef("pk"))
        known_of_revisions["pictures_read_key"] = lambda: Subquery(read.values("key")[:1])

        papers = SenderPapers.objects.filter(revision=OuterRef("pk"))
        known_of_revisions["papers_row"] = lambda: Subquery(papers.values_list(JSONObject(papers="papers", asked_for="asked_for"))[:1])

        instead.append(page_instead)
        standing.append(newest_run_of)
        circumstances.append(words_for_checks)
        circumstances.append(papers_for_checks)
        preparations.append(stand)
        preparations.append(bring_up_to_date)
        shown_of_readers.append(messages_of)
