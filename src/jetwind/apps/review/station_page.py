"""The parts of a station of the Walkaround, and the view that shows them.

Each station stands in a module of its own, ``stations/<slug>.py`` of the app that owns the station, as ``STATION``: a page, its template,
the work that the page waits for, and further addresses. A tool of a station stands beside it in the same way, as ``TOOL``; the station's page
leads to it. The modules are found when the addresses are read, so a new station or tool is its module and its template.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from functools import lru_cache
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

from django.apps import apps
from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.urls import URLPattern, URLResolver, include, path
from django.views.decorators.http import require_GET

from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.frame import Frame, frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.workspace.access import PersonRequest, asks

#: Every address of a station begins with that of the revision.
OF_A_REVISION = "mailings/<int:mailing_id>/r<int:number>/"


@dataclass(frozen=True, slots=True)
class Progress:
    """The kinds of work that a page waits for, and the template that tells how far they are: it reads them from ``works``, by kind."""

    kinds: tuple[str, ...]
    template: str


@dataclass(frozen=True, slots=True)
class StationPage:
    """One station.

    ``page`` makes a value, a data class whose fields the template finds by their names beside those of the frame; None where there is nothing
    to show. ``template`` may be chosen by that value. ``fragment`` is the template of the part that htmx renews from the station's own address.
    The addresses of ``routes`` stand below that of the revision.
    """

    slug: str
    template: str | Callable[[Any], str]
    page: Callable[[PersonRequest, Frame], Any]
    fragment: str = ""
    progress: Progress | None = None
    routes: tuple[URLPattern, ...] = ()

    @property
    def station(self) -> str:
        """The slug of the station around which the page is shown."""
        return self.slug

    def template_for(self, value: Any) -> str:
        """The template that shows a value."""
        return self.template if isinstance(self.template, str) else self.template(value)


@dataclass(frozen=True, slots=True)
class Tool:
    """A page of its own that a station leads to. ``station`` is the slug of that station, ``label`` the words of the link; the rest as for a station."""

    slug: str
    station: str
    label: str
    template: str
    page: Callable[[PersonRequest, Frame], Any]
    routes: tuple[URLPattern, ...] = ()

    fragment: str = field(default="", init=False)
    progress: Progress | None = field(default=None, init=False)

    def template_for(self, value: Any) -> str:
        """The template that shows a value."""
        return self.template


@lru_cache(maxsize=1)
def pages() -> dict[str, StationPage | Tool]:
    """Every station and every tool by its slug."""
    found: dict[str, StationPage | Tool] = {}
    for config in apps.get_app_configs():
        if config.name.startswith("jetwind.") and any(one.name == "stations" for one in iter_modules([config.path])):
            package = import_module(f"{config.name}.stations")
            modules = [import_module(f"{package.__name__}.{one.name}") for one in iter_modules(package.__path__)]
            declared = [getattr(module, "STATION", None) or module.TOOL for module in modules]
            found |= {one.slug: one for one in declared}
    return found


def routes() -> list[URLPattern | URLResolver]:
    """The addresses of all stations: those of their tools first, which are more precise."""
    own = [route for one in pages().values() for route in one.routes]
    return [
        path(
            OF_A_REVISION,
            include(
                [*own, path("<slug:slug>/progress/", progress, name="station-progress"), path("<slug:slug>/", station, name="station")]
            ),
        )
    ]


def values_of(page: Any) -> dict[str, Any]:
    """The fields of a page's value by their names; nothing of None."""
    return {one.name: getattr(page, one.name) for one in fields(page)} if page is not None else {}


@require_GET
@asks("mailing:view")
def station(request: PersonRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """One station of the Walkaround, or a tool of one."""
    own = _named(slug)
    revision = revision_for(request.user, mailing_id, number)
    around = frame(request, revision, own.station)
    value = own.page(request, around)
    template = own.fragment if request.htmx and own.fragment else own.template_for(value)
    tools = [(one.label, station_address(revision, one.slug)) for one in pages().values() if isinstance(one, Tool) and one.station == slug]
    return render(request, template, around.context() | {"tools": tools} | values_of(value))


@require_GET
@asks("mailing:view", works=False)
def progress(request: PersonRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """The state of the work that a station's page waits for. When the work ends, the page loads itself anew, unless somebody has typed into it."""
    own = _named(slug)
    if own.progress is None:
        raise Http404("this station waits for nothing")
    revision = revision_for(request.user, mailing_id, number)
    works = {kind: jobs.latest(kind, f"revision:{revision.pk}") for kind in own.progress.kinds}
    is_fresh = not any(work is not None and work.is_open for work in works.values())
    return render(request, own.progress.template, {"works": works, "revision": revision, "mailing": revision.mailing, "is_fresh": is_fresh})


def _named(slug: str) -> StationPage | Tool:
    """The station with this slug.

    Raises:
        Http404: there is none.
    """
    found = pages().get(slug)
    if found is None:
        raise Http404("no such station")
    return found
