"""No word stands twice, and every word is spelt as the dictionary has it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.copy import Copy
from jetwind.core.checks.wording.placeholder import filler
from jetwind.core.facts import phrase_set, table
from jetwind.core.facts.spelling import Dictionaries, is_known, suggestion
from jetwind.core.links import links
from jetwind.core.message import Envelope, Message, Shared
from jetwind.core.prose.language import declared as declared_language
from jetwind.core.prose.language import detected, languages_of, of_passage, primary_subtag
from jetwind.core.prose.reading import reading_of

_NAMES: Shared[frozenset[str]] = Shared("names in addresses")

_TWICE = re.compile(r"(?<![\w’'@/.#-])(?P<word>[^\W\d_]{2,})(?P<gap>\s+)(?P<again>(?P=word))(?![\w’'@/-]|\.\w)", re.IGNORECASE)
#: A shorter line of plain text ends where its author broke it, so words on both sides belong to two things.
_FULL_LINE = 50


@check(
    id="wording.repeated-word",
    name="Same word twice in a row",
    level=Level.FIX,
    why="A slip like the the makes a careful message look careless.",
    fix="Delete one of the two words.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>All that that glaze had had was luster. No no, very very good.</p>"),
        clear("<p>Clay, glaze, brushes etc etc are here.</p>"),
        clear("<p>Duran Duran played at Baden Baden.</p>"),
        clear("<p>The kiln. The kiln is hot. Go, go! 10 10 pots</p>"),
        clear("<p>{{ name }} {{ name }}, hello</p>"),
        clear("<a href='a'>Shop</a> <a href='b'>Shop</a>"),
        clear("<table><tr><td>raku</td><td>raku</td></tr></table><p>glaze</p><p>glaze</p>"),
        clear("<html lang='de'><p>Die Schalen, die die Schule brennt.</p></html>"),
        clear("Subject: x\nFrom: a@b.org\n\nglaze\nglaze\n"),
        finds("<p>Come to the the kiln</p>", at="the the"),
        finds("<p>Come to <b>the</b> the kiln</p>", at="the</b> the"),
        finds("<p>The the kiln is hot</p>", at="The the"),
        finds("<p>x</p>", envelope=Envelope(subject="Our spring spring sale", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\n\nCome to the\tthe kiln\n", at="the\tthe"),
    ],
)
def find_repeated(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No word is followed by itself, save words and names that do so rightly."""
    exempt = phrase_set("phrases", "doubled_words")
    told: set[tuple[str, int]] = set()
    for copy in copies.all_copy(message):
        text = copy.text
        for match in _TWICE.finditer(text):
            word = match["word"].lower()
            is_name = match["word"][0].isupper() and match["again"][0].isupper()
            if word in exempt or is_name or word in context.word_list or _is_broken(message, copy, match):
                continue
            place = copy.place(match.start(), match.end())
            key = (copy.where + word, place.start.offset if place.start else match.start())
            if key in told:
                continue
            told.add(key)
            yield Hit(
                "“{words}” stands twice in the {where}.",
                place,
                {"words": match["word"], "where": copy.where},
                identity=_around(text, match),
            )


def _around(text: str, match: re.Match[str]) -> str:
    return text[max(0, match.start() - 20) : match.end() + 20].casefold()


def _is_broken(message: Message, copy: Copy, match: re.Match[str]) -> bool:
    """Whether the two words belong to two things: two links, or two lines of a list."""
    first, second = copy.place(match.start("word"), match.end("word")), copy.place(match.start("again"), match.end("again"))
    if copy.where == copies.HTML and message.document is not None and first.element != second.element:
        elements = message.document.all_elements
        holders = [elements[place.element] if place.element is not None else None for place in (first, second)]
        links = [
            next((one.index for one in (holder, *holder.ancestors()) if one.tag == "a"), None) if holder else None for holder in holders
        ]
        return links[0] != links[1]
    if copy.where == copies.TEXT and message.text is not None and first.start and second.start:
        between = message.text.text[first.start.offset : second.start.offset]
        if "\n" in between or "\r" in between:
            line_start = max(message.text.text.rfind("\n", 0, first.start.offset), message.text.text.rfind("\r", 0, first.start.offset)) + 1
            return first.start.offset - line_start < _FULL_LINE
    return False


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
        finds("<p>We have recieved your pots and glazes</p>", at="recieved"),
        finds("<p>They dont glaze bowls, and arent here on Monday with the others</p>", at="dont"),
        finds("<p>We put thier pots across the quay on Monday for everyone</p>", at="thier"),
        finds("<p>We fire on Mondays. Membershipp is open to everyone.</p>", at="Membershipp"),
        finds("<html lang='en'><p>Spring <b>glazez</b> are here</p></html>", at="glazez"),
        finds("<p>x</p>", envelope=Envelope(subject="Your slot is confirmd", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\n\nYour slot is confirmd now\n", at="confirmd"),
    ],
)
def find_unknown_words(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No ordinary word is one slip away from a word of its passage's language, unless the dictionary or the workspace's word list has it."""
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
        # Most unknown words of real mail are names and jargon: a slip is one away from a word, in a way in which people slip.
        slips = [
            (word, near.capitalize() if begins else near, start, end)
            for (word, begins, start, end), near in zip(unknown, nearest, strict=True)
            if near and _is_slip(word.lower(), near) and (not begins or (len(word) >= _LONG_ENOUGH and not word.endswith("'s")))
        ]
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
    rows = (row for names in table("calendar").values() for key in ("months", "weekdays") for row in names[key])
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
_REPEATED = re.compile(r"(\w)\1+")


def _is_slip(word: str, near: str) -> bool:
    """Whether people slip so: an apostrophe left out, two letters swapped, a letter doubled or not; else in a longer word, after its first letter.

    Among short words nearly everything is one letter away from something, and names and jargon are.
    """
    if near.replace("'", "") == word or sorted(word) == sorted(near):
        return True
    if len(word) < 5 or word[0] != near[0]:
        return False
    return len(word) >= _LONGER or _REPEATED.sub(r"\1", word) == _REPEATED.sub(r"\1", near)


def _unknown(text: str, dictionaries: Dictionaries, language: str, known: frozenset[str]) -> tuple[list[tuple[str, bool, int, int]], int]:
    """Words that no dictionary has, each with whether it is capitalised for beginning a sentence and its place, and how many words were
    looked at."""
    plain = _ADDRESS.sub(lambda match: " " * len(match[0]), text)
    found: list[tuple[str, bool, int, int]] = []
    looked_at = 0
    letters = table("languages")["letters"].get(language)
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
        found.append((word, begins, match.start(), match.end()))
    return found, looked_at


#: The second half of a word that was broken at the end of a line, as plain text has it.
_BROKEN = re.compile(r"-\s([a-zß-ɏ]{2,})(?![\w-])")
#: Words of a passage from which one unknown word among them tells a slip.
_FEW = 3
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
#: Letters of a word in which any one of them may be the slip.
_LONGER = 6
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
