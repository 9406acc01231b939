"""A test send with a cast: four people, five practice mailboxes, two subjects, a worker that is killed, and an answer from a phone."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, expect

from jetwind.apps.comments.models import Comment
from jetwind.apps.intake.services import take_in
from jetwind.apps.previews.models import Render
from jetwind.apps.proofs import replies
from jetwind.apps.proofs.models import Arrival, Reply, ReplyLink, TestAddress, TestCopy
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.message.envelope import Envelope
from jetwind.engines.mail import BOXES
from tests.factories import GOOD_HTML, picture
from tests.journeys.conftest import wait_until

PEOPLE = {"una": "phone", "duo": "old desktop", "tres": "tablet; phone", "quad": ""}
#: Each with what its lanes say in the end.
BOX_NAMES = {
    "accepts": "as it was sent",
    "encodes-anew": "as it was sent",
    "rewrites-links": "2 differences",
    "refuses": "refused: there is no such mailbox",
    "answers-by-itself": "answered by a machine",
}


def test_from_the_form_to_an_answer(house: Any, sign_in: Any, chromium: Browser, start_worker: Any, mailroom: None, tmp_path: Path) -> None:
    """Every lane ends as its mailbox promises, and nobody gets a copy twice."""
    workspace = house.workspace
    workspace.test_domains = ["kiln.org", "boxes.saltmarsh-kiln.example"]
    workspace.save()
    house.test_list.addresses.all().delete()
    bo = SampleReader.objects.get(name="Bo")
    for name, devices in PEOPLE.items():
        TestAddress.objects.create(list=house.test_list, address=f"{name}@kiln.org", name=name.title(), devices=devices, reader=bo)
    for name in BOX_NAMES:
        TestAddress.objects.create(list=house.test_list, address=BOXES[name].address)
    given = Envelope(
        subject="Twelve glazes, {{ first_name | default: 'potter' }}",
        sender_name="Kiln Works",
        sender_address="hello@kiln.org",
        subject_variants=("A fifth off until Sunday",),
    )
    mailing = take_in(house.author, workspace, GOOD_HTML.encode(), "glazes.html", envelope=given)
    worker = start_worker()

    # The reviewer chooses both subjects and asks everybody.
    reviewer = sign_in("reviewer")
    station = f"/mailings/{mailing.pk}/r1/test-sends/"
    reviewer.goto(station)
    reviewer.get_by_label("A fifth off until Sunday").check()
    reviewer.get_by_label("Ask each for an answer").check()
    reviewer.get_by_role("button", name="Send test").click()
    expect(reviewer.get_by_text("goes to “Team”")).to_be_visible()

    # A worker dies in the middle; another goes on.
    wait_until(lambda: Arrival.objects.filter(copy__purpose="copy").count() > 4, "some copies' arrival")
    worker.kill()
    start_worker()
    waiting = TestCopy.objects.filter(state__in=("waiting", "on-its-way"))
    wait_until(lambda: not waiting.exists(), "every hand-over", 90)
    copies = TestCopy.objects.filter(purpose="copy")
    assert copies.count() == 18
    wait_until(
        lambda: (
            not Arrival.objects.filter(copy__purpose="copy", compared=None, not_compared="").exists()
            and Arrival.objects.filter(report="answered").count() == 3
        ),
        "every comparison and the answers of a machine",
        90,
    )
    taken = [copy for copy in copies if not copy.address.startswith("refuses@")]
    assert all(copy.arrivals.count() == 1 for copy in taken), [(copy.address, copy.arrivals.count()) for copy in taken]
    reviewer.goto(station)
    for name, words in BOX_NAMES.items():
        lanes = reviewer.locator(".who", has_text=BOXES[name].address)
        expect(lanes).to_have_count(2)
        for number in range(2):
            expect(lanes.nth(number).locator("xpath=following-sibling::*[2]")).to_contain_text(words)

    # On a phone, one of the four opens the note, taps on the heading, adds a photo and says what is wrong.
    wait_until(lambda: Render.objects.filter(profile="phone-upright", state="done").exists(), "the render of a phone", 120)
    link = ReplyLink.objects.select_related("send").get(address="una@kiln.org")
    phone = chromium.new_context(viewport={"width": 390, "height": 844}, has_touch=True)
    page = phone.new_page()
    page.goto(replies.address_of(link))
    page.get_by_label("Something is wrong").check()
    page.get_by_label("In your words").fill("The heading is too loud")
    # Without a connection nothing is lost: the page says so, and has the words when it is opened again.
    phone.set_offline(True)
    page.get_by_role("button", name="Send the answer").click()
    expect(page.get_by_text("There is no connection now.")).to_be_visible()
    phone.set_offline(False)
    page.reload()
    expect(page.get_by_label("In your words")).to_have_value("The heading is too loud")
    expect(page.get_by_label("Something is wrong")).to_be_checked()
    photo = tmp_path / "photo.png"
    photo.write_bytes(picture(300, 600))
    page.get_by_label("Photos or screenshots").set_input_files(photo)
    render = page.get_by_role("img", name="The message as it was reviewed")
    box = render.bounding_box()
    assert box is not None and box["width"] <= 390
    render.click(position={"x": 60, "y": 40})
    page.get_by_role("button", name="Send the answer").click()
    expect(page.get_by_text("Your answer is with Reviewer.")).to_be_visible()
    assert page.evaluate("localStorage.length") == 0
    phone.close()

    # The reviewer sees who, on what, the words, the photo, and the comment at the heading.
    reply = Reply.objects.get()
    wait_until(lambda: Comment.objects.exists(), "the comment")
    assert (Comment.objects.get().words, reply.photos.count()) == ("The heading is too loud", 1)
    reviewer.goto(station)
    row = reviewer.get_by_role("row", name="Una")
    expect(row).to_contain_text("something is wrong")
    expect(reviewer.get_by_text("The heading is too loud")).to_be_visible()
    expect(reviewer.get_by_role("img", name="Photo 1 of Una")).to_be_visible()
