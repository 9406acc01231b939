"""Every page for every role, who may see what, and a fixed number of queries."""

import ast
import re
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.template.defaultfilters import force_escape
from django.test import Client
from django.urls import URLPattern, get_resolver
from django.utils import timezone
from jinja2 import UndefinedError

from jetwind import apps
from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import PERMISSIONS, roles_for
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.ui.many import many
from jetwind.apps.workspace.access import may
from jetwind.core.reports import STATIONS
from tests.apps.helpers import listed_in, taken_in, walked
from tests.factories import GOOD_HTML, mail, package, picture

ROLES = ("reviewer", "author", "approver", "operator", "owner")


class TestEveryPage:
    """Opens for each role, without a write."""

    @pytest.mark.parametrize("role", ROLES)
    def test_pages_open_and_write_nothing(self, house: Any, role: str, django_assert_max_num_queries: Any) -> None:
        """All stations, lists and forms answer 200 and only read."""
        revision = taken_in(house, mail(GOOD_HTML + "<p>Lorem ipsum dolor sit amet</p><a href='http://k.org'>x</a>"))
        base = f"/mailings/{revision.mailing_id}/r1/"
        client = house.client(getattr(house, role))
        pages = [
            "/",
            "/?q=glaze",
            "/?stage=cleared",
            "/readers/",
            "/mailroom/",
            "/settings/",
            "/settings/checks/",
            "/settings/test-lists/",
            f"/mailings/{revision.mailing_id}/compare/",
            f"{base}report.csv",
            f"{base}report.html",
            f"{base}plain-text-afresh/",
            f"{base}mends/",
            "/people/",
            "/me/",
            "/log/",
            "/calendar/",
        ]
        if role in ("reviewer", "author"):
            pages += ["/paste/", f"/mailings/{revision.mailing_id}/details/"]
        pages += [f"{base}{station.slug}/" for station in STATIONS]
        for page in pages:
            # performance.md asks for ten of every station.
            most = 10 if page.removeprefix(base).rstrip("/") in {one.slug for one in STATIONS} else 16
            with django_assert_max_num_queries(most) as queries:
                answer = client.get(page)
            assert answer.status_code == 200, page
            # The session and sign-in aside, a page that is read changes nothing.
            written = [
                query["sql"] for query in queries.captured_queries if re.match(r"\s*(INSERT|UPDATE|DELETE)", query["sql"], re.IGNORECASE)
            ]
            assert written == [], page

    @pytest.mark.parametrize(
        "raw",
        [
            b"<p>x",
            package("<p>x</p>", a_dot_png=picture()),
            b"Subject: only a subject\n\n",
            mail(None, "text only"),
            b"Subject: \x00\x01\n\nx\x00y\n",
        ],
    )
    def test_odd_messages_have_all_their_pages(self, house: Any, raw: bytes) -> None:
        """HTML alone, a package, no parts, plain text, control characters."""
        revision = taken_in(house, raw, "a.zip" if raw.startswith(b"PK") else "a.html" if raw.startswith(b"<") else "a.eml")
        client = house.client(house.reviewer)
        for station in STATIONS:
            assert client.get(f"/mailings/{revision.mailing_id}/r1/{station.slug}/").status_code == 200
        for found in revision.check_runs.get().findings.all():
            answer = client.get(f"/mailings/{revision.mailing_id}/r1/{found.station}/?finding={found.fingerprint}")
            assert 'aria-label="Selected finding"' in answer.content.decode()

    def test_untrusted_text_is_escaped(self, house: Any) -> None:
        """Nothing of a message becomes markup of ours."""
        evil = "<script>alert(1)</script>"
        revision = taken_in(
            house,
            mail(
                f"<a href='http://k.org/{evil}'>&lt;script&gt;alert(1)&lt;/script&gt;</a><img src='{evil}'>",
                evil,
                Subject=evil,
                From=f'"{evil}" <a@k.org>',
            ),
        )
        client = house.client(house.reviewer)
        for page in ["/", *(f"/mailings/{revision.mailing_id}/r1/{station.slug}/" for station in STATIONS)]:
            assert evil not in client.get(page).content.decode(), page


