"""The other side of the desk: a helper process that carries a request out with its own connection to the database."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from http.cookies import SimpleCookie
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    from django.http import HttpRequest

    from jetwind.engines.bounded import Start

Answer = TypeVar("Answer")


@dataclass(frozen=True)
class Given:
    """The facts that a helper is told once: how the database is reached, and settings that the serving process has otherwise than its environment says."""

    database: dict[str, Any]
    settings: dict[str, Any]


@dataclass(frozen=True)
class DeskRequest:
    """A request as it is handed over: what it brought, and who sends it."""

    environment: dict[str, Any]
    post: Any
    files: tuple[tuple[str, str, str, bytes], ...]
    user: int
    workspace: int | None
    session: str | None

    @classmethod
    def of(cls, request: HttpRequest) -> DeskRequest:
        """From the request of a person who is signed in."""
        plain = {name: value for name, value in request.META.items() if isinstance(value, (str, bool, int))}
        files = tuple(
            (name, file.name or "", file.content_type or "", file.read()) for name in request.FILES for file in request.FILES.getlist(name)
        )
        chosen = getattr(request.user, "chosen_workspace", None)
        assert request.user.pk is not None
        return cls(plain, request.POST, files=files, user=request.user.pk, workspace=chosen, session=request.session.session_key)


@dataclass(frozen=True)
class Answered:
    """A response as it is handed back."""

    status: int
    reason: str
    headers: tuple[tuple[str, str], ...]
    cookies: SimpleCookie
    content: bytes


_is_ready = False


def is_helper() -> bool:
    """Whether this process is a helper of a desk."""
    return _is_ready


def carry_out(given: Given, asked: DeskRequest) -> Answered:
    """Call the view that a request is for, as the person who sent it.

    Raises:
        Exception: the exception of the view; one that cannot leave this process is told by its name and text.
    """
    _begin(given)
    from django.db import close_old_connections
    from django.http import Http404

    from jetwind.apps.ui.refusal import Refused

    close_old_connections()
    try:
        response = _answer(asked)
    except (Refused, Http404):
        raise
    except Exception as failure:
        import logging

        logging.getLogger(__name__).exception("a view failed at the desk", extra={"action": "desk.failed"})
        raise RuntimeError(f"{type(failure).__name__}: {failure}") from None
    content = b"".join(response) if response.streaming else response.content
    return Answered(response.status_code, response.reason_phrase, tuple(response.items()), response.cookies, content)


def carry_out_work(given: Given, work: Callable[..., Answer], *args: Any) -> Answer:
    """Call a function of a task, which may ask helpers of its own.

    Raises:
        Exception: whatever the function raises.
    """
    from jetwind.engines.bounded.helper import may_ask_helpers

    may_ask_helpers()
    _begin(given, start="fork")
    return work(*args)


class Made:
    """Something made of a message, handed to the helper that holds it."""

    def __init__(self, thing: Any) -> None:
        self.thing = thing


class MadeThere:
    """Something made of a message by the helper that holds it, at the first question about it."""

    def __init__(self, given: Given, make: Callable[..., Any], args: tuple[Any, ...]) -> None:
        self._given, self._make, self._args = given, make, args

    @cached_property
    def thing(self) -> Any:
        """The value that was made."""
        return carry_out_work(self._given, self._make, *self._args)


def ask_of(held: Made | MadeThere, question: Callable[..., Answer], *args: Any, **kwargs: Any) -> Answer:
    """The answer of a question about what a helper holds."""
    return question(held.thing, *args, **kwargs)


def _begin(given: Given, start: Start = "here") -> None:
    """Set Django up, once, with the settings of the serving process. ``start`` says how questions about a message are asked from here."""
    global _is_ready
    if _is_ready:
        return
    import django
    from django.apps import apps
    from django.conf import settings

    if not apps.ready:
        django.setup()
    for name, value in given.settings.items():
        setattr(settings, name, value)
    # This process is a bounded helper itself, and of one thread.
    settings.HELPERS_START = start
    from django.db import connections

    connections["default"].close()
    connections["default"].settings_dict.update(given.database)
    _is_ready = True


def _answer(asked: DeskRequest) -> Any:
    from importlib import import_module

    from django.conf import settings
    from django.contrib.messages.storage import default_storage
    from django.core.files.uploadedfile import SimpleUploadedFile
    from django.core.handlers.wsgi import WSGIRequest
    from django.urls import resolve
    from django.utils import timezone
    from django.utils.datastructures import MultiValueDict
    from django_htmx.middleware import HtmxDetails

    from jetwind.apps.accounts.models import User

    request = WSGIRequest(
        {**asked.environment, "wsgi.input": io.BytesIO(), "wsgi.url_scheme": asked.environment.get("wsgi.url_scheme", "http")}
    )
    request._post = asked.post  # type: ignore[attr-defined]
    files: MultiValueDict[str, Any] = MultiValueDict()
    for field, name, content_type, data in asked.files:
        files.appendlist(field, SimpleUploadedFile(name, data, content_type))
    request._files = files  # type: ignore[attr-defined]
    user = User.objects.get(pk=asked.user)
    user.chosen_workspace = asked.workspace
    request.user = user
    request.session = import_module(settings.SESSION_ENGINE).SessionStore(asked.session)
    request.htmx = HtmxDetails(request)  # type: ignore[attr-defined]
    request._messages = default_storage(request)  # type: ignore[attr-defined]
    request.resolver_match = match = resolve(request.path_info)
    with timezone.override(user.zone):
        response = match.func(request, *match.args, **match.kwargs)
        if hasattr(response, "render") and callable(response.render):
            response = response.render()
    request._messages.update(response)  # type: ignore[attr-defined]
    if request.session.modified:
        request.session.save()
    return response
