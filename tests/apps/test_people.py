"""People: moving in, invitations, roles, leaving, oneself, a forgotten password."""

import contextlib
import io
import re
import threading
from datetime import timedelta
from typing import Any

import pytest
from django import forms
from django.core import mail as outbox
from django.core.management import CommandError, call_command
from django.db import connection
from django.test import Client
from django.test.html import parse_html
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.services import mail_password_links, password_link, place_of
from jetwind.apps.accounts.tasks import mail_password_links as mail_links
from jetwind.apps.accounts.tasks import send_mail
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.jobs.models import Work
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.ui.widgets import LongSelect
from jetwind.apps.workspace import people
from jetwind.apps.workspace.access import workspace_of
from jetwind.apps.workspace.models import Invitation, Membership, Workspace

NEW = {
    "first_name": "Nia",
    "last_name": "Holt",
    "username": "nia",
    "password": "clay-on-the-wheel",
    "email": "nia@kiln.org",
    "time_zone": "UTC",
}


def person(**changed: str) -> people.NewPerson:
    """Somebody new."""
    return people.NewPerson(**{**NEW, **changed})


class TestEmptyHouse:
    """Nobody lives here yet."""

    def test_the_first_page(self, db: None) -> None:
        """It makes the first workspace and its owner, who is in at once."""
        client = Client()
        assert client.get("/", follow=True).redirect_chain[-1][0] == "/begin/"
        answer = client.post("/begin/", {**NEW, "workspace": "Quay Pottery"}, follow=True)
        assert "Quay Pottery is yours" in answer.content.decode()
        assert Membership.objects.get().roles == ["owner", "operator", "reviewer"]
        assert client.get("/").status_code == 200
        assert LogEntry.objects.get().sentence == "made the workspace “Quay Pottery”"

    @pytest.mark.parametrize(
        ("changed", "said"),
        [
            ({"password": "short"}, "too short"),
            ({"password": "password1234"}, "too common"),
            ({"password": "nia@kiln.org!"}, "too similar"),
            ({"workspace": " "}, "A workspace has a name"),
            ({"time_zone": "Mars/Base"}, "Select a valid choice"),
            ({"username": "n" * 200}, "at most 150"),
        ],
    )
    def test_what_cannot_be_used(self, db: None, changed: dict[str, str], said: str) -> None:
        """A sentence beside the field; what was typed stays, and nothing is made."""
        answer = Client().post("/begin/", {**NEW, "workspace": "Quay", **changed})
        assert answer.status_code == 400
        assert said in answer.content.decode()
        assert 'value="Nia"' in answer.content.decode()
        assert not User.objects.exists()
        assert not Workspace.objects.exists()

    def test_somebody_lives_here(self, house: Any) -> None:
        """The page is gone."""
        assert Client().get("/begin/")["Location"] == "/sign-in/"
        with pytest.raises(Refused, match="moved in already"):
            people.move_in("Mine", person())


@pytest.mark.django_db(transaction=True)
def test_two_move_in_at_once() -> None:
    """One of them owns the house."""
    refused: list[str] = []

    def move(name: str) -> None:
        try:
            people.move_in(name, person(username=name, email=f"{name}@kiln.org"))
        except Refused as why:
            refused.append(why.sentence)
        connection.close()

    movers = [threading.Thread(target=move, args=(name,)) for name in ("ann", "ben", "cat", "dan")]
    for mover in movers:
        mover.start()
    for mover in movers:
        mover.join(30)
    assert (Workspace.objects.count(), User.objects.count(), len(refused)) == (1, 1, 3)


def told_by_administrator(*words: str) -> str:
    """What the administrator's command prints: of a link, its path."""
    out = io.StringIO()
    call_command("administer", *words, stdout=out)
    return out.getvalue().strip().rpartition("http://127.0.0.1:8400")[2]


