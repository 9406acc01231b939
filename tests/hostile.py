"""Messages made to hurt: pieces that some pattern might read again and again, in every place where a message holds text."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Callable, Iterator
from itertools import cycle, islice

from tests.factories import archive

#: What is repeated. Each once took minutes in some check, or looks like the start of something that a check seeks.
PIECES = {"TODO": "TODO ", "points": ".", "exclamations": "!", "both marks": "?!", "zeros": "000 ", "letter point": "a.", "letter dash": "a-",
        "stars": "**", "ellipses": "…", "words": "word ", "digits": "9", "dashes": "-", "euro": "€ ", "brackets": "(", "square": "[",
        "curly": "{", "open fields": "{{ a", "fields": "{{a}}", "per cent": "%a", "tags in text": "&lt;%", "entities": "&amp;", "at": "a@",
        "addresses": "http://a.", "emoji": "🏺", "weekdays": "Tuesday 9 ", "strokes": "1/", "copyright": "(c) ", "streets": "12 a ", "X": "X",
        "filler": "lorem ", "double decoded": "Ã©", "same words": "the the ", "invisible": "\u00ad", "hard spaces": "\u00a0 ",
        "underscores": "a_", "leave": "unsubscribe ", "capitals": "Aa ", "hash": "#a", "encoded words": "=?utf-8?q?a?= ", "semicolons": ";",
        "insert": "insert ", "currency": "£", "notes of styles": "/*", "style addresses": "url(", "open styles": "&lt;style ",
        "spaces": " ", "lines": " \n", "rules": "p{*a;}",}  # fmt: skip


def mail(subject: str, html: str, text: str, more: str = "") -> bytes:
    """A mail of two parts."""
    return (
        f"From: a@kiln.org\nSubject: {subject}\n{more}Date: Tue, 9 Mar 2027 09:00:00 +0000\nMIME-Version: 1.0\n"
        "Content-Type: multipart/alternative; boundary=zz\n\n--zz\nContent-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\n"
        f"{text}\n--zz\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\n{html}\n--zz--\n"
    ).encode()


#: Where it stands.
PLACES: dict[str, Callable[[str], bytes]] = {
    "subject": lambda text: mail(text, "<p>x</p>", "x"),
    "reply address": lambda text: mail("x", "<p>x</p>", "x", f"Reply-To: {text}\n"),
    "plain text": lambda text: mail("x", "<p>x</p>", text),
    "text alone": lambda text: f"From: a@kiln.org\nSubject: x\n\nword{text}word\n".encode(),
    "copy": lambda text: mail("x", f"<p>{text}</p>", "x"),
    "link text": lambda text: mail("x", f'<a href="https://kiln.org/a">{text}</a>', "x"),
    "address": lambda text: mail("x", f'<a href="https://kiln.org/{text}">x</a>', "x"),
    "alternative text": lambda text: mail("x", f'<img src="https://k.org/a.png" width=300 height=200 alt="{text}">', "x"),
    "style attribute": lambda text: mail("x", f'<p style="{text}">x</p>', "x"),
    "style sheet": lambda text: mail("x", f"<style>{text}</style><p class=a>x</p>", "x"),
    "comment": lambda text: mail("x", f"<!--{text}--><p>x</p>", "x"),
    "tags": lambda text: mail("x", f"<p>{text.replace('&lt;', '<')}</p>", "x"),
}


def hostile(piece: str, place: str, octets: int) -> bytes:
    """A piece repeated in a place until it takes so many octets."""
    unit = PIECES[piece]
    return PLACES[place](unit * max(1, octets // len(unit.encode())))


def _nested(depth: int) -> bytes:
    """Parts within parts (RFC 2046 §5.1)."""
    lines = ["From: a@kiln.org", "Subject: x", "MIME-Version: 1.0"]
    for number in range(depth):
        lines += [f"Content-Type: multipart/mixed; boundary=b{number}", "", f"--b{number}"]
    return "\n".join([*lines, "Content-Type: text/plain", "", "x"]).encode()


def _png(width: int, height: int) -> bytes:
    """A picture that says how large it is, with rows that pack well."""
    rows = zlib.compress(bytes((width * 3 + 1) * min(height, 2_000)), 9)
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    chunks = ((b"IHDR", head), (b"IDAT", rows), (b"IEND", b""))
    packed = (struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data)) for name, data in chunks)
    return b"\x89PNG\r\n\x1a\n" + b"".join(packed)


def _photographs(count: int) -> bytes:
    """Pictures of 4,000 × 3,000 px, each with other pixels, and the page that shows them."""
    from PIL import Image

    files = {"a.html": "".join(f'<img src="{number}.jpg" width="600" height="450" alt="Pot {number}">' for number in range(count)).encode()}
    for number in range(count):
        small = Image.effect_noise((200, 150), 40 + number).convert("RGB")
        out = io.BytesIO()
        small.resize((4_000, 3_000)).save(out, "JPEG", quality=40)
        files[f"{number}.jpg"] = out.getvalue()
    return archive(files)


#: Style rules of twenty thousand octets that take minutes of processor time to match.
NESTED_SELECTORS = (
    "<style>"
    + "".join(f"div:has(div ~ div p:nth-child({number}n)) div:has(p) {{ color: red }}\n" for number in range(200))
    + "</style>"
    + "<div><div></div>" * 500
    + "<p>Come to the kiln</p>" * 40
)

#: Whole files: the largest of each kind that is taken in, and kinds of nesting and of unpacking. Made when they are asked for.
FILES: dict[str, Callable[[], tuple[str, bytes]]] = {
    "29 MB of text": lambda: ("a.txt.eml", b"Subject: x\n\n" + b"The kiln is warm and the glaze is dry. \n" * 725_000),
    "29 MB of HTML text": lambda: ("a.html", b"<p>" + b"The kiln is warm. " * 1_600_000),
    "attribute of 10 MB": lambda: ("a.html", b'<p>Hello <a href="https://kiln.org/' + b"a" * 10_000_000 + b'">shop</a></p>'),
    "style of 10 MB": lambda: ("a.html", b"<style>" + b"p.a { color: red }\n" * 520_000 + b"</style><p class=a>Hello</p>"),
    "forty pictures of 12 Mpx": lambda: ("a.zip", _photographs(40)),
    "picture of 900 Mpx": lambda: ("a.zip", archive({"a.html": b'<img src="a.png" alt="A">', "a.png": _png(30_000, 30_000)})),
    "zip bomb": lambda: ("a.zip", archive({"a.html": b"<p>x</p>", "a.png": bytes(58_000_000)})),
    "nested selectors": lambda: ("a.html", NESTED_SELECTORS.encode()),
    "30,000 nested elements": lambda: ("a.html", b"<div>" * 30_000 + b"x"),
    "3,000 nested tables": lambda: ("a.html", b"<table><tr><td>" * 3_000 + b"x"),
    "parts nested 500 deep": lambda: ("a.eml", _nested(500)),
    "20,000 parts": lambda: (
        "a.eml",
        b"Subject: x\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=b\n\n" + b"--b\nContent-Type: text/plain\n\nx\n" * 20_000 + b"--b--\n",
    ),
    "50,000 links": lambda: ("a.html", b"".join(b'<a href="https://kiln.org/%d">Pot %d</a> ' % (n, n) for n in range(50_000))),
    "100,000 attributes": lambda: ("a.html", b"<p " + b" ".join(b"a%d=%d" % (n, n) for n in range(100_000)) + b">x</p>"),
    "100,000 paragraphs": lambda: ("a.html", b"<p>Pot</p>" * 100_000),
    "100,000 differing styles": lambda: ("a.html", b"".join(b'<p style="width:%dpx">x</p>' % n for n in range(100_000))),
    "20,000 conditional parts": lambda: ("a.html", b"{% if a %}<p>x</p>{% else %}<p>y</p>{% endif %}" * 20_000),
    "loops in fields": lambda: ("a.html", b"{% for a in (1..1000000000) %}{% for b in (1..1000000000) %}{{ a | append: b }}{% endfor %}{% endfor %}"),
    "20,000 headers": lambda: ("a.eml", b"".join(b"X-%d: y\n" % n for n in range(20_000)) + b"Subject: x\n\nx\n"),
}  # fmt: skip


def uploads(count: int) -> Iterator[tuple[str, Callable[[], tuple[str, bytes]]]]:
    """So many hostile files with a name each: all of ``FILES``, then pieces of 100,000 octets in one place after another."""
    yield from islice(FILES.items(), count)
    pairs = ((piece, place) for turn in range(len(PLACES)) for piece, place in zip(PIECES, islice(cycle(PLACES), turn, None), strict=False))
    for piece, place in islice(pairs, max(0, count - len(FILES))):
        yield f"{piece}, {place}", lambda piece=piece, place=place: ("a.eml", hostile(piece, place, 100_000))
