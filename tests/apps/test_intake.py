"""Taking files in, through the page and through the service."""

from datetime import UTC, datetime
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import IntegrityError, connection, transaction

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.intake import services
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import Details
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.models import Render
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.core.message import Envelope
from jetwind.core.profiles import usual
from tests.apps.helpers import taken_in
from tests.factories import mail, package, picture


class TestTakeIn:
    """A file becomes a mailing with revision 1."""

    def test_mail_through_the_page(self, house: Any) -> None:
        """Title and sender come from the headers; checks and renders are asked for; the bytes are kept."""
        raw = mail(Subject="Grüße aus dem Ofen")
        answer = house.client(house.author).post("/take-in/", {"file": SimpleUploadedFile("a.eml", raw)}, follow=True)
        assert answer.status_code == 200
        mailing = Mailing.objects.get()
        revision = mailing.revisions.get()
        assert (mailing.title, mailing.stage, revision.number, revision.subject) == (
            "Grüße aus dem Ofen",
            "taken-in",
            1,
            "Grüße aus dem Ofen",
        )
        assert revision.sender == "Kiln Works <hello@kiln.org>"
        assert store.fetch(revision.source_sha256) == raw
        assert {work.kind for work in Work.objects.all()} == {"checks", "renders"}
        assert Render.objects.filter(revision=revision).count() == len(usual())
        assert LogEntry.objects.get().sentence == "took in “Grüße aus dem Ofen” from a.eml"

    @pytest.mark.parametrize(
        ("name", "data", "said"),
        [
            ("a.eml", b"", "is empty"),
            ("a.eml", b"\x00\x01\x02 not a mail", "is not a mail"),
            ("a.zip", b"PK\x03\x04 broken", "broken zip"),
            ("big.eml", b"Subject: x\n\n" + b"x" * (31 * 1024 * 1024), "is 31 MB; the largest that can be taken in is 30 MB"),
        ],
    )
    def test_refused_with_a_sentence_and_nothing_half_made(self, house: Any, name: str, data: bytes, said: str) -> None:
        """One clear sentence on the page; no mailing, no revision, no work, no log."""
        answer = house.client(house.author).post(
            "/take-in/", {"file": SimpleUploadedFile(name, data)}, headers={"referer": "http://testserver/"}, follow=True
        )
        assert said in answer.content.decode()
        assert (Mailing.objects.count(), Revision.objects.count(), Work.objects.count(), LogEntry.objects.count()) == (0, 0, 0, 0)

    def test_no_file(self, house: Any) -> None:
        """The form without a file says what to choose."""
        answer = house.client(house.author).post("/take-in/", {})
        assert answer.status_code == 409
        assert "choose an .eml" in answer.content.decode()

    def test_html_without_headers_is_asked_for_its_envelope(self, house: Any) -> None:
        """HTML in a foreign charset is taken, with a finding; the envelope comes later as a revision of its own."""
        revision = taken_in(house, '<meta charset="utf-8"><p>Grüße</p>'.encode("latin-1"), "a.html")
        assert "appearance.charset" in revision.check_runs.get().findings.values_list("check_id", flat=True)
        answer = house.client(house.author).post(
            f"/mailings/{revision.mailing_id}/envelope/",
            {"subject": "Sale", "sender_name": "Kiln", "sender_address": "k@kiln.org"},
            follow=True,
        )
        newest = Revision.objects.last()
        assert newest is not None
        assert (answer.status_code, newest.number, newest.subject, newest.sender, newest.source_sha256) == (
            200,
            2,
            "Sale",
            "Kiln <k@kiln.org>",
            revision.source_sha256,
        )
        assert newest.content_sha256 != revision.content_sha256

    def test_pasted_source_with_everything(self, house: Any) -> None:
        """Envelope, kind, audience and planned time in the zone that is named."""
        form = {
            "source": "<p>x</p>",
            "subject": "Sale",
            "sender_address": "k@kiln.org",
            "title": "Spring",
            "kind": "newsletter",
            "audience": "members",
            "planned": "2027-03-09T09:00",
            "planned_zone": "Asia/Tokyo",
        }
        house.client(house.author).post("/paste/", form)
        mailing = Mailing.objects.get()
        assert (mailing.title, mailing.kind, mailing.audience, mailing.planned_at) == (
            "Spring",
            "newsletter",
            "members",
            datetime(2027, 3, 9, 0, tzinfo=UTC),
        )
        assert mailing.revisions.get().given_envelope == Envelope("Sale", "", "k@kiln.org", "", "")

    @pytest.mark.parametrize("change", [{"source": " "}, {"planned": "yesterday"}, {"kind": "private"}, {"source": "no html, no headers"}])
    def test_pasting_refused_keeps_what_was_typed(self, house: Any, change: dict[str, str]) -> None:
        """The form comes back filled."""
        answer = house.client(house.author).post(
            "/paste/", {"source": "<p>typed</p>", "subject": "Kept subject", "kind": "promotional", "planned_zone": "UTC", **change}
        )
        assert answer.status_code == 400
        assert "Kept subject" in answer.content.decode()
        assert Mailing.objects.count() == 0

    def test_who_may(self, house: Any) -> None:
        """Authors and reviewers take in; an approver is told who does."""
        with pytest.raises(NotAllowed, match="author or reviewer"):
            services.take_in(house.approver, house.workspace, mail(), "a.eml")


