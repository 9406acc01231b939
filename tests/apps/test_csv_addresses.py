"""Every address that answers with a table: found by walking the addresses, and held against what a spreadsheet would run."""

import csv
import io
import re
import zipfile
from typing import Any

import pytest

from jetwind.apps.workspace.addresses import addresses
from jetwind.apps.workspace.models import SampleReader
from tests.apps.helpers import taken_in
from tests.apps.test_addresses import path_of, things
from tests.factories import mail

__all__ = ["things"]

_RUN = re.compile("[\\s\ufeff\u200b]*[=+\\-@＝＋－＠]|[\t\r\n]")
HOSTILE = "=HYPERLINK(&quot;https://x.org&quot;)"


@pytest.fixture
def hostile(house: Any, things: dict[str, Any]) -> dict[str, Any]:
    """The house with formulas wherever a message or a reader can hold one."""
    html = f"<p>{HOSTILE} teh teh</p><a href='=cmd()'>＝1+1</a><a href='http://kiln.org/@SUM(A1)'>@SUM(A1)</a><img src='=1.png'>"
    revision = taken_in(house, mail(html, "=1+1", Subject="=1+1", From="@kiln <=x>"), "=1.eml")
    SampleReader.objects.create(workspace=house.workspace, name="=1+1", values={"first_name": "\ufeff=1", "＝f": "+1"})
    return {**things, "mailing_id": revision.mailing_id, "number": revision.number}


def tables(answer: Any) -> list[str]:
    """The tables of an answer: itself, or those in its archive."""
    data = b"".join(answer)  # The zip of lighter pictures has its table held by tests/core/test_images.py and test_cells.py.
    if data.startswith(b"PK"):
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            return [packed.read(name).decode("utf-8-sig") for name in packed.namelist() if name.endswith(".csv")]
    return [data.decode("utf-8")] if answer.headers["Content-Type"].startswith("text/csv") else []


def test_no_address_gives_a_formula(house: Any, hostile: dict[str, Any]) -> None:
    """Each address is asked, in every form that it knows; a table has no cell that a spreadsheet runs."""
    client = house.client(house.reviewer)
    found = set()
    for address in addresses():
        if address.asked is None or address.asked.look is None:
            continue
        path = path_of(address.name, address.path, {**hostile, "form": "csv", "kind": "csv"})
        for query in ("", "?form=csv", "?format=csv"):
            answer = client.get(path + query)
            for table in tables(answer):
                found.add(address.name)
                cells = [cell for row in csv.reader(io.StringIO(table, newline=""), strict=True) for cell in row]
                assert cells
                assert [cell for cell in cells if _RUN.match(cell)] == [], address.name
    assert found >= {"report", "links-file", "save-readers"}, found
