"""The screens of field syntaxes, with a tester that reads a line while one types."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods

from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.workspace import syntaxes as services
from jetwind.apps.workspace.access import PersonRequest, asks, may
from jetwind.apps.workspace.forms import SyntaxForm
from jetwind.apps.workspace.models import FieldSyntax
from jetwind.core.fields import LIQUID, UnusableSyntax, described, tried

_SAMPLE = "Dear {{ first_name | default: 'friend' }}, {% if member %}your slot waits{% else %}come and see{% endif %}."
#: Characters of the line that is tried.
_LONGEST_LINE = 500


@require_GET
@asks("workspace:view")
def syntaxes(request: PersonRequest) -> HttpResponse:
    """The syntaxes of the house, the shipped one first."""
    workspace = request.workspace
    page = {
        "rows": [(row, row.syntax) for row in workspace.syntaxes.all()],
        "shipped": services.shipped_syntax(workspace),
        "shipped_pieces": tried(_SAMPLE, LIQUID),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return render(request, "workspace/syntaxes.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def syntax(request: PersonRequest, syntax_id: int | None = None) -> HttpResponse:
    """Describe a syntax, change it, or take it out."""
    workspace = request.workspace
    row = get_object_or_404(FieldSyntax, pk=syntax_id, workspace=workspace) if syntax_id else None
    form = SyntaxForm(request.POST or None, initial=SyntaxForm.initial_of(row))
    if request.method == "POST" and row is not None and request.POST.get("do") == "remove":
        services.remove_syntax(request.user, row)
        messages.success(request, f"{row.name} is removed.")
        return redirect("syntaxes")
    done = kept(request, form, lambda shown: services.keep_syntax(request.user, workspace, form.description(), row, shown))
    if done is not None:
        messages.success(request, f"{done.value.name} is kept. Messages that are written in it are checked again.")
        return redirect("syntaxes")
    if row is not None and request.method == "POST":
        row.refresh_from_db()
    page = {
        "form": form,
        "row": row,
        "shown": as_shown(services.entries(row.description)) if row is not None else "",
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    } | _tried(form.description_of(request.POST if request.method == "POST" else form.initial), request.POST.get("line", ""))
    return form_page(request, "workspace/syntax.html", page)


@require_GET
@asks("workspace:view")
def try_syntax(request: PersonRequest) -> HttpResponse:
    """How a line is read by the syntax as it stands in the form, kept or not."""
    return render(request, "workspace/_tried.html", _tried(SyntaxForm.description_of(request.GET), request.GET.get("line", "")))


def _tried(description: dict[str, Any], line: str) -> dict[str, Any]:
    """The pieces of a line, or the sentence of what makes no syntax."""
    try:
        syntax = described({"name": "Untitled", **{key: value for key, value in description.items() if value}})
    except UnusableSyntax as unusable:
        return {"line": line, "unusable": str(unusable), "pieces": []}
    if not line:
        line = _line_in(syntax.open_mark, syntax.close_mark, syntax.default_mark, description)
    return {"line": line, "unusable": "", "pieces": tried(line[:_LONGEST_LINE], syntax)}


def _line_in(opening: str, closing: str, default: str, description: dict[str, Any]) -> str:
    """A line to begin with, in the syntax's own marks."""
    words = {key: str(description.get(key) or "").split() for key in ("if", "else", "end")}
    before, after = description.get("block-open") or opening, description.get("block-close") or closing
    line = f"Dear {opening}first_name{default + 'friend' if default else ''}{closing}, "
    if words["if"] and words["end"]:
        middle = f"{before}{words['else'][0]}{after}come and see" if words["else"] else ""
        line += f"{before}{words['if'][0]} member{after}your slot waits{middle}{before}{words['end'][0]}{after}."
    return line
