"""The checks with their levels and thresholds, as the settings screen shows and sends them."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from jetwind.core.checking import Check, options_of, registry
from jetwind.core.reports import STATIONS, station_of


@dataclass(frozen=True, slots=True)
class Setting:
    """One threshold: its name in words, the name of its input, its value and default, and what the input takes."""

    label: str
    input: str
    value: str
    default: str
    kind: str
    is_on: bool
    note: str


@dataclass(frozen=True, slots=True)
class CheckRow:
    """One check on the screen."""

    check: Check
    level: str
    is_changed: bool
    settings: list[Setting]


def check_groups(settings: Mapping[str, Mapping[str, Any]], posted: Mapping[str, str] | None = None) -> list[tuple[str, list[CheckRow]]]:
    """Rows by station. What was typed and refused is shown again."""
    groups: list[tuple[str, list[CheckRow]]] = []
    for station in STATIONS:
        rows = [_row(check, settings.get(check.id, {}), posted) for check in registry().values() if station_of(check.id) is station]
        if rows:
            groups.append((station.name, rows))
    return groups


def _row(check: Check, own: Mapping[str, Any], posted: Mapping[str, str] | None) -> CheckRow:
    shown: list[Setting] = []
    for option in options_of(check.options):
        default = option.default
        name = f"{check.id}:{option.name}"
        value = own.get(option.name, default)
        is_on = (name in posted) if posted is not None else bool(value)
        kind = "checkbox" if isinstance(default, bool) else "number" if isinstance(default, (int, float)) else "text"
        text = posted.get(name, "") if posted is not None else str(value)
        shown.append(
            Setting(
                option.name.replace("_", " ").capitalize(),
                name,
                value=text,
                default=str(default),
                kind=kind,
                is_on=is_on,
                note=f"{option.note} ({option.range})",
            )
        )
    level = posted.get(f"{check.id}:level", check.level.value) if posted is not None else str(own.get("level", check.level.value))
    return CheckRow(check, level, bool(own), shown)


def chosen_settings(posted: Mapping[str, str]) -> dict[str, dict[str, Any]]:
    """The values that the screen sends, in the types of the checks' own defaults; a value that cannot be read stays text, and is refused."""
    found: dict[str, dict[str, Any]] = {}
    for check in registry().values():
        if f"{check.id}:level" not in posted:
            continue
        own: dict[str, Any] = {"level": posted[f"{check.id}:level"]}
        defaults = check.options()
        for option in dataclasses.fields(defaults):
            own[option.name] = _typed(posted.get(f"{check.id}:{option.name}"), getattr(defaults, option.name))
        found[check.id] = own
    return found


def _typed(text: str | None, default: Any) -> Any:
    if isinstance(default, bool):
        return text is not None
    if text is None:
        return default
    try:
        return type(default)(text.strip())
    except ValueError:
        return text
