"""The desk: what the list of Departures shows, in which order, and the views that people keep."""

import threading
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from django.db import connection
from django.http import QueryDict
from django.utils import timezone
from hypothesis import given
from hypothesis import strategies as st

from jetwind.apps.approvals import services as approvals
from jetwind.apps.approvals.deadlines import remind
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.departures import bulk, saved_views
from jetwind.apps.departures.filters import ORDERS, Filter
from jetwind.apps.departures.models import SavedView
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.services import Details
from jetwind.apps.jobs.models import Work
from jetwind.apps.notices.models import Notice
from jetwind.apps.ui.refusal import NotAllowed, Refused
from tests.apps.helpers import page_of, taken_in
from tests.factories import mail

DAYS = st.none() | st.dates(date(1990, 1, 1), date(2190, 12, 31))
WORDS = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=20).map(str.strip)
FILTERS = st.builds(
    Filter,
    search=WORDS,
    stage=st.sampled_from(["", *Mailing.Stage.values]),
    kind=st.sampled_from(["", "promotional", "newsletter", "transactional"]),
    person=st.integers(0, 10**6),
    label=WORDS,
    is_mine=st.booleans(),
    order=st.sampled_from(sorted(ORDERS)),
)


class TestAddresses:
    """A filter is an address."""

    @given(FILTERS, DAYS, DAYS)
    def test_there_and_back(self, chosen: Filter, first: date | None, last: date | None) -> None:
        """Read from its own address it is the same, but for days in the wrong order."""
        if first is not None and last is not None and last < first:
            first, last = last, first
        chosen = chosen.within(first, last)
        assert Filter.of(QueryDict(chosen.query)) == chosen

    @given(st.dictionaries(st.sampled_from(["q", "stage", "kind", "person", "label", "mine", "from", "to", "order"]), st.text(max_size=30)))
    def test_anything(self, given_values: dict[str, str]) -> None:
        """What cannot be read is left out."""
        typed = QueryDict(mutable=True)
        typed.update(given_values)
        assert Filter.of(QueryDict(Filter.of(typed).query)) == Filter.of(typed)


