"""Stations whose own view is a table, and what can be done to a finding."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review import services
from jetwind.apps.review.evidence import tables_for
from jetwind.apps.review.frame import KEPT_REASON, frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.ui.refusal import Refused
from jetwind.core.checking import STATIONS
from jetwind.core.spam import BANDS, SpamReason, SpamSum


@require_GET
def station(request: HttpRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """One station of the Walkaround."""
    assert isinstance(request.user, User)
    if slug not in {known.slug for known in STATIONS}:
        raise Http404("no such station")
    revision = revision_for(request.user, mailing_id, number)
    page = frame(request, revision, slug)
    page["tables"] = tables_for(slug, message_of(revision), services.context_of(revision))
    if slug == "envelope":
        message = message_of(revision)
        sender = next(iter(message.mailboxes("From")), None)
        reply = next(iter(message.mailboxes("Reply-To")), None)
        page["envelope"] = {
            "subject": message.subject,
            "sender_name": sender.name if sender else "",
            "sender_address": sender.address if sender else "",
            "reply_address": reply.address if reply else "",
            "preview_text": message.given_preview_text,
        }
    if slug == "spam-risk" and page["walk"].run:
        page["spam"] = _spam_sum(page["walk"].run.spam, request.GET.getlist("without"))
    return render(request, "review/table_station.html", page)


def _spam_sum(spam: dict[str, Any], without: list[str]) -> dict[str, Any]:
    """The sum with some reasons switched off, and for each reason the address part that toggles it."""
    total = SpamSum(tuple(SpamReason(**reason) for reason in spam.get("reasons", [])))
    rows: list[dict[str, Any]] = []
    running = 0.0
    for reason in total.reasons:
        is_on = reason.id not in without
        others = [name for name in without if name != reason.id] + ([reason.id] if is_on else [])
        rows.append({"reason": reason, "is_on": is_on, "start": running, "toggle": urlencode({"without": others}, doseq=True)})
        running += reason.weight if is_on else 0
    scale = max(8.0, total.score())
    for row in rows:
        row["left"], row["share"] = 100 * row["start"] / scale, 100 * row["reason"].weight / scale
    return {
        "rows": rows,
        "score": total.score(without),
        "band": total.band(without),
        "lines": [(name, lowest, 100 * lowest / scale) for name, lowest in BANDS.items()],
    }


@require_GET
def progress(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """How far the checks are; once done, the page is loaded anew."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    work = jobs.latest(services.CHECKS, f"revision:{revision.pk}")
    response = render(request, "review/_progress.html", {"work": work, "revision": revision, "mailing": revision.mailing})
    if work is None or not work.is_open:
        response["HX-Refresh"] = "true"
    return response


@require_POST
def look(request: HttpRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """Say, or take back, that a station has been looked at."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    if request.POST.get("looked") == "no":
        services.unlook(request.user, revision, slug)
    else:
        services.look_at(request.user, revision, slug)
    return redirect(request.headers.get("Referer") or station_address(revision, slug))


@require_POST
def excuse(request: HttpRequest, mailing_id: int, number: int, fingerprint: str) -> HttpResponse:
    """Excuse a finding, or lift its excuse. A refused reason comes back to be mended, not lost."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    back = request.POST.get("back", "")
    address = back if back.startswith(f"/mailings/{mailing_id}/") else station_address(revision, "envelope")
    if request.POST.get("lift"):
        services.lift_excuse(request.user, revision, fingerprint)
        return redirect(address)
    try:
        services.excuse(
            request.user, revision, fingerprint, request.POST.get("reason", ""), only_this_revision=request.POST.get("lasts") == "revision"
        )
    except Refused as refused:
        messages.error(request, refused.sentence)
        request.session[KEPT_REASON] = [fingerprint, request.POST.get("reason", "")[:2000]]
        return redirect(address)
    messages.success(request, "Excused.")
    return redirect(address)


@require_POST
def recheck(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """Check again."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    services.recheck(request.user, revision)
    return redirect(request.headers.get("Referer") or station_address(revision, "envelope"))


@require_POST
def send_back(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """Send a revision back to its author."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    services.send_back(request.user, revision, request.POST.get("comment", ""))
    messages.success(request, f"Revision {revision.number} was sent back to {revision.uploaded_by.shown_name}.")
    return redirect("departures")


@require_GET
def findings_csv(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """All findings of the newest check of a revision as CSV."""
    from jetwind.core.reports import as_csv, review

    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    answer = review(message_of(revision), services.context_of(revision))
    response = HttpResponse(as_csv(answer.findings), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="findings-{mailing_id}-r{number}.csv"'
    return response