class TestAccess:
    """Who sees what."""

    def test_signed_out_people_see_the_sign_in_only(self, house: Any) -> None:
        """Every address but sign-in and health asks for it."""
        client = Client()
        names = {pattern.name for pattern in get_resolver().url_patterns if isinstance(pattern, URLPattern) and pattern.name} | {
            "departures"
        }
        assert {"sign-in", "health", "departures"} <= names
        for page in ("/", "/mailroom/", "/settings/", "/mailings/1/", "/renders/1.jpg", "/mailings/1/clearance.json"):
            answer = client.get(page)
            assert answer.status_code == 302
            assert answer["Location"].startswith("/sign-in/")
        assert client.get("/health/").status_code == 200

    def test_permissions_are_named_once(self, house: Any) -> None:
        """A typing slip is a KeyError, not a quiet no."""
        with pytest.raises(KeyError):
            roles_for("mailing:eat")
        with pytest.raises(KeyError):
            may(house.author, "mailing:eat", house.workspace)
        assert sorted(PERMISSIONS) == sorted(
            [
                "mailing:view",
                "mailing:take-in",
                "mailing:change",
                "mailing:copy",
                "review:look",
                "review:excuse",
                "review:send-back",
                "comment:write",
                "proof:send",
                "approval:sign",
                "approval:release",
                "workspace:view",
                "workspace:configure",
                "people:manage",
            ]
        )

    def test_a_stranger_without_workspace(self, house: Any) -> None:
        """Told whom to ask."""
        answer = house.client(User.objects.create_user("nobody")).get("/")
        assert answer.status_code == 403
        assert "ask an owner of one to invite you" in answer.content.decode()

    @pytest.mark.parametrize(("page", "status"), [("/nowhere/", 404), ("/mailings/999/", 404), ("/mailroom/999/", 404)])
    def test_nothing_there(self, house: Any, page: str, status: int) -> None:
        """A page of ours with a sentence, not the server's."""
        answer = house.client(house.author).get(page)
        assert answer.status_code == status
        assert "There is nothing at this address" in answer.content.decode()

    def test_no_cache_keeps_private_pages(self, house: Any) -> None:
        """Nor what is saved from them; pictures say for themselves that they never change."""
        revision = taken_in(house)
        for page in ("/", "/people/", f"/mailings/{revision.mailing_id}/r1/report.csv"):
            assert house.client(house.author).get(page)["Cache-Control"] == "private, no-store", page

    def test_guessing(self, db: None, settings: Any) -> None:
        """Ten tries of one name, fifty of any from one place; the page says how long to wait."""
        settings.AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
        User.objects.create_user("real", password="a-long-password")
        client = Client()
        tries = [client.post("/sign-in/", {"username": "real", "password": "x"}) for _ in range(11)]
        assert [answer.status_code for answer in tries[:9]] == [200] * 9
        assert tries[-1].status_code == 429
        assert "Wait 15 minutes" in tries[-1].content.decode()
        assert client.post("/sign-in/", {"username": "real", "password": "a-long-password"}).status_code == 429
        many = [client.post("/sign-in/", {"username": f"n{number}", "password": "x"}).status_code for number in range(45)]
        assert (many[0], many[-1]) == (200, 429)

    def test_no_secret_in_the_polls(self, house: Any) -> None:
        """A form that asks how far its work is sends none of its fields along."""
        revision = taken_in(house)
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/").content.decode()
        poll = re.search(r"<form[^>]*hx-get[^>]*>", page)
        assert poll is not None
        assert 'hx-params="none"' in poll[0]

    def test_policy_of_our_own_pages(self, house: Any) -> None:
        """Scripts from ourselves only, no frame of others."""
        policy = house.client(house.author).get("/")["Content-Security-Policy"]
        assert "script-src 'self'" in policy
        assert "default-src 'none'" in policy


