"""Mail servers of a team's own over real SMTP: encryption, login, certificates, limits, and the connection test step by step.

The servers are aiosmtpd's, an SMTP server by other people, with real certificates; those that misbehave speak from a script.
"""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from jetwind.engines.fetch import Endpoint, FakeResolver, Policy
from jetwind.engines.mail import HandoverOutcome, MailServer, OpenServer, Reach, Security, Step, Tried, hand_over, outbound, steps_of
from jetwind.engines.practice import Directory, RunningPractice
from jetwind.engines.practice.directory import DOMAIN, EXPIRED, MAIL, OTHER_NAME, SILENT, STRANGER, UNENCRYPTED
from jetwind.engines.practice.mail import PASSWORD, USER
from tests.factories import mail

PORTS = frozenset({25, 465, 587, 2525})
INSIDE = frozenset({f"{DOMAIN}:587", f"{DOMAIN}:465"})


@pytest.fixture(scope="module")
def field(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[RunningPractice, Directory]]:
    """The practice field with its mail servers."""
    running = RunningPractice(tmp_path_factory.mktemp("practice"), pace=0.05)
    with running as directory:
        yield running, directory


@pytest.fixture
def server(field: tuple[RunningPractice, Directory]) -> MailServer:
    """The good server, with its login."""
    directory = field[1]
    reach = Reach(Policy(INSIDE, PORTS), directory.resolver(), [str(directory.authority)])
    return MailServer(MAIL, 587, timeout=5, patience=5, security=Security.STARTTLS, user=USER, password=PASSWORD, reach=reach)


def tried(server: MailServer) -> list[Tried]:
    """The steps of a connection test."""
    return steps_of(server, "test@kiln.org", "one@kiln.org")


@contextmanager
def speaking(serve: Callable[[socket.socket], None]) -> Iterator[MailServer]:
    """A server that does as a function says with its one connection, at a public name."""
    listening = socket.create_server(("127.0.0.1", 0))

    def once() -> None:
        connection, _ = listening.accept()
        with connection:
            try:
                serve(connection)
            except OSError:
                return

    thread = threading.Thread(target=once, daemon=True)
    thread.start()
    resolver = FakeResolver({"mail.kiln.org": [Endpoint("127.0.0.1", {587: listening.getsockname()[1]})]})
    reach = Reach(Policy(frozenset({"mail.kiln.org:587"}), PORTS), resolver)
    yield MailServer("mail.kiln.org", 587, timeout=5, patience=1, reach=reach)
    listening.close()
    thread.join(10)


class TestHandOver:
    """A message by a server of a team's own."""

    @pytest.mark.parametrize(("port", "security"), [(587, Security.STARTTLS), (465, Security.TLS)])
    def test_encrypted_and_signed_in(
        self, field: tuple[RunningPractice, Directory], server: MailServer, port: int, security: Security
    ) -> None:
        """Both ways of RFC 8314; the server notes that it was encrypted and signed in (RFC 3848: ESMTPSA)."""
        content = mail(text="one\n.two\n", html=None)
        answer = hand_over(replace(server, port=port, security=security), "test@kiln.org", "one@kiln.org", content)
        assert answer.outcome is HandoverOutcome.TAKEN, answer
        assert field[0].web.mail is not None
        sender, recipients, taken = field[0].web.mail.relay.taken[-1]
        trace, _, rest = taken.partition(b"\r\n")
        assert (sender, recipients, rest) == ("test@kiln.org", ["one@kiln.org"], content)
        assert b" with ESMTPSA; " in trace

    @pytest.mark.parametrize("host", [EXPIRED, STRANGER, OTHER_NAME])
    def test_a_wrong_certificate_gets_nothing(self, field: tuple[RunningPractice, Directory], server: MailServer, host: str) -> None:
        """No message and no password reach a server that does not show who it is; waiting does not mend that."""
        assert field[0].web.mail is not None
        before = len(field[0].web.mail.relay.taken)
        answer = hand_over(replace(server, host=host), "test@kiln.org", "one@kiln.org", mail())
        assert answer.outcome is HandoverOutcome.REFUSED
        assert "its certificate does not hold" in answer.answer
        assert len(field[0].web.mail.relay.taken) == before

    def test_no_encryption_no_message(self, server: MailServer) -> None:
        """A server that offers no STARTTLS does not get the message in the clear."""
        answer = hand_over(replace(server, host=UNENCRYPTED), "test@kiln.org", "one@kiln.org", mail())
        assert (answer.outcome, "does not offer STARTTLS" in answer.answer) == (HandoverOutcome.REFUSED, True)

    def test_a_wrong_password(self, server: MailServer) -> None:
        """The server's own words (RFC 4954 §6: 535)."""
        answer = hand_over(replace(server, password="x"), "test@kiln.org", "one@kiln.org", mail())
        assert (answer.outcome, answer.answer[:9]) == (HandoverOutcome.REFUSED, "535 5.7.8")
        assert "x" not in repr(replace(server, password="x")).partition("reach=")[0].replace("max", "").partition("user='kiln'")[2]

    @pytest.mark.parametrize(
        ("host", "why"),
        [
            ("127.0.0.1", "lies inside the network"),
            ("10.1.2.3", "lies inside the network"),
            ("169.254.169.254", "where machines keep their keys"),
            ("inside.kiln.org", "lies inside the network"),
        ],
    )
    def test_nothing_inside_the_network(self, host: str, why: str) -> None:
        """A name and a number that lead inside are not connected to: the rules of the fetcher."""
        reach = Reach(Policy(frozenset(), PORTS), FakeResolver({"inside.kiln.org": ["203.0.113.9", "192.168.7.7"]}))
        answer = hand_over(MailServer(host, 587, timeout=2, reach=reach), "test@kiln.org", "one@kiln.org", mail())
        assert (answer.outcome, why in answer.answer) == (HandoverOutcome.REFUSED, True), answer


