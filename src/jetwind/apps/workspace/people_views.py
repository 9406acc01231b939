"""The people of a workspace: the first one, invitations, roles, and moving between workspaces."""

from __future__ import annotations

from django.contrib import messages
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.accounts.forms import NewPersonForm
from jetwind.apps.accounts.middleware import CHOSEN_WORKSPACE
from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role
from jetwind.apps.accounts.services import can_mail, mail_later
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace import people as services
from jetwind.apps.workspace.access import PersonRequest, asks, memberships_of, permissions_of
from jetwind.apps.workspace.models import Invitation, Membership

_BACKEND = "django.contrib.auth.backends.ModelBackend"
ROLES = [role.value for role in Role]


def _person(form: NewPersonForm) -> services.NewPerson:
    data = form.cleaned_data
    return services.NewPerson(**{name: data[name] for name in services.NewPerson.__dataclass_fields__})


@login_not_required
@require_http_methods(["GET", "POST"])
def begin(request: PersonRequest) -> HttpResponse:
    """The first page of an empty house: the first workspace and its owner."""
    if not services.is_empty_house():
        return redirect("sign-in")
    form = NewPersonForm(request.POST or None)
    name = request.POST.get("workspace", "")
    done = kept(request, form, lambda shown: services.move_in(name, _person(form)))
    if done is not None:
        owner = done.value.memberships.select_related("user").get().user
        login(request, owner, backend=_BACKEND)
        messages.success(request, f"{done.value.name} is yours. Invite the others, and take in a first message.")
        return redirect("people")
    page = {"form": form, "name": name}
    return form_page(request, "workspace/begin.html", page)


@login_not_required
@require_http_methods(["GET", "POST"])
def join(request: PersonRequest, token: str) -> HttpResponse:
    """The page of an invitation: come in as who one is here already, or for the first time."""
    invitation = services.invitation_of(token)
    if invitation is None:
        return render(
            request,
            "ui/refused.html",
            {"sentence": "This invitation has been used, withdrawn, or has expired; ask for another."},
            status=404,
        )
    known = request.user if isinstance(request.user, User) else None
    form = NewPersonForm(request.POST if request.method == "POST" and known is None else None, initial={"email": invitation.email})
    # The link shows that this address is the person's; another one would be shown by nothing.
    form.fields["email"].disabled = True
    if request.method == "POST" and (known is not None or form.is_valid()):
        try:
            joined = services.accept(invitation, known or _person(form))
        except Refused as refused:
            if known is not None:
                raise
            form.add_error(None, refused.sentence)
        else:
            if known is None:
                login(request, joined, backend=_BACKEND)
            request.session[CHOSEN_WORKSPACE] = invitation.workspace_id
            messages.success(request, f"You belong to {invitation.workspace.name} now.")
            return redirect("departures")
    page = {"invitation": invitation, "form": form, "known": known, "token": token}
    return form_page(request, "workspace/join.html", page)


@require_GET
@asks("workspace:view")
def people(request: PersonRequest) -> HttpResponse:
    """Who belongs to the workspace, who is invited, and what lately happened to the house."""
    workspace = request.workspace
    page = {
        "workspace": workspace,
        "members": workspace.memberships.select_related("user").order_by("deactivated_at", "id"),
        "invitations": [one for one in workspace.invitations.select_related("by", "accepted_by")[:50] if one.is_open or one.accepted_by_id],
        "roles": ROLES,
        "allowed": permissions_of(request.user, workspace),
        "can_mail": can_mail(),
        "log": LogEntry.objects.filter(workspace_id=workspace.pk, mailing_id=None).select_related("actor").order_by("-id")[:30],
        "section": "people",
    }
    return render(request, "workspace/people.html", page)


@require_POST
@asks(send="people:manage")
@once
def invite(request: PersonRequest) -> HttpResponse:
    """Invite somebody; the link is mailed to the address. Where no mail server is set, the administrator makes one."""
    workspace = request.workspace
    made, token = services.invite(request.user, workspace, request.POST.get("email", ""), request.POST.getlist("role"))
    address = request.build_absolute_uri(redirect("join", token).url)
    text = (
        f"{request.user.shown_name} invites you to {workspace.name} at Jetwind, as {' and '.join(made.roles)}.\n\n{address}\n\n"
        f"The link holds until {made.expires_at:%d %B %Y}.\n"
    )
    mail_later(f"Join {workspace.name} at Jetwind", text, made.email, f"invitation:{made.pk}")
    if can_mail():
        messages.success(request, f"The invitation is on its way to {made.email}.")
    else:
        messages.warning(
            request,
            f"{made.email} is invited. No mail server is set, so the administrator of this installation hands the link on: ./jetwind manage administer invitation-link {made.email}",
        )
    return redirect("people")


@require_http_methods(["GET", "POST"])
@asks()
@once
def invitations(request: PersonRequest) -> HttpResponse:
    """The invitations to the person's proven address; a press accepts one."""
    found = services.invitations_for(request.user)
    if request.method == "POST":
        wanted = whole_number(request.POST, "invitation")
        invitation = next((one for one in found if one.pk == wanted), None)
        if invitation is None:
            raise Refused("This invitation has been used, withdrawn, or has expired; ask for another.")
        services.accept(invitation, request.user, by_link=False)
        request.session[CHOSEN_WORKSPACE] = invitation.workspace_id
        messages.success(request, f"You belong to {invitation.workspace.name} now.")
        return redirect("departures")
    return render(request, "workspace/invitations.html", {"invitations": found, "section": "own"})


@require_POST
@asks(send="people:manage")
@once
def withdraw(request: PersonRequest, invitation_id: int) -> HttpResponse:
    """Take an invitation back."""
    found = get_object_or_404(Invitation, pk=invitation_id, workspace=request.workspace)
    services.withdraw(request.user, found)
    messages.success(request, f"The invitation of {found.email} is taken back.")
    return redirect("people")


@require_POST
@asks(send="people:manage")
@once
def change(request: PersonRequest, membership_id: int) -> HttpResponse:
    """Change a person's roles, deactivate or re-activate them, or make a link for a new password."""
    found = get_object_or_404(Membership.objects.select_related("user", "workspace"), pk=membership_id, workspace=request.workspace)
    what = request.POST.get("do", "")
    if what == "roles":
        shown = request.POST.get("shown", "").split() if "shown" in request.POST else None
        services.change_roles(request.user, found, request.POST.getlist("role"), shown)
    elif what == "deactivate":
        services.deactivate(request.user, found)
    elif what == "reactivate":
        services.reactivate(request.user, found)
    elif what == "password":
        services.mail_password_link(request.user, found, request.build_absolute_uri("/").rstrip("/"))
        messages.success(request, f"A link for a new password is on its way to {found.user.email}.")
        return redirect("people")
    else:
        raise Http404("nothing of the kind is done")
    messages.success(request, f"{found.user.shown_name} is changed.")
    return redirect("people")


@require_POST
@asks()
def switch(request: PersonRequest) -> HttpResponse:
    """Switch to another workspace of the person."""
    chosen = whole_number(request.POST, "workspace")
    if chosen not in {one.workspace_id for one in memberships_of(request.user)}:
        raise Http404("no such workspace")
    request.session[CHOSEN_WORKSPACE] = chosen
    return redirect("departures")


@require_POST
@asks(send="people:manage")
@once
def found(request: PersonRequest) -> HttpResponse:
    """Make a further workspace."""
    made = services.found(request.user, request.POST.get("name", ""))
    request.session[CHOSEN_WORKSPACE] = made.pk
    messages.success(request, f"{made.name} is made, and you are in it.")
    return redirect("people")
