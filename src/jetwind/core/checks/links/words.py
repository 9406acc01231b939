"""The words of a link and its target belong together."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checks.links.address import is_ours, web_address
from jetwind.core.checks.links.target import by_address, hit, place_of
from jetwind.core.facts import phrase_set
from jetwind.core.images import shown_size
from jetwind.core.links import Link, links
from jetwind.core.links.addresses import Address, is_public_name, organisational_domain
from jetwind.core.links.collect import bare_name
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.reading import tidy

_LOOKS_LIKE_ADDRESS = re.compile(
    r"(?P<scheme>https?://)?(?P<host>(?:[\w](?:[\w-]{0,61}[\w])?\.)+[^\W\d_]{2,24})(?::\d+)?(?P<rest>[/?#]\S*)?\Z", re.IGNORECASE
)
#: Endings of files that are also top-level domains: "checklist.zip" in a text is a file.
_FILES = frozenset(["zip", "mov", "md", "py", "sh", "pl", "rs", "ps", "app", "so", "cc"])


@check(
    id="links.text-mismatch",
    name="Link text names another site",
    level=Level.STOP,
    why="Readers and filters take a text that names one site and leads to another for phishing.",
    fix="Let the text name the site that the link leads to, or write words instead of an address.",
    basis="Common practice, no published source",
    together="{many} links name another site than the one they lead to.",
    samples=[
        clear("<a href='https://www.kiln.org/sale'>www.kiln.org</a><a href='https://shop.kiln.org/'>https://kiln.org/sale</a>"),
        clear(
            "<a href='https://kiln.org/'>Sale</a><a href='https://kiln.org/a'>e.g. read.me</a><a href='https://kiln.org/list.zip'>list.zip</a>"
        ),
        clear("<a href='{{ u }}'>kiln.org</a><a href='https://{{ host }}/'>kiln.org</a><a href='mailto:a@kiln.org'>kiln.org</a>"),
        clear("<a href='https://kiln.org/'>Node.js</a><a href='https://kiln.org/'>v2.10</a><a href='https://kiln.org/'>a@other.org</a>"),
        clear("<a href='https://www.kiln.co.uk/'>kiln.co.uk</a><a href='https://kiln.org/'>{{ host }}.org</a>"),
        finds("<a href='https://kiln-offers.org/sale'>www.kiln.org</a>", at="https://kiln-offers.org/sale"),
        finds("<a href='https://click.other.org/x'>https://kiln.org/sale</a>", at="https://click.other.org/x"),
        finds("<a href='https://other.co.uk/x'><b>kiln.co.uk</b></a>", at="https://other.co.uk/x"),
    ],
)
def find_text_mismatch(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where the text of a link is an address or a domain, it is one of the organisation that the link leads to."""
    for link in links(message):
        if link.part != "html" or not link.address:
            continue
        said = _LOOKS_LIKE_ADDRESS.match(link.name.strip().rstrip(".,;:!?"))
        if said is None or not is_public_name(said["host"]):
            continue
        is_bare = not said["scheme"] and not said["host"].lower().startswith("www.") and not said["rest"]
        if is_bare and said["host"].rpartition(".")[2].lower() in _FILES:
            continue
        url = web_address(message, link)
        if url is None or not url.host:
            continue
        named, there = organisational_domain(_ascii(said["host"])), organisational_domain(url.host)
        if named != there:
            yield hit(message, link, [link], "The text says {name} and leads to {there}.", there=there)


def _ascii(host: str) -> str:
    try:
        return host.lower().encode("idna").decode("ascii")
    except UnicodeError:
        return host.lower()


