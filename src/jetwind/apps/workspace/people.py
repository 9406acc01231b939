"""Who belongs to a house: the first owner, invitations, roles, leaving and coming back."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import connection, transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role
from jetwind.apps.accounts.services import can_mail, mail_password_link_later, prove_address
from jetwind.apps.audit.services import record
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.merging import merged_list
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Invitation, Membership, Workspace

#: How long an invitation holds.
HOLDS = timedelta(days=7)
#: Key of the advisory lock on making the first workspace of a house.
_FIRST = 7_310_003


@dataclass(frozen=True, slots=True)
class NewPerson:
    """Who somebody is that comes in for the first time. The password has been validated."""

    username: str
    first_name: str
    last_name: str
    email: str
    password: str
    time_zone: str


def is_empty_house() -> bool:
    """Whether nobody has moved in yet."""
    return not User.objects.exists()


def move_in(name: str, person: NewPerson) -> Workspace:
    """Make the first workspace of an empty house, and its owner.

    Raises:
        Refused: somebody has moved in already; no name.
    """
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s)", [_FIRST])
        if not is_empty_house():
            raise Refused("Somebody has moved in already; ask an owner for an invitation.", "/sign-in/")
        return _found(_make(person), name)


def found(user: User, name: str) -> Workspace:
    """Make a further workspace and own it. Every owner of a workspace may.

    Raises:
        NotAllowed, Refused: owner of none; no name, or too long a one.
    """
    if not Membership.objects.filter(user=user, deactivated_at=None, roles__contains=[Role.OWNER.value]).exists():
        raise Refused("Further workspaces are made by owners; your roles do not include it.")
    with transaction.atomic():
        return _found(user, name)


def _found(owner: User, name: str) -> Workspace:
    name = " ".join(name.split())
    if not name or len(name) > 80:
        raise Refused("A workspace has a name of up to 80 characters.")
    made = Workspace.objects.create(name=name)
    Membership.objects.create(workspace=made, user=owner, roles=[role.value for role in (Role.OWNER, Role.OPERATOR, Role.REVIEWER)])
    record("workspace.made", actor=owner, name=name, house=made.pk)
    follows().workspace_made(made)
    return made


def _make(person: NewPerson) -> User:
    with refusing("accounts_user_username_key", f"The sign-in name “{person.username}” is taken; choose another."):
        return User.objects.create_user(
            person.username,
            person.email,
            person.password,
            first_name=person.first_name,
            last_name=person.last_name,
            time_zone=person.time_zone,
        )


def _roles(given: Sequence[str]) -> list[str]:
    roles = [role.value for role in Role if role.value in given]
    if not roles:
        raise Refused("Choose at least one role.")
    return roles


def invite(user: User, workspace: Workspace, email: str, roles: Sequence[str]) -> tuple[Invitation, str]:
    """Invite somebody. The token is returned this once, to be mailed to the invited address; the inviter does not see it.

    Raises:
        NotAllowed, Refused: not permitted; no address; no role; a member already.
    """
    email = email.strip()
    try:
        validate_email(email)
    except ValidationError:
        raise Refused(f"“{email[:80]}” is not an e-mail address.") from None
    with transaction.atomic():
        locked = _locked(user, workspace)
        if locked.memberships.filter(user__email__iexact=email, deactivated_at=None).exists():
            raise Refused(f"{email} belongs to {locked.name} already; change the roles in the list.")
        token = secrets.token_urlsafe(32)
        # A second invitation takes the place of the first.
        locked.invitations.filter(email__iexact=email, accepted_at=None, withdrawn_at=None).update(withdrawn_at=timezone.now())
        made = Invitation.objects.create(
            workspace=locked, email=email, roles=_roles(roles), token_sha256=_hash(token), by=user, expires_at=timezone.now() + HOLDS
        )
        record("people.invited", actor=user, email=email, roles=", ".join(made.roles), workspace=locked.name, house=locked.pk)
    return made, token


def withdraw(user: User, invitation: Invitation) -> None:
    """Take an invitation back; its link lets nobody in any more.

    Raises:
        NotAllowed: not permitted.
    """
    with transaction.atomic():
        workspace = _locked(user, invitation.workspace)
        taken_back = Invitation.objects.filter(pk=invitation.pk, accepted_at=None, withdrawn_at=None).update(withdrawn_at=timezone.now())
        if taken_back:
            record("people.invitation-withdrawn", actor=user, email=invitation.email, workspace=workspace.name, house=workspace.pk)


def link_by_administrator(email: str) -> list[tuple[Invitation, str]]:
    """A new token for each open invitation of an address, for the administrator of the installation to hand on; earlier links end.

    By handing a link on, the administrator vouches that its receiver has the invited address.
    """
    made = []
    with transaction.atomic():
        open_ones = Invitation.objects.select_for_update(no_key=True, of=("self",)).select_related("workspace", "by")
        for invitation in open_ones.filter(email__iexact=email.strip(), accepted_at=None, withdrawn_at=None, expires_at__gt=timezone.now()):
            token = secrets.token_urlsafe(32)
            invitation.token_sha256 = _hash(token)
            invitation.save(update_fields=["token_sha256"])
            made.append((invitation, token))
    return made


def invitations_for(user: User) -> list[Invitation]:
    """The open invitations of the address that is known to be a person's."""
    if not user.has_proven_own:
        return []
    found = Invitation.objects.select_related("workspace", "by").filter(email__iexact=user.email, accepted_at=None, withdrawn_at=None)
    return [one for one in found if one.is_open]


