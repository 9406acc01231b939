"""The stations Envelope, Wording and Plain text, revisions side by side, and the settings of checks."""

from __future__ import annotations

import csv
import io
import json
import random
import re
import sys
import zipfile
from datetime import datetime
from pathlib import Path
from types import ModuleType
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from django.test import Client
from PIL import Image, ImageFilter

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import Details, add_revision, change_details, change_envelope, start_copy
from jetwind.apps.review import answers, services, station_page
from jetwind.apps.review.comparison import compare
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import services as workspaces
from jetwind.apps.workspace.check_list import check_groups, chosen_settings
from jetwind.config.settings import ROOT
from jetwind.core.checking import registry
from jetwind.core.images.likeness import likeness
from jetwind.core.message import Envelope, read_bytes
from tests.apps.helpers import checked, page_of, taken_in
from tests.factories import GOOD_HTML, GOOD_TEXT, archive, mail, package, picture

PLANNED = datetime(2027, 3, 1, 9, 0, tzinfo=ZoneInfo("UTC"))


def page(client: Client, revision: Revision, slug: str, query: str = "") -> str:
    """The HTML of a station."""
    answer = client.get(f"/mailings/{revision.mailing_id}/r{revision.number}/{slug}/{query}")
    assert answer.status_code == 200
    return page_of(answer)


def ids(revision: Revision) -> set[str]:
    """Ids of all findings."""
    return {found.record.check_id for found in walk_of(revision).findings}


class TestEnvelope:
    """Rows, variants, readers."""

    def _with_variants(self, house: Any) -> Revision:
        revision = taken_in(house)
        envelope = Envelope(
            subject="Spring glaze sale",
            sender_name="Kiln Works",
            sender_address="hello@kiln.org",
            subject_variants=(
                "{{ first_name }}, glazes are in and every litre costs a fifth less until Sunday evening at six",
                "SPRING glaze sale",
            ),
        )
        change_envelope(house.author, revision.mailing, envelope)
        return checked(revision.mailing)

    def test_rows_are_drawn_for_variant_and_reader(self, house: Any) -> None:
        """Four rows; the chosen variant is merged for the chosen reader; cuts are told."""
        revision = self._with_variants(house)
        client = house.client(house.reviewer)
        shown = page(client, revision, "envelope")
        assert shown.count('class="inbox-row"') == 4
        assert "Spring glaze sale" in shown
        variant = page(client, revision, "envelope", "?variant=1&reader=Bo")
        assert "Bo, glazes are in" in variant
        assert "subject cut after" in variant
        assert "textLength=" in variant
        assert ids(revision) >= {"envelope.variant-duplicate", "envelope.subject-long"}

    @pytest.mark.parametrize("query", ["?variant=99", "?variant=x", "?reader=nobody+at+all", "?variant=-1&reader="])
    def test_odd_choices_draw_the_first(self, house: Any, query: str) -> None:
        """Never an error."""
        assert "inbox-row" in page(house.client(house.reviewer), self._with_variants(house), "envelope", query)

    def test_variants_are_edited_as_lines(self, house: Any) -> None:
        """One on each line; empty lines go; the next revision has them."""
        revision = taken_in(house, GOOD_HTML.encode(), "sale.html")
        data = {"subject": "Sale", "sender_address": "a@kiln.org", "subject_variants": "One\r\n\r\n  Two  \r\n"}
        answer = house.client(house.author).post(f"/mailings/{revision.mailing_id}/envelope/", data)
        assert answer.status_code == 302
        newest = checked(revision.mailing)
        assert newest.number == 2
        assert message_of(newest).variants == ("One", "Two")
        shown = house.client(house.author).get(f"/mailings/{newest.mailing_id}/r2/envelope/").content.decode()
        assert "One\nTwo" in shown

    def test_html_without_headers_says_so(self, house: Any) -> None:
        """And offers the form to whoever may change it."""
        revision = taken_in(house, b"<p>Hello from the kiln</p>", "x.html")
        assert "came without headers" in page(house.client(house.author), revision, "envelope")
        assert "Keep as the next revision" not in page(house.client(house.operator), revision, "envelope")


