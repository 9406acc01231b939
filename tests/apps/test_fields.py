"""Fields in the application: syntaxes of a house, the station, renders of readers' copies, columns of a file."""

import re
import threading
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake import services as intake
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews import services as previews
from jetwind.apps.previews.as_whom import AS_WRITTEN, as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.selectors import renders_for_checks
from jetwind.apps.previews.tasks import render_house, render_revision
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.questions import is_outdated
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import readers, syntaxes
from jetwind.apps.workspace.models import FieldSyntax, SampleReader, Workspace
from jetwind.core.profiles import usual
from jetwind.engines.bounded import PastBudget
from jetwind.engines.browser import FakeBrowser
from tests.apps.helpers import checked, page_of, taken_in
from tests.factories import GOOD_HTML, mail

ANGLES = {"name": "Angles", "open": "<<", "close": ">>", "default": "|", "if": "if", "else": "else", "end": "end"}
#: The same page with nothing in it that differs from reader to reader.
PLAIN = re.sub(r"\{\{.*?\}\}", "you", GOOD_HTML)
MARKED = PLAIN.replace("<h1>", "<p>Dear {{ first_name }}, {% if member %}your slot{% else %}come and see{% endif %}</p><h1>")


def shown(house: Any, revision: Revision, station: str = "fields", **query: str) -> str:
    """A station's page."""
    page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r{revision.number}/{station}/", query)
    return page_of(page)


