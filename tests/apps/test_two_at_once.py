"""Two people at once, a hundred times each, on the database: nothing is lost, nothing is done that must not be."""

import hashlib
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

import pytest
from django.contrib import messages
from django.contrib.messages.storage.fallback import FallbackStorage
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import DatabaseError, OperationalError, connection, transaction
from django.http import HttpResponse
from psycopg.errors import AdminShutdown, DeadlockDetected

import jetwind.apps
from jetwind.apps.approvals import services as approvals
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import record, verify
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import Details, add_revision, change_details, start_copy, take_in
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import lighter_files, picture_words
from jetwind.apps.review import services as reviews
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.models import ChosenFile, LighterFile, PictureWords, SenderPapers
from jetwind.apps.review.sender_papers import bring_up_to_date
from jetwind.apps.ui.again import tried_again
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace import people
from jetwind.apps.workspace import services as workspaces
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.readers import keep_reader
from jetwind.apps.workspace.rulebooks import keep_rulebook, remove_rulebook, rulebooks_of, say_what_signs
from jetwind.core.checking import Brief
from tests.apps.helpers import taken_in
from tests.factories import archive, mail, picture

pytestmark = pytest.mark.django_db(transaction=True)

TRIES = 100


def at_once(*acts: Callable[[], object]) -> list[str]:
    """Carry acts out side by side; what was refused, as sentences."""
    refused: list[str] = []
    ready = threading.Barrier(len(acts))

    def carry_out(act: Callable[[], object]) -> None:
        try:
            ready.wait(10)
            act()
        except Refused as why:
            refused.append(why.sentence)
        finally:
            connection.close()

    threads = [threading.Thread(target=carry_out, args=(act,)) for act in acts]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(30)
    return refused


def test_brief_against_brief(house: Any) -> None:
    """Both entries stand, whoever was first."""
    mailing = taken_in(house).mailing
    for number in range(TRIES):
        one, other = Mailing.objects.get(pk=mailing.pk), Mailing.objects.get(pk=mailing.pk)
        assert not at_once(
            lambda one=one, number=number: reviews.require_wording(house.author, one, f"must {number}", ["HTML"]),
            lambda other=other, number=number: reviews.forbid_wording(house.reviewer, other, f"never {number}"),
        )
    brief = Brief.from_dict(Mailing.objects.get().brief)
    assert [item.text for item in brief.required] == [f"must {number}" for number in range(TRIES)]
    assert list(brief.forbidden) == [f"never {number}" for number in range(TRIES)]


