"""The page of mends: what is offered, what a person chooses, and the mended copy as the next revision or as a file."""

from __future__ import annotations

import io
import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.approvals.services import release, sign
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.intake.services import add_revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.mends import services
from jetwind.apps.mends.in_sets import ask as ask_in_set
from jetwind.apps.mends.models import MendedRender, PreparedMends
from jetwind.apps.mends.services import Chosen
from jetwind.apps.mends.tasks import look_for_mends, mend_set
from jetwind.apps.notices.models import Notice
from jetwind.apps.previews.services import ask_for_renders
from jetwind.apps.previews.tasks import render_revision
from jetwind.apps.review.services import excuse
from jetwind.apps.sets.services import make_set, put_in
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checking.mends import mends
from jetwind.core.profiles import profiles
from jetwind.core.renders import Renders
from jetwind.engines.browser import Browser, Capture, CaptureFailed, CaptureRequest, FakeBrowser
from tests.apps.helpers import checked, page_of, taken_in, walked
from tests.apps.test_two_at_once import at_once
from tests.factories import mail, package, picture

COPY = "<p>Come and see the kiln on the quay, where the cups of this spring are cooling now.</p>"
#: Layout tables without a role, a blank inside an address, no doctype, a title that the subject can give.
FAULTY = f"<html lang='en'><head></head><body><table><tr><td>{COPY}<a href='https://kiln.org/a b'>To the cups</a></td></tr></table></body></html>"

FAINT, KEPT = (COPY.replace("<p>", f"<p class='{name}'>") for name in ("faint", "kept"))
#: Faint letters, letters that a sheet keeps faint, and a table of its own below them.
LOOKS = (
    "<html lang='en'><head><title>Cups</title><style>.faint { color: #b0b0b0 } .kept { color: #b1b1b1 !important }</style></head><body bgcolor='#ffffff'>"
    f"<table role='presentation'><tr><td>{FAINT}{KEPT}</td></tr></table>"
    f"<table role='presentation' style='width:580px'><tr><td>Bowls and plates of the winter stand on the shelf by the door until Sunday.</td></tr></table></body></html>"
)
CROWD = (
    "<table role='presentation'><tr><td style='font-size:0'>"
    + " ".join(f"<a href='https://kiln.org/{number}' style='font-size:10px'>{number}</a>" for number in (1, 2))
    + "</td></tr></table>"
)


@pytest.fixture
def revision(house: Any) -> Revision:
    """A revision with mends of several kinds, looked for."""
    found = taken_in(house, mail(FAULTY))
    services.prepare_now(found)
    return found


def offers(revision: Revision) -> dict[str, dict[str, Any]]:
    """The offers of a revision by check."""
    return {one["check"]: one for one in PreparedMends.objects.get(revision=revision).offers}


def of(revision: Revision, *checks: str) -> Chosen:
    """The mends of these checks."""
    return Chosen(frozenset(offers(revision)[check]["finding"] for check in checks), {})


