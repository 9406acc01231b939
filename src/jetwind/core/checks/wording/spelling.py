"""Every word is spelt as the dictionary of its language has it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checks.wording.placeholder import filler
from jetwind.core.facts import phrase_set, table
from jetwind.core.facts.spelling import Dictionaries, is_frequent, is_known, suggestion
from jetwind.core.facts.tables import CalendarNames, Languages
from jetwind.core.links import links
from jetwind.core.message import Envelope, Message, Shared
from jetwind.core.prose.language import declared as declared_language
from jetwind.core.prose.language import detected, languages_of, languages_with, of_passage, primary_subtag
from jetwind.core.prose.reading import reading_of

_NAMES: Shared[frozenset[str]] = Shared("names in addresses")

#: Bounded before the @, or a long word without one would be read again from each of its letters.
_ADDRESS = re.compile(r"(?:https?://|mailto:|www\.)\S+|[^\s@]{1,64}@\S+", re.IGNORECASE)
#: No word of a dictionary has more letters.
_LONGEST = 45
_LATIN = re.compile(r"[a-zß-ɏ']+\Z")
_WORD = re.compile(r"(?<![\w@./#&%+-])[^\W\d_]+(?:['’ʼ][^\W\d_]+)*(?![\w@/]|[.&]\w)")


@check(
    id="wording.spelling",
    name="Word unknown to the dictionary",
    level=Level.NOTE,
    why="Spelling slips cost trust, and spelling slips in bulk look like fraud.",
    fix="Correct the word, or add it to the workspace's word list.",
    basis="dictionary: Debian's hunspell packages, or the one that the package chunspell carries",
    samples=[
        clear("<p>The colour of the glaze is the color of the sea; we can't organise or organize more.</p>"),
        clear("<p>Ask Tove at Saltmarsh about SKU ABX-12 or tove@kiln.org and https://kiln.org/sprng.</p>"),
        clear("<p>Hello {{ frist_name }}, your [[custmer_nr]] is here</p>"),
        clear("<p>A grog-rich stoneware clay</p>", given={"word_list": frozenset(["grog", "stoneware"])}),
        clear("<html lang='und'><p>We have glazes for everyone who likes the sea and the kiln.</p></html>"),
        clear("<p>Follow us: @saltmarshkiln, or saltmarshkiln on the quay</p><a href='https://saltmarshkiln.org/'>saltmarshkiln</a>"),
        clear("<p>Lorem ipsum dolor sit amet, nunc eget vulputate scelerisque</p>"),
        clear(
            "<p>We fire on Mondays and Thursdays for the members.</p><p>Nous avons préparé les émaux pour vous et vos amis avec soin</p>"
        ),
        clear("<p>Tove fires on Mondays. Rosalindis comes on Thursdays. Quillmere Barsted glazes.</p>"),
        clear("<html lang='tlh'><p>nuqneH jupwI' qaleghneS</p></html>"),
        clear(
            "<p>Der Ofen ist heute nicht voll, und wir brennen morgen mit Ihnen die Schalen, die Sie mit uns für das Fest gemacht haben; bitte kommen Sie um neun, denn der Ofen wird dann gleich geschlossen, und es ist kalt. Wir sind auch am Abend da, und der Tee ist warm, das ist sicher.</p>"
        ),
        clear("From: a@b.org\nSubject: x\n\nThe new glazes are ready, and every stu-\ndio has pre- and post-war bowls of stone-\nware.\n"),
        clear("<p>for (item in itemlist) { printf(itmname); }</p><p>Glazez</p><p>mit Brefmarken</p>"),
        clear("<p>Our potter Brnška and the señoritta are here on Monday, with stoolpigeons and thumbboards for everyone.</p>"),
        clear("<p>On donderdag 11 juli Tove wrote that the kiln is warm, and on środa we answered.</p>"),
        clear("<p>Our newsletter has an href, a url and the smtp of the backend, and dialup for everyone.</p>"),
        clear("<p>Our kazaa and tcpdump on the raku of ville, with gryphix and addy for everyone here.</p>"),
        clear("<p>They were rockin with mad skillz, and the kiln was rollin along with noisier whinings than the others.</p>"),
        clear("<p>We read about the art de l'assiette du grande maison and the remets of the kiln on Monday.</p>"),
        clear("<p>Our potters have defanged the kiln, undercharged the club and microglazed the bowls for everyone here.</p>"),
        clear("<p>A zymot of the quay and a brimp of the kiln, with gratuit bowls for everyone who is here.</p>"),
        finds("<p>We have recieved your pots and glazes</p>", at="recieved"),
        finds("<p>The warrenty of the kiln is definetely good, and we are here on Monday</p>", at="warrenty"),
        finds("<p>The distibution of the bowls begins on Monday for everyone</p>", at="distibution"),
        finds("<p>They dont glaze bowls, and arent here on Monday with the others</p>", at="dont"),
        finds("<p>We put thier pots across the quay on Monday for everyone</p>", at="thier"),
        finds("<p>We fire on Mondays. Membershipp is open to everyone.</p>", at="Membershipp"),
        finds("<html lang='en'><p>Spring <b>glazez</b> are here</p></html>", at="glazez"),
        finds("<p>x</p>", envelope=Envelope(subject="Your slot is confirmd", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\n\nYour slot is confirmd now\n", at="confirmd"),
    ],
)
def find_unknown_words(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No ordinary word is one slip away from a common word of its passage's language, unless a dictionary or the workspace's word list has it."""
    dictionaries = context.dictionaries
    if dictionaries is None:
        raise CannotTell("no dictionaries are at hand")
    language = _language(message)
    # Filler Latin is sample text left in, which is told once and by its own check.
    known = frozenset(word.casefold() for word in context.word_list) | phrase_set("phrases", "filler_latin") | _names(message) | _days()
    judged = False
    told: set[str] = set()
    sought: dict[tuple[str, str], str] = {}
    # Asked once for each language: the answer lies on a disk.
    names_of = cache(dictionaries.names)
    for copy in copies.all_copy(message):
        if copy.where == copies.TEXT and message.html is not None:
            continue
        of_copy = of_passage(copy.text, language)
        if not names_of(of_copy) or any(True for _ in filler(copy.text)) or _reads_as_code(copy.text):
            continue
        judged = True
        unknown, looked_at = _unknown(copy.text, dictionaries, of_copy, known)
        # A passage of which every third word is unknown is in another language, or no prose at all; of one word nobody can tell.
        certain = sum(not begins for _, begins, _, _ in unknown)
        if certain * 3 >= looked_at and (certain >= 3 or len(_WORD.findall(copy.text)) < _FEW):
            continue
        nearest = [_nearest(dictionaries, of_copy, word, sought) for word, *_ in unknown]
        slips = _slips(copy.text, unknown, nearest, dictionaries, of_copy)
        if len(slips) >= 3 and len(slips) * 3 > looked_at:
            continue
        for word, near, start, end in slips:
            if word in told:
                continue
            told.add(word)
            yield Hit(
                "“{word}” is not in the dictionary; perhaps “{near}”.",
                copy.place(start, end),
                {"word": word, "near": near, "where": copy.where},
                identity=word.lower(),
            )
    if not judged and not names_of(language):
        raise CannotTell(f"there is no dictionary of the language “{language}”")


