"""The clearance record: the revision that was approved, by whom, over which bytes."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from jetwind import __version__
from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.models import SignOff
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.review.models import Excuse
from jetwind.apps.review.readiness import rule_for
from jetwind.apps.review.selectors import Walk
from jetwind.core.clearing import sentences
from jetwind.core.message import Message


def clearance(walk: Walk, user: User, released_at: str) -> dict[str, Any]:
    """The clearance record: the approved revision, the people who signed, and the digest of the bytes."""
    revision = walk.revision
    mailing = revision.mailing
    message = message_of(revision)
    assert walk.run is not None
    return {
        "jetwind": __version__,
        "message": {
            "title": mailing.title,
            "kind": mailing.kind,
            "audience": mailing.audience,
            "planned": mailing.planned_at.isoformat() if mailing.planned_at else None,
            "subject": message.subject,
            "revision": revision.number,
            "uploaded_by": revision.uploaded_by.shown_name,
            "uploaded": revision.created_at.isoformat(),
            "content_sha256": revision.content_sha256,
        },
        "parts": _parts(revision, message),
        "checks": {check_id: outcome for check_id, (outcome, *_) in sorted(walk.run.outcomes.items())},
        "open_findings": [_finding(found.record) for found in walk.findings if found.is_open],
        "excused": [_excused(excuse) for excuse in _covering(walk)],
        "spam": {"score": walk.run.spam.get("score"), "band": walk.run.spam.get("band")},
        "rule": list(sentences(rule_for(mailing))),
        "stations_left_out": {state.name: f"{state.left_out} ({state.left_out_by})" for state in walk.stations if state.left_out},
        "sign_offs": [_signed(one) for one in revision.sign_offs.filter(voided_at=None).select_related("by", "in_place_of")],
        "test_sends": [
            {
                "by": send.by.shown_name,
                "at": send.at.isoformat(),
                "list": send.list_name,
                "copies": send.copies.filter(purpose="copy").count(),
            }
            for send in revision.test_sends.select_related("by")
        ],
        "released": {"by": user.shown_name, "at": released_at},
    }


def _parts(revision: Revision, message: Message) -> list[dict[str, str]]:
    """The file as it was taken in and everything in it, each with its SHA-256."""

    def digest(text: str) -> str:
        return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()

    parts = [{"part": "file", "name": revision.file_name, "sha256": revision.source_sha256}]
    if message.html:
        parts.append({"part": "html", "name": "", "sha256": digest(message.html.text)})
    if message.text:
        parts.append({"part": "text", "name": "", "sha256": digest(message.text.text)})
    for kind, resources in (("image", message.images), ("attachment", message.attachments)):
        parts += [{"part": kind, "name": resource.name, "sha256": resource.sha256} for resource in resources]
    return parts


def _covering(walk: Walk) -> list[Excuse]:
    """The excuses that cover a finding or one of the faults that it tells together, the first made first."""
    found = {
        excuse
        for shown in walk.findings
        if not shown.is_open
        for excuse in walk.in_force.touching(shown.record.fingerprint, shown.record.cause, shown.record.members)
    }
    return sorted(found, key=lambda excuse: excuse.pk)


def _excused(excuse: Excuse) -> dict[str, str]:
    return {
        "check": excuse.check_id,
        **({"covers": "all faults of this cause"} if excuse.for_all else {}),
        "fingerprint": excuse.fingerprint,
        "finding": excuse.sentence,
        "reason": excuse.reason,
        "by": excuse.by.shown_name,
        "at": excuse.at.isoformat(),
        **({"confirmed_by": excuse.confirmed_by.shown_name} if excuse.confirmed_by is not None else {}),
    }


def _signed(sign_off: SignOff) -> dict[str, str]:
    return {
        "by": sign_off.by.shown_name,
        "role": sign_off.role,
        "at": sign_off.at.isoformat(),
        "comment": sign_off.comment,
        "content_sha256": sign_off.content_sha256,
        "rests_on_sha256": sign_off.rests_sha256,
        **({"in_place_of": sign_off.in_place_of.shown_name} if sign_off.in_place_of is not None else {}),
        **({"condition": sign_off.condition["words"]} if sign_off.condition else {}),
    }


def _finding(found: Any) -> dict[str, Any]:
    faults = {"faults": [sentence for sentence, *_ in found.faults]} if found.faults else {}
    return {"check": found.check_id, "level": found.level, "fingerprint": found.fingerprint, "finding": found.sentence, **faults}


def as_bytes(content: dict[str, Any]) -> bytes:
    """The record as the file that is handed out; its SHA-256 is kept beside it."""
    return json.dumps(content, indent=2, ensure_ascii=False, sort_keys=True).encode()
