"""Unsubscribe addresses exchanged in a copy: all of them, in every part, and nothing else (RFC 2369, RFC 8058)."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.message import EmailMessage
from html import unescape
from typing import Any

import pytest

from jetwind.core.arrivals.composing import OwnWaysOut, compose
from jetwind.core.message import read_bytes
from tests.factories import GOOD_TEXT, mail
from tests.references import newsletters

OWN = OwnWaysOut("https://jetwind.example/way-out/1:x/header/", "https://jetwind.example/way-out/1:x/body/", "test+0a.1@kiln.org")


def copy_of(raw: bytes, own_ways_out: OwnWaysOut | None = OWN) -> EmailMessage:
    """The copy with our ways out, read by the standard library."""
    octets = compose(
        read_bytes(raw, "x.eml"),
        values={},
        to="a@kiln.org",
        sender_address="t@kiln.org",
        subject_mark="",
        message_id="<x@y>",
        date=datetime.now(UTC),
        own_ways_out=own_ways_out,
    )
    read = message_from_bytes(octets, policy=policy.default)
    assert isinstance(read, EmailMessage)
    return read


def text_of(copy: EmailMessage, kind: str) -> str:
    """The content of a part."""
    part = copy.get_body((kind,))
    assert part is not None
    return str(part.get_content())


def test_every_part() -> None:
    """Header, HTML and plain text; the one-click header stays (RFC 8058 §3.1), and so does every other link."""
    copy = copy_of(mail())
    assert copy["List-Unsubscribe"] == f"<{OWN.header}>"
    assert copy["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    for kind in ("html", "plain"):
        assert "kiln.org/leave" not in text_of(copy, kind)
        assert text_of(copy, kind).count(OWN.body) == 1
        assert text_of(copy, kind).count("https://www.kiln.org/sale") == 1


@pytest.mark.parametrize(
    ("link", "became"),
    [
        ('<a href="{{ unsubscribe_url }}">Unsubscribe</a>', f'<a href="{OWN.body}">Unsubscribe</a>'),
        ("<a href=https://kiln.org/x?a=1&amp;b=2>Unsubscribe</a>", f"<a href={OWN.body}>Unsubscribe</a>"),
        ('<a href="mailto:leave@kiln.org?subject=off">Unsubscribe</a>', f'<a href="{OWN.mailto}">Unsubscribe</a>'),
        ('<a href="https://kiln.org/optout/7">here</a>', f'<a href="{OWN.body}">here</a>'),
        (
            '<p style="display:none"><a href="https://kiln.org/unsubscribe/7">x</a></p><a href="https://kiln.org/off">Unsubscribe</a>',
            f'<p style="display:none"><a href="{OWN.body}">x</a></p><a href="{OWN.body}">Unsubscribe</a>',
        ),
        (
            '<a href="{% if member %}https://kiln.org/a{% else %}https://kiln.org/b{% endif %}">Unsubscribe</a>',
            f'<a href="{OWN.body}">Unsubscribe</a>',
        ),
    ],
)
def test_links_of_all_kinds(link: str, became: str) -> None:
    """Of a field, without quotes, to a mailbox, told by its address alone, hidden on this screen, and with conditions in it."""
    html = f'<html lang="en"><body><p><a href="https://kiln.org/sale">The sale</a></p><p>{link}</p></body></html>'
    copy = copy_of(mail(html, None, without=("List-Unsubscribe", "List-Unsubscribe-Post")))
    assert f"<p>{became}</p>" in text_of(copy, "html") or became in text_of(copy, "html")
    assert '<a href="https://kiln.org/sale">' in text_of(copy, "html")


@pytest.mark.parametrize(
    ("value", "became"),
    [
        ("<mailto:leave@kiln.org?subject=off>", f"<{OWN.mailto}>"),
        ("<https://kiln.org/x>, <mailto:leave@kiln.org>", f"<{OWN.header}>, <{OWN.mailto}>"),
        ("<mailto:a@kiln.org>,\r\n <https://kiln.org/x> (leave), <http://kiln.org/y>", f"<{OWN.mailto}>, <{OWN.header}>"),
    ],
)
def test_the_header_keeps_its_kinds(value: str, became: str) -> None:
    """A page for pages and a mailbox for mailboxes, in the order of preference (RFC 2369 §2)."""
    raw = mail(without=("List-Unsubscribe",))
    copy = copy_of(f"List-Unsubscribe: {value}\r\n".encode() + raw)
    assert " ".join(copy["List-Unsubscribe"].split()) == became


def test_long_addresses_stay_whole() -> None:
    """No address is broken apart into encoded words, which no mail program reads there (RFC 2047 §5 (3)); each stands on a line of its own."""
    long = f"https://kiln.org/leave/{'x' * 300}"
    raw = f"List-Unsubscribe: <mailto:leave@kiln.org>, <{long}>\r\n".encode() + mail(without=("List-Unsubscribe",))
    octets = compose(
        read_bytes(raw, "x.eml"),
        values={},
        to="a@kiln.org",
        sender_address="t@kiln.org",
        subject_mark="",
        message_id="<x@y>",
        date=datetime.now(UTC),
    )
    assert f"List-Unsubscribe: <mailto:leave@kiln.org>,\r\n <{long}>\r\nList-Unsubscribe-Post: ".encode() in octets


@pytest.mark.parametrize(
    "link",
    [
        '<a href="https://kiln.org/sale">Shop</a>',
        '<a href="https://kiln.org/preferences">Change what you get</a>',
        '<a href="https://kiln.org/subscribe">Subscribe</a>',
        '<a href="mailto:hello@kiln.org">Write to us</a>',
        '<a href="#top">Top</a>',
    ],
)
def test_what_is_no_way_out_stays(link: str) -> None:
    """Another link is as it was reviewed."""
    html = f'<html lang="en"><body><p>{link}</p><p><a href="https://kiln.org/off">Unsubscribe</a></p></body></html>'
    assert link in text_of(copy_of(mail(html, None)), "html")


def test_without_the_exchange_nothing_changes() -> None:
    """The switch: the message's own addresses, three times."""
    copy = copy_of(mail(), own_ways_out=None)
    whole = f"{copy['List-Unsubscribe']} {text_of(copy, 'html')} {text_of(copy, 'plain')}"
    assert whole.count("https://www.kiln.org/leave") == 3


