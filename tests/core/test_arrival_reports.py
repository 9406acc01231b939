"""What machines write about a copy: bounces, complaints and answers by themselves, against the examples of their RFCs."""

from __future__ import annotations

import email
from email.message import EmailMessage

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from jetwind.core.arrivals import Report, report_in, said_of, status_in
from jetwind.core.facts import table
from jetwind.core.facts.tables import StatusCodes

#: The form of RFC 3464 appendix E (a host that did not answer for five days), from memory, with names of the invented world.
BOUNCE = b"""\
Date: Thu, 7 Jul 1994 17:16:05 -0400
From: Mail Delivery Subsystem <MAILER-DAEMON@cs.harbour.example>
Message-Id: <199407072116.RAA14128@cs.harbour.example>
Subject: Returned mail: Cannot send message for 5 days
To: <owner-info-mime@cs.harbour.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
      boundary="RAA14128.773615765/CS.HARBOUR.EXAMPLE"

--RAA14128.773615765/CS.HARBOUR.EXAMPLE

The original message was received at Sat, 2 Jul 1994 17:10:28 -0400
from root@localhost

   ----- The following addresses had delivery problems -----
<louisl@larry.slip.example>  (unrecoverable error)

--RAA14128.773615765/CS.HARBOUR.EXAMPLE
content-type: message/delivery-status

Reporting-MTA: dns; cs.harbour.example

Original-Recipient: rfc822;louisl@larry.slip.example
Final-Recipient: rfc822;louisl@larry.slip.example
Action: failed
Status: 4.0.0
Diagnostic-Code: smtp; 426 connection timed out
Last-Attempt-Date: Thu, 7 Jul 1994 17:15:49 -0400

--RAA14128.773615765/CS.HARBOUR.EXAMPLE
content-type: message/rfc822

Message-ID: <7.1@test.jetwind.invalid>
Subject: The kiln is warm

Message-ID: <not-this@one.example>
--RAA14128.773615765/CS.HARBOUR.EXAMPLE--
"""
#: The form of RFC 5965 appendix B.1, from memory.
COMPLAINT = b"""\
From: <abusedesk@example.com>
Date: Thu, 8 Mar 2005 17:40:36 EDT
Subject: FW: Earn money
To: <abuse@example.net>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report;
     boundary="part1_13d.2e68ed54_boundary"

--part1_13d.2e68ed54_boundary
Content-Type: text/plain; charset="US-ASCII"
Content-Transfer-Encoding: 7bit

This is an email abuse report for an email message received from IP
192.0.2.1 on Thu, 8 Mar 2005 14:00:00 EDT.

--part1_13d.2e68ed54_boundary
Content-Type: message/feedback-report

Feedback-Type: abuse
User-Agent: SomeGenerator/1.0
Version: 1

--part1_13d.2e68ed54_boundary
Content-Type: message/rfc822
Content-Disposition: inline

Received: from mailserver.example.net
     (mailserver.example.net [192.0.2.1])
     by example.com with ESMTP id M63d4137594e46;
     Thu, 08 Mar 2005 14:00:00 -0400
From: <somespammer@example.net>
To: <Undisclosed Recipients>
Subject: Earn money
MIME-Version: 1.0
Content-type: text/plain
Message-ID: <8787KJKJ3K4J3K4J3K4J3.mail@example.net>
Date: Thu, 02 Sep 2004 12:31:03 -0500

Spam Spam Spam
--part1_13d.2e68ed54_boundary--
"""
AWAY = b"""\
From: rosa@kiln.org
To: test@saltmarsh-kiln.example
Subject: =?utf-8?q?Away=3A?= The kiln is warm
Auto-Submitted: auto-replied (vacation)
In-Reply-To: <7.1@test.jetwind.invalid>
References: <0@first.example> <7.1@test.jetwind.invalid>

I am at the sea until Monday.
"""


def _with(raw: bytes, before: bytes, after: bytes) -> bytes:
    assert before in raw
    return raw.replace(before, after)