class TestBrief:
    """Entered once, held against every place."""

    def post(self, house: Any, revision: Revision, **data: object) -> Any:
        """Send the form of the Wording station."""
        return house.client(house.author).post(f"/mailings/{revision.mailing_id}/r{revision.number}/brief/", data)

    def test_required_and_forbidden(self, house: Any) -> None:
        """Added, shown as a grid, checked, and taken out again."""
        revision = taken_in(house)
        self.post(house, revision, what="required", text="a fifth  off", place=["HTML", "subject"])
        self.post(house, revision, what="forbidden", text="Kiln Quay")
        revision = checked(revision.mailing)
        assert Mailing.objects.get().brief == {
            "required": [{"text": "a fifth off", "places": ["HTML", "subject"]}],
            "forbidden": ["Kiln Quay"],
        }
        assert ids(revision) >= {"wording.required-missing", "wording.forbidden-present"}
        shown = page(house.client(house.author), revision, "wording")
        assert "✗ missing" in shown
        assert "✓ stands" in shown
        self.post(house, revision, what="take-required", text="a fifth off")
        self.post(house, revision, what="take-forbidden", text="Kiln Quay")
        assert Mailing.objects.get().brief == {"required": [], "forbidden": []}
        assert "wording.required-missing" not in ids(checked(revision.mailing))

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            ({"what": "required", "text": " ", "place": ["HTML"]}, "Type the wording first."),
            ({"what": "required", "text": "x"}, "Choose where “x” must stand."),
            ({"what": "required", "text": "x", "place": ["attic"]}, "Choose where"),
            ({"what": "forbidden", "text": "x" * 301}, "has 301 characters"),
        ],
    )
    def test_refused(self, house: Any, data: dict[str, object], said: str) -> None:
        """A sentence, and nothing changes."""
        revision = taken_in(house)
        answer = self.post(house, revision, **data)
        assert said in answer.content.decode()
        assert Mailing.objects.get().brief == {}

    def test_who_may(self, house: Any) -> None:
        """Authors and reviewers; released messages keep their brief."""
        revision = taken_in(house)
        with pytest.raises(NotAllowed):
            services.forbid_wording(house.operator, revision.mailing, "x")
        with pytest.raises(Refused, match="names the place"):
            services.require_wording(house.author, revision.mailing, "x", ["attic"])
        services.forbid_wording(house.author, revision.mailing, "x")
        assert LogEntry.objects.filter(action="mailing.changed", data__fields="the brief").count() == 1
        services.forbid_wording(house.author, Mailing.objects.get(), "x")
        assert LogEntry.objects.filter(action="mailing.changed", data__fields="the brief").count() == 1


class TestWording:
    """Facts, words, and the message it was copied from."""

    def test_facts_across_the_parts(self, house: Any) -> None:
        """One row a fact, with its calendar day; what one part lacks is marked."""
        html = GOOD_HTML.replace("come to the quay", "come on Tuesday 9 March for £24")
        revision = taken_in(
            house, mail(html, GOOD_TEXT.replace("come to the quay", "come on 9/3/2027 for £20")), details=Details(planned_at=PLANNED)
        )
        shown = page(house.client(house.reviewer), revision, "wording")
        assert "Tue 9 Mar 2027, 8 days after it leaves" in shown
        assert shown.count("not here") == 2
        assert "wording.facts-differ" in ids(revision)

    def test_word_list(self, house: Any) -> None:
        """An unknown word is learnt from the station, and the check asks no more."""
        revision = taken_in(house, mail(GOOD_HTML.replace("come to the quay", "come for the reciept")))
        client = house.client(house.reviewer)
        assert "It is right" in page(client, revision, "wording")
        answer = client.post(f"/mailings/{revision.mailing_id}/r1/learn-word/", {"word": "reciept"})
        assert answer.status_code == 302
        house.workspace.refresh_from_db()
        assert house.workspace.word_list == ["reciept"]
        assert "wording.spelling" not in ids(checked(Mailing.objects.get()))
        assert "not one word" in client.post(f"/mailings/{revision.mailing_id}/r1/learn-word/", {"word": "two words"}).content.decode()
        assert house.client(house.author).post(f"/mailings/{revision.mailing_id}/r1/learn-word/", {"word": "x2"}).status_code == 403

    def test_held_against_the_message_it_was_copied_from(self, house: Any) -> None:
        """What stayed though it usually changes, and what changed."""
        html = GOOD_HTML.replace("come to the quay", "come by 9 March, only £24")
        first = taken_in(house, mail(html, Subject="Spring sale"))
        copy = start_copy(house.author, first.mailing)
        add_revision(house.author, copy, mail(html.replace("9 March", "9 October"), Subject="Autumn sale"), "autumn.eml")
        revision = checked(copy)
        shown = page(house.client(house.reviewer), revision, "wording")
        assert "Held against" in shown
        assert "Spring sale" in shown
        assert "9 October" in shown
        carried = [found.record.sentence for found in walk_of(revision).findings if found.record.check_id == "wording.carried-over"]
        assert any("£24" in sentence for sentence in carried)
        assert any("preview text" in sentence for sentence in carried)
        assert not any("Autumn" in sentence or "October" in sentence for sentence in carried)

    def test_working_titles(self, house: Any) -> None:
        """A copy starts with a title that asks to be changed; a taken one is told."""
        first = taken_in(house)
        copy = start_copy(house.author, first.mailing)
        assert "envelope.title-residue" in ids(checked(copy))
        change_details(house.author, copy, Details(first.mailing.title.upper(), "promotional"))
        assert "envelope.title-taken" in ids(checked(copy))

    def test_copy_beside_its_source(self, house: Any) -> None:
        """Passages with section, line and source; plain text where there is no HTML."""
        assert "<code>Spring glaze sale</code>" in page(house.client(house.reviewer), taken_in(house), "wording")
        assert "Only words" in page(house.client(house.reviewer), taken_in(house, mail(None, "Only words\n")), "wording")


