"""axe-core (Deque's rules, shipped by the package axe-playwright-python) finds nothing serious on any main screen."""

from typing import Any

from axe_playwright_python.sync_playwright import Axe
from django.utils import timezone

from jetwind.apps.approvals.services import release, sign
from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.services import Place, say
from jetwind.apps.instructions.services import Chosen, send_back, tick
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.links.answering import keep, keep_current
from jetwind.apps.mends.services import prepare_now
from jetwind.apps.previews import services as previews
from jetwind.apps.proofs import renders, replies, screenshots
from jetwind.apps.proofs import services as proofs
from jetwind.apps.proofs.models import OwnMailServer, TestCopy
from jetwind.apps.proofs.tasks import compare_one, hold_screenshot, render_arrival
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.services import forbid_wording, require_wording
from jetwind.apps.sets.noting import note_pieces
from jetwind.apps.sets.services import make_set, put_in
from jetwind.core.checking.samples import answered
from jetwind.core.reports import STATIONS
from jetwind.engines.browser import FakeBrowser
from jetwind.engines.mail import BOXES, Delivery
from jetwind.engines.mail.boxes import changed
from tests.apps.helpers import checked, taken_in
from tests.apps.test_previews import render
from tests.factories import GOOD_HTML, mail, picture

#: Rules that judge colours: what else a page is, it is by day as by night.
_OF_COLOURS = {"runOnly": {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}}


def _serious(page: Any, where: str, options: dict[str, Any] | None = None) -> list[str]:
    """What axe-core finds serious or critical on a page, two places of each."""
    return [
        f"{where}: {violation['id']}: {node['html'][:160]} {node.get('failureSummary', '')[:200]}"
        for violation in Axe().run(page, options=options).response["violations"]
        if violation["impact"] in ("serious", "critical")
        for node in violation["nodes"][:2]
    ]


def asked(house: Any, revision: Any) -> str:
    """A test send whose recipients were asked, one of whom answered, and a mail server that was tried; the path of an answer page."""
    send = proofs.send_test(house.reviewer, revision, house.test_list, proofs.Choices(asks=True))
    first, second = send.reply_links.order_by("pk")
    replies.answer(first, replies.Given(looks_right=False, words="Too loud", device="phone"))
    step = {"step": "name", "passed": True, "words": "mail.kiln.org is 192.0.2.7.", "reply": ""}
    steps = [step, {**step, "step": "connection", "passed": False, "words": "Port 587 does not answer: Connection refused."}]
    tested = {"recipient": "one@kiln.org", "steps": steps}
    OwnMailServer.objects.create(workspace=house.workspace, name="Quay", host="mail.kiln.org", tested=tested, tested_at=timezone.now())
    return replies.address_of(second)


def arrived(house: Any, revision: Any) -> list[str]:
    """A copy that arrived with a footer, rendered with it, and a picture of a real screen; the paths of their pages."""
    copy = proofs.send_to_self(house.reviewer, revision, None).copies.get()
    raw = mail(GOOD_HTML, Message_ID=copy.message_id)
    TestCopy.objects.filter(pk=copy.pk).update(copy_sha256=store.keep(raw), state=TestCopy.State.HANDED_OVER, handed_over_at=timezone.now())
    arrival = proofs.keep_arrival(Delivery("a@kiln.org", (copy.address,), changed(BOXES["adds-footer"], raw)))
    compare_one.func(arrival_id=arrival.pk)
    work = renders.ask(house.reviewer, arrival, house.workspace)
    render_arrival.func(arrival_id=arrival.pk, workspace_id=house.workspace.pk, work_id=work.pk)
    screen = screenshots.keep(house.reviewer, TestCopy.objects.get(pk=copy.pk), picture(780, 900), "phone-upright")
    hold_screenshot.func(screenshot_id=screen.pk)
    page = f"/mailroom/{arrival.pk}/"
    return [page, *(f"{page}?view={view}" for view in ("renders", "html", "text", "headers", "raw")), f"/screenshots/{screen.pk}/"]


def of_a_set(house: Any, revision: Any) -> list[str]:
    """A set with a message and a missing one, and shared parts; the paths of their pages."""
    made = make_set(house.author, house.workspace, "Papers", ["Booked", "Receipt"])
    note_pieces(revision)
    put_in(house.author, made.members.select_related("of__workspace").get(name="Booked"), revision.mailing)
    return ["/sets/", f"/sets/{made.pk}/", "/sets/parts/"]


