"""A reader who no longer wants the mail can say so."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from urllib.parse import unquote

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.copies import readers_copies
from jetwind.core.checking.field_texts import field_texts, uses
from jetwind.core.checking.merged import named
from jetwind.core.checks.footer.asked import lacking, need_bulk
from jetwind.core.facts import phrase_pattern
from jetwind.core.fields import opaque, structure
from jetwind.core.fields.syntax import FILLER
from jetwind.core.links import links
from jetwind.core.links.addresses import WEB, parsed
from jetwind.core.links.collect import Link
from jetwind.core.links.way_out import ADDRESS_WORDS, list_unsubscribe_targets, unsubscribe_link, ways_out
from jetwind.core.message import Message, Sample
from jetwind.core.source import Span

_HEAD = "From: a@kiln.org\nSubject: x\n"


@check(
    id="footer.unsubscribe-missing",
    name="No visible unsubscribe link",
    level=Level.STOP,
    why="The law asks for it, and a reader who finds no way out marks the message as spam.",
    fix="Put a link that says “Unsubscribe” in the footer.",
    basis="15 U.S.C. 7704(a)(3), (5); 16 CFR 316 (from memory)",
    samples=[
        clear('<p>Sale</p><a href="https://kiln.org/u?m=1">Unsubscribe</a>'),
        clear('<p>To unsubscribe, <a href="https://kiln.org/p/9f3">click here</a>.</p>'),
        clear(
            '<p>To unsubscribe or change your address, please visit the <a href="https://kiln.org/p/9f3">subscription management page</a>.</p>'
        ),
        clear('<p>If you do not want to receive further mail, please press <a href="https://kiln.org/p/9f3">Remove</a></p>'),
        clear('<p><a href="https://kiln.org/p/9f3">Click here</a> to unsubscribe.</p>'),
        clear(f"{_HEAD}\nNews.\n\nTo unsubscribe, send a mail to leave@kiln.org.\n"),
        clear('<a href="{{ unsubscribe_url }}">Leave</a>'),
        clear('<a href="mailto:glaze-remove@kiln.org">Remove my e-mail address from Glaze Letters.</a>'),
        clear(f"{_HEAD}\nNews.\n\nSee https://kiln.org/lists/glaze for (un)subscription information.\n"),
        clear(f"{_HEAD}\nNews.\n\nTo leave, write to the address below with the title Un-subscribe.\n\nlist@kiln.org\n"),
        clear("<p>News.</p><p>(To unsubscribe, send a mail to leave@kiln.org with the word out.)</p>"),
        finds("<p>Write to hello@kiln.org about pots.</p><p>You can unsubscribe at the studio.</p>"),
        finds('<p>Remove your kiln from the wall first. <a href="https://kiln.org/kilns">New kilns</a></p>'),
        clear('<a href="https://kiln.org/abmelden">Newsletter abbestellen</a>'),
        clear('<a href="mailto:leave@kiln.org?subject=unsubscribe">Leave the list</a>'),
        clear("<p>Your receipt</p>", kind="transactional"),
        clear(f"{_HEAD}\nNews.\n\nTo stop receiving these: https://kiln.org/p/9f3\n"),
        finds('<p>Sale</p><a href="https://kiln.org/sale">Shop</a>'),
        # Told once, by footer.unsubscribe-hidden.
        clear('<p style="display:none"><a href="https://kiln.org/u">Unsubscribe</a></p><p>Sale</p>'),
        finds("<p>You can unsubscribe by visiting us at the studio.</p>"),
        clear('<a href="#">Unsubscribe</a>'),  # told once, by links.empty
        finds('<p>Unsubscribe | <a href="https://kiln.org/choose">Preferences</a></p>'),
        finds(
            '<p>No longer wish to receive these? <a href="https://kiln.org/choose">Update your preferences</a> or visit <a href="https://kiln.org">kiln.org</a></p>'
        ),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A promotional message or newsletter has a visible link by which the reader leaves the list."""
    need_bulk(context, "footer.unsubscribe-missing", "a transactional message needs no unsubscribe link")
    if message.html is None and message.text is None:
        raise DoesNotApply("the message has no text at all")
    if message.html is None:
        raise DoesNotApply("the plain text stands alone; text.unsubscribe-missing tells")
    if unsubscribe_link(message) is not None or _has_no_target(message):
        return
    if hidden_way_out(message) is not None:
        raise DoesNotApply("there is one, and nobody sees it; footer.unsubscribe-hidden tells")
    lacks_too = message.text is not None and message.text.seen.strip() and unsubscribe_link(replace(message, html=None)) is None
    others = (Place("text"),) if lacks_too else ()
    alone = Hit("The message has no visible unsubscribe link.", Place("html"), identity="missing", also=others)
    yield lacking("footer.unsubscribe-missing", message, context, alone)