class TestPlainText:
    """Side by side, and made afresh."""

    def test_rows(self, house: Any) -> None:
        """Sentences face each other; what one side lacks is told."""
        revision = taken_in(house, mail(GOOD_HTML, "Hello\n\nOnly in the text, and nowhere else.\n"))
        shown = page(house.client(house.reviewer), revision, "plain-text")
        assert "only in the HTML" in shown
        assert "only in the plain text" in shown

    def test_saved_as_a_file(self, house: Any) -> None:
        """Text, named for its revision."""
        revision = taken_in(house)
        answer = house.client(house.approver).get(f"/mailings/{revision.mailing_id}/r1/plain-text-afresh/")
        assert answer["Content-Type"] == "text/plain; charset=utf-8"
        assert answer["Content-Disposition"] == f'attachment; filename="message-{revision.mailing_id}-r1.txt"'
        assert answer.content.decode().startswith("Spring glaze sale\n====")

    @pytest.mark.parametrize(
        ("raw", "name", "kind"),
        [
            (mail(text=None), "sale.eml", "sale.eml"),
            (GOOD_HTML.encode(), "sale.html", "sale.zip"),
            (package(a_dot_png=picture()), "sale.zip", "sale.zip"),
        ],
        ids=["mail", "HTML", "package"],
    )
    def test_made_the_next_revision(self, house: Any, raw: bytes, name: str, kind: str) -> None:
        """The text is in it, the HTML is the same, and the station is content."""
        revision = taken_in(house, raw, name)
        answer = house.client(house.author).post(f"/mailings/{revision.mailing_id}/r1/plain-text-afresh/")
        assert answer.status_code == 302
        newest = checked(revision.mailing)
        message = message_of(newest)
        assert (newest.number, newest.file_name) == (2, kind)
        assert message.text is not None
        assert message.html is not None
        assert "Spring glaze sale" in message.text.text
        assert message.html.text == message_of(revision).html.text  # type: ignore[union-attr]
        assert not ids(newest) & {"text.missing", "text.out-of-sync", "text.residue", "sending.mime"}

    def test_refused(self, house: Any) -> None:
        """Without HTML there is nothing to make it of; an old revision, or one without leave, makes none."""
        plain = taken_in(house, mail(None, "words\n"))
        client = house.client(house.author)
        assert "no HTML" in client.post(f"/mailings/{plain.mailing_id}/r1/plain-text-afresh/").content.decode()
        old = taken_in(house, mail(text=None))
        add_revision(house.author, old.mailing, mail(GOOD_HTML.replace("quay", "pier"), None), "b.eml")
        assert "is not the newest" in client.post(f"/mailings/{old.mailing_id}/r1/plain-text-afresh/").content.decode()
        assert house.client(house.operator).post(f"/mailings/{old.mailing_id}/r2/plain-text-afresh/").status_code == 403
        assert old.mailing.revisions.count() == 2


