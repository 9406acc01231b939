"""The plain text is plain, wraps, and has a way out."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from html import unescape
from html.entities import html5
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checking.options import About
from jetwind.core.checks.footer.asked import need_bulk
from jetwind.core.checks.needs import need_text
from jetwind.core.facts import phrase_pattern
from jetwind.core.fields import opaque, tokens
from jetwind.core.links.way_out import ADDRESS_WORDS, unsubscribe_link
from jetwind.core.message import Message
from jetwind.core.message.charsets import encode_octets
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span, Spans

_HEAD = "From: a@kiln.org\nSubject: x\n"
_BOTH = (
    f"{_HEAD}MIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=utf-8\n\n"
    "{}\n--b\nContent-Type: text/html; charset=utf-8\n\n{}\n--b--\n"
)

_TAGS = (
    "a|abbr|address|article|b|big|blockquote|body|br|button|caption|center|code|col|colgroup|dd|del|div|dl|dt|em|font|footer|form|h[1-6]|head|header|hr|html|i|iframe"
    "|img|input|ins|label|li|link|main|meta|nav|ol|p|pre|s|script|section|small|span|strike|strong|style|sub|sup|table|tbody|td|tfoot|th|thead|title|tr|u|ul"
)
_TAG = re.compile(
    rf"</(?:{_TAGS})\s*>|<(?:{_TAGS})(?:\s+[a-z-]+\s*=\s*(?:\"[^\"<>]*\"|'[^'<>]*'|[^\s\"'<>]+))*\s*/?>|<!--|<!doctype\b", re.IGNORECASE
)
_PROPERTY = "color|background(?:-[a-z]+)?|font(?:-[a-z]+)?|margin(?:-[a-z]+)?|padding(?:-[a-z]+)?|border(?:-[a-z]+)*|(?:max-|min-)?(?:width|height)|display|text-[a-z]+|line-height"
_CSS = re.compile(rf"@media\b[^{{\n]{{0,80}}\{{|[.#\w][\w .,#:>*-]{{0,80}}\{{\s*(?:{_PROPERTY})\s*:[^{{}}]{{1,200}}[;}}]", re.IGNORECASE)
_ENTITY = re.compile(r"&(?:#\d{2,6}|#[xX][0-9a-fA-F]{2,5}|[A-Za-z][A-Za-z0-9]{1,30});")


#: What stands beside a piece of markup that a text speaks of.
_QUOTES = "\"'`“”‘’«»„"
_SPEAKS_OF = re.compile(
    r"\b(?:html|css|markup)\b|\b(?:tags?|elements?|entit(?:y|ies)|rules?|selectors?|balises?|etiquetas?)\b(?= such as|\W{0,3}\Z)|\A\W{0,3}(?:tags?|elements?|entit(?:y|ies)|rules?)\b",
    re.IGNORECASE,
)
#: Characters on either side in which such words are sought.
_BESIDE = 50


def _is_spoken_of(text: str, match: re.Match[str]) -> bool:
    """Whether markup is what a text is about: it stands in quotes, or beside a word for it in its own line."""
    start, end = match.span()
    if text[start - 1 : start] and text[start - 1] in _QUOTES and text[end : end + 1] and text[end] in _QUOTES:
        return True
    before, after = text[max(0, start - _BESIDE) : start].rpartition("\n")[2], text[end : end + _BESIDE].partition("\n")[0]
    if match[0].startswith("<") and "</" in f"{before}{match[0]}{after}":
        return False  # a pair of tags marks words, and is not what the words are about
    own = match[0].partition("{")[0] if "{" in match[0] else ""
    return _SPEAKS_OF.search(f"{before}{own}") is not None or _SPEAKS_OF.search(after) is not None


@check(
    id="text.residue",
    name="Markup left in the plain text",
    level=Level.STOP,
    why="Readers of the plain text get tags, style rules and codes between the words.",
    fix="Make the plain text afresh from the HTML, or delete the leftovers.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_HEAD}\nShop <https://kiln.org/shop>, write to <hello@kiln.org>, 3 < 4 > 2, I <3 clay. R&D; Q&A; {{{{ first_name }}}}\n"),
        clear(f"{_HEAD}\nOn Monday <name> said: {{ note: bring clay }}\n"),
        clear(
            _BOTH.format("Wrap rows in <table> and use &nbsp; for gaps.", "<p>Wrap rows in &lt;table&gt; and use &amp;nbsp; for gaps.</p>")
        ),
        clear(f"{_HEAD}\nSee https://kiln.org/?a=1&copy=2&lang=en\n"),
        clear(f"{_HEAD}\nRead how the <table> element came to be, and why `&nbsp;` is no gap.\nThe tag <center> is old. “<br>” is not.\n"),
        finds(f"{_HEAD}\nUse code <b>GLAZE20 until Sunday\n", at="<b>"),
        finds(f"{_HEAD}\nOur price tags <b>are</b> red\n", at="<b>"),
        clear(f"{_HEAD}\nA rule such as p {{ margin: 0; }} takes the gaps away.\n"),
        finds(f"{_HEAD}\nSpring <b>sale</b> now\n", at="<b>"),
        finds(f"{_HEAD}\nHello<br>there\n", at="<br>"),
        finds(f"{_HEAD}\nSpring&nbsp;sale &rsquo;\n", at="&nbsp;"),
        finds(f"{_HEAD}\n.button {{ color: red; }}\nSpring sale\n"),
        finds(f"{_HEAD}\n@media only screen and (max-width: 600px) {{\n\nSpring\n"),
        finds(f'{_HEAD}\n<td style="padding:0">Spring</td>\n', at='<td style="padding:0">'),
    ],
)
def find_residue(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The plain text holds no tags, no CSS and no entities."""
    text = need_text(message)
    shown = reading_of(message).visible_text if message.html is not None else ""
    written = opaque(text.seen, message.syntax)
    for what, pattern in (("a tag", _TAG), ("CSS", _CSS), ("an entity", _ENTITY)):
        match = next(_left_over(written, shown, pattern), None)
        if match is not None:
            yield Hit(
                "The plain text shows {what}: {words}",
                Place.in_text(message, Span(match.start(), match.end())),
                {"what": what, "words": match[0], "count": sum(1 for _ in pattern.finditer(written))},
                identity=f"{what}:{match[0][:40]}",
            )


