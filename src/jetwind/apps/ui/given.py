"""Reading what a request brings: numbers and words that may be anything."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import render
from django.utils.http import url_has_allowed_host_and_scheme

#: The digits of the largest key that PostgreSQL's bigint holds.
_MOST_DIGITS = 18


def whole_number(values: QueryDict, name: str, otherwise: int = 0) -> int:
    """A whole number in ASCII digits; ``otherwise`` where there is none, or one too long for any key or count of ours."""
    text = values.get(name, "")
    return int(text) if text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS else otherwise


def whole_numbers(values: QueryDict, name: str, most: int = 1_000) -> set[int]:
    """The whole numbers among the first ``most`` values of a name, as :func:`whole_number` reads them; what is no number is left out."""
    given = values.getlist(name)[:most]
    return {int(text) for text in given if text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS}


def came_from(request: HttpRequest) -> str | None:
    """The page of ours that a request came from, or None where it names none, or another site's."""
    address = request.headers.get("Referer", "")
    is_ours = url_has_allowed_host_and_scheme(address, {request.get_host()}, require_https=request.is_secure())
    return address if is_ours else None


def was_pressed(request: HttpRequest) -> bool:
    """Whether a person's press on a page of ours led here (W3C Fetch Metadata Request Headers, §2.3 and §2.4; from memory).

    Such a page may ask at once for what it lacks. Opened by its address, it asks for nothing before somebody presses a button.
    """
    return request.headers.get("Sec-Fetch-User") == "?1" and request.headers.get("Sec-Fetch-Site") == "same-origin"


def form_in_utf8(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: a form in another charset than UTF-8, which no page of ours asks for, is refused before anything reads it."""

    def middleware(request: HttpRequest) -> HttpResponse:
        charset = (request.content_params or {}).get("charset", "utf-8").strip("\"' ").lower()
        if request.method == "POST" and charset not in ("utf-8", "utf8"):
            request.encoding = "utf-8"
            sentence = f"This form came in the charset “{charset[:40]}”; Jetwind reads forms in UTF-8."
            return render(request, "ui/refused.html", {"sentence": sentence}, status=400)
        return get_response(request)

    return middleware


def no_nul(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: a NUL, which no text of the database can hold and no keyboard makes, is refused with its place."""

    def middleware(request: HttpRequest) -> HttpResponse:
        for values in (request.GET, request.POST):
            for name, texts in values.lists():
                if "\0" in name or any("\0" in text for text in texts):
                    shown = name.replace("\0", "")[:60]
                    return render(request, "ui/refused.html", {"sentence": f"“{shown}” holds a NUL character; take it out."}, status=400)
        return get_response(request)

    return middleware


def kept_private(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: pages of people who are signed in are kept by no cache, unless a view says otherwise."""

    def middleware(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        if request.user.is_authenticated and not response.has_header("Cache-Control"):
            response["Cache-Control"] = "private, no-store"
        return response

    return middleware


def typed_lines(text: str) -> str:
    """What a person typed, with its line ends: printable characters, without blanks at the ends of lines."""
    lines = ("".join(char if char.isprintable() else " " for char in line).strip() for line in text.splitlines())
    return "\n".join(lines).strip()