class TestImages:
    """Weights as bars to one scale, what a lighter file would save, where each picture stands."""

    def test_bars_and_rows(self, house: Any, django_assert_max_num_queries: Any) -> None:
        """The one that could be lighter first, with what it would weigh; names are escaped."""
        grain = Image.frombytes("RGB", (900, 600), random.Random(4).randbytes(900 * 600 * 3)).filter(ImageFilter.GaussianBlur(3))
        heavy = io.BytesIO()
        grain.save(heavy, "JPEG", quality=98)
        body = "<p>Pots, bowls and cups, all thrown by hand.</p>"
        pictures = "<img src='heavy.jpg' width='300' height='200' alt='Pots'><img src='a&amp;b.png' width='40' height='20' alt=''>"
        revision = taken_in(
            house, archive({"a.html": (body + pictures).encode(), "heavy.jpg": heavy.getvalue(), "a&b.png": picture()}), "a.zip"
        )
        found = next(one.record for one in walk_of(revision).findings if one.record.check_id == "images.saving")
        reviewer = house.client(house.reviewer)
        with django_assert_max_num_queries(10):
            shown = page(reviewer, revision, "images", f"?finding={found.fingerprint}")
        assert shown.index("heavy.jpg</text>") < shown.index("a&amp;b.png</text>")
        assert f"{len(heavy.getvalue()) / 1024:,.1f} KB" in shown
        assert f"{found.data['saved'] / 1024:,.1f} KB less" in shown
        assert "900 × 600 JPEG" in shown
        assert '<tr class="chosen"><td class="tight">1</td><td class="address">heavy.jpg' in shown
        html = len((body + pictures).encode())
        whole = html + len(heavy.getvalue()) + len(picture())
        assert f"With its HTML the message weighs {whole / 1024:,.1f} KB, then {(whole - found.data['saved']) / 1024:,.1f} KB." in shown
        assert f"On a slow phone line that takes {whole / 50_000:.1f} s, then {(whole - found.data['saved']) / 50_000:.1f} s." in shown
        # The files with a list: what was told is what is in them, to the octet.
        assert "/lighter-pictures.zip" in shown
        assert "Circumstances have changed" not in shown
        given = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures.zip")
        packed = zipfile.ZipFile(io.BytesIO(given.content))
        assert packed.namelist() == ["heavy.jpg", "list.csv"]
        (row,) = csv.DictReader(io.StringIO(packed.read("list.csv").decode("utf-8-sig")))
        made = packed.read("heavy.jpg")
        assert len(heavy.getvalue()) - len(made) == found.data["saved"] == int(row["saved"])
        assert (Image.open(io.BytesIO(made)).width, row["width in px"], row["octets then"]) == (600, "600", str(len(made)))
        assert float(row["likeness"]) >= 0.98

        approver = house.client(house.approver)
        assert "Put them into the next revision" not in page(approver, revision, "images")
        # Both as pixels of our own making, of one size, alike.
        sides = [
            reviewer.get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures/{found.fingerprint}/{side}.png")
            for side in ("before", "after")
        ]
        before, after = (Image.open(io.BytesIO(side.content)) for side in sides)
        assert (before.format, after.format, before.size, after.size) == ("PNG", "PNG", (600, 400), (600, 400))
        assert 0.98 <= likeness(before, after) < 1
        assert shown.count(f"/lighter-pictures/{found.fingerprint}/") == 2
        assert reviewer.get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures/{'0' * 16}/after.png").status_code == 404
        # Whoever may change the message puts them in; of an older revision nobody does.
        address = f"/mailings/{revision.mailing_id}/r1/lighter-pictures/"
        assert approver.post(address).status_code == 403
        author = house.client(house.author)
        assert "Put them into the next revision" in page(author, revision, "images")
        assert author.post(address).status_code == 302
        second = Revision.objects.get(mailing=revision.mailing, number=2)
        assert message_of(second).resource("heavy.jpg").data == made  # type: ignore[union-attr]
        assert author.post(address).status_code == 409
        assert Revision.objects.filter(mailing=revision.mailing).count() == 2
        assert "images.saving" not in ids(checked(revision.mailing))

    def test_without_pictures(self, house: Any) -> None:
        """Says so."""
        revision = taken_in(house, mail("<p>Pots</p>"))
        client = house.client(house.reviewer)
        assert "The message shows no pictures." in page(client, revision, "images")
        refused = client.get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures.zip")
        assert refused.status_code == 409
        assert "No picture of this revision is known to be lighter" in refused.content.decode()


