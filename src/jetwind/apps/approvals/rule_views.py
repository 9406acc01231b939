"""The screens of the rules of sign-off, and of who stands in for whom."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.accounts.permissions import roles_for
from jetwind.apps.approvals import rules as services
from jetwind.apps.approvals import stand_ins
from jetwind.apps.approvals.forms import RuleForm, StandInForm
from jetwind.apps.approvals.keys import shown_key
from jetwind.apps.approvals.models import StandIn
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks, may
from jetwind.core.clearing import EVERY, SHIPPED, rule_of, sentences

_NAMES = {EVERY: "Every kind of message"}


def _name(kind: str) -> str:
    return _NAMES.get(kind, f"{kind.capitalize()} messages")


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="approval:sign")
@once
def rules(request: PersonRequest) -> HttpResponse:
    """The rules as sentences, and the people who stand in for others; a form says who is away."""
    workspace = request.workspace
    signing = [role.value for role in roles_for("approval:sign")]
    signers = workspace.memberships.filter(roles__overlap=signing, deactivated_at=None).values_list("user", flat=True)
    is_owner = may(request.user, "people:manage", workspace)
    away = signers if is_owner else [number for number in signers if number == request.user.pk]
    form = StandInForm(request.POST or None, away=away, stand_ins=signers)
    done = kept(request, form, lambda shown: stand_ins.stand_in(request.user, workspace, **form.cleaned_data))
    if done is not None:
        messages.success(request, f"{done.value.stands_in.shown_name} stands in for {done.value.away.shown_name}.")
        return redirect("sign-off-rules")
    page = {
        "rules": [
            (kind, _name(kind), sentences(rule_of(workspace.clearing, kind)), kind in workspace.clearing)
            for kind in services.KINDS
            if kind == EVERY or kind in workspace.clearing
        ],
        "without": [(kind, _name(kind)) for kind in services.KINDS if kind != EVERY and kind not in workspace.clearing],
        "stand_ins": [(one, is_owner or one.away_id == request.user.pk) for one in stand_ins.in_force(workspace)],
        "form": form if may(request.user, "approval:sign", workspace) else None,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "key": shown_key(workspace),
        "section": "settings",
    }
    return form_page(request, "approvals/rules.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def rule(request: PersonRequest, kind_of_message: str) -> HttpResponse:
    """The form of one rule, which begins with the rule that holds, or with one that ships."""
    kind = kind_of_message
    if kind not in services.KINDS:
        raise Http404("no such kind of message")
    workspace = request.workspace
    if request.method == "POST" and request.POST.get("do") == "drop":
        gone = services.drop_rule(request.user, workspace, kind)
        messages.success(request, f"{_name(kind)} follow the rule of every kind now." if gone else "It had no rule of its own.")
        return redirect("sign-off-rules")
    holds = rule_of(workspace.clearing, kind)
    begins = SHIPPED.get(request.GET.get("from", ""), holds)
    form = RuleForm(request.POST or None, initial=services.entries_of(begins))
    done = kept(request, form, lambda shown: services.keep_rule(request.user, workspace, kind, form.cleaned_data, shown))
    if done is not None:
        messages.success(request, f"{_name(kind)}: the rule is kept. Signatures are counted by it from now on.")
        return redirect("sign-off-rules")
    if request.method == "POST":
        workspace.refresh_from_db()
        holds = rule_of(workspace.clearing, kind)
    page = {
        "form": form,
        "kind": kind,
        "kind_name": _name(kind),
        "has_own": kind != EVERY and kind in workspace.clearing,
        "sentences": sentences(begins),
        "shipped": [(name, sentences(one)) for name, one in SHIPPED.items()],
        "shown": as_shown(services.entries_of(holds)),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "approvals/rule.html", page)


@require_GET
@asks("workspace:view")
def public_key(request: PersonRequest) -> HttpResponse:
    """The public half of the workspace's key as a file, to verify packages with."""
    found = shown_key(request.workspace)
    if found is None:
        raise Http404("no key was made yet")
    response = HttpResponse(found[0], content_type="application/x-pem-file")
    response["Content-Disposition"] = 'attachment; filename="jetwind-key.pem"'
    return response


@require_POST
@asks(send="workspace:view")
@once
def end_stand_in(request: PersonRequest, stand_in_id: int) -> HttpResponse:
    """Say that somebody no longer stands in."""
    one = get_object_or_404(StandIn.objects.select_related("away", "stands_in", "workspace"), pk=stand_in_id, workspace=request.workspace)
    stand_ins.end_stand_in(request.user, one)
    messages.success(request, f"{one.stands_in.shown_name} no longer stands in for {one.away.shown_name}.")
    return redirect("sign-off-rules")
