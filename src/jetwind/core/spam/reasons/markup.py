"""Reasons in how the HTML is written."""

from __future__ import annotations

import re

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.facts import phrase_set
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span
from jetwind.core.spam.declaring import Evidence, found_by, reason
from jetwind.core.styles.colours import legacy_colour
from jetwind.core.styles.declarations import length_px

_COPY = "<p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off until the middle of the month for all who fire with us.</p>"
_CLEAN = clear(f"<!doctype html><html lang='en'><body>{_COPY}</body></html>")


@reason(
    id="markup-heavy",
    name="Heavy markup for its text",
    group="markup",
    weight=0.5,
    by_hand=True,
    why="Much markup around little text is a habit of mail that hides something.",
    fix="Take out what is not needed: nested tables, styles that nothing uses, comments.",
    effort=2,
    samples=[_CLEAN, finds(f"<style>{'p{color:red}' * 5000}</style><p>short</p>")],
)
def markup_heavy(message: Message, context: Context) -> Evidence | None:
    """Over 40,000 octets, and over 60 of them for each character that is read."""
    if message.html is None:
        return None
    characters = len(reading_of(message).visible_text)
    if message.html.octets <= 40_000 or message.html.octets <= 60 * characters:
        return None
    return Evidence(f"{message.html.octets:,} octets of HTML for {characters:,} characters", Place("html"))


@reason(
    id="text-hidden",
    name="Much hidden text",
    group="markup",
    weight=1.2,
    by_hand=True,
    why="Text that no reader sees is there to mislead filters.",
    fix="Take it out; leave the hidden preview text.",
    samples=[
        _CLEAN,
        clear(f"<div style='display:none'>Twelve glazes at a fifth off</div>{_COPY}"),
        finds(f"<div style='display:none'>{'hidden words ' * 60}</div><p>shown</p>"),
    ],
)
def text_hidden(message: Message, context: Context) -> Evidence | None:
    """Over 400 hidden characters, and more than are shown."""
    if message.document is None:
        return None
    hidden, shown = len(reading_of(message).hidden_text), len(reading_of(message).visible_text)
    if hidden <= 400 or hidden <= shown:
        return None
    return Evidence(f"{hidden:,} characters hidden, {shown:,} shown", Place("html"))


def _words(element: Element) -> str:
    return " ".join(element.text.split())[:40] if len(element.text) < 5_000 else ""


@reason(
    id="text-tiny",
    name="Text too small to read",
    group="markup",
    weight=1.2,
    by_hand=True,
    why="Text of three pixels is written for filters and not for readers.",
    fix="Take it out, or set it at a size that can be read.",
    samples=[
        _CLEAN,
        clear(f"<div style='font-size:1px;display:none'>Twelve glazes at a fifth off</div>{_COPY}"),
        clear(f"<td style='font-size:0;line-height:0'><table><tr><td style='font-size:16px'>{_COPY}</td></tr></table></td>"),
        clear(f"<div style='font-size:1px;color:#fff;max-height:0;overflow:hidden'>Twelve glazes at a fifth off</div>{_COPY}"),
        finds(f"{_COPY}<p style='font-size:3px'>apples plates and other words of no sense here</p>"),
    ],
)
def text_tiny(message: Message, context: Context) -> Evidence | None:
    """Over twenty letters in at most 4 px, that are not hidden and are no preview text at the top."""
    if message.document is None:
        return None
    tiny = 0
    first: Element | None = None
    seen = 0
    for piece in reading_of(message).pieces:
        size = _own_size(message, piece.run.parent)
        if size is not None and size <= 4 and seen >= 20:
            tiny += len(piece.text)
            first = first or piece.run.parent
        seen += len(piece.text) if size is None or size > 4 else 0
    if tiny <= 20 or first is None:
        return None
    return Evidence(f"{tiny} characters, such as “{_words(first)}”", Place.in_html(message, first.start_tag, first.index))


def _own_size(message: Message, element: Element) -> float | None:
    """The type size in px that the nearest ancestor sets in px, as far as it is set so."""
    for number, around in enumerate((element, *element.ancestors())):
        if number > 12:
            return None
        if value := message.cascade.value(around, "font-size"):
            return 0.0 if value.strip() in ("0", "0px") else length_px(value)
    return None


