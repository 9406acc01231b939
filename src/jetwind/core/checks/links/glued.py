"""An address is one address, stands in a link, and is one for every reader."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checks.links.target import place_of
from jetwind.core.facts import phrase_pattern
from jetwind.core.fields.syntax import FILLER
from jetwind.core.links import Link, links
from jetwind.core.markup import Element
from jetwind.core.message import Message, Sample

#: A second address where a host should stand, or after a blank; in a path or a query it may well be meant.
_SECOND = re.compile(
    r"\s*(?:https?|mailto):[/\\]{0,3}(?:[^/?#\\\s]{0,255}?(?:https?:[/\\]{1,2}|https?//|mailto:)|[^?#\s]{1,2000}\s+https?://)",
    re.IGNORECASE,
)
#: What a value has that is an address of some kind: a scheme, a path, a domain, a fragment, a mailbox.
_ADDRESS_LIKE = re.compile(r"[/?#@:]|\w\.\w{2,}")


@check(
    id="links.glued",
    name="Address that is none",
    level=Level.STOP,
    why="The browser finds no such server, and the reader sees an error.",
    fix="Leave one whole address, or put the field that brings one.",
    basis="RFC 3986 §3 (from memory)",
    together={"": "{many} links have two addresses in one."},
    samples=[
        clear('<a href="https://kiln.org/sale">Sale</a><a href="mailto:a@kiln.org">Write</a>'),
        clear(
            '<a href="https://r.kiln.org/?to=https://kiln.org/sale">Sale</a><a href="https://old.kiln.org/web/2026/https://kiln.org/">Old</a>'
        ),
        clear('<a href="https://https.kiln.org/http:80">x</a><a href="https://kiln.org/a%20https://b">y</a>'),
        clear('<a href="{{ url }}">x</a>', readers=(Sample("Tove", {"url": "https://kiln.org/"}), Sample("Nil", {"url": ""}))),
        clear('<a href="{{ url }}">x</a><a href="{{ path }}">y</a>', readers=(Sample("Tove", {"url": "kiln.org", "path": "/sale"}),)),
        clear('<a href="https://kiln.org/{{ title }}">x</a>', readers=(Sample("Tove", {"title": "Spring sale"}),)),
        finds('<a href="https://ahttps://kiln.org/">x</a>', at="https://ahttps://kiln.org/"),
        finds('<a href="http://https://kiln.org/sale">x</a>', at="http://https://kiln.org/sale"),
        finds('<a href="https://https//kiln.org/sale">x</a>'),
        finds('<a href="https://mailto:a@kiln.org">x</a>'),
        finds('<a href="https://kiln.org/a https://kiln.org/b">x</a>'),
        finds('<a href="{{ title }}">x</a>', at="{{ title }}", readers=(Sample("Tove", {"title": "Spring sale"}),)),
    ],
)
def find_glued(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No address has a second one in the place of its host, and a field that is a whole address brings one."""
    for link in links(message):
        if not link.address or link.element is None:
            continue
        if _SECOND.match(link.address[:4_000]):
            data = {"address": link.address[:120]}
            yield Hit("“{address}” is two addresses in one.", place_of(message, link), data, identity=link.address[:200])
        elif brought := _brought(message, link, context):
            reader, value = brought
            data = {"field": link.address.strip()[:60], "value": value[:60], "reader": reader}
            yield Hit(
                "The link is {field}, which is “{value}” for {reader} and no address.",
                place_of(message, link),
                data,
                identity=data["field"],
                cause="field",
            )


def _brought(message: Message, link: Link, context: Context) -> tuple[str, str] | None:
    """A reader, and what the field that is the whole address brings for that reader, where it is no address."""
    written = (link.address or "").strip()
    tokens = list(islice(message.syntax.tokens(written), 2))
    if len(tokens) != 1 or tokens[0].name is None or tokens[0].span.end - tokens[0].span.start != len(written):
        return None
    for reader in context.readers[:_MOST_READERS]:
        value = (reader.values.get(tokens[0].name, "") or tokens[0].default or "").strip()
        if value and not _ADDRESS_LIKE.search(value):
            return reader.name, value
    return None


