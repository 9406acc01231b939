"""Mail servers of a team's own: kept, tried, chosen, and used at the rate that they allow."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from datetime import datetime, timedelta
from ipaddress import IPv6Network
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs.models import OwnMailServer, TestCopy, TestSend
from jetwind.apps.proofs.reach import is_allowed
from jetwind.apps.proofs.sealing import Unreadable, opened, seal
from jetwind.apps.ui.merging import merged_fields
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.services import DOMAIN
from jetwind.engines.fetch import Policy, Refusal, SystemResolver
from jetwind.engines.fetch.policy import ip_of
from jetwind.engines.mail import MailServer, Reach, Security, steps_of
from jetwind.engines.practice import DOMAIN as PRACTICE
from jetwind.engines.practice import Directory
from jetwind.engines.practice.mail import SERVERS, PracticeServer

CONNECTION_TESTS = "mail-server"
#: Mail servers of one workspace.
MOST = 10
#: Ports of mail servers: transfer (RFC 5321 §4.5.4.2), submission (RFC 6409), submission with TLS (RFC 8314), and one that hosts use where
#: the others are shut (common practice, no published source).
PORTS = frozenset({25, 465, 587, 2525})
#: The entries of a form, in their order.
ENTRIES = ("name", "host", "port", "security", "user", "per_minute")


def of(workspace: Workspace) -> list[OwnMailServer]:
    """The mail servers of a workspace that were not removed."""
    return list(workspace.mail_servers.filter(removed_at=None))


def shown(row: OwnMailServer) -> dict[str, Any]:
    """The entries of a server as a form shows them. The password is never among them."""
    return {name: getattr(row, name) for name in ENTRIES}


@transaction.atomic
def keep(
    user: User,
    workspace: Workspace,
    given: Mapping[str, Any],
    password: str,
    *,
    row: OwnMailServer | None = None,
    before: Mapping[str, Any] | None = None,
) -> OwnMailServer:
    """Keep a mail server, or one that is there anew. An empty password leaves the one that is kept.

    What changed against ``before``, the entries that the page showed, is merged into what holds now. The password goes with its server: a
    server at another host or port, or with another login, needs it anew, so that nobody has it sent to a place of their own.

    Raises:
        NotAllowed, Refused: not permitted; no host, a port that is not used, a name that is taken, too many; a login without a password; an
            entry that somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if row is not None:
        row = locked.mail_servers.select_for_update(no_key=True).filter(pk=row.pk, removed_at=None).first()
        if row is None:
            raise Refused("Somebody removed this mail server meanwhile; describe it as a new one.")
        given = merged_fields(before, given, shown(row))
    elif locked.mail_servers.filter(removed_at=None).count() >= MOST:
        raise Refused(f"A workspace has at most {MOST} mail servers of its own.")
    kept = row or OwnMailServer(workspace=locked)
    was = (kept.host, kept.port, kept.user, kept.security)
    kept.name = " ".join(str(given["name"]).split())
    kept.host = _host(str(given["host"]))
    kept.port, kept.security, kept.user = int(given["port"]), given["security"], str(given["user"]).strip()
    kept.per_minute = given["per_minute"]
    if kept.port not in PORTS and not _policy().is_inward(kept.host, kept.port):
        listed = ", ".join(str(port) for port in sorted(PORTS))
        raise Refused(
            f"Port {kept.port} is not among those of mail servers ({listed}); the administrator of this installation can name it."
        )
    _check_place(kept)
    _keep_password(kept, password, is_elsewhere=was != (kept.host, kept.port, kept.user, kept.security))
    if was != (kept.host, kept.port, kept.user, kept.security) or password:
        kept.tested, kept.tested_at = None, None
    with refusing("one_mail_server_of_a_name", f"There is a mail server “{kept.name}” already; choose another name."):
        kept.save()
    what = f"the mail server {kept.name}: {kept.host}:{kept.port}" + (", with another password" if password else "")
    record("workspace.changed", actor=user, what=what, house=locked.pk)
    return kept


def _check_place(kept: OwnMailServer) -> None:
    """Refuse a port that no mail server has, and an IP address inside the network. A name is judged whenever it is looked up."""
    policy = _policy()
    if kept.port not in PORTS and not policy.is_inward(kept.host, kept.port):
        listed = ", ".join(str(port) for port in sorted(PORTS))
        raise Refused(
            f"Port {kept.port} is not among those of mail servers ({listed}); the administrator of this installation can name it."
        )
    if (ip := ip_of(kept.host)) is not None:
        try:
            policy.check_ip(kept.host, kept.port, ip)
        except Refusal as refused:
            raise Refused(f"{refused}; the administrator of this installation can name it with its port.") from None


def _keep_password(kept: OwnMailServer, password: str, *, is_elsewhere: bool) -> None:
    if not kept.user:
        if password:
            raise Refused("A password needs the name of its login.")
        kept.sealed_password = ""
        return
    if not (kept.user + password).isascii():
        raise Refused("Jetwind signs in with letters, digits and signs of ASCII alone; the login or its password has others.")
    if password:
        kept.sealed_password = seal(password)
    elif is_elsewhere or not kept.sealed_password:
        raise Refused("Give the password again: it goes with the host, the port and the login for which it was given.")


def _host(text: str) -> str:
    host = text.strip().rstrip(".").lower()
    try:
        host = host if ip_of(host) is not None else host.encode("idna").decode("ascii")
    except UnicodeError:
        host = ""
    if not host or (ip_of(host) is None and not DOMAIN.match(host)):
        raise Refused(f"“{text[:60]}” is not the name of a host, such as mail.{PRACTICE}.")
    return host


