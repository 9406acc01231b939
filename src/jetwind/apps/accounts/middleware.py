"""What stays with each request: the time zone in which its person sees times, and the workspace that the person chose."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from jetwind.apps.accounts.models import User

#: Where the session keeps the workspace that the person works in.
CHOSEN_WORKSPACE = "workspace"


def viewer_zone(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Set the time zone and the workspace of the signed-in person for the length of a request."""

    def middleware(request: HttpRequest) -> HttpResponse:
        if isinstance(request.user, User):
            request.user.chosen_workspace = request.session.get(CHOSEN_WORKSPACE)
            with timezone.override(request.user.zone):
                return get_response(request)
        return get_response(request)

    return middleware
