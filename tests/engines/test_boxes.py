"""Practice mailboxes over real SMTP: each does what it says, and what it changes is told by its kind."""

from __future__ import annotations

import asyncio
import base64
import email
import hashlib
import re
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from jetwind.core.arrivals import Journey, report_in, verdicts_of
from jetwind.core.arrivals.composing import compose
from jetwind.core.message import read_bytes
from jetwind.engines.bounded import judged_bounded
from jetwind.engines.mail import BOXES, Delivery, HandoverOutcome, Mailroom, MailServer, hand_over, mailroom
from jetwind.engines.mail.boxes import REPORT_SECONDS, written_about
from jetwind.engines.mail.receiving import results_of
from jetwind.engines.names import MOST_SIGNED, practice_zone, signed
from tests.factories import GOOD_HTML, GOOD_TEXT, mail, picture

HTML = GOOD_HTML.replace("</head>", "<style>p{margin:0}</style></head>").replace("</h1>", " £24</h1><img src='cid:pot.png' alt='A pot'>")


def copy_for(address: str) -> bytes:
    """A copy as a test send composes it."""
    message = read_bytes(mail(HTML, GOOD_TEXT + "\n£24\n", images={"pot.png": picture()}, Reply_To="hello@kiln.org"), "a.eml")
    raw = compose(
        message,
        values={"first_name": "Tove"},
        to=address,
        sender_address="test@saltmarsh-kiln.example",
        subject_mark="[Test r1]",
        message_id="<1.1@test.jetwind.invalid>",
        date=datetime.now(UTC),
    )
    return signed(raw, "test@saltmarsh-kiln.example")


