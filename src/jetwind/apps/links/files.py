"""The links of a revision as files: CSV (RFC 4180), and HAR 1.2 with every hop."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from django.utils.dateparse import parse_datetime

from jetwind import __version__
from jetwind.apps.links.models import ShortAnswer
from jetwind.apps.links.stations.links import Station
from jetwind.core.links.addresses import parsed
from jetwind.core.source import cells

COLUMNS = (
    "line",
    "name",
    "written",
    "address",
    "role",
    "where",
    "readers",
    "status",
    "answer",
    "hops",
    "ends_at",
    "ms",
    "title",
    "heading",
    "asked_at",
)


def as_csv(station: Station) -> str:
    """A row for each place and address."""
    return cells.as_csv(COLUMNS, _rows(station))


def _rows(station: Station) -> Iterator[list[object]]:
    standings = dict(zip((one.address for one in station.listing.destinations), station.standings({}), strict=True))
    readers = {one.address: ", ".join(one.readers) for one in station.listing.destinations}
    for row in station.listing.rows:
        for address in row.addresses or ("",):
            answer = station.values.get(address)
            page = answer.page if answer is not None else None
            yield [
                *(row.line or "", row.name, row.written, address, row.role, row.where, readers.get(address, "")),
                *(answer.status or "" if answer else "", standings[address].words if address else ""),
                *((len(answer.redirects), answer.final, answer.took_ms) if answer else ("", "", "")),
                *(page.title if page else "", page.heading if page else "", answer.asked_at if answer else ""),
            ]


def as_har(station: Station) -> str:
    """Every hop of every answer as an entry of an HTTP archive (HAR 1.2, W3C Web Performance, section "HAR Data Structure")."""
    rows = sorted((row for row in station.rows.values()), key=lambda row: (row.asked_at, row.pk))
    log = {
        "version": "1.2",
        "creator": {"name": "Jetwind", "version": __version__},
        "pages": [_page(row) for row in rows],
        "entries": [entry for row in rows for entry in _entries(row)],
    }
    return json.dumps({"log": log}, indent=1, ensure_ascii=False)


def _page(row: ShortAnswer) -> dict[str, Any]:
    value = row.value
    return {
        "startedDateTime": row.asked_at.isoformat(),
        "id": f"answer_{row.pk}",
        "title": (value.page.title if value.page else "") or value.address,
        "pageTimings": {"onContentLoad": -1, "onLoad": value.took_ms if value.is_opened else -1},
        **({"comment": f"{value.problem}: {value.why}"} if value.problem else {}),
    }


def _entries(row: ShortAnswer) -> list[dict[str, Any]]:
    value = row.value
    began = parse_datetime(value.asked_at) or row.asked_at
    return [
        {
            "pageref": f"answer_{row.pk}",
            "startedDateTime": (began + timedelta(milliseconds=hop.started_ms)).isoformat(),
            "time": hop.took_ms,
            "request": {
                "method": hop.method,
                "url": hop.address,
                "httpVersion": "HTTP/1.1",
                "cookies": [],
                "headers": [],
                "queryString": _query(hop.address),
                "headersSize": -1,
                "bodySize": 0,
            },
            "response": {
                "status": hop.status,
                "statusText": "",
                "httpVersion": "HTTP/1.1",
                "cookies": [],
                "headers": [],
                "content": {
                    "size": value.octets if hop is value.hops[-1] else 0,
                    "mimeType": value.content_type if hop is value.hops[-1] else "",
                },
                "redirectURL": hop.to,
                "headersSize": -1,
                "bodySize": -1,
            },
            "cache": {},
            "timings": {"send": 0, "wait": hop.took_ms, "receive": 0},
            **({"serverIPAddress": hop.ip} if hop.ip else {}),
        }
        for hop in value.hops
    ]


def _query(href: str) -> list[dict[str, str]]:
    address = parsed(href)
    return [{"name": name, "value": value} for name, value in address.parameters] if address is not None else []
