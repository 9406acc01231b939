"""The approver's page, made for a phone first: what is sent, what is wrong, what changed, what readers said, then the press."""

from __future__ import annotations

from dataclasses import dataclass

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_GET

from jetwind.apps.approvals import services
from jetwind.apps.approvals.models import SignOff
from jetwind.apps.approvals.stations.sign_off import conditions_of, others_of
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN, needed
from jetwind.apps.proofs.models import Reply
from jetwind.apps.review.comparison import Comparison, compare
from jetwind.apps.review.readiness import rule_for
from jetwind.apps.review.selectors import Walk, walk_of
from jetwind.apps.review.stations.envelope import PREVIEWED, merged_for
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.clearing import sentences
from jetwind.core.links.listing import listing_of
from jetwind.core.message import Sample
from jetwind.core.profiles import Profile, profiles
from jetwind.core.profiles.inbox import ROWS, Drawn, InboxRow, draw
from jetwind.core.prose.reading import reading_of

#: Changes of words and of links that are shown; the comparison has all.
_MOST = 40


@dataclass(frozen=True, slots=True)
class Shown:
    """A render on the page: its profile, the render now, and the one of the revision that the person looked at last, if it is there."""

    profile: Profile
    now: Render
    before: Render | None


@dataclass(frozen=True, slots=True)
class Changes:
    """What changed since a revision: the comparison of words and findings, and the addresses that came and went."""

    since: Revision
    why: str
    compared: Comparison
    links_come: list[str]
    links_gone: list[str]

    @property
    def is_nothing(self) -> bool:
        """Whether neither words, envelope nor addresses changed."""
        found = self.compared
        return not (found.envelope or found.text or found.source or found.plain or self.links_come or self.links_gone)


@require_GET
@asks("mailing:view")
def approve(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Everything that an approver has to see of one revision, and the press."""
    revision = revision_for(request.user, mailing_id, number)
    walk = walk_of(revision)
    mailing, message = revision.mailing, message_of(revision)
    history = services.history_of(mailing)
    allowed = permissions_of(request.user, mailing.workspace)
    may_sign = "approval:sign" in allowed
    why_not = services.why_not_sign(request.user, walk, history) if may_sign else "Signing is for the approver or reviewer."
    has_signed = services.has_signed(request.user, revision, history)
    uploaded = request.user.pk in {other.uploaded_by_id for other in history}
    may_act = may_sign and not mailing.is_locked and not uploaded and history[0].pk == revision.pk
    changes = _changes(request, revision, history)
    open_findings = [found for found in walk.findings if found.is_open]
    row, lines = _inbox_row(revision, walk)
    page = {
        "mailing": mailing,
        "revision": revision,
        "walk": walk,
        "ready": walk.readiness,
        "newest": history[0].number,
        "sender": next(iter(message.mailboxes("From")), None),
        "subjects": message.subjects,
        "row": row,
        "lines": lines,
        "shown": _renders(revision, changes.since if changes is not None else None),
        "weighty": [found for found in open_findings if found.record.level != "note"],
        "notes": sum(found.record.level == "note" for found in open_findings),
        "excuses": list(dict.fromkeys(found.excuse for found in walk.findings if found.excuse is not None)),
        "left_out": [(state.name, state.left_out, state.left_out_by) for state in walk.stations if state.left_out],
        "changes": changes,
        "said": list(Reply.objects.filter(link__send__revision=revision).select_related("link").order_by("-pk")[:_MOST]),
        "signatures": [one for other in history if other.pk == revision.pk for one in other.sign_offs.all()],
        "rule": sentences(rule_for(mailing)),
        "why_not": why_not,
        "may_refuse": may_act,
        "has_signed": has_signed,
        "conditions": conditions_of(revision, open_findings) if why_not is None else [],
        "others": others_of(request, revision, history) if may_act and not has_signed else [],
        "back": reverse("approve", args=[mailing.pk, revision.number]),
        "section": "departures",
    }
    return render(request, "approvals/approve.html", page)


def _inbox_row(revision: Revision, walk: Walk) -> tuple[InboxRow, list[Drawn]]:
    """The row of a phone's inbox, as the first sample reader gets it."""
    message = message_of(revision)
    reader = next(iter(walk.context.readers), Sample("", {}))
    box = next(iter(message.mailboxes("From")), None)
    sender = merged_for(box.name or box.address, message, reader) if box else "no sender"
    preview = merged_for(" ".join(piece.text for piece in reading_of(message).inbox_pieces(PREVIEWED)), message, reader)
    row = next(one for one in ROWS if one.id == "phone")
    return row, draw(row, sender, merged_for(message.subject, message, reader), preview)


def _renders(revision: Revision, since: Revision | None) -> list[Shown]:
    """Find the renders of a revision in two client profiles of the workspace: the widest one, and the first phone."""
    chosen = [profiles()[name] for name in chosen_profiles(revision.mailing.workspace)]
    widest = max(chosen, key=lambda one: one.content_width, default=None)
    phone = next((one for one in chosen if one.is_phone), None)
    wanted = list(dict.fromkeys(one for one in (widest, phone) if one is not None))
    found = []
    for profile in wanted:
        now = _render(revision, profile)
        if now is not None:
            found.append(Shown(profile, now, _render(since, profile) if since is not None else None))
    return found


def _render(revision: Revision, profile: Profile) -> Render | None:
    done = revision.renders.filter(profile=profile.id, mode=needed(profile, OWN), state=Render.State.DONE, **as_whom(revision).here)
    return done.defer("measured", "changes").first()


def _changes(request: PersonRequest, revision: Revision, history: list[Revision]) -> Changes | None:
    """What changed since the revision that the person signed or refused last; where there is none, since the one before; None for a first."""
    earlier = [one for one in history if one.number < revision.number]
    own = next((one for one in earlier if any(said.by_id == request.user.pk for said in one.sign_offs.all())), None)
    since = own or (earlier[0] if earlier else None)
    if since is None:
        return None
    refused = any(one.by_id == request.user.pk and one.said == SignOff.Said.REFUSED for one in since.sign_offs.all())
    why = "you refused it" if refused else "you signed it" if own is not None else "the revision before"
    since = revision_for(request.user, revision.mailing_id, since.number)
    before, after = _addresses(since), _addresses(revision)
    return Changes(
        since,
        why,
        compare(since, revision),
        links_come=[address for address in after if address not in before][:_MOST],
        links_gone=[address for address in before if address not in after][:_MOST],
    )


def _addresses(revision: Revision) -> list[str]:
    """The web addresses of a revision as they are written, each once."""
    return list(dict.fromkeys(row.written for row in listing_of(message_of(revision)).rows))
