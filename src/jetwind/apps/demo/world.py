"""Building the demo world through the same services that people use."""

from __future__ import annotations

from datetime import date, datetime
from zoneinfo import ZoneInfo

from django.contrib.auth.hashers import make_password
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.keys import make_missing_keys
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.selectors import named_subject
from jetwind.apps.comments.services import Place, answer, say
from jetwind.apps.demo import messages
from jetwind.apps.demo.answers import put
from jetwind.apps.demo.past import Answers, build_past
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import Details, add_revision, change_details, start_copy, take_in
from jetwind.apps.links.models import Wire
from jetwind.apps.previews.services import Pointed, comment_on
from jetwind.apps.proofs.models import OwnMailServer, TestAddress, TestList
from jetwind.apps.proofs.sealing import seal
from jetwind.apps.review.services import forbid_wording, look_at, require_wording
from jetwind.apps.sets.services import choose_model, make_set, put_in
from jetwind.apps.workspace.models import Membership, ProvenDomain, SampleReader, Workspace
from jetwind.apps.workspace.rulebooks import as_table
from jetwind.core.checking import house_rulebook
from jetwind.core.message import Envelope
from jetwind.engines.mail import BOXES
from jetwind.engines.practice import OTHER_DOMAIN
from jetwind.engines.practice.directory import EXPIRED, MAIL
from jetwind.engines.practice.mail import PASSWORD as PRACTICE_PASSWORD
from jetwind.engines.practice.mail import USER

NAME = "Saltmarsh Kiln Works"
DOMAIN = "saltmarsh-kiln.example"
PASSWORD = "walk-the-round"
_ZONE = "Europe/Amsterdam"

PEOPLE = (
    ("rosa", "Rosa", "Quill", "reviewer"),
    ("amos", "Amos", "Thrift", "author"),
    ("petra", "Petra", "Vane", "approver"),
    ("odell", "Odell", "Marsh", "operator"),
)

#: The devices on which the first three of them read mail, in their own words.
DEVICES = ("phone, its own mail program", "laptop, in the browser; tablet at home", "old desktop in the workshop")

#: Name, first name, last name, remark: each awkward in its own way.
READERS = (
    ("Bo Li", "Bo", "Li", "as short as names get"),
    ("Maximiliana-Theodora Featherstone-Wintergreen", "Maximiliana-Theodora", "Featherstone-Wintergreen", "a very long name"),
    ("No first name", "", "Harrow", "first name is empty"),
    ("Maeve O’Dell-Ruiz", "Maeve", "O’Dell-Ruiz", "apostrophe and hyphen"),
    ("Юлия Глиняная", "Юлия", "Глиняная", "another script"),
    ("Tess & Sons <studio>", "Tess & Sons <studio>", "Tallow", "characters that HTML reads as markup"),
)


def is_wanted() -> bool:
    """Whether nobody has lived here yet: a house that removed the demo, or began without it, keeps what it has."""
    return not (Workspace.objects.exists() or User.objects.exists() or LogEntry.objects.exists())


#: Per cent of the cooperative's readers by client profile; invented, as everything here.
AUDIENCE = {
    "desktop-pane": 8,
    "desktop-night": 3,
    "word-processor": 7,
    "word-processor-night": 2,
    "pane-blocked": 4,
    "webmail-wide": 12,
    "webmail-prefix": 5,
    "webmail-prefix-night": 1,
    "webmail-bare": 3,
    "webmail-columns": 4,
    "webmail-blocked": 2,
    "tablet-upright": 5,
    "tablet-turned": 2,
    "phone-upright": 17,
    "phone-turned": 1,
    "phone-app": 12,
    "phone-night": 5,
    "phone-night-partial": 4,
    "phone-blocked": 3,
}


