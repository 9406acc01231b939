"""Taking files in: a mailing with revision 1, or the next revision of one."""

from __future__ import annotations

import hashlib
import json
import posixpath
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.merging import merged_fields, overtaken
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import FieldSyntax, Workspace
from jetwind.apps.workspace.syntaxes import shipped_syntax
from jetwind.core.fields import guess
from jetwind.core.message import Envelope, Message, UnusableInput, read_bytes
from jetwind.core.source import LIMITS


@dataclass(frozen=True, slots=True)
class Details:
    """The entries of the form of taking in beside the file."""

    title: str = ""
    kind: str = "promotional"
    audience: str = ""
    planned_at: datetime | None = None
    planned_zone: str = "UTC"
    local_time: bool = False
    countries: tuple[str, ...] = ()


def shown_details(of: Mailing | Details) -> dict[str, Any]:
    """The details as plain values: what a page shows, and what :func:`change_details` merges against."""
    return {
        "title": of.title,
        "kind": of.kind,
        "audience": of.audience,
        "planned_at": of.planned_at.astimezone(UTC).isoformat() if of.planned_at else None,
        "planned_zone": of.planned_zone,
        "local_time": of.local_time,
        "countries": list(of.countries),
    }


def take_in(
    user: User, workspace: Workspace, data: bytes, file_name: str, *, details: Details | None = None, envelope: Envelope | None = None
) -> Mailing:
    """A new mailing with revision 1.

    Raises:
        NotAllowed, Refused: not permitted; the file cannot be held.
    """
    permit(user, "mailing:take-in", workspace)
    message = _kept(data, file_name, envelope)
    details = details or Details()
    named = (details.title, message.subject, posixpath.splitext(file_name)[0])
    title = next((name for text in named if (name := _printable(text).strip())), "untitled")
    with transaction.atomic():
        mailing = Mailing(
            workspace=workspace,
            title=title[:160],
            kind=details.kind,
            audience=details.audience.strip(),
            planned_at=details.planned_at,
            planned_zone=details.planned_zone or user.time_zone,
            local_time=details.local_time,
            countries=list(details.countries),
            created_by=user,
            syntax=_guessed_syntax(workspace, message),
        )
        _clean(mailing)
        mailing.save()
        record("mailing.taken-in", actor=user, mailing=mailing, title=mailing.title, file_name=file_name)
        _add(mailing, user, data=data, file_name=file_name, message=message, envelope=envelope)
        follows().titles_changed(mailing, [mailing.title])
    return mailing


def add_revision(user: User, mailing: Mailing, data: bytes, file_name: str, *, envelope: Envelope | None = None) -> Revision:
    """The next revision. HTML without headers keeps the envelope of the revision before.

    Raises:
        NotAllowed, Refused: not permitted; released; the file cannot be held; the same content as the last revision.
    """
    permit(user, "mailing:change", mailing.workspace)
    last = mailing.revisions.last()
    message = _kept(data, file_name, envelope)
    if envelope is None and message.form != "eml" and last is not None and last.envelope is not None:
        envelope = last.given_envelope
        message = _read(data, file_name, envelope)
    with open_mailing(mailing.pk) as locked:
        last = locked.revisions.last()
        if last is not None and last.content_sha256 == content_digest(data, envelope):
            raise Refused(f"“{file_name}” is exactly revision {last.number}; no new revision was made.")
        revision = _add(locked, user, data=data, file_name=file_name, message=message, envelope=envelope)
        record("revision.added", actor=user, mailing=mailing, revision=revision.number, file_name=file_name)
    return revision


def shown_envelope(envelope: Envelope) -> dict[str, Any]:
    """An envelope as plain values: what a page shows, and what :func:`change_envelope` merges against."""
    return {**envelope.as_dict(), "subject_variants": list(envelope.subject_variants)}


