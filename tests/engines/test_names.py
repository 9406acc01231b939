"""Name records and the sender's papers: zones, SPF, DKIM, DMARC and BIMI, held against published suites."""

from __future__ import annotations

import ast
import base64
import hashlib
import ipaddress
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import dkim
import pytest
import yaml
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
from dns import resolver as dns_resolver
from dns.resolver import NXDOMAIN
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from jetwind.core.checking import Context, Kind, registry, run_check
from jetwind.core.message import Message, read_bytes
from jetwind.core.papers import Papers, Signing, dmarc_record
from jetwind.core.papers.dmarc import DmarcFault, aligned
from jetwind.engines.fetch import Fetcher, Policy
from jetwind.engines.names import Dns, NoAnswer, NotingResolver, UnusableZone, Zone, loading, papers_of, practice, practice_zone
from jetwind.engines.names import spf as spf_engine
from jetwind.engines.names.asking import MOST_LOOKUPS
from jetwind.engines.names.dkim import MOST_OCTETS, MOST_SIGNATURES
from jetwind.engines.practice import DOMAIN, RunningPractice
from tests.references import sdist

#: What the suite wants and the library that evaluates does not give, with the reason. pyspf's own note names the same one.
SPF_DIFFERS = {
    "spftimeout": "the suite wants a record of type SPF (99) to be asked when TXT times out; RFC 7208 §3.1 has done away with that type"
}

ZONE = """
$ORIGIN kiln.org.
@        TXT  "v=spf1 ip4:192.0.2.25 include:_out.kiln.org -all"
_out     TXT  "v=spf1 ip4:198.51.100.0/24 a:mail.kiln.org ~all"
mail     A    192.0.2.30
_dmarc   TXT  "v=DMARC1; p=reject; rua=mailto:reports@kiln.org"
default._bimi TXT "v=BIMI1; l=https://kiln.org/mark.svg"
"""
RAW = b"From: Kiln Works <hello@kiln.org>\r\nSubject: Twelve glazes\r\nList-Unsubscribe: <https://kiln.org/u>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n\r\nThe big kiln is fired on Monday.\r\n"


def mail(raw: bytes = RAW) -> Message:
    """A mail from hello@kiln.org."""
    return read_bytes(raw, "x.eml")


def papers(zone: str = ZONE, raw: bytes = RAW, **signing: str) -> Papers:
    """What a zone says of the sender of a mail."""
    return papers_of(mail(raw), Zone.read(zone), Signing(**signing))


def found(check_id: str, given_papers: Papers | None, raw: bytes = RAW) -> list[str]:
    """The sentences of a check under these papers."""
    return [one.message for one in run_check(registry()[check_id], mail(raw), Context(Kind.PROMOTIONAL, papers=given_papers)).findings]


# Published suites


def _suite() -> Iterator[tuple[str, dict[str, Any], Zone]]:
    """Every test of the OpenSPF suite for RFC 7208, with its zone.

    PyPI pyspf 2.0.14, test/rfc7208-tests.yml (PSF licence). Type SPF stands for TXT unless the name also has TXT.
    """
    path = sdist("pyspf", "2.0.14") / "test" / "rfc7208-tests.yml"
    for scenario in yaml.safe_load_all(path.read_text("utf-8")):
        zone = Zone(_entries(scenario["zonedata"]))
        for name, case in scenario["tests"].items():
            yield name, case, zone


def _entries(data: dict[str, Any]) -> dict[tuple[str, str], list[Any]]:
    entries: dict[tuple[str, str], list[Any]] = {}
    for owner, records in data.items():
        name = owner.rstrip(".").lower()
        has_text = any(isinstance(one, dict) and "TXT" in one for one in records)
        for one in records:
            if one == "TIMEOUT":
                entries[name, "TIMEOUT"] = []
                continue
            ((kind, value),) = one.items()
            if kind == "SPF" and has_text:
                continue
            if value != "NONE":
                entries.setdefault((name, "TXT" if kind == "SPF" else kind), []).append(_value(kind, value))
    return entries


def _value(kind: str, value: Any) -> Any:
    if kind in ("SPF", "TXT"):
        return ("".join(value) if isinstance(value, list) else value).encode()
    if kind == "MX":
        return (value[0], value[1].rstrip("."))
    return str(ipaddress.ip_address(value)) if kind in ("A", "AAAA") else str(value).rstrip(".")