class TestInvitations:
    """A link that lets in one person, for a while."""

    def invited(self, house: Any, roles: tuple[str, ...] = ("author", "approver")) -> str:
        """The path of a link, as the administrator of the installation hands it on; the inviter does not see it."""
        client = house.client(house.owner)
        page = client.post("/people/invite/", {"email": "nia@kiln.org", "role": roles}, follow=True).content.decode()
        assert "/join/" not in page
        return told_by_administrator("invitation-link", "nia@kiln.org")

    def test_somebody_new(self, house: Any) -> None:
        """They choose a name and password and are in, with the roles they were invited for."""
        link = self.invited(house)
        client = Client()
        assert "Reviewer" not in client.get(link).content.decode()
        assert client.post(link, NEW, follow=True).status_code == 200
        joined = Membership.objects.get(user__username="nia")
        assert (joined.roles, joined.workspace) == (["author", "approver"], house.workspace)
        assert client.get("/").status_code == 200
        assert Client().get(link).status_code == 404, "used up"
        logged = [entry.action for entry in LogEntry.objects.order_by("id")]
        assert logged == ["people.invited", "account.address-proven", "people.took-invitation"]
        assert joined.user.has_proven("nia@kiln.org")
        assert "taken by Nia Holt (nia)" in house.client(house.owner).get("/people/").content.decode()

    def test_another_address_than_the_invited_one(self, house: Any) -> None:
        """The link shows one address only: whatever else is typed, the account has that one."""
        Client().post(self.invited(house), {**NEW, "email": "else@where.org"})
        assert User.objects.get(username="nia").email == "nia@kiln.org"

    def test_without_the_link(self, house: Any) -> None:
        """Only who is known by the invited address sees an invitation and takes it; giving the address as one's own is not enough."""
        self.invited(house)
        User.objects.filter(pk=house.outsider.pk).update(email="nia@kiln.org")
        client = house.client(User.objects.get(pk=house.outsider.pk))
        number = Invitation.objects.get().pk
        assert "has shown that the invited address is theirs" in client.get("/invitations/").content.decode()
        client.post("/invitations/", {"invitation": number})
        with pytest.raises(Refused, match="This invitation is for nia"):
            people.accept(Invitation.objects.get(), User.objects.get(pk=house.outsider.pk), by_link=False)
        assert not Membership.objects.filter(workspace=house.workspace, user=house.outsider).exists()
        told_by_administrator("vouch-address", "outsider")
        assert "Kiln" in client.get("/invitations/").content.decode()
        client.post("/invitations/", {"invitation": number})
        assert Membership.objects.get(workspace=house.workspace, user=house.outsider).roles == ["author", "approver"]
        assert "taken by outsider" in house.client(house.owner).get("/people/").content.decode()

    def test_somebody_from_another_workspace(self, house: Any) -> None:
        """They join as who they are, and can move between the two."""
        client = house.client(house.outsider)
        assert "Join as outsider" in client.get(self.invited(house)).content.decode()
        client.post(self.invited(house))
        page = client.get("/people/").content.decode()
        assert "People of Kiln" in page
        other = Workspace.objects.get(name="Elsewhere")
        assert f'<option value="{other.pk}"' in page
        client.post("/workspaces/switch/", {"workspace": other.pk})
        assert "People of Elsewhere" in client.get("/people/").content.decode()
        assert client.post("/workspaces/switch/", {"workspace": 99_999}).status_code == 404

    def test_links_that_let_nobody_in(self, house: Any) -> None:
        """Expired, withdrawn, made up, and one that a newer one replaces."""
        link = self.invited(house)
        Invitation.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
        assert Client().get(link).status_code == 404
        assert Client().post(link, NEW).status_code == 404
        second = self.invited(house)
        third = self.invited(house)
        assert (Client().get(second).status_code, Client().get(third).status_code) == (404, 200)
        people.withdraw(house.owner, Invitation.objects.first())  # type: ignore[arg-type]
        assert Client().get(third).status_code == 404
        assert Client().get("/join/made-up/").status_code == 404
        assert not User.objects.filter(username="nia").exists()

    def test_the_token_is_not_kept(self, house: Any) -> None:
        """Who reads the database cannot come in."""
        token = self.invited(house).strip("/").rpartition("/")[2]
        assert token not in str(list(Invitation.objects.values()))
        assert token not in str(list(LogEntry.objects.values()))

    @pytest.mark.parametrize(
        ("email", "roles", "said"),
        [
            ("nobody", ["author"], "not an e-mail address"),
            ("x@kiln.org", [], "at least one role"),
            ("x@kiln.org", ["emperor"], "at least one role"),
            ("author@kiln.org", ["author"], "belongs to Kiln already"),
        ],
    )
    def test_refused(self, house: Any, email: str, roles: list[str], said: str) -> None:
        """With a sentence."""
        with pytest.raises(Refused, match=said):
            people.invite(house.owner, house.workspace, email, roles)
        with pytest.raises(NotAllowed):
            people.invite(house.operator, house.workspace, "x@kiln.org", ["author"])

    def test_a_taken_name(self, house: Any) -> None:
        """Said beside the form; the invitation is not used up."""
        link = self.invited(house)
        answer = Client().post(link, {**NEW, "username": "author"})
        assert answer.status_code == 400
        assert "already exists" in answer.content.decode()
        assert Client().get(link).status_code == 200

    def test_mailed_where_a_server_is_set(self, house: Any, settings: Any) -> None:
        """The Mailroom is none: everybody of the house reads it."""
        self.invited(house)
        assert not Work.objects.filter(kind="mail").exists()
        settings.HAS_MAILROOM = False
        self.invited_by_mail(house)
        work = Work.objects.get(kind="mail")
        send_mail.func(**ProcrastinateJob.objects.get(pk=work.job_id).args)
        assert outbox.outbox[0].to == ["nia@kiln.org"]
        assert "/join/" in str(outbox.outbox[0].body)

    def invited_by_mail(self, house: Any) -> None:
        """An invitation where a mail server is set."""
        house.client(house.owner).post("/people/invite/", {"email": "nia@kiln.org", "role": ["author"]})


