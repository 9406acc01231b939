"""``manage.py administer``: what only the administrator of an installation may do, who has the machine itself."""

from __future__ import annotations

from argparse import ArgumentParser
from typing import Any

from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError
from django.urls import reverse

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.services import password_link, prove_address
from jetwind.apps.audit.services import record
from jetwind.apps.workspace import domains, people
from jetwind.apps.workspace.models import ProvenDomain, Workspace

_BY_WORD = "by the word of the administrator of this installation"


class Command(BaseCommand):
    """The command prints links for the administrator to hand on. Jetwind takes the person who opens a link for the one it was made for."""

    help = "What only the administrator of an installation may do."

    def add_arguments(self, parser: ArgumentParser) -> None:
        """One word for each act, and what it is about."""
        acts = parser.add_subparsers(dest="act", required=True)
        link = acts.add_parser("password-link", help="make a link by which a person sets a new password")
        link.add_argument("name", help="the sign-in name")
        invitation = acts.add_parser("invitation-link", help="make the link of an open invitation anew; earlier links of it end")
        invitation.add_argument("address", help="the invited e-mail address")
        for one in (link, invitation):
            one.add_argument("--site", default="http://127.0.0.1:8400", help="where this installation is reached")
        vouch = acts.add_parser("vouch-address", help="say that the address a person gave is theirs")
        vouch.add_argument("name", help="the sign-in name")
        domain = acts.add_parser("vouch-domain", help="say that a domain is a workspace's own")
        domain.add_argument("workspace", help="the workspace's name")
        domain.add_argument("domain")

    def handle(self, *args: Any, act: str, **options: Any) -> None:
        """Carry one out."""
        getattr(self, f"_{act.replace('-', '_')}")(**options)

    def _password_link(self, *, name: str, site: str, **_: Any) -> None:
        person = self._person(name)
        record("account.link-by-administrator", actor=person)
        self.stdout.write(f"{person.shown_name} sets a new password at (holds for a day):\n{site.rstrip('/')}{password_link(person)}")

    def _invitation_link(self, *, address: str, site: str, **_: Any) -> None:
        made = people.link_by_administrator(address)
        if not made:
            raise CommandError(f"no invitation of {address} is open; an owner of a workspace invites, on the page People")
        for invitation, token in made:
            self.stdout.write(
                f"{address} joins {invitation.workspace.name} at (holds until {invitation.expires_at:%d %B %Y}):\n{site.rstrip('/')}{reverse('join', args=[token])}"
            )

    def _vouch_address(self, *, name: str, **_: Any) -> None:
        person = self._person(name)
        if not person.email:
            raise CommandError(f"{person.shown_name} has given no e-mail address")
        prove_address(person, person.email, _BY_WORD)
        self.stdout.write(f"{person.email} is known to be the address of {person.shown_name}")

    def _vouch_domain(self, *, workspace: str, domain: str, **_: Any) -> None:
        found = list(Workspace.objects.filter(name=workspace)[:2])
        if len(found) != 1:
            raise CommandError(f"{'no' if not found else 'more than one'} workspace is named “{workspace}”")
        proof = ProvenDomain(workspace=found[0], domain=domain.strip().rstrip(".").lower(), how=ProvenDomain.How.ADMINISTRATOR)
        try:
            proof.clean_fields()
            domains.validate(proof.domain)
        except ValidationError as wrong:
            raise CommandError("; ".join(wrong.messages)) from None
        domains.prove(found[0], proof.domain, ProvenDomain.How.ADMINISTRATOR)
        self.stdout.write(f"{proof.domain} is known to be the domain of {found[0].name}")

    def _person(self, name: str) -> User:
        person = User.objects.filter(username=name).first()
        if person is None:
            raise CommandError(f"nobody signs in as “{name}”")
        return person
