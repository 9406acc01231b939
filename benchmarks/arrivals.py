"""Comparing an arrival of 100 KB with its copy, against parsing both.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.arrivals
"""

from __future__ import annotations

from benchmarks.common import compare
from jetwind.core.arrivals import compare as compare_mails
from jetwind.core.links import links
from jetwind.core.message import Message, read_bytes
from jetwind.core.prose.reading import reading_of
from tests.factories import mail


def main() -> None:
    """Print the rows: a copy that arrived as it was, and one with forty rewritten links and a footer."""
    rows = "".join(
        f"<tr><td style='padding:{number % 9}px'><h2>Course {number}</h2><p>Sentence {number} about pots and glazes on the quay. Another one.</p>"
        f"<a href='https://www.kiln.org/c/{number}'>See course {number}</a></td></tr>"
        for number in range(420)
    )
    html = f"<html lang='en'><head><style>p {{ margin: 0 }}</style></head><body><table>{rows}</table></body></html>"
    text = "\n\n".join(f"Course {number}\nSentence {number} about pots. https://www.kiln.org/c/{number}" for number in range(420))
    before = mail(html, text)
    changed = html.replace("https://www.kiln.org/c/1", "https://guard.example/c/1").replace(
        "</body>", "<p>Checked by the gateway.</p></body>"
    )
    for what, after in (("as it was sent", before), ("with links rewritten", mail(changed, text))):
        compare(
            f"an arrival of {len(after) // 1024} KB, {what}",
            "parsing both",
            lambda after=after: (parsed(before), parsed(after)),
            lambda after=after: compare_mails(read(before), read(after)),
            3,
        )


def read(raw: bytes) -> Message:
    """The message, not parsed yet."""
    return read_bytes(raw, "a.eml")


def parsed(raw: bytes) -> None:
    """The message with its tree, its visible copy and its links."""
    message = read(raw)
    assert message.document is not None and reading_of(message).passages
    assert list(links(message))


if __name__ == "__main__":
    main()