@transaction.atomic
def build(*, is_short: bool = False, give_answers: Answers = put) -> Workspace:
    """Make people, readers, test lists and messages; checks and renders follow in the background.

    ``is_short`` leaves out the messages with a past and the automatic ones. ``give_answers`` says what the checks found in a revision of the past.
    """
    workspace = Workspace.objects.create(
        name=NAME,
        field_list=["first_name", "last_name", "member_number", "course_title", "slot", "pick_up_date"],
        practice_domains=[DOMAIN, OTHER_DOMAIN],
        test_domains=[DOMAIN],
        test_sender=f"review@{DOMAIN}",
        word_list=["grogged", "raku", "sgraffito"],
        audience=AUDIENCE,
        escapes_values=True,
        signing={"domain": DOMAIN, "selector": "spring", "host": "192.0.2.25", "return_path": ""},
        house_rulebooks=[
            as_table(
                house_rulebook(
                    "House rules of the quay",
                    ["footer.unsubscribe-words", "footer.reason-missing", "footer.address-missing"],
                    ["Saltmarsh Kiln Works"],
                    ["promotional", "newsletter"],
                    since=date(2027, 1, 1),
                    id="house:1",
                )
            )
        ],
    )
    ProvenDomain.objects.create(workspace=workspace, domain=DOMAIN, how=ProvenDomain.How.ADMINISTRATOR)
    Wire.objects.create(workspace=workspace, inward_hosts=[DOMAIN, OTHER_DOMAIN])
    users = _people(workspace)
    _readers(workspace)
    _test_lists(workspace)
    _messages(workspace, users)
    if not is_short:
        make_missing_keys()
        _slot_papers(workspace, users)
        build_past(workspace, users, give_answers)
    return workspace


def _people(workspace: Workspace) -> dict[str, User]:
    """One person for each role, who are the test list too; by role."""
    users = {}
    # They have one password, which is hashed once: this takes a second by design.
    password = make_password(PASSWORD)
    for username, first, last, role in PEOPLE:
        users[role] = User.objects.create(
            username=username,
            email=f"{username}@{DOMAIN}",
            password=password,
            first_name=first,
            last_name=last,
            time_zone=_ZONE,
            proven_email=f"{username}@{DOMAIN}",
        )
        Membership.objects.create(workspace=workspace, user=users[role], roles=[role, "owner"] if role == "operator" else [role])
    return users


def _test_lists(workspace: Workspace) -> None:
    """The people who get test sends, the practice mailboxes, and two mail servers of the practice field: a good one, and one that ran out."""
    test_list = TestList.objects.create(workspace=workspace, name="The quay team", is_usual=True)
    readers = list(workspace.readers.order_by("id")[:3])
    for (username, first, last, _), devices, reader in zip(PEOPLE[:3], DEVICES, readers, strict=True):
        TestAddress.objects.create(list=test_list, address=f"{username}@{DOMAIN}", name=f"{first} {last}", devices=devices, reader=reader)
    practice = TestList.objects.create(workspace=workspace, name="Practice mailboxes")
    for name in (
        "accepts",
        "encodes-anew",
        "rewrites-links",
        "blocks-links",
        "breaks-signature",
        "adds-footer",
        "strips-headers",
        "loses-letters",
        "refuses",
        "puts-off",
        "bounces-later",
        "answers-by-itself",
    ):
        TestAddress.objects.create(list=practice, address=BOXES[name].address)
    OwnMailServer.objects.create(
        workspace=workspace, name="The kiln’s own server", host=MAIL, user=USER, sealed_password=seal(PRACTICE_PASSWORD), per_minute=60
    )
    OwnMailServer.objects.create(
        workspace=workspace, name="The old server", host=EXPIRED, user=USER, sealed_password=seal(PRACTICE_PASSWORD)
    )


def _readers(workspace: Workspace) -> None:
    for number, (name, first, last, remark) in enumerate(READERS, 1):
        values = {
            "first_name": first,
            "last_name": last,
            "member_number": f"SK-{1040 + number}",
            "course_title": "" if first == "Bo" else "Throwing off the hump",
            "slot": "Tuesday 2 March",
            "pick_up_date": "Thursday 4 March",
        }
        SampleReader.objects.create(
            workspace=workspace, name=name, email=f"reader{number}@{DOMAIN}", time_zone=_ZONE, values=values, remark=remark
        )


