"""The declared language is the language of the copy."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, turns
from jetwind.core.message import Message
from jetwind.core.prose.language import declared, detected, primary_subtag, same

_ENGLISH = (
    "The kiln is open for all of you on the first day of the month, and we have more clay and glaze than you can use by then. "
    "If you want to fire with us, write to us and we will keep a place for you and your pots; it is not far from the quay."
)
_GERMAN = (
    "Der Ofen ist heute nicht voll, und wir brennen morgen mit Ihnen die Schalen, die Sie mit uns für das Fest gemacht haben; "
    "bitte kommen Sie um neun, denn der Ofen wird dann gleich geschlossen. Wir sind auch am Abend da, und der Tee ist warm."
)


@check(
    id="wording.language",
    name="Declared language is not that of the copy",
    level=Level.NOTE,
    why="Readers for the blind speak the words by the rules of another language, and translation is offered for nothing.",
    fix="Set lang to the language of the copy.",
    basis="BCP 47 (RFC 5646; from memory); function words, common practice, no published source",
    samples=[
        clear(f"<html lang='en-GB'><p>{_ENGLISH}</p></html>"),
        clear(f"<html lang='de'><p>{_GERMAN}</p></html>"),
        clear("<html lang='de'><p>Kiln Spring Sale</p></html>"),  # too few words to tell
        clear(f"<p>{_ENGLISH}</p>"),
        clear("<html lang='xx-invalid-tag-of-nothing'><p>Short</p></html>"),
        clear(f"<html lang='und'><p>{_ENGLISH}</p></html>"),
        clear(f"<html lang='mul'><p>{_GERMAN}</p></html>"),
        finds(f"<html lang='de'><p>{_ENGLISH}</p></html>", at="de"),
        finds(f"<html lang='en'><p>{_GERMAN}</p></html>", at="en"),
        finds(f"<body><div lang='fr'><p>{_ENGLISH}</p></div></body>", at="fr"),
    ],
)
def find_language(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The language of html, body or their wrapper is the one that the words are in."""
    said = declared(message)
    if message.document is None or said is None:
        raise DoesNotApply("no language is declared")
    element, attribute = said
    found = detected(message)
    if found is None:
        raise CannotTell("the copy has too few words to tell its language")
    tag = primary_subtag(attribute.value)
    if tag and not same(tag, found):
        yield Hit(
            "lang says {declared}, but the copy reads as {found}.",
            Place.in_html(message, attribute.value_span, element.index),
            {"declared": attribute.value, "found": found},
            identity=f"{tag}:{found}",
        )


@mend(
    "wording.language",
    kind=MendKind.CONFIRM,
    does="The language that is declared becomes the one that the copy reads as.",
    leaves="Copy of several languages is left to a person: only the outermost declaration is looked at.",
    samples=[
        turns(f"<html lang='de'><p>{_ENGLISH}</p></html>", f"<html lang='en'><p>{_ENGLISH}</p></html>"),
        turns(f"<html lang='en'><p>{_GERMAN}</p></html>", f"<html lang='de'><p>{_GERMAN}</p></html>"),
        leaves_alone(f"<html lang='fr'><div lang='en'><p>{_ENGLISH}</p></div></html>"),
    ],
)
def mend_language(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The tag of BCP 47 that was told by the words."""
    document = message.document
    inner = sum("lang" in element.names for element in document.all_elements) if document is not None else 0
    if (found := source_at(message, finding.place)) is not None and inner == 1:
        yield Change(found[0], found[1], str(finding.data["found"]))