def mail_password_link(user: User, membership: Membership, site: str) -> None:
    """Have a link for a new password mailed to a member, at the member's own address. The owner who asks for it does not see it.

    Raises:
        NotAllowed, Refused: not permitted; no member any more; no address; no mail server.
    """
    with transaction.atomic():
        workspace = _locked(user, membership.workspace)
        locked = Membership.objects.select_related("user").get(pk=membership.pk)
        person = locked.user
        if not locked.is_active:
            raise Refused(f"{person.shown_name} is no member of {workspace.name} any more; their account is theirs alone.")
        if not can_mail():
            raise Refused(
                f"No mail server is set. The administrator of this installation makes the link: ./jetwind manage administer password-link {person.username}"
            )
        if not person.email:
            raise Refused(f"{person.shown_name} has given no e-mail address; the administrator of this installation can make a link.")
        mail_password_link_later(person, site)
        record("account.link-mailed", actor=user, who=person.shown_name, house=workspace.pk)


def invitation_of(token: str) -> Invitation | None:
    """The open invitation of a link."""
    known = Invitation.objects.select_related("workspace", "by").filter(token_sha256=_hash(token)).first()
    return known if known is not None and known.is_open else None


def accept(invitation: Invitation, who: User | NewPerson, *, by_link: bool = True) -> User:
    """Join by an invitation, as somebody who is known here, or for the first time.

    Its link is carried by a mail to the invited address, or by the administrator's hand, and so shows that the address is that of the
    person. Without the link (``by_link``) the person must be known by the address already.

    Raises:
        Refused: the invitation is used up, withdrawn or expired, or for somebody else; the sign-in name is taken.
    """
    with transaction.atomic():
        Workspace.objects.select_for_update(no_key=True).get(pk=invitation.workspace_id)
        locked = Invitation.objects.select_for_update(no_key=True).select_related("workspace").get(pk=invitation.pk)
        if not locked.is_open:
            raise Refused("This invitation has been used, withdrawn, or has expired; ask for another.", "/sign-in/")
        if isinstance(who, NewPerson) and (not by_link or who.email.casefold() != locked.email.casefold()):
            raise Refused(f"This invitation is for {locked.email}.")
        if isinstance(who, User) and not by_link and not (who.has_proven(locked.email) and who.has_proven_own):
            raise Refused(
                f"This invitation is for {locked.email}; sign in as the person who has this address, or use the link in the mail."
            )
        user = who if isinstance(who, User) else _make(who)
        if user.email.casefold() == locked.email.casefold():
            prove_address(user, user.email, "by an invitation")
        membership, is_new = Membership.objects.get_or_create(workspace=locked.workspace, user=user, defaults={"roles": locked.roles})
        if not is_new:
            membership.roles = _roles([*membership.roles, *locked.roles] if membership.is_active else locked.roles)
            membership.deactivated_at = None
            membership.save()
        locked.accepted_at, locked.accepted_by = timezone.now(), user
        locked.save(update_fields=["accepted_at", "accepted_by"])
        record(
            "people.took-invitation",
            actor=user,
            email=locked.email,
            roles=", ".join(membership.roles),
            workspace=locked.workspace.name,
            house=locked.workspace_id,
        )
    return user


def change_roles(user: User, membership: Membership, roles: Sequence[str], shown: Sequence[str] | None = None) -> None:
    """Give a person other roles. What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; no role; the last owner.
    """
    with transaction.atomic():
        workspace = _locked(user, membership.workspace)
        locked = Membership.objects.select_related("user").get(pk=membership.pk)
        wanted = _roles(roles if shown is None else merged_list(shown, roles, locked.roles))
        if Role.OWNER.value not in wanted:
            _keep_an_owner(locked)
        if wanted != locked.roles:
            locked.roles = wanted
            locked.save(update_fields=["roles"])
            record(
                "people.changed",
                actor=user,
                who=locked.user.shown_name,
                roles=", ".join(wanted),
                workspace=workspace.name,
                house=workspace.pk,
            )


def deactivate(user: User, membership: Membership) -> None:
    """Let a person no longer in; what they did stays.

    Raises:
        NotAllowed, Refused: not permitted; the last owner.
    """
    with transaction.atomic():
        workspace = _locked(user, membership.workspace)
        locked = Membership.objects.select_related("user").get(pk=membership.pk)
        _keep_an_owner(locked)
        if locked.is_active:
            locked.deactivated_at = timezone.now()
            locked.save(update_fields=["deactivated_at"])
            record("people.deactivated", actor=user, who=locked.user.shown_name, workspace=workspace.name, house=workspace.pk)


def reactivate(user: User, membership: Membership) -> None:
    """Let a person in again, with the roles they had.

    Raises:
        NotAllowed: not permitted.
    """
    with transaction.atomic():
        workspace = _locked(user, membership.workspace)
        locked = Membership.objects.select_related("user").get(pk=membership.pk)
        if not locked.is_active:
            locked.deactivated_at = None
            locked.save(update_fields=["deactivated_at"])
            record("people.reactivated", actor=user, who=locked.user.shown_name, workspace=workspace.name, house=workspace.pk)


def _locked(user: User, workspace: Workspace) -> Workspace:
    """The workspace, locked until the transaction ends: the next person sees the decision, and whether they still own the workspace."""
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    permit(user, "people:manage", locked)
    return locked


def _keep_an_owner(membership: Membership) -> None:
    others = Membership.objects.filter(workspace_id=membership.workspace_id, deactivated_at=None, roles__contains=[Role.OWNER.value])
    if membership.is_active and Role.OWNER.value in membership.roles and not others.exclude(pk=membership.pk).exists():
        raise Refused(f"{membership.user.shown_name} is the last owner; make somebody else an owner first.")


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