@cache
def _days() -> frozenset[str]:
    """Months and weekdays in every language of ours: a mail program writes them above what somebody wrote, in the language of its owner."""
    rows = (row for names in table("calendar", dict[str, CalendarNames]).values() for row in (*names["months"], *names["weekdays"]))
    return frozenset(name for row in rows for name in row)


def _nearest(dictionaries: Dictionaries, language: str, word: str, sought: dict[tuple[str, str], str]) -> str:
    """The known word that is one slip away; none is sought once enough were, since each takes some milliseconds."""
    key = (language, word.lower())
    if key not in sought and len(sought) < _MOST_SOUGHT:
        sought[key] = _contraction(dictionaries, *key) or suggestion(dictionaries, *key)
    return sought.get(key, "")


def _contraction(dictionaries: Dictionaries, language: str, word: str) -> str:
    """The English contraction that a word without its apostrophe stands for, such as "don't" for "dont"; empty for any other word."""
    found = _CONTRACTED.fullmatch(word) if language == "en" else None
    whole = f"{found[1]}'{found[2]}" if found is not None else ""
    return whole if whole and is_known(dictionaries, language, whole) else ""


_CONTRACTED = re.compile(r"(\w{2,8})(t|re|ve|ll)")
_VOWELS = frozenset("aeiouyäöüåæøéèêáíóúàìòù")
#: A word and the known one beside it, where the word was made on purpose: a sound left out in speech ("rockin"), an ending that makes a new
#: word of a known one ("whinings", "skillz", "englishy", "gnomie").
_COINED = (
    re.compile(r"(?P<stem>\w+in) (?P=stem)g"),
    re.compile(r"(?P<stem>\w+)(?:[syaio]|(?<![aeiou])z) (?P=stem)"),
    re.compile(r"(?P<stem>\w+)(?<![aeiou])z (?P=stem)s"),
    re.compile(r"(?P<stem>\w+)ie(?P<end>s?) (?P=stem)(?:e|y)?(?P=end)"),
)
_PLURAL_IN_Z = re.compile(r"(?P<stem>\w{4,}[aeiou])z (?P=stem)s?")
_REPEATED = re.compile(r"(\w)\1+")