def test_real_newsletters() -> None:
    """Messages by other people: none of the addresses by which their own header says that a reader leaves is in a copy.

    The header is the outside witness: its addresses are compared with everything that the copy holds.
    """
    tried = 0
    for name, octets in newsletters():
        header = message_from_bytes(octets)["List-Unsubscribe"] or ""
        targets = re.findall(r"<(https?:[^>]+)>", "".join(header.split()))
        if not targets:
            continue
        tried += 1
        copy = copy_of(octets)
        assert copy["List-Unsubscribe"]
        whole = " ".join(text_of(copy, kind) for kind in ("html", "plain") if copy.get_body((kind,)) is not None)
        assert not [target for target in targets if re.search(re.escape(target) + r"(?![\w/?=&])", unescape(whole))], name
    assert tried >= 3, tried


def test_without_the_styles() -> None:
    """A message whose styles take too long: its ways out are told by words, addresses and blocks alone; other links stay."""
    html = (
        '<html lang="en"><body><p><a href="https://kiln.org/sale">The sale</a></p>'
        '<p>To unsubscribe, click <a href="https://kiln.org/a8f">here</a>.</p><p><a href="https://kiln.org/off">Unsubscribe</a></p></body></html>'
    )
    copy = copy_of(mail(html, GOOD_TEXT), replace(OWN, is_quick=True))
    for kind in ("html", "plain"):
        assert "kiln.org/sale" in text_of(copy, kind)
        assert not re.search(r"kiln\.org/(a8f|off|leave)", text_of(copy, kind))


def test_the_subject_that_was_chosen() -> None:
    """One of the further subjects; there is none beyond them."""
    message = replace(read_bytes(mail(), "x.eml"), variants=("Second", "Third {{ first_name }}"))
    how: dict[str, Any] = {"to": "a@kiln.org", "sender_address": "t@kiln.org", "message_id": "<x@y>", "date": datetime.now(UTC)}
    third = compose(message, values={"first_name": "Bo"}, subject_mark="[T]", variant=2, **how)
    assert b"Subject: [T] Third Bo\r\n" in third
    with pytest.raises(IndexError):
        compose(message, values={}, subject_mark="", variant=3, **how)