class TestMembers:
    """Roles, leaving, coming back."""

    def member(self, house: Any, role: str) -> Membership:
        """A membership."""
        return Membership.objects.get(user=getattr(house, role))

    def test_roles_change_at_once(self, house: Any) -> None:
        """The next request has the new ones."""
        client = house.client(house.author)
        assert client.get("/paste/").status_code == 200
        house.client(house.owner).post(
            f"/people/{self.member(house, 'author').pk}/change/", {"do": "roles", "role": ["approver", "operator"]}
        )
        assert client.get("/paste/").status_code == 403
        assert self.member(house, "author").roles == ["approver", "operator"]

    def test_deactivated_and_back(self, house: Any) -> None:
        """Out at once, in every window; what they did keeps their name; in again with their roles."""
        client = house.client(house.author)
        address = f"/people/{self.member(house, 'author').pk}/change/"
        house.client(house.owner).post(address, {"do": "deactivate"})
        answer = client.get("/")
        assert (answer.status_code, "belong to no workspace" in answer.content.decode()) == (403, True)
        house.client(house.owner).post(address, {"do": "reactivate"})
        assert client.get("/").status_code == 200
        assert self.member(house, "author").roles == ["author"]

    def test_the_last_owner_stays(self, house: Any) -> None:
        """Neither deactivated nor made something else, until there is another."""
        own = self.member(house, "owner")
        with pytest.raises(Refused, match="last owner"):
            people.deactivate(house.owner, own)
        with pytest.raises(Refused, match="last owner"):
            people.change_roles(house.owner, own, ["reviewer"])
        people.change_roles(house.owner, self.member(house, "author"), ["author", "owner"])
        people.deactivate(house.owner, own)
        with pytest.raises(NotAllowed):
            people.reactivate(house.owner, own)
        with pytest.raises(Refused, match="last owner"):
            people.deactivate(house.author, self.member(house, "author"))

    def test_a_further_workspace(self, house: Any) -> None:
        """Owners make them."""
        client = house.client(house.owner)
        client.post("/workspaces/new/", {"name": "Second kiln"})
        assert "People of Second kiln" in client.get("/people/").content.decode()
        with pytest.raises(Refused, match="made by owners"):
            people.found(house.author, "Third")


@pytest.mark.django_db(transaction=True)
def test_inviting_against_being_deactivated(house: Any) -> None:
    """A hundred times: once an owner has been deactivated, no invitation of theirs is made any more."""
    second = User.objects.create_user("second", "second@kiln.org", "a-long-password")
    membership = Membership.objects.create(workspace=house.workspace, user=second, roles=["owner"])
    for number in range(100):
        Membership.objects.filter(pk=membership.pk).update(deactivated_at=None)
        Invitation.objects.all().delete()

        def invite(number: int = number) -> None:
            with contextlib.suppress(NotAllowed):
                people.invite(second, house.workspace, f"n{number}@kiln.org", ["author"])
            connection.close()

        def deactivate() -> None:
            people.deactivate(house.owner, membership)
            connection.close()

        both = [threading.Thread(target=invite), threading.Thread(target=deactivate)]
        for thread in both if number % 2 else reversed(both):
            thread.start()
        for thread in both:
            thread.join(30)
        membership.refresh_from_db()
        assert membership.deactivated_at is not None
        entries = list(LogEntry.objects.filter(action__in=["people.invited", "people.deactivated"]).order_by("-id")[:2])
        if Invitation.objects.exists():
            assert [entry.action for entry in entries] == ["people.deactivated", "people.invited"]


