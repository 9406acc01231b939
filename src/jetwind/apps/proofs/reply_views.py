"""The answer page, which a recipient of a test copy opens on a phone, without an account; and the photos of answers."""

from __future__ import annotations

import math
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods

from jetwind.apps.blobs import store
from jetwind.apps.previews.models import Render
from jetwind.apps.proofs import replies as services
from jetwind.apps.proofs.models import ReplyPhoto
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks


@login_not_required
@require_http_methods(["GET", "POST"])
@once
def reply(request: HttpRequest, token: str) -> HttpResponse:
    """Show the copy to its recipient, and take an answer. What was typed stands there again where it is refused."""
    link = services.link_of(token)
    if link is None or not link.is_open:
        sentence = "This link is not known, was withdrawn, or works no more; ask the sender of the test for another."
        return render(request, "ui/refused.html", {"sentence": sentence}, status=404)
    shown = services.render_for(link)
    page: dict[str, Any] = {
        "link": link,
        "mailing": None,
        "title": link.send.revision.mailing.title,
        "token": token,
        "render": shown,
        "said": request.POST,
        "devices": link.own_devices,
        "most_photos": services.MOST_PHOTOS,
        "wrong": "",
        "done": link.replies.prefetch_related("photos").last() if "answered" in request.GET else None,
    }
    if request.method == "POST":
        photos = request.FILES.getlist("photo")
        try:
            if len(photos) > services.MOST_PHOTOS:
                raise Refused(f"An answer has room for {services.MOST_PHOTOS} photos.")
            given = _given(request, shown)
            # An input for files that nobody filled in sends an empty one.
            services.answer(link, given, [photo.read() for photo in photos if photo.size])
            return redirect(f"{reverse('reply', args=[token])}?answered=1")
        except Refused as refused:
            page["wrong"] = refused.sentence
    return render(request, "proofs/reply.html", page, status=400 if page["wrong"] else 200)


def _given(request: HttpRequest, shown: Render | None) -> services.Given:
    """The entries of the form.

    Raises:
        Refused: it does not say whether the copy looks right.
    """
    verdict = request.POST.get("verdict")
    if verdict not in ("right", "wrong"):
        raise Refused("Say whether it looks right, or something is wrong.")
    left, top = _share(request, "left"), _share(request, "top")
    is_placed = left is not None and top is not None and shown is not None
    return services.Given(
        looks_right=verdict == "right",
        words=request.POST.get("words", ""),
        device=request.POST.get("other") or request.POST.get("device", ""),
        render=shown,
        left=left if is_placed else None,
        top=top if is_placed else None,
        client="".join(char for char in request.headers.get("User-Agent", "") if char.isprintable()),
    )


def _share(request: HttpRequest, name: str) -> float | None:
    """A place in per cent; None where there is none."""
    try:
        share = float(request.POST.get(name, "")[:20])
    except ValueError:
        return None
    return share if math.isfinite(share) and 0 <= share <= 100 else None


@login_not_required
@require_GET
def reply_render(request: HttpRequest, token: str) -> HttpResponse:
    """The picture on the answer page."""
    link = services.link_of(token)
    shown = services.render_for(link) if link is not None and link.is_open else None
    if shown is None:
        raise Http404("no picture")
    return _picture(shown.blob_sha256, shown.content_type)


@require_GET
@asks("workspace:view")
def reply_photo(request: PersonRequest, photo_id: int) -> HttpResponse:
    """A photo of an answer."""
    photo = get_object_or_404(ReplyPhoto, pk=photo_id, reply__link__send__mailing__workspace=request.workspace)
    return _picture(photo.blob_sha256, "image/jpeg")


def _picture(digest: str, content_type: str) -> HttpResponse:
    try:
        data = store.fetch(digest)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    response = HttpResponse(data, content_type=content_type)
    response["Cache-Control"] = "private, max-age=3600"
    return response
