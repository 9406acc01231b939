"""Following the links of an arrival that were rewritten on the way."""

from __future__ import annotations

from contextlib import closing

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import numbered
from jetwind.apps.links.answering import keep, newest, still_fresh
from jetwind.apps.links.house import fetcher_of, keeping_of, wire_of
from jetwind.apps.links.known import OPENED
from jetwind.apps.links.models import Kind, LinkAnswer, When
from jetwind.core.arrivals import Compared
from jetwind.core.arrivals.leading import to_follow, with_ends
from jetwind.engines.fetch import Wanted, fetch_all


def follow_rewritten(revision: Revision, compared: Compared) -> Compared:
    """The comparison with a word on where its rewritten links end; as it was where the workspace opens no links by itself.

    Links whose old address was not opened for the revision are not followed: ways out stay shut.
    """
    workspace = revision.mailing.workspace
    wire = wire_of(workspace)
    if wire.links != When.ALWAYS:
        return compared
    known_revision = numbered(revision.pk)
    rows = LinkAnswer.objects.filter(pk__in=(OPENED.of(known_revision) or {}).get("links", ()))
    known = {row.address: row.value for row in rows}
    wanted = to_follow(compared, known, keeping_of(known_revision))
    asked = {address: row.value for address, row in still_fresh(newest(workspace, Kind.LINK, wanted), None).items()}
    missing = [address for address in wanted if address not in asked]
    with closing(fetch_all(lambda: fetcher_of(wire), [Wanted(address) for address in missing])) as coming:
        for fetched in coming if missing else ():
            asked[fetched.answer.address] = keep(workspace, Kind.LINK, fetched.answer).value
    return with_ends(compared, known, asked)
