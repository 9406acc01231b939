"""Sending a message back, and the page of instructions."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Comment
from jetwind.apps.comments.selectors import open_threads
from jetwind.apps.instructions import services
from jetwind.apps.instructions.models import Instruction, SendingBack
from jetwind.apps.instructions.selectors import Hold, comments_of, hold_of, rows_of, sheet_of
from jetwind.apps.instructions.services import Chosen, choices_of
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.review.selectors import Walk, station_address, walk_of
from jetwind.apps.ui.given import whole_numbers
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.core.reports.instructions import as_markdown, as_table
from jetwind.core.reports.stations import STATIONS

#: Levels whose findings are chosen before somebody chooses.
_CHOSEN_FIRST = ("stop", "fix")


@dataclass(frozen=True, slots=True)
class ChoiceRow:
    """One thing to choose: the name and value of its box, whether it is chosen, and what it is."""

    box: str
    value: str
    is_chosen: bool
    level: str
    station: str
    what: str
    where: str


@require_http_methods(["GET", "HEAD", "POST"])
@asks("review:send-back", send="review:send-back")
@once
def send_back(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Choose what the author should change, and give the message back. What was refused comes back as it was typed and chosen."""
    revision = revision_for(request.user, mailing_id, number)
    if request.method == "POST":
        chosen = Chosen(
            frozenset(request.POST.getlist("finding")),
            whole_numbers(request.POST, "thread"),
            by_mail=request.POST.get("by_mail") == "yes",
            base=request.build_absolute_uri("/").rstrip("/"),
        )
        try:
            made = services.send_back(request.user, revision, request.POST.get("comment", ""), chosen)
        except Refused as refused:
            messages.error(request, refused.sentence)
            return _choosing(request, revision, chosen, status=400)
        found = sum(bool(one.names) + (one.thread_id is not None) for one in made.instructions.all())
        gone = len(chosen.findings) + len(chosen.threads) - found
        left_out = f" What was not there any more was left out: {gone}." if gone else ""
        messages.success(request, f"Revision {revision.number} was sent back to {revision.uploaded_by.shown_name}.{left_out}")
        return redirect("instructions", made.pk)
    return _choosing(request, revision, None)


def _choosing(request: PersonRequest, revision: Revision, chosen: Chosen | None, status: int = 200) -> HttpResponse:
    names = {station.slug: station.name for station in STATIONS}
    rows = []
    for one in choices_of(walk_of(revision)):
        if one.finding is not None:
            record = one.finding
            is_chosen = record.fingerprint in chosen.findings if chosen is not None else record.level in _CHOSEN_FIRST
            rows.append(
                ChoiceRow(
                    "finding",
                    record.fingerprint,
                    is_chosen,
                    level=record.level,
                    station=names[record.station],
                    what=record.sentence,
                    where=record.where,
                )
            )
        elif one.thread is not None:
            thread = one.thread.thread
            is_chosen = chosen is None or thread.number in chosen.threads
            said = f"{thread.first.name}: {thread.first.words}"
            where = one.thread.gone or thread.named
            station = names.get(thread.station, "")
            rows.append(ChoiceRow("thread", str(thread.number), is_chosen, level="comment", station=station, what=said, where=where))
    page = {
        "revision": revision,
        "mailing": revision.mailing,
        "rows": rows,
        "words": request.POST.get("comment", ""),
        "by_mail": chosen.by_mail if chosen is not None else revision.uploaded_by.has_proven_own,
        "may_mail": revision.uploaded_by.has_proven_own,
        "section": "departures",
    }
    return render(request, "instructions/send_back.html", page, status=status)


@dataclass(frozen=True, slots=True)
class InstructionRow:
    """An instruction on its page, with what became of it in the newest revision."""

    instruction: Instruction
    station: str
    hold: Hold
    comments: list[Comment]
    address: str


@require_GET
@asks("mailing:view", works=True)
def instructions(request: PersonRequest, sending_back_id: int) -> HttpResponse:
    """What the author was asked to change, and what became of it in the newest revision."""
    sending = _sending_back(request, sending_back_id)
    newest = revision_for(request.user, sending.mailing_id)
    walk, rows = walk_of(newest), rows_of(sending)
    threads = {thread.number for thread in open_threads(newest)}
    names = {station.slug: station.name for station in STATIONS}
    others = SendingBack.objects.filter(mailing=sending.mailing_id).exclude(pk=sending.pk).select_related("revision", "by")
    page = {
        "sending": sending,
        "mailing": sending.mailing,
        "newest": newest,
        "rows": [
            InstructionRow(
                row,
                names.get(row.station, row.station),
                hold_of({"thread": row.thread_id, "names": row.names, "check_id": row.check_id}, walk, sending.revision.number, threads),
                comments_of(row),
                _place_address(row, newest, walk),
            )
            for row in rows
        ],
        "ticked": sum(row.ticked_at is not None for row in rows),
        "others": others.order_by("-pk"),
        "may_tick": not sending.mailing.is_locked and "mailing:change" in permissions_of(request.user, request.workspace),
        "section": "departures",
    }
    return render(request, "instructions/instructions.html", page)


def _place_address(row: Instruction, newest: Revision, walk: Walk) -> str:
    """Where an instruction's finding or comment stands now."""
    if row.thread_id is not None and not row.names:
        return reverse("thread", args=[row.thread_id])
    names = set(row.names)
    found = next((one.record for one in walk.findings if names & {one.record.fingerprint, one.record.cause, *one.record.members}), None)
    station = station_address(newest, row.station)
    return f"{station}?finding={found.fingerprint}" if found is not None else station


def _sending_back(request: PersonRequest, number: int) -> SendingBack:
    rows = SendingBack.objects.select_related("mailing", "revision__uploaded_by", "by")
    return get_object_or_404(rows, pk=number, mailing__workspace=request.workspace)


@require_GET
@asks("mailing:view")
def as_file(request: PersonRequest, sending_back_id: int, form: str) -> HttpResponse:
    """The instructions as Markdown with their pictures, or as a table."""
    sending = _sending_back(request, sending_back_id)
    written = {"md": (as_markdown, "text/markdown"), "csv": (as_table, "text/csv")}
    if form not in written:
        raise Http404("no such file")
    write, content_type = written[form]
    sheet = sheet_of(sending, request.user, pictures=form == "md")
    response = HttpResponse(write(sheet), content_type=f"{content_type}; charset=utf-8")
    name = f"instructions-{sending.mailing_id}-r{sending.revision.number}.{form}"
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


@require_POST
@asks(send="mailing:change")
@once
def tick(request: PersonRequest, instruction_id: int) -> HttpResponse:
    """Tick an instruction off, or take the tick back."""
    found = _instruction(request, instruction_id)
    services.tick(request.user, found, is_done=request.POST.get("ticked") == "yes")
    return redirect(reverse("instructions", args=[found.sending_back_id]) + f"#instruction-{found.number}")


@require_GET
@asks("mailing:view")
def picture(request: PersonRequest, instruction_id: int) -> HttpResponse:
    """The picture of an instruction's place."""
    found = _instruction(request, instruction_id)
    if not found.blob_sha256:
        raise Http404("no picture was made")
    try:
        data = store.fetch(found.blob_sha256)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    response = HttpResponse(data, content_type="image/png")
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


def _instruction(request: PersonRequest, number: int) -> Instruction:
    rows = Instruction.objects.select_related("sending_back__mailing__workspace", "sending_back__revision")
    return get_object_or_404(rows, pk=number, sending_back__mailing__workspace=request.workspace)
