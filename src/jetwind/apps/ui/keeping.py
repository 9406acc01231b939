"""A form that keeps what exists: what a service refuses stands in the form, and what was typed is not lost."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, Protocol, TypeVar

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from jetwind.apps.ui.merging import what_was_shown
from jetwind.apps.ui.refusal import NotAllowed, Refused

Value = TypeVar("Value")


class TakesErrors(Protocol):
    """The functions that the keeper of a form needs."""

    def is_valid(self) -> bool:
        """Whether every entry can be read."""

    def add_error(self, field: Any, error: Any) -> None:
        """Say what is wrong beside an entry, or beside all of them."""


@dataclass
class Entries:
    """Entries that make no form of Django's, such as a table; ``wrong`` is the sentence that is shown beside them."""

    wrong: str = ""

    def is_valid(self) -> bool:
        """The service judges the entries."""
        return True

    def add_error(self, field: Any, error: Any) -> None:
        """Say what is wrong."""
        self.wrong = str(error)


@dataclass(frozen=True, slots=True)
class Kept(Generic[Value]):
    """The answer of a service that kept a form."""

    value: Value


def kept(
    request: HttpRequest,
    form: TakesErrors,
    keep: Callable[[Any], Value],
    *,
    field: Callable[[str], str | None] = lambda sentence: None,
    is_sent: bool = True,
) -> Kept[Value] | None:
    """Have a service keep a form that was sent; None where none was, an entry is wrong, or the service refuses it.

    ``keep`` is given the values that the page showed. What the service refuses is said in the form, at the entry that ``field`` names for the
    sentence, or at none. ``is_sent`` is False where the page has another form, and that one was sent.

    Raises:
        NotAllowed: the person may not.
    """
    if request.method != "POST" or not is_sent or not form.is_valid():
        return None
    try:
        return Kept(keep(what_was_shown(request.POST.get("shown", ""))))
    except NotAllowed:
        raise
    except Refused as refused:
        form.add_error(field(refused.sentence), refused.sentence)
        return None


def form_page(request: HttpRequest, template: str, page: dict[str, Any]) -> HttpResponse:
    """The page of a form: an answer to a form that was sent and not kept has the status 400."""
    return render(request, template, page, status=400 if request.method == "POST" else 200)