def change_envelope(user: User, mailing: Mailing, envelope: Envelope, shown: Mapping[str, Any] | None = None) -> Revision:
    """A new revision with the same file and another envelope. What changed against ``shown`` is merged into the newest one.

    Raises:
        NotAllowed, Refused: not permitted; released; nothing changed; a field that somebody else changed meanwhile.
    """
    permit(user, "mailing:change", mailing.workspace)
    with open_mailing(mailing.pk) as locked:
        last = locked.revisions.last()
        assert last is not None, "a mailing is made with its first revision"
        data = store.fetch(last.source_sha256)
        if last.given_envelope is not None:
            envelope = Envelope.from_dict(merged_fields(shown, shown_envelope(envelope), shown_envelope(last.given_envelope)))
        if last.content_sha256 == content_digest(data, envelope):
            raise Refused("The envelope is the same as before; no new revision was made.")
        message = _read(data, last.file_name, envelope)
        revision = _add(locked, user, data=data, file_name=last.file_name, message=message, envelope=envelope)
        record("envelope.changed", actor=user, mailing=mailing, revision=revision.number)
    return revision


def change_details(user: User, mailing: Mailing, details: Details, shown: Mapping[str, Any] | None = None) -> None:
    """Change title, kind, audience and planned time. What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; released; a value that cannot be used; one that somebody else changed meanwhile.
    """
    permit(user, "mailing:change", mailing.workspace)
    with open_mailing(mailing.pk) as locked:
        now = shown_details(locked)
        kept = merged_fields(shown, shown_details(details), now)
        changed = [name for name in kept if kept[name] != now[name]]
        for name in changed:
            value = getattr(details, name)
            setattr(locked, name, list(value) if isinstance(value, tuple) else value)
        if not changed:
            return
        _clean(locked)
        locked.save()
        record("mailing.changed", actor=user, mailing=mailing, fields=", ".join(name.replace("_", " ") for name in changed))
        if "title" in changed:
            follows().titles_changed(locked, [now["title"], locked.title])
        last = locked.revisions.last()
        if last is not None:
            follows().circumstances_changed(last)


def set_syntax(user: User, mailing: Mailing, syntax: FieldSyntax | None, *, shown: int | None = None) -> None:
    """Say how the fields of a message are written; none is the shipped syntax. It is checked and rendered again.

    ``shown`` is the number of the syntax that the page showed as the message's, 0 for the shipped one; None where it does not say.

    Raises:
        NotAllowed, Refused: not permitted; released; a syntax of another house; somebody else chose one meanwhile.
    """
    permit(user, "mailing:change", mailing.workspace)
    with open_mailing(mailing.pk) as locked:
        if syntax is not None and syntax.workspace_id != locked.workspace_id:
            raise Refused("This syntax is none of the workspace's.")
        wanted = syntax.pk if syntax is not None else None
        if locked.syntax_id == wanted:
            return
        if shown is not None and shown != (locked.syntax_id or 0):
            raise Refused(overtaken("field syntax", locked.field_syntax.name))
        locked.syntax = syntax
        locked.save(update_fields=["syntax"])
        record("mailing.changed", actor=user, mailing=mailing, fields=f"the field syntax to {locked.field_syntax.name}")
        last = locked.revisions.last()
        if last is not None:
            follows().circumstances_changed(last)


def set_measured_reader(user: User, mailing: Mailing, name: str) -> None:
    """Say whose copy of a message is rendered and measured; no name is the reader whose copy is longest.

    Raises:
        NotAllowed, Refused: not permitted; released; no such reader.
    """
    permit(user, "review:look", mailing.workspace)
    with open_mailing(mailing.pk) as locked:
        if name and not locked.workspace.readers.filter(name=name).exists():
            raise Refused(f"There is no sample reader “{name[:60]}” any more.")
        if locked.measured_as == name:
            return
        locked.measured_as = name
        locked.save(update_fields=["measured_as"])
        record("mailing.changed", actor=user, mailing=mailing, fields=f"whose copy is measured to {name or 'the longest'}")
        last = locked.revisions.last()
        if last is not None:
            follows().circumstances_changed(last)