class TestSpf:
    """RFC 7208."""

    def test_the_published_suite(self) -> None:
        """203 tests in 16 scenarios; every one that differs is named."""
        differs, count = {}, 0
        for name, case, zone in _suite():
            count += 1
            query = spf_engine._Query(NotingResolver(zone), case["host"], case["mailfrom"], case["helo"])
            result = query.check()[0]
            wanted = case["result"] if isinstance(case["result"], list) else [case["result"]]
            if result not in wanted:
                differs[name] = (result, wanted)
        assert count == 203
        assert set(differs) == set(SPF_DIFFERS)

    @pytest.mark.parametrize(
        ("host", "result"),
        [
            ("192.0.2.25", "pass"),
            ("198.51.100.7", "pass"),
            ("192.0.2.30", "pass"),
            ("203.0.113.1", "fail"),
            ("2001:db8::1", "fail"),
            ("", "neutral"),
        ],
    )
    def test_hosts(self, host: str, result: str) -> None:
        """Named directly, by an include, by an address of a name; and none of those."""
        spf = papers(host=host).spf
        assert spf is not None
        assert (spf.result, spf.domain, spf.record) == (result, "kiln.org", "v=spf1 ip4:192.0.2.25 include:_out.kiln.org -all")

    def test_every_look_up_is_told(self) -> None:
        """With its answer, how deep it was asked, and its number among those that count."""
        spf = papers(host="203.0.113.1").spf
        assert spf is not None
        told = [(one.type, one.name, one.depth, one.count) for one in spf.lookups]
        assert told == [("TXT", "kiln.org", 0, 0), ("TXT", "_out.kiln.org", 0, 1), ("A", "mail.kiln.org", 1, 2)]
        assert spf.lookups[2].answer == ("192.0.2.30",)
        assert spf.counted == 2
        assert all(one.took_ms >= 0 for one in spf.lookups)

    @pytest.mark.parametrize("count", [10, 11, 14])
    def test_look_ups_over_ten(self, count: int) -> None:
        """Ten pass; of more, how many the record asks for is told, once."""
        includes = '" "'.join(f"include:n{number}.kiln.org " for number in range(count))
        zone = f'$ORIGIN kiln.org.\n@ TXT "v=spf1 {includes} ip4:192.0.2.25 -all"\n' + "\n".join(
            f'n{number} TXT "v=spf1 ip4:192.0.2.{number} -all"' for number in range(count)
        )
        given_papers = papers(zone, host="192.0.2.25")
        assert given_papers.spf is not None
        assert (given_papers.spf.result, given_papers.spf.counted) == (("pass", 10) if count == 10 else ("permerror", count))
        told = found("sending.spf-lookups", given_papers)
        assert told == ([] if count == 10 else [f"The SPF record of kiln.org asks for {count} look-ups, over the limit of 10."])
        assert found("sending.spf", given_papers) == []

    def test_a_record_that_has_room_today_and_none_on_a_bad_day(self) -> None:
        """The host passes at the first term, and the whole record asks for twelve: told all the same."""
        zone = (
            '$ORIGIN kiln.org.\n@ TXT "v=spf1 ip4:192.0.2.25 '
            + " ".join(f"a:n{number}.kiln.org" for number in range(12))
            + ' -all"\n'
            + "\n".join(f"n{number} A 203.0.113.{number}" for number in range(12))
        )
        given_papers = papers(zone, host="192.0.2.25")
        assert given_papers.spf is not None
        assert (given_papers.spf.result, given_papers.spf.counted) == ("pass", 12)
        assert found("sending.spf-lookups", given_papers)

    @pytest.mark.parametrize(
        ("record", "said"),
        [
            ('"v=spf1 ip4:192.0.2.0/33 -all"', "The SPF record of kiln.org is faulty"),
            ('"v=spf1 moo -all"', "The SPF record of kiln.org is faulty"),
            ('"v=spf1 include:nowhere.kiln.org -all"', "The SPF record of kiln.org is faulty"),
            ('"v=spf1 -all"\n@ TXT "v=spf1 +all"', "The SPF record of kiln.org is faulty"),
            ('"v=spf1 ~all"', "The SPF record of kiln.org says of 192.0.2.25: softfail."),
            ('"v=spf1 ?all"', "The SPF record of kiln.org says of 192.0.2.25: neither yes nor no."),
            ('"something else"', "kiln.org has no SPF record."),
        ],
    )
    def test_faulty_and_weak_records(self, record: str, said: str) -> None:
        """Each in one sentence."""
        told = found("sending.spf", papers(f"$ORIGIN kiln.org.\n@ TXT {record}\n", host="192.0.2.25"))
        assert len(told) == 1
        assert told[0].startswith(said)

    def test_the_return_path_is_asked_where_it_is_known(self) -> None:
        """RFC 7208 §2.4: the MAIL FROM identity."""
        raw = b"Return-Path: <bounce-7@b.kiln.org>\r\n" + RAW
        spf = papers(ZONE + 'b TXT "v=spf1 ip4:203.0.113.9 -all"\n', raw, host="203.0.113.9").spf
        assert spf is not None
        assert (spf.identity, spf.domain, spf.result) == ("return path", "b.kiln.org", "pass")
        assert papers(ZONE, host="192.0.2.25", return_path="b.kiln.org").spf.domain == "b.kiln.org"  # type: ignore[union-attr]


