"""Messages made to hurt, all the way: taken in, checked, kept, and shown on every page."""

from __future__ import annotations

import io
import random
from typing import Any

import pytest
from django.urls import reverse
from PIL import Image

from jetwind.apps.intake.services import take_in
from jetwind.apps.review.models import FindingRecord
from jetwind.core.reports import STATIONS
from tests.apps.helpers import checked
from tests.factories import archive, picture
from tests.hostile import PIECES

PIECES_THAT_HURT = (
    *PIECES.values(),
    "\\u0000", "\0", "\\ud800", "\udcff\udcfe", "&#0;", "&#xD800;", "9" * 5_000, "=?punycode?q?a?=", "=?utf-7?b?2AA?=", "=?idna?q?\\ud800?=", "²", "{{/if}}", "<% if a > b %>",
    "javascript:alert(1)", "<script>alert(1)</script>", "\u202e", "\ufffe", "\U0010ffff", "((((", '"', "'", "<", ">", "`", "\x1b[31m", "\x07", "\u2028", "%00", "&", "=", "\\", "{", "}",
)  # fmt: skip
TEMPLATES = (
    "<p>{0}</p><a href=\"https://kiln.org/{1}\">{2}</a><img src=\"{3}.png\" alt=\"{0}\">",
    "<style>p {{ color: {0}; width: {1}px }} {2}</style><p style=\"font-family: {3}; margin: {1}\">x</p>",
    "<table width=\"{0}\"><tr><td width={1} bgcolor=\"{2}\">{3}</td></tr></table><!--[if mso]>{0}<![endif]-->",
    "<a {0} href={1}>{2}</a><img {3} src=x><td {1}>{0}",
)  # fmt: skip


def message(seed: int) -> bytes:
    """A mail whose every place holds something that hurts."""
    chance = random.Random(seed)

    def some(most: int = 3) -> str:
        return "".join(chance.choice(PIECES_THAT_HURT) * chance.choice((1, 1, 2, 30)) for _ in range(chance.randint(1, most)))

    def line() -> str:
        return some().replace("\n", " ").replace("\r", " ")

    html = "".join(template.format(some(), some(), some(), some()) for template in TEMPLATES)
    charset = chance.choice(("utf-8", "punycode", "unicode_escape", "gb2312", "utf-16", "x\\u0000"))
    mail = (
        f"From: {line()} <a@kiln.org>\nTo: {line()}\nReply-To: {line()}\nSubject: {line()}\nX-{line()}\nMIME-Version: 1.0\n"
        f"Content-Type: multipart/alternative; boundary=zz; {line()}\n\n--zz\nContent-Type: text/plain; charset={charset}\n\n{some(6)}\n"
        f'--zz\nContent-Type: text/html; charset="{charset}"\n\n{html}\n--zz\nContent-Type: image/png; name="{line()}"\nContent-ID: <{line()}>\n\n{line()}\n--zz--\n'
    )
    return mail.encode("utf-8", "surrogateescape" if chance.random() < 0.9 else "replace")


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(12))
def test_every_page_of_a_hostile_message(house: Any, seed: int) -> None:
    """Each station, the chosen finding at each of its places, and the reports answer 200; what is kept can be read back."""
    revision = checked(take_in(house.author, house.workspace, message(seed), f"hostile-{seed}.eml"))
    run = revision.check_runs.get()
    assert not [check for check, answer in run.outcomes.items() if answer[0] == "crashed"]
    client = house.client(house.reviewer)
    for station in STATIONS:
        address = reverse("station", args=[revision.mailing_id, 1, station.slug])
        answer = client.get(address, follow=True)
        assert answer.status_code == 200, (station.slug, answer.status_code)
        assert b"<script>alert(1)</script>" not in answer.content
    for found in FindingRecord.objects.filter(run=run)[:8]:
        address = reverse("station", args=[revision.mailing_id, 1, found.station])
        for place in range(1, min(len(found.others), 2) + 2):
            assert client.get(address, {"finding": found.fingerprint, "place": place}, follow=True).status_code == 200
    for name in ("report.csv", "report.html"):
        assert client.get(f"/mailings/{revision.mailing_id}/r1/{name}").status_code == 200
    assert client.get("/").status_code == 200


