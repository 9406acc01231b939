"""All sure mends of a message with their proof by checks, against one static review.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.mending
"""

from __future__ import annotations

from benchmarks.common import compare
from jetwind.core.checking import Context
from jetwind.core.checking.mends import MendKind
from jetwind.core.mending import Before, mended, offers_of
from jetwind.core.message import Message, read_bytes
from jetwind.core.reports import Review, review
from tests.factories import mail


def main() -> None:
    """Print the rows: a message of 100 KB with faults in every row, and one with a single fault."""
    for what, faulty in (("faults in every row", 300), ("one fault", 1)):
        rows = "".join(
            f"<table{'' if number < faulty else ' role=presentation'}><tr><td style='padding:{number % 9}px'><h2>Course {number}</h2>"
            f"<p>Sentence {number} about pots and glazes on the quay. Another one.</p>"
            f"<a href='https://www.kiln.org/c/{number}{' x' if number < faulty else ''}'>See course {number}</a></td></tr></table>"
            for number in range(300)
        )
        raw = mail(f"<!doctype html><html lang='en'><head><title>Courses</title></head><body>{rows}</body></html>", "Courses")
        compare(
            f"mends of {len(raw) // 1024} KB, {what}",
            "one static review",
            lambda raw=raw: reviewed(read_bytes(raw, "a.eml")),
            lambda raw=raw: mend_all(raw),
            3,
        )


def reviewed(message: Message) -> Review:
    """All checks on a message."""
    return review(message, Context())


def mend_all(raw: bytes) -> None:
    """The message read and reviewed, its sure mends made, and the result read and reviewed."""
    message = read_bytes(raw, "a.eml")
    found = reviewed(message).results
    before = Before(message, raw, found, lambda octets: read_bytes(octets, "a.eml"), lambda after: reviewed(after).results)
    offers = [one for one in offers_of(message, Context(), found)[0] if one.kind is MendKind.SURE]
    done = mended(before, offers)
    assert len(done.taken) == len(offers) > 0, done.withheld


if __name__ == "__main__":
    main()