def _key_zone() -> Zone:
    """The keys of RFC 6376 and RFC 8463's examples, as dkimpy's tests have them."""
    folder = sdist("dkimpy", "1.1.8") / "dkim" / "tests" / "data"
    public = re.search(r"p=([\w+/=]+)", (folder / "test.txt").read_text())
    assert public is not None
    rsa_key = b"v=DKIM1; k=rsa; p=" + public[1].encode()
    edwards = b"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="
    domain = "football.example.com"
    return Zone({(f"test._domainkey.{domain}", "TXT"): [rsa_key], (f"brisbane._domainkey.{domain}", "TXT"): [edwards]})


_KEY = rsa.generate_private_key(65537, 1024)


def signed_by_hand(
    record: str, covers: tuple[str, ...] = ("from", "subject"), algorithm: str = "rsa-sha256", more: str = "", length: int | None = None
) -> tuple[bytes, str]:
    """A mail signed without the library that verifies (RFC 6376 §3.4.1, §3.4.3: simple), and the zone with its key; ``record`` begins the key's."""
    digest, scheme = (hashlib.sha1, hashes.SHA1()) if algorithm.endswith("sha1") else (hashlib.sha256, hashes.SHA256())
    head, _, body = RAW.partition(b"\r\n\r\n")
    lines = {line.split(b":")[0].decode().lower(): line + b"\r\n" for line in head.split(b"\r\n")}
    limit = f"l={length}; " if length is not None else ""
    bound = base64.b64encode(digest(body[:length]).digest()).decode()
    header = f"DKIM-Signature: v=1; a={algorithm}; c=simple/simple; d=kiln.org; s=spring; {more}{limit}h={':'.join(covers)}; bh={bound}; b="
    signature = base64.b64encode(_KEY.sign(b"".join(lines[name] for name in covers) + header.encode(), PKCS1v15(), scheme)).decode()
    public = _KEY.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    key = "" if record.startswith("p=") else f"p={base64.b64encode(public).decode()}"
    return f"{header}{signature}\r\n".encode() + RAW, f'{ZONE}spring._domainkey TXT "v=DKIM1; {record}" "{key}"\n'


