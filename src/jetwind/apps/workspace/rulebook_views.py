"""The screens of the house's own rulebooks, and of what signs and sends its mail."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_http_methods

from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.workspace import rulebooks as services
from jetwind.apps.workspace.access import PersonRequest, asks, may
from jetwind.apps.workspace.forms import RulebookForm, SigningForm
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import rulebooks as shipped


@require_GET
@asks("workspace:view")
def rulebooks(request: PersonRequest) -> HttpResponse:
    """The house's own rulebooks, and the demands of those that ship, each with its source."""
    workspace = request.workspace
    page = {
        "own": [(book, sorted(book.kinds), sorted(book.countries)) for book in services.rulebooks_of(workspace)],
        "shipped": [(book, not workspace.rulebooks or book.id in workspace.rulebooks) for book in shipped().values()],
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return render(request, "workspace/rulebooks.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def rulebook(request: PersonRequest, book_id: str = "") -> HttpResponse:
    """Write a rulebook, change it, or take it out."""
    workspace = request.workspace
    book = _kept(workspace, book_id)
    if request.method == "POST" and book_id and request.POST.get("do") == "remove":
        gone = services.remove_rulebook(request.user, workspace, book_id)
        messages.success(request, f"{gone} is removed." if gone else "It was removed before.")
        return redirect("rulebooks")
    form = RulebookForm(request.POST or None, initial=RulebookForm.initial_of(book))
    done = kept(request, form, lambda shown: services.keep_rulebook(request.user, workspace, form.given(), book_id, shown))
    if done is not None:
        messages.success(request, f"{done.value.name} is kept. Messages that it holds for are checked again.")
        return redirect("rulebooks")
    if request.method == "POST":
        workspace.refresh_from_db()
        book = _kept(workspace, book_id)
    page = {
        "form": form,
        "kept": book,
        "shown": as_shown(book),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "workspace/rulebook.html", page)


def _kept(workspace: Workspace, book_id: str) -> dict[str, Any] | None:
    """A rulebook as it is kept; None for a new one."""
    if not book_id:
        return None
    found = next((one for one in workspace.house_rulebooks if one["id"] == book_id), None)
    if found is None:
        raise Http404("no such rulebook")
    return dict(found)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def signing(request: PersonRequest) -> HttpResponse:
    """The page of who signs and sends the house's mail: asked once, and answered for every message that is not signed yet."""
    workspace = request.workspace
    now = {name: workspace.signing.get(name, "") for name in services.SIGNING}
    form = SigningForm(request.POST or None, initial=now)
    if kept(request, form, lambda shown: services.say_what_signs(request.user, workspace, form.cleaned_data, shown or now)) is not None:
        messages.success(request, "Kept. The name records are asked again, and messages are checked by them.")
        return redirect("settings")
    now = {name: request.workspace.signing.get(name, "") for name in services.SIGNING}
    page = {
        "form": form,
        "shown": as_shown(now),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "workspace/signing.html", page)