class TestLooking:
    """Mends are looked for in the background, when somebody asks."""

    def test_asked_for_and_found(self, house: Any, fake_browser: Any) -> None:
        """A page that nobody asked from says so and starts nothing; the task finds the mends; the course then counts the sure ones."""
        found = taken_in(house, mail(FAULTY))
        client = house.client(house.reviewer)
        base = f"/mailings/{found.mailing_id}/r1/"
        assert "Nobody has looked for mends yet." in page_of(client.get(f"{base}mends/"))
        assert not Work.objects.filter(kind=services.KIND).exists()
        client.post(f"{base}mends/look-for/")
        client.post(f"{base}mends/look-for/")
        work = Work.objects.get(kind=services.KIND)
        assert "Looking for mends" in page_of(client.get(f"{base}mends/"))
        look_for_mends.func(revision_id=found.pk, work_id=work.pk)
        assert ProcrastinateJob.objects.filter(task_name=services.TASK).count() == 1
        assert "data-fresh" in page_of(client.get(f"{base}mends/progress/"))
        shown = page_of(client.get(f"{base}mends/"))
        assert "2 mends chosen" in shown and "<del></del>" in shown and "<ins> role=&quot;presentation&quot;</ins>" in shown
        assert "Mend what is sure (2)" in page_of(client.get(f"{base}envelope/"))
        record = found.check_runs.get().findings.get(check_id="links.malformed")
        selected = page_of(client.get(f"{base}links/?finding={record.fingerprint}"))
        assert f'<a href="{base}mends/#mend-{record.fingerprint}">Look for a mend</a>' in selected

    def test_only_sure_mends_are_ticked(self, house: Any, revision: Revision) -> None:
        """What changes the look or the words waits for a person."""
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/mends/"))
        for one in offers(revision).values():
            box = f'name="mend" value="{one["finding"]}"' + (" checked" if one["kind"] == "sure" else "")
            assert f"{box}>" in shown.replace(" >", ">"), one
        assert {one["kind"] for one in offers(revision).values()} >= {"sure", "to confirm"}

    def test_before_the_checks(self, house: Any) -> None:
        """There is nothing to mend yet, and a sentence says so."""
        found = taken_in(house, mail(FAULTY))
        found.check_runs.all().delete()
        client = house.client(house.reviewer)
        base = f"/mailings/{found.mailing_id}/r1/mends/"
        assert "The checks have not answered yet" in page_of(client.get(base))
        assert client.post(f"{base}look-for/").status_code == 409
        assert services.prepare_now(found) is None

    def test_what_is_excused_is_not_mended(self, house: Any) -> None:
        """An excuse says that the thing stays as it is."""
        found = taken_in(house, mail(FAULTY))
        record = found.check_runs.get().findings.get(check_id="access.table-role")
        excuse(house.reviewer, found, record.fingerprint, "read aloud, it is a table", only_this_revision=False)
        services.prepare_now(found)
        assert "access.table-role" not in offers(found) and "links.malformed" in offers(found)

    def test_looked_for_again(self, house: Any, revision: Revision) -> None:
        """Renders that failed are made anew by a press, at any time but while mends are being looked for."""
        client, base = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/mends/"
        assert "Look for mends again" in page_of(client.get(base))
        client.post(f"{base}look-for/")
        assert "Look for mends again" not in page_of(client.get(base))

    def test_nothing_but_withheld(self, house: Any, revision: Revision) -> None:
        """Where nothing can be offered, the reasons are still there."""
        withheld = [{"check": "x.y", "finding": "f", "sentence": "A thing is wrong.", "why": "It would change a field."}]
        PreparedMends.objects.update(offers=[], withheld=withheld)
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/mends/"))
        assert "No finding of this revision can be mended" in shown and "<b>It would change a field.</b>" in shown

    def test_an_excuse_since(self, house: Any, revision: Revision) -> None:
        """An excuse changes what is offered, and the page says so."""
        record = revision.check_runs.get().findings.get(check_id="access.table-role")
        excuse(house.reviewer, revision, record.fingerprint, "read aloud, it is a table", only_this_revision=False)
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/mends/"))
        assert "something else" in shown

    def test_answers_have_changed(self, house: Any, revision: Revision) -> None:
        """Mends rest on findings; the page says when these are others. Findings that no mend is for change nothing."""
        client, address = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/mends/"
        said = "are something else than when these mends were found."
        run = revision.check_runs.get()
        run.findings.exclude(check_id__in=list(mends())).delete()
        assert said not in page_of(client.get(address))
        run.findings.filter(check_id="links.malformed").delete()
        assert said in page_of(client.get(address))


