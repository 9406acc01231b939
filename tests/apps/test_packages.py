"""The package of a released message: made in the background, verified without a database, its PDF read by an independent reader (pypdf)."""

import dataclasses
import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone
from pypdf import PdfReader

from jetwind.apps.approvals import services
from jetwind.apps.approvals.keys import make_missing_keys, shown_key
from jetwind.apps.approvals.models import Release, SigningKey
from jetwind.apps.approvals.packaging import files_of, make_now, variant_of
from jetwind.apps.approvals.tasks import make_package
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN, needed
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.message import read_bytes
from jetwind.core.package import verify
from jetwind.core.profiles import profiles
from tests.apps.helpers import page_of, taken_in
from tests.factories import GOOD_HTML, mail, package, picture

pytestmark = pytest.mark.django_db


def released(house: Any, raw: bytes | None = None, name: str = "sale.eml") -> Release:
    """A message that two people signed and the operator released."""
    revision = taken_in(house, raw, name)
    for person in (house.reviewer, house.approver):
        services.sign(person, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk), "looks right")
    return services.release(house.operator, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))


def packed(release: Release) -> Release:
    """With its package, as the worker makes it."""
    work = Work.objects.get(kind="package", subject=f"release:{release.pk}")
    make_package.func(release_id=release.pk, work_id=work.pk)
    release.refresh_from_db()
    return release


