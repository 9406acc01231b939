"""Whatever is typed or sent: a sentence beside the field, a sentence on the page, or 404; never an error of ours.

Forms are found on the pages themselves, and every field of each is given every awkward value, one at a time.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlencode

import lxml.html
import pytest
from django.test import Client

from jetwind.apps.approvals.models import SignOff
from jetwind.apps.approvals.services import LONGEST_COMMENT
from jetwind.apps.intake.services import take_in
from jetwind.apps.workspace.addresses import addresses
from tests.apps.helpers import checked, taken_in
from tests.apps.test_addresses import path_of, things
from tests.factories import GOOD_HTML, mail

__all__ = ["things"]

AWKWARD = [
    "",
    "a\0b",
    "²",
    "-1",
    "1e400",
    "9" * 5000,
    "x" * 5000,
    "\\u0000",
    "\x1b[31m",
    "🏺" * 300,
    "<script>alert(1)</script>",
    "=?punycode?q?xn--?=",
    "{{ x | repeat: 999999999 }}",
    "a@b.org\r\nBcc: c@d.org",
    "9999-12-31T23:59",
]
QUERIES = ["\0", "²", "-1", "nan", "9" * 5000, "x" * 5000, "<script>alert(1)</script>"]
PAGES = [
    "/",
    "/paste/",
    "/people/",
    "/me/",
    "/settings/",
    "/settings/checks/",
    "/settings/audience/",
    "/settings/test-lists/",
    "/readers/new/",
]


def forms_of(client: Client, page: str) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Method, action and fields of every form of a page."""
    answer = client.get(page)
    assert answer.status_code == 200, page
    for form in lxml.html.fromstring(answer.content, base_url=f"http://testserver{page}").forms:
        action = form.get("action") or page
        if "sign-out" in action or "workspaces" in action:
            continue  # they lead to where these forms are not
        fields = {name: value or "" for name, value in form.form_values() if name not in ("csrfmiddlewaretoken", "intent")}
        fields |= {str(element.get("name")): "" for element in form.inputs if element.get("name") and element.get("name") not in fields}
        yield (
            form.method,
            action,
            {name: value for name, value in fields.items() if name not in ("csrfmiddlewaretoken", "intent", "file")},
        )


STATIONS_WITH_FORMS = ("envelope", "wording", "links", "test-sends", "appearance")
#: Forms that stand on every station, or on every page, are tried on one.
_EVERYWHERE = re.compile(r"/(?:look|recheck|send-back|copy|revisions|steer)/\Z")


@pytest.mark.parametrize("page", [*PAGES, *STATIONS_WITH_FORMS, "details", "finding"])
def test_every_field_of_every_form(house: Any, page: str) -> None:
    """Each awkward value in each field; of the settings of checks and profiles only some fields, as all are read alike."""
    revision = taken_in(house, mail("<p>Lorem ipsum {{ first_name }} teh pot</p><a href='#'>x</a>", Subject="Glazes"))
    html = checked(take_in(house.author, house.workspace, b"<p>Come to the kiln</p><a href='#'>x</a>", "a.html"))
    found = revision.check_runs.get().findings.first()
    assert found is not None
    # One person with every role sees every form.
    house.workspace.memberships.filter(user=house.reviewer).update(roles=["reviewer", "author", "approver", "operator", "owner"])
    client = house.client(house.reviewer)
    paths = {
        **{slug: f"/mailings/{html.mailing_id}/r1/{slug}/" for slug in STATIONS_WITH_FORMS},
        "details": f"/mailings/{html.mailing_id}/details/",
        "finding": f"/mailings/{revision.mailing_id}/r1/{found.station}/?finding={found.fingerprint}",
    }
    path = paths.get(page, page)
    tried = 0
    for method, action, fields in list(forms_of(client, path)):
        if (_EVERYWHERE.search(action) and page != "links") or (action == "/" and page != "/"):
            continue
        most = {"/settings/checks/": 12, "/settings/audience/": 6}.get(page, 100)
        for name in list(fields)[:most]:
            for value in AWKWARD:
                sent = {**fields, name: value}
                answer = client.post(action, sent) if method == "POST" else client.get(action, sent)
                assert answer.status_code < 500, (page, action, name, value[:40])
                tried += 1
    assert tried >= len(AWKWARD)


def test_every_word_with_a_sign_off(house: Any) -> None:
    """The form goes when it was answered, so each value meets a message of its own."""
    for number, value in enumerate(AWKWARD):
        revision = taken_in(house, mail(GOOD_HTML, Subject=f"Glazes {number}"))
        page = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        [(method, action, fields)] = [form for form in forms_of(house.client(house.reviewer), page) if form[1].endswith("/sign/")]
        assert method == "POST"
        answer = house.client(house.reviewer).post(action, {**fields, "comment": value})
        assert answer.status_code < 500, value[:40]
        is_usable = "\0" not in value and len(" ".join(value.split())) <= LONGEST_COMMENT
        assert SignOff.objects.filter(revision=revision).exists() == is_usable, value[:40]


def test_every_address_with_awkward_queries(house: Any, things: dict[str, Any]) -> None:
    """Every name that a view reads from the address, with every awkward value; and forms that bring nothing, or only nonsense."""
    names: tuple[str, ...] = (
        "q",
        "stage",
        "finding",
        "place",
        "variant",
        "reader",
        "without",
        "profile",
        "mode",
        "order",
        "zoom",
        "left",
        "right",
    )
    names += ("against", "view", "earlier", "later")
    house.workspace.memberships.filter(user=house.reviewer).update(roles=["reviewer", "author", "approver", "operator", "owner"])
    client = house.client(house.reviewer)
    for address in addresses():
        if address.asked is None:
            continue
        path = path_of(address.name, address.path, things)
        if address.asked.look:
            for value in QUERIES:
                answer = client.get(f"{path}?{urlencode(dict.fromkeys(names, value))}")
                assert answer.status_code < 500, (path, value[:40])
        if address.asked.send and "release" not in path:
            for value in ("", "²", "9" * 30, "x" * 5000):
                sent = dict.fromkeys(
                    ("list", "reader", "element", "settle", "x", "y", "do", "role", "name", "text", "what", "number"), value
                )
                assert client.post(path, sent).status_code < 500, (path, value[:40])


@pytest.mark.parametrize(
    "path",
    [
        "/mailings/99999999999999999999/",
        "/mailings/1/r99999999999999999999/links/",
        "/mailings/²/",
        "/mailings/1/r1/%00/",
        "/renders/99999999999999999999999.jpg",
        "/mailroom/99999999999999999999999/",
        "/join/%00/",
        f"/join/{'x' * 3000}/",
        "/set-password/%00/x/",
        "/set-password/MQ/%F0%9F/",
        "/readers/99999999999999999999999/",
    ],
)
def test_addresses_that_name_nothing(house: Any, path: str) -> None:
    """404, or the way to sign in."""
    assert house.client(house.reviewer).get(path).status_code in (200, 302, 400, 404)
    assert Client().get(path).status_code in (200, 302, 400, 404)
