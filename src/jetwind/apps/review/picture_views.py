"""Acts on the pictures of a message: lighter files, choices among these, words that stand in pictures."""

from __future__ import annotations

from urllib.parse import urlencode

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.review import lighter_files, picture_words
from jetwind.apps.review.selectors import station_address
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks


@require_GET
@asks("mailing:view", works="long")
def look_at_picture(request: PersonRequest, mailing_id: int, number: int, fingerprint: str, side: str) -> HttpResponse:
    """A picture that could be lighter, before and after; the octets of a stranger's picture are never handed to a browser."""
    data = lighter_files.looked_at(revision_for(request.user, mailing_id, number), fingerprint, side)
    return _pixels(data)


@require_GET
@asks("mailing:view", works="long")
def look_at_file(request: PersonRequest, mailing_id: int, number: int, file_id: int, side: str) -> HttpResponse:
    """A picture, and a file that was made to choose from, in pixels of our own making."""
    data = lighter_files.file_looked_at(revision_for(request.user, mailing_id, number), file_id, side)
    return _pixels(data)


def _pixels(data: bytes | None) -> HttpResponse:
    """A PNG that was made here."""
    if data is None:
        raise Http404("no such picture")
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = "private, max-age=600"
    return response


@require_POST
@asks(send="mailing:change")
@once
def make_lighter_files(request: PersonRequest, mailing_id: int, number: int, picture: str) -> HttpResponse:
    """Have the files made that may stand for a picture."""
    revision = revision_for(request.user, mailing_id, number)
    lighter_files.ask_for_files(request.user, revision, picture)
    return redirect(f"{station_address(revision, 'images')}?picture={picture}#choice")


@require_POST
@asks(send="mailing:change")
def choose_file(request: PersonRequest, mailing_id: int, number: int, picture: str) -> HttpResponse:
    """Choose a file for a picture, or have it stay as it is."""
    revision = revision_for(request.user, mailing_id, number)
    chosen = request.POST.get("file", "")
    if chosen == "keep":
        lighter_files.choose(request.user, revision, picture, None)
    else:
        lighter_files.choose(request.user, revision, picture, whole_number(request.POST, "file") or 0)
    query = urlencode({"picture": picture} | ({"least": request.POST["least"]} if request.POST.get("least") else {}))
    return redirect(f"{station_address(revision, 'images')}?{query}#choice")


@require_GET
@asks("mailing:view", works=False)
def lighter_files_progress(request: PersonRequest, mailing_id: int, number: int, picture: str) -> HttpResponse:
    """How far the files of a picture are; once done, the page loads itself anew."""
    revision = revision_for(request.user, mailing_id, number)
    work = lighter_files.work_of(revision, picture)
    page = {
        "work": work,
        "revision": revision,
        "mailing": revision.mailing,
        "picture": picture,
        "is_fresh": work is None or not work.is_open,
    }
    return render(request, "review/_files_progress.html", page)


@require_POST
@asks(send="mailing:change", works="long")
@once
def put_lighter_in(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Make the next revision, with lighter pictures."""
    made, placed = lighter_files.put_lighter_in(request.user, revision_for(request.user, mailing_id, number))
    messages.success(
        request, f"Revision {made.number} has {'one lighter picture' if len(placed) == 1 else f'{len(placed)} lighter pictures'}."
    )
    return redirect(station_address(made, "images"))


@require_GET
@asks("mailing:view", works="long")
def lighter_pictures(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """The lighter files of all pictures that could be lighter, with a list, as a zip."""
    response = HttpResponse(lighter_files.lighter_files(revision_for(request.user, mailing_id, number)), content_type="application/zip")
    response["Content-Disposition"] = f'attachment; filename="message-{mailing_id}-r{number}-lighter.zip"'
    return response


@require_POST
@asks(send="review:look")
@once
def enter_words(request: PersonRequest, mailing_id: int, number: int, picture: str) -> HttpResponse:
    """Say which words stand in a picture."""
    revision = revision_for(request.user, mailing_id, number)
    picture_words.enter(request.user, revision, picture, request.POST.get("words", ""), request.POST.get("before", ""))
    messages.success(request, "Kept; the message is being checked again.")
    return redirect(f"{station_address(revision, 'images')}#pictures")
