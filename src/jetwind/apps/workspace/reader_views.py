"""The screen of sample readers, and files of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import readers as services
from jetwind.apps.workspace.access import PersonRequest, asks, may
from jetwind.apps.workspace.forms import ReaderForm
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.core.readers import FORMATS, awkward_readers, written

_LARGEST_FILE = 2_000_000


@require_GET
@asks("workspace:view")
def readers(request: PersonRequest) -> HttpResponse:
    """Sample readers × fields."""
    workspace = request.workspace
    rows = [(reader, [reader.values.get(name) for name in workspace.field_list]) for reader in workspace.readers.all()]
    page = {
        "workspace": workspace,
        "rows": rows,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "most_of_a_file": workspace.readers_of_a_file,
        "awkward": awkward_readers(["first_name"]),
        "section": "readers",
    }
    return render(request, "workspace/readers.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure", works=True)
@once
def reader(request: PersonRequest, reader_id: int | None = None) -> HttpResponse:
    """Add, change or remove a sample reader."""
    workspace = request.workspace
    found = get_object_or_404(SampleReader, pk=reader_id, workspace=workspace) if reader_id else _new_reader(request, workspace)
    if request.method == "POST" and reader_id and request.POST.get("do") == "remove":
        services.remove_reader(request.user, found)
        messages.success(request, f"{found.name} is removed. Messages that it touches are checked again.")
        return redirect("readers")
    # Read before the form, which writes what was typed into the reader.
    shown = services.shown_reader(found)
    form = ReaderForm(request.POST or None, instance=found, workspace=workspace)
    done = kept(
        request,
        form,
        lambda before: services.keep_reader(request.user, form.save(commit=False), before),
        field=lambda sentence: "name" if "There is a reader" in sentence else None,
    )
    if done is not None:
        messages.success(request, f"{done.value.name} is kept. Messages that it touches are checked again.")
        return redirect("readers")
    return form_page(
        request,
        "workspace/reader.html",
        {
            "form": form,
            "reader": found,
            "shown": as_shown(shown) if reader_id else "",
            "section": "readers",
            "may_configure": may(request.user, "workspace:configure", workspace),
            "messages_of": [row for tell in messages_of for row in tell(found)] if reader_id else [],
        },
    )


def _new_reader(request: PersonRequest, workspace: Workspace) -> SampleReader:
    """An empty reader, or one with the values of another that it is copied from."""
    source = workspace.readers.filter(pk=whole_number(request.GET, "from")).first()
    if source is None:
        return SampleReader(workspace=workspace)
    source.pk, source._state.adding = None, True
    source.name = f"{source.name[:110]}, copy"
    return source


#: What apps above know of a reader's copies: a message's title, its subject as they get it, and where it can be seen.
messages_of: list[Callable[[SampleReader], list[tuple[str, str, str]]]] = []


@require_POST
@asks(send="workspace:configure")
@once
def add_awkward(request: PersonRequest) -> HttpResponse:
    """Add the readers that are awkward on purpose."""
    _say(request, services.add_awkward(request.user, request.workspace))
    return redirect("readers")


@require_POST
@asks(send="workspace:configure")
@once
def take_in(request: PersonRequest) -> HttpResponse:
    """Add the readers of a file."""
    mask = request.POST.get("mask") == "on"
    headings, fields = request.POST.getlist("heading"), request.POST.getlist("field")
    columns = dict(zip(headings, fields, strict=False))
    _say(request, services.take_in_readers(request.user, request.workspace, _sent(request), mask=mask, columns=columns))
    return redirect("readers")


@require_POST
@asks(send="workspace:configure")
def preview(request: PersonRequest) -> HttpResponse:
    """The columns of a file with its first rows, to say what each is taken for; nothing of the file is kept."""
    page: dict[str, Any]
    try:
        page = {"preview": services.preview(request.user, request.workspace, _sent(request))}
    except NotAllowed:
        raise
    except Refused as refused:
        page = {"refused": refused.sentence}
    return render(request, "workspace/_columns.html", page)


def _sent(request: PersonRequest) -> bytes:
    file = request.FILES.get("file")
    if file is None:
        raise Refused("Choose a CSV, vCard or JSON file first.")
    if (file.size or 0) > _LARGEST_FILE:
        raise Refused(f"“{file.name}” has {file.size:,} octets; a file of sample readers has a few thousand.")
    return file.read()


def _say(request: PersonRequest, added: services.Added) -> None:
    read = f" ({added.form})" if added.form else ""
    said = "1 reader is added" if added.number == 1 else f"{added.number} readers are added"
    kept = f" Already there, and left as they were: {', '.join(added.kept[:5])}{' …' if len(added.kept) > 5 else ''}." if added.kept else ""
    left = ""
    if added.left_out:
        is_all = added.number + len(added.kept) < 50
        left = f" The other {added.left_out:,} of the file {'show nothing that these do not' if is_all else 'are left out'}."
    messages.success(request, f"{said}{read}.{left}{kept}")


@require_GET
@asks("workspace:view")
def save(request: PersonRequest) -> HttpResponse:
    """All sample readers as a file."""
    form = request.GET.get("form", "csv")
    if form not in FORMATS:
        raise Http404("no such form")
    workspace = request.workspace
    answer = HttpResponse(written(services.as_samples(workspace), form), content_type=FORMATS[form][0])
    answer["Content-Disposition"] = f'attachment; filename="{slugify(workspace.name) or "workspace"}-readers.{form}"'
    return answer