def _has_no_target(message: Message) -> bool:
    """Whether a visible link says that it unsubscribes and leads nowhere: that is told once, by links.empty."""
    words = phrase_pattern("phrases", "unsubscribe")
    return any(
        (not link.address or link.address == "#" or link.scheme == "javascript")
        and link.element is not None
        and not message.cascade.is_hidden(link.element)
        and words.search(link.name)
        for link in links(message)
    )


def hidden_way_out(message: Message) -> Link | None:
    """The first link out of the list that no sighted reader sees, where none that is seen stands beside it."""
    words = phrase_pattern("phrases", "unsubscribe")
    for link in links(message):
        is_told = words.search(link.name) or ADDRESS_WORDS.search(unquote(link.address or ""))
        if is_told and link.address and link.element is not None and message.cascade.is_hidden(link.element):
            return link
    return None


_LINK = '<a href="https://kiln.org/u">Unsubscribe</a>'
_MEMBER = Sample("Member", {"member": "yes"})
_GUEST = Sample("Guest", {})


@check(
    id="footer.unsubscribe-conditional",
    name="No unsubscribe link for some readers",
    level=Level.STOP,
    why="The law asks for it in every copy; the readers who are shown another part have no way out.",
    fix="Put the link where every reader is shown it, outside of conditional parts or in each of them.",
    basis="Common practice, no published source; 15 U.S.C. 7704(a)(3) asks for it in every message",
    samples=[
        clear(f"<p>{{% if member %}}Hello{{% endif %}} {_LINK}</p>", readers=(_MEMBER, _GUEST)),
        clear(f"<p>{{% if member %}}Hello {_LINK}{{% else %}}Welcome {_LINK}{{% endif %}}</p>", readers=(_MEMBER, _GUEST)),
        clear(f"<p>{{% if member %}}{_LINK}{{% endif %}}</p>", readers=(_MEMBER,)),
        clear(f"<p>{{% if member %}}{_LINK}{{% endif %}}</p>", kind="transactional", readers=(_MEMBER, _GUEST)),
        clear("<p>{% if member %}Hello{% endif %}</p>", readers=(_MEMBER, _GUEST)),  # told once, by footer.unsubscribe-missing
        clear(f"<p>{{% if member %}}{_LINK}{{% endif %}}</p>"),
        finds(f"<p>Hello {{% if member %}}{_LINK}{{% endif %}}</p>", at="{% if member %}", readers=(_MEMBER, _GUEST)),
    ],
)
def find_conditional(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The copy of every sample reader has the visible unsubscribe link that the message has."""
    need_bulk(context, "footer.unsubscribe-conditional", "a transactional message needs no unsubscribe link")
    if message.html is None or not uses(message) or (link := unsubscribe_link(message)) is None:
        return
    lacking = [
        copy
        for copy in readers_copies(message, context.readers)
        if unsubscribe_link(copy.merged.message) is None and not _has_no_target(copy.merged.message)
    ]
    if lacking:
        readers = tuple(name for copy in lacking for name in copy.readers)
        place = _block_around(message, link.span)
        yield Hit("The copy of {readers} has no visible unsubscribe link.", place, {"readers": named(readers)}, identity="conditional")


def _block_around(message: Message, span: Span | None) -> Place:
    """The innermost block that holds the link; the link itself where none does."""
    text = next((text for text in field_texts(message) if text.is_html), None)
    if text is None or span is None:
        return Place("html")
    around = [
        block.parts[0].token.span
        for _, block in structure(text.tokens, message.syntax).walk()
        if any(part.body.start <= span.start < part.body.end for part in block.parts)
    ]
    return text.place(around[-1] if around else span)


_GOOD_URI = re.compile(r"(?:https?://[^\s/?#]+\S*|mailto:\S+@\S+)\Z", re.IGNORECASE)


@check(
    id="footer.list-unsubscribe",
    name="No usable List-Unsubscribe header",
    level=Level.STOP,
    why="Large mailbox providers demand it of bulk mail, and show their own unsubscribe button from it.",
    fix="Send List-Unsubscribe with an https address in angle brackets, as in <https://…>.",
    basis="RFC 2369 §3.2",
    merged=True,
    samples=[
        clear(f"{_HEAD}List-Unsubscribe: <https://kiln.org/u?m=1>, <mailto:leave@kiln.org?subject=unsubscribe>\n\nx\n"),
        clear(
            f"{_HEAD}List-Unsubscribe: (Use this command to get off the list) <mailto:list-manager@host.com?body=unsubscribe%20list>\n\nx\n"
        ),
        clear(f"{_HEAD}List-Unsubscribe: <{{{{ unsubscribe_url }}}}>\n\nx\n"),
        clear("<p>HTML without any headers</p>"),
        clear(f"{_HEAD}\nYour receipt\n", kind="transactional"),
        finds(f"{_HEAD}\nNews\n"),
        finds(f"{_HEAD}List-Unsubscribe: https://kiln.org/u\n\nx\n", at="List-Unsubscribe: https://kiln.org/u"),
        finds(f"{_HEAD}List-Unsubscribe: <unsubscribe>\n\nx\n"),
    ],
)
def find_list_unsubscribe(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A bulk mail carries List-Unsubscribe with at least one address that can be followed."""
    need_bulk(context, "footer.list-unsubscribe", "a transactional message needs no List-Unsubscribe")
    if message.form != "eml":
        raise CannotTell("the sending system adds this header; it is not part of what was taken in")
    header = message.header("List-Unsubscribe")
    if header is None:
        yield Hit("The message has no List-Unsubscribe header.", Place.in_header(message, "List-Unsubscribe"), identity="missing")
        return
    targets = list_unsubscribe_targets(header.value)
    if not any(_GOOD_URI.match(uri) or message.holds_field(uri) for uri in targets):
        yield Hit(
            "List-Unsubscribe holds no address in angle brackets that can be followed: {value}",
            Place.in_header(message, "List-Unsubscribe", header),
            {"value": header.value or "empty"},
        )


_BOTH = f"{_HEAD}List-Unsubscribe: <https://kiln.org/u?m=1>\n"
_HTTPS, _OTHER_SCHEME = re.compile(r"https://", re.IGNORECASE), re.compile(r"(?:http|mailto):", re.IGNORECASE)
#: The one value of List-Unsubscribe-Post (RFC 8058 §3.1).
ONE_CLICK = "List-Unsubscribe=One-Click"


@check(
    id="footer.one-click",
    name="No unsubscribing by one click",
    level=Level.STOP,
    why="Large mailbox providers demand it of bulk mail: their button must work without a further page.",
    fix="Send List-Unsubscribe with an https address, and List-Unsubscribe-Post: List-Unsubscribe=One-Click.",
    basis="RFC 8058 §3.1",
    merged=True,
    samples=[
        clear(f"{_BOTH}List-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
        clear(
            f"{_HEAD}List-Unsubscribe: <mailto:listrequest@example.com?subject=unsubscribe>,\n <https://example.com/unsubscribe.html?opaque=123456789>\n"
            "List-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"
        ),
        clear(f"{_HEAD}List-Unsubscribe: <{{{{ unsubscribe_url }}}}>\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
        clear("<p>HTML without any headers</p>"),
        # A header that is missing, or holds nothing that can be followed, is told by footer.list-unsubscribe.
        clear(f"{_HEAD}\nNews\n"),
        clear(f"{_HEAD}List-Unsubscribe: <unsubscribe>\n\nx\n"),
        clear(f"{_HEAD}List-Unsubscribe: <mailto:leave@kiln.org>\n\nYour receipt\n", kind="transactional"),
        finds(_BOTH + "\nx\n", at="List-Unsubscribe: <https://kiln.org/u?m=1>"),
        finds(f"{_BOTH}List-Unsubscribe-Post: one-click\n\nx\n", at="List-Unsubscribe-Post: one-click"),
        finds(f"{_HEAD}List-Unsubscribe: <mailto:leave@kiln.org>\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
        finds(f"{_HEAD}List-Unsubscribe: <http://kiln.org/u>\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
    ],
)
def find_one_click(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """List-Unsubscribe of a bulk mail holds an https address, and List-Unsubscribe-Post stands beside it with its one value."""
    need_bulk(context, "footer.one-click", "a transactional message needs no List-Unsubscribe")
    if message.form != "eml":
        raise CannotTell("the sending system adds these headers; they are not part of what was taken in")
    header = message.header("List-Unsubscribe")
    targets = list_unsubscribe_targets(header.value) if header is not None else []
    if header is None or not any(_GOOD_URI.match(uri) or message.holds_field(uri) for uri in targets):
        return
    # A field may bring the whole address: of one that begins with another scheme it is known.
    if not any(_HTTPS.match(uri) or (message.holds_field(uri) and not _OTHER_SCHEME.match(uri)) for uri in targets):
        yield Hit("List-Unsubscribe holds no https address.", Place.in_header(message, "List-Unsubscribe", header), identity="https")
        return
    post = message.header("List-Unsubscribe-Post")
    if post is None:
        yield Hit("The message has no List-Unsubscribe-Post header.", Place.in_header(message, "List-Unsubscribe", header), identity="post")
    elif post.value.strip() != ONE_CLICK:
        yield Hit(
            "List-Unsubscribe-Post is not “{wanted}” but: {value}",
            Place.in_header(message, "List-Unsubscribe-Post", post),
            {"wanted": ONE_CLICK, "value": post.value.strip()[:200] or "empty"},
            identity="post",
        )


_LISTED = f"{_HEAD}List-Unsubscribe: <https://kiln.org/u?m=1>\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\n"
_DKIM = "DKIM-Signature: v=1; a=rsa-sha256; d=kiln.org; s=spring; bh=x; b=x; h="


@check(
    id="footer.one-click-unsigned",
    name="Headers for one click are not signed",
    level=Level.FIX,
    why="Mailbox providers show their unsubscribe button only where the signature covers both headers.",
    fix="Let the signature cover List-Unsubscribe and List-Unsubscribe-Post: name both in its h=.",
    basis="RFC 8058 §4",
    samples=[
        clear(f"{_LISTED}{_DKIM}from:subject:list-unsubscribe:list-unsubscribe-post\n\nx\n"),
        clear(f"{_LISTED}{_DKIM}From : Subject :\n List-Unsubscribe : List-Unsubscribe-Post\n\nx\n"),
        # One of several signatures is enough.
        clear(f"{_LISTED}{_DKIM}from:subject\n{_DKIM}from:list-unsubscribe:list-unsubscribe-post\n\nx\n"),
        clear(f"{_LISTED}\nx\n"),  # not signed yet
        clear(f"{_HEAD}{_DKIM}from:subject\n\nx\n"),  # told once, by footer.list-unsubscribe
        clear(f"{_LISTED}{_DKIM}from:subject\n\nYour receipt\n", kind="transactional"),
        finds(f"{_LISTED}{_DKIM}from:subject\n\nx\n"),
        finds(f"{_LISTED}{_DKIM}from:subject:list-unsubscribe\n\nx\n"),
    ],
)
def find_one_click_unsigned(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A DKIM signature of a bulk mail covers both headers by which one click unsubscribes."""
    need_bulk(context, "footer.one-click-unsigned", "a transactional message needs no List-Unsubscribe")
    if message.form != "eml":
        raise CannotTell("the sending system adds these headers; they are not part of what was taken in")
    wanted = [name for name in ("List-Unsubscribe", "List-Unsubscribe-Post") if message.header(name)]
    if len(wanted) < 2:
        raise DoesNotApply("the message does not have both headers")
    signatures = list(message.header_fields("DKIM-Signature"))
    if not signatures:
        raise CannotTell("the message has no signature yet")
    lacking = [[name for name in wanted if name.lower() not in _covered(signature.value)] for signature in signatures]
    if all(lacking):
        least = min(lacking, key=len)
        place = Place.in_header(message, "DKIM-Signature", signatures[lacking.index(least)])
        yield Hit("The DKIM signature does not cover {names}.", place, {"names": " and ".join(least)}, identity="unsigned")


def _covered(signature: str) -> frozenset[str]:
    """The header names that a signature covers, in small letters (RFC 6376 §3.5, ``h=``)."""
    match = re.search(r"(?:^|;)\s*h\s*=([^;]*)", signature)
    return frozenset(name.strip().lower() for name in match[1].split(":")) if match else frozenset()


_HOME = "https://www.kiln.org/"


@check(
    id="footer.unsubscribe-target",
    name="Unsubscribe link to the home page",
    level=Level.STOP,
    why="A reader who wants to leave must find the way alone. The law asks for one page, or one reply.",
    fix="Lead the link to the page where this reader unsubscribes.",
    basis="Common practice, no published source, for what a home page is; 16 CFR 316.5 (from memory)",
    samples=[
        clear('<a href="https://www.kiln.org/u?m=1">Unsubscribe</a>'),
        clear('<a href="https://unsubscribe.kiln.org/">Unsubscribe</a>'),
        clear('<a href="https://www.kiln.org/?leave=9f3">Unsubscribe</a>'),
        clear('<a href="https://www.kiln.org/#/leave">Unsubscribe</a>'),
        clear('<a href="{{ unsubscribe_url }}">Unsubscribe</a>'),
        clear('<a href="https://{{ host }}/">Unsubscribe</a>'),
        clear('<a href="*|LEAVE|*">Unsubscribe</a>'),
        clear('<a href="mailto:leave@kiln.org">Unsubscribe</a>'),
        clear(f'<a href="{_HOME}">Kiln Works</a> <a href="https://www.kiln.org/u">Unsubscribe</a>'),
        # Another way out is enough.
        clear(f'<a href="{_HOME}">Unsubscribe</a> or <a href="mailto:leave@kiln.org?subject=unsubscribe">unsubscribe by mail</a>'),
        clear(f'<a href="{_HOME}">Unsubscribe</a>', kind="transactional"),
        clear('<a href="#">Unsubscribe</a>'),  # told once, by links.empty
        finds(f'<p>Sale</p><a href="{_HOME}">Unsubscribe</a>', at=_HOME),
        finds('<p>To unsubscribe, <a href="http://kiln.org">click here</a>.</p>', at="http://kiln.org"),
    ],
)
def find_target(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A link by which a reader leaves the list leads to more than the sender's home page."""
    need_bulk(context, "footer.unsubscribe-target", "a transactional message needs no unsubscribe link")
    ways = list(ways_out(message))
    if ways and all(_is_home(message, way) for way in ways):
        first = ways[0]
        attribute = first.element.attributes.get("href") if first.element is not None else None
        span = attribute.value_span if attribute is not None else first.span
        element = first.element.index if first.element is not None else None
        place = Place.in_html(message, span, element) if message.html is not None else Place.in_text(message, span)
        yield Hit("The unsubscribe link leads to the home page {address}", place, {"address": first.address or ""}, identity="home")


def _is_home(message: Message, way: Link) -> bool:
    """Whether an address is a server's first page and says nothing of unsubscribing; of one with a field nothing is known."""
    address = parsed((way.address or "").strip())
    if address is None or address.scheme not in WEB or FILLER in opaque(way.address or "", message.syntax, in_address=True):
        return False
    return address.path in ("", "/") and not address.query and "#" not in address.href and not ADDRESS_WORDS.search(address.host)