def _guessed_syntax(workspace: Workspace, message: Message) -> FieldSyntax | None:
    """The syntax of the house that a message seems to be written in; none is the shipped one."""
    rows = {row.name: row for row in workspace.syntaxes.all()}
    if not rows:
        return None
    texts = [message.subject, *(part.text[: LIMITS.html_characters] for part in (message.html, message.text) if part is not None)]
    syntaxes = [shipped_syntax(workspace), *(row.syntax for row in rows.values())]
    return rows.get(guess(texts, syntaxes, frozenset(workspace.field_list)).name)


def start_copy(user: User, mailing: Mailing) -> Mailing:
    """A new mailing that starts with the content of another's newest revision.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:copy", mailing.workspace)
    last = mailing.revisions.last()
    assert last is not None, "a mailing is made with its first revision"
    data = store.fetch(last.source_sha256)
    with transaction.atomic():
        copy = Mailing.objects.create(
            workspace=mailing.workspace,
            title=f"Copy of {mailing.title}"[:160],
            kind=mailing.kind,
            audience=mailing.audience,
            countries=mailing.countries,
            planned_zone=mailing.planned_zone,
            local_time=mailing.local_time,
            brief=mailing.brief,
            syntax=mailing.syntax,
            copied_from=mailing,
            created_by=user,
        )
        record("mailing.copied", actor=user, mailing=copy, title=copy.title, source=mailing.title)
        _add(
            copy,
            user,
            data=data,
            file_name=last.file_name,
            message=_read(data, last.file_name, last.given_envelope),
            envelope=last.given_envelope,
        )
        follows().titles_changed(copy, [copy.title])
    return copy


def content_digest(data: bytes, envelope: Envelope | None) -> str:
    """SHA-256 over the file and the envelope: what a sign-off is over."""
    around: dict[str, Any] | None = envelope.as_dict() if envelope else None
    return hashlib.sha256(json.dumps(around, sort_keys=True).encode() + b"\0" + data).hexdigest()


def _read(data: bytes, file_name: str, envelope: Envelope | None) -> Message:
    try:
        return read_bytes(data, file_name, envelope=envelope)
    except UnusableInput as refused:
        raise Refused(str(refused)) from refused


def _kept(data: bytes, file_name: str, envelope: Envelope | None) -> Message:
    """The message of a file, which is in the store afterwards: nobody waits under a lock while a disk writes.

    Raises:
        Refused: the file cannot be held.
    """
    message = _read(data, file_name, envelope)
    store.keep(data)
    return message


def _add(mailing: Mailing, user: User, data: bytes, file_name: str, message: Message, envelope: Envelope | None) -> Revision:
    last = mailing.revisions.last()
    senders = message.mailboxes("From")
    revision = Revision.objects.create(
        mailing=mailing,
        number=last.number + 1 if last else 1,
        file_name=_printable(posixpath.basename(file_name))[:255] or "message",
        source_sha256=hashlib.sha256(data).hexdigest(),
        content_sha256=content_digest(data, envelope),
        envelope=envelope.as_dict() if envelope else None,
        octets=message.held_octets,
        tags=message.tags,
        subject=_printable(message.subject)[:998],
        sender=_printable(f"{senders[0].name} <{senders[0].address}>")[:320] if senders else "",
        uploaded_by=user,
    )
    follows().revision_added(revision, user)
    return revision


def _printable(text: str) -> str:
    """Text for a list: control characters, which a database or a screen would stumble over, are left out."""
    return re.sub(r"[\x00-\x1f\x7f]", "", text)


def _clean(mailing: Mailing) -> None:
    try:
        mailing.full_clean(exclude=["workspace", "created_by", "copied_from", "syntax"])
    except ValidationError as wrong:
        raise Refused(" ".join(wrong.messages)) from wrong