class TestRevisions:
    """Any two side by side."""

    def _three(self, house: Any) -> list[Revision]:
        """A fault that comes, goes, and comes back; another that stays; another that is new."""
        bad, other = "<a href='#'>Shop here</a>", "<img src='https://k.org/a.png' width='200' height='90'>"
        first = taken_in(house, mail(GOOD_HTML.replace("</h1>", f"</h1>{bad}{other}")))
        add_revision(house.author, first.mailing, mail(GOOD_HTML.replace("</h1>", f"</h1>{other}")), "b.eml")
        second = checked(first.mailing)
        add_revision(
            house.author,
            first.mailing,
            mail(GOOD_HTML.replace("</h1>", f"</h1>{bad}{other}<p>the the</p>"), Subject="Another subject"),
            "c.eml",
        )
        return [first, second, checked(first.mailing)]

    def test_findings(self, house: Any) -> None:
        """Fixed, new, still there, back again."""
        first, second, third = self._three(house)

        def named(found: Any) -> set[str]:
            return {item.record.check_id for item in found}

        earlier = compare(first, second)
        assert named(earlier.fixed) == {"links.empty"}
        assert "access.alt-missing" in named(earlier.still)
        later = compare(second, third)
        assert "links.empty" in named(later.back)
        assert "wording.repeated-word" in named(later.new)
        assert "access.alt-missing" in named(later.still)
        assert [change.name for change in later.envelope] == ["Subject"]
        assert any(pair.text and "the the" in pair.text.text for pair in later.text)
        assert {line.kind for line in later.source} >= {"gone", "new"}

    def test_faults_told_together(self, house: Any) -> None:
        """Of four links over http one is mended and one comes: the finding is still there, and says what became of it."""

        def copy(*numbers: int) -> bytes:
            links = "".join(f'<p><a href="http://kiln.org/{number}">Page {number}</a></p>' for number in numbers)
            return mail(GOOD_HTML.replace("</h1>", "</h1>" + links))

        first = taken_in(house, copy(1, 2, 3, 4))
        add_revision(house.author, first.mailing, copy(1, 2, 3, 5), "b.eml")
        result = compare(first, checked(first.mailing))
        (one,) = [item.record for item in result.still if item.record.check_id == "links.insecure"]
        assert one.sentence.endswith(" links lead over http. Of them 1 is new and 1 was fixed.")
        assert not [item for item in (*result.new, *result.fixed) if item.record.check_id == "links.insecure"]

    def test_excuses_carry_over(self, house: Any) -> None:
        """An excused finding is still there, and still excused, in the next revision."""
        first = taken_in(house, mail(GOOD_HTML.replace("</h1>", "</h1><img src='https://k.org/a.png' width='200' height='90'>")))
        found = next(found.record for found in walk_of(first).findings if found.record.check_id == "access.alt-missing")
        services.excuse(house.reviewer, first, found.fingerprint, "the picture is drawn by hand", only_this_revision=False)
        add_revision(
            house.author,
            first.mailing,
            mail(GOOD_HTML.replace("</h1>", "</h1><p>More</p><img src='https://k.org/a.png' width='200' height='90'>")),
            "b.eml",
        )
        result = compare(first, checked(first.mailing))
        assert [item.excuse is not None for item in result.still if item.record.check_id == "access.alt-missing"] == [True]

    @pytest.mark.parametrize("query", ["", "?earlier=1&later=3", "?earlier=3&later=1", "?earlier=9&later=x", "?earlier=2&later=2"])
    def test_page(self, house: Any, query: str) -> None:
        """Opens for any choice, even an odd one."""
        first = self._three(house)[0]
        answer = house.client(house.operator).get(f"/mailings/{first.mailing_id}/compare/{query}")
        assert answer.status_code == 200
        assert "Back again" in answer.content.decode() or "one revision only" in answer.content.decode()

    def test_one_revision_and_strangers(self, house: Any) -> None:
        """One revision has nothing to compare with; another workspace sees nothing."""
        only = taken_in(house)
        assert "one revision only" in house.client(house.author).get(f"/mailings/{only.mailing_id}/compare/").content.decode()
        assert house.client(house.outsider).get(f"/mailings/{only.mailing_id}/compare/").status_code == 404


