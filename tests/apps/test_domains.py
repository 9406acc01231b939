"""Whose a domain is: shown by a name record, asked of a zone that stands in for the name servers."""

from typing import Any

import pytest

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.jobs.models import Work
from jetwind.apps.jobs.services import Failed
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import domains
from jetwind.apps.workspace.models import Workspace
from jetwind.engines.names import NoAnswer
from jetwind.engines.names.asking import Records, RecordType


class Servers:
    """Name servers that know some TXT records."""

    name = "stand-in"

    def __init__(self, texts: dict[str, list[bytes]]) -> None:
        self.texts = texts

    def records(self, name: str, type: RecordType) -> Records:
        """What is known of a name."""
        if name == "_jetwind.silent.org":
            raise NoAnswer("nobody answers for it")
        assert type == "TXT"
        return Records(tuple(self.texts.get(name, ())))


def test_the_record(house: Any) -> None:
    """The domain is the workspace's own, with all below it, once its record stands there; asked twice, it is noted once."""
    value = domains.record_value(house.workspace, "kiln.org").encode()
    for _ in range(2):
        domains.look_now(house.owner, house.workspace, "kiln.org", Servers({"_jetwind.kiln.org": [b"v=spf1 -all", value]}))
    assert [domains.is_proven(house.workspace, one) for one in ("kiln.org", "mail.kiln.org", "akiln.org", "org")] == [
        True,
        True,
        False,
        False,
    ]
    assert [entry.sentence for entry in LogEntry.objects.all()] == ["kiln.org is known to be the domain of Kiln, by a name record"]


def test_records_that_show_nothing(house: Any) -> None:
    """None, another workspace's, that of another domain, and servers that do not answer."""
    other = Workspace.objects.get(name="Elsewhere")
    for texts in ([], [domains.record_value(other, "kiln.org").encode()], [domains.record_value(house.workspace, "kiln.com").encode()]):
        with pytest.raises(Failed, match="no such TXT record yet"):
            domains.look_now(house.owner, house.workspace, "kiln.org", Servers({"_jetwind.kiln.org": texts}))
    with pytest.raises(Failed, match="Cannot tell whether the record stands there"):
        domains.look_now(house.owner, house.workspace, "silent.org", Servers({}))
    assert not domains.is_proven(house.workspace, "kiln.org")


def test_the_page(house: Any, settings: Any) -> None:
    """Says what to publish, and has it looked for once; not by everybody, and not of any domain."""
    client = house.client(house.owner)
    page = client.get("/settings/domains/").content.decode()
    assert domains.record_value(house.workspace, "kiln.org") in page
    for _ in range(2):
        client.post("/settings/domains/", {"domain": "kiln.org"})
    assert Work.objects.filter(kind="domain").count() == 1
    assert "waiting for a worker" in client.get("/settings/domains/").content.decode()
    with pytest.raises(Refused, match="none of the domains"):
        domains.look_for_record(house.owner, house.workspace, "strangers.org")
    with pytest.raises(NotAllowed):
        domains.look_for_record(house.author, house.workspace, "kiln.org")
    settings.ASKS_DNS = False
    with pytest.raises(Refused, match="asks no name servers"):
        domains.look_for_record(house.owner, house.workspace, "kiln.org")