class TestDkim:
    """RFC 6376, RFC 8463."""

    @pytest.mark.parametrize(
        ("name", "wanted"),
        [("rfc6376.signed.msg", ["pass", "pass"]), ("rfc6376.signed.rsa.msg", ["pass"]), ("rfc6376.msg", [])],
    )
    def test_the_standards_own_messages(self, name: str, wanted: list[str]) -> None:
        """PyPI dkimpy 1.1.8, dkim/tests/data: RFC 6376's example signed with both algorithms."""
        raw = (sdist("dkimpy", "1.1.8") / "dkim" / "tests" / "data" / name).read_bytes()
        result = papers_of(read_bytes(raw, name), _key_zone())
        assert [one.result for one in result.dkim] == wanted
        assert {one.domain for one in result.dkim} <= {"football.example.com"}

    @pytest.mark.parametrize(
        ("change", "said"),
        [
            ((b"lost the game", b"won the game"), "the body was changed after it was signed"),
            ((b"Is dinner ready?", b"Is dinner late?"), "does not fit the headers and the key"),
            ((b"s=test", b"s=none"), "record is not there"),
        ],
    )
    def test_one_change_breaks_it(self, change: tuple[bytes, bytes], said: str) -> None:
        """A word of the body, of a header, the name of the key."""
        raw = (sdist("dkimpy", "1.1.8") / "dkim" / "tests" / "data" / "rfc6376.signed.rsa.msg").read_bytes()
        assert change[0] in raw
        (signed,) = papers_of(read_bytes(raw.replace(*change), "x.eml"), _key_zone()).dkim
        assert signed.result == "fail"
        assert said in signed.why

    def _signed(
        self, raw: bytes = RAW, bits: int = 1024, covers: tuple[bytes, ...] = (b"from", b"subject"), domain: bytes = b"kiln.org"
    ) -> tuple[bytes, str]:
        """A mail with a signature of its own, and the zone with its key."""
        key = rsa.generate_private_key(65537, bits)
        private = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption()
        )
        public = base64.b64encode(
            key.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
        ).decode()
        header = dkim.sign(raw, b"spring", domain, private, include_headers=list(covers))
        halves = f'"v=DKIM1; k=rsa; p={public[:200]}" "{public[200:]}"'
        return header + raw, f"{ZONE}spring._domainkey.{domain.decode()}. TXT {halves}\n"

    def test_a_signature_made_here(self) -> None:
        """Signed by the library, verified against a zone, with what it covers and how large its key is."""
        raw, zone = self._signed()
        result = papers(zone, raw)
        (signed,) = result.dkim
        assert (signed.result, signed.domain, signed.selector, signed.algorithm, signed.bits) == (
            "pass",
            "kiln.org",
            "spring",
            "rsa-sha256",
            1024,
        )
        assert signed.covers == ("from", "subject")
        assert result.dmarc is not None
        assert result.dmarc.aligned == ("DKIM",)
        assert found("sending.dkim", result, raw) == found("sending.dmarc", result, raw) == []

    def test_both_headers_for_one_click(self) -> None:
        """RFC 8058 §4: covered or not, by the signature's own list."""
        one, both = (b"from", b"list-unsubscribe"), (b"from", b"list-unsubscribe", b"list-unsubscribe-post")
        for covers, told in ((one, ["The DKIM signature does not cover List-Unsubscribe-Post."]), (both, [])):
            raw, _ = self._signed(covers=covers)
            assert found("footer.one-click-unsigned", None, raw) == told

    def test_a_stranger_s_signature_vouches_for_nobody(self) -> None:
        """It verifies and is not aligned."""
        raw, zone = self._signed(domain=b"elsewhere.net")
        result = papers(zone, raw, host="203.0.113.1")
        assert [one.result for one in result.dkim] == ["pass"]
        assert found("sending.dmarc", result, raw) == [
            "Neither SPF nor DKIM passes for kiln.org: SPF says fail for kiln.org, DKIM says pass for elsewhere.net."
        ]

    @pytest.mark.parametrize(
        ("selector", "result", "why"),
        [("spring", "planned", ""), ("summer", "fail", "the key's record is not there"), ("broken", "fail", "")],
    )
    def test_what_will_sign_this(self, selector: str, result: str, why: str) -> None:
        """A template without a signature: the key of the selector that the house names."""
        zone = (
            ZONE
            + 'spring._domainkey TXT "v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="\nbroken._domainkey TXT "v=DKIM1; p=AAAA"\n'
        )
        given_papers = papers(zone, domain="kiln.org", selector=selector, host="192.0.2.25")
        (signed,) = given_papers.dkim
        assert given_papers.is_planned
        assert signed.result == result
        assert why in signed.why
        assert bool(found("sending.dkim", given_papers)) is (result == "fail")

    @pytest.mark.parametrize(
        ("signature", "key", "why"),
        [
            ({"covers": ("subject",)}, "", "does not name From"),  # RFC 6376 §5.4
            ({"algorithm": "rsa-sha1"}, "", "rsa-sha1, which receivers must not accept"),  # RFC 8301 §3.1
            ({}, "h=sha1; ", "accepts sha1 alone"),  # RFC 6376 §3.6.1, §6.1.2
            ({}, "h=sha256; ", ""),
            ({}, "h=sha1 : sha256; ", ""),
            ({"more": "i=hello@news.kiln.org; "}, "t=s; ", "allows no subdomain (t=s), and i names news.kiln.org"),
            ({"more": "i=hello@news.kiln.org; "}, "", ""),
            ({"more": "i=@Kiln.org; "}, "t=y:s; ", ""),
            ({}, "t=s; ", ""),
            ({}, "s=tlsrpt; ", "does not allow e-mail"),
            ({}, "s=other; ", "does not allow e-mail"),
            ({}, "s=other:email; ", ""),
            ({}, "k=ed25519; ", "kind ed25519"),
            ({}, "p=; ", "the key was revoked"),
        ],
    )
    def test_what_the_standard_asks_besides(self, signature: dict[str, Any], key: str, why: str) -> None:
        """Signed with the library cryptography, canonicalised by the test: what must fail fails, with its reason, and vouches for nobody."""
        raw, zone = signed_by_hand(key, **signature)
        result = papers(zone, raw)
        (one,) = result.dkim
        assert (one.result, bool(one.why)) == (("fail", True) if why else ("pass", False))
        assert why in one.why
        assert result.dmarc is not None
        assert result.dmarc.aligned == (() if why else ("DKIM",))

    def test_what_counts_in_part(self) -> None:
        """A domain that is only testing (RFC 6376 §3.6.1), and a body of which a part is signed (§3.5, §8.2): told, though they verify."""
        raw, zone = signed_by_hand("t=y; ", length=8)
        result = papers(zone, raw)
        assert [one.result for one in result.dkim] == ["pass"]
        assert found("sending.dkim", result, raw) == [
            "The DKIM signature of kiln.org counts in part: the key's record says that the domain is only testing (t=y).",
            "The DKIM signature of kiln.org counts in part: 26 of 34 octets of the body are not signed (l=8).",
        ]
        whole, zone = signed_by_hand("", length=34)
        assert papers(zone, whole).dkim[0].remarks == ("others may add to the body (l=34)",)
        plain, zone = signed_by_hand("")
        assert papers(zone, plain).dkim[0].remarks == ()

    def test_a_key_that_will_not_do(self) -> None:
        """A template whose key is revoked, or is for other services."""
        for record, why in (("v=DKIM1; p=", "revoked"), ("v=DKIM1; s=tlsrpt; p=AAAA", "does not allow e-mail")):
            (one,) = papers(f'{ZONE}spring._domainkey TXT "{record}"\n', domain="kiln.org", selector="spring").dkim
            assert (one.result, why in one.why) == ("fail", True)

    def test_hostile_signatures_end(self) -> None:
        """A header of a megabyte, fifty signatures, and nonsense: told, and not worked through."""
        long = b"DKIM-Signature: v=1; d=kiln.org; s=x; h=" + b" " * 1_000_000 + b"; bh=x; b=x\r\n" + RAW
        assert "more than" in papers(ZONE, long).dkim[0].why
        assert len(papers(ZONE, b"DKIM-Signature: v=1; d=a; s=b\r\n" * 50 + RAW).dkim) == MOST_SIGNATURES
        assert MOST_OCTETS < 10_000

    @settings(deadline=None, max_examples=80, suppress_health_check=[HealthCheck.too_slow])
    @given(st.binary(max_size=300), st.binary(max_size=80), st.text(max_size=60))
    def test_nothing_raises(self, signature: bytes, key: bytes, record: str) -> None:
        """Whatever stands in a signature, a key's record or an SPF record."""
        raw = b"DKIM-Signature: v=1; a=rsa-sha256; d=kiln.org; s=spring; " + signature.replace(b"\n", b"") + b"\r\n" + RAW
        entries: dict[tuple[str, str], list[Any]] = {
            ("spring._domainkey.kiln.org", "TXT"): [key],
            ("kiln.org", "TXT"): [b"v=spf1 " + record.encode("utf-8", "replace")],
            ("_dmarc.kiln.org", "TXT"): [b"v=DMARC1; p=" + record.encode("utf-8", "replace")],
        }
        result = papers_of(read_bytes(raw, "x.eml"), Zone(entries), Signing(host="192.0.2.25"))
        assert Papers.from_json(result.as_json()) == result


