"""One intent is one act: a form that is sent twice is carried out once.

Every form that changes something carries a key, made with the page. The first request with a key holds a row of the database until its
transaction ends; a second one waits for it, finds the row, and is taken to where the first one led. What was refused, or came back to be
mended, has not used its key.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import timedelta
from functools import wraps
from typing import Concatenate, ParamSpec, TypeVar

from django.contrib import messages
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.utils import timezone

from jetwind.apps.ui.models import Intent

Rest = ParamSpec("Rest")
#: The kind of request that a view takes.
Request = TypeVar("Request", bound=HttpRequest)
View = Callable[Concatenate[Request, Rest], HttpResponse]

_KEY = re.compile(r"[0-9a-f-]{36}", re.ASCII)
#: How long a key is remembered: a page may lie open over a weekend.
KEPT = timedelta(days=30)


def once(view: View[Request, Rest]) -> View[Request, Rest]:
    """Around a view that changes something. A request without a key is an intent of its own."""

    @wraps(view)
    def carry_out(request: Request, /, *args: Rest.args, **kwargs: Rest.kwargs) -> HttpResponse:
        given = request.POST.get("intent", "") if request.method == "POST" else ""
        if not _KEY.fullmatch(given):
            return view(request, *args, **kwargs)
        with transaction.atomic():
            intent, is_first = Intent.objects.get_or_create(key=f"{request.user.pk}:{given}")
            if not is_first:
                messages.info(request, "This was sent twice; it was done once.")
                return redirect(intent.address or "departures")
            response = view(request, *args, **kwargs)
            if response.status_code >= 400:
                transaction.set_rollback(True)
            else:
                Intent.objects.filter(pk=intent.pk).update(address=response.get("Location", "")[:2000])
        return response

    carry_out.is_once = True  # type: ignore[attr-defined]
    return carry_out


def forget_old() -> None:
    """Delete the keys of long ago."""
    Intent.objects.filter(at__lt=timezone.now() - KEPT).delete()
