"""The screens of the test lists."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.proofs import test_lists as services
from jetwind.apps.proofs.forms import PersonForm
from jetwind.apps.proofs.models import TestAddress, TestList
from jetwind.apps.proofs.reach import practice_boxes
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, may

#: Octets of a file of people.
_LARGEST_FILE = 500_000
#: Media types of the forms in which a list is saved.
_FORMS = {"csv": "text/csv; charset=utf-8; header=present", "vcf": "text/vcard; charset=utf-8"}


@require_GET
@asks("workspace:view")
def test_lists(request: PersonRequest) -> HttpResponse:
    """The test lists of the workspace."""
    workspace = request.workspace
    page = {
        "lists": workspace.test_lists.prefetch_related("addresses__reader").order_by("id"),
        "readers": workspace.readers.all(),
        "workspace": workspace,
        "boxes": practice_boxes(workspace),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return render(request, "proofs/test_lists.html", page)


@require_POST
@asks(send="workspace:configure")
@once
def add_list(request: PersonRequest) -> HttpResponse:
    """Make a test list."""
    made = services.add_list(request.user, request.workspace, request.POST.get("name", ""))
    messages.success(request, f"“{made.name}” is made; put people on it.")
    return redirect("test-lists")


@require_POST
@asks(send="workspace:configure")
@once
def make_usual(request: PersonRequest, list_id: int) -> HttpResponse:
    """Have the form for a new test send begin with a list."""
    test_list = _list(request, list_id)
    services.make_usual(request.user, test_list)
    messages.success(request, f"“{test_list.name}” is the usual test list.")
    return redirect("test-lists")


@require_POST
@asks(send="workspace:configure")
@once
def add_person(request: PersonRequest, list_id: int) -> HttpResponse:
    """Put a person on a test list."""
    test_list = _list(request, list_id)
    added = services.add_person(request.user, test_list, _person(request, request.POST.get("address", "")))
    messages.success(request, f"{added.address} is on “{test_list.name}”.")
    return redirect("test-lists")


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def person(request: PersonRequest, address_id: int) -> HttpResponse:
    """Say of a person of a list another name, another reader or other devices."""
    entry = get_object_or_404(
        TestAddress.objects.select_related("list__workspace", "reader"), pk=address_id, list__workspace=request.workspace
    )
    form = PersonForm(request.POST or None, initial=services.shown(entry), workspace=request.workspace)
    done = kept(request, form, lambda shown: services.change_person(request.user, entry, form.given(), shown))
    if done is not None:
        messages.success(request, f"{entry.address} is kept.")
        return redirect("test-lists")
    page = {
        "entry": entry,
        "form": form,
        "shown": as_shown(services.shown(entry)),
        "may_configure": may(request.user, "workspace:configure", request.workspace),
        "section": "settings",
    }
    return form_page(request, "proofs/test_person.html", page)


@require_POST
@asks(send="workspace:configure")
@once
def remove_address(request: PersonRequest, address_id: int) -> HttpResponse:
    """Take an address off a test list."""
    entry = get_object_or_404(TestAddress, pk=address_id, list__workspace=request.workspace)
    services.remove_address(request.user, entry)
    return redirect("test-lists")


@require_POST
@asks(send="workspace:configure")
@once
def take_in(request: PersonRequest, list_id: int) -> HttpResponse:
    """Put the people of a file on a list."""
    test_list = _list(request, list_id)
    file = request.FILES.get("file")
    if file is None:
        raise Refused("Choose a CSV or vCard file first.")
    if (file.size or 0) > _LARGEST_FILE:
        raise Refused(f"“{file.name}” has {file.size:,} octets; a list of colleagues has a few thousand.")
    added, there = services.take_in_people(request.user, test_list, file.read())
    said = f"1 person is on “{test_list.name}”." if added == 1 else f"{added} people are on “{test_list.name}”."
    messages.success(request, f"New: {said}" + (f" Already there, and left as they were: {there}." if there else ""))
    return redirect("test-lists")


@require_GET
@asks("workspace:view")
def save(request: PersonRequest, list_id: int) -> HttpResponse:
    """The people of a list as a file."""
    form = request.GET.get("form", "csv")
    if form not in _FORMS:
        raise Http404("no such form")
    test_list = _list(request, list_id)
    answer = HttpResponse(services.as_file(test_list, form), content_type=_FORMS[form])
    answer["Content-Disposition"] = f'attachment; filename="{slugify(test_list.name) or "test-list"}.{form}"'
    return answer


def _list(request: PersonRequest, list_id: int) -> TestList:
    return get_object_or_404(TestList.objects.select_related("workspace"), pk=list_id, workspace=request.workspace)


def _person(request: PersonRequest, address: str) -> services.Person:
    number = whole_number(request.POST, "reader")
    reader = request.workspace.readers.filter(pk=number).first() if number else None
    return services.Person(address, request.POST.get("name", ""), reader, request.POST.get("devices", ""))