class TestDmarc:
    """RFC 7489."""

    @pytest.mark.parametrize(
        "text",
        [
            "v=DMARC1; p=reject",
            "v=DMARC1;p=none;",
            "v=DMARC1; p=quarantine; pct=20; sp=none; adkim=s; aspf=r; rua=mailto:a@kiln.org!10m,mailto:b@kiln.org; ruf=mailto:c@kiln.org; fo=1; rf=afrf; ri=86400; x=y",
            "v = DMARC1 ; p = none",
            "v=DMARC1; rua=mailto:a@kiln.org",
            "v=DMARC1; p=none; oops",
            "v=DMARC1; p=none; tag=; =value;;",
        ],
    )
    def test_records_that_are_used(self, text: str) -> None:
        """RFC 7489 §6.3, appendix B.2; unknown tags are skipped, and one with reports alone asks for nothing."""
        assert dmarc_record(text).policy in ("none", "quarantine", "reject")

    @pytest.mark.parametrize(
        "text",
        [
            "",
            "p=reject; v=DMARC1",
            "v=DMARC1",
            "v=DMARC2; p=none",
            "v=DMARC1; p=nothing",
            "v=DMARC1; p=none; p=reject",
            "v=DMARC1; p=none; sp=maybe",
            "v=DMARC1; p=none; sp=maybe; rua=nowhere",
            "v=DMARC1; adkim=r; p=none",
        ],
    )
    def test_records_that_are_not(self, text: str) -> None:
        """Each with a reason."""
        with pytest.raises(DmarcFault, match=r".+"):
            dmarc_record(text)

    @pytest.mark.parametrize(
        ("text", "wanted"),
        [
            ("v=DMARC1; p=reject; pct=200", ("reject", "reject", False, False, 100)),
            ("v=DMARC1; p=reject; pct=x", ("reject", "reject", False, False, 100)),
            ("v=DMARC1; p=reject; adkim=x; aspf=S", ("reject", "reject", False, True, 100)),
            ("v=DMARC1; p=reject; sp=bogus; rua=mailto:a@kiln.org", ("none", "none", False, False, 100)),
            ("v=DMARC1; p=bogus; sp=reject; rua=mailto:a@kiln.org", ("none", "none", False, False, 100)),
            ("v=DMARC1; p=quarantine; np=reject; psd=n; t=y", ("quarantine", "quarantine", False, False, 100)),
        ],
    )
    def test_bad_values_take_their_default(self, text: str, wanted: tuple[object, ...]) -> None:
        """RFC 7489 §6.3: errors are discarded in favour of defaults; §6.6.3: without a usable policy the record asks for nothing."""
        read = dmarc_record(text)
        assert (read.policy, read.subdomain_policy, read.strict_dkim, read.strict_spf, read.share) == wanted

    @pytest.mark.parametrize(
        ("senders", "domain", "policy"),
        [
            ("hello@kiln.org, b@elsewhere.net", "elsewhere.net", "quarantine"),
            ("b@elsewhere.net, hello@kiln.org", "kiln.org", "reject"),  # SPF was asked of the first
            ("b@lax.net, a@elsewhere.net, c@strict.net", "strict.net", "reject"),
            ("hello@kiln.org, b@kiln.org", "kiln.org", "reject"),
        ],
    )
    def test_several_senders(self, senders: str, domain: str, policy: str) -> None:
        """RFC 7489 §6.6.1: of the domains in From that nobody vouches for, the strictest policy counts."""
        zone = ZONE + "".join(
            f'_dmarc.{name}. TXT "v=DMARC1; p={asks}"\n'
            for name, asks in (("elsewhere.net", "quarantine"), ("lax.net", "none"), ("strict.net", "reject"))
        )
        raw = RAW.replace(b"Kiln Works <hello@kiln.org>", senders.encode())
        result = papers_of(mail(raw), Zone.read(zone), Signing("kiln.org", "", "192.0.2.25")).dmarc
        assert result is not None
        assert (result.domain, result.policy) == (domain, policy)
        assert bool(result.aligned) is (senders == "hello@kiln.org, b@kiln.org")

    def test_the_other_library_s_records(self) -> None:
        """PyPI dmarc 1.2.1, dmarc/tests/test_dmarc.py: its eight records of bad syntax, two of its four of bad values, and one that is used.

        A bad alignment voids no record in RFC 7489 §6.3, which that library is stricter than.
        """
        tree = ast.parse((sdist("dmarc", "1.2.1") / "dmarc" / "tests" / "test_dmarc.py").read_text("utf-8"))
        bad = {
            function.name: [ast.literal_eval(row)[0] for node in ast.walk(function) if isinstance(node, ast.List) for row in node.elts]
            for function in ast.walk(tree)
            if isinstance(function, ast.FunctionDef)
            and function.name in ("test_parse_record_syntax_invalid", "test_parse_record_value_invalid")
        }
        assert sorted(map(len, bad.values())) == [4, 8]
        stricter = {"v=DMARC1; p=none; adkim=none", "v=DMARC1; p=none; aspf=none"}
        for record in (record for records in bad.values() for record in records):
            if record in stricter:
                assert not dmarc_record(record).strict_dkim
                continue
            with pytest.raises(DmarcFault):
                dmarc_record(record)
        used = "v=DMARC1; p=reject; sp=quarantine; adkim=s; pct=50; ri=3600; RF = AFRF,IODEF; RUA = MAILTO:Dmarc@example.com ; ruf=mailto:forensic@example.com; fo=0:1:d:s; unknown=test"
        read = dmarc_record(used)
        assert (read.policy, read.subdomain_policy, read.strict_dkim, read.strict_spf, read.share) == (
            "reject",
            "quarantine",
            True,
            False,
            50,
        )

    @pytest.mark.parametrize(
        ("one", "other", "strict", "holds"),
        [
            ("example.com", "example.com", True, True),
            ("news.example.com", "example.com", True, False),
            ("news.example.com", "example.com", False, True),
            ("example.org", "example.com", False, False),
            ("a.co.uk", "b.co.uk", False, False),
            ("", "example.com", False, False),
        ],
    )
    def test_alignment(self, one: str, other: str, strict: bool, holds: bool) -> None:
        """RFC 7489 §3.1, with the organisational domain by the public-suffix list."""
        assert aligned(one, other, strict=strict) is holds

    @pytest.mark.parametrize(
        ("records", "found_at", "policy"),
        [
            ('_dmarc.news TXT "v=DMARC1; p=none"', "_dmarc.news.kiln.org", "none"),
            ("", "_dmarc.kiln.org", "quarantine"),
            ('_dmarc.news TXT "v=spf1 -all"', "_dmarc.kiln.org", "quarantine"),
        ],
    )
    def test_the_organisation_s_record_speaks_for_its_parts(self, records: str, found_at: str, policy: str) -> None:
        """RFC 7489 §6.6.3: the domain's own record, or the organisation's with its policy for subdomains."""
        zone = f'$ORIGIN kiln.org.\n_dmarc TXT "v=DMARC1; p=reject; sp=quarantine"\n{records}\n'
        result = papers_of(mail(RAW.replace(b"hello@kiln.org", b"hello@news.kiln.org")), Zone.read(zone)).dmarc
        assert result is not None
        assert (result.found_at, result.policy, result.organisation) == (found_at, policy, "kiln.org")

    @pytest.mark.parametrize(
        ("zone", "host", "told"),
        [
            (ZONE, "192.0.2.25", []),
            (ZONE, "203.0.113.1", ["Neither SPF nor DKIM passes for kiln.org: SPF says fail for kiln.org, no signature."]),
            (ZONE.replace("_dmarc ", "_other "), "192.0.2.25", ["kiln.org has no DMARC record."]),
            (ZONE.replace("p=reject; ", ""), "192.0.2.25", []),
            (
                ZONE.replace("p=reject", "p=perhaps").replace("; rua=mailto:reports@kiln.org", ""),
                "192.0.2.25",
                ["The DMARC record at _dmarc.kiln.org is not used: its policy p is “perhaps”."],
            ),
            (
                ZONE + '_dmarc TXT "v=DMARC1; p=none"\n',
                "192.0.2.25",
                ["The DMARC record at _dmarc.kiln.org is not used: there is more than one record, so receivers use none."],
            ),
        ],
    )
    def test_what_is_told(self, zone: str, host: str, told: list[str]) -> None:
        """Alignment, no record, a faulty one, two of them."""
        assert found("sending.dmarc", papers(zone, host=host)) == told

    def test_bimi_where_dmarc_is_enforced(self) -> None:
        """A record, none, and one whose picture does not load."""
        assert found("sending.bimi", papers()) == []
        assert found("sending.bimi", papers(ZONE.replace("default._bimi", "other._bimi"))) == ["kiln.org has no BIMI record."]
        lost = papers_of(mail(), Zone.read(ZONE), loads=lambda address: f"its picture does not load: {address[-8:]} is gone")
        assert found("sending.bimi", lost) == ["The BIMI record of kiln.org: its picture does not load: mark.svg is gone."]
        weak = ZONE.replace("p=reject", "p=none").replace("default._bimi", "other._bimi")
        assert found("sending.bimi", papers(weak)) == []


