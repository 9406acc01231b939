"""Handing a message over to a mail server, one recipient a transaction."""

from __future__ import annotations

import asyncio
import re
import smtplib
import socket
import ssl
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from email.errors import HeaderParseError
from enum import StrEnum
from typing import Any

from jetwind.engines.fetch import Policy, Refusal, Resolver
from jetwind.engines.fetch.connecting import Ways, trust

#: Lines of one reply that are read; no server has so much to say.
_MOST_LINES = 200
#: Octets of one line of a reply: eight times the most that RFC 5321 §4.5.3.1.5 allows.
_LONGEST_LINE = 4096
#: Octets a second that a server takes at the least; a message that goes out more slowly is given up.
_SLOWEST = 50_000
_CONTROLS = re.compile(r"[\x00-\x1f\x7f-\x9f]+")
#: Messages that go by one connection.
_MOST_SENT = 50
#: IP addresses of one name that are tried.
_MOST_ADDRESSES = 4


class Security(StrEnum):
    """How a connection is encrypted: not at all, after the command STARTTLS (RFC 3207), or from its first octet (RFC 8314 §3.3)."""

    NONE = "none"
    STARTTLS = "starttls"
    TLS = "tls"


@dataclass(frozen=True, slots=True)
class Reach:
    """Where a server may lie, how its name is looked up, and the PEM files of the authorities that its certificate is held against.

    Without files, the authorities of this machine count.
    """

    policy: Policy
    resolver: Resolver
    authorities: Sequence[str] = ()

    def endpoints(self, host: str, port: int) -> list[tuple[str, int]]:
        """The IP addresses and ports of a name, each of them judged.

        Raises:
            Refusal: one of them lies inside the network, or the port is not among those that are used.
            OSError: there is no such name.
        """
        # In a thread of its own: the caller's may have a loop already.
        with ThreadPoolExecutor(1, "names") as pool:
            return pool.submit(asyncio.run, Ways(self.policy, self.resolver).endpoints(host, port)).result()

    def connect(self, host: str, port: int, timeout: float) -> socket.socket:
        """A connection to one of the addresses of a name, each of them judged before.

        Raises:
            Refusal: an address of the name lies inside the network, or the port is not among those that are used.
            OSError: there is no such name, or nobody answers within ``timeout`` seconds.
        """
        failure: OSError | None = None
        for ip, at in self.endpoints(host, port)[:_MOST_ADDRESSES]:
            try:
                return socket.create_connection((ip, at), timeout)
            except OSError as failed:
                failure = failed
        raise failure or OSError(f"{host} has no address")


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where test sends are handed over.

    ``timeout`` are the seconds that connecting may take, ``patience`` those for each reply. Without ``reach``, the server is one that the
    administrator of the installation named, and may lie anywhere.
    """

    host: str
    port: int
    timeout: float = 15.0
    patience: float = 60.0
    security: Security = Security.NONE
    user: str = ""
    password: str = field(default="", repr=False)
    reach: Reach | None = field(default=None, compare=False)


class HandoverOutcome(StrEnum):
    """The outcome of a hand-over (RFC 5321 §4.2.1: replies of 2yz, 5yz and 4yz; §4.5.4.1: connections that fail)."""

    TAKEN = "taken"
    REFUSED = "refused"
    #: A temporary refusal.
    PUT_OFF = "put off"
    #: No connection, or one that was lost before the message had been handed over whole.
    LOST = "lost"
    #: The connection was lost once the message was on its way: it may have been taken.
    UNSURE = "unsure"


@dataclass(frozen=True, slots=True)
class Handover:
    """The answer of the server, in its words, or why it could not be reached."""

    outcome: HandoverOutcome
    answer: str


class _Reply:
    """Lines of a server: so many, of such a length, within so many seconds, whatever the server does."""

    def __init__(self, raw: Any, patience: float) -> None:
        self._raw, self._patience = raw, patience
        self._lines, self._until = 0, 0.0

    def begin(self) -> None:
        """The next line is the first one of a reply."""
        self._lines, self._until = 0, time.monotonic() + self._patience

    def readline(self, most: int = -1) -> bytes:
        """The next line.

        Raises:
            OSError: too many lines, too long a one, or not whole in time.
        """
        self._lines += 1
        if self._lines > _MOST_LINES:
            raise OSError(f"a reply has more than {_MOST_LINES} lines")
        line = b""
        while not line.endswith(b"\n"):
            if time.monotonic() > self._until:
                raise TimeoutError(f"no whole reply within {self._patience:g} seconds")
            here = self._raw.peek(1)
            if not here:
                break
            end = here.find(b"\n") + 1 or len(here)
            line += self._raw.read(min(end, _LONGEST_LINE))
            if len(line) > _LONGEST_LINE:
                raise OSError(f"a line of a reply has more than {_LONGEST_LINE} octets")
        return line

    def close(self) -> None:
        """Close the lines."""
        self._raw.close()


class Connection(smtplib.SMTP):
    """The standard library's client, with replies that are bounded, and connections only to where the server may lie."""

    def __init__(self, server: MailServer, context: ssl.SSLContext | None = None) -> None:
        self._server = server
        self._context = context
        #: The greeting that was read on connecting: code and words.
        self.greeting: tuple[int, bytes] = (0, b"")
        super().__init__(server.host, server.port, timeout=server.timeout)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        reach = self._server.reach
        opened = reach.connect(host, port, timeout) if reach is not None else socket.create_connection((host, port), timeout)
        try:
            opened.settimeout(self._server.patience)
            if self._server.security is Security.TLS:
                opened = self._trust().wrap_socket(opened, server_hostname=host)
        except BaseException:
            opened.close()
            raise
        return opened

    def connect(self, host: str = "localhost", port: int = 0, source_address: Any = None) -> tuple[int, bytes]:
        """Connect, and keep the greeting."""
        self.greeting = super().connect(host, port, source_address)
        return self.greeting

    def __exit__(self, *ended: object) -> None:
        """Leave; whatever the server says to that changes nothing of what was done before."""
        with suppress(OSError, smtplib.SMTPException):
            self.docmd("QUIT")
        self.close()

    def getreply(self) -> tuple[int, bytes]:
        """The next reply, within limits."""
        if self.file is None:
            assert self.sock is not None
            self.file = _Reply(self.sock.makefile("rb"), self._server.patience)
        self.file.begin()
        return super().getreply()

    def secure(self) -> None:
        """Greet the server, and encrypt the connection where the server's settings ask for STARTTLS.

        Raises:
            smtplib.SMTPNotSupportedError: the server does not offer STARTTLS.
            ssl.SSLError: the certificate does not hold, or the two find no encryption.
        """
        self.ehlo_or_helo_if_needed()
        if self._server.security is Security.STARTTLS:
            code, words = self.starttls(context=self._trust())
            if code != 220:
                raise smtplib.SMTPResponseException(code, words)
            self.ehlo_or_helo_if_needed()

    def sign_in(self) -> None:
        """Sign in, where the server's settings name a login.

        Raises:
            smtplib.SMTPException: the server refuses the login, or offers none.
        """
        if not self._server.user:
            return
        try:
            self.login(self._server.user, self._server.password)
        except smtplib.SMTPResponseException:
            raise
        except smtplib.SMTPException as failure:
            if self.sock is None:
                raise
            raise smtplib.SMTPNotSupportedError("AUTH") from failure

    def _trust(self) -> ssl.SSLContext:
        """The authorities that the certificate is held against."""
        return self._context or trust(self._server.reach.authorities if self._server.reach is not None else ())

    def data(self, msg: Any) -> tuple[int, bytes]:
        """Hand the message over; a large one has more time."""
        assert self.sock is not None
        self.sock.settimeout(self._server.patience + len(msg) / _SLOWEST)
        return super().data(msg)