@reason(
    id="text-like-ground",
    name="Text in the colour of its ground",
    group="markup",
    weight=1.5,
    by_hand=True,
    why="Text that cannot be seen is there to mislead filters.",
    fix="Take it out, or give it a colour that can be read.",
    samples=[
        _CLEAN,
        clear(f"<div style='color:#ffffff;background-color:#ffffff;display:none'>Preview</div>{_COPY}"),
        clear(f"<table bgcolor='#1b2430'><tr><td><font color='#ffffff'>{_COPY}</font></td></tr></table>"),
        clear(
            "<table style='background:url(a.png) #1b2430'><tr><td><p style='color:#fff'>Twelve glazes, mixed by hand from ash</p></td></tr></table>"
        ),
        finds(f"<body bgcolor='#ffffff'>{_COPY}<font color='#fffffe'>apples plates and other words of no sense here at all</font></body>"),
        finds(
            f"<table bgcolor='#eeeeee'><tr><td>{_COPY}<p style='color:#eeeeee'>apples plates and other words of no sense here</p></td></tr></table>"
        ),
    ],
)
def text_like_ground(message: Message, context: Context) -> Evidence | None:
    """Over thirty characters whose colour and ground, both written beside them, differ by next to nothing."""
    if message.document is None:
        return None
    alike = 0
    first: Element | None = None
    seen = 0
    for piece in reading_of(message).pieces:
        pair = _colours(message, piece.run.parent)
        is_alike = pair is not None and max(abs(one - other) for one, other in zip(*pair, strict=True)) <= 3
        if is_alike and seen >= 20:
            alike += len(piece.text)
            first = first or piece.run.parent
        seen += 0 if is_alike else len(piece.text)
    if alike <= 30 or first is None:
        return None
    return Evidence(f"{alike} characters, such as “{_words(first)}”", Place.in_html(message, first.start_tag, first.index))


_RGB = re.compile(r"#(?:[0-9a-f]{3}|[0-9a-f]{6})\Z", re.IGNORECASE)


def _colours(message: Message, element: Element) -> tuple[tuple[int, ...], tuple[int, ...]] | None:
    """The colour of an element's text and of the nearest ground, where both are written as plain colours and no picture lies between."""
    colour: tuple[int, ...] | None = None
    for number, around in enumerate((element, *element.ancestors())):
        if number > 40:
            return None
        if colour is None:
            written = message.cascade.value(around, "color") or (around.get("color") if around.tag == "font" else None)
            if around.tag == "body" and not written:
                written = around.get("text")
            if written:
                colour = _plain(written)
                if colour is None:
                    return None
        if around.get("background") or message.cascade.value(around, "background-image"):
            return None
        ground = message.cascade.value(around, "background-color") or message.cascade.value(around, "background") or around.get("bgcolor")
        if ground and ground.strip().lower() not in ("transparent", "none", "inherit"):
            plain = _plain(ground)
            return (colour, plain) if colour is not None and plain is not None else None
    return None


def _plain(value: str) -> tuple[int, ...] | None:
    value = value.strip()
    if not _RGB.match(value) and not value.isalpha():
        return None
    read = legacy_colour(value)
    return None if read is None or read[3] < 1 else tuple(read[:3])


@reason(
    id="markup-in-words",
    name="Comments or made-up tags inside words",
    group="markup",
    weight=1.8,
    why="Words are cut by what no reader sees, so that filters do not find them.",
    fix="Take them out.",
    samples=[
        _CLEAN,
        clear(f"{_COPY}<!-- footer --><p>x<!--[if mso]>y<![endif]-->z</p><p>Gla<b>zes</b></p>"),
        clear("<p>{{ a }}<!-- x -->{{ b }}</p>"),
        finds(f"{_COPY}<p>mo<!-- x1 -->ney mort<!-- q -->gage</p>"),
        finds(f"{_COPY}<p>mo<kjq>ney mort<zzx>gage fr<xq>ee</p>"),
    ],
)
def markup_in_words(message: Message, context: Context) -> Evidence | None:
    """Two and more words that a comment or an unknown tag cuts."""
    if message.document is None or message.html is None:
        return None
    source, found = message.html.text, []
    for before, token, after in zip(message.document.tokens, message.document.tokens[1:], message.document.tokens[2:], strict=False):
        is_cut = token.kind == "comment" or (token.kind in ("start tag", "end tag") and _is_made_up(token.name))
        if is_cut and before.kind == after.kind == "text" and source[before.span.end - 1].isalpha() and source[after.span.start].islower():
            found.append(token.span)
    if len(found) < 2:
        return None
    said = source[found[0].start - 1 : found[0].end + 1][:40]
    return Evidence(f"{len(found)} times, as in “{said}”", Place.in_html(message, found[0]))


def _is_made_up(name: str) -> bool:
    return name.isalnum() and name.lower() not in phrase_set("html", "elements")