class TestTaking:
    """The mended copy becomes the next revision."""

    def test_the_next_revision(self, house: Any, revision: Revision) -> None:
        """The chosen mends and nothing else are in it; the log and the author are told; the author of the mends signs nothing off."""
        client = house.client(house.reviewer)
        chosen = [offers(revision)[check]["finding"] for check in ("access.table-role", "links.malformed")]
        answer = client.post(f"/mailings/{revision.mailing_id}/r1/mends/", {"mend": chosen}, follow=True)
        assert "Revision 2 has 2 mends." in page_of(answer)
        made = Revision.objects.get(mailing=revision.mailing, number=2)
        before, after = message_of(revision).html, message_of(made).html
        assert before is not None and after is not None
        assert after.text.replace(' role="presentation"', "").replace("a%20b", "a b") == before.text
        assert (after.text.count(' role="presentation"'), after.text.count("a%20b")) == (1, 1)
        found = {one.check_id for one in checked(revision.mailing).check_runs.get().findings.all()}
        assert not found & {"access.table-role", "links.malformed"} and "appearance.doctype" in found
        entry = LogEntry.objects.get(action="revision.mended")
        assert (entry.data["count"], entry.data["checks"]) == (2, "access.table-role, links.malformed")
        notice = Notice.objects.get(kind="mended")
        assert (notice.user, notice.words) == (house.author, "Reviewer took 2 mends; revision 2 came of your revision 1.")
        assert made.uploaded_by == house.reviewer

    def test_html_keeps_its_envelope(self, house: Any) -> None:
        """A file of HTML has its envelope from a person, and the mended one has the same."""
        from jetwind.core.message import Envelope

        found = taken_in(house, FAULTY.encode(), "a.html", envelope=Envelope(subject="Cups", sender_address="a@kiln.org"))
        services.prepare_now(found)
        made, _ = services.take(house.author, found, of(found, "access.title-missing"))
        assert made.given_envelope == found.given_envelope and "<title>Cups</title>" in store.fetch(made.source_sha256).decode()
        assert not Notice.objects.filter(kind="mended").exists()

    def test_who_may(self, house: Any, revision: Revision) -> None:
        """Who may not bring a revision takes no mends either, and sees no button for it."""
        with pytest.raises(NotAllowed):
            services.take(house.operator, revision, of(revision, "access.table-role"))
        shown = page_of(house.client(house.operator).get(f"/mailings/{revision.mailing_id}/r1/mends/"))
        assert "Take them as revision" not in shown and "Save a patch" in shown

    def test_refused(self, house: Any, revision: Revision) -> None:
        """Nothing chosen, a mend that is gone, an older revision, a released message: a sentence for each, and no revision is made."""
        client = house.client(house.reviewer)
        base = f"/mailings/{revision.mailing_id}/r1/mends/"
        role = offers(revision)["access.table-role"]["finding"]
        for given, sentence in (
            ({}, "Choose a mend first."),
            ({"mend": [role, "f" * 16]}, "A mend that you chose is not offered any more."),
        ):
            answer = client.post(base, given)
            assert (answer.status_code, sentence in page_of(answer)) == (409, True)
        assert f'value="{role}" checked' in page_of(answer), "what was chosen comes back"
        add_revision(house.author, revision.mailing, mail(FAULTY.replace("cups", "bowls")), "b.eml")
        answer = client.post(base, {"mend": role})
        assert (answer.status_code, "Revision 1 is not the newest" in page_of(answer)) == (409, True)
        assert revision.mailing.revisions.count() == 2

    def test_released(self, house: Any) -> None:
        """A released message takes nothing more."""
        found = walked(house, taken_in(house, mail(FAULTY)))
        for record in found.check_runs.get().findings.exclude(level="note").exclude(check_id="access.table-role"):
            excuse(house.reviewer, found, record.fingerprint, "it is a test", only_this_revision=True)
        role = found.check_runs.get().findings.get(check_id="access.table-role")
        services.prepare_now(found)
        chosen = of(found, "access.table-role")
        excuse(house.reviewer, found, role.fingerprint, "it is a test", only_this_revision=True)
        sign(house.reviewer, found)
        sign(house.approver, found)
        release(house.operator, found)
        found = revision_for(house.reviewer, found.mailing_id, 1)
        with pytest.raises(Refused):
            services.take(house.reviewer, found, chosen)