def _left_over(written: str, shown: str, pattern: re.Pattern[str]) -> Iterator[re.Match[str]]:
    """Markup in a text that the text does not speak of, and that the HTML does not show either."""
    known: dict[str, bool] = {}
    for match in pattern.finditer(written):
        if pattern is _ENTITY and not match[0].startswith("&#") and match[0][1:] not in html5:
            continue
        # The same piece of markup stands in a text by the thousand: it is sought in the HTML once.
        if match[0] not in known:
            known[match[0]] = match[0] in shown
        if not known[match[0]] and not _is_spoken_of(written, match):
            yield match


@mend(
    "text.residue",
    kind=MendKind.CONFIRM,
    does="Each entity becomes the letter that it stands for; tags are taken out, and a line break becomes one.",
    leaves="Style rules are left to a person.",
    samples=[
        turns(f"{_HEAD}\nSpring&nbsp;sale &amp; more\n", f"{_HEAD}\nSpring sale & more\n"),
        turns(f"{_HEAD}\nSpring <b>sale</b> now\n", f"{_HEAD}\nSpring sale now\n"),
        turns(f"{_HEAD}\nHello<br>there\n", f"{_HEAD}\nHello\nthere\n"),
        leaves_alone(f"{_HEAD}\n.button {{ color: red; }}\nSpring sale\n"),
    ],
)
def mend_residue(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """All that is left of one kind of markup, not its first alone."""
    text = message.text
    pattern = {"a tag": _TAG, "an entity": _ENTITY}.get(str(finding.data.get("what", "")))
    if text is None or pattern is None:
        return
    shown = reading_of(message).visible_text if message.html is not None else ""
    newline = "\r\n" if "\r\n" in text.text else "\n"
    for match in _left_over(opaque(text.seen, message.syntax), shown, pattern):
        is_break = pattern is _TAG and match[0].lower().startswith(("<br", "</p", "</div", "</tr", "</li", "</h"))
        said = unescape(match[0]).replace("\u00a0", " ") if pattern is _ENTITY else newline if is_break else ""
        yield Change("text", Span(match.start(), match.end()), said)


@dataclass(frozen=True)
class LineOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("the longest line that mail can carry", unit="octets")] = 998
    most_characters: Annotated[int, About("the longest line that reads well unwrapped", unit="characters")] = 78