class TestKeptAnswers:
    """A recheck asks only what depends on the change."""

    def asked(self, monkeypatch: pytest.MonkeyPatch) -> list[set[str]]:
        """The checks that each run asked."""
        runs: list[set[str]] = []
        original = answers.review_bounded

        def watched(message: Any, context: Any, only: Any = None, **more: Any) -> Any:
            runs.append(set(only if only is not None else registry()))
            return original(message, context, only, **more)

        monkeypatch.setattr(answers, "review_bounded", watched)
        return runs

    def test_one_threshold(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A changed option runs its check alone; the other findings come along."""
        revision = taken_in(house, mail(GOOD_HTML + "<a href='#'>x</a>", Subject="Twelve glazes, a fifth off until Sunday"))
        runs = self.asked(monkeypatch)
        workspaces.set_checks(house.reviewer, house.workspace, {"envelope.subject-long": {"level": "note", "most_characters": 20}})
        again = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        answers.check_now(again)
        assert runs == [{"envelope.subject-long"}]
        assert ids(again) >= {"envelope.subject-long", "links.empty"}
        assert set(again.check_runs.latest("created_at").outcomes) == set(registry())
        orders = [found.order for found in again.check_runs.latest("created_at").findings.all()]
        assert orders == list(range(len(orders)))

    def test_the_planned_time(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Only what looks at the calendar is asked again."""
        revision = taken_in(house, mail(), details=Details(planned_at=PLANNED))
        runs = self.asked(monkeypatch)
        Mailing.objects.update(planned_at=datetime(2027, 4, 1, tzinfo=ZoneInfo("UTC")))
        answers.check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        assert len(runs[0]) < 10
        assert "wording.year-stale" in runs[0] or "wording.date-past" in runs[0]

    def test_the_clock_alone_asks_nothing(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """An hour later the same question has the same answer."""
        revision = taken_in(house)
        runs = self.asked(monkeypatch)
        answers.check_now(revision)
        assert runs == []


class TestChecksScreen:
    """Levels and thresholds per workspace."""

    def test_what_is_shipped_is_not_kept(self, house: Any) -> None:
        """Sending the screen unchanged changes nothing; a change is kept, shown, and logged."""
        client = house.client(house.reviewer)
        shipped = {f"{check.id}:level": check.level.value for check in registry().values()}
        client.post("/settings/checks/", shipped)
        house.workspace.refresh_from_db()
        assert house.workspace.check_settings == {}
        answer = client.post("/settings/checks/", {**shipped, "appearance.width:level": "note", "appearance.width:most_px": "640"})
        assert answer.status_code == 302
        house.workspace.refresh_from_db()
        assert house.workspace.check_settings == {"appearance.width": {"level": "note", "most_px": 640}}
        shown = client.get("/settings/checks/").content.decode()
        assert 'value="640"' in shown
        assert "1 check differs" in shown
        assert LogEntry.objects.filter(action="workspace.changed", data__what="levels and thresholds of checks").count() == 1

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            ({"appearance.width:level": "loud"}, "level is stop, fix, note or off"),
            ({"appearance.width:level": "fix", "appearance.width:most_px": "wide"}, "“most_px” is a whole number, not"),
            (
                {"envelope.preheader-repeats-subject:level": "fix", "envelope.preheader-repeats-subject:likeness": ""},
                "“likeness” is a number, not",
            ),
        ],
    )
    def test_refused_values_come_back(self, house: Any, data: dict[str, str], said: str) -> None:
        """The check, the setting and the remedy are named, and what was typed stays."""
        answer = house.client(house.reviewer).post("/settings/checks/", data)
        assert answer.status_code == 400
        assert said.replace("'", "&#x27;") in answer.content.decode()
        house.workspace.refresh_from_db()
        assert house.workspace.check_settings == {}

    def test_who_may(self, house: Any) -> None:
        """Everybody sees, reviewer and operator change."""
        client = house.client(house.author)
        assert "Keep the checks" not in client.get("/settings/checks/").content.decode()
        assert client.post("/settings/checks/", {"appearance.width:level": "off"}).status_code == 403

    def test_every_check_has_its_row(self) -> None:
        """No check without a level on the screen."""
        assert {row.check.id for _, rows in check_groups({}) for row in rows} == set(registry())
        assert chosen_settings({}) == {}

    def test_rulebooks_and_words(self, house: Any) -> None:
        """The settings form keeps both, and refuses a rulebook that does not exist."""
        client = house.client(house.operator)
        data = {
            "field_list": "first_name",
            "word_list": "raku, sgraffito",
            "rulebooks": ["canada", "united-states"],
        }
        assert client.post("/settings/", data).status_code == 302
        house.workspace.refresh_from_db()
        assert (house.workspace.word_list, house.workspace.rulebooks) == (["raku", "sgraffito"], ["canada", "united-states"])
        assert client.post("/settings/", {**data, "rulebooks": ["moon"]}).status_code == 400


