"""The sender's papers of a revision: name records are asked in the background, and what they said stands until something changes."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.stages import locked_mailing
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.answers import ask_for_checks, storable
from jetwind.apps.review.known import PAPERS
from jetwind.apps.review.models import SenderPapers
from jetwind.apps.workspace.access import permit
from jetwind.core.links.addresses import same_organisation
from jetwind.core.papers import Papers, Signing, sender_domain
from jetwind.engines.names import Dns, Loads, papers_of, practice
from jetwind.engines.practice import DOMAIN, OTHER_DOMAIN

#: How long name records hold before they are asked again with the next checks.
FRESH = timedelta(hours=6)
logger = logging.getLogger(__name__)
#: What apps above know of loading the picture of a BIMI record: what tries it, or None where the workspace lets nothing out by itself.
marks: list[Callable[[Revision], Loads | None]] = []
_PRACTICE = (DOMAIN, OTHER_DOMAIN)


def papers_for_checks(revision: Revision) -> dict[str, Any]:
    """The sender's papers, for the checks: nothing where the records were asked under other circumstances, so that somebody asks again."""
    kept, asked_for = _row(revision)
    return {"papers": Papers.from_json(kept) if kept and asked_for == _question(revision) else None}


def kept_papers(revision: Revision) -> dict[str, Any]:
    """The papers as they were asked last; empty where they never were."""
    return _row(revision)[0]


def _row(revision: Revision) -> tuple[dict[str, Any], dict[str, Any]]:
    """The papers, and what they were asked for."""
    row = PAPERS.of(revision) or {}
    return row.get("papers") or {}, row.get("asked_for") or {}


def signing_of(revision: Revision) -> Signing:
    """The house's words on who signs and sends its mail."""
    said = revision.mailing.workspace.signing
    return Signing(*(said.get(name, "") for name in ("domain", "selector", "host", "return_path")))


def _question(revision: Revision) -> dict[str, Any]:
    """The circumstances under which records are asked for: under others they are asked for anew."""
    return {"signing": revision.mailing.workspace.signing, "domain": sender_domain(message_of(revision)), "dns": settings.ASKS_DNS}


def asks_of(revision: Revision) -> str:
    """Whom the records are asked of: the practice field, the DNS, or nobody.

    The DNS is asked for the house's own domain alone: a template of strangers must not make this machine ask their servers.
    """
    domain = sender_domain(message_of(revision))
    if not domain:
        return ""
    if any(domain == own or domain.endswith(f".{own}") for own in _PRACTICE):
        return "practice field"
    own = signing_of(revision).domain
    return "DNS" if settings.ASKS_DNS and own and same_organisation(own, domain) else ""


def bring_up_to_date(revision: Revision) -> None:
    """Ask the records, unless they were asked lately under the same circumstances. Safe to run twice."""
    question = _question(revision)
    kept = SenderPapers.objects.filter(revision=revision).first()
    if kept is not None and kept.asked_for == question and kept.at > timezone.now() - FRESH:
        return
    if not asks_of(revision):
        SenderPapers.objects.filter(revision=revision).delete()
        return
    try:
        loads = next((tries for ask in marks if (tries := ask(revision)) is not None), None)
        found = papers_of(message_of(revision), practice(Dns(), _PRACTICE), signing_of(revision), loads)
    except Exception:
        # These libraries read records that strangers wrote. A record that breaks a library leaves the other checks answered.
        logger.exception("sender's papers could not be read", extra={"action": "papers.failed", "revision": revision.pk})
        SenderPapers.objects.filter(revision=revision).delete()
        return
    with transaction.atomic():
        locked_mailing(revision.mailing_id)
        told = {"papers": storable(found.as_json()), "asked_for": question}
        if kept is not None and _unchanged(kept.papers, told["papers"]):
            # The same records: only when they were asked changes, so that no answer of a check is lost.
            told["papers"] = kept.papers
        SenderPapers.objects.update_or_create(revision=revision, defaults=told)


def _unchanged(before: dict[str, Any], after: dict[str, Any]) -> bool:
    """Whether two look-ups gave the same answer; the time that each took does not count."""
    return bool(_without_times(before) == _without_times(after))


def _without_times(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _without_times(inner) for name, inner in value.items() if name != "took_ms"}
    return [_without_times(inner) for inner in value] if isinstance(value, list) else value


def ask_anew(user: User, revision: Revision) -> Work:
    """Have the records asked again, however fresh they are.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "review:look", revision.mailing.workspace)
    SenderPapers.objects.filter(revision=revision).update(asked_for={})
    return ask_for_checks(revision, user)