#: Readers whose values are looked at for one link.
_MOST_READERS = 500

#: An address as a reader would copy it: with a scheme, with www, or a mailbox.
_PLAIN = re.compile(
    r"(?<![\w@/.=&?#:-])(?:https?://[^\s<>\"]{4,500}|www\.[^\W_][\w-]{0,62}\.[^\s<>\"]{2,500}|[\w][\w.+-]{0,63}@(?:[^\W_][\w-]{0,62}\.){1,8}[^\W\d_]{2,24})(?![\w@])",
    re.IGNORECASE,
)
#: Elements whose text nobody takes for something to press.
_NOT_COPY = frozenset({"a", "code", "pre", "kbd", "samp", "button"})


@check(
    id="links.plain-address",
    name="Address that is no link",
    level=Level.NOTE,
    why="Some programs link it by themselves, in their own colour; in the others readers have to copy it.",
    fix="Make it a link, or say that it is none with an <a> that has no href.",
    basis="Common practice, no published source",
    together="{many} addresses in the copy are no links.",
    samples=[
        clear('<p>See <a href="https://kiln.org/">https://kiln.org</a> or <a href="mailto:a@kiln.org">a@kiln.org</a></p>'),
        clear('<p>Ask <a style="color: inherit">hello@kiln.org</a>. <code>https://kiln.org/api</code></p>'),
        clear("<p>Kiln.org opens at 9.30. Follow @kiln. Glaze no. 3.1@9 and/or www.</p>"),
        clear("<p>{{ email }} and {{ name }}@kiln.org, https://kiln.org/{{ path }}</p>"),
        clear("Subject: x\nFrom: a@b.org\n\nhttps://kiln.org/ or a@kiln.org\n"),
        clear('<div style="display:none">https://kiln.org/</div><p>x</p>'),
        clear("From: a@kiln.org\nTo: b@elsewhere.net\nContent-Type: text/html\n\n<p>Sent to b@elsewhere.net</p>\n"),
        clear("<p>You are receiving this because you signed up as tove@elsewhere.net.</p>"),
        clear('<iframe src="https://kiln.org/"><script src="https://kiln.org/a.js"></script></iframe><p>x</p>'),
        finds("<p>Write to hello@kiln.org.</p>", at="hello@kiln.org"),
        finds("<p>See https://kiln.org/sale, or ask.</p>", at="https://kiln.org/sale"),
        finds("<p>See <b>www.kiln.org</b></p>", at="www.kiln.org"),
    ],
)
def find_plain(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every web or mail address in the visible copy of the HTML is a link."""
    document = message.document
    if document is None:
        return
    own = {box.address.lower() for name in ("To", "Cc", "Delivered-To") for box in message.mailboxes(name)}
    for copy in copies.html(message):
        if copy.is_link or ("@" not in copy.text and "www." not in copy.text.lower() and "://" not in copy.text):
            continue
        is_readers = phrase_pattern("phrases", "reason").search(copy.text) is not None
        for match in _PLAIN.finditer(copy.text):
            if "@" in match[0] and (is_readers or match[0].lower() in own):
                continue  # the reader's own address, as in “You get this as a@b.org”
            address = match[0].rstrip(".,;:!?)]}’”\"'")
            place = copy.place(match.start(), match.start() + len(address))
            if FILLER in address or place.element is None or _is_pressed(document.all_elements[place.element]):
                continue
            yield Hit("“{address}” is no link.", place, {"address": address[:80]}, identity=address[:200])


def _is_pressed(element: Element) -> bool:
    return element.tag in _NOT_COPY or any(around.tag in _NOT_COPY for around in islice(element.ancestors(), 40))
