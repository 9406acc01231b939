"""No sample text of the template is left in the copy."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from itertools import islice
from urllib.parse import urlsplit

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.copy import Copy
from jetwind.core.facts import phrase_set
from jetwind.core.fields import opaque
from jetwind.core.markup import TextRun
from jetwind.core.message import Message, image_references
from jetwind.core.source import LIMITS, Span

_WORDS = re.compile(r"[^\W\d_]+")
_INSERT = re.compile(r"\binsert (?:[\w'’-]+ ){0,4}?here\b", re.IGNORECASE)
_YOUR_HERE = re.compile(
    r"\b(?:(?:enter|add|put|type|write|place) )?(?:your|the|some) (?:[\w'’-]+ ){0,2}?(?:text|title|headline|heading|copy|content|message|logo|caption|description) (?:goes )?here\b",
    re.IGNORECASE,
)
_MARK = re.compile(r"(?<![\w@./#-])(?:TODO|TBD|FIXME)(?![\w@/-])")
#: Characters on either side in which the word beside a mark is sought.
_BESIDE = 60
#: Four or more X that stand alone: groups of them before or after digits mask a card or account number.
_CROSSES = re.compile(r"(?<![\w*•-])X{4,}(?![\w*•-])")
_MASKED = re.compile(r"(?<![X*•])[X*•]{2,4}(?:[ -]?[X*•]{2,4}){0,4}[ -]?\d{2,}|\d{2,}[ -]?X{2,}|X{4}(?:[ -]X{4})+", re.IGNORECASE)


#: A bracketed request to the author; one that an address follows is a button of the plain text.
_BRACKETED = re.compile(r"\[(?P<words>[^\[\]\n]{5,80})\](?!\s{0,3}[(<]|\s{0,3}https?:)")
#: Names in capitals with underscores, such as FIRST_NAME: a template's author writes them where a value is to be filled in.
_SHOUTED = re.compile(r"(?<![\w@./#&=?-])[^\W\d_a-z]{2,20}(?:_[^\W\d_a-z]{2,20}){1,4}(?![\w@/=-])")
_CODE_BEFORE = re.compile(
    r"\b(?:codes?|coupon|voucher|gutschein\w*|kod|kode|código|codice|code promo|kortingscode|промокод|код)\W{0,4}\Z", re.IGNORECASE
)


@check(
    id="wording.placeholder",
    name="Sample text left in",
    level=Level.STOP,
    why="The reader gets the template's sample words where the real copy should be.",
    fix="Replace it with the real copy, or take the block out.",
    basis="Common practice, no published source",
    together={
        "": "{many} pieces of sample text are left.",
        "pictures": "{many} pictures are stand-ins.",
        "title": "{many} titles say only that they are titles.",
    },
    samples=[
        clear("<p>We fire on Mondays. Et voilà: a non-stick bowl, in situ, ad hoc, per se.</p>"),
        clear("<p>TODO INCLUIDO: el taller y las piezas.</p>", kind="promotional"),
        clear("<p>Paid with card XXXX XXXX XXXX 4242.</p>"),
        clear("<p>Write your name on the label, and put the pots here.</p>"),
        clear("<p>Our main titles this season: sea green and rust.</p>"),
        clear('<input placeholder="Your text here"><p>Sizes up to XXXL.</p>'),
        clear("<a href='https://kiln.org/draw'>Enter here</a><p>Add your details here, and your name here.</p>"),
        clear("<p>Venue: TBC. Type your code here at the till.</p>"),
        clear('<div style="display:none">x</div><p>Enter the studio from here on the left.</p>'),
        clear(
            "<title>Titles of the spring</title><p>Title</p><p>[sic] [Add to calendar] [Write a review] [Enter here](https://kiln.org/)</p>"
        ),
        clear("<p>Use code SPRING_GLAZE, or the code NAME_DAY; set MAX_RETRY_COUNT to 3. RAKU_KILN_NO_2 is hot.</p>"),
        clear("From: a@kiln.org\nSubject: x\n\n[Add your name here] https://kiln.org/guests\n[Hier eintragen]\n"),
        clear('<title>{{ title }}</title><img src="https://placeholders-pottery.org/pot.jpg" alt="Pot">'),
        finds("<p>Lorem ipsum dolor sit amet, consectetur.</p>", at="Lorem ipsum dolor sit amet, consectetur"),
        clear("<h1>Headlines of the week</h1><p>A title goes to the winner. Picture of the month</p>"),
        clear("<img src='https://kiln.org/logo.png' alt='Kiln logo'><img src='https://kiln.org/placeholders/a.png' alt='A'>"),
        finds("<h1>Headline</h1>", at="Headline"),
        finds("<td><b>A title goes here</b></td>", at="A title goes here"),
        finds("<img src='https://placeholder.example/600x300' alt='Bowls'>", at="https://placeholder.example/600x300"),
        finds("<img src='https://kiln.org/img/your-logo.png' alt='Kiln'>", at="https://kiln.org/img/your-logo.png"),
        finds("<img src='https://img.kiln.org/placeholder-600.png' alt='Bowls'>", at="https://img.kiln.org/placeholder-600.png"),
        finds("<h1>Main title</h1>", at="Main title"),
        finds("<p>Insert your offer here</p>", at="Insert your offer here"),
        finds("<p>Add your text here</p>", at="Add your text here"),
        finds("<p>Price: TBD</p>", at="TBD"),
        finds("<title>Title</title><p>Twelve glazes</p>", at="Title"),
        finds("<title>Untitled Document</title><p>Twelve glazes</p>", at="Untitled Document"),
        finds("<html lang='de'><title>Titel</title><p>Zwölf Glasuren</p></html>", at="Titel"),
        finds("<p>Hello FIRST_NAME, welcome to COMPANY_NAME</p>", at="FIRST_NAME"),
        finds("<p>Hallo VORNAME_KUNDE,</p>", at="VORNAME_KUNDE"),
        finds("<p>Kiln Works, [add address here]</p>", at="[add address here]"),
        finds("<p>[Adresse hier einfügen]</p>", at="[Adresse hier einfügen]"),
        finds("<p>[Insérer le texte]</p>", at="[Insérer le texte]"),
        finds("<p>[wstaw adres]</p>", at="[wstaw adres]"),
        finds("<p>[Вставьте адрес]</p>", at="[Вставьте адрес]"),
        finds('<img src="https://via.placeholder-images.net/600x200" alt="Pot">', at="https://via.placeholder-images.net/600x200"),
        finds('<img src="https://lorem-pictures.net/600/200" alt="Pot">', at="https://lorem-pictures.net/600/200"),
        finds("<p>Code XXXX at the till</p>", at="XXXX"),
        finds('<img src="cid:a" alt="Alt text here">', at="Alt text here"),
        finds("Subject: Your subject here\nFrom: a@kiln.example\n\nHello\n", at="Subject: Your subject here"),
        finds("Subject: x\nFrom: a@kiln.example\n\nTODO: write this\n", at="TODO"),
        finds('<div style="display:none">Preview text here</div><p>Real words</p>', at="Preview text here"),
    ],
)
def find_placeholder(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Visible copy, alternative texts, subject and preview text hold no filler Latin and no template leftovers."""
    for copy in _pieces(message):
        end = 0
        for found in sorted(_leftovers(copy.text), key=lambda span: (span.start, -span.end)):
            if found.end <= end:
                continue  # it is part of what was told
            end = found.end
            place = copy.place(found.start, found.end)
            words = copy.text[found.start : found.end].strip()
            yield Hit("“{words}” is sample text.", place, {"words": words}, identity=words.casefold())
    yield from _titles(message)
    for reference in image_references(message):
        if _is_stand_in(reference.value, context):
            place = Place.in_html(message, reference.span, reference.element.index)
            yield Hit(
                "The picture is a stand-in: {address}", place, {"address": reference.value}, identity=reference.value, cause="pictures"
            )