class TestDepartures:
    """In the order in which they leave, and what holds each back."""

    def test_order_and_holding(self, house: Any) -> None:
        """Soonest first, those without a time last."""
        from datetime import UTC, datetime

        from jetwind.apps.intake.services import Details

        late = taken_in(house, details=Details("Late", planned_at=datetime(2027, 5, 1, tzinfo=UTC)))
        taken_in(house, mail(GOOD_HTML + '<img src="https://k.org/a.png">'), details=Details("Never"))
        taken_in(house, details=Details("Soon", planned_at=datetime(2027, 3, 1, tzinfo=UTC)))
        walked(house, late)
        rows = listed_in(house.workspace)
        assert [(row.mailing.title, row.readiness.holding) for row in rows] == [
            ("Soon", "Waits for 2 signatures, 1 of an approver."),
            ("Late", "Waits for 2 signatures, 1 of an approver."),
            ("Never", "1 stop is open."),
        ]
        assert [row.readiness.stripes for row in rows] == [0, 5, 0]
        assert [row.mailing.title for row in listed_in(house.workspace, search="sOO")] == ["Soon"]
        assert listed_in(house.workspace, stage="released") == []

    def test_notes_are_told_too(self, house: Any, client: Any) -> None:
        """A message with nothing but a note does not read as one with nothing open."""
        taken_in(house, mail(GOOD_HTML, From="Kiln Works <noreply@kiln.org>"))
        row = listed_in(house.workspace)[0]
        assert (row.facts.stops, row.facts.fixes, row.facts.notes) == (0, 0, 1)
        client.force_login(house.reviewer)
        page = client.get("/").content.decode()
        assert "1 note" in " ".join(page.split())

    def test_queries_do_not_grow_with_the_list(self, house: Any, django_assert_max_num_queries: Any) -> None:
        """At most ten for the list, with 3 messages as with 12."""
        for _ in range(12):
            taken_in(house)
        with django_assert_max_num_queries(10):
            assert len(listed_in(house.workspace)) == 12

    def test_a_long_list_is_cut_by_the_database(self, house: Any, client: Any, django_assert_max_num_queries: Any) -> None:
        """The page shows its share, the axis what leaves first; the number of questions stays."""
        model = taken_in(house, mail(GOOD_HTML))
        now = timezone.now()
        mailings = Mailing.objects.bulk_create(
            Mailing(workspace=house.workspace, title=f"Pots {number}", created_by=house.author, planned_at=now + timedelta(hours=number))
            for number in range(220)
        )
        for mailing in mailings:
            made = Revision.objects.get(pk=model.pk)
            made.pk, made.mailing, made._state.adding = None, mailing, True
            made.save()
        client.force_login(house.reviewer)
        with django_assert_max_num_queries(10):
            first = client.get("/").content.decode()
        assert "<b>Pots 0</b>" in first and "<b>Pots 39</b>" in first and "<b>Pots 40</b>" not in first
        assert "The axis shows the 200 messages that leave first." in first
        assert "1–40 of 221" in first
        second = client.get("/?page=2").content.decode()
        assert "<b>Pots 40</b>" in second and "<b>Pots 0</b>" not in second
        for shown in (first, second):
            # A mark of several messages leads to their rows where the page has them, else to the first of the messages.
            assert set(re.findall(r'href="#(m\d+)"', shown)) <= set(re.findall(r'<tr id="(m\d+)"', shown))
        released = Mailing.objects.filter(pk=mailings[0].pk)
        released.update(planned_at=now - timedelta(days=8))
        released.update(stage="released")
        assert 'title="Pots 0,' not in client.get("/").content.decode()