@pytest.mark.django_db(transaction=True)
def test_two_owners_deactivate_each_other(house: Any) -> None:
    """Somebody stays to own the house."""
    second = User.objects.create_user("second", "second@kiln.org", "a-long-password")
    one, other = (
        Membership.objects.get(user=house.owner),
        Membership.objects.create(workspace=house.workspace, user=second, roles=["owner"]),
    )
    for _ in range(50):
        Membership.objects.update(deactivated_at=None)

        def leave(who: Any, whom: Membership) -> None:
            with contextlib.suppress(Refused):
                people.deactivate(who, whom)
            connection.close()

        both = [threading.Thread(target=leave, args=(house.owner, other)), threading.Thread(target=leave, args=(second, one))]
        for thread in both:
            thread.start()
        for thread in both:
            thread.join(30)
        assert Membership.objects.filter(pk__in=[one.pk, other.pk], deactivated_at=None).count() == 1


def carried_out() -> Any:
    """The mail of the newest work, sent as the worker sends it."""
    work = Work.objects.filter(kind="mail").latest("id")
    send_mail.func(**ProcrastinateJob.objects.get(pk=work.job_id).args)
    return outbox.outbox[-1]


class TestGuessing:
    """Passwords that are tried in vain are counted by name, and by the address that a proxy of ours names."""

    def sign_in(self, name: str, password: str = "wrong", **more: str) -> Any:
        """One try."""
        return Client().post("/sign-in/", {"username": name, "password": password}, headers=more)

    def test_one_name_from_many_places(self, house: Any, settings: Any) -> None:
        """Ten tries, wherever they come from; others are not kept out."""
        settings.PROXIES = 1
        answers = [self.sign_in("author", x_forwarded_for=f"203.0.113.{number}").status_code for number in range(12)]
        assert (answers[:9], answers[11]) == ([200] * 9, 429)
        assert self.sign_in("author", "a-long-password", x_forwarded_for="198.51.100.7").status_code == 429
        assert self.sign_in("reviewer", "a-long-password", x_forwarded_for="203.0.113.1").status_code == 302

    def test_one_stranger_behind_the_proxy(self, house: Any, settings: Any) -> None:
        """Fifty names tried from one address: that address waits, and nobody else who comes through the same proxy."""
        settings.PROXIES = 1
        for number in range(50):
            self.sign_in(f"name{number}", x_forwarded_for="203.0.113.9")
        assert self.sign_in("reviewer", "a-long-password", x_forwarded_for="203.0.113.9").status_code == 429
        # What the stranger writes in front of the proxy's own entry is not believed.
        assert self.sign_in("reviewer", "a-long-password", x_forwarded_for="8.8.8.8, 203.0.113.9").status_code == 429
        assert self.sign_in("reviewer", "a-long-password", x_forwarded_for="203.0.113.9, 198.51.100.7").status_code == 302

    @pytest.mark.parametrize(
        ("proxies", "named", "place"),
        [
            (0, "203.0.113.9", "127.0.0.1"),
            (1, "203.0.113.9", "203.0.113.9"),
            (2, "1.2.3.4, 203.0.113.9, 10.0.0.1", "203.0.113.9"),
            (2, "203.0.113.9", "127.0.0.1"),
            (1, "not an address", "127.0.0.1"),
            (1, "2001:db8::1", "2001:db8::1"),
        ],
    )
    def test_where_a_request_comes_from(self, settings: Any, rf: Any, proxies: int, named: str, place: str) -> None:
        """As many entries at the end are believed as there are proxies of ours."""
        settings.PROXIES = proxies
        assert place_of(rf.get("/", headers={"X-Forwarded-For": named})) == place

    def test_the_old_password_on_ones_own_page(self, house: Any) -> None:
        """Has the same limit: who has somebody's open window cannot try there for ever."""
        client = house.client(house.author)
        form = {"do": "password", "old_password": "wrong", "new_password1": "glaze-on-the-wheel", "new_password2": "glaze-on-the-wheel"}
        answers = [client.post("/me/", form).status_code for _ in range(12)]
        assert answers[-1] == 429
        assert client.post("/me/", {**form, "old_password": "a-long-password"}).status_code == 429
        assert User.objects.get(username="author").check_password("a-long-password")

    def test_a_name_that_nobody_can_have(self, house: Any) -> None:
        """A sentence, and nothing of it reaches the tables."""
        answer = self.sign_in("n" * 400)
        assert (answer.status_code, "up to 150 characters; this one has 400" in answer.content.decode()) == (400, True)