@reason(
    id="markup-loud",
    name="Large type, again and again",
    group="markup",
    weight=0.8,
    why="Copy that is set large in many places, or throughout, shouts.",
    fix="Set headings large with styles, and copy at its own size.",
    samples=[
        _CLEAN,
        clear(f"<font size='6'>Spring sale</font>{_COPY * 2}"),
        clear(f"<h1>Spring sale</h1><h2>Bowls</h2>{_COPY}<h2>Jugs</h2>{_COPY}"),
        finds(f"<font size='+3'>{_COPY}</font>"),
        finds(f"<font size='5'>Spring sale</font>{_COPY}<font size=4>Order now</font>{_COPY}"),
    ],
)
def markup_loud(message: Message, context: Context) -> Evidence | None:
    """Two and more ``font`` elements of size 4 and above, or more than a third of the letters, and a hundred of them, inside one."""
    if message.document is None:
        return None
    large = [element for element in message.document.elements("font") if _is_loud(element)]
    outer = [element for element in large if not any(_is_loud(parent) for parent in element.ancestors())]
    loud = sum(len(" ".join(element.text.split())) for element in outer)
    shown = len(reading_of(message).visible_text)
    if not large or (len(large) < 2 and (loud < 100 or loud * 3 <= shown)):
        return None
    place = Place.in_html(message, outer[0].start_tag, outer[0].index)
    said = f"{loud:,} of {shown:,} characters, in {len(large)} place{'s' if len(large) > 1 else ''}"
    return Evidence(said, place, times=max(1.0, min(len(large), 4) / 2))


def _is_loud(element: Element) -> bool:
    """Whether it is set larger than usual (HTML §15.3.4: size 3 is the usual one, and signs count from it)."""
    return element.tag == "font" and bool(re.fullmatch(r"\+[2-9]|[4-9]|\d\d", (element.get("size") or "").strip()))


@reason(
    id="html-base64",
    name="Plain HTML in base64",
    group="markup",
    weight=0.9,
    why="HTML of plain letters needs no base64; it is put so to be read by clients and not by filters.",
    fix="Send it as quoted-printable.",
    samples=[
        _CLEAN,
        clear(
            "From: a@kiln.org\nSubject: x\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: base64\n\nPHA+R8O8bnRlciBBc2NoZSBhdXMgZGVtIE1lZXI8L3A+\n"
        ),
        finds("From: a@kiln.org\nSubject: x\nContent-Type: text/html\nContent-Transfer-Encoding: base64\n\nPHA+R2xhemVzPC9wPg==\n"),
    ],
)
def html_base64(message: Message, context: Context) -> Evidence | None:
    """An ASCII part in base64."""
    part = message.html.part if message.html is not None else None
    if part is None or message.html is None or not message.html.text.isascii() or part.transfer_encoding != "base64":
        return None
    return Evidence("the HTML is ASCII, and in base64", Place.in_message(message, Span(part.offset, part.offset + len(part.head))))


@reason(
    id="markup-external",
    name="Style sheet or script from elsewhere",
    group="markup",
    weight=0.4,
    by_hand=True,
    why="What is loaded from elsewhere can change after a filter has looked.",
    fix="Put the styles into the message.",
    samples=[_CLEAN, finds(f"<link rel='stylesheet' href='https://kiln.org/a.css'>{_COPY}")],
)
def markup_external(message: Message, context: Context) -> Evidence | None:
    """A linked style sheet."""
    return found_by("appearance.external-css", message, context)


@reason(
    id="title-residue",
    name="HTML without title or with the title of a tool",
    group="markup",
    weight=0.2,
    why="Pages saved from a tool keep its title; mail made with care has none of it.",
    fix="Give the HTML the subject as its title.",
    samples=[
        clear(f"<title>Spring sale</title>{_COPY}"),
        clear(f"<title>{{{{ subject }}}}</title>{_COPY}"),
        finds(f"<title>Untitled Document</title>{_COPY}"),
        finds(f"<title>New Page 1</title>{_COPY}"),
    ],
)
def title_residue(message: Message, context: Context) -> Evidence | None:
    """“Untitled”, “New page 1”, “Document” and the like."""
    title = next(iter(message.document.elements("title")), None) if message.document is not None else None
    if title is None or not re.fullmatch(
        r"\s*(?:untitled(?: document| page)?(?: ?-?\d+)?|new page ?\d*|document ?\d*|no title|page title|message)\s*",
        title.text,
        re.IGNORECASE,
    ):
        return None
    return Evidence(f"“{' '.join(title.text.split())[:40]}”", Place.in_html(message, title.start_tag, title.index))