class TestTheMark:
    """The picture that a BIMI record names."""

    def test_it_is_really_asked_for(self, tmp_path: Path) -> None:
        """Of the practice field's web: there, not there, and nobody listening."""
        with RunningPractice(tmp_path / "practice", pace=0.05) as directory:

            def fetcher() -> Fetcher:
                return Fetcher(Policy(frozenset({DOMAIN})), directory.resolver(), authorities=directory.authorities)

            loads = loading(fetcher)
            assert loads(f"https://pictures.{DOMAIN}/shelf.png") == ""
            assert loads(f"https://answers.{DOMAIN}/404") == "its picture does not load: status 404"
            assert loads(f"https://nowhere.{DOMAIN}/mark.svg").startswith("its picture does not load: ")


class TestZones:
    """Name records in a file."""

    def test_master_file_format(self) -> None:
        """RFC 1035 §5: origins, relative names, strings in pieces, comments, brackets, aliases."""
        zone = Zone.read(
            '$ORIGIN kiln.org.\n@ 300 IN TXT ( "v=spf1 "\n "-all" ) ; a comment\nwww CNAME shop\nshop A 192.0.2.1\nmx MX 10 mail.kiln.org.\n'
        )
        assert zone.records("kiln.org", "TXT").values == (b"v=spf1 -all",)
        assert zone.records("www.kiln.org", "A").values == ("192.0.2.1",)
        assert zone.records("mx.kiln.org", "MX").values == ((10, "mail.kiln.org"),)
        assert not zone.records("nobody.kiln.org", "A").exists

    @pytest.mark.parametrize(
        ("text", "said"),
        [
            ('kiln.org. TXT "ok"\nkiln.org. A 300.1.1.1\n', "line [23]"),
            ("x y z\n", "line 1"),
            ("$INCLUDE /etc/passwd\n", "line 1"),
            ("a" * 2_000_001, "longer than"),
        ],
    )
    def test_no_zone(self, text: str, said: str) -> None:
        """The line is named; nothing else is read into it."""
        with pytest.raises(UnusableZone, match=said):
            Zone.read(text)

    def test_aliases_in_a_circle_end(self) -> None:
        """Ten steps, and no records."""
        assert Zone.read("a.kiln.org. CNAME b.kiln.org.\nb.kiln.org. CNAME a.kiln.org.\n").records("a.kiln.org", "A").values == ()

    def test_the_practice_field_answers_for_its_own(self) -> None:
        """And everything else goes to the other resolver."""
        field = practice(Zone.read("kiln.org. A 192.0.2.7\n"), ["saltmarsh-kiln.example"])
        assert field.records("kiln.org", "A").values == ("192.0.2.7",)
        assert field.records("saltmarsh-kiln.example", "MX").values == ((10, "mail.saltmarsh-kiln.example"),)
        clean = read_bytes(RAW.replace(b"kiln.org>", b"saltmarsh-kiln.example>", 1), "x.eml")
        result = papers_of(clean, practice_zone(), Signing("saltmarsh-kiln.example", "spring", "192.0.2.25"))
        assert result.dmarc is not None
        assert result.dmarc.aligned == ("SPF", "DKIM")

    def test_a_question_is_asked_once_and_not_without_end(self) -> None:
        """The same name gives the same answer; after two hundred names nobody is asked any more."""
        asked = NotingResolver(Zone.read("kiln.org. A 192.0.2.7\n"))
        for _ in range(3):
            asked.records("KILN.org.", "A")
        assert len(asked.lookups) == 1
        with pytest.raises(NoAnswer, match="more than"):
            for number in range(MOST_LOOKUPS + 1):
                asked.records(f"n{number}.kiln.org", "A")

    def test_dns_says_when_nobody_answers(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """A name that does not exist is an answer; a server that is silent is none."""
        dns = Dns()
        dns._resolver.nameservers = ["127.0.0.1"]

        def gone(*_: object, **__: object) -> None:
            raise NXDOMAIN

        monkeypatch.setattr(dns._resolver, "resolve", gone)
        assert not dns.records("nobody.kiln.org", "TXT").exists

        def silent(*_: object, **__: object) -> None:
            raise dns_resolver.LifetimeTimeout(timeout=5, errors=[])

        monkeypatch.setattr(dns._resolver, "resolve", silent)
        with pytest.raises(NoAnswer, match="nobody answers"):
            dns.records("kiln.org", "TXT")
        result = papers_of(mail(), dns, Signing(host="192.0.2.25"))
        assert result.spf is not None
        assert result.spf.result == "temperror"
        assert found("sending.spf", result) == found("sending.dmarc", result) == []