class TestRevisions:
    """Another file on a mailing."""

    def test_the_next_number_and_a_new_check(self, house: Any) -> None:
        """Revision 2; the same content again is refused."""
        revision = taken_in(house)
        other = mail(Subject="Other")
        assert services.add_revision(house.author, revision.mailing, other, "b.eml").number == 2
        with pytest.raises(Refused, match=r"“b.eml” is exactly revision 2"):
            services.add_revision(house.author, revision.mailing, other, "b.eml")

    def test_html_keeps_the_envelope_of_before(self, house: Any) -> None:
        """A corrected page does not lose its subject."""
        revision = taken_in(house, package(), "a.zip", envelope=Envelope("Sale", "Kiln", "k@kiln.org"))
        second = services.add_revision(house.author, revision.mailing, package("<p>corrected</p>"), "b.zip")
        assert second.subject == "Sale"

    def test_a_revision_never_changes(self, house: Any) -> None:
        """The database itself refuses."""
        revision = taken_in(house)
        with pytest.raises(IntegrityError, match="never changes"), transaction.atomic():
            Revision.objects.filter(pk=revision.pk).update(subject="changed")

    def test_a_copy_starts_from_the_newest(self, house: Any) -> None:
        """Same content, own history, title that says so."""
        revision = taken_in(house, package(a_dot_png=picture()), "a.zip", envelope=Envelope("Sale", "Kiln", "k@kiln.org"))
        copy = services.start_copy(house.operator, revision.mailing)
        assert (copy.title, copy.copied_from, copy.stage) == ("Copy of Sale", revision.mailing, "taken-in")
        assert copy.revisions.get().content_sha256 == revision.content_sha256

    def test_details_change_has_it_checked_again(self, house: Any) -> None:
        """Kind matters to checks."""
        revision = taken_in(house)
        services.change_details(house.author, revision.mailing, Details("New title", "transactional", "x", None, "UTC"))
        assert Work.objects.filter(kind="checks", state="waiting").count() == 1
        assert LogEntry.objects.last().sentence == "changed title, kind, audience"  # type: ignore[union-attr]

    @pytest.mark.parametrize("statement", ["update audit_logentry set action = 'x'", "delete from audit_logentry"])
    def test_the_log_is_append_only(self, house: Any, statement: str) -> None:
        """Neither changed nor deleted, whoever writes."""
        taken_in(house)
        with pytest.raises(IntegrityError, match="append-only"), transaction.atomic(), connection.cursor() as cursor:
            cursor.execute(statement)
