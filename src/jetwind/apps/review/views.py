"""Stations whose own view is a table, and what can be done to a finding."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.intake.selectors import mailing_for, revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review import services
from jetwind.apps.review.answers import CHECKS, stored_review
from jetwind.apps.review.comparison import compare
from jetwind.apps.review.frame import KEPT_REASON
from jetwind.apps.review.questions import context_of, message_to_check, newest_run
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.stations.spam_risk import reasons_by_group
from jetwind.apps.ui.given import came_from, whole_number
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.core.mending import kinds_of
from jetwind.core.reports import STATIONS, Review, as_csv, as_html, as_json, as_sarif
from jetwind.core.spam import BANDS, measured_on, says


@require_GET
@asks("workspace:view")
def spam_reasons(request: PersonRequest) -> HttpResponse:
    """Every reason of spam risk: what it looks for, its weight, and whether that was measured or set by hand."""
    return render(
        request,
        "review/spam_reasons.html",
        {
            "groups": reasons_by_group(),
            "bands": BANDS,
            "mail": measured_on(),
            "says": [(score, round(100 * share)) for score, share in says()],
            "section": "settings",
        },
    )


@require_GET
@asks("mailing:view", works=False)
def progress(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """How far the checks are; once done, the page loads itself anew, unless somebody has typed into it.

    A page whose circumstances have changed names the run that it shows, and waits for work to begin or for a run after that one.
    """
    revision = revision_for(request.user, mailing_id, number)
    work = jobs.latest(CHECKS, f"revision:{revision.pk}")
    is_done = work is None or not work.is_open
    run = newest_run(revision) if is_done and "after" in request.GET else None
    if run is not None and run.pk == whole_number(request.GET, "after"):
        may_look = "review:look" in permissions_of(request.user, request.workspace)
        waits = {"revision": revision, "mailing": revision.mailing, "run_shown": run.pk, "is_newest": True, "may_look": may_look}
        return render(request, "review/_progress.html", waits)
    page = {"work": work, "revision": revision, "mailing": revision.mailing, "is_fresh": is_done}
    return render(request, "review/_progress.html", page)


@require_POST
@asks(send="review:look")
@once
def look(request: PersonRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """Say, or take back, that a station has been looked at, or leave it out with a reason."""
    revision = revision_for(request.user, mailing_id, number)
    if request.POST.get("looked") == "no":
        services.unlook(request.user, revision, slug)
    elif "left_out" in request.POST:
        services.leave_out(request.user, revision, slug, request.POST["left_out"])
    else:
        services.look_at(request.user, revision, slug)
    if request.POST.get("then") == "next":
        slugs = [known.slug for known in STATIONS]
        return redirect(station_address(revision, slugs[min(slugs.index(slug) + 1, len(slugs) - 1)]))
    return redirect(came_from(request) or station_address(revision, slug))


@require_POST
@asks(send="review:excuse")
@once
def excuse(request: PersonRequest, mailing_id: int, number: int, fingerprint: str) -> HttpResponse:
    """Excuse a finding, confirm its excuse, or lift it. A refused reason comes back to be mended, not lost."""
    revision = revision_for(request.user, mailing_id, number)
    back = request.POST.get("back", "")
    address = back if back.startswith(f"/mailings/{mailing_id}/") else station_address(revision, "envelope")
    if request.POST.get("lift"):
        services.lift_excuse(request.user, revision, fingerprint)
        return redirect(address)
    if request.POST.get("confirm"):
        services.confirm_excuse(request.user, revision, fingerprint)
        messages.success(request, "You confirmed the excuse.")
        return redirect(address)
    try:
        services.excuse(
            request.user,
            revision,
            fingerprint,
            request.POST.get("reason", ""),
            only_this_revision=request.POST.get("lasts") == "revision",
            for_all=request.POST.get("covers") == "all",
        )
    except Refused as refused:
        messages.error(request, refused.sentence)
        request.session[KEPT_REASON] = [fingerprint, request.POST.get("reason", "")[:2000]]
        return redirect(address)
    messages.success(request, "Excused.")
    return redirect(address)


@require_POST
@asks(send="review:look")
@once
def recheck(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Check again."""
    revision = revision_for(request.user, mailing_id, number)
    services.recheck(request.user, revision, longer=request.POST.get("longer") == "yes")
    return redirect(came_from(request) or station_address(revision, "envelope"))


#: Gives the findings that a machine can mend, by fingerprint, each with the kind of its mend.
Kinds = Callable[[], Mapping[str, str]]


@dataclass(frozen=True, slots=True)
class _Format:
    """A report as a file: how it is written, its content type, and the name of the file."""

    write: Callable[[Review, str, Kinds], str]
    content_type: str
    file_name: str


FORMATS = {
    "html": _Format(lambda review, title, kinds: as_html(review, title), "text/html", "review-{mailing}-r{number}.html"),
    "csv": _Format(lambda review, title, kinds: as_csv(review.findings), "text/csv", "findings-{mailing}-r{number}.csv"),
    "json": _Format(lambda review, title, kinds: as_json(review, kinds()), "application/json", "review-{mailing}-r{number}.json"),
    "sarif": _Format(lambda review, title, kinds: as_sarif(review, title), "application/sarif+json", "review-{mailing}-r{number}.sarif"),
}


@require_GET
@asks("mailing:view")
def report(request: PersonRequest, mailing_id: int, number: int, form: str) -> HttpResponse:
    """The screen's own view of a revision as a file: the stored answers in their stored words."""
    revision = revision_for(request.user, mailing_id, number)
    if form not in FORMATS:
        raise Http404("no such report")
    run = newest_run(revision)
    if run is None:
        raise Refused("This revision has not been checked yet, so there is nothing to report.")
    run.revision = revision
    chosen = FORMATS[form]
    title = revision.file_name if form == "sarif" else f"{revision.mailing.title}, revision {number}"
    stored = stored_review(run)
    written = chosen.write(stored, title, lambda: kinds_of(message_to_check(revision), context_of(revision), stored.results))
    response = HttpResponse(written, content_type=f"{chosen.content_type}; charset=utf-8")
    name = chosen.file_name.format(mailing=mailing_id, number=number)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


@require_GET
@asks("mailing:view")
def comparison(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """Any two revisions side by side."""
    mailing = mailing_for(request.user, mailing_id)
    numbers = list(mailing.revisions.values_list("number", flat=True))
    earlier, later = whole_number(request.GET, "earlier"), whole_number(request.GET, "later")
    later = later if later in numbers else numbers[-1]
    earlier = earlier if earlier in numbers else max((number for number in numbers if number < later), default=later)
    earlier, later = min(earlier, later), max(earlier, later)
    one, other = revision_for(request.user, mailing_id, earlier), revision_for(request.user, mailing_id, later)
    page = {
        "mailing": mailing,
        "numbers": numbers,
        "earlier": one,
        "later": other,
        "comparison": compare(one, other),
        "section": "departures",
    }
    return render(request, "review/comparison.html", page)
