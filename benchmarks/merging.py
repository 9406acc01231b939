"""A message with thirty fields merged for five hundred readers, against each distinct outcome once.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.merging
"""

from __future__ import annotations

from benchmarks.common import compare
from jetwind.core.fields import merge, merge_each

FIELDS = [f"field_{number}" for number in range(30)]


def main() -> None:
    """Print the row: twelve distinct outcomes in a body of 60 KB, a plain part and a subject."""
    fields = " ".join(f"{{{{ {name} | default: 'there' }}}}" for name in FIELDS)
    body = "".join(f"<tr><td>{fields}{{% if field_1 == '1' %}}<b>{number}</b>{{% endif %}}</td></tr>\n" for number in range(50))
    parts = [(body, True), (fields * 4, False), ("Hello {{ field_0 }}", False)]
    rows = [{name: str(number % (3 if at % 2 else 4)) for at, name in enumerate(FIELDS)} for number in range(500)]
    distinct = list({tuple(row.items()): row for row in rows}.values())
    print(f"{sum(len(part) for part, _ in parts):,} characters, {len(rows)} readers, {len(distinct)} outcomes")
    compare(
        "500 readers x 30 fields x all parts",
        "each distinct outcome once",
        lambda: [merge(part, row, escape=escape) for part, escape in parts for row in distinct],
        lambda: [merge_each(part, rows, escape=escape) for part, escape in parts],
        2,
        rounds=3,
    )


if __name__ == "__main__":
    main()
