"""Fixtures that more than one ring uses."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import settings as hypothesis_settings

from jetwind.engines.browser import FakeBrowser

if TYPE_CHECKING:
    from django.test import Client

#: Whether the machine has the optional program that reads pictures must not decide what a test finds; the servers of journeys inherit it.
os.environ["JETWIND_TESSERACT"] = ""

#: No example fails because a machine is busy.
hypothesis_settings.register_profile("jetwind", deadline=None)
hypothesis_settings.load_profile("jetwind")


@pytest.fixture(autouse=True)
def own_files(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[None]:
    """Blobs of a test lie in its own folder; static files need no manifest. Core and engines are tested without Django."""
    if request.path.parent.name in ("core", "engines", "cli"):
        yield
        return
    settings = request.getfixturevalue("settings")
    blobs = tmp_path / "blobs"
    settings.STORAGES = {
        **settings.STORAGES,
        "blobs": {"BACKEND": "django.core.files.storage.FileSystemStorage", "OPTIONS": {"location": blobs}},
        "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    }
    settings.HELPERS_START = "fork"
    settings.DESK = "here"
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    from jetwind.apps.intake.selectors import _parsed

    _parsed.cache_clear()
    yield
    shutil.rmtree(blobs, ignore_errors=True)


@dataclass
class House:
    """A workspace with one person for each role, two readers and a test list."""

    workspace: Any
    reviewer: Any
    author: Any
    approver: Any
    operator: Any
    owner: Any
    outsider: Any
    test_list: Any

    def client(self, user: Any) -> Client:
        """A signed-in browser."""
        from django.test import Client

        client = Client()
        client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
        return client


@pytest.fixture
def house(db: None) -> House:
    """The team of kiln.org."""
    from jetwind.apps.accounts.models import User
    from jetwind.apps.links.models import Wire
    from jetwind.apps.proofs.models import TestAddress, TestList
    from jetwind.apps.workspace.models import Membership, SampleReader, Workspace

    # Most tests sign without a walk; those of sign-off say so where a look counts.
    workspace = Workspace.objects.create(
        name="Kiln",
        field_list=["first_name"],
        test_domains=["kiln.org"],
        test_sender="test@kiln.org",
        clearing={"every": {"stations": "free"}},
    )
    # No test leaves this machine; those of links stand on the practice field.
    Wire.objects.create(workspace=workspace, links="never", pictures="never")
    people = {}
    for role in ("reviewer", "author", "approver", "operator", "owner"):
        people[role] = User.objects.create_user(
            role, f"{role}@kiln.org", "a-long-password", first_name=role.capitalize(), time_zone="Europe/Amsterdam"
        )
        Membership.objects.create(workspace=workspace, user=people[role], roles=[role])
    outsider = User.objects.create_user("outsider", password="a-long-password")
    Membership.objects.create(
        workspace=Workspace.objects.create(name="Elsewhere"), user=outsider, roles=["reviewer", "author", "approver", "operator", "owner"]
    )
    SampleReader.objects.create(
        workspace=workspace, name="Bo", email="bo@kiln.org", time_zone="Europe/Amsterdam", values={"first_name": "Bo"}
    )
    SampleReader.objects.create(workspace=workspace, name="Nobody", email="n@kiln.org", values={"first_name": ""})
    test_list = TestList.objects.create(workspace=workspace, name="Team")
    for address in ("one@kiln.org", "two@mail.kiln.org"):
        TestAddress.objects.create(list=test_list, address=address)
    return House(workspace, outsider=outsider, test_list=test_list, **people)


@pytest.fixture
def fake_browser(monkeypatch: pytest.MonkeyPatch) -> FakeBrowser:
    """The shipped stand-in in place of Chromium."""
    from jetwind.apps.previews import services

    browser = FakeBrowser()
    monkeypatch.setattr(services, "_browser", browser)
    return browser
