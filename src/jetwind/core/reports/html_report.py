"""The report as one HTML file that needs nothing else: for a ticket, a mail, an archive."""

from __future__ import annotations

from html import escape

from jetwind import __version__
from jetwind.core.checking import STATIONS, Finding, Level, Outcome
from jetwind.core.reports.review import Review
from jetwind.core.source import Span

_BARS = {Level.STOP: 3, Level.FIX: 2, Level.NOTE: 1}
_STYLE = """
:root{color-scheme:light dark;--paper:#F6F4EE;--surface:#FFF;--ink:#1B2430;--muted:#5A6675;--line:#D9D5CA;--stop:#A61B29;--fix:#8A5A00;--note:#4A5B6C}
@media (prefers-color-scheme:dark){:root{--paper:#151B23;--surface:#1C242E;--ink:#E8EAED;--muted:#A4AFBC;--line:#35404C;--stop:#FF9AA2;--fix:#F0BE5E;--note:#B4C2D0}}
body{margin:0 auto;max-width:60rem;padding:1.5rem;background:var(--paper);color:var(--ink);font:15px/1.5 "Atkinson Hyperlegible Next",Verdana,sans-serif}
h1{font-size:1.5rem;margin:0 0 .25rem}h2{font-size:1.1rem;margin:1.75rem 0 .5rem}p{margin:.25rem 0}
.muted{color:var(--muted)}article{background:var(--surface);border:1px solid var(--line);border-radius:4px;margin:.5rem 0;padding:.75rem 1rem}
.level-stop{color:var(--stop)}.level-fix{color:var(--fix)}.level-note{color:var(--note)}
pre{margin:.5rem 0 0;padding:.5rem;border:1px solid var(--line);border-radius:4px;white-space:pre-wrap;overflow-wrap:anywhere;font:13px/1.45 ui-monospace,monospace}
mark{background:none;color:inherit;outline:2px solid currentColor;outline-offset:1px}
svg{vertical-align:-1px;fill:currentColor}table{border-collapse:collapse;width:100%;font-size:13.5px}td,th{border-bottom:1px solid var(--line);padding:.25rem .5rem;text-align:left;vertical-align:top}
"""


def as_html(review: Review, title: str = "") -> str:
    """The report. Everything that comes from the message is escaped; the file loads nothing and runs nothing."""
    message = review.message
    heading = title or message.subject or "Message without a subject"
    counts = ", ".join(
        f"{sum(finding.level is level for finding in review.findings)} {word}"
        for level, word in ((Level.STOP, "stops"), (Level.FIX, "fixes"), (Level.NOTE, "notes"))
    )
    parts = [
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n<meta name="viewport" content="width=device-width, initial-scale=1">',
        "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">",
        f"<title>{escape(heading)} · review</title>\n<style>{_STYLE}</style>\n</head>\n<body>\n<main>",
        f"<h1>{escape(heading)}</h1>",
        f'<p class="muted">{counts}; spam risk {review.spam.score():.1f} {review.spam.band()}. Content {message.sha256}. Jetwind {__version__}.</p>',
    ]
    for station in STATIONS:
        found = [finding for finding in review.findings if finding.station is station]
        if found:
            parts.append(f"<section>\n<h2>{escape(station.name)}</h2>")
            parts += [_finding(review, finding) for finding in found]
            parts.append("</section>")
    if not review.findings:
        parts.append("<p>Nothing was found.</p>")
    parts.append(_answers(review))
    return "\n".join([*parts, "</main>\n</body>\n</html>\n"])


def _finding(review: Review, finding: Finding) -> str:
    place = finding.place
    where = f"{place.part} {place.name}".strip() + (f", line {place.start.line}, column {place.start.column}" if place.start else "")
    bars = "".join(
        f'<rect x="{number * 5}" y="{8 - 2 * number}" width="3" height="{4 + 2 * number}" opacity="{1 if number < _BARS[finding.level] else 0.2}"/>'
        for number in range(3)
    )
    level = finding.level.value
    return (
        f'<article>\n<p class="level-{level}"><svg width="14" height="12" viewBox="0 0 14 12" aria-hidden="true">{bars}</svg> <b>{level.capitalize()}</b></p>'
        f"<p>{escape(finding.message)}</p>\n<p>{escape(finding.fix)}</p>"
        f'<p class="muted">{escape(where)} · {escape(finding.check)} · {escape(finding.basis)} · {finding.fingerprint}</p>{_excerpt(review, finding)}\n</article>'
    )


def _excerpt(review: Review, finding: Finding) -> str:
    place = finding.place
    source = review.message.source_of(place.part)
    if source is None or place.start is None or place.end is None or not source.text:
        return ""
    found = source.excerpt(Span(place.start.offset, place.end.offset), lines=1, width=120)
    marked = found.marked if len(found.marked) <= 400 else found.marked[:300] + " … " + found.marked[-80:]
    return f"\n<pre>{escape(found.before)}<mark>{escape(marked)}</mark>{escape(found.after)}</pre>"


def _answers(review: Review) -> str:
    rows = [
        f"<tr><td>{escape(result.check)}</td><td>{escape(result.outcome.value.replace('-', ' '))}</td><td>{escape(result.reason)}</td></tr>"
        for result in review.results
        if result.outcome is not Outcome.FINDINGS
    ]
    return (
        "<section>\n<h2>Checks that found nothing</h2>\n<table><thead><tr><th>Check</th><th>Answer</th><th>Why</th></tr></thead><tbody>"
        + "".join(rows)
        + "</tbody></table>\n</section>"
    )