@contextmanager
def room(kept: list[Delivery]) -> Iterator[MailServer]:
    """A Mailroom in a thread of its own."""
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    made = Mailroom(kept.append)
    asyncio.run_coroutine_threadsafe(made.start(), loop).result(10)
    try:
        yield MailServer(made.host, made.port)
    finally:
        asyncio.run_coroutine_threadsafe(made.stop(), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


def sent(server: MailServer, name: str) -> tuple[HandoverOutcome, str, bytes]:
    """Hand a copy over to a box: the outcome, the answer, and the copy."""
    content = copy_for(BOXES[name].address)
    done = hand_over(server, "test@saltmarsh-kiln.example", BOXES[name].address, content)
    return done.outcome, done.answer, content


#: What each box changes; with the signatures of the copy verified on both sides.
CHANGES = {
    "accepts": [],
    "encodes-anew": [],
    "rewrites-links": ["link-rewritten"],
    "blocks-links": ["link-rewritten"],
    "breaks-signature": ["signature-broken"],
    "adds-footer": ["added-content"],
    "adds-pixel": ["added-content"],
    "strips-headers": ["header-lost"],
    "drops-html": ["part-lost"],
    "drops-styles": ["style-lost"],
    "loses-letters": ["text-changed"],
}


@pytest.mark.parametrize("name", CHANGES)
def test_a_box_that_takes_a_mail(name: str) -> None:
    """What it keeps differs from the copy as it says, and in nothing else; the Mailroom says above it that it took it (RFC 5321 §4.4)."""
    kept: list[Delivery] = []
    with room(kept) as server:
        outcome, _, copy = sent(server, name)
    assert outcome is HandoverOutcome.TAKEN
    (delivery,) = kept
    assert delivery.content.startswith(b"Received: from ")
    found = judged_bounded(copy, delivery.content, Journey(), practice_zone(), start="fork").differences
    assert list(dict.fromkeys(one.kind for one in found)) == CHANGES[name], [one.sentence for one in found]
    # The server says of the signature what it saw: most boxes change a mail after that.
    verdicts = verdicts_of(read_bytes(delivery.content, "arrival.eml"))
    assert verdicts is not None and verdicts.receiver == "mailroom.jetwind.invalid"
    (verdict,) = verdicts.of("dkim")
    assert (verdict.result, verdict.value_of("header.d")) == ("fail" if name == "breaks-signature" else "pass", "saltmarsh-kiln.example")


@pytest.mark.parametrize(
    ("name", "outcome", "code"),
    [
        ("refuses", HandoverOutcome.REFUSED, "550 5.1.1"),
        ("is-full", HandoverOutcome.REFUSED, "552 5.2.2"),
        ("puts-off", HandoverOutcome.PUT_OFF, "451 4.7.1"),
        ("drops-connection", HandoverOutcome.UNSURE, ""),
    ],
)
def test_a_box_that_does_not(name: str, outcome: HandoverOutcome, code: str) -> None:
    """Its answer in SMTP, and nothing is kept."""
    kept: list[Delivery] = []
    with room(kept) as server:
        done, answer, _ = sent(server, name)
    assert (done, kept) == (outcome, [])
    assert code in answer


def test_put_off_twice() -> None:
    """The third try is taken."""
    kept: list[Delivery] = []
    with room(kept) as server:
        assert [sent(server, "puts-off")[0] for _ in range(3)] == [HandoverOutcome.PUT_OFF, HandoverOutcome.PUT_OFF, HandoverOutcome.TAKEN]
    assert len(kept) == 1


def test_doubled_and_late(monkeypatch: pytest.MonkeyPatch) -> None:
    """One keeps a mail twice; the other has it later, and not at all where the Mailroom ends before."""
    kept: list[Delivery] = []
    with room(kept) as server:
        sent(server, "doubles")
        assert len(kept) == 2
        sent(server, "is-late")
        assert len(kept) == 2
        monkeypatch.setattr(mailroom, "LATE_SECONDS", 0.0)
        sent(server, "is-late")
        for _ in range(100):
            if len(kept) == 3:
                break
            threading.Event().wait(0.05)
    assert len(kept) == 3


@pytest.mark.parametrize(
    ("name", "kind", "keeps"), [("bounces-later", "bounced", 0), ("complains", "complained", 1), ("answers-by-itself", "answered", 1)]
)
def test_a_box_that_writes_about_a_mail(name: str, kind: str, keeps: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """It comes to the envelope sender, without an envelope sender of its own, and names the mail."""
    monkeypatch.setitem(REPORT_SECONDS, name, 0.0)
    kept: list[Delivery] = []
    with room(kept) as server:
        sent(server, name)
        for _ in range(100):
            if len(kept) > keeps:
                break
            threading.Event().wait(0.05)
    (written,) = [one for one in kept if one.recipients == ("test@saltmarsh-kiln.example",)]
    assert written.sender == ""
    report = report_in(written.content)
    assert report is not None
    assert (report.kind, report.message_ids[0]) == (kind, "<1.1@test.jetwind.invalid>")
    assert len(kept) == keeps + 1


def test_nobody_answers_a_mail_without_sender() -> None:
    """RFC 5321 §4.5.5: machines would answer each other for ever; and a box that only takes mail writes none."""
    assert written_about(BOXES["bounces-later"], b"Subject: a\n\nb", "") is None
    assert written_about(BOXES["accepts"], b"Subject: a\n\nb", "a@b.example") is None


@pytest.mark.parametrize("raw", [b"", b"\xff" * 500, b"Subject: =?x?q?" + b"a" * 5_000, b"\0\n\n", b"Message-ID: a\n b\rBcc: c\n\n"])
def test_reports_of_broken_mail(raw: bytes) -> None:
    """A report, or none; never an exception, and no header of the mail's own making."""
    for box in BOXES.values():
        written = written_about(box, raw, "a@b.example")
        assert written is None or email.message_from_bytes(written)["Bcc"] is None


def test_signed_by_the_published_key() -> None:
    """A signature is read here without the library that made it: RFC 6376 §3.4.2, §3.4.4, §3.7 by hand, Ed25519 by ``cryptography``."""
    content = signed(b"From: a@saltmarsh-kiln.example\r\nSubject:  Two \r\n\tpots\r\n\r\nOne  pot \r\n\r\n", "a@saltmarsh-kiln.example")
    field, _, rest = content.partition(b"\r\nFrom:")
    tags = dict(part.strip().split("=", 1) for part in re.sub(r"\s+", "", field.decode().partition(":")[2]).split(";") if part.strip())
    assert (tags["a"], tags["c"], tags["d"], tags["s"]) == ("ed25519-sha256", "relaxed/relaxed", "saltmarsh-kiln.example", "spring")
    assert base64.b64decode(tags["bh"]) == hashlib.sha256(b"One pot\r\n").digest()
    unsigned = re.sub(r"([;\s]b=)[^;]*", r"\1", field.decode().partition(":")[2])
    written = {"from": "from:a@saltmarsh-kiln.example", "subject": "subject:Two pots"}
    lines = [written[name] for name in tags["h"].split(":")] + ["dkim-signature:" + " ".join(unsigned.split())]
    key = Ed25519PublicKey.from_public_bytes(base64.b64decode("11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="))
    key.verify(base64.b64decode(tags["b"]), hashlib.sha256("\r\n".join(lines).encode()).digest())
    assert set(tags["h"].split(":")) == {"from", "subject"} and rest


def test_nobody_else_is_signed_for() -> None:
    """Another house's copies go as they were, and so does a copy that cannot be signed."""
    for raw, sender in (
        (mail(), "a@kiln.org"),
        (b"", "a@saltmarsh-kiln.example"),
        (b"Subject: a\r\n\r\nb", "a@saltmarsh-kiln.example"),
        (b"From: a@b.c\r\n\r\n" + b"x" * MOST_SIGNED, "a@saltmarsh-kiln.example"),
    ):
        assert signed(raw, sender) == raw
    assert results_of(mail(), "mx.kiln.org") == b"Authentication-Results: mx.kiln.org; dkim=none\r\n"


@pytest.mark.parametrize(
    "raw",
    [
        b"",
        b"DKIM-Signature: v=1; a=rsa-sha256; d=a\r\n b; s=x; h=from; bh=x; b=x\r\n\r\nb",
        b"DKIM-Signature: d=\xff\x00;" + b"x" * 20_000 + b"\r\n\r\nb",
        b"DKIM-Signature: d=x.org; s=spring\r\n" * 40 + b"\r\nb",
    ],
)
def test_results_of_broken_mail(raw: bytes) -> None:
    """One field, of printable ASCII alone, whatever a mail holds (RFC 5322 §2.2)."""
    field = results_of(raw, "mx.kiln.org")
    assert re.fullmatch(rb"Authentication-Results: mx\.kiln\.org; [ -~]+(\r\n [ -~]+){0,9}\r\n", field)


def test_every_box_says_what_it_does() -> None:
    """In a few words, at an address of the invented world."""
    assert all(box.does and box.address.endswith("@boxes.saltmarsh-kiln.example") for box in BOXES.values())
    assert set(CHANGES) <= set(BOXES)
