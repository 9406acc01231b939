"""Every form that edits what exists, opened by two people at once: what each changed is kept, and who changes the same is asked.

The forms are found on the pages. A field belongs to what is kept if a value that is sent for it stands there when the page is opened again.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import lxml.html
import pytest
from django.db import transaction
from django.test import Client

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.services import take_in
from jetwind.apps.proofs.models import OwnMailServer
from jetwind.apps.workspace.models import FieldSyntax, Membership
from jetwind.apps.workspace.rulebooks import keep_rulebook
from jetwind.core.checking import Brief
from tests.apps.helpers import checked
from tests.apps.test_fields import ANGLES

ROLES = ["reviewer", "author", "approver", "operator", "owner"]
#: Values to try in a field of text, until one is taken: one row for the first person, one for the second.
TRIED = (
    ["Wheel", "wheel.example", "wheel@kiln.org", "12", "2027-05-01", "2027-05-01T10:00", "NL", "<w", "wheel=1", "192.0.2.7", "Wheel {{"],
    ["Glaze", "glaze.example", "glaze@kiln.org", "13", "2027-06-01", "2027-06-01T10:00", "DE", "<g", "glaze=1", "192.0.2.8", "Glaze {{"],
)
#: Of forms with a field for each check or client profile the first few are tried: all are read alike.
MOST_FIELDS = 9

Values = dict[str, list[str]]


class Form:
    """A form as it stands on a page."""

    def __init__(self, page: str, form: Any) -> None:
        self.action = form.get("action") or page
        self.choices: dict[str, list[str]] = {}
        self.values: Values = {}
        self.fields: list[str] = []
        for element in form.inputs:
            name, kind = element.get("name"), element.get("type")
            if not name or kind in ("submit", "button", "file"):
                continue
            if kind != "hidden" and name not in self.fields and not element.get("disabled"):
                self.fields.append(name)
            if element.tag == "select":
                self.choices[name] = list(element.value_options)
            elif kind in ("checkbox", "radio"):
                self.choices.setdefault(name, []).append(element.get("value", "on"))
        for name, value in form.form_values():
            self.values.setdefault(name, []).append(value or "")
        # The button that a person would press.
        buttons = [button for button in form.xpath(".//button[@name]") if button.get("value") not in ("deactivate", "password", "prove")]
        if buttons:
            self.values.setdefault(buttons[0].get("name"), [buttons[0].get("value") or ""])

    @property
    def identity(self) -> tuple[str, tuple[str, ...]]:
        """What tells it from the other forms of its page."""
        return self.action, tuple(sorted(set(self.fields)))

    def other_values(self, name: str, person: int) -> Iterator[list[str]]:
        """Values that a person could give to a field instead of those that stand there."""
        now = self.values.get(name, [])
        if name not in self.choices:
            yield from ([value] for value in TRIED[person] if [value] != now)
            return
        options = [option for option in self.choices[name] if option not in now]
        if len(self.choices[name]) == 1 or len(now) > 1:
            yield [] if now else self.choices[name]
        for option in options[person:] or options:
            yield [option]


def forms_of(client: Client, page: str) -> dict[Any, Form]:
    """The forms of a page that change something."""
    answer = client.get(page, follow=True)
    assert answer.status_code == 200, page
    found = [Form(page, form) for form in lxml.html.fromstring(answer.content).forms if form.method == "POST"]
    return {form.identity: form for form in found if not any(part in form.action for part in ("sign-out", "switch", "/new/"))}


@contextmanager
def undone() -> Iterator[None]:
    """What is written inside is taken back."""
    with transaction.atomic():
        yield
        transaction.set_rollback(True)


def kept_values(client: Client, page: str, form: Form, changed: Values) -> tuple[str, Values]:
    """What a form is answered, and what its fields hold when the page is opened again."""
    answer = client.post(form.action, {**form.values, **changed}, follow=True)
    again = forms_of(client, page).get(form.identity) if client.get(page, follow=True).status_code == 200 else None
    return answer.content.decode(), again.values if again is not None else {}


def usable(client: Client, page: str, form: Form, name: str, person: int) -> list[str] | None:
    """A value that the field takes and keeps; None where it keeps none: then it is no field of what exists."""
    for value in form.other_values(name, person):
        with undone():
            _, now = kept_values(client, page, form, {name: value})
        held = now.get(name, [])
        if held == value or (value and held != form.values.get(name, []) and value[0].casefold() in " ".join(held).casefold()):
            return value
    return None


@pytest.fixture
def pages(house: Any) -> dict[str, str]:
    """Pages with forms, and what is edited on them."""
    html = checked(take_in(house.author, house.workspace, b"<p>Come to the kiln</p><a href='https://kiln.org/'>See it</a>", "a.html"))
    syntax = FieldSyntax.objects.create(workspace=house.workspace, name="Angles", description=ANGLES)
    FieldSyntax.objects.create(workspace=house.workspace, name="Others", description={**ANGLES, "name": "Others"})
    book = keep_rulebook(house.reviewer, house.workspace, {"name": "Quay", "demands": ["footer.address-missing"], "words": ["Kiln Works"]})
    html.mailing.brief = Brief().asking({"campaign": "spring"}).as_dict()
    html.mailing.save(update_fields=["brief"])
    server = OwnMailServer.objects.create(workspace=house.workspace, name="Quay", host="mail.kiln.org")
    base = f"/mailings/{html.mailing_id}/"
    return {
        "settings": "/settings/",
        "checks": "/settings/checks/",
        "audience": "/settings/audience/",
        "signing": "/settings/sender/",
        "wire": "/settings/wire/",
        "own": "/me/",
        "people": "/people/",
        "reader": f"/readers/{house.workspace.readers.first().pk}/",
        "syntax": f"/settings/syntaxes/{syntax.pk}/",
        "rulebook": f"/settings/rulebooks/{book.id}/",
        "mail server": f"/settings/mail-servers/{server.pk}/",
        "person": f"/settings/test-addresses/{house.test_list.addresses.first().pk}/",
        "details": f"{base}details/",
        # A change of the envelope is a new revision, so the newest one is opened.
        "envelope": base,
        "fields": f"{base}r1/fields/",
        "links": f"{base}r1/links/",
    }


#: How many fields each page keeps at least: what is found by itself must not silently become nothing.
LEAST = {
    "settings": 7, "checks": 5, "audience": 5, "signing": 4, "wire": 3, "own": 4, "people": 1, "reader": 4, "syntax": 5, "rulebook": 4,
    "mail server": 3, "person": 3,
    "details": 5, "envelope": 4, "fields": 1, "links": 1,
}  # fmt: skip


@pytest.mark.parametrize("name", LEAST)
def test_two_people_on_one_form(house: Any, pages: dict[str, str], settings: Any, name: str) -> None:
    """Two fields: both hold. One field: the first holds and the second is asked, or both are merged where it is a list."""
    page = pages[name]
    second = User.objects.create_user("second", "second@kiln.org", "a-long-password", first_name="Second")
    Membership.objects.create(workspace=house.workspace, user=second, roles=ROLES)
    Membership.objects.filter(user=house.reviewer).update(roles=ROLES)
    one = house.client(house.reviewer)
    # One's own page is edited by oneself, in two windows.
    other = house.client(house.reviewer if name == "own" else second)
    kept: list[str] = []
    for identity, form in forms_of(one, page).items():
        theirs = forms_of(other, page).get(identity)
        if theirs is None:
            continue
        fields = [field for field in form.fields if field not in ("password", "old_password", "line")][:MOST_FIELDS]
        mine = {field: value for field in fields if (value := usable(one, page, form, field, 0)) is not None}
        yours = {field: value for field in mine if (value := usable(other, page, theirs, field, 1)) is not None}
        kept += mine
        names = list(yours)
        for first, then in itertools.pairwise(names):
            with undone():
                kept_values(one, page, form, {first: mine[first]})
                said, now = kept_values(other, page, theirs, {then: yours[then]})
                alone = holds(now, first, mine[first]), holds(now, then, yours[then])
            assert alone == (True, True), (name, first, mine[first], then, yours[then], now.get(first), now.get(then), "meanwhile" in said)
        for field in names:
            if mine[field] == yours[field]:
                continue
            with undone():
                kept_values(one, page, form, {field: mine[field]})
                said, now = kept_values(other, page, theirs, {field: yours[field]})
                is_asked = "meanwhile" in said and holds(now, field, mine[field])
                is_merged = holds(now, field, mine[field]) and holds(now, field, yours[field])
            assert is_asked or is_merged, (name, field, mine[field], yours[field], now.get(field))
    assert len(kept) >= LEAST[name], kept


def holds(now: Values, field: str, value: list[str]) -> bool:
    """Whether a field holds a value, alone or among others of a list."""
    held = now.get(field, [])
    return held == value or bool(value and value[0].casefold() in " ".join(held).casefold())