class TestFiles:
    """What is saved is what would be taken."""

    def test_the_message_and_the_patch(self, house: Any, revision: Revision, tmp_path: Path) -> None:
        """git applies the patch to the revision's own file, and gets the mended copy."""
        client = house.client(house.operator)
        base = f"/mailings/{revision.mailing_id}/r1/mends/"
        given = {"mend": [one["finding"] for one in offers(revision).values() if not one["asks"]]}
        copy, patch = (client.post(f"{base}as-{form}/", given) for form in ("message", "patch"))
        assert copy["Content-Disposition"] == 'attachment; filename="sale-mended.eml"'
        assert copy["Content-Type"] == "application/octet-stream"
        (tmp_path / "sale.eml").write_bytes(store.fetch(revision.source_sha256))
        (tmp_path / "mends.patch").write_bytes(patch.content)
        subprocess.run(["git", "apply", "mends.patch"], cwd=tmp_path, check=True)
        assert (tmp_path / "sale.eml").read_bytes() == copy.content
        made, _ = services.take(house.reviewer, revision, Chosen(frozenset(given["mend"]), {}))
        assert store.fetch(made.source_sha256) == copy.content
        assert client.post(f"{base}as-table/", given).status_code == 404

    def test_a_zip(self, house: Any) -> None:
        """The mended copy of a package is a package with the same pictures."""
        found = taken_in(house, package(FAULTY, pot_dot_png=picture()), "a.zip")
        services.prepare_now(found)
        made, _ = services.take(house.author, found, of(found, "access.table-role"))
        after = message_of(Revision.objects.select_related("mailing__syntax", "mailing__workspace").get(pk=made.pk))
        assert after.html is not None and 'role="presentation"' in after.html.text and [one.data for one in after.images] == [picture()]
        patch, name = services.saved(found, of(found, "access.table-role"), "patch")
        assert name == "a.zip.patch" and patch.startswith(b"--- a/message.html\n+++ b/message.html\n")

    def test_the_sums(self, house: Any, revision: Revision) -> None:
        """The page counts anew with every tick: what is chosen is gone, the rest stays. Nothing is written."""
        client = house.client(house.reviewer)
        base = f"/mailings/{revision.mailing_id}/r1/mends/"
        answer = page_of(client.post(f"{base}sums/", {"mend": offers(revision)["links.malformed"]["finding"]}))
        now = PreparedMends.objects.get().sums["now"]
        assert f'<th scope="row">stops</th><td>{now["stops"]}</td><td>{now["stops"] - 1}</td>' in answer and "1 mend chosen" in answer
        assert "No mend is chosen" in page_of(client.post(f"{base}sums/", {}))
        assert "is not offered any more" in page_of(client.post(f"{base}sums/", {"mend": "f" * 16}))
        assert revision.mailing.revisions.count() == 1


class Painter(FakeBrowser):
    """A browser in which a page looks otherwise where its source holds a mark."""

    def __init__(self, mark: str) -> None:
        super().__init__()
        self.mark = mark

    def capture(self, request: CaptureRequest) -> Capture:
        """White, with a dark square where the mark stands."""
        taken = super().capture(request)
        if self.mark not in request.html:
            return taken
        with Image.open(io.BytesIO(taken.image)) as picture:
            picture.paste((0, 0, 0), (32, 32, 96, 96))
            out = io.BytesIO()
            picture.save(out, "JPEG")
        return replace(taken, image=out.getvalue())


class InTurn(Browser):
    """A real browser whose pictures are handed on by the thread that asked, so that all rows are written in one transaction."""

    def capture_all(self, requests: Any, done: Any, seconds: float = 60.0) -> None:
        """The pictures, after the last has come."""
        came: list[tuple[int, Capture | Exception]] = []

        def keep(number: int, capture: Capture | Exception) -> bool:
            came.append((number, capture))
            return True

        super().capture_all(requests, keep, seconds)
        for number, capture in came:
            done(number, capture)