@check(
    id="text.line-long",
    name="Long lines in the plain text",
    level=Level.NOTE,
    why="Programs that do not wrap make the reader scroll sideways; over 998 octets servers may cut the line.",
    fix="Break lines at 72 characters, or send the part as format=flowed or quoted-printable.",
    basis="RFC 5322 §2.1.1; RFC 3676 §4 (from memory)",
    options=LineOptions,
    samples=[
        clear(f"{_HEAD}\n{'word ' * 15}\n"),
        clear(f"{_HEAD}\nhttps://kiln.org/{'a' * 120}\n"),
        clear(f"{_HEAD}Content-Type: text/plain; format=flowed\n\n{'word ' * 40}\n"),
        clear(f"{_HEAD}Content-Type: text/plain\nContent-Transfer-Encoding: quoted-printable\n\n" + "word =\n" * 40 + "\n"),
        finds(f"{_HEAD}\n{'word ' * 20}\n"),
        finds(f"{_HEAD}\n{'a' * 1000}\n"),
    ],
)
def find_line_long(message: Message, context: Context, options: LineOptions) -> Iterator[Hit]:
    """No line has more than 998 octets as transferred, nor more than 78 characters where nothing wraps it."""
    text = need_text(message)
    if text.part is None:
        raise DoesNotApply("the part is wrapped when it is sent")
    if text.part.transfer_encoding in ("quoted-printable", "base64"):
        return
    flows = text.part.parameter("format").lower() == "flowed"
    for match in re.finditer(r"[^\r\n]+", text.seen):
        octets = len(encode_octets(match[0], text.charset))
        place = Place.in_text(message, Span(match.start(), match.end()))
        if octets > options.most_octets:
            yield Hit(
                "A line has {octets} octets; mail carries {limit}.",
                place,
                {"octets": octets, "limit": options.most_octets},
                level=Level.STOP,
            )
            return
    longest = max(
        (match for match in re.finditer(r"[^\r\n]+", text.seen) if " " in match[0].strip()),
        key=lambda match: len(match[0].rstrip()),
        default=None,
    )
    if longest is not None and not flows and len(longest[0].rstrip()) > options.most_characters:
        yield Hit(
            "The longest line has {characters} characters and nothing wraps it.",
            Place.in_text(message, Span(longest.start(), longest.end())),
            {"characters": len(longest[0].rstrip()), "limit": options.most_characters},
            identity="unwrapped",
        )


#: Characters of a line that is broken anew (RFC 5322 §2.1.1).
_WRAPPED = 78