@pytest.mark.django_db
@pytest.mark.parametrize("link", ["https://kiln.org/\\u0000", "https://kiln.org/\0", "https://kiln.org/\\ud800"])
def test_six_characters_that_look_like_a_nul(house: Any, link: str) -> None:
    """What is stored goes through values: the six characters stay, the octet goes."""
    raw = f"From: a@kiln.org\nSubject: x\nContent-Type: text/html\n\n<a href='http{link[5:]}'>x</a>".encode()
    revision = checked(take_in(house.author, house.workspace, raw, "a.eml"))
    found = FindingRecord.objects.get(run__revision=revision, check_id="links.insecure")
    assert found.data["address"] == f"http{link[5:]}".replace("\0", "�")


def test_places_in_an_address(house: Any) -> None:
    """A place that does not exist is the first one."""
    revision = checked(
        take_in(house.author, house.workspace, b"<p>Lorem ipsum dolor sit amet</p><p>Lorem ipsum dolor sit amet</p>", "a.html")
    )
    found = FindingRecord.objects.get(run__revision=revision, check_id="wording.placeholder")
    client = house.client(house.reviewer)
    address = reverse("station", args=[revision.mailing_id, 1, "wording"])
    for place, words in (
        ("1", "Place 1 of 2"),
        ("2", "Place 2 of 2"),
        ("3", "Place 1 of 2"),
        ("²", "Place 1 of 2"),
        ("-1", "Place 1 of 2"),
        ("x", "Place 1 of 2"),
    ):
        assert words in client.get(address, {"finding": found.fingerprint, "place": place}).content.decode()


def hostile_pictures() -> dict[str, bytes]:
    """Pictures made to hurt, by file name."""
    frames = [Image.new("RGB", (40, 30), (number % 256, 0, 255 - number % 256)) for number in range(400)]
    moving, bomb, deep = io.BytesIO(), io.BytesIO(), io.BytesIO()
    frames[0].save(moving, "GIF", save_all=True, append_images=frames[1:], duration=20, loop=0)
    Image.new("1", (30_000, 30_000)).save(bomb, "PNG")
    Image.new("I;16", (300, 200)).save(deep, "PNG")
    whole = picture(600, 400, form="JPEG")
    return {
        "moving.gif": moving.getvalue(),
        "bomb.png": bomb.getvalue(),
        "deep.png": deep.getvalue(),
        "cut.jpg": whole[: len(whole) // 2],
        "empty.png": b"\x89PNG\r\n\x1a\n",
        "page.png": b"<html><script>alert(1)</script></html>",
        "drawing.svg": b"<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 9 9'><script>alert(1)</script></svg>",
        "tall.png": picture(1, 30_000),
        "=cmd().png": picture(),
    }


@pytest.mark.django_db
def test_hostile_pictures(house: Any) -> None:
    """Each ends in what is wrong with it; every page is there; nothing of them is handed to a browser as it came."""
    files = hostile_pictures()
    shown = "".join(f"<img src='{name}' width='300' height='200' alt='{number} of many'>" for number, name in enumerate(files))
    packed = archive({"a.html": f"<p>Pots, bowls and cups, all thrown by hand.</p>{shown}".encode(), **files})
    revision = checked(take_in(house.author, house.workspace, packed, "a.zip"))
    run = revision.check_runs.get()
    assert [check for check, outcome in run.outcomes.items() if outcome[0] == "crashed"] == []
    corrupt = {found.data["name"] for found in run.findings.filter(check_id="images.corrupt")}
    assert corrupt == {"bomb.png", "cut.jpg", "empty.png", "page.png", "drawing.svg"}
    assert {found.data["name"] for found in run.findings.filter(check_id="images.colour-space")} == {"deep.png"}
    client = house.client(house.reviewer)
    for station in STATIONS:
        assert client.get(reverse("station", args=[revision.mailing_id, 1, station.slug])).status_code == 200
    page = client.get(f"/mailings/{revision.mailing_id}/r1/images/").content.decode()
    for name in files:
        assert name in page
    for address in ("lighter-pictures.zip", f"lighter-pictures/{'0' * 16}/before.png"):
        assert client.get(f"/mailings/{revision.mailing_id}/r1/{address}").status_code in (200, 404, 409)
