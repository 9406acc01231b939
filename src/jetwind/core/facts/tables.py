"""The contents of each data file of this folder, as types; a test reads every file by its type."""

from __future__ import annotations

from datetime import date
from typing import Literal, NotRequired, TypedDict

#: Words or phrases, or those of each language by its code.
Listed = list[str] | dict[str, list[str]]
#: For each language, by its code, a word, a sentence or some letters.
OfLanguages = dict[str, str]


class Languages(TypedDict):
    """Words of the grammar of each language, its name in English, and the letters that it has beyond a to z."""

    function_words: dict[str, list[str]]
    names: OfLanguages
    letters: OfLanguages


class CalendarNames(TypedDict):
    """The names of twelve months and seven weekdays, each in its long and its short forms."""

    months: list[list[str]]
    weekdays: list[list[str]]


class CommonWords(TypedDict):
    """English words of each level of commonness, divided by blanks and line ends."""

    level_10: str
    level_20: str
    level_35: str


class FeatureRow(TypedDict):
    """The fate of a message whose client lacks a feature."""

    how: str
    names: NotRequired[list[str]]
    properties: NotRequired[list[str]]
    tag: NotRequired[str]
    then: NotRequired[str]
    unseen: NotRequired[bool]
    why: NotRequired[str]


class NoteRow(TypedDict):
    """The meaning of a note of the support table, in a form that is carried out."""

    says: NotRequired[str]
    starts: NotRequired[str]
    account: NotRequired[Literal["own", "other"]]
    features: NotRequired[list[str]]
    values: NotRequired[str]
    elements: NotRequired[list[str]]
    not_elements: NotRequired[list[str]]
    where: NotRequired[Literal["attribute", "sheet"]]
    names: NotRequired[list[str]]
    then: NotRequired[str]
    nothing: NotRequired[str]
    lost: NotRequired[str]
    kept: NotRequired[str]


class Notes(TypedDict):
    """The notes of the support table that are read."""

    notes: list[NoteRow]


class SupportEntry(TypedDict):
    """A feature of the support table: what each client (``family platform``) says of it, and the notes by number."""

    title: str
    category: str
    clients: dict[str, str]
    notes: dict[str, str]


class Support(TypedDict):
    """The support table: where it comes from, and its features by their slugs."""

    origin: dict[str, str]
    features: dict[str, SupportEntry]


class StandInFonts(TypedDict):
    """For a family, in lower case, an open one of the same widths, or one that is near to it."""

    same: dict[str, str]
    near: dict[str, str]


class ClientFonts(TypedDict):
    """The families that clients of each device find, and the generic ones."""

    desktop: list[str]
    phone: list[str]
    generic: list[str]


class DemandRow(TypedDict):
    """A demand of a rulebook: the check that keeps it, its words, and where it is written."""

    check: str
    says: str
    source: str


class RulebookRow(TypedDict):
    """A rulebook that ships."""

    name: str
    basis: str
    countries: list[str]
    demands: list[DemandRow]


class Html(TypedDict):
    """Elements and attributes of HTML, and the words that some attributes take."""

    elements: list[str]
    attributes: list[str]
    attribute_values: dict[str, list[str]]


class LossMends(TypedDict):
    """The mends of losses: of media queries, of a feature for the layout or the look, and of a kind of loss."""

    media: str
    features: dict[str, str]
    look: dict[str, str]
    how: dict[str, str]


class EmojiGroup(TypedDict):
    """Emoji that came with one version of Unicode's emoji."""

    version: str
    year: int
    sequences: list[str]


class Emoji(TypedDict):
    """All emoji by when they came."""

    added: list[EmojiGroup]


class StatusCodes(TypedDict):
    """Enhanced status codes in words, by subject and detail such as ``1.1``."""

    words: dict[str, str]


class UserAgent(TypedDict):
    """The browser's own style of each element; those of quirks mode apart."""

    elements: dict[str, dict[str, str]]
    quirks: dict[str, dict[str, str]]


class SocialHosts(TypedDict):
    """Registrable domains of places where people meet."""

    hosts: list[str]


class SpamWeights(TypedDict):
    """The results of calibration: shares of unwanted mail at scores, the mail, and points of reasons."""

    says: list[tuple[float, float]]
    mail: dict[str, int]
    weights: dict[str, float]


class Css(TypedDict):
    """Properties of CSS, and the words that some of them take."""

    properties: list[str]
    values: dict[str, list[str]]


class ProfileRow(TypedDict):
    """The fields of ``Profile`` that differ from its usual values."""

    name: str
    width: int
    first_screen: int
    modelled_on: str
    fonts: Literal["desktop", "phone"]
    engine: NotRequired[Literal["standards", "word-processor"]]
    device: NotRequired[Literal["desktop", "tablet", "phone"]]
    pixel_ratio: NotRequired[int]
    chrome: NotRequired[int]
    is_turned: NotRequired[bool]
    images: NotRequired[Literal["on", "blocked", "stand-in"]]
    alternative: NotRequired[Literal["styled", "plain", "none"]]
    night: NotRequired[Literal["asks", "partial", "full"]]
    is_night: NotRequired[bool]
    clip: NotRequired[int]
    style_limit: NotRequired[int]
    prefix: NotRequired[str]
    account: NotRequired[Literal["own", "other"]]
    is_rare: NotRequired[bool]
    fit: NotRequired[Literal["scroll", "shrink"]]


class Words(TypedDict):
    """English words that dictionaries lack, and the digests of words that spelling never suggests."""

    en: list[str]
    never_suggested: list[str]


class SpecialPurpose(TypedDict):
    """Blocks of addresses as of a day: network, name, source, and whether it is reachable from everywhere."""

    date: date
    ipv4: list[tuple[str, str, str, bool]]
    ipv6: list[tuple[str, str, str, bool]]
    further: list[tuple[str, str, str, bool]]
    metadata: list[tuple[str, str]]
    global_unicast: str


#: The type of each data file, by its name without the ending.
KINDS: dict[str, object] = {
    "calendar": dict[str, CalendarNames],
    "client_features": dict[str, FeatureRow],
    "client_fonts": ClientFonts,
    "client_notes": Notes,
    "common_words": CommonWords,
    "css": Css,
    "emoji": Emoji,
    "fields": dict[str, list[str]],
    "footer_words": dict[str, OfLanguages],
    "html": Html,
    "languages": Languages,
    "loss_mends": LossMends,
    "phrases": dict[str, Listed],
    "profiles": dict[str, ProfileRow],
    "rulebooks": dict[str, RulebookRow],
    "social_hosts": SocialHosts,
    "spam_phrases": dict[str, Listed],
    "spam_weights": SpamWeights,
    "special_purpose": SpecialPurpose,
    "stand_in_fonts": StandInFonts,
    "status_codes": StatusCodes,
    "user_agent": UserAgent,
    "words": Words,
}