class OpenServer:
    """A mail server with a connection that is kept from one message to the next. Use it as a context manager, in one thread."""

    def __init__(self, server: MailServer) -> None:
        self.server = server
        self._connection: Connection | None = None
        self._sent = 0

    def __enter__(self) -> OpenServer:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @property
    def is_kept(self) -> bool:
        """Whether a connection is there that has carried a message."""
        return self._connection is not None

    def ready(self) -> Connection:
        """A connection that is encrypted and signed in, the kept one or a fresh one.

        Raises:
            OSError, smtplib.SMTPException: there is none to be had.
        """
        if self._sent >= _MOST_SENT:
            self.close()
        if self._connection is None:
            opened = Connection(self.server)
            try:
                opened.secure()
                opened.sign_in()
            except BaseException:
                opened.__exit__()
                raise
            self._connection, self._sent = opened, 0
        self._sent += 1
        return self._connection

    def begin_anew(self) -> None:
        """Forget a transaction that the server did not take (RFC 5321 §4.1.1.5), and the connection where the server does not say yes."""
        try:
            if self._connection is not None and self._connection.rset()[0] != 250:
                self.close()
        except (OSError, smtplib.SMTPException):
            self.close()

    def close(self) -> None:
        """Leave the server."""
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.__exit__()


def hand_over(server: MailServer | OpenServer, sender: str, recipient: str, content: bytes) -> Handover:
    """Send one message to one recipient, one transaction. Never raises for what a network or a server does.

    Raises:
        ValueError: an address holds a line break or more than one address.
    """
    for address in (sender, recipient):
        if any(char in address for char in "\r\n,;<> ") or address.count("@") != 1:
            raise ValueError(f"not a single address: {address!r}")
    if isinstance(server, OpenServer):
        is_kept = server.is_kept
        handover = _over(server, sender, recipient, content)
        if is_kept and (handover.outcome is HandoverOutcome.LOST or handover.answer.startswith("421")):
            # A server may close a connection that it has had for a while: what it did not take goes by a fresh one.
            server.close()
            handover = _over(server, sender, recipient, content)
        return handover
    with OpenServer(server) as opened:
        return _over(opened, sender, recipient, content)


