"""The clearance record as a PDF that people read: what was cleared, by whom, under which rule, with its renders."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

from jetwind.apps.previews.sheets import FONT, Shot, draw_shots, plain

#: Lines of findings, excuses and checks that one list holds; the JSON file has all of them.
_MOST = 200


def as_pdf(record: dict[str, Any], digest: str, shots: Sequence[Shot]) -> bytes:
    """The record on A4, then the renders. ``digest`` is the SHA-256 of the record as JSON."""
    from fpdf import FPDF

    pdf = FPDF(orientation="portrait", unit="mm", format="A4")
    pdf.set_auto_page_break(True, margin=15)
    message = record["message"]
    pdf.set_title(plain(f"Clearance of {message['title']}, revision {message['revision']}"))
    pdf.set_creator("Jetwind")
    pdf.set_lang("en")
    pdf.add_font("Text", fname=str(FONT))
    pdf.add_page()

    def line(text: str, size: float = 9.5) -> None:
        pdf.set_font("Text", size=size)
        pdf.multi_cell(0, size * 0.5, plain(text), align="L", new_x="LMARGIN", new_y="NEXT")

    def heading(text: str) -> None:
        pdf.ln(3)
        line(text, 13)
        pdf.ln(1)

    line(f"Clearance: {message['title']}", 18)
    line(f"Revision {message['revision']}, subject “{message['subject']}”")
    released = record["released"]
    line(f"Released by {released['by']} at {released['at']}")
    line(f"Kind: {message['kind']}. Audience: {message['audience'] or 'not said'}. Planned: {message['planned'] or 'not said'}.")
    line(f"Taken in by {message['uploaded_by']} at {message['uploaded']}")
    line(f"SHA-256 of the content: {message['content_sha256']}", 8)
    line(f"SHA-256 of this record as JSON: {digest}", 8)
    heading("The rule of sign-off")
    for sentence in record.get("rule", ()):
        line(f"– {sentence}")
    heading("Signatures")
    for one in record["sign_offs"]:
        line(f"– {_signature(one)}")
    _list(line, heading, "Stations left out", [f"{name}: {why}" for name, why in record.get("stations_left_out", {}).items()])
    _list(line, heading, "Open findings", [f"{one['level']}: {one['finding']} ({one['check']})" for one in record["open_findings"]])
    _list(line, heading, "Excused findings", [_excuse(one) for one in record["excused"]])
    _list(
        line,
        heading,
        "Test sends",
        [f"by {one['by']} at {one['at']} to “{one['list']}”, {one['copies']} copies" for one in record["test_sends"]],
    )
    heading("Parts")
    for part in record["parts"]:
        line(f"{part['part']} {part['name']}  SHA-256 {part['sha256']}", 8)
    clear = sum(outcome == "clear" for outcome in record["checks"].values())
    line(f"{len(record['checks'])} checks were asked; {clear} of them found nothing. The file clearance.json names each.")
    if shots:
        draw_shots(pdf, f"{message['title']}, revision {message['revision']}", shots)
    out = io.BytesIO()
    out.write(bytes(pdf.output()))
    return out.getvalue()


def _list(line: Any, heading: Any, title: str, entries: Sequence[str]) -> None:
    if not entries:
        return
    heading(title)
    for entry in entries[:_MOST]:
        line(f"– {entry}")
    if len(entries) > _MOST:
        line(f"and {len(entries) - _MOST} more, which the file clearance.json has")


def _signature(one: dict[str, Any]) -> str:
    said = f"{one['by']}, {one['role']}, at {one['at']}"
    said += f", in the place of {one['in_place_of']}" if "in_place_of" in one else ""
    said += f": “{one['comment']}”" if one["comment"] else ""
    return said + (f"; it counted once {one['condition']}" if "condition" in one else "")


def _excuse(one: dict[str, Any]) -> str:
    confirmed = f", confirmed by {one['confirmed_by']}" if "confirmed_by" in one else ""
    return f"{one['finding']} ({one['check']}): {one['reason']} – {one['by']}{confirmed}"