def test_settings_against_settings_audience_and_words(house: Any) -> None:
    """Each changes something else of the house, from a page of their own: all of it holds."""
    Workspace.objects.update(field_list=[])
    for number in range(TRIES // 3):
        workspace = Workspace.objects.get(pk=house.workspace.pk)
        copies = [Workspace.objects.get(pk=workspace.pk) for _ in range(4)]
        shown = workspaces.shown_settings(workspace)
        share = number % 90 + 1

        def fields(copy: Any = copies[0], shown: Any = shown, number: int = number) -> None:
            names = " ".join([*shown["field_list"], f"field_{number}"])
            workspaces.configure(house.reviewer, copy, **typed(shown, field_list=names), shown=shown)

        def domains(copy: Any = copies[1], shown: Any = shown, number: int = number) -> None:
            names = " ".join([*shown["practice_domains"], f"d{number}.example"])
            workspaces.configure(house.operator, copy, **typed(shown, practice_domains=names), shown=shown)

        assert not at_once(
            fields,
            domains,
            lambda copy=copies[2], share=share: workspaces.set_audience(house.operator, copy, {"desktop-pane": share}),
            lambda copy=copies[3], number=number: workspaces.add_word(house.reviewer, copy, f"word{number}"),
        )
        assert Workspace.objects.get(pk=workspace.pk).audience == {"desktop-pane": share}
    held = Workspace.objects.get(pk=house.workspace.pk)
    assert set(held.field_list) == {f"field_{number}" for number in range(TRIES // 3)}
    assert set(held.practice_domains) == {f"d{number}.example" for number in range(TRIES // 3)}
    assert set(held.word_list) == {f"word{number}" for number in range(TRIES // 3)}


def typed(shown: dict[str, Any], **changed: str) -> dict[str, Any]:
    """The settings form as it was shown, with something typed into it."""
    lists = {name: " ".join(shown[name]) for name in ("field_list", "practice_domains", "test_domains", "word_list")}
    return {**lists, "readers_of_a_file": shown["readers_of_a_file"], "rulebooks": shown["rulebooks"], **changed}


def test_one_number_set_by_two(house: Any) -> None:
    """The second is asked; sent again with what holds now, theirs counts."""
    workspace = house.workspace
    shown = workspaces.shown_settings(workspace)
    workspaces.configure(house.reviewer, Workspace.objects.get(pk=workspace.pk), **{**typed(shown), "readers_of_a_file": 30}, shown=shown)
    with pytest.raises(Refused, match="set the readers of a file to 30 meanwhile"):
        workspaces.configure(house.operator, workspace, **{**typed(shown), "readers_of_a_file": 10}, shown=shown)
    now = workspaces.shown_settings(Workspace.objects.get(pk=workspace.pk))
    workspaces.configure(house.operator, workspace, **{**typed(now), "readers_of_a_file": 10}, shown=now)
    assert Workspace.objects.get(pk=workspace.pk).readers_of_a_file == 10


def test_checks_set_by_two(house: Any) -> None:
    """Levels of different checks both hold; the same check set otherwise by both is refused to the second."""
    workspaces.set_checks(house.reviewer, house.workspace, {"links.empty": {"level": "note"}}, shown={})
    workspaces.set_checks(house.operator, house.workspace, {"links.insecure": {"level": "note"}}, shown={})
    assert set(Workspace.objects.get(pk=house.workspace.pk).check_settings) == {"links.empty", "links.insecure"}
    with pytest.raises(Refused, match="Somebody changed “"):
        workspaces.set_checks(house.operator, house.workspace, {"links.empty": {"level": "off"}}, shown={})


def test_recheck_against_release(house: Any) -> None:
    """A released message's answers stay as they were when it was released, whichever came first."""
    revision = taken_in(house)
    approvals.sign(house.reviewer, revision)
    approvals.sign(house.approver, revision)
    for number in range(TRIES):
        with connection.cursor() as cursor:
            # Releases are for good: the database itself is told to let go for the next try.
            cursor.execute("alter table intake_mailing disable trigger user")
            cursor.execute("update intake_mailing set stage = 'cleared'")
            cursor.execute("alter table intake_mailing enable trigger user")
            cursor.execute("delete from approvals_release")
        Work.objects.all().delete()
        one, other = (Revision.objects.select_related("mailing__workspace").get(pk=revision.pk) for _ in range(2))
        refused = at_once(
            lambda one=one: approvals.release(house.operator, one),
            lambda other=other: reviews.recheck(house.reviewer, other),
        )
        if Mailing.objects.get().stage == "cleared":
            # The recheck came first, and nothing is released while checks wait.
            assert len(refused) == 1 and "run again in the background" in refused[0], refused
            Work.objects.update(state=Work.State.DONE)
            approvals.release(house.operator, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        else:
            assert all("released and locked" in sentence for sentence in refused), refused
        assert Mailing.objects.get().stage == "released"
        before = revision.check_runs.count()
        Workspace.objects.update(word_list=[f"glaze{number}"], practice_domains=[f"kiln{number}.org"])
        locked = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        check_now(locked)
        assert revision.check_runs.count() == before
        with pytest.raises(Refused, match="released and locked"):
            reviews.recheck(house.reviewer, locked)
        Workspace.objects.update(word_list=[], practice_domains=[])


def test_taken_back_against_release(house: Any) -> None:
    """Either the message is released with both sign-offs, or the sign-off is taken back and nothing is released; never both."""
    outcomes = set()
    for _ in range(TRIES // 2):
        revision = taken_in(house)
        approvals.sign(house.reviewer, revision)
        approvals.sign(house.approver, revision)
        refused = at_once(
            lambda revision=revision: approvals.release(house.operator, revision),
            lambda revision=revision: approvals.take_back(house.approver, revision),
        )
        mailing = Mailing.objects.get(pk=revision.mailing_id)
        valid = revision.sign_offs.filter(voided_at=None).count()
        outcomes.add((mailing.stage, valid, len(refused)))
        Mailing.objects.filter(pk=mailing.pk, stage="under-review").delete()
    assert outcomes <= {("released", 2, 1), ("under-review", 1, 1)}


def test_signed_and_taken_back_at_once(house: Any) -> None:
    """The second sign-off and the taking back of the first: cleared only where two valid sign-offs stand."""
    revision = taken_in(house)
    for _ in range(TRIES // 2):
        approvals.sign(house.reviewer, revision)
        at_once(
            lambda: approvals.sign(house.approver, revision),
            lambda: approvals.take_back(house.reviewer, revision),
        )
        stage = Mailing.objects.get(pk=revision.mailing_id).stage
        assert (stage, revision.sign_offs.filter(voided_at=None).count()) == ("under-review", 1)
        approvals.take_back(house.approver, revision)


def _with_picture(house: Any) -> tuple[Revision, str]:
    """A message with a picture, and the digest of it."""
    data = picture(300, 200)
    revision = taken_in(house, archive({"a.html": b"<p>Pots</p><img src='a.png' width='100' alt='A'>", "a.png": data}), "a.zip")
    return revision, hashlib.sha256(data).hexdigest()


def test_words_entered_by_two(house: Any) -> None:
    """One of the two stands, and the other is told that somebody was quicker."""
    revision, digest = _with_picture(house)
    before = ""
    for number in range(TRIES // 4):
        one, other = (Revision.objects.select_related("mailing__workspace").get(pk=revision.pk) for _ in range(2))
        refused = at_once(
            lambda one=one, number=number, before=before: picture_words.enter(house.reviewer, one, digest, f"one {number}", before),
            lambda other=other, number=number, before=before: picture_words.enter(house.approver, other, digest, f"other {number}", before),
        )
        assert refused == ["Somebody else has entered words for a.png meanwhile; look at them first."]
        before = PictureWords.objects.get(picture=digest).entered
        assert before in (f"one {number}", f"other {number}")
    assert LogEntry.objects.filter(action="picture.words-entered").count() == TRIES // 4


def test_a_file_chosen_twice_and_by_two(house: Any) -> None:
    """A second click does nothing twice; of two choices one stands, and the log has both in their order."""
    revision, digest = _with_picture(house)
    files = [
        LighterFile.objects.create(
            workspace=house.workspace, picture=digest, shown_width=100, form="PNG", quality=0, width=width, height=9, octets=9, likeness=1
        )
        for width in (100, 150)
    ]
    for _ in range(TRIES // 4):
        ChosenFile.objects.all().delete()
        for pair in ((files[0], files[0]), (files[0], files[1])):
            before = LogEntry.objects.filter(action="picture.file-chosen").count()
            one, other = (Revision.objects.select_related("mailing__workspace").get(pk=revision.pk) for _ in range(2))
            assert not at_once(
                lambda one=one, pair=pair: lighter_files.choose(house.reviewer, one, digest, pair[0].pk),
                lambda other=other, pair=pair: lighter_files.choose(house.author, other, digest, pair[1].pk),
            )
            assert ChosenFile.objects.get(revision=revision).file in pair
            came = LogEntry.objects.filter(action="picture.file-chosen").count() - before
            # The file that was chosen already may be chosen again by the quicker of the two, which is no choice.
            assert came == 1 if pair[0] == pair[1] else came in (1, 2)


def test_rulebooks_against_each_other_and_the_signing(house: Any) -> None:
    """Two write a rulebook while a third says what signs: all of it holds, and every rulebook has an id of its own."""
    for number in range(TRIES // 5):
        copies = [Workspace.objects.get(pk=house.workspace.pk) for _ in range(3)]
        given = [{"name": f"{who} {number}", "demands": ["footer.address-missing"]} for who in ("Quay", "Shop")]
        assert not at_once(
            lambda copy=copies[0], given=given[0]: keep_rulebook(house.reviewer, copy, given),
            lambda copy=copies[1], given=given[1]: keep_rulebook(house.operator, copy, given),
            lambda copy=copies[2], number=number: say_what_signs(
                house.reviewer, copy, {"selector": f"s{number}"}, {"selector": copy.signing.get("selector", "")}
            ),
        )
        held = Workspace.objects.get(pk=house.workspace.pk)
        assert {book.name for book in rulebooks_of(held)} == {f"Quay {number}", f"Shop {number}"}
        assert len({book.id for book in rulebooks_of(held)}) == 2
        assert held.signing["selector"] == f"s{number}"
        for book in rulebooks_of(held):
            remove_rulebook(house.reviewer, held, book.id)


def test_one_rulebook_changed_by_two(house: Any) -> None:
    """One of the two holds whole, and the other is told."""
    book = keep_rulebook(house.reviewer, house.workspace, {"name": "Quay", "demands": ["footer.address-missing"]})
    for number in range(TRIES // 5):
        held = Workspace.objects.get(pk=house.workspace.pk)
        shown = held.house_rulebooks[0]
        copies = [Workspace.objects.get(pk=held.pk) for _ in range(2)]
        words = [[f"first {number}"], [f"second {number}"]]
        refused = at_once(
            *(
                lambda copy=copy, mine=mine, shown=shown: keep_rulebook(
                    house.reviewer, copy, {"name": "Quay", "demands": [], "words": mine}, book.id, shown
                )
                for copy, mine in zip(copies, words, strict=True)
            )
        )
        assert len(refused) == 1
        assert "Somebody set the words to" in refused[0]
        (now,) = rulebooks_of(Workspace.objects.get(pk=held.pk))
        assert list(now.words) in words


def test_papers_asked_by_two_workers(house: Any) -> None:
    """A job that runs twice, or beside another, leaves one row with whole papers."""
    revision = taken_in(house, mail(From="Saltmarsh Kiln Works <glaze@saltmarsh-kiln.example>"))
    for _ in range(TRIES // 10):
        SenderPapers.objects.all().delete()
        copies = [Revision.objects.select_related("mailing__workspace").get(pk=revision.pk) for _ in range(2)]
        assert not at_once(*(lambda copy=copy: bring_up_to_date(copy) for copy in copies))
        assert SenderPapers.objects.get().papers["domain"] == "saltmarsh-kiln.example"


class TestLocksInOneOrder:
    """Whatever two people do at once, neither waits for the other in a circle."""

    ACTS: ClassVar[dict[str, Callable[[Any, Revision, int], object]]] = {
        "take in": lambda house, revision, number: take_in(
            house.author, house.workspace, mail(Subject=f"Number {number}"), f"{number}.eml"
        ),
        "next revision": lambda house, revision, number: add_revision(
            house.author, Mailing.objects.get(pk=revision.mailing_id), mail(Subject=f"Again {number} {threading.get_ident()}"), "sale.eml"
        ),
        "settings": lambda house, revision, number: workspaces.add_word(
            house.reviewer, Workspace.objects.get(pk=house.workspace.pk), f"word{number}x{threading.get_ident()}"
        ),
        "audience": lambda house, revision, number: workspaces.set_audience(
            house.operator, Workspace.objects.get(pk=house.workspace.pk), {"desktop-pane": number % 90 + 1}
        ),
        "details": lambda house, revision, number: change_details(
            house.author, Mailing.objects.get(pk=revision.mailing_id), Details(title=f"Title {number} {threading.get_ident()}")
        ),
        "recheck": lambda house, revision, number: reviews.recheck(house.reviewer, revision),
        "reader": lambda house, revision, number: keep_reader(
            house.reviewer,
            SampleReader(workspace=Workspace.objects.get(pk=house.workspace.pk), name=f"R {number} {threading.get_ident()}", values={}),
        ),
        "invitation": lambda house, revision, number: people.invite(
            house.owner, Workspace.objects.get(pk=house.workspace.pk), f"n{number}@kiln.org", ["author"]
        ),
        "excuse": lambda house, revision, number: reviews.look_at(house.reviewer, revision, "wording"),
        "copy": lambda house, revision, number: start_copy(house.author, Mailing.objects.get(pk=revision.mailing_id)),
    }

    @pytest.mark.parametrize("one", ACTS)
    def test_pairs(self, house: Any, one: str) -> None:
        """Each act beside each other one, four at a time: none is broken off by the database."""
        revision = taken_in(house)
        fine = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        acts = list(self.ACTS)
        for number, other in enumerate(acts[acts.index(one) :]):
            broken: list[BaseException] = []

            def act(name: str, number: int = number, broken: list[BaseException] = broken) -> None:
                try:
                    for turn in range(3):
                        self.ACTS[name](house, fine, number * 10 + turn)
                except DatabaseError as failed:
                    broken.append(failed)

            at_once(*[lambda name=name: act(name) for name in (one, other, one, other)])
            assert not broken, (one, other, str(broken[0]))

    def test_every_lock_leaves_references_alone(self) -> None:
        """docs/decisions/0030: a lock that keeps new references out makes circles."""
        apps = Path(jetwind.apps.__file__).parent
        locks = [line for path in apps.rglob("*.py") for line in path.read_text().splitlines() if "select_for_update(" in line]
        assert len(locks) > 20
        assert [line for line in locks if "select_for_update(no_key=True" not in line] == []


class TestTriedAgain:
    """A view that a conflict broke off is called again; nothing of it is a failure of ours."""

    def broken_off(self, times: int, sqlstate: type[Exception] = DeadlockDetected) -> Any:
        """A view that the database breaks off so often."""
        tries: list[int] = []

        def view(request: Any) -> HttpResponse:
            tries.append(1)
            messages.success(request, "kept")
            assert request.FILES["file"].read() == b"octets"
            if len(tries) <= times:
                raise OperationalError("broken off") from sqlstate()
            return HttpResponse(str(len(tries)))

        return view

    def request(self, rf: Any) -> Any:
        """A form with a file, from somebody who is told things."""
        request = rf.post("/", {"file": SimpleUploadedFile("a.eml", b"octets")})
        request.session = {}
        request._messages = FallbackStorage(request)
        return request

    def test_again(self, rf: Any, transactional_db: None) -> None:
        """Three times broken off, the fourth holds: said once, with the file read from its beginning each time."""
        request = self.request(rf)
        assert tried_again(self.broken_off(3), request).content == b"4"
        assert [str(message) for message in messages.get_messages(request)] == ["kept"]

    def test_not_for_ever(self, rf: Any, transactional_db: None) -> None:
        """Then the person is told."""
        request = self.request(rf)
        with pytest.raises(Refused, match="several times over"):
            tried_again(self.broken_off(4), request)
        assert not list(messages.get_messages(request))

    def test_other_failures_are_failures(self, rf: Any, transactional_db: None) -> None:
        """A database that went away is no conflict."""
        with pytest.raises(OperationalError):
            tried_again(self.broken_off(1, AdminShutdown), self.request(rf))


def test_the_log_of_one_workspace_waits_for_no_other(house: Any) -> None:
    """While a transaction that wrote to one log is open, another workspace writes; a second writer of the same log waits."""
    written, done = threading.Event(), threading.Event()

    def hold_open() -> None:
        try:
            with transaction.atomic():
                record("mailing.changed", actor=house.author, house=house.workspace.pk, fields="held")
                written.set()
                done.wait(30)
        finally:
            connection.close()

    holder = threading.Thread(target=hold_open)
    holder.start()
    try:
        assert written.wait(30)
        with connection.cursor() as cursor:
            cursor.execute("set lock_timeout = '200ms'")
        elsewhere = Workspace.objects.get(name="Elsewhere")
        record("mailing.changed", actor=house.outsider, house=elsewhere.pk, fields="at once")
        with pytest.raises(OperationalError, match="lock timeout"):
            record("mailing.changed", actor=house.author, house=house.workspace.pk, fields="waits")
    finally:
        done.set()
        holder.join(30)
    with connection.cursor() as cursor:
        cursor.execute("set lock_timeout = 0")
    record("mailing.changed", actor=house.author, house=house.workspace.pk, fields="next")
    assert [entry.data["fields"] for entry in LogEntry.objects.filter(chain=house.workspace.pk)] == ["held", "next"]
    assert verify().broken is None