class TestReports:
    """Each kind, and what is none."""

    def test_a_bounce(self) -> None:
        """RFC 3464: the status, the words of the server, and the mail that came back by the header of the returned one."""
        assert report_in(BOUNCE) == Report("bounced", ("<7.1@test.jetwind.invalid>",), "4.0.0", "426 connection timed out")
        assert report_in(BOUNCE.replace(b"\n", b"\r\n")) == report_in(BOUNCE)

    def test_the_header_alone_is_returned(self) -> None:
        """RFC 3462 §2 lets a server return the header as text/rfc822-headers."""
        found = report_in(_with(BOUNCE, b"content-type: message/rfc822", b"content-type: text/rfc822-headers"))
        assert found is not None
        assert found.message_ids == ("<7.1@test.jetwind.invalid>",)

    @pytest.mark.parametrize(("action", "kind"), [(b"delayed", "delayed"), (b"delivered", None), (b"relayed", None), (b"expanded", None)])
    def test_what_became_of_it(self, action: bytes, kind: str | None) -> None:
        """RFC 3464 §2.3.3: only a failure and a delay are told."""
        found = report_in(_with(BOUNCE, b"Action: failed", b"Action: " + action))
        assert (found.kind if found else None) == kind

    def test_the_worst_of_several_recipients(self) -> None:
        """One failed among those that were delivered."""
        several = _with(
            BOUNCE, b"Action: failed", b"Action: delivered\nStatus: 2.0.0\n\nFinal-Recipient: rfc822;bo@kiln.example\nAction: Failed"
        )
        found = report_in(several)
        assert found is not None
        assert (found.kind, found.status) == ("bounced", "4.0.0")

    def test_the_code_in_the_words_of_the_server(self) -> None:
        """A server that gives the status in the reply alone."""
        bare = _with(
            _with(BOUNCE, b"Status: 4.0.0\n", b""), b"smtp; 426 connection timed out", b"smtp; 550 5.1.1 <a@b.example> no such user"
        )
        found = report_in(bare)
        assert found is not None
        assert (found.status, found.reason) == ("5.1.1", "there is no such mailbox")

    def test_a_complaint(self) -> None:
        """RFC 5965, appendix B.1."""
        found = report_in(COMPLAINT)
        assert found is not None
        assert (found.kind, found.message_ids) == ("complained", ("<8787KJKJ3K4J3K4J3K4J3.mail@example.net>",))

    @pytest.mark.parametrize("kind", [b"not-spam", b"auth-failure"])
    def test_no_objection(self, kind: bytes) -> None:
        """RFC 6430: the reader says that the mail is wanted. RFC 6591: a report on papers."""
        assert report_in(_with(COMPLAINT, b"Feedback-Type: abuse", b"Feedback-Type: " + kind)) is None

    def test_an_answer_by_a_machine(self) -> None:
        """RFC 3834 §5: Auto-Submitted, and the mail that is answered."""
        assert report_in(AWAY) == Report(
            "answered", ("<7.1@test.jetwind.invalid>", "<0@first.example>"), words="Away: The kiln is warm: I am at the sea until Monday."
        )

    @pytest.mark.parametrize("value", [b"no", b"auto-generated", b""])
    def test_no_answer(self, value: bytes) -> None:
        """Mail of a person, and mail that a machine writes of its own accord, as test copies may be (RFC 3834 §5.1)."""
        assert report_in(_with(AWAY, b"auto-replied (vacation)", value)) is None

    def test_a_template_that_speaks_of_bounces(self) -> None:
        """Words alone make no report."""
        assert report_in(_with(AWAY, b"Auto-Submitted: auto-replied (vacation)\n", b"X-Note: Action: failed\n")) is None

    def test_the_standard_library_reads_the_same(self) -> None:
        """Second reader: Python's own reader of message/delivery-status."""
        read = email.message_from_bytes(BOUNCE)
        groups = read.get_payload(1).get_payload()  # type: ignore[union-attr]
        found = report_in(BOUNCE)
        assert found is not None
        assert found.status == groups[1]["Status"]  # type: ignore[index]

    def test_written_by_the_standard_library(self) -> None:
        """A report that a general library writes, with its parts in base64."""
        written = EmailMessage()
        written["From"], written["To"], written["Subject"] = "daemon@kiln.example", "test@kiln.example", "Undelivered"
        written.set_content("It did not arrive.")
        written.add_attachment(
            b"Reporting-MTA: dns; kiln.example\n\nFinal-Recipient: rfc822; bo@kiln.example\nAction: failed\nStatus: 5.2.2\n",
            maintype="message", subtype="global-delivery-status", cte="base64",
        )  # fmt: skip
        written.add_attachment(b"Message-ID: <7.1@test.jetwind.invalid>\n", maintype="text", subtype="rfc822-headers")
        written.replace_header("Content-Type", "multipart/report")
        found = report_in(written.as_bytes())
        assert found is not None
        assert (found.kind, found.reason, found.message_ids) == ("bounced", "the mailbox is full", ("<7.1@test.jetwind.invalid>",))


