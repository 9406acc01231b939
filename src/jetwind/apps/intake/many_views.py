"""The pages of taking in many messages at once."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.intake import many
from jetwind.apps.intake.models import Batch
from jetwind.apps.jobs import services as jobs
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks


@require_http_methods(["GET", "POST"])
@asks("mailing:take-in", send="mailing:take-in", works=False)
@once
def bring(request: PersonRequest) -> HttpResponse:
    """The form for a zip, a folder or several files; what came lately stands below."""
    if request.method == "POST":
        files = request.FILES.getlist("files")
        if sum(file.size or 0 for file in files) > many.LARGEST:
            raise Refused(f"The files have more than {many.LARGEST // 1024 // 1024} MB together.")
        made = many.bring(request.user, request.workspace, [(file.name or "message", file.read()) for file in files])
        return redirect("batch", made.pk)
    lately = Batch.objects.filter(workspace=request.workspace).select_related("by").order_by("-pk")[:20]
    page = {"batches": lately, "largest": many.LARGEST // 1024 // 1024, "most": many.MOST, "section": "departures"}
    return render(request, "intake/many.html", page)


@require_GET
@asks("mailing:take-in", works=False)
def batch(request: PersonRequest, batch_id: int) -> HttpResponse:
    """How far a batch is, and a line for each file."""
    found = get_object_or_404(Batch.objects.select_related("by"), pk=batch_id, workspace=request.workspace)
    work = jobs.latest(many.BATCH, f"batch:{found.pk}")
    files = list(found.files.select_related("mailing").order_by("number"))
    page = {
        "batch": found,
        "work": work,
        "files": files,
        "taken": sum(one.mailing_id is not None for one in files),
        "refused": sum(bool(one.refused) for one in files),
        "section": "departures",
    }
    return render(request, "intake/batch.html", page)


@require_POST
@asks(send="mailing:take-in", works=False)
@once
def go_on(request: PersonRequest, batch_id: int) -> HttpResponse:
    """Stop a batch that is under way, or go on with one that was stopped."""
    found = get_object_or_404(Batch, pk=batch_id, workspace=request.workspace)
    work = jobs.latest(many.BATCH, f"batch:{found.pk}")
    if request.POST.get("do") == "cancel":
        if work is not None:
            jobs.cancel(work)
        messages.success(request, "It stops after the file that is being taken in. What is taken in stays.")
    else:
        many.ask(found)
    return redirect("batch", found.pk)
