"""The connection test of a mail server: every step up to the message itself, each told in words."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from cryptography import x509
from cryptography.x509.oid import ExtensionOID

from jetwind.core.errors import JetwindError
from jetwind.engines.mail.outbound import Connection, MailServer, reply, said

#: Names of one certificate that are told, and characters of each.
_MOST_NAMES, _LONGEST_NAME = 8, 100
#: Why a certificate does not hold, by the numbers of OpenSSL (X509_verify_cert_error_string(3)).
_REASONS = {
    9: "it is not valid yet",
    10: "it has run out",
    18: "it is signed by itself, and by no authority",
    19: "the authority that signed it is not known here",
    20: "the authority that signed it is not known here",
    21: "the authority that signed it is not known here",
    62: "it is for another name",
    64: "it is for another IP address",
}


class Step(StrEnum):
    """The steps of a connection test, in their order."""

    NAME = "name"
    CONNECTION = "connection"
    GREETING = "greeting"
    ENCRYPTION = "encryption"
    LOGIN = "login"
    SENDER = "sender"
    RECIPIENT = "recipient"


@dataclass(frozen=True, slots=True)
class Tried:
    """One step: whether it passed, in a sentence, and the reply of the server in its own words; empty where there was none."""

    step: Step
    passed: bool
    words: str
    reply: str = ""


class _Stopped(JetwindError):
    """A step failed; the steps after it are not tried."""


def steps_of(server: MailServer, sender: str, recipient: str) -> list[Tried]:
    """Try a server step by step, up to the first step that fails. No message is sent. Never raises for what a network or a server does."""
    done: list[Tried] = []
    with suppress(_Stopped):
        _walk(server, sender, recipient, done)
    return done


def _walk(server: MailServer, sender: str, recipient: str, done: list[Tried]) -> None:
    with _failing(done, Step.NAME):
        done.append(Tried(Step.NAME, True, _found(server)))
    with _opened(server, done) as connection:
        with _failing(done, Step.ENCRYPTION, server):
            connection.secure()
            done.append(Tried(Step.ENCRYPTION, True, _encryption(connection)))
        with _failing(done, Step.LOGIN):
            connection.sign_in()
            done.append(
                Tried(Step.LOGIN, True, f"Signed in as {server.user}." if server.user else "No login is given, and none was tried.")
            )
        _answered(done, Step.SENDER, connection.mail, sender, "may send")
        _answered(done, Step.RECIPIENT, connection.rcpt, recipient, "is taken")
        with suppress(smtplib.SMTPException, OSError):
            connection.rset()


def _found(server: MailServer) -> str:
    if server.reach is None:
        return f"{server.host} was named by the administrator of this installation."
    found = server.reach.endpoints(server.host, server.port)
    return f"{server.host} is {', '.join(ip for ip, _ in found[:4])}."


@contextmanager
def _opened(server: MailServer, done: list[Tried]) -> Iterator[Connection]:
    """A connection whose greeting was read. The certificate of a server that encrypts from the first octet is judged on the way."""
    try:
        connection = Connection(server)
    except ssl.SSLError as failure:
        done.append(Tried(Step.CONNECTION, True, f"Port {server.port} answers."))
        done.append(Tried(Step.ENCRYPTION, False, _why(failure, server)))
        raise _Stopped from failure
    except smtplib.SMTPConnectError as refused:
        done.append(Tried(Step.CONNECTION, True, f"Port {server.port} answers."))
        done.append(Tried(Step.GREETING, False, "The server does not want to talk now.", reply(refused.smtp_code, refused.smtp_error)))
        raise _Stopped from refused
    except smtplib.SMTPServerDisconnected as failure:
        done.append(Tried(Step.CONNECTION, True, f"Port {server.port} answers."))
        done.append(Tried(Step.GREETING, False, f"The server does not greet: {said(failure)}."))
        raise _Stopped from failure
    except OSError as failure:
        done.append(Tried(Step.CONNECTION, False, f"Port {server.port} does not answer: {said(failure)}."))
        raise _Stopped from failure
    with connection:
        done.append(Tried(Step.CONNECTION, True, f"Port {server.port} answers."))
        done.append(Tried(Step.GREETING, True, "The server greets.", reply(*connection.greeting)))
        yield connection


@contextmanager
def _failing(done: list[Tried], step: Step, server: MailServer | None = None) -> Iterator[None]:
    """Write down how a step failed, and stop."""
    try:
        yield
    except smtplib.SMTPResponseException as refused:
        done.append(Tried(step, False, _REFUSED[step], reply(refused.smtp_code, refused.smtp_error)))
        raise _Stopped from refused
    except (OSError, smtplib.SMTPException, UnicodeError) as failure:
        done.append(Tried(step, False, _why(failure, server)))
        raise _Stopped from failure


_REFUSED = {
    Step.NAME: "The name is not known.",
    Step.ENCRYPTION: "The server does not encrypt.",
    Step.LOGIN: "The server refuses the login.",
    Step.SENDER: "The server refuses the sender.",
    Step.RECIPIENT: "The server refuses the recipient.",
}


def _answered(done: list[Tried], step: Step, ask: object, address: str, verb: str) -> None:
    assert callable(ask)
    with _failing(done, step):
        code, words = ask(address)
        if code not in (250, 251):
            raise smtplib.SMTPResponseException(code, words)
        done.append(Tried(step, True, f"{address} {verb}.", reply(code, words)))


def _why(failure: Exception, server: MailServer | None) -> str:
    if isinstance(failure, ssl.SSLCertVerificationError) and server is not None:
        reason = _REASONS.get(failure.verify_code, failure.verify_message)
        return f"The certificate does not hold: {reason}. {_certificate(server)}".strip()
    if isinstance(failure, ssl.SSLError):
        return f"The two found no encryption: {failure.reason or failure}"
    return f"It cannot be used: {said(failure)}."


def _certificate(server: MailServer) -> str:
    """Names and dates of a certificate that does not hold. A second connection reads it, says nothing else, and is closed."""
    unjudged = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    unjudged.check_hostname, unjudged.verify_mode = False, ssl.CERT_NONE
    try:
        with Connection(server, unjudged) as connection:
            connection.secure()
            return _told(connection)
    except (OSError, smtplib.SMTPException):
        return ""


def _encryption(connection: Connection) -> str:
    if not isinstance(connection.sock, ssl.SSLSocket):
        return "Nothing is encrypted: the administrator of this installation named the server so."
    return f"{connection.sock.version()}. {_told(connection)}"


def _told(connection: Connection) -> str:
    """Names and dates of the certificate that a server showed."""
    assert isinstance(connection.sock, ssl.SSLSocket)
    octets = connection.sock.getpeercert(binary_form=True)
    try:
        certificate = x509.load_der_x509_certificate(octets or b"")
        names = _names(certificate)
    except (ValueError, TypeError, x509.DuplicateExtension):
        return "Its certificate cannot be read."
    dates = f"from {_day(certificate.not_valid_before_utc)} to {_day(certificate.not_valid_after_utc)}"
    return f"The certificate is for {', '.join(names) or 'no name'}, and valid {dates}."


def _names(certificate: x509.Certificate) -> list[str]:
    try:
        found = certificate.extensions.get_extension_for_oid(ExtensionOID.SUBJECT_ALTERNATIVE_NAME).value
    except x509.ExtensionNotFound:
        return []
    assert isinstance(found, x509.SubjectAlternativeName)
    return [str(name.value)[:_LONGEST_NAME] for name in found][:_MOST_NAMES]


def _day(at: datetime) -> str:
    return f"{at.day} {at:%B %Y}"
