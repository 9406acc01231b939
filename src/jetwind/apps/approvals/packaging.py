"""Making the package of a release, in the background: everything of the message as the sending system takes it, and how it was cleared."""

from __future__ import annotations

import dataclasses
import json

from jetwind.apps.approvals.clearance import as_bytes
from jetwind.apps.approvals.keys import private_key_of
from jetwind.apps.approvals.models import Release
from jetwind.apps.approvals.pdf import as_pdf
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.comparing import shots_of
from jetwind.apps.previews.modes import OWN
from jetwind.apps.previews.sheets import Shot
from jetwind.apps.review.answers import stored_review
from jetwind.apps.review.questions import newest_run
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.message import Header, Message, to_eml
from jetwind.core.package import package_of, safe_name
from jetwind.core.reports import as_sarif

PACKAGE = "package"


def ask_for_package(release: Release) -> Work:
    """Have the package of a release made."""
    return jobs.start(
        PACKAGE,
        f"release:{release.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("approvals.make_package", release_id=release.pk, work_id=work_id),
    )


def make_now(release_id: int) -> None:
    """Make the package of a release and keep it in the store. One that is made already stays, and so does a release that was taken back.

    Raises:
        Unreadable: the key of this installation was changed since the workspace's key was made.
    """
    release = Release.objects.select_related("revision__mailing__workspace", "revision__mailing__syntax").get(pk=release_id)
    if release.package_sha256 or release.taken_back_at is not None:
        return
    made = package_of(files_of(release), private_key_of(release.revision.mailing.workspace))
    digest = store.keep(made)
    Release.objects.filter(pk=release.pk, package_sha256="", taken_back_at=None).update(package_sha256=digest, package_octets=len(made))


def files_of(release: Release) -> list[tuple[str, bytes]]:
    """The files of a package, in their order."""
    revision = release.revision
    message = message_of(revision)
    files = [
        ("message.eml" if not number else f"variant-{number + 1}.eml", variant_of(message, number))
        for number in range(len(message.subjects))
    ]
    if message.html is not None:
        files.append(("message.html", message.html.text.encode("utf-8", "surrogatepass")))
    if message.text is not None:
        files.append(("message.txt", message.text.text.encode("utf-8", "surrogatepass")))
    taken: list[str] = []
    for folder, resources in (("pictures", message.images), ("attachments", message.attachments)):
        for resource in resources:
            name = safe_name(resource.name, taken)
            taken.append(name)
            files.append((f"{folder}/{name}", resource.data))
    record = as_bytes(release.record)
    files += [("clearance.json", record), ("clearance.pdf", as_pdf(release.record, release.record_sha256, _shots(release)))]
    run = newest_run(revision)
    if run is not None:
        files.append(("findings.sarif", as_sarif(stored_review(run), "message.eml").encode()))
    files.append(("log.json", _newest_of_log(release)))
    return files


def variant_of(message: Message, number: int) -> bytes:
    """The message as the sending system takes it, its fields unmerged, with one of its subjects; the first is the message's own.

    Raises:
        IndexError: there is no such subject.
    """
    if not number:
        return to_eml(message)
    subject = Header("Subject", raw="", value=message.subjects[number], span=None)
    headers = tuple(subject if header.name.lower() == "subject" else header for header in message.headers)
    return to_eml(dataclasses.replace(message, headers=headers))


def _shots(release: Release) -> list[Shot]:
    revision = release.revision
    return shots_of(revision, chosen_profiles(revision.mailing.workspace), OWN, as_whom(revision))


def _newest_of_log(release: Release) -> bytes:
    """The newest entry of the workspace's log, by which the log can be verified to its end."""
    newest = LogEntry.objects.filter(chain=release.revision.mailing.workspace_id).order_by("-id").values("id", "hash", "at").first()
    told = {"entry": newest["id"], "hash": newest["hash"], "at": newest["at"].isoformat()} if newest is not None else {}
    return json.dumps(told, indent=2).encode()