@pytest.mark.parametrize("charset", ["utf-16", "zip", "latin-1", "x" * 90])
@pytest.mark.parametrize("kind", ["application/x-www-form-urlencoded", "multipart/form-data; boundary=x"])
def test_a_form_in_another_charset(house: Any, charset: str, kind: str) -> None:
    """Refused with a sentence that names the charset."""
    client = house.client(house.author)
    for address in ("/me/", "/sign-in/"):
        answer = client.generic("POST", address, b"do=details", f"{kind}; charset={charset}")
        assert (answer.status_code, "reads forms in UTF-8" in answer.content.decode()) == (400, True)


class TestOneself:
    """The own page."""

    def test_details(self, house: Any) -> None:
        """Name, zone and theme; shown at once, and in the log."""
        client = house.client(house.author)
        wanted = {
            "first_name": "Ada",
            "last_name": "Thrift",
            "email": "ada@kiln.org",
            "time_zone": "Asia/Tokyo",
            "theme": "dark",
            "mailed": "never",
            "do": "details",
        }
        page = client.post("/me/", wanted, follow=True).content.decode()
        assert 'data-theme="dark"' in page
        assert "Ada Thrift" in page
        assert LogEntry.objects.get().sentence == "changed their own first name, last name, email, time zone, theme"
        assert client.post("/me/", {**wanted, "time_zone": "Mars"}).status_code == 400

    def test_password(self, house: Any) -> None:
        """Validated; this window stays signed in, others do not."""
        here, elsewhere = house.client(house.author), house.client(house.author)
        form = {
            "do": "password",
            "old_password": "a-long-password",
            "new_password1": "glaze-on-the-wheel",
            "new_password2": "glaze-on-the-wheel",
        }
        assert here.post("/me/", {**form, "old_password": "wrong"}).status_code == 400
        assert here.post("/me/", {**form, "new_password1": "short", "new_password2": "short"}).status_code == 400
        assert here.post("/me/", form).status_code == 302
        assert here.get("/").status_code == 200
        assert elsewhere.get("/").status_code == 302

    def test_forgotten_without_a_mail_server(self, house: Any) -> None:
        """The administrator of the installation makes the link; an owner does not get one to see."""
        assert "The administrator of this installation makes a link" in Client().get("/forgotten/").content.decode()
        membership = Membership.objects.get(user=house.author)
        page = house.client(house.owner).post(f"/people/{membership.pk}/change/", {"do": "password"}, follow=True).content.decode()
        assert "administer password-link author" in page
        assert "/set-password/" not in page
        link = told_by_administrator("password-link", "author")
        client = Client()
        form = client.get(link, follow=True).redirect_chain[-1][0]
        client.post(form, {"new_password1": "glaze-on-the-wheel", "new_password2": "glaze-on-the-wheel"})
        assert User.objects.get(username="author").check_password("glaze-on-the-wheel")
        assert "older than a day" in Client().get(link, follow=True).content.decode()

    def test_an_owner_never_sees_a_link(self, house: Any, settings: Any) -> None:
        """Where mail goes out, the link is mailed to the person's own address; of who has left, nothing can be had."""
        settings.HAS_MAILROOM = False
        membership = Membership.objects.get(user=house.author)
        client, address = house.client(house.owner), f"/people/{membership.pk}/change/"
        page = client.post(address, {"do": "password"}, follow=True).content.decode()
        assert "on its way to author@kiln.org" in page
        assert "/set-password/" not in page
        sent = carried_out()
        assert (sent.to, "/set-password/" in str(sent.body)) == (["author@kiln.org"], True)
        people.deactivate(house.owner, membership)
        assert "their account is theirs alone" in client.post(address, {"do": "password"}, follow=True).content.decode()
        other = Membership.objects.get(user=house.outsider)
        assert client.post(f"/people/{other.pk}/change/", {"do": "password"}).status_code == 404
        with pytest.raises(NotAllowed):
            people.mail_password_link(house.owner, other, "")
        assert Work.objects.filter(kind="mail").count() == 1

    def test_showing_that_an_address_is_ones_own(self, house: Any, settings: Any) -> None:
        """By a mail to it; a link of an address that was given up since shows nothing."""
        settings.HAS_MAILROOM = False
        client = house.client(house.author)
        assert "Nothing shows yet that author@kiln.org is yours" in client.get("/me/").content.decode()
        client.post("/me/", {"do": "prove"})
        link = re.search(r"/prove-address/[^\s]+", str(carried_out().body))
        assert link is not None
        page = Client().get(link[0]).content.decode()
        assert "Is this your address?" in page
        assert not User.objects.get(username="author").proven_email, "looking changes nothing"
        Client().post(link[0])
        assert User.objects.get(username="author").has_proven("Author@kiln.org")
        User.objects.filter(username="author").update(email="new@kiln.org")
        assert Client().get(link[0]).status_code == 404
        assert not User.objects.get(username="author").has_proven_own
        assert Client().get("/prove-address/made-up/").status_code == 404

    def test_what_the_administrator_cannot_do(self, house: Any) -> None:
        """A sentence for each."""
        User.objects.filter(username="author").update(email="")
        for words, said in (
            (["password-link", "nobody"], "nobody signs in as"),
            (["invitation-link", "x@y.net"], "no invitation of x@y.net is open"),
            (["vouch-address", "author"], "has given no e-mail address"),
            (["vouch-domain", "Nowhere", "kiln.org"], "no workspace is named"),
            (["vouch-domain", "Kiln", "kiln"], "is not a domain"),
        ):
            with pytest.raises(CommandError, match=said):
                told_by_administrator(*words)

    def test_forgotten_with_one(self, house: Any, settings: Any) -> None:
        """Mailed, to whoever has the address; the page says the same to everybody, and nobody is flooded."""
        settings.HAS_MAILROOM = False
        said = [
            Client().post("/forgotten/", {"email": address}, follow=True).content.decode() for address in ("author@kiln.org", "x@y.net")
        ]
        assert all("If somebody here has this address" in page for page in said)
        # Both are handed to a job of the same kind: how long the answer takes tells nothing.
        assert Work.objects.filter(kind="mail", subject__startswith="forgotten:").count() == 2
        for work in Work.objects.all():
            mail_links.func(**ProcrastinateJob.objects.get(pk=work.job_id).args)
        assert Work.objects.filter(kind="mail", subject__startswith="password:").count() == 1
        Work.objects.update(state="done")
        mail_password_links("author@kiln.org", "http://testserver")
        Client().post("/forgotten/", {"email": "author@kiln.org"})
        assert Work.objects.filter(kind="mail").count() == 3
        assert password_link(house.author).startswith("/set-password/")


def test_the_first_joined_is_where_one_works(house: Any) -> None:
    """Until another is chosen; a workspace that is not one's own is never taken."""
    user = User.objects.get(username="author")
    user.chosen_workspace = Workspace.objects.get(name="Elsewhere").pk
    assert workspace_of(user) == house.workspace


@pytest.mark.parametrize("value", ["Europe/Dublin", "", None, "<b>", 'a"b'])
def test_a_long_list_is_the_same_as_djangos(value: str | None) -> None:
    """The same attributes, options and choice as Django's own widget gives, only sooner."""
    choices = [("UTC", "UTC"), ("Europe/Dublin", "Europe/Dublin"), ('a"b', "<i>odd</i> & so on"), ("<b>", "b")]
    own = LongSelect(choices=choices, attrs={"class": "form-select"}).render("zone", value, {"id": "id_zone", "required": True})
    theirs = forms.Select(choices=choices, attrs={"class": "form-select"}).render("zone", value, {"id": "id_zone", "required": True})
    assert parse_html(own) == parse_html(theirs)
