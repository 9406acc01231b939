"""The way that a mail took, and the receiver's word on its papers."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from jetwind.core.arrivals import hops_of, late_hop, verdicts_of
from jetwind.core.arrivals.results import Verdict, Verdicts, read_results
from jetwind.core.message import Message, read_bytes


def with_headers(*lines: str) -> Message:
    """A mail with these header fields."""
    return read_bytes("\r\n".join([*lines, "Subject: x", "", "x", ""]).encode(), "a.eml")


#: The examples of RFC 8601, appendix B.2 to B.7 (from memory): the body of the field, and what it says.
EXAMPLES = [
    ("example.org 1; none", Verdicts("example.org", ())),
    (
        "example.com;\r\n spf=pass smtp.mailfrom=example.net",
        Verdicts("example.com", (Verdict("spf", "pass", "", (("smtp.mailfrom", "example.net"),)),)),
    ),
    (
        "example.com;\r\n auth=pass (cram-md5) smtp.auth=sender@example.net;\r\n spf=pass smtp.mailfrom=example.net",
        Verdicts(
            "example.com",
            (
                Verdict("auth", "pass", "", (("smtp.auth", "sender@example.net"),)),
                Verdict("spf", "pass", "", (("smtp.mailfrom", "example.net"),)),
            ),
        ),
    ),
    (
        "example.com; iprev=pass\r\n policy.iprev=192.0.2.200",
        Verdicts("example.com", (Verdict("iprev", "pass", "", (("policy.iprev", "192.0.2.200"),)),)),
    ),
    (
        "example.com;\r\n dkim=pass (good signature) header.d=example.com",
        Verdicts("example.com", (Verdict("dkim", "pass", "", (("header.d", "example.com"),)),)),
    ),
    (
        'example.com;\r\n dkim=pass reason="good signature"\r\n header.i=@mail-router.example.net;\r\n dkim=fail reason="bad signature"\r\n header.i=@newyork.example.com',
        Verdicts(
            "example.com",
            (
                Verdict("dkim", "pass", "good signature", (("header.i", "@mail-router.example.net"),)),
                Verdict("dkim", "fail", "bad signature", (("header.i", "@newyork.example.com"),)),
            ),
        ),
    ),
    (
        "foo.example.net (foobar) 1 (baz);\r\n dkim (Because I like it) / 1 (One yay) = (wait for it) fail\r\n"
        " policy (A dot can go here) . (like that) expired\r\n (this surprised me) = (as I wasn't expecting it) 1362471462",
        Verdicts("foo.example.net", (Verdict("dkim", "fail", "", (("policy.expired", "1362471462"),)),)),
    ),
]


class TestResults:
    """Authentication-Results (RFC 8601)."""

    @pytest.mark.parametrize(("field", "said"), EXAMPLES)
    def test_examples(self, field: str, said: Verdicts) -> None:
        """Those of the standard."""
        assert read_results(field) == said

    @pytest.mark.parametrize(
        ("field", "fails"),
        [
            ("a.org; spf=fail; dkim=fail", True),
            ("a.org; spf=fail; dkim=fail; dkim=pass", False),
            ("a.org; spf=fail; dkim=none", False),
            ("a.org; spf=pass; dkim=fail", False),
            ("a.org; spf=softfail; dkim=fail", False),
            ("a.org; dmarc=fail (p=none) header.from=kiln.org; spf=pass; dkim=pass", True),
            ("a.org; dmarc=pass; spf=fail; dkim=pass", False),
            ("a.org; none", False),
        ],
    )
    def test_what_fails(self, field: str, fails: bool) -> None:
        """SPF and every signature, or DMARC."""
        found = read_results(field)
        assert found is not None and found.fails is fails

    def test_the_topmost_counts(self) -> None:
        """Those below may have been written by anybody."""
        found = verdicts_of(
            with_headers("Authentication-Results: mx.a.org; spf=fail; dkim=fail", "Authentication-Results: forged.org; spf=pass")
        )
        assert found is not None and (found.receiver, found.fails) == ("mx.a.org", True)
        assert verdicts_of(with_headers("X-A: b")) is None

    @pytest.mark.parametrize(
        "field",
        ["", ";", "= x", "(", "((((" * 500, "a.org; spf", "a.org; =pass", 'a.org; spf="unclosed', "a.org;" * 5_000, "a.org; x/y/z=1"],
    )
    def test_nonsense(self, field: str) -> None:
        """Read as far as it can be."""
        read_results(field)


MAIL = (
    "Received: from relay.guard.example (relay.guard.example [192.0.2.7]) by mx.saltmarsh.example (Postfix) with ESMTPS id 7F; Tue, 1 Dec 2026 09:20:05 +0000 (UTC)",
    "Received: from [198.51.100.4] (helo=desk) by relay.guard.example with esmtpsa (TLS1.3) (Exim 4.96); Tue, 1 Dec 2026 10:00:02 +0100",
)


class TestWay:
    """Received (RFC 5321 §4.4)."""

    def test_hops(self) -> None:
        """The first server first; times in any zone; comments are no names."""
        first, second = hops_of(with_headers(*MAIL))
        assert (first.sender, first.receiver, first.protocol, first.delay) == ("[198.51.100.4]", "relay.guard.example", "esmtpsa", None)
        assert (second.sender, second.receiver, second.protocol, second.delay) == (
            "relay.guard.example",
            "mx.saltmarsh.example",
            "ESMTPS",
            1203.0,
        )

    def test_the_slow_hop(self) -> None:
        """It is named, with the whole way."""
        late = late_hop(hops_of(with_headers(*MAIL)), datetime(2026, 12, 1, 9, 0, tzinfo=UTC), datetime(2026, 12, 1, 9, 20, 6, tzinfo=UTC))
        assert late is not None
        assert (late.receiver, late.seconds, late.total) == ("mx.saltmarsh.example", 1203.0, 1206.0)

    def test_a_clock_that_is_behind(self) -> None:
        """Time that seems to run back makes no hop slow."""
        behind = "Received: by mx.saltmarsh.example; Tue, 1 Dec 2026 08:55:00 +0000"
        hops = hops_of(with_headers(behind, MAIL[1]))
        assert hops[1].delay == -302.0
        late = late_hop(hops, datetime(2026, 12, 1, 9, 0, tzinfo=UTC), datetime(2026, 12, 1, 9, 0, 4, tzinfo=UTC))
        assert late is not None and late.total == 4.0

    @pytest.mark.parametrize(
        "line",
        [
            "Received: ;",
            "Received: from",
            "Received: by a; never",
            "Received: " + "(" * 3_000,
            "Received: by a; Tue, 99 Dec 99999 99:99:99",
        ],
    )
    def test_nonsense(self, line: str) -> None:
        """A hop without a time."""
        (hop,) = hops_of(with_headers(line))
        assert hop.at is None
        assert late_hop((hop,), None, None) is None