@pytest.mark.django_db
class TestList:
    """What is shown."""

    @pytest.fixture
    def three(self, house: Any) -> dict[str, Mailing]:
        """Three messages of two kinds, with and without a time."""
        made = {}
        for title, kind, planned in (
            ("Sale", "promotional", datetime(2027, 3, 9, 23, 30, tzinfo=UTC)),
            ("Receipt", "transactional", datetime(2027, 3, 20, 8, tzinfo=UTC)),
            ("Letter", "newsletter", None),
        ):
            made[title] = taken_in(
                house, mail(Subject=title), details=Details(title, kind=kind, planned_at=planned, audience="members")
            ).mailing
        return made

    def titles(self, house: Any, query: str, who: Any = None) -> list[str]:
        """The titles on the page, in order."""
        answer = house.client(who or house.reviewer).get(f"/?{query}")
        assert answer.status_code == 200
        return [row.mailing.title for row in answer.context["rows"]]

    def test_choices(self, house: Any, three: dict[str, Mailing]) -> None:
        """By kind, words, stage, days of the viewer's own zone, and person; in each order."""
        assert self.titles(house, "") == ["Sale", "Receipt", "Letter"]
        assert self.titles(house, "kind=transactional") == ["Receipt"]
        assert self.titles(house, "q=ETTER") == ["Letter"]
        assert self.titles(house, "q=members&order=title") == ["Letter", "Receipt", "Sale"]
        # Half past eleven at night in UTC is the next day in Amsterdam, where the reviewer lives.
        assert self.titles(house, "from=2027-03-10&to=2027-03-10") == ["Sale"]
        assert self.titles(house, "from=2027-03-09&to=2027-03-09") == []
        assert self.titles(house, "to=2027-03-19&from=2027-03-21") == ["Receipt"]
        assert self.titles(house, "order=newest") == ["Letter", "Receipt", "Sale"]
        assert self.titles(house, "stage=cleared") == []
        assert self.titles(house, f"person={house.author.pk}") == ["Sale", "Receipt", "Letter"]
        assert self.titles(house, f"person={house.approver.pk}") == []
        approvals.sign(house.approver, three["Receipt"].revisions.get())
        assert self.titles(house, f"person={house.approver.pk}") == ["Receipt"]
        assert self.titles(house, "kind=nothing&order=x&person=x&from=x") == ["Sale", "Receipt", "Letter"]
        assert self.titles(house, "", house.outsider) == []

    def test_waits_for_me(self, house: Any, three: dict[str, Mailing]) -> None:
        """The messages of which something waits for the person."""
        approvals.sign(house.reviewer, three["Sale"].revisions.get())
        assert self.titles(house, "mine=yes", house.approver) == ["Sale"]
        assert self.titles(house, "mine=yes", house.reviewer) == []

    def test_what_is_chosen_stays(self, house: Any, three: dict[str, Mailing]) -> None:
        """A stage, a window of the axis and a cluster keep the rest of the filter."""
        page = page_of(house.client(house.reviewer).get("/?kind=promotional&q=members"))
        assert 'href="?q=members&amp;stage=cleared&amp;kind=promotional"' in page
        assert 'href="?q=members&amp;kind=promotional&amp;from=' in page
        assert 'value="members"' in page
        assert "No message fits." in page_of(house.client(house.reviewer).get("/?kind=promotional&stage=released"))

    def test_clusters_open(self, house: Any) -> None:
        """Messages of near days are one windsock on a long axis; its link shows these days alone, and there they stand apart."""
        for title, day in (("A", 1), ("B", 3), ("C", 300)):
            when = datetime(2027 + day // 300, 3, day % 28 + 1, 8, tzinfo=UTC)
            taken_in(house, mail(Subject=title), details=Details(title, planned_at=when))
        client = house.client(house.reviewer)
        marks = client.get("/").context["axis"].marks
        assert [len(mark.rows) for mark in marks] == [2, 1]
        assert marks[0].opens == "from=2027-03-02&to=2027-03-04"
        assert marks[1].opens == ""
        within = client.get(f"/?{marks[0].opens}").context
        assert [row.mailing.title for row in within["rows"]] == ["A", "B"]

    def test_pages_keep_the_filter(self, house: Any) -> None:
        """A link to another page has the whole address."""
        model = taken_in(house)
        for number in range(60):
            mailing = Mailing.objects.create(workspace=house.workspace, title=f"Pots {number}", created_by=house.author)
            revision = model.mailing.revisions.get()
            revision.pk, revision.mailing = None, mailing
            revision._state.adding = True
            revision.save()
        page = page_of(house.client(house.reviewer).get("/?q=pots&order=title"))
        assert 'href="?page=2&amp;q=pots&amp;order=title"' in page
        assert "1–40 of 60" in page


@pytest.mark.django_db
class TestViews:
    """Filters under a name."""

    def test_kept_for_oneself_and_for_all(self, house: Any) -> None:
        """Others see what is for all; the same name again takes the new filter; its owner removes it."""
        client = house.client(house.reviewer)
        client.post("/views/keep/", {"name": "  My  sales ", "query": "kind=promotional&junk=1"})
        client.post("/views/keep/", {"name": "Receipts", "query": "kind=transactional", "shared": "yes"})
        client.post("/views/keep/", {"name": "Receipts", "query": "kind=transactional&order=title", "shared": "yes"})
        assert [(one.name, one.query) for one in SavedView.objects.all()] == [
            ("My sales", "kind=promotional"),
            ("Receipts", "kind=transactional&order=title"),
        ]
        other = page_of(house.client(house.author).get("/"))
        assert "Receipts" in other and "My sales" not in other and "Remove the view" not in other
        assert "kept for all by Reviewer" in other
        mine, shared = SavedView.objects.all()
        assert house.client(house.author).post(f"/views/{mine.pk}/remove/").status_code == 404
        house.client(house.author).post(f"/views/{shared.pk}/remove/")
        assert SavedView.objects.count() == 2
        assert house.client(house.outsider).post(f"/views/{shared.pk}/remove/").status_code == 404
        # Who may change the workspace removes what is for all.
        house.client(house.operator).post(f"/views/{shared.pk}/remove/")
        client.post(f"/views/{mine.pk}/remove/")
        assert not SavedView.objects.exists()

    def test_refused(self, house: Any) -> None:
        """No name, a long one, nothing chosen, a shared name of somebody else, too many; another workspace."""
        place = house.workspace
        for name, query, words in (
            ("", "kind=promotional", "name of up to 40"),
            ("x" * 41, "kind=promotional", "name of up to 40"),
            ("x", "", "every message"),
        ):
            with pytest.raises(Refused, match=words):
                saved_views.keep_view(house.reviewer, place, name, query)
        saved_views.keep_view(house.reviewer, place, "Ours", "kind=promotional", is_shared=True)
        with pytest.raises(Refused, match="for all already"):
            saved_views.keep_view(house.author, place, "Ours", "kind=newsletter", is_shared=True)
        for number in range(saved_views.MOST - 1):
            saved_views.keep_view(house.reviewer, place, f"View {number}", "kind=promotional")
        with pytest.raises(Refused, match="remove one first"):
            saved_views.keep_view(house.reviewer, place, "One more", "kind=promotional")
        with pytest.raises(NotAllowed):
            saved_views.keep_view(house.outsider, place, "Mine", "kind=promotional")


@pytest.mark.django_db
class TestMany:
    """One press for many messages."""

    def test_labels(self, house: Any) -> None:
        """Put on and taken off, logged once each, found by; a released message is told and keeps none of the others."""
        first, second = taken_in(house).mailing, taken_in(house, mail(Subject="Second"), details=Details("Second")).mailing
        Mailing.objects.filter(pk=second.pk).update(stage="released")
        client = house.client(house.reviewer)
        chosen = {"message": [first.pk, second.pk], "act": "label", "label": " spring  week ", "query": "order=title"}
        for _ in range(2):
            answer = client.post("/departures/bulk/", chosen)
        assert answer["Location"] == "/?order=title"
        page = page_of(client.get("/?order=title"))
        assert "1 message is with the label “spring week”." in page and "“Second” is released and locked" in page
        assert Mailing.objects.get(pk=first.pk).labels == ["spring week"]
        assert LogEntry.objects.filter(action="mailing.labelled").count() == 1
        assert [row.mailing for row in client.get("/?label=spring+week").context["rows"]] == [first]
        client.post("/departures/bulk/", {**chosen, "act": "unlabel"})
        assert Mailing.objects.get(pk=first.pk).labels == []

    def test_checked_again(self, house: Any) -> None:
        """The newest revision of each."""
        first, second = taken_in(house).mailing, taken_in(house, mail(Subject="Second")).mailing
        Work.objects.all().delete()
        house.client(house.reviewer).post("/departures/bulk/", {"message": [first.pk, second.pk], "act": "recheck"})
        assert Work.objects.filter(kind="checks", state="waiting").count() == 2

    def test_given(self, house: Any) -> None:
        """The person is told once; the list names them at their turn and finds what was given; taken away again, the notice is gone."""
        mailing = taken_in(house).mailing
        client, sent = house.client(house.author), {"message": mailing.pk, "act": "give", "person": house.reviewer.pk}
        for _ in range(2):
            client.post("/departures/bulk/", sent)
        notice = Notice.objects.get(user=house.reviewer)
        assert (notice.kind, notice.words, notice.read_at) == ("given", "Author gave you its review.", None)
        assert LogEntry.objects.filter(action="mailing.given").count() == 1
        page = page_of(client.get(f"/?person={house.reviewer.pk}"))
        assert f"given to {house.reviewer.shown_name}" in page and "since" in page
        with pytest.raises(Refused, match="does not review"):
            bulk.give_all(house.author, house.workspace, [mailing.pk], house.operator)
        with pytest.raises(Refused, match="does not review"):
            bulk.give_all(house.author, house.workspace, [mailing.pk], house.outsider)
        client.post("/departures/bulk/", {**sent, "person": "nobody"})
        assert Mailing.objects.get().given_to is None and Notice.objects.get().read_at is not None

    def test_deadline(self, house: Any) -> None:
        """Set in the person's own zone; shown, sorted by, overdue when it has passed; refused where it lies in the past or after it leaves."""
        leaves = timezone.now() + timedelta(days=9)
        mailing = taken_in(house, details=Details("Sale", planned_at=leaves)).mailing
        client = house.client(house.author)
        wanted = (timezone.now() + timedelta(days=3)).astimezone(house.author.zone).replace(second=0, microsecond=0)
        client.post("/departures/bulk/", {"message": mailing.pk, "act": "deadline", "until": f"{wanted:%Y-%m-%dT%H:%M}"})
        assert Mailing.objects.get().review_by == wanted
        assert f"its review is due<br>{wanted:%a} {wanted.day} {wanted:%b %Y %H:%M}" in page_of(client.get("/?order=deadline"))
        for until, words in (
            (timezone.now() - timedelta(hours=1), "lies in the past"),
            (leaves + timedelta(days=1), "before that deadline"),
        ):
            try:
                refused = bulk.set_deadline_all(house.author, house.workspace, [mailing.pk], until).refused
            except Refused as one:
                refused = [one.sentence]
            assert words in refused[0]
        for typed in ("", "x", "2027-99-99T10:00", "0001-01-01T10:00"):
            assert client.post("/departures/bulk/", {"message": mailing.pk, "act": "deadline", "until": typed}).status_code in (302, 409)
        assert Mailing.objects.get().review_by == wanted
        Mailing.objects.update(review_by=timezone.now() - timedelta(minutes=1))
        assert "its review was due" in page_of(client.get("/"))
        client.post("/departures/bulk/", {"message": mailing.pk, "act": "no-deadline"})
        assert Mailing.objects.get().review_by is None

    def test_reminders(self, house: Any) -> None:
        """A day before and when it has passed, once each; the person it was given to, or every reviewer; nobody once it is cleared."""
        mailing = taken_in(house).mailing
        due = timezone.now() + timedelta(days=5)
        Mailing.objects.update(review_by=due)
        hour = timedelta(hours=1)
        assert remind(due - 2 * timedelta(days=1), due - timedelta(days=1) - hour) == 0
        assert remind(due - timedelta(days=1) - hour, due - timedelta(days=1)) == 1
        assert remind(due - timedelta(days=1), due - hour) == 0
        (notice,) = Notice.objects.filter(kind="deadline")
        assert notice.user == house.reviewer and notice.words.startswith("Its review is due by")
        bulk.give_all(house.author, house.workspace, [mailing.pk], house.approver)
        assert remind(due - hour, due) == 1
        assert Notice.objects.get(kind="deadline", user=house.approver).words.startswith("The deadline for its review has passed")
        # A person who left reviews nothing: the reviewers are told instead.
        Notice.objects.all().delete()
        house.workspace.memberships.filter(user=house.approver).update(deactivated_at=timezone.now())
        assert remind(due - hour, due) == 1
        assert [one.user for one in Notice.objects.filter(kind="deadline")] == [house.reviewer]
        Mailing.objects.update(stage="cleared")
        assert remind(due - hour, due) == 0

    def test_moved(self, house: Any) -> None:
        """The hour of the clock stays over the change to summer time; what has no time, or would leave in the past, is told."""
        zone = ZoneInfo("Europe/Amsterdam")
        details = Details("Sale", planned_at=datetime(2032, 3, 26, 9, tzinfo=zone), planned_zone=zone.key)
        planned, free = taken_in(house, details=details).mailing, taken_in(house, mail(Subject="Second"), details=Details("Second")).mailing
        client = house.client(house.author)
        client.post("/departures/bulk/", {"message": [planned.pk, free.pk], "act": "later", "days": "7"})
        planned.refresh_from_db()
        assert planned.planned_at == datetime(2032, 4, 2, 9, tzinfo=zone)
        assert "“Second” has no planned time" in page_of(client.get("/"))
        assert bulk.move_all(house.author, house.workspace, [planned.pk], -7).number == 1
        planned.refresh_from_db()
        assert planned.planned_at == datetime(2032, 3, 26, 9, tzinfo=zone)
        Mailing.objects.filter(pk=planned.pk).update(planned_at=timezone.now() + timedelta(days=1))
        assert "would leave in the past" in bulk.move_all(house.author, house.workspace, [planned.pk], -2).refused[0]
        for days in (0, 367, -367):
            with pytest.raises(Refused, match="1 to 366"):
                bulk.move_all(house.author, house.workspace, [planned.pk], days)

    def test_refused(self, house: Any) -> None:
        """Nothing chosen, nothing to do, no label, too many labels, another house, no permission."""
        mailing = taken_in(house).mailing
        for numbers, words in (([], "Choose messages first"), (range(1, bulk.MOST + 2), "one press takes 200")):
            with pytest.raises(Refused, match=words):
                bulk.recheck_all(house.reviewer, house.workspace, numbers)
        with pytest.raises(Refused, match="1 to 30 characters"):
            bulk.label_all(house.reviewer, house.workspace, [mailing.pk], "x" * 31)
        for number in range(bulk.MOST_LABELS + 1):
            done = bulk.label_all(house.reviewer, house.workspace, [mailing.pk], f"label {number}")
        assert (done.number, done.refused) == (0, [f"“{mailing.title}” has 10 labels; take one off first."])
        with pytest.raises(NotAllowed):
            bulk.recheck_all(house.author, house.workspace, [mailing.pk])
        assert bulk.label_all(house.outsider, house.outsider.memberships.get().workspace, [mailing.pk], "theirs") == bulk.Done(0, [])
        assert house.client(house.reviewer).post("/departures/bulk/", {"message": mailing.pk}).status_code == 409


@pytest.mark.django_db(transaction=True)
def test_one_name_kept_twice_at_once(house: Any) -> None:
    """A second click, or a second window, makes no second view."""
    start = threading.Barrier(2)

    def keep() -> None:
        try:
            start.wait(10)
            saved_views.keep_view(house.reviewer, house.workspace, "Sales", "kind=promotional")
        finally:
            connection.close()

    for _ in range(10):
        SavedView.objects.all().delete()
        threads = [threading.Thread(target=keep) for _ in range(2)]
        for one in threads:
            one.start()
        for one in threads:
            one.join(20)
        assert SavedView.objects.count() == 1
