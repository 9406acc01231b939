"""The campaign parameters of links: there where they must be, and agreeing."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Brief, Context, DoesNotApply, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.links.address import is_ours, web_address
from jetwind.core.checks.links.target import by_address, hit, place_of
from jetwind.core.facts import phrase_pattern
from jetwind.core.links import Link, links
from jetwind.core.links.addresses import Address
from jetwind.core.links.collection import ROLES, everything
from jetwind.core.links.way_out import ADDRESS_WORDS
from jetwind.core.message import Message

_MAIL = "From: a@kiln.org\nSubject: x\nContent-Type: text/html\n\n{}\n"


@dataclass(frozen=True)
class RequiredOptions(Options):
    """The options that a house may set."""

    required: Annotated[
        str, About("parameters that each web link of ours has, parted by blanks, each a name or name=value; the brief may ask for more")
    ] = ""
    exempt: Annotated[
        str, About("roles of links that need none, parted by blanks: action, navigation, social, view-online, legal, contact, logo")
    ] = "view-online legal contact social"


def _ours(message: Message, context: Context) -> Iterator[tuple[Link, Address]]:
    """Web links to the sender's own pages, but for the ways out: those by which a reader leaves, or changes what they get."""
    leave = phrase_pattern("phrases", "unsubscribe")
    for link in links(message):
        url = web_address(message, link)
        if url is None or not is_ours(message, context, url.host):
            continue
        if leave.search(link.name) or ADDRESS_WORDS.search(link.address or "") or "preferenc" in f"{link.name} {link.address}".lower():
            continue
        yield link, url


@check(
    id="links.parameters-missing",
    name="Campaign parameter missing",
    level=Level.FIX,
    why="What readers do on the page is counted for nobody.",
    fix="Add the parameter to the address.",
    basis="House: the parameters that the workspace requires",
    options=RequiredOptions,
    together={"": "{many} links lack required parameters.", "value": "{many} links have parameters of another value."},
    samples=[
        clear(_MAIL.format("<a href='https://kiln.org/'>a</a>")),
        clear(
            _MAIL.format(
                "<a href='https://www.kiln.org/a?campaign=1&amp;medium=mail'>a</a><a href='https://kiln.org/u'>Unsubscribe</a>"
                "<a href='https://kiln.org/preferences'>Choose</a><a href='https://other.org/'>b</a><a href='{{ u }}'>c</a><a href='mailto:a@kiln.org'>d</a>"
            ),
            given={"settings": {"links.parameters-missing": {"required": "campaign medium"}}},
        ),
        clear(
            _MAIL.format("<a href='https://kiln.org/a?campaign=spring&amp;medium=mail'>a</a><a href='https://kiln.org/p'>Privacy</a>"),
            given={"brief": Brief(parameters={"campaign": "spring", "medium": ""})},
        ),
        finds(
            _MAIL.format("<a href='https://kiln.org/a?campaign=autumn'>a</a>"),
            at="https://kiln.org/a?campaign=autumn",
            given={"brief": Brief(parameters={"campaign": "spring"})},
        ),
        finds(
            _MAIL.format("<a href='https://kiln.org/a?medium=print'>a</a>"),
            given={"settings": {"links.parameters-missing": {"required": "medium=mail"}}},
        ),
        finds(
            _MAIL.format("<a href='https://kiln.org/a?campaign=1'>a</a><a href='https://kiln.org/b?medium=mail'>b</a>"),
            at="https://kiln.org/b?medium=mail",
            given={"settings": {"links.parameters-missing": {"required": "campaign"}}},
        ),
    ],
)
def find_missing(message: Message, context: Context, options: RequiredOptions) -> Iterator[Hit]:
    """Each web link to the sender's own pages has the parameters that the house and the brief require, with their values."""
    required = {name: value for name, _, value in (one.partition("=") for one in options.required.split())} | dict(context.brief.parameters)
    if not required:
        raise DoesNotApply("neither the workspace nor the brief requires campaign parameters")
    exempt = frozenset(options.exempt.split()) & frozenset(ROLES)
    roles = {found.address: found.role for found in reversed(everything(message)) if found.where != "header"}
    for link, url in _ours(message, context):
        if roles.get(link.address or "") in exempt:
            continue
        there = dict(url.parameters)
        lacking = [name for name in required if name not in there]
        if lacking:
            yield hit(message, link, [link], "{address} lacks {parameters}.", parameters=", ".join(lacking))
            continue
        wrong = next(
            (name for name, value in required.items() if value and there[name] != value and not _is_filled(message, there[name])), None
        )
        if wrong is not None:
            data = {"parameter": wrong, "value": there[wrong], "wanted": required[wrong]}
            yield hit(message, link, [link], "{parameter} of {address} is “{value}”, not “{wanted}”.", cause="value", **data)