def files_in(data: bytes) -> dict[str, bytes]:
    """The files of a package by the standard library."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        return {name: archive.read(name) for name in archive.namelist()}


class TestPackage:
    """Everything that leaves, and how it was cleared."""

    def test_made_saved_and_verified(self, house: Any, tmp_path: Path) -> None:
        """Sign-off tells that it is being made, then offers it; it verifies on the command line with the workspace's key, in a clean folder."""
        release = released(house)
        mailing = release.mailing_id
        client = house.client(house.author)
        assert "The package is being made" in page_of(client.get(f"/mailings/{mailing}/r1/sign-off/"))
        assert client.get(f"/mailings/{mailing}/package.zip").status_code == 404
        packed(release)
        assert "Save the package" in page_of(client.get(f"/mailings/{mailing}/r1/sign-off/"))
        answer = client.get(f"/mailings/{mailing}/package.zip")
        assert answer["Content-Type"] == "application/zip"
        assert house.client(house.outsider).get(f"/mailings/{mailing}/package.zip").status_code == 404
        (tmp_path / "p.zip").write_bytes(answer.content)
        (tmp_path / "key.pem").write_bytes(client.get("/settings/key.pem").content)
        command = [sys.executable, "-m", "jetwind.cli", "verify", str(tmp_path / "p.zip"), "--key", str(tmp_path / "key.pem")]
        said = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
        shown = shown_key(house.workspace)
        assert shown is not None
        assert (said.returncode, said.stdout.splitlines()[-1]) == (
            0,
            f"The package holds. It is signed with the key that you gave: {shown[1]}",
        )
        assert shown[1] in page_of(client.get("/settings/sign-off/"))

    def test_what_is_in_it(self, house: Any) -> None:
        """The mail octet by octet, HTML and plain text, the record, findings, and the newest hash of the log."""
        release = packed(released(house))
        files = files_in(store.fetch(release.package_sha256))
        assert list(files) == [
            "message.eml",
            "message.html",
            "message.txt",
            "clearance.json",
            "clearance.pdf",
            "findings.sarif",
            "log.json",
            "key.pem",
            "SHA256SUMS",
            "SHA256SUMS.sig",
        ]
        assert files["message.eml"] == store.fetch(release.revision.source_sha256)
        assert json.loads(files["clearance.json"]) == release.record
        assert json.loads(files["findings.sarif"])["version"] == "2.1.0"
        assert json.loads(files["log.json"])["hash"] == LogEntry.objects.filter(chain=house.workspace.pk).latest("pk").hash
        assert files["message.html"].decode().strip() == GOOD_HTML
        assert "{{ first_name" in GOOD_HTML

    def test_the_pdf(self, house: Any) -> None:
        """An independent reader opens it and finds who signed, under which rule, over which content; the renders are on further pages."""
        revision = taken_in(house)
        shown = {"state": "done", "content_type": "image/png", "width": 600, "height": 900}
        name = chosen_profiles(house.workspace)[0]
        there = Render.objects.filter(revision=revision, profile=name, mode=needed(profiles()[name], OWN), **as_whom(revision).here)
        assert there.update(blob_sha256=store.keep(picture(600, 900)), **shown) == 1
        for person in (house.reviewer, house.approver):
            services.sign(person, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        release = services.release(house.operator, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        reader = PdfReader(io.BytesIO(dict(files_of(release))["clearance.pdf"]))
        text = " ".join(" ".join(page.extract_text() for page in reader.pages).split())
        for words in (
            "Released by Operator",
            "2 people sign, in any order, 1 of them an approver.",
            "Reviewer, reviewer, at",
            "Approver, approver, at",
        ):
            assert words in text, words
        assert release.record_sha256 in text.replace(" ", "")
        assert revision.content_sha256 in text.replace(" ", "")
        assert sum(len(page.images) for page in reader.pages) == 1
        assert f"{profiles()[name].name}" in text

    def test_variants_and_pictures(self, house: Any) -> None:
        """A mail for each subject, unlike the first in nothing but the subject, its fields unmerged; pictures under safe names."""
        raw = mail("<p>Hello {{ first_name }}</p>", Subject="Glazes")
        message = read_bytes(raw, "a.eml")
        other = dataclasses.replace(message, variants=("Öfen für {{ first_name }}",))
        made = variant_of(other, 1)
        assert variant_of(other, 0) == raw
        read = read_bytes(made, "a.eml")
        assert read.subject == "Öfen für {{ first_name }}"
        assert read.html is not None and message.html is not None
        assert read.html.text == message.html.text
        assert [line for line in made.splitlines() if not line.startswith(b"Subject:")] == [
            line for line in raw.splitlines() if not line.startswith(b"Subject:")
        ]
        taken = taken_in(house, package('<img src="a.png" alt="A pot">', a_dot_png=picture()), "sale.zip")
        release = Release(revision=taken, mailing=taken.mailing, record={**_record(house), "parts": []}, record_sha256="0" * 64)
        files = dict(files_of(release))
        assert files["pictures/a.png"] == message_of(taken).images[0].data
        assert read_bytes(files["message.eml"], "a.eml").images[0].data == files["pictures/a.png"]

    def test_once_and_not_after_a_taking_back(self, house: Any) -> None:
        """A second run of the task changes nothing; what was taken back gets none; a further release has its own."""
        release = packed(released(house))
        kept = release.package_sha256
        make_now(release.pk)
        release.refresh_from_db()
        assert release.package_sha256 == kept
        services.take_release_back(house.operator, release.mailing, "the price")
        assert house.client(house.author).get(f"/mailings/{release.mailing_id}/package.zip").status_code == 404
        second = services.release(house.operator, Revision.objects.select_related("mailing__workspace").get())
        services.take_release_back(house.operator, second.mailing, "the price again")
        make_now(second.pk)
        second.refresh_from_db()
        assert second.package_sha256 == ""
        assert timezone.now() > second.at

    def test_a_key_that_cannot_be_opened(self, house: Any, settings: Any) -> None:
        """The secret of the installation was changed: Sign-off says so, and a press tries again once it is back."""
        make_missing_keys()
        release = released(house)
        secret, settings.SECRET_KEY = settings.SECRET_KEY, "another-secret-of-this-installation"
        work = Work.objects.get(kind="package")
        make_package.func(release_id=release.pk, work_id=work.pk)
        settings.SECRET_KEY = secret
        client, station = house.client(house.operator), f"/mailings/{release.mailing_id}/r1/sign-off/"
        page = page_of(client.get(station))
        assert "The package could not be made: The key of this workspace cannot be opened" in page and "Make it again" in page
        assert "Make it again" not in page_of(house.client(house.author).get(station))
        client.post(f"{station}make-package/")
        again = Work.objects.filter(kind="package").latest("pk")
        make_package.func(release_id=release.pk, work_id=again.pk)
        assert "Save the package" in page_of(client.get(station))
        assert client.post(f"{station}make-package/").status_code == 409


def _record(house: Any) -> dict[str, Any]:
    """A clearance record of another message, for what does not hang on it."""
    return dict(released(house, mail(Subject="Else"), "else.eml").record)


class TestKeys:
    """One for each workspace, made at the start and at the founding."""

    def test_missing_ones(self, house: Any) -> None:
        """Once; each workspace has another; the private half is sealed."""
        assert make_missing_keys() == Workspace.objects.count()
        assert make_missing_keys() == 0
        assert SigningKey.objects.values("public_pem").distinct().count() == Workspace.objects.count()
        assert "PRIVATE" not in SigningKey.objects.get(workspace=house.workspace).sealed_private
        assert verify(store.fetch(packed(released(house)).package_sha256)).holds

    def test_before_there_is_one(self, house: Any) -> None:
        """The page says when, and there is no file."""
        client: Client = house.client(house.author)
        assert client.get("/settings/key.pem").status_code == 404
        assert "It is made when Jetwind starts." in page_of(client.get("/settings/sign-off/"))
