"""Whoever no longer wants the mail can say so."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from itertools import islice

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.copies import readers_copies
from jetwind.core.checking.field_texts import field_texts, uses
from jetwind.core.checking.merged import named
from jetwind.core.facts import phrase_pattern
from jetwind.core.fields import structure
from jetwind.core.links import links
from jetwind.core.links.way_out import list_unsubscribe_targets, unsubscribe_link
from jetwind.core.message import Message, Sample
from jetwind.core.source import LIMITS, Span

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
        finds('<p>Remove your kiln from the wall first. <a href="https://kiln.org/kilns">New kilns</a></p>'),
        clear('<a href="https://kiln.org/abmelden">Newsletter abbestellen</a>'),
        clear('<a href="mailto:leave@kiln.org?subject=unsubscribe">Leave the list</a>'),
        clear("<p>Your receipt</p>", kind="transactional"),
        clear(f"{_HEAD}\nNews.\n\nTo stop receiving these: https://kiln.org/p/9f3\n"),
        finds('<p>Sale</p><a href="https://kiln.org/sale">Shop</a>'),
        finds('<p style="display:none"><a href="https://kiln.org/u">Unsubscribe</a></p><p>Sale</p>'),
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
    if not context.kind.is_bulk:
        raise DoesNotApply("a transactional message needs no unsubscribe link")
    if message.html is None and message.text is None:
        raise DoesNotApply("the message has no text at all")
    if message.html is None:
        raise DoesNotApply("the plain text stands alone; text.unsubscribe-missing tells")
    if unsubscribe_link(message) is not None or _has_no_target(message):
        return
    lacks_too = message.text is not None and message.text.seen.strip() and unsubscribe_link(replace(message, html=None)) is None
    others = (Place("text"),) if lacks_too else ()
    yield Hit("The message has no visible unsubscribe link.", Place("html"), identity="missing", also=others)


def _has_no_target(message: Message) -> bool:
    """Whether a visible link says that it unsubscribes and leads nowhere: that is told once, by links.empty."""
    words = phrase_pattern("phrases", "unsubscribe")
    return any(
        (not link.address or link.address == "#" or link.scheme == "javascript")
        and link.element is not None
        and not message.cascade.is_hidden(link.element)
        and words.search(link.name)
        for link in islice(links(message), LIMITS.links)
    )


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
    if not context.kind.is_bulk:
        raise DoesNotApply("a transactional message needs no unsubscribe link")
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
    if not context.kind.is_bulk:
        raise DoesNotApply("a transactional message needs no List-Unsubscribe")
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