class TestKeptConnection:
    """Several messages by one connection."""

    def test_one_connection_for_all(
        self, field: tuple[RunningPractice, Directory], server: MailServer, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        """Encrypted and signed in once; one that is refused in between keeps nobody else's from going."""
        opened: list[MailServer] = []
        begin = outbound.Connection.__init__
        monkeypatch.setattr(outbound.Connection, "__init__", lambda self, one, *rest: (opened.append(one), begin(self, one, *rest))[1])
        with OpenServer(server) as kept:
            outcomes = [hand_over(kept, "a@kiln.org", to, mail()).outcome for to in ("b@kiln.org", "x" * 600 + "@kiln.org", "c@kiln.org")]
        assert outcomes[0] is outcomes[2] is HandoverOutcome.TAKEN and outcomes[1] is not HandoverOutcome.TAKEN
        assert field[0].web.mail is not None
        assert [recipients for _, recipients, _ in field[0].web.mail.relay.taken[-2:]] == [["b@kiln.org"], ["c@kiln.org"]]
        assert len(opened) <= 2

    @pytest.mark.parametrize("how", ["421", "cut", "cut in DATA"])
    def test_a_server_that_has_had_enough(self, how: str) -> None:
        """Closed after a message: the next goes by a fresh connection, once; one that may have been taken is not sent again."""
        taken: list[int] = []
        listening = socket.create_server(("127.0.0.1", 0))

        def serve() -> None:
            for _ in range(2):
                connection, _ = listening.accept()
                with connection, connection.makefile("rwb") as both:
                    _one_after_the_other(both, how, taken)

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        with OpenServer(MailServer("127.0.0.1", listening.getsockname()[1], timeout=5, patience=3)) as kept:
            outcomes = [hand_over(kept, "a@kiln.org", "b@kiln.org", mail()).outcome for _ in range(2)]
        listening.close()
        second = HandoverOutcome.UNSURE if how == "cut in DATA" else HandoverOutcome.TAKEN
        assert outcomes == [HandoverOutcome.TAKEN, second]
        assert len(taken) == (1 if how == "cut in DATA" else 2)


def _one_after_the_other(both: Any, how: str, taken: list[int]) -> None:
    """Take a message, and then do as ``how`` says at the next one on the same connection."""

    def says(line: bytes) -> None:
        both.write(line + b"\r\n")
        both.flush()

    says(b"220 x")
    is_second = False
    while (asked := both.readline().upper()) and not asked.startswith(b"QUIT"):
        if is_second and how == "421" and asked.startswith(b"MAIL"):
            return says(b"421 4.3.2 enough")
        if is_second and how == "cut" and asked.startswith(b"MAIL"):
            return None
        if not asked.startswith(b"DATA"):
            says(b"250 x")
            continue
        says(b"354 go on")
        if is_second and how == "cut in DATA":
            return None
        while both.readline() not in (b".\r\n", b""):
            pass
        taken.append(1)
        says(b"250 taken")
        is_second = True
    return None


class TestConnectionTest:
    """Each step in words; the first that fails is the last."""

    def test_every_step_passes(self, field: tuple[RunningPractice, Directory], server: MailServer) -> None:
        """Seven steps, with names and dates of the certificate, and no message."""
        assert field[0].web.mail is not None
        before = len(field[0].web.mail.relay.taken)
        steps = tried(server)
        assert [(one.step, one.passed) for one in steps] == [(step, True) for step in Step]
        words = {one.step: f"{one.words} {one.reply}" for one in steps}
        assert f"{MAIL} is 127.0.0.1." in words[Step.NAME]
        assert "220 mail." in words[Step.GREETING]
        assert "TLSv1.3. The certificate is for *.saltmarsh-kiln.example, " in words[Step.ENCRYPTION]
        assert " and valid from " in words[Step.ENCRYPTION]
        assert "one@kiln.org is taken. 250" in words[Step.RECIPIENT]
        assert len(field[0].web.mail.relay.taken) == before

    @pytest.mark.parametrize(
        ("change", "step", "words"),
        [
            ({"host": f"nobody.{DOMAIN}"}, Step.NAME, "the practice field has no such name"),
            ({"port": 25}, Step.NAME, "may lie inside the network, but not with port 25"),
            ({"host": SILENT}, Step.CONNECTION, "Port 587 does not answer: Connection refused."),
            ({"host": UNENCRYPTED}, Step.ENCRYPTION, "it does not offer STARTTLS"),
            ({"host": EXPIRED}, Step.ENCRYPTION, f"it has run out. The certificate is for {EXPIRED}, and valid from"),
            ({"host": STRANGER}, Step.ENCRYPTION, "the authority that signed it is not known here"),
            ({"host": OTHER_NAME}, Step.ENCRYPTION, "it is for another name. The certificate is for elsewhere.tidewater-guild.example"),
            ({"host": EXPIRED, "port": 465, "security": Security.TLS}, Step.ENCRYPTION, "it has run out"),
            ({"password": "wrong"}, Step.LOGIN, "The server refuses the login."),
        ],
    )
    def test_the_step_that_fails(self, server: MailServer, change: dict[str, object], step: Step, words: str) -> None:
        """Named, with why; what comes after it is not tried."""
        steps = tried(replace(server, **change))  # type: ignore[arg-type]
        assert [one.step for one in steps if not one.passed] == [step] == [steps[-1].step]
        assert words in steps[-1].words

    @pytest.mark.parametrize(
        ("lines", "step", "reply"),
        [
            (["554 not now"], Step.GREETING, "554 not now"),
            (["220 x", "250 x", "550 5.7.1 not you"], Step.SENDER, "550 5.7.1 not you"),
            (["220 x", "250 x", "250 x", "550 5.1.1 nobody"], Step.RECIPIENT, "550 5.1.1 nobody"),
        ],
    )
    def test_what_a_server_refuses(self, lines: list[str], step: Step, reply: str) -> None:
        """In the server's own words (RFC 5321 §4.2.1)."""

        def serve(connection: socket.socket) -> None:
            with connection.makefile("rwb") as both:
                for number, line in enumerate([*lines, "250 x", "250 x"]):
                    if number and not both.readline():
                        return
                    both.write(f"{line}\r\n".encode())
                    both.flush()

        with speaking(serve) as server:
            last = tried(server)[-1]
        assert (last.step, last.passed, last.reply) == (step, False, reply)


class TestHostileServers:
    """A server says what it likes: every reply has an end, for the hand-over and for the connection test."""

    @pytest.mark.parametrize(
        "piece",
        [b"220-more\r\n", b"2" * 4096, b"\xff\x00\x1b[31m" + b"x" * 300 + b"\r\n", b"\r\n"],
        ids=["lines without end", "one line without end", "junk", "empty lines"],
    )
    def test_without_end(self, piece: bytes) -> None:
        """Words that never end are cut at a limit; nothing raises."""

        def serve(connection: socket.socket) -> None:
            for _ in range(20_000):
                connection.sendall(piece)

        with speaking(serve) as server:
            assert not tried(server)[-1].passed
        with speaking(serve) as server:
            assert hand_over(server, "a@kiln.org", "b@kiln.org", mail()).outcome is not HandoverOutcome.TAKEN

    def test_no_control_character_of_a_reply_is_kept(self) -> None:
        """The database takes no NUL, and a terminal obeys an escape sequence; a reply is one line of at most 500 characters."""
        with speaking(lambda connection: connection.sendall(b"554-\xff\x00\x1b[31mno\r\n554 " + b"x" * 900 + b"\r\n")) as server:
            answer = hand_over(server, "a@kiln.org", "b@kiln.org", mail()).answer
        assert answer.startswith("554 \ufffd [31mno xxx")
        assert (len(answer), answer.isprintable()) == (500, True)

    @pytest.mark.parametrize("last", [b"421 4.3.2 closing\r\n", b"500 what?\r\n", b""])
    def test_what_is_said_to_the_leave_taking_counts_for_nothing(self, last: bytes) -> None:
        """A message that was taken stays taken, so that nobody gets it twice."""

        def serve(connection: socket.socket) -> None:
            with connection.makefile("rwb") as both:
                for line in (b"220 x", b"250 x", b"250 x", b"250 x", b"354 go on"):
                    both.write(line + b"\r\n")
                    both.flush()
                    both.readline()
                while both.readline() != b".\r\n":
                    pass
                both.write(b"250 taken\r\n")
                both.flush()
                both.readline()
                both.write(last)
                both.flush()

        with speaking(serve) as server:
            assert hand_over(server, "a@kiln.org", "b@kiln.org", mail()).outcome is HandoverOutcome.TAKEN

    def test_drop_by_drop(self) -> None:
        """An octet now and then does not hold a worker: the whole reply has one time."""
        over = threading.Event()

        def serve(connection: socket.socket) -> None:
            connection.sendall(b"220")
            while not over.wait(0.2):
                connection.sendall(b"-")

        with speaking(serve) as server:
            last = tried(server)[-1]
            over.set()
        assert (last.step, last.passed) == (Step.GREETING, False)
        assert "no whole reply within 1 seconds" in last.words

    def test_what_was_said_before_the_encryption_does_not_count(self, field: tuple[RunningPractice, Directory], server: MailServer) -> None:
        """Replies that somebody slips in after the one to STARTTLS are thrown away (RFC 3207 §4.2: both forget what was said before)."""
        real = socket.create_connection(("127.0.0.1", field[1].mail.starttls))

        def serve(connection: socket.socket) -> None:
            # In the middle: passes everything on, and adds a reply to that of STARTTLS.
            connection.sendall(real.recv(4096))
            while (asked := connection.recv(4096)) and b"STARTTLS" not in asked.upper():
                real.sendall(asked)
                connection.sendall(real.recv(4096))
            real.sendall(asked)
            connection.sendall(real.recv(4096) + b"250 forged\r\n")
            forth = threading.Thread(target=_pass_on, args=(connection, real), daemon=True)
            forth.start()
            _pass_on(real, connection)
            forth.join(5)

        with speaking(serve) as between:
            assert server.reach is not None and between.reach is not None
            resolver = FakeResolver({MAIL: list(between.reach.resolver.names["mail.kiln.org"])})  # type: ignore[attr-defined]
            steps = tried(replace(server, reach=replace(server.reach, resolver=resolver)))
            real.close()
        # The forged octets stand where the handshake is expected: it fails, and nothing of them is read as a reply.
        assert not any("forged" in one.reply for one in steps)


def _pass_on(one: socket.socket, other: socket.socket) -> None:
    try:
        while octets := one.recv(65_536):
            other.sendall(octets)
    except OSError:
        return
    finally:
        for end in (one, other):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)


def test_the_directory_is_read_as_it_was_written(field: tuple[RunningPractice, Directory], tmp_path: Path) -> None:
    """With the ports of the mail servers; a file of an earlier form is none."""
    kept = tmp_path / "directory.json"
    field[1].write(kept)
    assert Directory.read(kept) == field[1]
    kept.write_text('[1, 2, "authority.pem"]')
    assert Directory.read(kept) is None