@transaction.atomic
def choose(user: User, workspace: Workspace, row: OwnMailServer | None) -> None:
    """Have new test sends go out by one of the servers; by the installation's own way out with None.

    Raises:
        NotAllowed, Refused: not permitted; the server was removed.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    locked.mail_servers.filter(is_chosen=True).update(is_chosen=False)
    if row is not None and not locked.mail_servers.filter(pk=row.pk, removed_at=None).update(is_chosen=True):
        raise Refused("Somebody removed this mail server meanwhile.")
    by = row.name if row is not None else way_out_name()
    record("workspace.changed", actor=user, what=f"test sends go out by {by}", house=locked.pk)


def way_out_name() -> str:
    """The name of the installation's own way out."""
    return "the Mailroom" if settings.HAS_MAILROOM else "the mail server of this installation"


@transaction.atomic
def remove(user: User, row: OwnMailServer) -> None:
    """Take a server away, with its password.

    Raises:
        NotAllowed, Refused: not permitted; copies still wait to go out by it.
    """
    permit(user, "workspace:configure", row.workspace)
    locked = OwnMailServer.objects.select_for_update(no_key=True).get(pk=row.pk)
    if locked.removed_at is not None:
        return
    waiting = TestCopy.objects.filter(
        send__server=locked, state__in=(TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY, TestCopy.State.PUT_OFF)
    ).count()
    if waiting:
        raise Refused(f"“{locked.name}” stays: copies of test sends still wait to go out by it ({waiting}). Cancel them first.")
    locked.removed_at, locked.is_chosen, locked.sealed_password = timezone.now(), False, ""
    locked.save()
    record("workspace.changed", actor=user, what=f"the mail server {locked.name}: removed", house=locked.workspace_id)


def practice_servers() -> tuple[PracticeServer, ...]:
    """The mail servers of the practice field; an empty tuple where this installation runs no practice field."""
    return SERVERS if settings.PRACTICE_DIRECTORY else ()


def subject_of(row: OwnMailServer) -> str:
    """The subject of the background work of trying a server."""
    return f"server:{row.pk}"


def ask_for_connection_test(user: User, row: OwnMailServer, recipient: str) -> None:
    """Have the connection to a server tried in the background; no message is sent.

    Raises:
        NotAllowed, Refused: not permitted; the recipient is no address, or one that test sends may not reach.
    """
    permit(user, "workspace:configure", row.workspace)
    recipient = recipient.strip()
    try:
        validate_email(recipient)
    except ValidationError:
        raise Refused(f"“{recipient[:60]}” is not an e-mail address; the connection test names one to the server.") from None
    if not is_allowed(recipient, row.workspace):
        raise Refused(f"{recipient} is outside the domains that test sends may reach.")
    jobs.start(
        CONNECTION_TESTS,
        subject_of(row),
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("proofs.try_server", server_id=row.pk, recipient=recipient, work_id=work_id),
    )


def carry_out_connection_test(row: OwnMailServer, recipient: str) -> None:
    """Try a server, and keep what each step gave.

    Raises:
        Failed: the server was removed, or its password cannot be read.
    """
    if row.removed_at is not None:
        raise jobs.Failed("The mail server was removed.")
    try:
        server = engine_server(row)
    except Unreadable as failure:
        raise jobs.Failed(f"Give the password again: {failure}.") from failure
    steps = [asdict(step) for step in steps_of(server, row.workspace.test_sender, recipient)]
    # What was tried is this host with this login; another one that was kept meanwhile is not.
    tried = OwnMailServer.objects.filter(pk=row.pk, host=row.host, port=row.port, user=row.user, sealed_password=row.sealed_password)
    tried.update(tested={"recipient": recipient, "steps": steps}, tested_at=timezone.now())


def server_of(send: TestSend) -> MailServer:
    """The server by which a test send goes out.

    Raises:
        Unreadable: its password cannot be read.
    """
    if send.server is None:
        return MailServer(settings.TEST_SMTP_HOST, settings.TEST_SMTP_PORT)
    return engine_server(send.server)


def engine_server(row: OwnMailServer) -> MailServer:
    """A team's own server, within the limits that hold for it.

    Raises:
        Unreadable: its password cannot be read.
    """
    directory = Directory.read(settings.PRACTICE_DIRECTORY) if settings.PRACTICE_DIRECTORY else None
    is_practice = directory is not None and (row.host == PRACTICE or row.host.endswith(f".{PRACTICE}"))
    reach = Reach(
        _policy(),
        directory.resolver() if directory is not None else SystemResolver(),
        [str(directory.authority)] if directory is not None and is_practice else [],
    )
    password = opened(row.sealed_password) if row.sealed_password else ""
    return MailServer(row.host, row.port, security=Security(row.security), user=row.user, password=password, reach=reach)


def _policy() -> Policy:
    """Where mail servers may lie: public hosts, those inside that the administrator names with their port, and the practice field."""
    practice = {f"{PRACTICE}:{port}" for port in PORTS} if settings.PRACTICE_DIRECTORY else set()
    return Policy(settings.INWARD_HOSTS | practice, PORTS, tuple(IPv6Network(prefix) for prefix in settings.TRANSLATIONS))


def turn_of(row: OwnMailServer | None, most: timedelta) -> datetime:
    """The moment at which the next message may go by a server; from then on the turn is taken, for whichever worker asked.

    Where that moment is further away than ``most``, no turn is taken. Several workers keep one rate together: the server's row is the lock.
    """
    now = timezone.now()
    if row is None or row.per_minute is None:
        return now
    with transaction.atomic():
        locked = OwnMailServer.objects.select_for_update(no_key=True).get(pk=row.pk)
        turn = max(now, locked.next_at or now)
        if locked.per_minute is not None and turn - now <= most:
            locked.next_at = turn + timedelta(minutes=1) / locked.per_minute
            locked.save(update_fields=["next_at"])
    return turn