@check(
    id="links.text-vague",
    name="Link text that says nothing",
    level=Level.FIX,
    why="Read by itself, as screen readers list links, it does not tell where it leads.",
    fix="Let the link say what the reader gets: “Book a wheel” instead of “click here”.",
    basis="WCAG 2.2 SC 2.4.4 and 2.4.9",
    together={"": "{many} links have words that tell nothing by themselves.", "blank": "{many} links have no words."},
    samples=[
        clear("<a href='https://kiln.org/a'>Book a wheel</a><a href='https://kiln.org/b'>More about glazes</a>"),
        clear("<a href='https://kiln.org/a' aria-label='Book a wheel'>here</a>"),
        clear("<a href='https://kiln.org/a'>{{ title }}</a><a href='https://kiln.org/a'>Links of the week</a><a>here</a>"),
        clear("<div style='display:none'><a href='https://kiln.org/a'>here</a></div>"),
        clear("<a href='https://kiln.org/a'><img src='cid:a' alt=''></a><a name='top'> </a><a href='https://kiln.org/a'>{{ title }}</a>"),
        clear(
            "<a href='https://kiln.org/a' aria-label='Book a wheel'>&nbsp;</a><a href='https://kiln.org/a' aria-hidden='true'>&nbsp;</a>"
        ),
        clear("<div style='display:none'><a href='https://kiln.org/a'>&nbsp;</a></div><a href='top'></a><a href='#top'> </a>"),
        finds("<p>Glazes <a href='https://kiln.org/a'>&nbsp; </a></p>", at="https://kiln.org/a"),
        finds("<p>Glazes <a href='https://kiln.org/a'><b>&#8203;</b></a></p>", at="https://kiln.org/a"),
        finds("<p>To book a wheel <a href='https://kiln.org/a'>click here</a>.</p>", at="https://kiln.org/a"),
        finds("<a href='https://kiln.org/a'>Here »</a>", at="https://kiln.org/a"),
        finds("<a href='https://kiln.org/a'><img src='cid:a' alt='more'></a>", at="https://kiln.org/a"),
        finds("<p lang=de>Anmelden: <a href='https://kiln.org/a'>hier</a></p>", at="https://kiln.org/a"),
    ],
)
def find_text_vague(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The accessible name of each link says by itself where it leads. One finding for one name, with all its places."""
    vague = phrase_set("phrases", "vague_links")
    for link in links(message):
        plain = bare_name(link.name)
        if link.part == "html" and link.address and plain in vague and _is_seen(message, link):
            data = {"name": link.name, "address": link.address}
            yield Hit("The link says “{name}”, which tells nothing by itself.", place_of(message, link), data, identity=plain)
        elif _is_blank(link) and _is_seen(message, link):
            yield Hit(
                "The link to {address} has no words.",
                place_of(message, link),
                {"address": link.address},
                identity=f"blank {link.address}",
                cause="blank",
            )


def _is_blank(link: Link) -> bool:
    """Whether a link holds nothing but blanks that take room: no words, no label, and no picture, of which others tell.

    One that holds nothing at all is not seen, and not told: it is a mark that somebody left.
    """
    element = link.element
    if element is None or element.tag != "a" or not link.address or tidy(link.name):
        return False
    if (element.get("aria-hidden") or "").strip().lower() == "true":
        return False
    if not element.text.strip(" \t\r\n\f"):
        return False
    return not any(isinstance(node, Element) and node.tag in _PICTURES for node in islice(element.walk(), _MOST_INSIDE))


_PICTURES = frozenset({"img", "svg", "picture", "video", "input", "object"})
#: Nodes of a link that are looked at: hostile markup nests thousands.
_MOST_INSIDE = 200


def _is_seen(message: Message, link: Link) -> bool:
    return link.element is not None and not message.cascade.is_hidden(link.element)


@check(
    id="links.same-text",
    name="Same link text, different pages",
    level=Level.FIX,
    why="In a list of links nobody can tell them apart, and one of them may be a wrong address.",
    fix="Let each link say what is special about its page, or mend the address.",
    basis="WCAG 2.2 SC 2.4.4",
    together="{many} links share their words with links to other pages.",
    samples=[
        clear("<a href='https://kiln.org/a?campaign=1'>Book</a><a href='https://kiln.org/a?campaign=2#x'>Book</a>"),
        clear("<a href='https://kiln.org/a'>Book a wheel</a><a href='https://kiln.org/b'>Book a kiln</a>"),
        clear("<a href='https://kiln.org/a'>here</a><a href='https://kiln.org/b'>here</a>"),  # told once, by links.text-vague
        clear("<a href='{{ a }}'>Book</a><a href='https://kiln.org/b'>Book</a><a href='https://www.kiln.org/b/'>Book</a>"),
        clear("<a href='https://kiln.org/a'>Go</a><div style='display:none'><a href='https://kiln.org/b'>Go</a></div>"),
        clear("<a href='https://kiln.org/a'></a><a href='https://kiln.org/b'></a>"),
        finds("<a href='https://kiln.org/a'>Book</a><a href='https://kiln.org/b'>book</a>", at="https://kiln.org/a"),
        finds("<a href='https://kiln.org/?id=1'>Book</a><a href='https://kiln.org/?id=2'>Book</a>", at="https://kiln.org/?id=1"),
    ],
)
def find_same_text(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Links of one name lead to one page; what a query says of the campaign, and a fragment, make no other page of it."""
    vague = phrase_set("phrases", "vague_links")
    found: dict[str, dict[str, Link]] = {}
    for link in links(message):
        name = bare_name(link.name)
        if link.part != "html" or not name or name in vague or not _is_seen(message, link):
            continue
        url = web_address(message, link)
        if url is not None and not message.holds_field(link.address or "", in_address=True) and not message.holds_field(link.name):
            found.setdefault(name, {}).setdefault(_page(url), link)
    for name, pages in found.items():
        if len(pages) > 1:
            first, *others = pages.values()
            data = {"name": first.name, "count": len(pages), "addresses": [link.address for link in pages.values()][:10]}
            places = tuple(place_of(message, link) for link in others)
            yield Hit("“{name}” leads to {count} different pages.", place_of(message, first), data, identity=name, also=places)


_CAMPAIGN = re.compile(r"(?:utm_|mc_|pk_|mtm_|hsa_)\w+|\w*(?:campaign|source|medium|track|ref)\w*\Z", re.IGNORECASE)


def _page(url: Address) -> str:
    query = sorted(pair for pair in url.parameters if not _CAMPAIGN.match(pair[0]))
    return f"{url.host.removeprefix('www.')}{url.path.rstrip('/')}?{query}"


_SHORT_PATH = re.compile(r"/(?P<code>[A-Za-z0-9_-]{4,10})/?\Z")
_WORDS = re.compile(r"(?:[A-Z]?[a-z]+|[A-Z]+)(?:[_-]?[A-Z]?[a-z]+)*\d{0,4}\Z")


@check(
    id="links.opaque",
    name="Shortened address",
    level=Level.FIX,
    why="Nobody can see where it leads; senders of spam hide behind the same services, and filters know it.",
    fix="Link to the page itself, on your own domain.",
    basis="Common practice, no published source",
    together="{many} links have shortened addresses.",
    samples=[
        clear("From: a@kiln.org\nSubject: x\n\nhttps://kiln.org/3xYz12\n"),
        clear(
            "<a href='https://kiln-works.org/spring-sale'>a</a><a href='https://ki.ln/sale24'>b</a><a href='https://ki.ln/KilnWorks'>c</a>"
        ),
        clear(
            "<a href='https://ki.ln/3xYz12/photos'>a</a><a href='https://ki.ln/3xYz12?x=1'>b</a><a href='https://a-long-host-name.org/3xYz12'>c</a>"
        ),
        clear("<a href='https://ki.ln/{{ code }}'>a</a><a href='https://ki.ln/kiln_works'>b</a>"),
        finds("From: a@kiln.org\nSubject: x\n\nhttps://sho.rt/3xYz12\n", at="https://sho.rt/3xYz12"),
        finds("<a href='https://sho.rt/aB3dE'>a</a>", at="https://sho.rt/aB3dE"),
    ],
)
def find_opaque(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No web address is a short host of somebody else's with a code behind it: letters of both cases and digits that make no word."""
    for link, alike in by_address(message):
        url = web_address(message, link)
        if url is None or url.query or len(url.host) > 12:
            continue
        code = _SHORT_PATH.match(url.path)
        if code is None or message.holds_field(link.address or "", in_address=True) or _WORDS.match(code["code"]):
            continue
        kinds = sum(bool(re.search(kind, code["code"])) for kind in ("[a-z]", "[A-Z]", "[0-9]"))
        is_code = kinds == 3 or (kinds == 2 and re.search("[A-Z]", code["code"]) and re.search("[a-z]", code["code"]))
        if is_code and not is_ours(message, context, url.host):
            yield hit(message, link, alike, "Nobody can see where {address} leads.")


#: A picture that takes a place of its own in a message, in px.
_WIDE, _TALL = 200, 100


@check(
    id="links.unlinked-image",
    name="Large picture without a link",
    level=Level.NOTE,
    why="Readers press on large pictures; where others lead somewhere, this one seems broken.",
    fix="Link the picture to the page that it shows, or leave it if it is meant so.",
    basis="Common practice, no published source",
    together="{many} pictures have no link, while others of their size have one.",
    samples=[
        clear(
            "<a href='https://kiln.org/'><img src='a.png' width=600 height=300></a><a href='https://kiln.org/b'><img src='b.png' width=300 height=200></a>"
        ),
        clear("<img src='a.png' width=600 height=300><img src='b.png' width=600 height=300>"),
        clear("<a href='https://kiln.org/'><img src='logo.png' width=120 height=40></a><img src='a.png' width=600 height=300>"),
        clear(
            "<a href='https://kiln.org/'><img src='a.png' width=600 height=300></a><img src='line.png' width=600 height=2><img src='b.png'>"
        ),
        clear(
            "<map name=m><area href='https://kiln.org/b'></map><a href='https://kiln.org/'><img src='a.png' width=600 height=300></a><img src='b.png' width=600 height=300 usemap='#m'>"
        ),
        finds(
            "<a href='https://kiln.org/'><img src='a.png' width=600 height=300></a><img src='b.png' width=600 height=200>",
            at="<img src='b.png' width=600 height=200>",
        ),
    ],
)
def find_unlinked_image(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where a large picture is linked, all of them are."""
    document = message.document
    if document is None:
        return
    in_links = {inner.index for link in document.elements("a") if link.get("href") for inner in link.elements("img")}
    large = [image for image in document.elements("img") if _is_large(shown_size(message, image)) and not message.cascade.is_hidden(image)]
    if not any(image.index in in_links for image in large):
        return
    for image in large:
        if image.index not in in_links and image.get("usemap") is None:
            source = (image.get("src") or "without address").rpartition("/")[2]
            place = place_of(message, Link("html", image, None, "", image.start_tag))
            yield Hit("The picture {source} has no link, while others of its size have one.", place, {"source": source}, identity=source)


def _is_large(size: tuple[float | None, float | None]) -> bool:
    width, height = size
    return width is not None and height is not None and width >= _WIDE and height >= _TALL
