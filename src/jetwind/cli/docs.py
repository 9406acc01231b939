"""``python -m jetwind.cli.docs [--check]``: the pages of docs/checks/, made from the registry; --check only compares."""

from __future__ import annotations

import sys
from pathlib import Path

from jetwind.core.checking import Check, CheckSample, asking, options_of, registry, rulebooks
from jetwind.core.checking.mends import mends
from jetwind.core.profiles import profiles, usual
from jetwind.core.profiles.support import features, origin
from jetwind.core.renders.measured import Block
from jetwind.core.reports import STATIONS, station_of
from jetwind.core.spam import BANDS, GROUPS, Reason, declared, weight_of
from jetwind.core.spam.words import LEAST, MOST
from jetwind.core.styles.contrast import as_hex
from jetwind.variables import as_page

ROOT = Path(__file__).resolve().parents[3]
FOLDER = ROOT / "docs" / "checks"
README = ROOT / "README.md"
REASONS = ROOT / "docs" / "spam-reasons.md"
VARIABLES = ROOT / "docs" / "variables.md"
#: The ids that checks have, one on a line. It only grows: removing or renaming an id breaks the excuses of everybody who used it.
IDS = ROOT / "docs" / "checks" / "ids.txt"
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


def reasons_page() -> str:
    """docs/spam-reasons.md: every reason of spam risk with its weight and its samples."""
    lines = [
        "# The reasons of spam risk",
        "",
        "Made from the declarations by `python -m jetwind.cli.docs`; do not edit. Measured weights come from [spam-calibration.md](spam-calibration.md).",
        "",
        "Source of all of them: common practice, no published source. A message is low under "
        f"{BANDS['medium']:g} points, medium under {BANDS['high']:g}, and high from there.",
    ]
    for group in GROUPS:
        lines += ["", f"## {group.capitalize()}"]
        for reason in declared().values():
            if reason.group == group:
                lines += ["", *_reason(reason)]
    return "\n".join(lines) + "\n"


def _reason(reason: Reason) -> list[str]:
    points = f"{LEAST:g} to {MOST:g}" if reason.id == "words" else f"{weight_of(reason):.2f}"
    lines = [
        f"### {reason.name}",
        "",
        f"`spam.{reason.id}` · {points} points, {'set by hand' if reason.by_hand else 'measured'}",
        "",
        f"{(reason.judge.__doc__ or '').strip().splitlines()[0]} {reason.why}",
        "",
        f"**What helps.** {reason.fix}",
    ]
    for title, fires in (("Applies to", True), ("Leaves alone", False)):
        sample = next(sample for sample in reason.samples if sample.fires is fires)
        lines += ["", f"{title}:", "", "```", _shown_sample(sample), "```"]
    return lines


def _shown_sample(sample: CheckSample) -> str:
    source = sample.source if len(sample.source) <= _LONGEST_SAMPLE else sample.source[:_LONGEST_SAMPLE] + " …"
    # An octet that is no character is shown by its number.
    source = source.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return source.replace("```", "'''").replace("\r\n", "\n").rstrip("\n")


def _page(check: Check) -> str:
    lines = [
        f"# {check.name}",
        "",
        f"`{check.id}` · {check.level.value} · {station_of(check.id).name}",
        "",
        check.rule,
        "",
        f"**Why it matters.** {check.why}",
        "",
    ]
    lines += [f"**How to mend it.** {check.fix}", ""]
    own = mends().get(check.id, ())
    for one in own:
        lines += [f"**Mended by `./jetwind mend`** ({one.kind.value}). {one.does} {one.leaves}", ""]
    lines += [f"**Rests on.** {check.basis}", ""]
    if demands := asking(check.id, (), ()):
        lines += ["**Demanded by.**", "", *(f"- {book.name}: {demand.says} ({demand.source})" for book, demand in demands), ""]
    if options := options_of(check.options):
        lines += ["## Options", "", "| option | default | takes | what it is |", "| --- | --- | --- | --- |"]
        lines += [f"| `{option.name}` | `{option.default!r}` | {option.range} | {option.note} |" for option in options]
        lines.append("")
    for title, fires in (("Fires on", True), ("Leaves alone", False)):
        lines += [f"## {title}", ""]
        for sample in check.samples:
            if sample.fires is fires:
                lines += ["```", _shown_sample(sample), "```", ""]
                if measured := _measured(sample):
                    lines += [f"Measured: {measured}.", ""]
    if own:
        lines += ["## Mended", ""]
        for turned in (sample for one in own for sample in one.samples):
            if turned.after is not None and "\r" not in turned.after:
                lines += ["```", _shown_sample(turned.before), "```", "", "becomes", "", "```", turned.after.rstrip("\n"), "```", ""]
    return "\n".join(lines).rstrip("\n") + "\n"


