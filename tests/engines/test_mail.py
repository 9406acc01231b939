"""Real SMTP on loopback, between our sender and the Mailroom."""

import asyncio
import smtplib
import socket
import threading
from collections.abc import Iterator
from email import message_from_bytes

import aiosmtplib
import pytest

from jetwind.engines.mail import Delivery, HandoverOutcome, Mailroom, MailServer, hand_over
from tests.factories import mail


class Room:
    """A Mailroom in a thread, with what it was given."""

    def __init__(self) -> None:
        self.kept: list[Delivery] = []
        self.fails = False
        self._loop = asyncio.new_event_loop()
        self._room = Mailroom(self._keep)
        threading.Thread(target=self._loop.run_forever, daemon=True).start()
        asyncio.run_coroutine_threadsafe(self._room.start(), self._loop).result(5)
        self.server = MailServer("127.0.0.1", self._room.port, timeout=5)

    def _keep(self, delivery: Delivery) -> None:
        if self.fails:
            raise OSError("disk full")
        self.kept.append(delivery)

    def close(self) -> None:
        """Stop."""
        asyncio.run_coroutine_threadsafe(self._room.stop(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)


@pytest.fixture
def room() -> Iterator[Room]:
    """A Mailroom that listens."""
    made = Room()
    yield made
    made.close()


class TestHandOver:
    """One message to one recipient."""

    def test_what_arrives_is_what_was_sent(self, room: Room) -> None:
        """Byte by byte below the two fields that the Mailroom writes above it (RFC 5321 §4.4, RFC 8601 §2.2), with a line that starts with a full stop."""
        content = mail(text="one\n.two\n..three\n", html=None)
        answer = hand_over(room.server, "test@kiln.org", "one@kiln.org", content)
        assert answer.outcome is HandoverOutcome.TAKEN
        assert answer.answer == "250 Kept in the Mailroom"
        (kept,) = room.kept
        trace, word, rest = kept.content.split(b"\r\n", 2)
        assert (kept.sender, kept.recipients, rest) == ("test@kiln.org", ("one@kiln.org",), content)
        assert word == b"Authentication-Results: mailroom.jetwind.invalid; dkim=none"
        assert trace.startswith(b"Received: from ") and b" by mailroom.jetwind.invalid with ESMTP; " in trace

    @pytest.mark.parametrize(
        "address",
        ["a@kiln.org,b@kiln.org", "a@kiln.org\r\nRCPT TO:<b@kiln.org>", "a@kiln.org b@kiln.org", "nobody", "a@b@kiln.org", "<a@kiln.org>"],
    )
    def test_never_two_recipients(self, room: Room, address: str) -> None:
        """Anything but a single address is refused before a connection is made."""
        with pytest.raises(ValueError, match="not a single address"):
            hand_over(room.server, "test@kiln.org", address, b"x")
        assert room.kept == []

    def test_a_failing_mailroom_is_a_temporary_refusal(self, room: Room) -> None:
        """The sender hears 451, and nothing is lost silently."""
        room.fails = True
        answer = hand_over(room.server, "test@kiln.org", "one@kiln.org", mail())
        assert answer.outcome is HandoverOutcome.PUT_OFF
        assert answer.answer.startswith("451 ")

    def test_no_server(self, room: Room) -> None:
        """Named with its address."""
        answer = hand_over(MailServer("127.0.0.1", 1, timeout=2), "test@kiln.org", "one@kiln.org", mail())
        assert answer.outcome is HandoverOutcome.LOST
        assert "127.0.0.1:1 could not be used" in answer.answer

    @pytest.mark.parametrize(
        ("replies", "outcome"),
        [
            (["220 x", "250 x", "250 x", "250 x", "354 go on", None], HandoverOutcome.UNSURE),
            (["220 x", "250 x", "250 x", None], HandoverOutcome.LOST),
            (["220 x", "250 x", None], HandoverOutcome.LOST),
            (["220 x", "250 x", "250 x", "550 nobody here"], HandoverOutcome.REFUSED),
            (["220 x", "250 x", "250 x", "450 greylisted, try later"], HandoverOutcome.PUT_OFF),
            (["220 x", "250 x", "250 x", "250 x", "354 go on", "554 not this one"], HandoverOutcome.REFUSED),
            (["220 x", "250 x", "250 x", "250 x", "354 go on", "452 disk full"], HandoverOutcome.PUT_OFF),
            (["421 too busy"], HandoverOutcome.PUT_OFF),
        ],
    )
    def test_what_an_answer_means(self, replies: list[str | None], outcome: HandoverOutcome) -> None:
        """Replies of each kind (RFC 5321 §4.2.1), and a connection that is cut at each step; None cuts it."""
        listening = socket.create_server(("127.0.0.1", 0))

        def serve() -> None:
            connection, _ = listening.accept()
            with connection, connection.makefile("rwb") as lines:
                for number, reply in enumerate(replies):
                    if number and (number < 5 or replies[4] is None):
                        lines.readline()
                    elif number == 5:
                        while lines.readline() not in (b".\r\n", b""):
                            pass
                    if reply is None:
                        return
                    lines.write(reply.encode() + b"\r\n")
                    lines.flush()
                lines.readline()

        server = threading.Thread(target=serve)
        server.start()
        answer = hand_over(MailServer("127.0.0.1", listening.getsockname()[1], timeout=10), "test@kiln.org", "one@kiln.org", mail())
        server.join()
        listening.close()
        assert answer.outcome is outcome, answer

    def test_the_mailroom_speaks_to_aiosmtplib(self, room: Room) -> None:
        """An SMTP client by other people, which neither the standard library nor aiosmtpd is made from: it greets, sends to several, and leaves."""

        async def send() -> list[str]:
            async with aiosmtplib.SMTP(hostname=room.server.host, port=room.server.port, start_tls=False) as client:
                _, first = await client.sendmail("a@kiln.org", ["one@kiln.org", "two@kiln.org"], mail(text="one\n.two\n", html=None))
                _, second = await client.send_message(
                    message_from_bytes(mail(Subject="Glaze")), sender="a@kiln.org", recipients=["one@kiln.org"]
                )
                return [first, second]

        assert [answer.startswith("Kept in the Mailroom") for answer in asyncio.run(send())] == [True, True]
        assert [delivery.recipients for delivery in room.kept] == [("one@kiln.org",), ("two@kiln.org",), ("one@kiln.org",)]
        assert b"\r\none\r\n.two\r\n" in room.kept[0].content

    def test_the_mailroom_speaks_to_any_client(self, room: Room) -> None:
        """The standard library's client, several messages on one connection."""
        with smtplib.SMTP(room.server.host, room.server.port) as client:
            for number in range(3):
                client.sendmail("a@kiln.org", [f"r{number}@kiln.org"], mail(Subject=f"Number {number}"))
        assert [delivery.recipients for delivery in room.kept] == [("r0@kiln.org",), ("r1@kiln.org",), ("r2@kiln.org",)]
