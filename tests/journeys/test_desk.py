"""The desk in a real browser: a folder taken in, many messages changed by one press, and a set reviewed as one."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

from django.utils import timezone
from playwright.sync_api import expect

from jetwind.apps.intake.models import Mailing
from jetwind.apps.review.models import Excuse
from tests.factories import GOOD_HTML, mail


def test_a_folder_becomes_a_set(house: Any, sign_in: Any, start_worker: Any, tmp_path: Path) -> None:
    """Three messages of a folder, one file that is none; given, dated, put into a set, and one excuse for the cause that they share."""
    faulty = GOOD_HTML.replace("https://www.kiln.org/sale", "http://www.kiln.org/sale")
    folder = tmp_path / "papers"
    (folder / "later").mkdir(parents=True)
    for name in ("booked", "moved", "later/refund"):
        subject = name.rpartition("/")[2].capitalize()
        (folder / f"{name}.eml").write_bytes(mail(faulty.replace("Glazes", subject), Subject=subject))
    (folder / "notes.txt").write_text("No message.")
    start_worker()
    author = sign_in("author")
    author.goto("/take-in/many/")
    author.get_by_label("Or a folder").set_input_files(folder)
    author.get_by_role("button", name="Take the folder in").click()
    expect(author.get_by_text("3 messages taken in, 1 file refused.")).to_be_visible(timeout=60_000)
    expect(author.get_by_text("“notes.txt” is no message")).to_be_visible()

    # On Departures all three are given to the reviewer, with a deadline, by one press each.
    author.goto("/")
    for box in author.get_by_role("checkbox", name="Choose ").all():
        box.check()
    author.get_by_text("Person, deadline, days").click()
    author.get_by_label("Person who reviews").select_option(label=house.reviewer.shown_name)
    author.get_by_role("button", name="Give the review to this person").click()
    expect(author.get_by_text("3 messages are given to Reviewer for review.")).to_be_visible()
    for box in author.get_by_role("checkbox", name="Choose ").all():
        box.check()
    author.get_by_text("Person, deadline, days").click()
    until = (timezone.now() + timedelta(days=4)).astimezone(house.author.zone)
    author.get_by_label("Deadline for review").fill(f"{until:%Y-%m-%dT%H:%M}")
    author.get_by_role("button", name="Set this deadline for review").click()
    expect(author.get_by_text("3 messages are with that deadline for review.")).to_be_visible()
    assert Mailing.objects.filter(given_to=house.reviewer, review_by__isnull=False).count() == 3

    # The set expects a receipt besides, which stays missing.
    author.get_by_role("navigation", name="Main").get_by_role("link", name="Sets").click()
    author.get_by_label("Name").fill("Papers")
    author.get_by_label("Messages that it is to have").fill("Booked\nMoved\nRefund\nReceipt")
    author.get_by_role("button", name="Make the set").click()
    for name in ("Booked", "Moved", "Refund"):
        row = author.get_by_role("row", name=name).filter(has=author.get_by_role("combobox"))
        row.get_by_role("combobox").select_option(label=name)
        row.get_by_role("button", name="This is the message").click()
        expect(author.get_by_role("link", name=name, exact=True).first).to_be_visible()
    author.get_by_role("button", name="Make Booked the model").click()
    expect(author.get_by_text("the model of this set")).to_be_visible()
    expect(author.get_by_text("Missing: Receipt.")).to_be_visible()

    # The reviewer excuses in all of them what the checks say of all of them.
    reviewer = sign_in("reviewer")
    reviewer.goto(author.url)
    cause = reviewer.get_by_role("listitem").filter(has_text="http://www.kiln.org/sale")
    expect(cause.get_by_role("link")).to_have_text(["Booked", "Moved", "Refund"])
    cause.get_by_text("Excuse it in all these messages").click()
    cause.get_by_label("Why is this all right").fill("The shop moves to https in March.")
    cause.get_by_role("button", name="Excuse").click()
    expect(reviewer.get_by_text("3 findings are excused, in every message that has them.")).to_be_visible()
    assert Excuse.objects.filter(lifted_at=None).count() == 3
    expect(cause).to_contain_text("excused")