def _slips(
    text: str, unknown: Sequence[tuple[str, bool, int, int]], nearest: Sequence[str], dictionaries: Dictionaries, language: str
) -> list[tuple[str, str, int, int]]:
    """Those of the unknown words of a passage that people slipped in, each with the word that they meant and its place.

    Most unknown words of real mail are names and jargon: a slip is one away from a word, in a way in which people slip.
    """
    # Where other unknown words stand that are no slips, a passage is about things with words of their own.
    strangers = sum(not near for near in nearest)
    near_of = {
        word: near
        for (word, *_), near in zip(unknown, nearest, strict=True)
        if near and (_is_slip(word.lower(), near) or (strangers <= _FEW_STRANGERS and _may_be_slip(word.lower(), near, language)))
    }
    return [
        (word, near_of[word].capitalize() if begins else near_of[word], start, end)
        for word, begins, start, end in unknown
        if word in near_of
        and (not begins or (len(word) >= _LONG_ENOUGH and not word.endswith("'s")))
        and not any(beside not in near_of and _is_strange(beside, dictionaries, language) for beside in _beside(text, start, end))
    ]


def _is_slip(word: str, near: str) -> bool:
    """Whether people slip so whatever they write about: an apostrophe left out, two letters swapped, a letter doubled or not, a plural in z."""
    swapped = near.replace("'", "") == word or sorted(word) == sorted(near)
    doubled = len(word) > 4 and _REPEATED.sub(r"\1", word) == _REPEATED.sub(r"\1", near)
    return swapped or doubled or _PLURAL_IN_Z.fullmatch(f"{word} {near}") is not None


def _may_be_slip(word: str, near: str, language: str) -> bool:
    """Whether a longer word may be a slip: another vowel, a letter too many or too few, or in a long word another consonant.

    Among short words nearly everything is one letter away from something, and names and jargon are.
    """
    if len(word) < _LONGER or word[0] != near[0] or any(pattern.fullmatch(f"{word} {near}") for pattern in _COINED):
        return False
    if len(word) != len(near):
        return language != "en" or is_frequent(near)
    one, other = next((one, other) for one, other in zip(word, near, strict=True) if one != other)
    if one in _VOWELS and other in _VOWELS:
        return True
    return len(word) >= _LONG and (language != "en" or is_frequent(near))


_BEFORE = re.compile(r"([^\W\d_]+)\s+[\"'“‘(]?\Z")
_AFTER = re.compile(r"[\"'”’)]?\s+([^\W\d_]+)")


def _beside(text: str, start: int, end: int) -> list[str]:
    """The words directly before and after a place, with nothing but blanks and marks of quotation between."""
    beside = (_BEFORE.search(text[max(0, start - _LONGEST) : start]), _AFTER.match(text[end : end + _LONGEST]))
    return [match[1] for match in beside if match is not None]


def _is_strange(word: str, dictionaries: Dictionaries, language: str) -> bool:
    """Whether a word is unknown, or belongs to the grammar of another language.

    A word beside it is then part of a title, a name or a quotation in another language, whatever the rest of the passage is in.
    """
    lower = word.lower()
    if languages_with(lower) - {language} and not is_known(dictionaries, language, lower):
        return True
    return len(word) >= 4 and not any(is_known(dictionaries, language, form) for form in (lower, word, lower.capitalize()))