class TestStatus:
    """RFC 3463."""

    def test_every_subject_and_its_details(self) -> None:
        """§3: seven subjects, with as many details as the section has; numbers of the section from memory."""
        words = table("status_codes", StatusCodes)["words"]
        counts = {subject: sum(code.startswith(f"{subject}.") for code in words) for subject in range(1, 8)}
        assert counts == {1: 9, 2: 5, 3: 6, 4: 8, 5: 6, 6: 6, 7: 8}

    @pytest.mark.parametrize(
        ("reply", "status"),
        [
            ("550 5.1.1 No such box here", "5.1.1"),
            ("452-4.2.2 full", "4.2.2"),
            ("5.7.26", "5.7.26"),
            ("550 No such box", ""),
            ("250 at 5.1.1.2", ""),
            ("5.1.1.2 is a machine", ""),
            ("3.1.1", ""),
            ("", ""),
        ],
    )
    def test_the_code_of_a_reply(self, reply: str, status: str) -> None:
        """Where the reply begins, and no number elsewhere."""
        assert status_in(reply) == status

    def test_a_detail_that_nobody_knows(self) -> None:
        """The subject speaks for it (§2: other or undefined)."""
        assert said_of("5.7.26") == "a rule of the receiver forbids it"
        assert said_of("5.9.1") == ""


@given(some.binary(max_size=400), some.sampled_from([BOUNCE, COMPLAINT, AWAY]), some.integers(0, 2_000))
@settings(max_examples=200)
def test_nothing_raises(junk: bytes, raw: bytes, at: int) -> None:
    """Whatever stands in a mail, it is a report or none, within its limits."""
    found = report_in(raw[:at] + junk + raw[at:])
    assert found is None or (len(found.words) <= 300 and len(found.message_ids) <= 40)


def test_no_control_characters() -> None:
    """A database takes no NUL, and a page no other control character: they are in no identity and in no words."""
    found = report_in(_with(AWAY, b"In-Reply-To: <7.1@", b"In-Reply-To: <\x007@a> <7\x1b.1@a> <7.1@").replace(b"I am", b"I\x00 \x1bam"))
    assert found is not None
    assert found.message_ids == ("<7.1@test.jetwind.invalid>", "<0@first.example>")
    assert found.words.isprintable()


def test_hostile_reports_are_bounded() -> None:
    """Many groups, nested parts, many identities and a long field: read within the limits, and told as far as they go."""
    groups = b"Action: delivered\n\n" * 9_000
    assert report_in(_with(BOUNCE, b"Action: failed", groups + b"Action: failed")) is None
    nested = b"".join(b'Content-Type: multipart/report; boundary="%d"\n\n--%d\n' % (n, n) for n in range(4_000))
    assert report_in(nested) is None
    many = _with(AWAY, b"References: ", b"References: " + b"<a@b> " * 9_000)
    found = report_in(many)
    assert found is not None
    assert len(found.message_ids) <= 20