class TestLooks:
    """Sure mends change no pixel, and what the others change is shown."""

    def proven(self, house: Any, found: Revision, browser: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The search for mends, with a browser."""
        monkeypatch.setattr("jetwind.apps.previews.services._browser", browser)
        services.ask_for_mends(house.reviewer, found)
        work = Work.objects.get(kind=services.KIND)
        look_for_mends.func(revision_id=found.pk, work_id=work.pk)
        work.refresh_from_db()
        assert (work.state, work.problem) == ("done", "")

    def test_a_sure_mend_that_changes_the_look(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """It alone is withheld, with the profile in which it shows; the other sure mend stays, and no pixel differs."""
        found = taken_in(house, mail(FAULTY))
        self.proven(house, found, Painter('role="presentation"'), monkeypatch)
        prepared = PreparedMends.objects.get()
        first = profiles()[chosen_profiles(house.workspace)[0]].name
        withheld = {one["check"]: one["why"] for one in prepared.withheld}
        assert withheld["access.table-role"] == f"It changes how the message looks in “{first}”." and "links.malformed" not in withheld
        assert prepared.sure == 1 and "links.malformed" in offers(found)
        assert not MendedRender.objects.filter(side="sure").exclude(areas=[]).exists()
        assert b'role="presentation"' not in store.fetch(prepared.sure_sha256)
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{found.mailing_id}/r1/mends/?with=sure"))
        assert "No pixel differs." in shown and "has a mend that is withheld" in shown

    def test_what_other_mends_change(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The areas are outlined on the picture of all mends; pictures are handed out to the workspace alone."""
        found = taken_in(house, mail(FAULTY.replace("the kiln", "the the kiln")))
        self.proven(house, found, Painter("the the kiln"), monkeypatch)
        client = house.client(house.reviewer)
        base = f"/mailings/{found.mailing_id}/r1/mends/"
        shown = page_of(client.get(base))
        assert "1 area looks otherwise. Each is outlined." in shown and shown.count('class="area"') == 1
        name = chosen_profiles(house.workspace)[0]
        answer = client.get(f"{base}renders/all/{name}/")
        assert (answer.status_code, answer["Content-Type"]) == (200, "image/jpeg")
        assert client.get(f"{base}renders/none/{name}/").status_code == 404
        assert client.get(f"{base}?profile=nowhere&with=nothing").status_code == 200

    def test_a_browser_that_fails(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The mends are there all the same; the page says what could not be rendered."""

        class Broken(FakeBrowser):
            def capture_all(self, requests: Any, done: Any, seconds: float = 60.0) -> None:
                for number, _ in enumerate(list(requests)):
                    done(number, CaptureFailed("The page is too tall."))

        found = taken_in(house, mail(FAULTY))
        self.proven(house, found, Broken(), monkeypatch)
        assert offers(found)
        assert "It cannot be rendered: The page is too tall." in page_of(
            house.client(house.reviewer).get(f"/mailings/{found.mailing_id}/r1/mends/")
        )

    def test_by_chromium(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """In a real browser, roles and encoded blanks change no pixel, and a doctype that moves the copy is seen."""
        found = taken_in(house, mail(FAULTY))
        browser = InTurn()
        try:
            self.proven(house, found, browser, monkeypatch)
        finally:
            browser.close()
        rows = {(row.side, row.profile): row for row in MendedRender.objects.all()}
        names = chosen_profiles(house.workspace)
        assert len(rows) == 3 * len(names) and not [row.problem for row in rows.values() if row.problem]
        assert [name for name in names if rows["sure", name].blob_sha256 != rows["now", name].blob_sha256] == []
        assert PreparedMends.objects.get().sure == 2

    def test_what_renders_show(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """In a real browser: faint letters are mended and proven; a mend that a style sheet undoes, and one that shows beyond its place, are withheld."""
        house.workspace.audience = {"desktop-pane": 50, "phone-upright": 40, "word-processor": 10}
        house.workspace.save()
        found = taken_in(house, mail(LOOKS.replace("</body>", f"{CROWD}</body>")))
        browser = InTurn()
        try:
            monkeypatch.setattr("jetwind.apps.previews.services._browser", browser)
            render_revision.func(found.pk, ask_for_renders(found).pk)
            checked(found.mailing)
            self.proven(house, found, browser, monkeypatch)
        finally:
            browser.close()
        prepared = PreparedMends.objects.get()
        offered = {one["sentence"].split(" ")[0]: one for one in prepared.offers if one["check"] == "access.contrast"}
        assert list(offered) == ["#b0b0b0"] and offered["#b0b0b0"]["changes"][0]["new"] == ' style="color:#767676"'
        withheld = {one["sentence"].split(" ")[0]: one["why"] for one in prepared.withheld}
        assert withheld["#b1b1b1"] == "On a render the finding stays."
        # Padding on a link is dropped by the word processor, so that the phone's gain would be its loss.
        assert withheld["2"] == "appearance.css-unsupported would find more than before."
        assert prepared.sums["all"]["fixes"] < prepared.sums["now"]["fixes"]
        # Without a render of the copy nothing is proven.
        unproven, more = services.faults_on_renders(found, prepared.all_sha256, Renders({}, {"desktop-pane": "It is too tall."}))
        assert (unproven[offered["#b0b0b0"]["finding"]], more) == ("No render proves it: It is too tall.", "")
        assert not [row.problem for row in MendedRender.objects.all() if row.problem]

    def test_what_shows_beyond_its_place(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A width that widens another table: the mend is withheld, and the profile is named."""

        class Wide(InTurn):
            """A browser in which the other table is half as wide once the picture has a width of its own."""

            def capture_all(self, requests: Any, done: Any, seconds: float = 60.0) -> None:
                changed = [
                    replace(one, html=one.html.replace("width:580px", "width:290px")) if "the the kiln" not in one.html else one
                    for one in requests
                ]
                super().capture_all(changed, done, seconds)

        found = taken_in(house, mail(LOOKS.replace("#b0b0b0", "#000000").replace("the kiln", "the the kiln")))
        browser = Wide()
        try:
            self.proven(house, found, browser, monkeypatch)
        finally:
            browser.close()
        prepared = PreparedMends.objects.get()
        first = profiles()[chosen_profiles(house.workspace)[0]].name
        withheld = {one["check"]: one["why"] for one in prepared.withheld}
        assert withheld["wording.repeated-word"] == f"It shows beyond its place in “{first}”."
        assert "wording.repeated-word" not in offers(found) and prepared.offers


@pytest.mark.django_db(transaction=True)
def test_two_take_mends_at_once(house: Any) -> None:
    """One of them makes the next revision; the other is told that it is not the newest any more. Nothing is made of half of both."""
    for number in range(12):
        found = taken_in(house, mail(FAULTY, Subject=f"Cups {number}"))
        services.prepare_now(found)
        one, other = of(found, "access.table-role"), of(found, "links.malformed")
        refused = at_once(
            lambda found=found, one=one: services.take(house.reviewer, found, one),
            lambda found=found, other=other: services.take(house.author, found, other),
        )
        assert [sentence.split(";")[0] for sentence in refused] == ["Revision 1 is not the newest"]
        newest = found.mailing.revisions.last()
        assert newest is not None and newest.number == 2
        html = message_of(Revision.objects.select_related("mailing__syntax", "mailing__workspace").get(pk=newest.pk)).html
        assert html is not None and (' role="presentation"' in html.text) != ("a%20b" in html.text)


def test_a_word(house: Any) -> None:
    """The sums show what a word would change; one that cannot stand there is refused by name."""
    found = taken_in(house, mail(FAULTY.replace("lang='en'", "")))
    services.prepare_now(found)
    client, base = house.client(house.reviewer), f"/mailings/{found.mailing_id}/r1/mends/"
    name = f"word-{offers(found)['access.lang-missing']['finding']}"
    assert f'name="{name}"' in page_of(client.get(base))
    shown = page_of(client.post(f"{base}sums/", {name: "en-GB"}))
    assert "<ins> lang=&quot;en-GB&quot;</ins>" in shown and "1 mend chosen" in shown
    assert "“english” cannot stand there." in page_of(client.post(f"{base}sums/", {name: "english"}))
    client.post(base, {name: "en-GB"})
    html = message_of(Revision.objects.select_related("mailing__syntax", "mailing__workspace").get(mailing=found.mailing_id, number=2)).html
    assert html is not None and 'lang="en-GB"' in html.text


class TestSets:
    """One mend for all messages of a set."""

    def test_all_members(self, house: Any, fake_browser: Any) -> None:
        """Each message that has the fault gets one revision; released ones and those without it stay; a second press finds nothing to do."""
        shown = make_set(house.author, house.workspace, "Papers", ["One", "Two", "Fine"])
        bodies = (FAULTY, FAULTY.replace("cups", "bowls"), FAULTY.replace("<table>", "<table role='presentation'>"))
        found = [taken_in(house, mail(body, Subject=f"Paper {number}")) for number, body in enumerate(bodies)]
        for member, revision in zip(shown.members.all(), found, strict=True):
            put_in(house.author, member, revision.mailing)
        client = house.client(house.reviewer)
        page = page_of(client.get(f"/sets/{shown.pk}/"))
        assert "Mend it in all these messages" in page and "Each layout table gets role=&quot;presentation&quot;." in page
        assert client.post(f"/sets/{shown.pk}/mend/", {"check": "access.table-role"}).status_code == 302
        for press in (1, 2):
            work = Work.objects.filter(kind="set-mends").latest("pk")
            mend_set.func(set_id=shown.pk, check_id="access.table-role", user_id=house.reviewer.pk, work_id=work.pk)
            assert [one.mailing.revisions.count() for one in found] == [2, 2, 1]
            work.refresh_from_db()
            assert (work.state, "needs a person" in work.problem) == (("done", False) if press == 1 else ("failed", True))
            for one in found:
                checked(one.mailing)
            if press == 1:
                ask_in_set(house.reviewer, shown, "access.table-role")
        assert "Mend it in all these messages" in page_of(client.get(f"/sets/{shown.pk}/")), "other findings can be mended still"
        assert "Each layout table gets role" not in page_of(client.get(f"/sets/{shown.pk}/"))

    def test_one_that_cannot_be_mended(self, house: Any, fake_browser: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """It is counted and told; the other is mended all the same."""
        shown = make_set(house.author, house.workspace, "Papers", ["One", "Two"])
        found = [taken_in(house, mail(FAULTY, Subject=f"Paper {number}")) for number in range(2)]
        for member, revision in zip(shown.members.all(), found, strict=True):
            put_in(house.author, member, revision.mailing)

        def refuse_first(user: Any, revision: Revision, chosen: Chosen) -> Any:
            if revision.pk == found[0].pk:
                raise Refused("It does not hold.")
            return services.take(user, revision, chosen)

        monkeypatch.setattr("jetwind.apps.mends.in_sets.take", refuse_first)
        services.prepare_now(found[0])
        work = ask_in_set(house.reviewer, shown, "links.malformed")
        mend_set.func(set_id=shown.pk, check_id="links.malformed", user_id=house.reviewer.pk, work_id=work.pk)
        assert [one.mailing.revisions.count() for one in found] == [1, 2]
        client = house.client(house.reviewer)
        assert "was mended in 1 and could not be mended in 1" in page_of(client.get(f"/sets/{shown.pk}/"))
        # Each was proven with the mends of this check alone: for the others, somebody looks again.
        assert set(offers(found[0])) == {"links.malformed"}
        assert "Look for mends" in page_of(client.get(f"/mailings/{found[0].mailing_id}/r1/mends/"))

    def test_refused(self, house: Any) -> None:
        """A check without a mend, one that needs a word, and somebody who may not change messages."""
        shown = make_set(house.author, house.workspace, "Papers", ["One"])
        for check in ("links.broken", "links.empty", "nothing"):
            with pytest.raises(Refused):
                ask_in_set(house.reviewer, shown, check)
        with pytest.raises(NotAllowed):
            ask_in_set(house.operator, shown, "access.table-role")
        ask_in_set(house.reviewer, shown, "access.table-role")
        with pytest.raises(Refused, match="being mended already"):
            ask_in_set(house.author, shown, "links.malformed")
