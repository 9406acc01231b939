"""The home list."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from django.contrib import messages as notices
from django.core.paginator import Paginator
from django.http import HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.dateparse import parse_datetime
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import roles_for
from jetwind.apps.departures import bulk as services
from jetwind.apps.departures import saved_views
from jetwind.apps.departures.axis import axis
from jetwind.apps.departures.filters import ORDERS, WINDOWS, Filter
from jetwind.apps.departures.selectors import ON_AXIS, board
from jetwind.apps.intake.models import KIND_CHOICES, Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.answers import RECHECKS
from jetwind.apps.ui.given import whole_number, whole_numbers
from jetwind.apps.ui.many import many
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.apps.workspace.models import Workspace

#: Messages on one page of the list.
PAGE = 40
#: Refusals of one press that are told one by one.
_MOST_TOLD = 12


@require_GET
@asks("mailing:view")
def home(request: PersonRequest) -> HttpResponse:
    """The page Departures: when each message leaves, and what holds it back."""
    workspace = request.workspace
    chosen = Filter.of(request.GET)
    found = chosen.messages(workspace, request.user)
    now = timezone.now()
    # All messages in one query: counting them first would be another.
    listing = list(found.values_list("pk", "title", "planned_at", "stage"))
    shown = Paginator([one[0] for one in listing], PAGE).get_page(request.GET.get("page"))
    read = board(listing, shown, now, has_axis=not chosen.search)
    drawn = axis(read.planned, now)
    zone = ZoneInfo(request.user.time_zone or "UTC")
    for mark in drawn.marks:
        opened = chosen.within(*mark.days(zone)).query if len(mark.rows) > 1 else ""
        mark.opens = opened if opened != chosen.query else ""
    members = list(workspace.memberships.select_related("user").order_by("user__first_name", "user__username"))
    page = {
        "shown": shown,
        "rows": read.rows,
        "on_page": set(shown),
        "table_rows": many("departures/rows.html", rows=read.rows),
        "axis": drawn,
        "windows": _windows(chosen, now.astimezone(zone).date()),
        "leave_later": ON_AXIS if read.are_more else 0,
        "rechecks": jobs.latest(RECHECKS, f"workspace:{workspace.pk}"),
        "stages": [(value, label, chosen.with_stage(value).query) for value, label in Mailing.Stage.choices],
        "every_stage": chosen.with_stage("").query,
        "kinds": KIND_CHOICES,
        "orders": [(name, words) for name, (words, _) in ORDERS.items()],
        "persons": [one.user for one in members],
        "reviewers": [one.user for one in members if one.deactivated_at is None and set(one.roles) & roles_for("review:look")],
        "chosen": chosen,
        "views": list(saved_views.views_for(request.user, workspace)),
        "stage": chosen.stage,
        "search": chosen.search,
        "now": now,
        "may_change": "mailing:change" in permissions_of(request.user, workspace),
        "may_configure": "workspace:configure" in permissions_of(request.user, workspace),
        "may_take_in": "mailing:take-in" in permissions_of(request.user, workspace),
        "is_busy": any(row.facts.is_busy for row in read.rows),
        "section": "departures",
    }
    return render(request, "departures/_list.html" if request.htmx else "departures/home.html", page)


@require_POST
@asks(send="mailing:view")
@once
def bulk(request: PersonRequest) -> HttpResponse:
    """Do one thing to the messages whose boxes are ticked."""
    numbers, act = whole_numbers(request.POST, "message"), request.POST.get("act", "")
    user, workspace, given = request.user, request.workspace, request.POST
    if act == "recheck":
        done = services.recheck_all(user, workspace, numbers)
        said = f"{counted(done.number, 'message')} checked again in the background."
    elif act in ("label", "unlabel"):
        label = given.get("label", "")
        done = services.label_all(user, workspace, numbers, label, is_on=act == "label")
        said = f"{counted(done.number, 'message')} {'with' if act == 'label' else 'without'} the label “{' '.join(label.split())}”."
    elif act == "give":
        to = next((one for one in _reviewers(workspace) if one.pk == whole_number(given, "person")), None)
        if to is None and given.get("person") != "nobody":
            raise Refused("Choose the person to whom the review is given.")
        done = services.give_all(user, workspace, numbers, to)
        said = f"{counted(done.number, 'message')} given to {to.shown_name if to is not None else 'nobody'} for review."
    elif act in ("deadline", "no-deadline"):
        until = _moment(given.get("until", ""), user) if act == "deadline" else None
        done = services.set_deadline_all(user, workspace, numbers, until)
        said = f"{counted(done.number, 'message')} {'with that deadline' if until is not None else 'without a deadline'} for review."
    elif act in ("later", "earlier"):
        days = whole_number(given, "days")
        done = services.move_all(user, workspace, numbers, days if act == "later" else -days)
        said = f"{counted(done.number, 'message')} planned {days} {'day' if days == 1 else 'days'} {act}."
    else:
        raise Refused("Choose what is to be done with the messages.")
    notices.success(request, said)
    for sentence in done.refused[:_MOST_TOLD]:
        notices.error(request, sentence)
    if len(done.refused) > _MOST_TOLD:
        notices.error(request, f"{len(done.refused) - _MOST_TOLD} more were refused.")
    return redirect(f"{reverse('departures')}?{Filter.of(QueryDict(request.POST.get('query', '')[:1000])).query}")


def _reviewers(workspace: Workspace) -> list[User]:
    """The people to whom a review may be given."""
    members = workspace.memberships.filter(deactivated_at=None, roles__overlap=[role.value for role in roles_for("review:look")])
    return [one.user for one in members.select_related("user").order_by("user__first_name", "user__username")]


def _moment(text: str, user: User) -> datetime:
    """A day with an hour, in the zone of the person who typed it.

    Raises:
        Refused: it is none.
    """
    try:
        found = parse_datetime(text[:20])
    except ValueError:
        found = None
    if found is None or not 1990 <= found.year <= 2190:
        raise Refused("Choose the day and the hour by which the review is to be done.")
    return found.replace(tzinfo=ZoneInfo(user.time_zone or "UTC"))


def counted(number: int, word: str) -> str:
    """A number with its word."""
    return f"1 {word} is" if number == 1 else f"{number} {word}s are"


def _windows(chosen: Filter, today: date) -> list[tuple[str, str, bool]]:
    """The windows of the axis from today on: words, the end of the address, and whether it is the one that is shown."""
    found = [("All", chosen.within(None, None).query, chosen.first is None and chosen.last is None)]
    for words, days in WINDOWS.values():
        first, last = today, today + timedelta(days=days - 1)
        found.append((words, chosen.within(first, last).query, (chosen.first, chosen.last) == (first, last)))
    return found


@require_POST
@asks(send="mailing:view")
@once
def keep_view(request: PersonRequest) -> HttpResponse:
    """Keep the filter that is shown under a name."""
    kept = saved_views.keep_view(
        request.user,
        request.workspace,
        request.POST.get("name", ""),
        request.POST.get("query", "")[:1000],
        is_shared=request.POST.get("shared") == "yes",
    )
    notices.success(request, f"The view “{kept.name}” is kept{' for all' if kept.is_shared else ''}.")
    return redirect(f"{reverse('departures')}?{kept.query}")


@require_POST
@asks(send="mailing:view")
@once
def drop_view(request: PersonRequest, view_id: int) -> HttpResponse:
    """Remove a view that was kept."""
    found = get_object_or_404(saved_views.views_for(request.user, request.workspace), pk=view_id)
    saved_views.drop_view(request.user, found)
    notices.success(request, f"The view “{found.name}” is removed.")
    return redirect("departures")
