"""A picture of a real screen beside the render of its copy."""

from __future__ import annotations

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods

from jetwind.apps.blobs import store
from jetwind.apps.proofs import screenshots
from jetwind.apps.proofs.models import ContentRender, Screenshot
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.core.profiles import profiles


@require_http_methods(["GET", "HEAD", "POST"])
@asks("mailing:view", send="proof:send")
@once
def screenshot(request: PersonRequest, screenshot_id: int) -> HttpResponse:
    """The picture and the render under the wiper, with the areas outlined that differ; a press says which client it shows."""
    found = _screenshot(request, screenshot_id)
    if request.method == "POST":
        screenshots.name_profile(request.user, found, request.POST.get("profile", ""))
        return redirect("screenshot", found.pk)
    shot = _render_of(found)
    page = {
        "one": found,
        "mailing": found.copy.send.mailing,
        "revision": found.copy.send.revision,
        "profile": profiles().get(found.profile),
        "profiles": [(name, profile.name) for name, profile in profiles().items()],
        "shot": shot,
        # In per cent of the render: where the screen lies on it, and the areas that differ.
        "areas": [_share(area, shot) for area in found.areas] if shot is not None else [],
        "where_most": screenshots.where_most(found),
        "may_name": "proof:send" in permissions_of(request.user, request.workspace),
        "section": "departures",
    }
    return render(request, "proofs/screenshot.html", page)


def _share(area: list[int], shot: ContentRender) -> tuple[float, float, float, float]:
    x, y, wide, tall = area
    return 100 * x / shot.width, 100 * y / shot.height, 100 * wide / shot.width, 100 * tall / shot.height


@require_GET
@asks("mailing:view")
def picture(request: PersonRequest, screenshot_id: int, which: str) -> HttpResponse:
    """The picture of the screen, or the render of the copy."""
    found = _screenshot(request, screenshot_id)
    shot = _render_of(found)
    digest, content_type = (found.blob_sha256, "image/jpeg") if which == "screen" else ("", "")
    if which == "copy" and shot is not None:
        digest, content_type = shot.blob_sha256, shot.content_type
    if not digest:
        raise Http404("no such picture")
    try:
        return HttpResponse(store.fetch(digest), content_type=content_type)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None


def _render_of(found: Screenshot) -> ContentRender | None:
    done = ContentRender.objects.filter(state=ContentRender.State.DONE, profile=found.profile)
    return done.filter(content_sha256=found.copy.copy_sha256).first()


def _screenshot(request: PersonRequest, number: int) -> Screenshot:
    rows = Screenshot.objects.select_related("copy__send__mailing__workspace", "copy__send__revision", "by")
    return get_object_or_404(rows, pk=number, copy__send__mailing__workspace=request.workspace)