def _slot_papers(workspace: Workspace, users: dict[str, User]) -> None:
    """The automatic messages about a firing slot, as one set, of which the receipt is missing. One of them got a new footer lately."""
    author = users["author"]
    made = make_set(author, workspace, "Firing slot papers", ["Booked", "Reminder", "Moved", "Refund", "Pick-up notice", "Receipt"])
    messages_of = {"Pick-up notice": Mailing.objects.get(workspace=workspace, title="Pick-up notice")}
    papers = messages.slot_papers()
    for paper in papers.values():
        if paper.member in messages_of:
            continue
        details = Details(paper.working_title, "transactional", "everybody with a firing slot", None, _ZONE)
        messages_of[paper.member] = take_in(author, workspace, paper.raw, paper.file_name, details=details)
    for member in made.members.select_related("of__workspace").filter(name__in=messages_of):
        put_in(author, member, messages_of[member.name])
    choose_model(author, made, messages_of["Booked"].pk)
    for name in ("Booked", "Reminder"):
        first = messages_of[name].revisions.select_related("mailing__workspace").get()
        for station in ("envelope", "wording", "links"):
            look_at(users["reviewer"], first, station)
    add_revision(author, messages_of["Moved"], papers["moved"].later, "slot-moved-2.eml")


def _planned(month: int, day: int, hour: int) -> datetime:
    return datetime(2027, month, day, hour, tzinfo=ZoneInfo(_ZONE))


def _comments(mailing: Mailing, users: dict[str, User]) -> None:
    """What people said about a message: at its subject, and at its picture."""
    revision = mailing.revisions.select_related("mailing__workspace").get()
    message = message_of(revision)
    place = Place(Thread.Kind.SUBJECT, "envelope", named_subject(message))
    thread = say(users["approver"], revision, place, "Could the subject say which weekend?", [users["author"].pk])
    answer(users["author"], thread, "The first one of May. There is no room for it yet.")
    document = message.document
    studio = next((one for one in document.elements("img") if "studio@" in (one.get("src") or "")), None) if document is not None else None
    if studio is not None:
        comment_on(
            users["reviewer"],
            revision,
            "desktop-pane",
            Pointed(studio.index, 50.0, 30.0),
            "The wall looks like noise. Is this the right file?",
        )


def _messages(workspace: Workspace, users: dict[str, User]) -> None:
    """A clean one, a faulty one that people talk about, a transactional one, and a copy of the first that was changed."""
    author = users["author"]
    spring = take_in(
        author,
        workspace,
        messages.clean_sale(),
        "spring-glaze-sale.eml",
        details=Details("Spring glaze sale", "promotional", "members and friends, 2,140 readers", _planned(3, 9, 9), _ZONE),
    )
    weekend = take_in(
        author,
        workspace,
        messages.faulty_weekend(),
        "open-studio-weekend.eml",
        details=Details("Open studio weekend", "newsletter", "members and friends, 2,140 readers", _planned(5, 4, 10), _ZONE),
    )
    _comments(weekend, users)
    take_in(
        author,
        workspace,
        messages.courses_letter(),
        "courses-in-spring.eml",
        details=Details("Courses in spring", "newsletter", "members and friends, 2,140 readers", _planned(2, 16, 9), _ZONE),
    )
    take_in(
        author,
        workspace,
        messages.pick_up_notice(),
        "pick-up-notice.eml",
        details=Details("Pick-up notice", "transactional", "whoever has a firing to collect", _planned(3, 4, 8), _ZONE),
    )
    for letter in messages.letters_abroad().values():
        details = Details(letter.working_title, "newsletter", "readers abroad", _planned(2, 18, 9), _ZONE, countries=(letter.country,))
        take_in(author, workspace, letter.raw, "course-letter.eml", details=details)
    autumn = start_copy(author, spring)
    change_details(
        author, autumn, Details("Autumn glaze sale", "promotional", "members and friends, 2,140 readers", _planned(10, 5, 9), _ZONE)
    )
    require_wording(author, autumn, "a fifth off", ["HTML", "plain text", "subject"])
    require_wording(author, autumn, "until Sunday 10 October", ["HTML", "plain text"])
    forbid_wording(author, autumn, "14 March")
    add_revision(
        author,
        autumn,
        messages.autumn_sale(),
        "autumn-glaze-sale.eml",
        envelope=Envelope(
            subject="Autumn glazes, a fifth off until Sunday",
            sender_name=NAME,
            sender_address=f"glaze@{DOMAIN}",
            reply_address=f"studio@{DOMAIN}",
            subject_variants=(
                "{{ first_name }}, your autumn glazes are in, and every litre costs a fifth less until Sunday evening",
                "AUTUMN GLAZES, a fifth off until Sunday",
            ),
        ),
    )
