"""Times are shown in the viewer's zone."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from jetwind.apps.accounts.models import User


def viewer_zone(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Set the time zone of the signed-in person for the length of a request."""

    def middleware(request: HttpRequest) -> HttpResponse:
        if isinstance(request.user, User):
            with timezone.override(request.user.zone):
                return get_response(request)
        return get_response(request)

    return middleware