def _over(opened: OpenServer, sender: str, recipient: str, content: bytes) -> Handover:
    failed, at = HandoverOutcome.LOST, f"The mail server {opened.server.host}:{opened.server.port}"
    try:
        connection = opened.ready()
        words: bytes | str
        code, words = connection.mail(sender)
        if code == 250:
            code, words = connection.rcpt(recipient)
        if code in (250, 251):
            # From here on the server may have the message, whatever becomes of the connection.
            failed = HandoverOutcome.UNSURE
            code, words = connection.data(content)
        if code != 250:
            opened.begin_anew()
        return _answered(code, words)
    except smtplib.SMTPResponseException as refused:
        opened.close()
        return _answered(refused.smtp_code, refused.smtp_error)
    except (Refusal, ssl.SSLCertVerificationError, smtplib.SMTPNotSupportedError) as refused:
        # Waiting mends none of these.
        opened.close()
        return Handover(HandoverOutcome.REFUSED, f"{at} is not used: {said(refused)}")
    except (OSError, smtplib.SMTPException, HeaderParseError) as failure:
        opened.close()
        return Handover(failed, f"{at} could not be used: {said(failure)}")


def said(failure: BaseException) -> str:
    """The words of a failure: those about a certificate without the names that the library puts around them."""
    if isinstance(failure, ssl.SSLCertVerificationError):
        return f"its certificate does not hold: {failure.verify_message}"
    if isinstance(failure, smtplib.SMTPNotSupportedError):
        return "it does not offer " + ("STARTTLS" if "STARTTLS" in str(failure) else "a login that Jetwind knows")
    if isinstance(failure, smtplib.SMTPServerDisconnected):
        return str(failure).removeprefix("Connection unexpectedly closed").removeprefix(": ") or "it closed the connection"
    if isinstance(failure, OSError) and failure.strerror:
        return failure.strerror
    return str(failure) or type(failure).__name__


def _answered(code: int, words: bytes | str) -> Handover:
    answer = reply(code, words)
    if code == 250:
        return Handover(HandoverOutcome.TAKEN, answer)
    return Handover(HandoverOutcome.PUT_OFF if 400 <= code < 500 else HandoverOutcome.REFUSED, answer)


def reply(code: int, words: bytes | str) -> str:
    """A reply as one line: its code and its words, at most 500 characters, none of them a control character."""
    text = words[:4000].decode("utf-8", "replace") if isinstance(words, bytes) else words[:4000]
    return f"{code} {_CONTROLS.sub(' ', text)}"[:500]