class TestReport:
    """The report as one file."""

    def test_html(self, house: Any) -> None:
        """Saved under the revision's name; it stands alone."""
        revision = taken_in(house, mail(GOOD_HTML + "<a href='#'>x</a>"))
        answer = house.client(house.approver).get(f"/mailings/{revision.mailing_id}/r1/report.html")
        assert answer["Content-Disposition"] == f'attachment; filename="review-{revision.mailing_id}-r1.html"'
        assert "links.empty" in answer.content.decode()

    def test_json(self, house: Any) -> None:
        """Each finding says by which kind of mend a machine can put it right; every form can be had."""
        revision = taken_in(house, mail(GOOD_HTML + "<a href='#'>x</a><table><tr><td>Cups</td></tr></table>"))
        client, base = house.client(house.approver), f"/mailings/{revision.mailing_id}/r1"
        told = {one["check"]: one["mend"] for one in json.loads(client.get(f"{base}/report.json").content)["findings"]}
        assert (told["links.empty"], told["access.table-role"]) == ("fill", "sure")
        assert {client.get(f"{base}/report.{form}").status_code for form in ("csv", "html", "sarif")} == {200}

    def test_a_made_package_is_whole(self, house: Any) -> None:
        """The zip of a package made afresh opens and holds what it held."""
        revision = taken_in(house, package(a_dot_png=picture()), "sale.zip")
        house.client(house.author).post(f"/mailings/{revision.mailing_id}/r1/plain-text-afresh/")
        from jetwind.apps.blobs import store

        newest = revision.mailing.revisions.last()
        assert newest is not None
        with zipfile.ZipFile(io.BytesIO(store.fetch(newest.source_sha256))) as archive:
            assert archive.testzip() is None
            assert set(archive.namelist()) == {"a.png", "message.html", "message.txt"}
        assert read_bytes(store.fetch(newest.source_sha256), "x.zip").images[0].data == picture()


def test_the_example_of_a_tool(house: Any, settings: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """What CONTRIBUTING shows is one file and its template: its station leads to it, and it shows its page."""
    text = (ROOT / "CONTRIBUTING.md").read_text("utf-8")
    [code] = [block for block in re.findall(r"```python\n(.*?)```", text, re.DOTALL) if "TOOL = " in block]
    [html] = re.findall(r"```html\n(.*?)```", text, re.DOTALL)
    named: dict[str, Any] = {"__name__": "jetwind.apps.review.stations.word_counts"}
    monkeypatch.setitem(sys.modules, named["__name__"], ModuleType(named["__name__"]))
    exec(code, named)
    tool = named["TOOL"]
    (tmp_path / "review").mkdir()
    (tmp_path / tool.template).write_text(html)
    settings.TEMPLATES = [{**settings.TEMPLATES[0], "DIRS": [tmp_path]}]
    known = station_page.pages()
    monkeypatch.setattr(station_page, "pages", lambda: known | {tool.slug: tool})
    revision = taken_in(house, mail("<p>Two words</p><p>And three more</p>"))
    client = house.client(house.reviewer)
    station = client.get(f"/mailings/{revision.mailing_id}/r1/wording/").content.decode()
    assert f'href="/mailings/{revision.mailing_id}/r1/word-counts/">Word counts</a>' in station
    page = client.get(f"/mailings/{revision.mailing_id}/r1/word-counts/").content.decode()
    assert "3 words: And three more" in page and "2 words: Two words" in page
    assert client.get(f"/mailings/{revision.mailing_id}/r1/word-counts/progress/").status_code == 404


def test_lines_of_templates_are_read_without_scrolling() -> None:
    """None is longer than 160 characters; the demo's messages are no templates of ours."""
    source = ROOT / "src" / "jetwind"
    long = [
        f"{path.name}:{number}"
        for path in source.rglob("templates/**/*.html")
        for number, line in enumerate(path.read_text("utf-8").splitlines(), 1)
        if len(line) > 160
    ]
    assert long == []
