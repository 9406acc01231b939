"""A request that cannot be met: one sentence for the person, nothing half-done, no traceback."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from django.contrib import messages
from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from jetwind.apps.ui.given import came_from
from jetwind.core.errors import JetwindError


class Refused(JetwindError):
    """Something was asked that the state or the rules do not allow; the text says what, why, and what to do.

    ``address`` is where the person should be taken; without it, back to where they came from.
    """

    def __init__(self, sentence: str, address: str | None = None) -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.address = address


class NotAllowed(Refused):
    """The person's role does not include this."""


@contextmanager
def refusing(constraint: str, sentence: str) -> Iterator[None]:
    """A transaction that refuses with ``sentence`` where the database says that its constraint of this name would be broken.

    Raises:
        Refused: that constraint would be broken; nothing is kept.
        IntegrityError: another one would be, which is a fault of ours.
    """
    try:
        with transaction.atomic():
            yield
    except IntegrityError as error:
        told = getattr(error.__cause__, "diag", None)
        if told is None or told.constraint_name != constraint:
            raise
        raise Refused(sentence) from None


class refusals:
    """Middleware: a refused POST goes back to the page it came from with the sentence; a refused GET shows it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Pass the request on."""
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, exception: Exception) -> HttpResponse | None:
        """Turn a refusal into an answer."""
        if not isinstance(exception, Refused):
            return None
        status = 403 if isinstance(exception, NotAllowed) else 409
        back = exception.address or came_from(request)
        if request.method == "POST" and back:
            messages.error(request, exception.sentence)
            return redirect(back)
        return render(request, "ui/refused.html", {"sentence": exception.sentence}, status=status)