def _measured(sample: CheckSample) -> str:
    """A sample's renders in words."""
    renders = sample.context().renders
    parts: list[str] = []
    for render in renders.renders.values() if renders is not None else ():
        measured = render.measured
        parts.append(f"in “{render.profile.name}”, {measured.content_width} of {measured.width} px wide")
        parts += [_block(block) for block in measured.blocks]
    if renders is not None:
        parts += [f"the loss of {shown.title} shows in the {shown.effect}" for shown in renders.shown or ()]
    return "; ".join(parts)


def _block(block: Block) -> str:
    said = f"{block.kind} of {block.width:g} × {block.height:g} px at {block.x:g}, {block.y:g}"
    if block.characters:
        said += f", {block.characters} letters"
    if block.size:
        said += f" of {block.size:g} px"
    if block.colour is not None:
        said += f" in {as_hex(block.colour)}"
    if block.ground is not None:
        said += f" on {as_hex(block.ground)}"
    if block.in_text:
        said += (
            ", among words" if block.marked else f", among words in {as_hex(block.other_colour)}" if block.other_colour else ", among words"
        )
    return said


def listed_ids(before: str) -> str:
    """The list of ids with those of new checks.

    Raises:
        ValueError: a check of the list is gone.
    """
    gone = set(before.split()) - registry().keys()
    if gone:
        raise ValueError(
            f"{', '.join(sorted(gone))}: the id is in use; a check keeps its id, or its line is taken out of {IDS.name} by hand"
        )
    return "\n".join(sorted(registry())) + "\n"


def counted(readme: str) -> str:
    """The README with its counts as they are now, between the marks for them.

    Raises:
        ValueError: the marks are not there.
    """
    start, end = "<!-- counts -->", "<!-- end of counts -->"
    before, found, rest = readme.partition(start)
    _, closed, after = rest.partition(end)
    if not found or not closed:
        raise ValueError(f"README.md lacks the marks {start} and {end}")
    known = registry().values()
    by_station = {station.name: sum(station_of(check.id) is station for check in known) for station in STATIONS}
    stations = ", ".join(f"{name} {number}" for name, number in by_station.items() if number)
    table = origin()
    text = (
        f"{len(known)} checks ({stations}), {sum(len(options_of(check.options)) for check in known)} thresholds, "
        f"{sum(len(check.samples) for check in known)} samples that fire or must not; {len(profiles())} client profiles, {len(usual())} of them "
        f"in the usual set, after a support table of {len(features())} features ({table['date']}); {len(rulebooks())} rulebooks; "
        f"{len(declared())} reasons of spam risk, {sum(not reason.by_hand for reason in declared().values())} of them measured."
    )
    return f"{before}{start}\n{text}\n{end}{after}"


def stale() -> list[str]:
    """Names of pages that are missing, differ, or belong to no check; and the README, if its counts are not those of now."""
    wanted = pages()
    there = {path.name: path.read_text("utf-8") for path in FOLDER.glob("*.md")} if FOLDER.is_dir() else {}
    readme = README.read_text("utf-8")
    old = [] if counted(readme) == readme else ["../../README.md"]
    old += [] if REASONS.is_file() and REASONS.read_text("utf-8") == reasons_page() else ["../spam-reasons.md"]
    old += [] if IDS.is_file() and IDS.read_text("utf-8").split() == sorted(registry()) else [IDS.name]
    old += [] if VARIABLES.is_file() and VARIABLES.read_text("utf-8") == as_page() else ["../variables.md"]
    return sorted(name for name in wanted.keys() | there.keys() if wanted.get(name) != there.get(name)) + old


def main(arguments: list[str]) -> int:
    """Write the pages and the README's counts, or with --check say which are stale."""
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
    IDS.write_text(listed_ids(IDS.read_text("utf-8") if IDS.is_file() else ""), "utf-8")
    REASONS.write_text(reasons_page(), "utf-8")
    VARIABLES.write_text(as_page(), "utf-8")
    README.write_text(counted(README.read_text("utf-8")), "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