@mend(
    "text.line-long",
    kind=MendKind.CONFIRM,
    does="Each long line is broken at the last blank before its 79th character, and where it goes on, again.",
    leaves="A line without a blank, such as a long address, stays as it is.",
    samples=[
        turns(f"{_HEAD}\n{'word ' * 19}word\nEnd\n", f"{_HEAD}\n{'word ' * 14}word\n{'word ' * 4}word\nEnd\n"),
        turns(
            f"{_HEAD}\nDear {{{{ first_name | default: 'you all' }}}}, {'glaze ' * 14}ends\n",
            f"{_HEAD}\nDear {{{{ first_name | default: 'you all' }}}}, {'glaze ' * 4}glaze\n{'glaze ' * 9}ends\n",
        ),
        leaves_alone(f"{_HEAD}\n{'a' * 1000}\n"),
    ],
)
def mend_line_long(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """A line end takes the place of the blank; blanks inside of fields stay."""
    text = message.text
    if text is None:
        return
    newline = "\r\n" if "\r\n" in text.text else "\n"
    closed = Spans(token.span for token in tokens(text.text, message.syntax))
    for line in re.finditer(r"[^\r\n]{79,}", text.text):
        start, last = line.start(), -1
        for blank in re.finditer(r"(?<=\S) +(?=\S)", line[0]):
            at = line.start() + blank.start()
            if at - start > _WRAPPED and last >= 0:
                yield Change("text", Span(last, last + 1), newline)
                start, last = last + 1, -1
            if at not in closed and blank.end() - blank.start() == 1:
                last = at
        if last >= 0 and line.end() - start > _WRAPPED:
            yield Change("text", Span(last, last + 1), newline)


@check(
    id="text.unsubscribe-missing",
    name="No way to unsubscribe in the plain text",
    level=Level.STOP,
    why="A reader of the plain text has no way out, which the law demands.",
    fix="Write the unsubscribe address into the footer of the plain text.",
    basis="15 U.S.C. 7704(a)(3) (from memory)",
    merged=True,
    samples=[
        clear(f"{_HEAD}\nNews.\n\nUnsubscribe: https://kiln.org/u?m=1\n"),
        clear(f"{_HEAD}\nNews.\n\nUnsubscribe: {{{{ unsubscribe_url }}}}\n"),
        clear(f"{_HEAD}\nNews.\n\nTo unsubscribe, write to leave@kiln.org\n"),
        clear(f"{_HEAD}\nNews.\n\nhttps://kiln.org/unsubscribe/9f3\n"),
        clear(f"{_HEAD}\nNews.\n\nAbmelden: www.kiln.org/p/9f3\n"),
        clear(f"{_HEAD}\nYour receipt\n", kind="transactional"),
        clear("<a href='https://kiln.org/u'>Unsubscribe</a>"),
        finds(f"{_HEAD}\nNews.\n\nShop: https://kiln.org/shop\n"),
        finds(_BOTH.format("News.", "<a href='https://kiln.org/u'>Unsubscribe</a>")),
        finds(f"{_HEAD}\nNews.\n\nYou can unsubscribe at the studio.\n"),
    ],
)
def find_unsubscribe_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The plain text of a message to an audience has an address by which a reader leaves the list."""
    need_bulk(context, "text.unsubscribe-missing", "a transactional message needs no unsubscribe address")
    text = need_text(message)
    if not text.seen.strip():
        raise DoesNotApply("the plain-text part is empty")
    if message.html is not None and unsubscribe_link(message) is None:
        raise DoesNotApply("the HTML has none either; footer.unsubscribe-missing tells")
    if unsubscribe_link(replace(message, html=None)) is not None or _has_field_or_bare_host(message, text.seen):
        return
    yield Hit("The plain text has no address to unsubscribe.", Place("text"), identity="missing")


def _has_field_or_bare_host(message: Message, text: str) -> bool:
    words = phrase_pattern("phrases", "unsubscribe")
    if not words.search(text) and not ADDRESS_WORDS.search(text):
        return False
    spans = [token.span for token in tokens(text, message.syntax)]
    spans += [Span(match.start(), match.end()) for match in re.finditer(r"\bwww\.\S+", text)]
    return any(
        ADDRESS_WORDS.search(text[span.start : span.end]) or words.search(text[max(0, span.start - 200) : span.end + 80]) for span in spans
    )


@mend(
    "text.unsubscribe-missing",
    kind=MendKind.CONFIRM,
    does="The unsubscribe link of the HTML stands at the end of the plain text, with its words.",
    leaves="A message without such a link in its HTML is left to a person.",
    samples=[
        turns(
            _BOTH.format("News.", "<a href='https://kiln.org/u?a=1&amp;b=2'>Unsubscribe</a>"),
            _BOTH.format("News.\n\nUnsubscribe: https://kiln.org/u?a=1&b=2", "<a href='https://kiln.org/u?a=1&amp;b=2'>Unsubscribe</a>"),
        ),
        leaves_alone(f"{_HEAD}\nNews.\n\nShop: https://kiln.org/shop\n"),
    ],
)
def mend_unsubscribe(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The words and the address, behind the last line that says something."""
    link, text = (unsubscribe_link(message) if message.html is not None else None), message.text
    if link is None or text is None or link.scheme not in ("http", "https", "mailto"):
        return
    newline = "\r\n" if "\r\n" in text.text else "\n"
    end = len(text.text.rstrip())
    words = " ".join(link.name.split())
    yield Change("text", Span(end, end), f"{newline}{newline}{words}: {link.address}" if words else f"{newline}{newline}{link.address}")