def _unknown(text: str, dictionaries: Dictionaries, language: str, known: frozenset[str]) -> tuple[list[tuple[str, bool, int, int]], int]:
    """Words that no dictionary has, each with whether it is capitalised for beginning a sentence and its place, and how many words were
    looked at."""
    plain = _ADDRESS.sub(lambda match: " " * len(match[0]), text)
    found: list[tuple[str, bool, int, int]] = []
    looked_at = 0
    letters = table("languages", Languages)["letters"].get(language)
    broken = False
    for match in _WORD.finditer(plain):
        was_broken, broken = broken, False
        word = match[0].replace("’", "'").replace("ʼ", "'")
        if was_broken:
            continue  # its first half was looked at together with it
        if (rest := _BROKEN.match(plain, match.end())) is not None:
            # Broken at the end of a line: the halves are a word, or each is one ("pre- and post-war").
            joined = f"{word}{rest[1]}".lower()
            broken = joined in known or is_known(dictionaries, language, joined)
            if broken:
                continue
        begins = word[:1].isupper() and word[1:] == word[1:].lower() and _begins_sentence(plain, match)
        # A capital marks a name as a rule, and capitals throughout an abbreviation or a code; only at the start of a sentence it says nothing.
        if (word != word.lower() and not begins) or not 4 <= len(word) <= _LONGEST or not _LATIN.match(word.lower()):
            continue
        looked_at += 1
        lower = word.lower()
        if letters is not None and any(letter > "z" and letter not in letters for letter in lower):
            continue  # a letter that the language does not have makes it a word of another one
        bare = lower.removesuffix("'s")
        if lower in known or bare in known or any(is_known(dictionaries, language, form) for form in (lower, bare, bare.capitalize())):
            continue
        if (prefixed := _PREFIXED.match(lower)) is not None and is_known(dictionaries, language, prefixed[1]):
            continue
        found.append((word, begins, match.start(), match.end()))
    return found, looked_at


#: The second half of a word that was broken at the end of a line, as plain text has it.
_BROKEN = re.compile(r"-\s([a-zß-ɏ]{2,})(?![\w-])")
#: A word that was made with a prefix, as English makes them freely ("defanged", "unbillable").
_PREFIXED = re.compile(r"(?:un|re|de|non|pre|mis|over|under|super|sub|anti|multi|micro)([a-z]{5,})\Z")
#: Words of a passage from which one unknown word among them tells a slip.
_FEW = 3
#: Unknown words of a passage that are no slips, beside which only the usual slips are told.
_FEW_STRANGERS = 1
#: What code is made of, and prose hardly.
_CODE = re.compile(r"[{}<>=;()\[\]\\|$#~^`_*+]|::|->|//|--\w")
#: Signs to so many characters make a passage code.
_CHARACTERS_TO_A_SIGN = 12
_LEAST_CODE = 4


def _reads_as_code(text: str) -> bool:
    """Whether a passage is a line of a program, a command or a table of signs."""
    signs = len(_CODE.findall(text[:2_000]))
    return signs >= _LEAST_CODE and signs * _CHARACTERS_TO_A_SIGN >= len(text[:2_000])


#: Words of a message for which a suggestion is sought.
_MOST_SOUGHT = 200
#: Letters of a word in which a letter may be missing, and of one in which any letter may be the wrong one.
_LONGER, _LONG = 6, 8
#: A capitalised word at the start of a sentence that is shorter may well be a name.
_LONG_ENOUGH = 7
_STARTS = re.compile(r"(?:\A|[.!?…:]|\n)[\s\"'“‘(]*\Z")
_NAME_AFTER = re.compile(r"\s+[A-ZÀ-Þ]")


def _begins_sentence(text: str, match: re.Match[str]) -> bool:
    """Whether a word starts a sentence and is followed by no other capitalised one, which would make a name of both."""
    return _STARTS.search(text[max(0, match.start() - 12) : match.start()]) is not None and not _NAME_AFTER.match(text, match.end())


def _names(message: Message) -> frozenset[str]:
    """Names that stand in the message's addresses, hosts and handles, in lower case as such things are written."""

    def gather() -> frozenset[str]:
        words: set[str] = set()
        for link in links(message):
            words.update(_PIECE.findall((link.address or "")[:400].lower()))
        for name in ("From", "Reply-To", "To"):
            header = message.header(name)
            words.update(_PIECE.findall(header.value[:1_000].lower()) if header is not None else ())
        for match in _HANDLE.finditer(reading_of(message).visible_text):
            words.update(_PIECE.findall(match[0].lower()))
        return frozenset(words)

    return message.shared(_NAMES, gather)


_PIECE = re.compile(r"[^\W\d_]{4,45}")
_HANDLE = re.compile(
    r"[@#][\w.-]{2,60}|[\w.-]{1,60}@[\w.-]{2,60}|(?:https?://|www\.)\S{1,200}|\b[\w-]{2,60}\.(?:com|org|net|io|co|uk|de|fr|eu|shop)\b",
    re.IGNORECASE,
)


def _language(message: Message) -> str:
    said = declared_language(message)
    tag = primary_subtag(said[1].value) if said else ""
    return detected(message) or tag or languages_of(message)[0]
