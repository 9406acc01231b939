"""Which domains are known to be a workspace's own: by a name record that only their holder can publish, or by the administrator's word."""

from __future__ import annotations

import hashlib

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils.crypto import salted_hmac

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.jobs import services as jobs
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import ProvenDomain, Workspace
from jetwind.apps.workspace.services import DOMAIN
from jetwind.engines.names import Dns, NoAnswer
from jetwind.engines.names.asking import Resolver

DOMAINS = "domain"


def record_name(domain: str) -> str:
    """The name at which the record is looked for."""
    return f"_jetwind.{domain}"


def record_value(workspace: Workspace, domain: str) -> str:
    """The text of the record: another one for each workspace and domain, and known to nobody before it is shown."""
    return f"jetwind-domain={salted_hmac('jetwind.domain', f'{workspace.pk}:{domain}', algorithm='sha256').hexdigest()[:40]}"


def is_proven(workspace: Workspace, domain: str) -> bool:
    """Whether a domain, or one above it, is known to be the workspace's own."""
    return any(domain == one.domain or domain.endswith(f".{one.domain}") for one in workspace.proven_domains.all())


def validate(domain: str) -> None:
    """Go on only with a domain name.

    Raises:
        ValidationError: it is none.
    """
    if not DOMAIN.match(domain):
        raise ValidationError(f"“{domain[:60]}” is not a domain such as saltmarsh-kiln.example")


def subject_of(workspace: Workspace, domain: str) -> str:
    """The subject of the background work of looking for a domain's record."""
    return f"{workspace.pk}:{hashlib.sha256(domain.encode()).hexdigest()[:32]}"


def look_for_record(user: User, workspace: Workspace, domain: str) -> None:
    """Have the record of a domain looked for in the background.

    Raises:
        NotAllowed, Refused: not permitted; no domain of the test sends; this installation asks no name servers.
    """
    permit(user, "workspace:configure", workspace)
    if domain not in workspace.test_domains:
        raise Refused(f"“{domain[:60]}” is none of the domains that test sends of {workspace.name} may reach.")
    if not settings.ASKS_DNS:
        raise Refused("This installation asks no name servers; its administrator can vouch for a domain.")
    jobs.start(
        DOMAINS,
        subject_of(workspace, domain),
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(
            "workspace.look_for_record", user_id=user.pk, workspace_id=workspace.pk, domain=domain, work_id=work_id
        ),
    )


def look_now(user: User, workspace: Workspace, domain: str, resolver: Resolver | None = None) -> None:
    """Ask the name servers, and take the domain for the workspace's own where its record stands there. Safe to run twice.

    Raises:
        Failed: the record does not stand there, or nobody answers.
    """
    try:
        found = (resolver or Dns()).records(record_name(domain), "TXT")
    except NoAnswer as failed:
        raise jobs.Failed(f"Cannot tell whether the record stands there: {failed}") from failed
    texts = [value.decode("ascii", "replace") if isinstance(value, bytes) else str(value) for value in found.values]
    if record_value(workspace, domain) not in texts:
        raise jobs.Failed(f"{record_name(domain)} has no such TXT record yet; a new record can take hours to be seen everywhere.")
    prove(workspace, domain, ProvenDomain.How.RECORD, user)


def prove(workspace: Workspace, domain: str, how: ProvenDomain.How, actor: User | None = None) -> None:
    """Take a domain for the workspace's own."""
    with transaction.atomic():
        locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
        _, is_new = ProvenDomain.objects.get_or_create(workspace=locked, domain=domain, defaults={"how": how})
        if is_new:
            record("domain.proven", actor=actor, domain=domain, workspace=locked.name, how=how.label, house=locked.pk)
