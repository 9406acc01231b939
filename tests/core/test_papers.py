"""The sender's papers as values: whose domain it is, what was sent already, and records that one could publish."""

from __future__ import annotations

from typing import Any

import pytest

from jetwind.core.message import Envelope, read_bytes
from jetwind.core.papers import Bimi, Dkim, Dmarc, Lookup, Papers, Spf, is_as_sent, sender_domain
from jetwind.core.papers.records import dkim_to_publish, dmarc_to_publish, spf_to_publish
from tests.factories import GOOD_HTML, mail

LOOKUP = Lookup("kiln.org", "TXT", answer=("v=spf1 -all",), failed="", took_ms=1.5, depth=0, count=1)
WHOLE = Papers(
    "kiln.org",
    "zone file",
    spf=Spf("kiln.org", "192.0.2.25", result="pass", record="v=spf1 -all", why="", counted=1, identity="return path", lookups=(LOOKUP,)),
    dkim=(
        Dkim(
            "kiln.org",
            "spring",
            result="pass",
            why="",
            algorithm="rsa-sha256",
            bits=2048,
            covers=("from", "subject"),
            number=0,
            lookups=(LOOKUP,),
        ),
    ),
    dmarc=Dmarc(
        "kiln.org",
        "kiln.org",
        found_at="_dmarc.kiln.org",
        record="v=DMARC1; p=none",
        policy="none",
        share=100,
        why="",
        failed=False,
        aligned=("SPF", "DKIM"),
        lookups=(LOOKUP,),
    ),
    bimi=Bimi("kiln.org", "v=BIMI1; l=", picture="", why="it names no picture", failed=False, lookups=(LOOKUP,)),
    is_planned=True,
)


class TestPapers:
    """Into a database and back."""

    @pytest.mark.parametrize("papers", [WHOLE, Papers("", "DNS"), Papers("kiln.org", "DNS", WHOLE.spf)])
    def test_kept_and_read_back(self, papers: Papers) -> None:
        """Every value, whole or not."""
        import json

        assert Papers.from_json(json.loads(json.dumps(papers.as_json()))) == papers

    def test_the_time_it_took_plays_no_part(self) -> None:
        """Records that say the same keep the answers that rest on them."""
        from dataclasses import replace

        assert WHOLE.spf is not None
        slower = replace(WHOLE, spf=replace(WHOLE.spf, lookups=(replace(LOOKUP, took_ms=912.25),)))
        other = replace(WHOLE, spf=replace(WHOLE.spf, result="fail"))
        assert slower.key == WHOLE.key != other.key


class TestSender:
    """Whose papers are asked for, and when a mail counts as sent."""

    @pytest.mark.parametrize(
        ("sender", "domain"),
        [
            ("Kiln <a@Mail.Kiln.ORG.>", "mail.kiln.org"),
            ("a@kiln.org, b@elsewhere.net", "kiln.org"),
            ("{{ sender }} <{{ address }}>", ""),
            ("Kiln <a@{{ domain }}>", ""),
            ("nobody", ""),
        ],
    )
    def test_the_domain_of_from(self, sender: str, domain: str) -> None:
        """The first mailbox that is known; none where a field stands in it."""
        assert sender_domain(read_bytes(mail(From=sender) if sender != "nobody" else mail(without=("From",)), "a.eml")) == domain

    def test_html_with_an_envelope(self) -> None:
        """The address that a person gave counts."""
        message = read_bytes(GOOD_HTML.encode(), "a.html", envelope=Envelope("x", "Kiln", "a@kiln.org"))
        assert sender_domain(message) == "kiln.org"
        assert not is_as_sent(message)

    @pytest.mark.parametrize(
        ("headers", "sent"),
        [
            ({}, False),
            ({"Message_ID": "<a@kiln.org>"}, False),
            ({"Message_ID": "<a@kiln.org>", "Date": "Tue, 09 Mar 2027 09:00:00 +0000"}, True),
            ({"Received": "from a by b; Tue, 09 Mar 2027 09:00:00 +0000"}, True),
            ({"Return_Path": "<b@kiln.org>"}, True),
            ({"DKIM_Signature": "v=1; d=kiln.org"}, True),
        ],
    )
    def test_sent_or_a_template(self, headers: dict[str, Any], sent: bool) -> None:
        """By what a mail gets on its way, or from the program that sends it."""
        assert is_as_sent(read_bytes(mail(**headers), "a.eml")) is sent


class TestToPublish:
    """Records as text."""

    @pytest.mark.parametrize(
        ("record", "host", "published"),
        [
            ("", "192.0.2.9", "v=spf1 ip4:192.0.2.9 -all"),
            ("", "2001:db8::9", "v=spf1 ip6:2001:db8::9 -all"),
            ("v=spf1 include:out.kiln.org ~all", "192.0.2.9", "v=spf1 ip4:192.0.2.9 include:out.kiln.org ~all"),
            ("v=spf1 -all", "", "v=spf1 -all"),
            ("", "", "v=spf1 ip4:<address of the sending host> -all"),
        ],
    )
    def test_spf(self, record: str, host: str, published: str) -> None:
        """The host put in before anything else, or a first record."""
        assert spf_to_publish(Spf("kiln.org", host, "fail", record)) == published

    def test_dmarc_and_the_key(self) -> None:
        """A first record that lets everything through and asks for reports; where the key belongs."""
        assert dmarc_to_publish(Dmarc("news.kiln.org", "kiln.org")) == "v=DMARC1; p=none; rua=mailto:dmarc@kiln.org"
        assert (
            dkim_to_publish(Dkim("kiln.org", "sp ring<", "fail"))
            == "Publish as TXT at spring._domainkey.kiln.org: v=DKIM1; k=rsa; p=<public key in base64>"
        )
        assert "k=ed25519" in dkim_to_publish(Dkim("kiln.org", "spring", "fail", algorithm="ed25519-sha256"))
