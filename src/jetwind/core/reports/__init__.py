"""A review as JSON, SARIF 2.1.0, CSV, HTML, or text for people."""

from jetwind.core.reports.html_report import as_html
from jetwind.core.reports.json_report import as_json, finding_as_dict
from jetwind.core.reports.review import Review, Summary, review, summary_of
from jetwind.core.reports.sarif import Fix, Replacement, as_sarif
from jetwind.core.reports.stations import STATIONS, Station, station_of
from jetwind.core.reports.tables import as_csv, as_text

__all__ = [
    "STATIONS",
    "Fix",
    "Replacement",
    "Review",
    "Station",
    "Summary",
    "as_csv",
    "as_html",
    "as_json",
    "as_sarif",
    "as_text",
    "finding_as_dict",
    "review",
    "station_of",
    "summary_of",
]
