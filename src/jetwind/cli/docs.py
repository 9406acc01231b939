"""``python -m jetwind.cli.docs [--check]``: the pages of docs/checks/, made from the registry; --check only compares."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path

from jetwind.core.checking import Check, registry

FOLDER = Path(__file__).resolve().parents[3] / "docs" / "checks"
_LONGEST_SAMPLE = 200


def pages() -> dict[str, str]:
    """File name to content for every page."""
    checks = registry()
    index = [
        "# The checks",
        "",
        "Made from the declarations by `python -m jetwind.cli.docs`; do not edit.",
        "",
        "| id | level | name |",
        "| --- | --- | --- |",
    ]
    index += [f"| [{check.id}]({check.id}.md) | {check.level.value} | {check.name} |" for check in checks.values()]
    return {"README.md": "\n".join(index) + "\n", **{f"{check.id}.md": _page(check) for check in checks.values()}}


def _page(check: Check) -> str:
    lines = [
        f"# {check.name}",
        "",
        f"`{check.id}` · {check.level.value} · {check.station.name}",
        "",
        check.rule,
        "",
        f"**Why it matters.** {check.why}",
        "",
    ]
    lines += [f"**How to mend it.** {check.fix}", "", f"**Rests on.** {check.basis}", ""]
    if options := dataclasses.fields(check.options()):
        lines += ["## Options", "", "| option | default |", "| --- | --- |"]
        lines += [f"| `{option.name}` | `{getattr(check.options(), option.name)!r}` |" for option in options]
        lines.append("")
    for title, fires in (("Fires on", True), ("Leaves alone", False)):
        lines += [f"## {title}", ""]
        for sample in check.samples:
            if sample.fires is fires:
                source = sample.source if len(sample.source) <= _LONGEST_SAMPLE else sample.source[:_LONGEST_SAMPLE] + " …"
                lines += ["```", source.replace("```", "'''").replace("\r\n", "\n").rstrip("\n"), "```", ""]
    return "\n".join(lines).rstrip("\n") + "\n"


def stale() -> list[str]:
    """Names of pages that are missing, differ, or belong to no check."""
    wanted = pages()
    there = {path.name: path.read_text("utf-8") for path in FOLDER.glob("*.md")} if FOLDER.is_dir() else {}
    return sorted(name for name in wanted.keys() | there.keys() if wanted.get(name) != there.get(name))


def main(arguments: list[str]) -> int:
    """Write the pages, or with --check say which are stale."""
    if arguments == ["--check"]:
        for name in stale():
            print(f"docs/checks/{name} is not what the registry says; run: python -m jetwind.cli.docs", file=sys.stderr)
        return 1 if stale() else 0
    FOLDER.mkdir(parents=True, exist_ok=True)
    wanted = pages()
    for path in FOLDER.glob("*.md"):
        if path.name not in wanted:
            path.unlink()
    for name, content in wanted.items():
        (FOLDER / name).write_text(content, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