def test_main_screens(house: Any, sign_in: Any, fake_browser: FakeBrowser) -> None:
    """Departures, every station with a finding selected, Readers, Mailroom, Settings, and the dialogs; by day and by night."""
    faulty = taken_in(
        house,
        mail(
            GOOD_HTML
            + "<p>{{ first_name }} {{ frist_name }}{% if first_name == 'Al' %}x{% endif %}</p><p>Lorem ipsum dolor sit amet</p><a href='http://k.org'>x</a><img src='https://k.org/a.png'>",
            None,
            Subject="GLAZES FOR ALL!!",
        ),
    )
    render(faulty)
    assert previews.RENDERS
    require_wording(house.author, faulty.mailing, "a fifth off", ["HTML", "subject"])
    forbid_wording(house.author, faulty.mailing, "x")
    add_revision(house.author, faulty.mailing, mail(GOOD_HTML + "<p>the the £24 glazery</p>", Subject="Glazes"), "b.eml")
    checked(faulty.mailing)
    clean = taken_in(house)
    sign(house.reviewer, clean)
    sign(house.approver, clean)
    release(house.operator, clean)
    kept = keep(house.workspace, "link", answered("http://k.org/", 302, ("https://k.org/", 404), page="A glaze", text="x"))
    kept.landing = {"desktop": store.keep(picture()), "phone": store.keep(picture())}
    kept.save()
    keep_current(faulty, "link", [kept])
    arrival = proofs.keep_arrival(Delivery("a@kiln.org", ("b@kiln.org",), mail()))
    found = walk_of(faulty).findings[0].record
    base = f"/mailings/{faulty.mailing_id}/r1/"
    answer_page = asked(house, faulty)
    of_arrival = arrived(house, faulty)
    said = say(house.author, faulty, Place(Thread.Kind.FINDING, found.station, found.sentence, fingerprint=found.fingerprint), "Why?")
    say(house.author, Revision.objects.get(mailing=faulty.mailing_id, number=2), Place(Thread.Kind.SUBJECT, "envelope", "“G”"), "Shorter?")
    newest = Revision.objects.select_related("mailing__workspace", "uploaded_by").get(mailing=faulty.mailing_id, number=2)
    back = send_back(house.reviewer, newest, "Mend it", Chosen({one.record.fingerprint for one in walk_of(newest).findings}, {said.pk}))
    tick(house.author, back.instructions.all()[0], is_done=True)
    prepare_now(newest)
    pages = [
        "/",
        *of_a_set(house, newest),
        "/readers/",
        "/readers/new/",
        f"/readers/{house.workspace.readers.get(name='Bo').pk}/",
        "/settings/syntaxes/",
        "/settings/syntaxes/new/",
        "/mailroom/",
        f"/mailroom/{arrival.pk}/",
        f"/mailroom/{arrival.pk}/?view=raw",
        "/settings/",
        "/settings/checks/",
        "/settings/audience/",
        "/settings/wire/",
        "/settings/rulebooks/",
        "/settings/rulebooks/new/",
        "/settings/sender/",
        "/spam-reasons/",
        f"{base}sender/",
        f"{base}links/?link=1",
        "/people/",
        "/me/",
        f"{base}appearance/?profile=phone-upright",
        f"{base}appearance/compare/",
        f"{base}appearance/compare/?view=wiper",
        f"{base}appearance/compare/?view=map",
        f"/mailings/{faulty.mailing_id}/compare/",
        "/settings/test-lists/",
        f"/settings/test-addresses/{house.test_list.addresses.first().pk}/",
        "/settings/mail-servers/",
        "/settings/mail-servers/new/",
        answer_page,
        *of_arrival,
        f"{base}comments/",
        f"{base.replace('r1', 'r2')}send-back/",
        f"{base.replace('r1', 'r2')}mends/",
        f"/instructions/{back.pk}/",
        "/waiting/",
        "/log/",
        "/calendar/",
        "/settings/sign-off/",
        "/settings/sign-off/every/",
        f"{base}approve/",
        f"{base.replace('r1', 'r2')}approve/",
        "/paste/",
    ]
    pages += (
        [f"{base}{station.slug}/" for station in STATIONS]
        + [f"{base.replace('r1', 'r2')}wording/"]
        + [
            f"{base}{found.station}/?finding={found.fingerprint}",
            f"/mailings/{clean.mailing_id}/r1/sign-off/",
            "/nowhere/",
        ]
    )
    house.workspace.memberships.filter(user=house.reviewer).update(roles=["reviewer", "owner"])
    page = sign_in("reviewer", color_scheme="light")
    serious: list[str] = []
    for address in pages:
        page.goto(address)
        serious += _serious(page, address)
        page.emulate_media(color_scheme="dark")
        # Colours pass into those of the night; what counts is where they end. What the page took away meanwhile has ended, too.
        page.evaluate("Promise.all(document.getAnimations().map((one) => one.finished.catch(() => null)))")
        serious += _serious(page, f"{address} by night", _OF_COLOURS)
        page.emulate_media(color_scheme="light")
    page.goto(f"{base}links/")
    page.keyboard.press("?")
    serious += _serious(page, "keys")
    assert serious == []