def _is_filled(message: Message, value: str) -> bool:
    """Whether a field makes the value: then it is that of each reader."""
    return message.holds_field(value, in_address=True) or (bool(value) and not value.strip("x"))


@dataclass(frozen=True)
class ConflictOptions(Options):
    """The options that a house may set."""

    agree: Annotated[
        str,
        About(
            "parameters that have one value in the whole message, parted by blanks; also asked by the end of their names, as in x_campaign"
        ),
    ] = "campaign source medium"


@check(
    id="links.parameters-conflict",
    name="Campaign parameters that conflict",
    level=Level.FIX,
    why="The visit is counted for another campaign, or for none.",
    fix="Give the parameter once, before any “#”, with the value that the others have.",
    basis="House: the parameters that the workspace has agree; WHATWG URL §4.1 for “#”",
    options=ConflictOptions,
    samples=[
        clear(
            _MAIL.format(
                "<a href='https://kiln.org/?campaign=a&amp;content=1'>a</a><a href='https://kiln.org/b?campaign=a&amp;content=2#x'>b</a>"
            )
        ),
        clear(
            _MAIL.format(
                "<a href='https://kiln.org/?colour=red&amp;colour=blue&amp;campaign=a'>a</a><a href='https://other.org/?campaign=b'>b</a>"
            )
        ),
        clear(
            _MAIL.format(
                "<a href='https://kiln.org/?campaign={{ c }}'>a</a><a href='https://kiln.org/b?campaign=a'>b</a><a href='https://kiln.org/#a=b'>c</a>"
            )
        ),
        finds(
            _MAIL.format("<a href='https://kiln.org/?campaign=a&amp;campaign=b'>a</a>"), at="https://kiln.org/?campaign=a&amp;campaign=b"
        ),
        finds(
            _MAIL.format(
                "<a href='https://kiln.org/?campaign=a'>a</a><a href='https://kiln.org/b?campaign=a'>b</a><a href='https://kiln.org/c?campaign=z'>c</a>"
            ),
            at="https://kiln.org/c?campaign=z",
        ),
        finds(_MAIL.format("<a href='https://kiln.org/#offers?campaign=a'>a</a>"), at="https://kiln.org/#offers?campaign=a"),
        finds(_MAIL.format("<a href='https://kiln.org/#offers&amp;x_campaign=a'>a</a>"), at="https://kiln.org/#offers&amp;x_campaign=a"),
    ],
)
def find_conflict(message: Message, context: Context, options: ConflictOptions) -> Iterator[Hit]:
    """In links to the sender's own pages each campaign parameter stands once, before the fragment, and has one value in the message."""
    names = tuple(options.agree.split())
    values: dict[str, dict[str, list[Link]]] = defaultdict(lambda: defaultdict(list))

    def is_one(name: str) -> bool:
        return name in names or name.endswith(tuple(f"_{own}" for own in names))

    if not any(f"{name}=" in (link.address or "") for link, _ in by_address(message) for name in names):
        return
    ours = {link.address: url for link, url in _ours(message, context)}
    for link, alike in by_address(message):
        url = ours.get(link.address)
        if url is None:
            continue
        own = [(name, value) for name, value in url.parameters if is_one(name)]
        twice = [name for name, number in Counter(name for name, _ in own).items() if number > 1]
        late = [part.partition("=")[0] for part in url.fragment.replace("?", "&").split("&")[1:] if is_one(part.partition("=")[0])]
        if twice:
            yield hit(message, link, alike, "{address} has {parameter} more than once.", parameter=twice[0])
        elif late:
            yield hit(message, link, alike, "In {address} {parameter} stands behind the “#”, where no server sees it.", parameter=late[0])
        elif not message.holds_field(link.address or "", in_address=True):
            for name, value in own:
                values[name][value].append(link)
    for name, found in values.items():
        usual = max(found, key=lambda value: len(found[value]))
        for value, odd in found.items():
            if value != usual:
                data = {"parameter": name, "value": value, "usual": usual}
                first, *others = (place_of(message, link) for link in odd)
                yield Hit(
                    "{parameter} is “{value}” here and “{usual}” in other links.",
                    first,
                    data,
                    identity=f"{name}={value}",
                    also=tuple(others),
                )
