"""The brief: what a message must say and must not say, and where."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TypedDict

from jetwind.core.errors import Unusable
from jetwind.core.source.plain import Unfit, read

#: Places that an item may be asked for in, by the word used for them.
PLACES = ("HTML", "plain text", "subject", "preview text")

#: An entry with its places, or places with their entries.
_Table = dict[str, str | list[str]]
_Listed = str | list[str | _Table] | _Table


class _Lists(TypedDict, total=False):
    required: _Listed
    forbidden: _Listed
    parameters: dict[str, str]
    wording: dict[str, object]


class UnusableBrief(Unusable):
    """A brief that cannot be read; the text names the entry and the remedy."""


@dataclass(frozen=True, slots=True)
class RequiredItem:
    """Words that must stand in each of ``places``; a place that the message does not have asks nothing."""

    text: str
    places: tuple[str, ...] = ("HTML", "plain text")


@dataclass(frozen=True, slots=True)
class Brief:
    """Required and forbidden wording of one message, and the campaign parameters of its links by name; one without a value may have any."""

    required: tuple[RequiredItem, ...] = ()
    forbidden: tuple[str, ...] = ()
    parameters: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def from_dict(cls, given: Mapping[str, object]) -> Brief:
        """A brief of plain values: ``required`` and ``forbidden`` are lists of texts, or of tables with ``text`` and ``places``.

        ``required`` may also be a table of places, each with its list of texts.

        Raises:
            UnusableBrief: an entry is neither, or names a place that does not exist; a parameter that an address cannot have.
        """
        wording = given.get("wording")
        try:
            lists = read({**given, **wording} if isinstance(wording, Mapping) else given, _Lists)
        except Unfit as unfit:
            raise UnusableBrief(f"{unfit}.") from unfit
        required = _merged(_required(entry) for entry in _entries(lists.get("required", [])))
        forbidden = tuple(_required(entry).text for entry in _entries(lists.get("forbidden", [])))
        return cls(required, forbidden, _parameters(lists.get("parameters", {})))

    def as_dict(self) -> dict[str, object]:
        """The plain values that ``from_dict`` reads."""
        return {
            "required": [{"text": item.text, "places": list(item.places)} for item in self.required],
            "forbidden": list(self.forbidden),
            **({"parameters": dict(self.parameters)} if self.parameters else {}),
        }

    def requiring(self, text: str, places: Sequence[str]) -> Brief:
        """The brief with one more required text; one that is there already gets the places that it lacks.

        Raises:
            UnusableBrief: a place that does not exist.
        """
        return replace(self, required=_merged((*self.required, _required({"text": text, "places": list(places)}))))

    def forbidding(self, text: str) -> Brief:
        """The brief with one more forbidden text."""
        return replace(self, forbidden=tuple(dict.fromkeys((*self.forbidden, text))))

    def asking(self, parameters: Mapping[str, str]) -> Brief:
        """The brief with these campaign parameters.

        Raises:
            UnusableBrief: one that an address cannot have.
        """
        return replace(self, parameters=_parameters(parameters))

    def without(self, text: str, *, forbidden: bool) -> Brief:
        """The brief without a forbidden, or a required, text."""
        if forbidden:
            return replace(self, forbidden=tuple(other for other in self.forbidden if other != text))
        return replace(self, required=tuple(item for item in self.required if item.text != text))


def _entries(given: _Listed) -> Sequence[str | _Table]:
    """The entries of a list that may also be one text, one entry, or a table of places with their texts."""
    if isinstance(given, list):
        return given
    if isinstance(given, dict) and "text" not in given:
        listed = ((place, [texts] if isinstance(texts, str) else texts) for place, texts in given.items())
        return [_Table(text=text, places=[place]) for place, texts in listed for text in texts]
    return [given]


def _required(entry: str | _Table) -> RequiredItem:
    text = entry if isinstance(entry, str) else entry.get("text")
    if not isinstance(text, str) or not text.strip():
        raise UnusableBrief(f"An item of the brief is a text, or a table with “text” and “places”, not {entry!r}.")
    if isinstance(entry, str):
        return RequiredItem(text.strip())
    places = next((entry[key] for key in ("places", "place", "in", "where") if key in entry), RequiredItem("").places)
    places = [places] if isinstance(places, str) else places
    return RequiredItem(text.strip(), tuple(dict.fromkeys(_place(place, text) for place in places)))


_PARAMETER = re.compile(r"[A-Za-z0-9_.~-]{1,60}\Z")


def _parameters(given: Mapping[str, str]) -> dict[str, str]:
    for name, value in given.items():
        if not _PARAMETER.match(name):
            raise UnusableBrief(f"“{name}” is no name of a parameter: letters, digits, “_”, “-”, “.” and “~” only.")
        if len(value) > 200 or re.search(r"[\s&#=?]", value):
            raise UnusableBrief(f"“{value}” is no value of a parameter: no blanks, “&”, “#”, “=” or “?”, and up to 200 characters.")
    return dict(given)


def _merged(items: Iterable[RequiredItem]) -> tuple[RequiredItem, ...]:
    """One item for each text, with all the places that were named for it."""
    found: dict[str, tuple[str, ...]] = {}
    for item in items:
        found[item.text] = tuple(dict.fromkeys((*found.get(item.text, ()), *item.places)))
    return tuple(RequiredItem(text, places) for text, places in found.items())


_SPELLINGS = {
    "html": "HTML",
    "plain text": "plain text",
    "text": "plain text",
    "plain": "plain text",
    "subject": "subject",
    "preview text": "preview text",
    "preview": "preview text",
    "preheader": "preview text",
}


def _place(word: str, text: str) -> str:
    found = _SPELLINGS.get(" ".join(word.lower().replace("_", " ").replace("-", " ").split()))
    if found is None:
        raise UnusableBrief(f"“{text}” names the place {word!r}; there are {', '.join(PLACES)}.")
    return found
