"""A test copy as an inbox received it, held against the copy as it was handed over: what differs, the way it took, what the receiver says."""

from jetwind.core.arrivals.comparing import LIKENESS, compare
from jetwind.core.arrivals.differences import Arrivals, Compared, Difference, DifferenceKind
from jetwind.core.arrivals.judging import Journey, judge
from jetwind.core.arrivals.reports import Report, ReportKind, report_in
from jetwind.core.arrivals.results import Verdict, Verdicts, verdicts_of
from jetwind.core.arrivals.status import said_of, status_in
from jetwind.core.arrivals.way import Hop, LateHop, hops_of, late_hop

__all__ = [
    "LIKENESS",
    "Arrivals",
    "Compared",
    "Difference",
    "DifferenceKind",
    "Hop",
    "Journey",
    "LateHop",
    "Report",
    "ReportKind",
    "Verdict",
    "Verdicts",
    "compare",
    "hops_of",
    "judge",
    "late_hop",
    "report_in",
    "said_of",
    "status_in",
    "verdicts_of",
]
