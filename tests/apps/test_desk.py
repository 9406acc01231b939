"""The desk: pages of a message are made in helpers, with limits, and the process that serves everybody holds no message."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Iterator
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client

from jetwind.apps.intake import selectors, services
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs import handing_over
from jetwind.apps.proofs.models import TestSend
from jetwind.apps.proofs.tasks import send_copies
from jetwind.apps.review.models import CheckRun
from jetwind.apps.workspace import desk
from jetwind.core.reports import STATIONS
from jetwind.engines.mail import Handover, HandoverOutcome
from tests.apps.helpers import checked, taken_in
from tests.factories import GOOD_HTML, mail
from tests.hostile import NESTED_SELECTORS

pytestmark = pytest.mark.django_db(transaction=True)

#: What differs between two answers to the same request: tokens of forms, and keys of intents.
_ONCE = re.compile(r'name="shown" value="[^"]*"|name="csrfmiddlewaretoken" value="[^"]*"|name="intent" value="[^"]*"|csrfToken[^>]*')


@pytest.fixture
def helpers(settings: Any) -> Iterator[None]:
    """Pages are made in helpers, as in a house that people live in."""
    settings.DESK = "helpers"
    desk.close()
    desk._desk._past.clear()
    yield
    desk.close()


@pytest.fixture
def no_message_here(monkeypatch: pytest.MonkeyPatch) -> Any:
    """From when it is called, the serving process may not read a message."""

    def begin() -> None:
        def refuse(*given: Any, **more: Any) -> None:
            raise AssertionError("the serving process works on a message")

        monkeypatch.setattr(selectors, "_parsed", refuse)
        monkeypatch.setattr(selectors, "read_bytes", refuse)
        monkeypatch.setattr(services, "read_bytes", refuse)

    return begin


def test_the_same_pages(house: Any, helpers: None, no_message_here: Any, settings: Any) -> None:
    """Every station, the report, the comparison and the details, word for word, while the serving process reads no message."""
    revision = taken_in(house, mail(GOOD_HTML + "<p>Lorem ipsum dolor sit amet</p><a href='http://k.org'>x</a>"))
    client = house.client(house.reviewer)
    base = f"/mailings/{revision.mailing_id}/"
    pages = [f"{base}r1/{station.slug}/" for station in STATIONS]
    pages += [f"{base}compare/", f"{base}details/", f"{base}r1/report.csv", f"{base}r1/plain-text-afresh/", f"{base}r1/links/links.csv"]
    settings.DESK = "here"
    here = {page: client.get(page) for page in pages}
    settings.DESK = "helpers"
    no_message_here()
    for page in pages:
        there = client.get(page)
        assert (there.status_code, there["Content-Type"]) == (200, here[page]["Content-Type"]), page
        assert _ONCE.sub("", there.content.decode()) == _ONCE.sub("", here[page].content.decode()), page
    assert house.client(house.outsider).get(pages[0]).status_code == 404
    assert Client().get(pages[0]).status_code == 302


def test_what_is_sent(house: Any, helpers: None, no_message_here: Any) -> None:
    """A file is taken in, a form changes what it changes once, a refusal is a sentence, and what is said is shown on the next page."""
    no_message_here()
    client = house.client(house.author)
    raw = mail()
    said = client.post("/take-in/", {"file": SimpleUploadedFile("sale.eml", raw, "message/rfc822")}, follow=True).content.decode()
    assert "is taken in as revision 1" in said
    mailing = Mailing.objects.get()
    assert Revision.objects.get().subject == "Twelve glazes, a fifth off"
    page = client.get(f"/mailings/{mailing.pk}/details/").content.decode()
    intent = re.search(r'name="intent" value="([^"]*)"', page)
    assert intent is not None
    form = {"title": "Second title", "kind": "promotional", "planned_zone": "UTC", "intent": intent[1]}
    for _ in range(2):
        client.post(f"/mailings/{mailing.pk}/details/", form)
    assert Mailing.objects.get().title == "Second title"
    assert "was sent twice; it was done once" in client.get("/").content.decode()
    again = client.post(f"/mailings/{mailing.pk}/revisions/", {"file": SimpleUploadedFile("sale.eml", raw)}, follow=True)
    assert "is exactly revision 1" in again.content.decode()
    wrong = client.post("/take-in/", {"file": SimpleUploadedFile("empty.eml", b"")}, follow=True)
    assert "empty" in wrong.content.decode()
    assert house.client(house.approver).post(f"/mailings/{mailing.pk}/details/", form).status_code == 403


def test_a_message_that_takes_a_minute(house: Any, helpers: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """Two people open it on every station while a third looks at a small message: each is answered, with what is known, and none waits for it."""
    heavy = services.take_in(house.author, house.workspace, NESTED_SELECTORS.encode(), "nested.html")
    small = taken_in(house)
    assert Revision.objects.filter(mailing=heavy).exists()
    monkeypatch.setattr(desk, "LOOKING_S", 1.0)
    waited: list[float] = []
    answers: dict[str, int] = {}
    stop = threading.Event()

    def walk(user: Any) -> None:
        client = house.client(user)
        for station in STATIONS:
            address = f"/mailings/{heavy.pk}/r1/{station.slug}/"
            answers[f"{user.pk}{address}"] = client.get(address).status_code
        connection.close()

    def glance() -> None:
        client = house.client(house.approver)
        while not stop.is_set():
            began = time.monotonic()
            assert client.get(f"/mailings/{small.mailing_id}/r1/envelope/").status_code == 200
            waited.append(time.monotonic() - began)
        connection.close()

    glancing = threading.Thread(target=glance)
    glancing.start()
    walking = [threading.Thread(target=walk, args=(user,)) for user in (house.reviewer, house.author)]
    for one in walking:
        one.start()
    for one in walking:
        one.join(300)
    stop.set()
    glancing.join(60)
    assert set(answers.values()) == {200}
    assert "could not be drawn" in house.client(house.reviewer).get(f"/mailings/{heavy.pk}/r1/wording/").content.decode()
    assert len(answers) == 2 * len(STATIONS)
    # Somebody else's pages went on all the while.
    assert len(waited) > 3
    client, base = house.client(house.reviewer), f"/mailings/{heavy.pk}/r1/"
    assert client.post(f"{base}recheck/", {"longer": "yes"}, headers={"host": "127.0.0.1"}).status_code == 302
    assert client.post(f"{base}test-sends/send/", {"list": house.test_list.pk}).status_code == 302
    copies: list[bytes] = []
    monkeypatch.setattr(
        handing_over, "hand_over", lambda server, sender, to, content: (copies.append(content), Handover(HandoverOutcome.TAKEN, "250"))[1]
    )
    send = TestSend.objects.get()
    send_copies.func(send_id=send.pk, work_id=Work.objects.get(kind="test-send").pk)
    assert set(send.copies.values_list("state", flat=True)) == {"handed-over"}
    assert len(copies) == 2 and all(b"Come to the kiln" in copy for copy in copies)


def test_given_up_once(house: Any, helpers: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """A page that took too long says so, with the findings that are stored; asked again, it says so without working on the message."""
    revision = taken_in(house, mail(GOOD_HTML + "<a href='#'>x</a>"))
    client = house.client(house.reviewer)
    address = f"/mailings/{revision.mailing_id}/r1/links/"
    asked: list[str] = []

    def past(self: Any, question: Any, *args: Any) -> None:
        asked.append(args[0].environment["PATH_INFO"])
        raise desk.PastBudget("took longer than 4 s")

    monkeypatch.setattr(desk.Helper, "ask", past)
    for _ in range(2):
        page = client.get(address)
        assert page.status_code == 200
        assert "This page could not be drawn" in page.content.decode()
        assert "took longer than 4 s" in page.content.decode()
        assert "leads nowhere" in page.content.decode() or "target" in page.content.decode()
    assert asked == [address]
    CheckRun.objects.create(revision=revision, key="longer")
    client.get(address)
    assert asked == [address] * 2
    sent = client.post(f"/mailings/{revision.mailing_id}/r1/excuse/{'0' * 16}/", {"reason": "x"}, follow=True).content.decode()
    assert "Nothing was changed" in sent


def test_memory_is_given_back(house: Any, helpers: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """A helper that keeps much is ended after its answer, and another begins with the next request."""
    revision = taken_in(house)
    client, address = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/envelope/"
    client.get(address)
    [helper] = desk._desk._free
    assert 1_000_000 < helper.resident < desk.MOST_KEPT
    first = helper._process.pid
    assert client.get(address).status_code == 200
    assert helper._process.pid == first
    monkeypatch.setattr(desk, "MOST_KEPT", 1_000_000)
    assert client.get(address).status_code == 200
    assert (helper._process, helper.resident) == (None, 0)
    assert client.get(address).status_code == 200


def test_a_busy_desk_is_not_the_messages_fault(house: Any, helpers: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """A page for which no helper was free says so, and is drawn as soon as one is: nothing of it is held against the message."""
    revision = taken_in(house)
    client, address = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/envelope/"
    with monkeypatch.context() as busy:
        busy.setattr(desk, "PLACES", 0)
        busy.setattr(desk, "_WAITING_S", 0.05)
        assert "no place became free in time" in client.get(address).content.decode()
    assert "could not be drawn" not in client.get(address).content.decode()
    assert not desk._desk._past


def test_a_helper_that_dies(house: Any, helpers: None) -> None:
    """The next request has another."""
    revision = checked(services.take_in(house.author, house.workspace, mail(), "a.eml"))
    client = house.client(house.reviewer)
    address = f"/mailings/{revision.mailing_id}/r1/envelope/"
    assert client.get(address).status_code == 200
    [helper] = desk._desk._free
    helper._process.kill()
    helper._process.join()
    assert "took the process down" in client.get(address).content.decode()
    desk._desk._past.clear()
    assert "Envelope" in client.get(address).content.decode()
