"""Lighter files to choose from, what is chosen of them, and the balance of text and picture."""

from __future__ import annotations

import hashlib
import io
import random
import re
import zipfile
from dataclasses import replace
from typing import Any

import pytest
from PIL import Image, ImageFilter

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import lighter_files
from jetwind.apps.review.balance import balance_of
from jetwind.apps.review.models import LighterFile
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.tasks import make_lighter_files
from jetwind.core.profiles import profiles
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.measured import Block, Measured
from jetwind.engines.bounded import PastBudget
from tests.apps.helpers import taken_in
from tests.apps.test_stations import page
from tests.factories import archive, mail, picture


def test_files_to_choose_from(house: Any, django_assert_max_num_queries: Any) -> None:
    """Made in the background, chosen, counted, handed out and put in; whoever may not change the message only looks."""
    heavy = io.BytesIO()
    grain = Image.frombytes("RGB", (900, 600), random.Random(4).randbytes(900 * 600 * 3)).filter(ImageFilter.GaussianBlur(3))
    grain.save(heavy, "JPEG", quality=98)
    body = b"<p>Pots, bowls and cups.</p><img src='heavy.jpg' width='300' height='200' alt='Pots'>"
    revision = taken_in(house, archive({"a.html": body, "heavy.jpg": heavy.getvalue()}), "a.zip")
    digest = hashlib.sha256(heavy.getvalue()).hexdigest()
    address = f"/mailings/{revision.mailing_id}/r1/lighter-files/{digest}/"
    author, approver = house.client(house.author), house.client(house.approver)
    assert "Make files to choose from" in page(author, revision, "images", f"?picture={digest}")
    assert "Nobody has had files made" in page(approver, revision, "images", f"?picture={digest}")
    assert approver.post(address).status_code == 403
    assert author.post(address.replace(digest, "0" * 64)).status_code == 409
    assert [author.post(address).status_code for _ in range(2)] == [302, 302]
    work = Work.objects.get(kind__startswith="lighter-files")
    assert "Lighter files: making files for heavy.jpg" in author.get(f"{address}progress/").content.decode()
    make_lighter_files(revision.pk, digest, work.pk)
    make_lighter_files(revision.pk, digest, work.pk)
    work.refresh_from_db()
    assert work.state == Work.State.DONE
    assert "data-fresh" in author.get(f"{address}progress/").content.decode()
    files = list(LighterFile.objects.filter(picture=digest))
    assert {file.width for file in files} == {800, 600, 450, 300}
    assert all(file.octets == len(store.fetch(file.blob_sha256)) for file in files)
    with django_assert_max_num_queries(10):
        shown = page(author, revision, "images", f"?picture={digest}&least=0.8")
    lightest = min((file for file in files if file.likeness >= 0.8), key=lambda file: file.octets)
    assert re.search(rf'id="file-{lightest.pk}".*?<b>proposed</b>', shown)
    assert "WEBP" not in {file.form for file in files} and "No WEBP and no AVIF" in shown
    assert "unlike" in page(author, revision, "images", f"?picture={digest}&least=1")
    assert page(author, revision, "images", f"?picture={digest}&least=nan").count('value="0.98"') == 2
    # The choice counts in the bars, the times and what is handed out; taken back, the picture stays.
    wanted = next(file for file in files if (file.width, file.quality) == (450, 74))
    for value, status in (("nonsense", 409), ("999999", 409), (str(wanted.pk), 302), (str(wanted.pk), 302)):
        assert author.post(f"{address}choose/", {"file": value}).status_code == status
    assert approver.post(f"{address}choose/", {"file": "keep"}).status_code == 403
    assert LogEntry.objects.filter(action="picture.file-chosen").count() == 1
    shown = page(author, revision, "images", f"?picture={digest}")
    assert f"{(len(heavy.getvalue()) - wanted.octets) / 1024:,.1f} KB less" in shown
    sides = [approver.get(f"/mailings/{revision.mailing_id}/r1/lighter-files/{wanted.pk}/{side}.png") for side in ("before", "after")]
    assert [Image.open(io.BytesIO(side.content)).size for side in sides] == [(600, 400), (600, 400)]
    packed = zipfile.ZipFile(io.BytesIO(author.get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures.zip").content))
    assert len(packed.read("heavy.jpg")) == wanted.octets
    assert author.post(f"{address}choose/", {"file": "keep"}).status_code == 302
    assert "stays as it is" in page(author, revision, "images")
    assert author.get(f"/mailings/{revision.mailing_id}/r1/lighter-pictures.zip").status_code == 409
    assert author.post(f"{address}choose/", {"file": str(wanted.pk)}).status_code == 302
    assert author.post(f"/mailings/{revision.mailing_id}/r1/lighter-pictures/").status_code == 302
    second = Revision.objects.get(mailing=revision.mailing, number=2)
    placed = message_of(second).resource("heavy.jpg")
    assert placed is not None and len(placed.data) == wanted.octets
    Mailing.objects.filter(pk=revision.mailing_id).update(stage=Mailing.Stage.RELEASED)
    assert author.post(f"{address}choose/", {"file": "keep"}).status_code == 409


def test_files_that_cannot_be_made(house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is past its budget says so, and no file is kept."""
    revision = taken_in(house, archive({"a.html": b"<img src='a.png' width='30' alt='A'>", "a.png": picture(300, 200)}), "a.zip")
    digest = hashlib.sha256(picture(300, 200)).hexdigest()
    client = house.client(house.author)
    client.post(f"/mailings/{revision.mailing_id}/r1/lighter-files/{digest}/")

    def slow(*given: Any, **more: Any) -> Any:
        raise PastBudget("it takes too long")

    monkeypatch.setattr(lighter_files, "candidates_bounded", slow)
    make_lighter_files(revision.pk, digest, Work.objects.get(kind__startswith="lighter-files").pk)
    assert "The files cannot be made: it takes too long." in page(client, revision, "images", f"?picture={digest}")
    assert not LighterFile.objects.exists()


def test_balance(house: Any) -> None:
    """Where pictures and text stand, what pictures cover, and what the check allows; nothing where there is no render."""
    revision = taken_in(house, mail("<p>Pots</p><img src='cid:a' alt='A'>", images={"a": picture()}))
    assert balance_of(walk_of(revision)) is None
    message = message_of(revision)
    assert message.document is not None
    paragraph, image = next(iter(message.document.elements("p"))).index, next(iter(message.document.elements("img"))).index
    words, pots = (
        Block(paragraph, "text", x=0, y=0, width=600, height=100, characters=40),
        Block(image, "image", x=0, y=100, width=600, height=300),
    )
    profile = profiles()["desktop-pane"]
    renders = Renders({profile.id: Render(profile, Measured(800, 400, 800, 640, (words, pots)))})
    walk = walk_of(revision)
    walk.context = replace(walk.context, renders=renders)
    balance = balance_of(walk, {image: 7})
    assert balance is not None
    assert (balance.share, balance.most, balance.is_over, balance.pictures, balance.texts) == (75, 60, True, 1, 1)
    assert balance.boxes == [("words", 0.0, 0.0, 120.0, 20.0, ""), ("picture", 0.0, 20.0, 120.0, 60.0, "7")]
