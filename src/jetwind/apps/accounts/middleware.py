"""What a request knows of its person: the zone in which times are shown, and the workspace that was chosen."""

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