def _is_stand_in(address: str, context: Context) -> bool:
    """Whether a picture's address says that another should stand there: a reserved host (RFC 2606), or words of its own."""
    try:
        parts = urlsplit(address.strip()[:2000])
        host = (parts.hostname or "").lower()
    except ValueError:
        return False
    if any(host == domain or host.endswith(f".{domain}") for domain in context.practice_domains):
        return False
    if parts.scheme.lower() in ("http", "https", "") and host and _RESERVED.search(host):
        return True
    return parts.scheme.lower() != "data" and (_SAYS_SO.search(parts.path.rpartition("/")[2]) or _SAYS_SO_HOST.search(host)) is not None


#: RFC 2606 §2 and §3 (from memory): names that nobody owns.
_RESERVED = re.compile(r"(?:^|\.)(?:example(?:\.com|\.net|\.org)?|test|invalid|localhost)\Z")
_SAYS_SO = re.compile(
    r"(?:^|[^a-z])(?:placeholder|your[-_ ]?(?:logo|image|picture|photo|banner)(?:[-_ ]?here)?|dummy[-_ ]?(?:image|picture))(?:[^a-z]|$)",
    re.IGNORECASE,
)
_SAYS_SO_HOST = re.compile(
    r"(?:^|[.-])(?:placehold(?:er|ers|it)?|place-?im(?:g|age|ages)|dummy-?im(?:g|age|ages)|fake-?im(?:g|age|ages)|lorem(?:[a-z]{0,10}))(?:-?(?:images?|pictures?|pics))?(?:\.|$|-images?|-pictures?)"
)


