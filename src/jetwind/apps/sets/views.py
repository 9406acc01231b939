"""The pages of sets and of shared parts."""

from __future__ import annotations

from django.contrib import messages as notices
from django.core.paginator import Paginator
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.selectors import newest_open
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.selectors import station_address
from jetwind.apps.sets import selectors, services
from jetwind.apps.sets.models import Member, MessageSet
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.many import many
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.profiles import REFERENCE, profiles

#: Causes that a set shows before somebody asks for all.
_CAUSES = 50
#: Shared parts on one page, and users of one that are named there.
_PAGE, _MOST_USERS = 40, 8


@require_http_methods(["GET", "POST"])
@asks("mailing:view", send="mailing:change")
@once
def sets(request: PersonRequest) -> HttpResponse:
    """The sets of the workspace; sent, make one."""
    workspace = request.workspace
    if request.method == "POST":
        made = services.make_set(request.user, workspace, request.POST.get("name", ""), request.POST.get("expected", "").splitlines())
        notices.success(request, f"The set “{made.name}” is there. Say which message each of its names is.")
        return redirect("set", made.pk)
    page = {
        "sets": selectors.sets_of(workspace),
        "may_change": "mailing:change" in permissions_of(request.user, workspace),
        "section": "sets",
    }
    return render(request, "sets/sets.html", page)


@require_http_methods(["GET", "POST"])
@asks("mailing:view", send="mailing:change")
@once
def one_set(request: PersonRequest, set_id: int) -> HttpResponse:
    """One set as it is reviewed; sent, change what it expects, its messages or its model."""
    shown = get_object_or_404(MessageSet.objects.select_related("workspace"), pk=set_id, workspace=request.workspace)
    if request.method == "POST":
        return _change(request, shown)
    chosen = chosen_profiles(request.workspace) or [REFERENCE]
    profile = request.GET.get("profile", "")
    profile = profile if profile in profiles() else next((name for name in chosen if name == REFERENCE), chosen[0])
    rows = selectors.rows_of(shown)
    there = [row for row in rows if row.revision is not None]
    findings = selectors.findings_of(there)
    causes = selectors.causes_of(there, findings)
    shown_causes = causes if request.GET.get("causes") == "all" else causes[:_CAUSES]
    missing = [row.member.name for row in rows if row.revision is None]
    allowed = permissions_of(request.user, request.workspace)
    page = {
        "shown": shown,
        "rows": rows,
        "missing": missing,
        "there": there,
        "coverage_rows": many("sets/coverage_rows.html", coverage=selectors.coverage_of(there, findings)),
        "causes": shown_causes,
        "all_causes": len(causes),
        "open_causes": sum(one.is_open for one in causes),
        "cards": selectors.sheet_of(there, profile),
        "profile": profiles()[profile],
        "profiles": [(name, profiles()[name].name) for name in dict.fromkeys([profile, *chosen])],
        "free": selectors.free_messages(request.workspace) if missing and "mailing:change" in allowed else [],
        "may_change": "mailing:change" in allowed,
        "mend_work": jobs.latest("set-mends", f"set-mends:{shown.pk}"),
        "may_excuse": "review:excuse" in allowed,
        "section": "sets",
    }
    return render(request, "sets/set.html", page)


def _change(request: PersonRequest, shown: MessageSet) -> HttpResponse:
    act = request.POST.get("act", "")
    if act == "remove":
        services.remove_set(request.user, shown)
        notices.success(request, f"The set “{shown.name}” is removed; its messages are where they were.")
        return redirect("sets")
    if act == "expect":
        services.expect(request.user, shown, request.POST.get("expected", "").splitlines())
    elif act == "model":
        services.choose_model(request.user, shown, whole_number(request.POST, "mailing"))
    elif act in ("put-in", "take-out", "forget"):
        member = get_object_or_404(Member.objects.select_related("of__workspace"), pk=whole_number(request.POST, "member"), of=shown)
        if act == "forget":
            services.forget(request.user, member)
        else:
            found = Mailing.objects.filter(pk=whole_number(request.POST, "mailing"), workspace=request.workspace).first()
            if act == "put-in" and found is None:
                raise Refused("Choose a message first.")
            services.put_in(request.user, member, found if act == "put-in" else None)
    else:
        raise Refused("Choose what is to be changed.")
    return redirect("set", shown.pk)


@require_POST
@asks(send="review:excuse")
@once
def excuse(request: PersonRequest, set_id: int) -> HttpResponse:
    """Excuse one cause in every message of a set that has it open."""
    shown = get_object_or_404(MessageSet.objects.select_related("workspace"), pk=set_id, workspace=request.workspace)
    check_id, fingerprint = request.POST.get("check", ""), request.POST.get("fingerprint", "")
    number = services.excuse_in_all(request.user, shown, check_id, fingerprint, request.POST.get("reason", ""))
    notices.success(request, "1 finding is excused." if number == 1 else f"{number} findings are excused, in every message that has them.")
    return redirect("set", shown.pk)


@require_GET
@asks("mailing:view")
def parts(request: PersonRequest) -> HttpResponse:
    """The parts that messages share, and those that changed in one message only."""
    newest = newest_open(request.workspace)
    shown = Paginator(selectors.shared_of(newest), _PAGE).get_page(request.GET.get("page"))
    one = request.GET.get("part", "")
    alone = [(kind, digest, users) for kind, digest, users in shown.paginator.object_list if f"{kind}-{digest}" == one]
    most = len(newest) if alone else _MOST_USERS
    found = selectors.parts_of(newest, alone or list(shown))
    # One message stands under many parts: its address is made once.
    addresses = {one.pk: station_address(one, "wording") for part in found for one in part.users[:most]}
    page = {
        "parts": found,
        "table_rows": many(
            "sets/part_rows.html", parts=[(part, [(addresses[one.pk], one.mailing.title) for one in part.users[:most]]) for part in found]
        ),
        "is_alone": bool(alone),
        "pages": shown,
        "changed": [] if alone else selectors.changed_of(newest),
        "under_way": len(newest),
        "most_users": _MOST_USERS,
        "section": "sets",
    }
    return render(request, "sets/parts.html", page)
