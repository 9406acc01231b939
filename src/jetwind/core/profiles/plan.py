"""A profile's losses sorted by what they are about, and the verdict on one declaration or one selector."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING, Literal

import tinycss2

from jetwind.core.facts import table
from jetwind.core.facts.tables import StandInFonts
from jetwind.core.profiles.night import Night, Role, at_night
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.support import Loss
from jetwind.core.styles import colours
from jetwind.core.styles.reading import value_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Value

    from jetwind.core.profiles.stylesheet import CssChange

Where = Literal["attribute", "sheet"]


@dataclass(frozen=True, slots=True)
class Verdict:
    """The fate of a declaration: ``text`` in its place ("" where it goes), because of ``losses`` or, with none, of ``why``.

    Elements that ``spares`` names keep it as it was. ``whole`` says that the attribute or sheet around it goes too.
    """

    text: str
    losses: tuple[Loss, ...] = ()
    why: tuple[str, str] | None = None
    whole: bool = False
    #: The only elements that it is about, where a client's own reading and no loss says so.
    only_on: frozenset[str] = frozenset()

    @property
    def is_conditional(self) -> bool:
        """Whether it depends on the element."""
        return bool(self.only_on) or any(loss.elements is not None or loss.not_elements is not None for loss in self.losses)

    def spares(self, tag: str) -> bool:
        """Whether an element of that name keeps the declaration as it was."""
        if self.only_on:
            return tag not in self.only_on
        return bool(self.losses) and all(loss.spares(tag) for loss in self.losses)

    @property
    def spared(self) -> str:
        """A selector, without weight, for the elements that keep the declaration."""
        if not self.only_on and (kept := self.losses[0].not_elements) is not None:
            return f":where({', '.join(sorted(kept))})"
        return f":where(:not({', '.join(sorted(self.only_on or self.losses[0].elements or ()))}))"

    @property
    def touched(self) -> str:
        """A selector, without weight, for the elements that do not keep it."""
        if not self.only_on and (kept := self.losses[0].not_elements) is not None:
            return f":where(:not({', '.join(sorted(kept))}))"
        return f":where({', '.join(sorted(self.only_on or self.losses[0].elements or ()))})"


@dataclass(eq=False)
class Plan:
    """Everything that a profile does to style sheets and markup, made once for each profile and way of showing it."""

    profile: Profile
    losses: tuple[Loss, ...]
    web_fonts: frozenset[str] = frozenset()
    is_whole: bool = True
    spared: str = ""
    by_how: dict[str, list[Loss]] = field(default_factory=dict)
    by_property: dict[str, list[Loss]] = field(default_factory=dict)
    _verdicts: dict[tuple[str, str, bool, Where], Verdict | None] = field(default_factory=dict)
    sheets: dict[str, tuple[str, list[CssChange]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for loss in self.losses:
            self.by_how.setdefault(loss.how, []).append(loss)
            if loss.how == "property":
                for name in loss.names:
                    self.by_property.setdefault(name, []).append(loss)
        self.families = self.profile.families | self.web_fonts
        self.units = {unit: loss for loss in self.by_how.get("unit", ()) for unit in loss.names}
        self.functions: dict[str, list[Loss]] = {}
        for loss in self.by_how.get("function", ()):
            for name in loss.names:
                self.functions.setdefault(name, []).append(loss)

    @property
    def night(self) -> Night | None:
        """How colours are changed, if at all."""
        return self.profile.night if self.is_whole and self.profile.is_night and self.profile.night != "asks" else None

    def verdict(self, name: str, value: str, important: bool, where: Where) -> Verdict | None:
        """The fate of a declaration; None where it stays as it is. ``value`` is as written, without ``!important``."""
        key = (name, value, important, where)
        if key not in self._verdicts:
            if len(self._verdicts) > 20_000:
                self._verdicts.clear()
            self._verdicts[key] = self._judge(name, value, important, where)
        return self._verdicts[key]

    def _judge(self, name: str, value: str, important: bool, where: Where) -> Verdict | None:
        nodes = value_nodes(value)
        found = [loss for loss in self._lost(name, value, nodes, important) if loss.where in ("", where)]
        if found and not any(loss.feature == self.spared for loss in found):
            # What goes everywhere outweighs what goes from some elements only.
            found.sort(
                key=lambda loss: (loss.elements is not None or loss.not_elements is not None, loss.then != "" and "whole" not in loss.then)
            )
            loss = found[0]
            whole = loss.then == "whole" or (loss.then == "whole attribute" and where == "attribute")
            instead = _instead(loss, name, value)
            text = "; ".join(_whole(one, self._drawn(one, new)[0], important) for one, new in instead)
            return Verdict(text, (loss,), whole=whole)
        if name == "mso-hide" and self.profile.engine == "word-processor" and value.strip().lower() == "all":
            return Verdict("display: none", why=("mso-hide", "mso-hide:all hides the element"))
        if name == "mso-padding-alt" and self.is_whole and self.profile.engine == "word-processor" and _LENGTHS.fullmatch(value.strip()):
            # Padding meant for this engine takes the place of the other, whatever stands after it (common practice, no published source).
            return Verdict(_whole("padding", value, True), why=("mso-padding-alt", "padding for this engine"), only_on=_CELLS)
        text, why = self._drawn(name, value)
        return None if why is None else Verdict(_whole(name, text, important), why=why)

    def _drawn(self, name: str, value: str) -> tuple[str, tuple[str, str] | None]:
        """A value with the fonts that are at hand and the colours of the night, and what was done to it."""
        if self.is_whole and name in ("font-family", "font"):
            text, missing, stood_for = self._with_fonts(name, value_nodes(value), value)
            said = [f"not at hand: {', '.join(missing)}"] if missing else []
            said += [f"set in {stand_in}, which stands for {family}" for family, stand_in in stood_for[:1]]
            return text, ("font", "; ".join(said)) if said else None
        role = _role(name) if self.night else None
        if role is None:
            return value, None
        nodes = value_nodes(value)
        darker = self._at_night(nodes, role)
        return (value, None) if darker == tinycss2.serialize(nodes) else (darker, ("night", "colours changed for the night"))

    def _lost(self, name: str, value: str, nodes: Sequence[Value], important: bool) -> Iterator[Loss]:
        for loss in self.by_property.get(name, ()):
            if loss.values is None or loss.values.search(value):
                yield loss
        keywords = self.by_how.get("keyword", ())
        idents: set[str] | None = None
        for loss in keywords:
            if loss.properties is None or name in loss.properties:
                if idents is None:
                    idents = {node.lower_value for node in _all(nodes) if node.type == "ident"}
                if idents & loss.names and (loss.values is None or loss.values.search(value)):
                    yield loss
        if self.units or self.functions:
            for node in _all(nodes):
                if node.type == "dimension" and node.lower_unit in self.units:
                    yield self.units[node.lower_unit]
                elif node.type == "percentage" and "%" in self.units:
                    yield self.units["%"]
                elif node.type == "function":
                    for loss in self.functions.get(node.lower_name, ()):
                        if loss.values is None or loss.values.search(value):
                            yield loss
        if important:
            # How it is written matters to some: that is told from the source, see stylesheet.py.
            yield from (loss for loss in self.by_how.get("important", ()) if loss.then not in ("case", "space"))
        if name.startswith("--") or "var(" in value.lower():
            yield from self.by_how.get("variables", ())

    def _with_fonts(self, name: str, nodes: Sequence[Value], value: str) -> tuple[str, list[str], list[tuple[str, str]]]:
        """A font stack without the families that the client does not find, with open ones behind those that they stand for.

        One that would be empty stays. Returned with it: what is missing, and what stands for what.
        """
        stand_ins = table("stand_in_fonts", StandInFonts)
        groups: list[list[Value]] = [[]]
        for node in nodes:
            if node.type == "literal" and node.value == ",":
                groups.append([])
            else:
                groups[-1].append(node)
        first = ""
        if name == "font":
            # Of the shorthand, only what stands behind the first comma is surely a family.
            first, groups = tinycss2.serialize(groups[0]).strip(), groups[1:]
        kept: list[str] = []
        missing: list[str] = []
        stood_for: list[tuple[str, str]] = []
        for group in groups:
            solid = [node for node in group if node.type != "whitespace"]
            family = " ".join(str(node.value) for node in solid if node.type in ("string", "ident"))
            if not solid or any(node.type not in ("string", "ident") for node in solid):
                return value, [], []
            if family.lower() in self.families:
                kept.append(tinycss2.serialize(group).strip())
                if near := stand_ins["near"].get(family.lower()):
                    kept.append(f'"{near}"')
                if stand_in := near or stand_ins["same"].get(family.lower()):
                    stood_for.append((family, stand_in))
            else:
                missing.append(family)
        parts = [first, *kept] if first else kept
        return (", ".join(parts), missing, stood_for) if (missing or stood_for) and kept else (value, [], [])

    def _at_night(self, nodes: Sequence[Value], role: Role) -> str:
        assert self.night is not None
        parts: list[str] = []
        for node in nodes:
            parsed = colours.parse(node, False) if node.type in ("hash", "ident", "function") else None
            if parsed is not None and parsed[0] == "colour":
                parts.append(css_colour(at_night(parsed[1], role, self.night)))
            elif node.type == "function" and node.lower_name.endswith("gradient"):
                parts.append(f"{node.name}({self._at_night(node.arguments, role)})")
            else:
                parts.append(tinycss2.serialize([node]))
        return "".join(parts)


@lru_cache(maxsize=256)
def plan_of(profile: Profile, only: str | None = None, web_fonts: frozenset[str] = frozenset(), spared: str = "") -> Plan:
    """The plan of a profile in one way of showing it. ``web_fonts`` are the families that the message brings by @font-face.

    ``only`` names the one feature that goes ("" for none), for finding out whether its loss shows; None for all that the profile
    lacks. ``spared`` names one that stays although the profile lacks it.
    """
    chosen = tuple(
        loss for loss in profile.losses if only in (None, loss.feature) and (loss.feature != spared or loss.how in _JUDGED_TOGETHER)
    )
    keeps_fonts = not any(loss.feature == "css-at-font-face" for loss in profile.losses)
    return Plan(profile, chosen, web_fonts if keeps_fonts else frozenset(), is_whole=only is None, spared=spared)


#: Of these several may take one declaration or one selector: where one of them is spared, it stays whatever the others say.
_JUDGED_TOGETHER = frozenset({"property", "keyword", "function", "unit", "variables", "important", "selector"})


def css_colour(colour: tuple[int, int, int, float]) -> str:
    """A colour as CSS writes it in the plainest form."""
    red, green, blue, alpha = colour
    return f"#{red:02x}{green:02x}{blue:02x}" if alpha >= 1 else f"rgba({red}, {green}, {blue}, {alpha:g})"


_GROUNDS = ("background", "background-color", "background-image")
_LETTERS = ("color", "-webkit-text-fill-color", "text-decoration", "text-decoration-color", "fill", "caret-color")


def _role(name: str) -> Role | None:
    if name in _GROUNDS:
        return "ground"
    if name in _LETTERS:
        return "letter"
    return "line" if name.startswith(("border", "outline", "column-rule")) else None


def _all(nodes: Sequence[Value]) -> Iterator[Value]:
    stack = list(reversed(nodes))
    while stack:
        node = stack.pop()
        yield node
        inner = getattr(node, "arguments", None) or getattr(node, "content", None)
        if isinstance(inner, list):
            stack.extend(reversed(inner))


_BIG = re.compile(r"\b(?:9|[1-9]\d+)(?:\.\d+)?px", re.IGNORECASE)


_LENGTHS = re.compile(r"[0-9a-z.% ]{1,60}", re.IGNORECASE)
_CELLS = frozenset({"td", "th"})


def _whole(name: str, value: str, important: bool) -> str:
    return f"{name}: {value.strip()}{' !important' if important else ''}"


def _instead(loss: Loss, name: str, value: str) -> list[tuple[str, str]]:
    """The declarations that a client puts in the place of one it does not take."""
    if loss.then == "without url":
        text = re.sub(r"url\([^)]*\)", "", value, flags=re.IGNORECASE).strip()
    elif loss.then == "colour only":
        nodes = value_nodes(value)
        name, text = "background-color", next((tinycss2.serialize([node]) for node in nodes if _is_colour(node)), "")
    elif loss.then == "8px":
        text = _BIG.sub("8px", value)
    elif loss.then == "not auto":
        return _sides(name, value)
    elif loss.then == "min-height":
        name, text = "min-height", value
    else:
        return []
    return [(name, text)] if text else []


def _sides(name: str, value: str) -> list[tuple[str, str]]:
    """A margin side by side, without those that are auto: what markup says of them, such as align, then holds."""
    parts = value.split()
    if name != "margin" or not 1 <= len(parts) <= 4 or "(" in value:
        return []
    top = parts[0]
    right = parts[1] if len(parts) > 1 else top
    bottom = parts[2] if len(parts) > 2 else top
    left = parts[3] if len(parts) > 3 else right
    sides = zip(("top", "right", "bottom", "left"), (top, right, bottom, left), strict=True)
    return [(f"margin-{side}", size) for side, size in sides if size.lower() != "auto"]


def _is_colour(node: Value) -> bool:
    parsed = colours.parse(node, False) if node.type in ("hash", "ident", "function") else None
    return parsed is not None and parsed[0] == "colour"