class TestHouse:
    """Readers and settings."""

    def test_a_reader_is_added_and_changed(self, house: Any) -> None:
        """Values of the field list beside name and address."""
        client = house.client(house.reviewer)
        client.post(
            "/readers/new/", {"name": "Tess & Sons", "email": "t@kiln.org", "time_zone": "Europe/Lisbon", "value-first_name": "Tess <x>"}
        )
        reader = house.workspace.readers.get(name="Tess & Sons")
        assert reader.values == {"first_name": "Tess <x>"}
        answer = client.post(f"/readers/{reader.pk}/", {"name": "Tess & Sons", "time_zone": "Mars/Olympus"})
        assert answer.status_code == 400
        assert "is not an IANA time zone" in answer.content.decode()

    def test_settings_are_kept_or_refused(self, house: Any) -> None:
        """Lists parted by spaces or commas; a domain that is none is named."""
        client = house.client(house.operator)
        good = {
            "field_list": "first_name, order.number",
            "practice_domains": "kiln.example",
            "test_domains": "kiln.org Mail.Kiln.org",
        }
        assert client.post("/settings/", good).status_code == 302
        house.workspace.refresh_from_db()
        assert (house.workspace.field_list, house.workspace.test_domains) == (["first_name", "order.number"], ["kiln.org", "mail.kiln.org"])
        assert "“not a domain" not in client.get("/settings/").content.decode()
        answer = client.post("/settings/", {**good, "field_list": "typed_with_care", "test_domains": "localhost"})
        assert answer.status_code == 400
        assert "“localhost” is not a domain" in answer.content.decode()
        assert "typed_with_care" in answer.content.decode()
        assert house.client(house.author).post("/settings/", good).status_code == 403

    def test_spam_reasons_can_be_switched_off(self, house: Any) -> None:
        """The sum without one reason, at an address of its own."""
        revision = taken_in(house, mail(without=("Subject",)))
        address = f"/mailings/{revision.mailing_id}/r1/spam-risk/"
        client = house.client(house.reviewer)
        assert ", medium</output>" in client.get(address).content.decode()
        assert ", low</output>" in client.get(f"{address}?without=spam.subject-missing").content.decode()


class TestMany:
    """What stands on a page by the hundred."""

    @pytest.mark.parametrize("value", ["<b>", '"><script>alert(1)</script>', "a & b", "it’s 'x'", 7, ""])
    def test_everything_is_escaped(self, value: object) -> None:
        """As Django escapes it, in attributes and in text."""
        made = many("previews/outlines.html", outlines=[{"kind": value, "style": value, "ratio": value}])
        # The two write the same marks of quotation by other numbers.
        escaped = force_escape(str(value)).replace("&quot;", "&#34;").replace("&#x27;", "&#39;")
        label = f"<b>{escaped}</b>" if value != "" else ""
        assert made.strip() == f'<i class="outlined {escaped}" style="{escaped}">{label}</i>'

    def test_a_name_that_is_unknown_is_an_error(self) -> None:
        """A template that asks for what nobody gives is a fault of ours, and no empty place."""
        with pytest.raises(UndefinedError):
            many("previews/outlines.html", outlines=[{"kind": "faint", "style": ""}])


def test_no_markup_is_written_in_code() -> None:
    """Markup stands in templates. The demo writes messages, which are no pages of ours, and an address has its parts in angle brackets."""
    found = []
    for path in sorted(APPS.rglob("*.py")):
        if "migrations" in path.parts or path.parent.name == "demo":
            continue
        tree = ast.parse(path.read_text("utf-8"))
        prose = {
            id(node.body[0].value)
            for node in ast.walk(tree)
            if isinstance(node, _WITH_PROSE) and node.body and isinstance(node.body[0], ast.Expr)
        }
        found += [
            f"{path.name}:{node.lineno}"
            for node in ast.walk(tree)
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in prose and _MARKUP.search(node.value)
        ]
    assert found == []


APPS = Path(apps.__file__).parent
_WITH_PROSE = (ast.Module, ast.ClassDef, ast.FunctionDef)
_MARKUP = re.compile(r"</?[a-z][a-z0-9]*(?:\s[^>]*)?/?>")
