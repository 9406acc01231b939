"""Taking files in."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.intake import services
from jetwind.apps.intake.forms import DetailsForm, EnvelopeForm, PasteForm
from jetwind.apps.intake.selectors import mailing_for
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown, what_was_shown
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.models import FieldSyntax
from jetwind.core.message.package import LARGEST_INPUT


@require_POST
@asks(send="mailing:take-in", works=True)
@once
def take_in(request: PersonRequest) -> HttpResponse:
    """A file dropped on Departures: a new mailing."""
    data, name = _upload(request)
    mailing = services.take_in(request.user, request.workspace, data, name)
    messages.success(request, f"“{mailing.title}” is taken in as revision 1.")
    return redirect("newest", mailing.pk)


@require_http_methods(["GET", "POST"])
@asks("mailing:take-in", send="mailing:take-in", works=True)
@once
def paste(request: PersonRequest) -> HttpResponse:
    """Pasted source: a new mailing. What cannot be used comes back with everything typed."""
    form = PasteForm(request.POST or None, initial={"planned_zone": request.user.time_zone})
    if request.method == "POST" and form.is_valid():
        source = form.cleaned_data["source"]
        looks_like_mail = not source.lstrip().startswith("<")
        try:
            mailing = services.take_in(
                request.user,
                request.workspace,
                source.encode("utf-8", "surrogatepass"),
                "pasted.eml" if looks_like_mail else "pasted.html",
                details=form.details(),
                envelope=None if looks_like_mail else form.envelope(),
            )
        except Refused as refused:
            form.add_error("source", refused.sentence)
        else:
            return redirect("newest", mailing.pk)
    return render(request, "intake/paste.html", {"form": form, "section": "departures"}, status=400 if request.method == "POST" else 200)


@require_POST
@asks(send="mailing:change")
@once
def add_revision(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """Another file dropped on a mailing: its next revision."""
    mailing = mailing_for(request.user, mailing_id)
    data, name = _upload(request)
    revision = services.add_revision(request.user, mailing, data, name)
    messages.success(request, f"Revision {revision.number} is taken in.")
    return redirect("newest", mailing.pk)


@require_http_methods(["GET", "POST"])
@asks("mailing:change", send="mailing:change")
@once
def details(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """Title, kind, audience and planned time of a mailing."""
    mailing = mailing_for(request.user, mailing_id)
    from zoneinfo import ZoneInfo

    shown = mailing.planned_at.astimezone(ZoneInfo(mailing.planned_zone)).strftime("%Y-%m-%dT%H:%M") if mailing.planned_at else ""
    initial = {
        "title": mailing.title,
        "kind": mailing.kind,
        "audience": mailing.audience,
        "countries": ", ".join(mailing.countries),
        "planned": shown,
        "planned_zone": mailing.planned_zone,
        "local_time": mailing.local_time,
    }
    form = DetailsForm(request.POST or None, initial=initial)
    if kept(request, form, lambda shown: services.change_details(request.user, mailing, form.details(), shown)) is not None:
        return redirect("newest", mailing.pk)
    if request.method == "POST":
        mailing.refresh_from_db()
    page = {"form": form, "mailing": mailing, "shown": as_shown(services.shown_details(mailing)), "section": "departures"}
    return form_page(request, "intake/details.html", page)


@require_POST
@asks(send="mailing:change")
@once
def envelope(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """A changed envelope: a new revision with the same file."""
    mailing = mailing_for(request.user, mailing_id)
    form = EnvelopeForm(request.POST)
    if not form.is_valid():
        field, errors = next(iter(form.errors.items()))
        raise Refused(f"{str(field).replace('_', ' ').capitalize()}: {errors[0]}")
    try:
        revision = services.change_envelope(request.user, mailing, form.envelope(), what_was_shown(request.POST.get("shown", "")))
    except NotAllowed:
        raise
    except Refused as refused:
        # What was typed stays, to be kept all the same.
        form.add_error(None, refused.sentence)
        last = mailing.revisions.last()
        assert last is not None, "a mailing is made with its first revision"
        shown = as_shown(services.shown_envelope(last.given_envelope or form.envelope()))
        return render(
            request, "intake/envelope.html", {"form": form, "mailing": mailing, "shown": shown, "section": "departures"}, status=409
        )
    messages.success(request, f"Revision {revision.number} has the new envelope.")
    return redirect("station", mailing.pk, revision.number, "envelope")


@require_POST
@asks(send="mailing:change")
@once
def syntax(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """How the fields of a message are written."""
    mailing = mailing_for(request.user, mailing_id)
    chosen = whole_number(request.POST, "syntax", 0)
    row = get_object_or_404(FieldSyntax, pk=chosen, workspace=mailing.workspace) if chosen else None
    shown = whole_number(request.POST, "shown") if "shown" in request.POST else None
    services.set_syntax(request.user, mailing, row, shown=shown)
    messages.success(request, f"The fields are read as {row.name if row else 'Liquid'}. The message is checked and rendered again.")
    last = mailing.revisions.last()
    assert last is not None, "a mailing is made with its first revision"
    return redirect("station", mailing.pk, last.number, "fields")


@require_POST
@asks(send="mailing:copy")
@once
def copy(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """A new mailing that starts as a copy."""
    made = services.start_copy(request.user, mailing_for(request.user, mailing_id))
    messages.success(request, f"“{made.title}” is taken in; give it its own title.")
    return redirect("newest", made.pk)


@require_GET
@asks("mailing:view", works=False)
def newest(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """The Walkaround of the newest revision, at its first station."""
    last = mailing_for(request.user, mailing_id).revisions.last()
    assert last is not None, "a mailing is made with its first revision"
    return redirect("station", mailing_id, last.number, "envelope")


def _upload(request: PersonRequest) -> tuple[bytes, str]:
    file = request.FILES.get("file")
    if file is None:
        raise Refused("No file came along; choose an .eml, an .html or a .zip.")
    name = file.name or "message"
    if (file.size or 0) > LARGEST_INPUT:
        raise Refused(
            f"“{name}” is {(file.size or 0) / 1024 / 1024:.0f} MB; the largest that can be taken in is {LARGEST_INPUT // 1024 // 1024} MB."
        )
    return file.read(), name
