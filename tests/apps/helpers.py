"""Shortcuts for tests of the apps."""

from __future__ import annotations

import re
from typing import Any

from jetwind.apps.departures.selectors import Leaving, leaving, messages
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import take_in
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs.models import TestSend
from jetwind.apps.proofs.services import SENDS
from jetwind.apps.proofs.tasks import send_copies
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.services import look_at
from tests.factories import mail

#: Envelope sender, recipient and octets of each mail that went out.
Post = list[tuple[str, str, bytes]]


def taken_in(house: Any, raw: bytes | None = None, name: str = "sale.eml", **more: Any) -> Revision:
    """The first revision of a mailing that the author took in, checked."""
    mailing = take_in(house.author, house.workspace, raw or mail(), name, **more)
    return checked(mailing)


def checked(mailing: Mailing) -> Revision:
    """The newest revision with its checks done, as the worker would leave it."""
    revision = Revision.objects.select_related("mailing__workspace").filter(mailing=mailing).last()
    assert revision is not None
    check_now(revision)
    Work.objects.filter(kind="checks").update(state=Work.State.DONE)
    return revision


def walked(house: Any, revision: Revision) -> Revision:
    """A revision whose stations have all been looked at."""
    from jetwind.core.reports import STATIONS

    for station in STATIONS:
        look_at(house.reviewer, revision, station.slug)
    return Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)


def listed_in(workspace: Any, **asked: Any) -> list[Leaving]:
    """The rows of Departures."""
    return leaving(messages(workspace, **asked).values_list("pk", flat=True))


def page_of(response: Any) -> str:
    """A page as one line, with single blanks and none between tags: how its template is broken into lines does not count."""
    return re.sub(r">\s+<", "><", " ".join(response.content.decode().split()))


def handed_over(send: TestSend) -> Work:
    """What the worker does with a test send; the work as it ended."""
    work = jobs.latest(SENDS, f"send:{send.pk}")
    assert work is not None
    send_copies.func(send_id=send.pk, work_id=work.pk)
    work.refresh_from_db()
    return work