def render(revision: Any) -> Work:
    """Do the rendering that was asked for, as the worker does."""
    work = jobs.latest(previews.RENDERS, f"revision:{revision.pk}")
    assert work is not None
    render_revision.func(revision_id=revision.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


class TestSyntaxes:
    """Described, tried, kept, guessed, changed, removed."""

    def test_the_screen(self, house: Any) -> None:
        """What is typed is tried, kept and listed; what is none is refused with its sentence, and what was typed stays."""
        client = house.client(house.reviewer)
        form = {"name": "Angles", "open": "<<", "close": ">>", "default": "|", "if_words": "if", "else_words": "else", "end_words": "end"}
        tried = page_of(client.get("/settings/syntaxes/try/", {**form, "line": "Hi <<first_name|you>> <<first name>>"}))
        assert "is the field <strong>first_name</strong>, with the default “you”" in tried
        assert "<strong>cannot be read</strong>" in tried
        assert "This is no syntax yet" in client.get("/settings/syntaxes/try/", {"open": "<<"}).content.decode()
        answer = client.post("/settings/syntaxes/new/", {**form, "open": "a"})
        assert answer.status_code == 400 and "“a” has a letter" in answer.content.decode() and 'value="Angles"' in answer.content.decode()
        assert client.post("/settings/syntaxes/new/", form).status_code == 302
        assert "Angles" in client.get("/settings/syntaxes/").content.decode()
        row = FieldSyntax.objects.get()
        assert "is a block tag: if member" in page_of(client.get(f"/settings/syntaxes/{row.pk}/"))
        client.post(f"/settings/syntaxes/{row.pk}/", {**form, "name": "Sharp"})
        assert FieldSyntax.objects.get().name == "Sharp"
        assert house.client(house.approver).post("/settings/syntaxes/new/", form).status_code == 403
        client.post(f"/settings/syntaxes/{row.pk}/", {"do": "remove"})
        assert not FieldSyntax.objects.exists()

    def test_what_is_refused(self, house: Any) -> None:
        """The shipped name, a name twice, too many, somebody without the permission, one that a message is written in."""
        row = syntaxes.keep_syntax(house.reviewer, house.workspace, ANGLES)
        for given in ({**ANGLES, "name": "liquid"}, ANGLES, {"name": "x"}):
            with pytest.raises(Refused):
                syntaxes.keep_syntax(house.reviewer, house.workspace, given)
        with pytest.raises(NotAllowed):
            syntaxes.keep_syntax(house.author, house.workspace, {**ANGLES, "name": "Other"})
        mailing = intake.take_in(
            house.author, house.workspace, mail(PLAIN.replace("<h1>", "<p>&lt;&lt;first_name&gt;&gt;</p><h1>"), text="Hello"), "a.eml"
        )
        assert mailing.syntax == row
        with pytest.raises(Refused, match="stays"):
            syntaxes.remove_syntax(house.reviewer, row)
        FieldSyntax.objects.bulk_create(
            FieldSyntax(workspace=house.workspace, name=f"s{n}", description=ANGLES) for n in range(syntaxes.MOST)
        )
        with pytest.raises(Refused, match="at most"):
            syntaxes.keep_syntax(house.reviewer, house.workspace, {**ANGLES, "name": "One more"})

    def test_guessed_and_changed(self, house: Any) -> None:
        """A message is read in the syntax it seems to be written in; another choice has it checked and rendered again; a copy keeps it."""
        row = syntaxes.keep_syntax(house.reviewer, house.workspace, ANGLES)
        assert taken_in(house).mailing.syntax is None
        revision = taken_in(house, mail(PLAIN.replace("<h1>", "<p>Dear &lt;&lt;frist_name&gt;&gt;</p><h1>"), text="Hello"), "b.eml")
        assert revision.mailing.syntax == row and message_of(revision).syntax.name == "Angles"
        assert "fields.unknown" in {found.check_id for found in check_now(revision).findings.all()}
        client = house.client(house.author)
        client.post(f"/mailings/{revision.mailing_id}/syntax/", {"syntax": ""})
        assert Mailing.objects.get(pk=revision.mailing_id).syntax is None
        again = checked(Mailing.objects.get(pk=revision.mailing_id))
        assert "fields.foreign" in {found.check_id for found in check_now(again).findings.all()}
        assert LogEntry.objects.filter(action="mailing.changed", data__fields="the field syntax to Liquid").exists()
        client.post(f"/mailings/{revision.mailing_id}/syntax/", {"syntax": row.pk})
        assert intake.start_copy(house.author, Mailing.objects.get(pk=revision.mailing_id)).syntax == row
        other = FieldSyntax.objects.create(workspace=Workspace.objects.get(name="Elsewhere"), name="Theirs", description=ANGLES)
        assert client.post(f"/mailings/{revision.mailing_id}/syntax/", {"syntax": other.pk}).status_code == 404
        with pytest.raises(Refused):
            intake.set_syntax(house.author, revision.mailing, other)
        assert house.client(house.approver).post(f"/mailings/{revision.mailing_id}/syntax/", {"syntax": ""}).status_code == 403

    def test_a_changed_syntax_outdates_the_answers(self, house: Any) -> None:
        """Escaping, marks: everything that a message is read by."""
        revision = taken_in(house, mail(MARKED), "c.eml")
        assert not is_outdated(revision)
        Workspace.objects.filter(pk=house.workspace.pk).update(escapes_values=True)
        assert is_outdated(Revision.objects.get(pk=revision.pk))

    @pytest.mark.django_db(transaction=True)
    def test_two_at_once(self, house: Any) -> None:
        """Of two syntaxes of one name, kept in the same moment, one is kept and the other refused."""
        answers: list[str] = []

        def keep() -> None:
            try:
                syntaxes.keep_syntax(house.reviewer, house.workspace, ANGLES)
                answers.append("kept")
            except Refused:
                answers.append("refused")
            finally:
                connection.close()

        threads = [threading.Thread(target=keep) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert sorted(answers) == ["kept", "refused", "refused", "refused"]


class TestStation:
    """Readers × fields, the copy, the parts, the fewest."""

    def test_the_grid_and_the_copy(self, house: Any) -> None:
        """Worst first; the copy of the chosen reader with what each field became; who is shown which part."""
        SampleReader.objects.create(workspace=house.workspace, name="Tove", values={"first_name": "Tove <i>", "member": "yes"})
        revision = taken_in(house, mail(MARKED, Subject="For {{ first_name | default: 'you' }}"), "d.eml")
        page = shown(house, revision)
        assert page.index(">Nobody</a>") < page.index(">Bo</a>")
        assert "As Nobody gets it" in page and "1 empty" in page
        assert "1 of 3: Tove" in page and "2 of 3: Bo, Nobody" in page
        page = shown(house, revision, reader="Tove")
        assert "As Tove gets it" in page and "Tove &lt;i&gt;" in page and "your slot" in page
        few = shown(house, revision, show="fewest")
        assert few.count('<th scope="row">') == 3
        assert "reader=Tove" in shown(house, revision, reader="Tove")

    def test_without_fields_or_readers(self, house: Any) -> None:
        """The page says what is missing."""
        assert "has no fields in Liquid" in shown(house, taken_in(house, mail(PLAIN, text="Hello")))
        SampleReader.objects.all().delete()
        assert "nobody to merge it for" in shown(house, taken_in(house, mail(MARKED), "e.eml"))

    def test_a_template_that_asks_for_too_much(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """It is said, and the page stands; so it does where the helper gives up."""
        endless = mail(PLAIN.replace("<h1>", "<p>{% for i in (1..999999999) %}{{ first_name }}{% endfor %}</p><h1>"))
        revision = taken_in(house, endless, "f.eml")
        assert "The HTML asks for too much to be merged" in shown(house, revision)

        def past(*_: Any, **__: Any) -> Any:
            raise PastBudget("it takes more than a second")

        monkeypatch.setattr("jetwind.apps.review.overview.overview_bounded", past)
        page = shown(house, taken_in(house, mail(MARKED), "g.eml"))
        assert "cannot be laid out for these readers: it takes more than a second" in page

    def test_the_page_of_a_reader(self, house: Any) -> None:
        """Their messages with the subject as they get it; a copy begins with their values."""
        taken_in(house, mail(MARKED, Subject="For {{ first_name }}"), "h.eml")
        reader = SampleReader.objects.get(name="Bo")
        page = house.client(house.author).get(f"/readers/{reader.pk}/").content.decode()
        assert "For Bo" in page and "reader=Bo" in page and "Keep reader" not in page
        page = house.client(house.reviewer).get(f"/readers/new/?from={reader.pk}").content.decode()
        assert 'value="Bo, copy"' in page and 'value="bo@kiln.org"' in page


class TestRenders:
    """Renders are of a reader's copy."""

    def test_the_longest_copy_first(self, house: Any, fake_browser: FakeBrowser) -> None:
        """By default the reader whose copy is longest; another when asked for; as written; each as the browser was given it."""
        SampleReader.objects.create(workspace=house.workspace, name="Tove", values={"first_name": "Tove-Maximiliana", "member": "yes"})
        revision = taken_in(house, mail(MARKED), "a.eml")
        assert as_whom(revision).name == "Tove"
        render(revision)
        assert {shot.reader for shot in revision.renders.all()} == {"Tove"}
        assert all("Dear Tove-Maximiliana, your slot" in seen.html for seen in fake_browser.seen if seen.picture == "look")
        fake_browser.seen.clear()
        previews.show_mode(house.reviewer, revision, "own", ["desktop-pane"], "Bo")
        assert render(revision).state == "done"
        assert ["Dear Bo, come and see" in seen.html for seen in fake_browser.seen] == [True]
        previews.show_mode(house.reviewer, revision, "own", ["desktop-pane"], AS_WRITTEN)
        render(revision)
        assert revision.renders.filter(reader="", state="done").count() == 1
        page = shown(house, revision, "appearance")
        assert "Tove (longest copy, measured)" in page and "Fields as written" in page
        assert "as Bo gets it" in shown(house, revision, "appearance", profile="desktop-pane", reader="Bo")
        compare = house.client(house.reviewer).get(
            f"/mailings/{revision.mailing_id}/r1/appearance/compare/",
            {"left": "desktop-pane", "right": "desktop-pane", "reader": "Bo", "right_reader": "Tove"},
        )
        assert "as Bo" in compare.content.decode() and "Every block of the right one" in compare.content.decode()

    def test_equal_copies_are_rendered_once(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Two readers who get the same; a field that the message does not use makes no difference."""
        html = PLAIN.replace("<h1>", "<p>{% if first_name == 'Bo' %}A{% else %}BB{% endif %}</p><h1>")
        SampleReader.objects.create(workspace=house.workspace, name="Third", values={"first_name": "Mo", "other": "x"})
        revision = taken_in(house, mail(html), "b.eml")
        assert as_whom(revision).name == "Nobody"
        render(revision)
        fake_browser.seen.clear()
        previews.show_mode(house.reviewer, revision, "own", [], "Third")
        assert render(revision).state == "done"
        assert [seen for seen in fake_browser.seen if seen.picture == "look"] == []
        pairs = [revision.renders.get(reader=name, profile="desktop-pane") for name in ("Nobody", "Third")]
        assert pairs[0].measured == pairs[1].measured and pairs[0].blob_sha256 == pairs[1].blob_sha256

    def test_the_checks_are_told_whose_copy_it_is(self, house: Any, fake_browser: FakeBrowser) -> None:
        """And a render keeps the elements of the merged tree, for others who get the same."""
        revision = taken_in(house, mail(MARKED), "c.eml")
        render(revision)
        assert revision.renders.get(profile="desktop-pane").tree
        fresh = Revision.objects.get(pk=revision.pk)
        assert renders_for_checks(fresh)["renders"].value.reader == "Bo"

    def test_a_changed_reader_is_rendered_anew(self, house: Any, fake_browser: FakeBrowser) -> None:
        """And only the copy that it changes; a word of the word list renders nothing."""
        revision = taken_in(house, mail(MARKED), "d.eml")
        render(revision)
        Work.objects.all().update(state="done")
        fake_browser.seen.clear()

        def follow() -> None:
            work = Work.objects.filter(kind=previews.RENDERS_OF_HOUSE).latest("pk")
            render_house.func(workspace_id=house.workspace.pk, work_id=work.pk)

        client = house.client(house.reviewer)
        client.post("/settings/", {"field_list": "first_name", "word_list": "raku"})
        follow()
        assert not Work.objects.filter(kind=previews.RENDERS, state="waiting").exists()
        bo = SampleReader.objects.get(name="Bo")
        client.post(f"/readers/{bo.pk}/", {"name": "Bo", "value-first_name": "Bodil"})
        Work.objects.filter(kind=previews.RENDERS_OF_HOUSE, state="done").delete()
        follow()
        assert Render.objects.filter(state="waiting").count() == len(usual())
        render(revision)
        assert all("Dear Bodil" in seen.html for seen in fake_browser.seen if seen.picture == "look")

    def test_whose_copy_is_measured(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Chosen for a message, its checks read the renders of that copy; a reader that is gone gives way to the longest; released, it stays."""
        revision = taken_in(house, mail(MARKED), "f.eml")
        render(revision)
        Work.objects.all().update(state="done")
        client = house.client(house.reviewer)
        steer = f"/mailings/{revision.mailing_id}/r1/renders/steer/"
        client.post(steer, {"do": "measure", "reader": "Nobody"})
        fresh = Revision.objects.get(pk=revision.pk)
        assert fresh.mailing.measured_as == "Nobody" and as_whom(fresh).name == "Nobody"
        assert renders_for_checks(fresh) == {}
        render(fresh)
        assert renders_for_checks(Revision.objects.get(pk=revision.pk))["renders"].value.reader == "Nobody"
        page = shown(house, revision, "appearance")
        assert "Nobody (measured)" in page and "Measure the longest copy" in page
        assert "Measure the copy of Bo" in shown(house, revision, "appearance", reader="Bo")
        with pytest.raises(Refused, match="no sample reader"):
            intake.set_measured_reader(house.reviewer, revision.mailing, "Nowhere")
        with pytest.raises(NotAllowed):
            intake.set_measured_reader(house.outsider, revision.mailing, "Bo")
        SampleReader.objects.filter(name="Nobody").delete()
        assert as_whom(Revision.objects.get(pk=revision.pk)).name == "Bo"
        Mailing.objects.filter(pk=revision.mailing_id).update(stage="released")
        with pytest.raises(Refused):
            intake.set_measured_reader(house.reviewer, revision.mailing, "")

    def test_a_reader_that_is_gone(self, house: Any, fake_browser: FakeBrowser) -> None:
        """What waited for them is dropped; the next longest copy is shown."""
        revision = taken_in(house, mail(MARKED), "e.eml")
        previews.show_mode(house.reviewer, revision, "own", ["desktop-pane"], "Nobody")
        SampleReader.objects.filter(name="Nobody").delete()
        assert render(revision).state == "done"
        assert not revision.renders.filter(reader="Nobody").exists()


class TestColumns:
    """What the columns of a file are taken for."""

    ROWS = b"First name;Who;Town\nTove;Tove Marsh;Hollow Bay\nMo;;\n"

    def test_preview_and_memory(self, house: Any) -> None:
        """Columns are guessed by name, said by the reviewer, and remembered; nothing of the file is kept by the preview."""
        client = house.client(house.reviewer)
        before = SampleReader.objects.count()
        page = client.post("/readers/preview/", {"file": SimpleUploadedFile("r.csv", self.ROWS)}).content.decode()
        assert "2 readers, CSV, parted by semicolons" in page and "Hollow Bay" in page
        assert '<option value="first_name" selected>' in page and "a field “Town”" in page
        assert SampleReader.objects.count() == before
        columns = {"heading": ["First name", "Who", "Town"], "field": ["first_name", "reader", ""]}
        client.post("/readers/take-in/", {"file": SimpleUploadedFile("r.csv", self.ROWS), **columns})
        tove = SampleReader.objects.get(name="Tove Marsh")
        assert tove.values == {"first_name": "Tove"}
        client.post("/readers/take-in/", {"file": SimpleUploadedFile("s.csv", b"First name;Who;Town\nAsa;Asa Lund;Far Bay\n")})
        assert SampleReader.objects.get(name="Asa Lund").values == {"first_name": "Asa"}

    def test_what_cannot_be_read(self, house: Any) -> None:
        """The preview says why; who may not configure is refused."""
        client = house.client(house.reviewer)
        assert (
            "The file cannot be used"
            in client.post("/readers/preview/", {"file": SimpleUploadedFile("r.csv", b"a,b\n1,2,3\n")}).content.decode()
        )
        assert "Choose a CSV" in client.post("/readers/preview/").content.decode()
        assert house.client(house.author).post("/readers/preview/", {"file": SimpleUploadedFile("r.csv", self.ROWS)}).status_code == 403

    def test_the_limit_is_the_workspace_s_own(self, house: Any) -> None:
        """Of a larger file the few that differ are taken."""
        client = house.client(house.reviewer)
        client.post("/settings/", {"field_list": "first_name", "readers_of_a_file": 5})
        house.workspace.refresh_from_db()
        assert house.workspace.readers_of_a_file == 5
        rows = b"reader;first_name;tier\n" + b"".join(b"r%d;N%d;%s\n" % (n, n, [b"clay", b"glaze"][n % 2]) for n in range(40))
        page = client.post("/readers/preview/", {"file": SimpleUploadedFile("r.csv", rows)}).content.decode()
        assert "That looks like an audience" in page
        added = readers.take_in_readers(house.reviewer, house.workspace, rows)
        assert 1 <= added.number <= 5 and added.left_out == 40 - added.number
