"""A copied message leads to pages of its own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.links.target import place_of
from jetwind.core.links.addresses import Address
from jetwind.core.links.collection import Found, everything, web
from jetwind.core.message import Message

_BEFORE = "<a href='https://kiln.org/sale/spring'>Glazes</a><a href='https://kiln.org/courses'>Courses</a>"


@dataclass(frozen=True)
class StaleOptions(Options):
    """The options that a house may set."""

    permanent: Annotated[
        str, About("addresses that stay from message to message, or their beginnings after the host, such as /courses; parted by blanks")
    ] = ""


@check(
    id="links.stale",
    name="Link carried over from the message before",
    level=Level.FIX,
    why="The offer of the last message is over, and the link still leads to that offer.",
    fix="Link to this message's page, or name the address as permanent in the settings of the check.",
    basis="Common practice, no published source",
    options=StaleOptions,
    together="{many} links lead where the message before led.",
    samples=[
        clear(_BEFORE),
        clear("<a href='https://kiln.org/sale/autumn'>Glazes</a>", previous=_BEFORE),
        clear(
            "<a href='https://kiln.org/sale/spring'>Glazes</a>",
            previous=_BEFORE,
            given={"settings": {"links.stale": {"permanent": "/sale/"}}},
        ),
        clear(
            "<a href='https://kiln.org/'>Kiln</a><p><a href='https://kiln.org/privacy'>Privacy</a> <a href='https://kiln.org/u'>Unsubscribe</a></p>",
            previous="<a href='https://kiln.org/'>Kiln</a><a href='https://kiln.org/privacy'>Privacy</a><a href='https://kiln.org/u'>Unsubscribe</a>",
        ),
        clear("<a href='https://kiln.org/offers/{{ n }}'>Yours</a>", previous="<a href='https://kiln.org/offers/{{ n }}'>Yours</a>"),
        finds("<a href='https://kiln.org/sale/spring'>Glazes</a>", at="https://kiln.org/sale/spring", previous=_BEFORE),
        finds(
            "<a href='https://kiln.org/sale/spring?campaign=autumn'>Glazes</a>",
            at="https://kiln.org/sale/spring?campaign=autumn",
            previous=_BEFORE,
        ),
    ],
)
def find_stale(message: Message, context: Context, options: StaleOptions) -> Iterator[Hit]:
    """No link of an offer leads to a page that the message it was copied from led to, but for pages that are named as permanent.

    Home pages, and links by which one leaves, writes, reads the small print or moves about, stay as they are. Campaign parameters are
    not compared: the page is the same.
    """
    if context.previous is None:
        raise DoesNotApply("the message was not copied from another")
    before = {(address.host, address.path) for _, address in _offers(context.previous)}
    permanent = tuple(options.permanent.split())
    for found, address in _offers(message):
        if (address.host, address.path) not in before:
            continue
        if permanent and (address.path.startswith(permanent) or address.href.startswith(permanent)):
            continue
        yield Hit(
            "{address} is where the message before led.",
            place_of(message, found.link),
            {"address": found.address, "name": found.name},
            identity=f"{address.host}{address.path}",
        )


def _offers(message: Message) -> Iterator[tuple[Found, Address]]:
    for found in everything(message):
        if found.role != "action" or found.where == "header" or message.holds_field(found.address, in_address=True):
            continue
        address = web(found.address)
        if address is not None and address.path.strip("/"):
            yield found, address