def _titles(message: Message) -> Iterator[Hit]:
    """A title element that says nothing but that it is one."""
    for title in message.document.elements("title") if message.document is not None else ():
        run = next((node for node in islice(title.walk(), 3) if isinstance(node, TextRun) and node.span is not None), None)
        words = " ".join(title.text[:200].split())
        if (
            run is None
            or words.casefold() not in phrase_set("phrases", "placeholder_titles")
            or title.parent is None
            or title.parent.tag == "svg"
        ):
            continue
        assert run.span is not None
        start = run.span.start + len(run.text) - len(run.text.lstrip())
        place = Place.in_html(message, Span(start, start + len(run.text.strip())), title.index)
        yield Hit("The title of the message says “{words}”.", place, {"words": words}, identity=words.casefold(), cause="title")


def _pieces(message: Message) -> Iterator[Copy]:
    """All copy; of the plain text, a line each, since a leftover that is a whole line is none inside a sentence."""
    for source in (copies.subjects, copies.preview, copies.html, copies.alternative_texts):
        yield from source(message)
    if message.text is not None:
        for line in re.finditer(r"[^\r\n]+", message.text.seen):
            written = line[0][: LIMITS.passage_characters]
            yield Copy(opaque(written, message.syntax), copies.TEXT, partial(_in_line, message, line.start()), written)


def _in_line(message: Message, at: int, start: int, end: int) -> Place:
    return Place.in_text(message, Span(at + start, at + end))


def _leftovers(text: str) -> Iterator[Span]:
    """Places of sample text in one piece of copy."""
    stripped = text.strip()
    if not stripped:
        return
    bare = re.sub(r"[\s\u00a0]+", " ", stripped.strip("[](){}<>.!:-–—*\"'“”‘’ ")).casefold()
    if bare in phrase_set("phrases", "placeholder_whole"):
        start = text.index(stripped)
        yield Span(start, start + len(stripped))
        return
    yield from filler(text)
    for pattern in (_INSERT, _YOUR_HERE):
        yield from (Span(match.start(), match.end()) for match in pattern.finditer(text))
    for match in _BRACKETED.finditer(text):
        if _asks_the_author(match["words"]):
            yield Span(match.start(), match.end())
    parts = phrase_set("phrases", "placeholder_names")
    for match in _SHOUTED.finditer(text) if "_" in text else ():
        if parts.issuperset(match[0].casefold().split("_")) and not _CODE_BEFORE.search(text[max(0, match.start() - 40) : match.start()]):
            yield Span(match.start(), match.end())
    for match in _MARK.finditer(text):
        if not _is_shouting(text, match.start(), match.end()):
            yield Span(match.start(), match.end())
    if "XXXX" in text:
        masked = [Span(match.start(), match.end()) for match in _MASKED.finditer(text)]
        for match in _CROSSES.finditer(text):
            if not any(match.start() in span for span in masked):
                yield Span(match.start(), match.end())


def filler(text: str) -> Iterator[Span]:
    """Runs of four or more filler words, two of them telltale."""
    words = phrase_set("phrases", "filler_latin")
    telltale = phrase_set("phrases", "filler_latin_telltale")
    if telltale.isdisjoint(_WORDS.findall(text.lower())):
        return
    run: list[re.Match[str]] = []
    for match in [*_WORDS.finditer(text), None]:
        if match is not None and match[0].lower() in words and (not run or not _WORDS.search(text[run[-1].end() : match.start()])):
            run.append(match)
            continue
        if len(run) >= 4 and sum(word[0].lower() in telltale for word in run) >= 2:
            yield Span(run[0].start(), run[-1].end())
        run = []


def _asks_the_author(words: str) -> bool:
    """Whether words ask somebody to put something in: a word for doing so, and either the very word for inserting, or "here"."""
    found = {word.casefold() for word in _WORDS.findall(words)}
    if not 2 <= len(found) <= 8:
        return False
    inserts = phrase_set("phrases", "placeholder_inserts")
    return not found.isdisjoint(inserts) or (
        not found.isdisjoint(phrase_set("phrases", "placeholder_asks"))
        and not found.isdisjoint(phrase_set("phrases", "placeholder_here"))
        and not found.isdisjoint(phrase_set("phrases", "placeholder_things"))
    )


def _is_shouting(text: str, start: int, end: int) -> bool:
    """Whether the word beside a mark is in capitals too: then it may be an ordinary word of another language."""
    after = re.match(r"\s+([^\W\d_]{2,})", text[end : end + _BESIDE])
    before = re.search(r"([^\W\d_]{2,})\s+\Z", text[max(0, start - _BESIDE) : start])
    return any(match is not None and match[1].isupper() for match in (after, before))
