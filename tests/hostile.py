"""Messages made to hurt: pieces that some pattern might read again and again, in every place where a message holds text."""

from __future__ import annotations

from collections.abc import Callable

#: What is repeated. Each once took minutes in some check, or looks like the start of something that a check seeks.
PIECES = {"TODO": "TODO ", "points": ".", "exclamations": "!", "both marks": "?!", "zeros": "000 ", "letter point": "a.", "letter dash": "a-",
        "stars": "**", "ellipses": "…", "words": "word ", "digits": "9", "dashes": "-", "euro": "€ ", "brackets": "(", "square": "[",
        "curly": "{", "open fields": "{{ a", "fields": "{{a}}", "per cent": "%a", "tags in text": "&lt;%", "entities": "&amp;", "at": "a@",
        "addresses": "http://a.", "emoji": "🏺", "weekdays": "Tuesday 9 ", "strokes": "1/", "copyright": "(c) ", "streets": "12 a ", "X": "X",
        "filler": "lorem ", "double decoded": "Ã©", "same words": "the the ", "invisible": "\u00ad", "hard spaces": "\u00a0 ",
        "underscores": "a_", "leave": "unsubscribe ", "capitals": "Aa ", "hash": "#a", "encoded words": "=?utf-8?q?a?= ", "semicolons": ";",
        "insert": "insert ", "currency": "£", "notes of styles": "/*", "style addresses": "url(", "open styles": "&lt;style ",
        "spaces": " ", "lines": " \n",}  # fmt: skip


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
