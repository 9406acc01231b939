"""The practice field's mail servers: good ones that ask for a login, and some that are wrong; what they take goes on to the Mailroom.

They stand for servers of a team's own, so that a connection test and a test send by such a server can be tried without one.
"""

from __future__ import annotations

import asyncio
import logging
import smtplib
import ssl
import warnings
from dataclasses import dataclass
from typing import Any

from aiosmtpd.smtp import SMTP, AuthResult, LoginPassword

from jetwind.engines.mail.receiving import trace_of
from jetwind.engines.practice.directory import EXPIRED, MAIL, OTHER_NAME, SILENT, STRANGER, UNENCRYPTED, MailPorts

logger = logging.getLogger(__name__)
#: The login of the good server.
USER, PASSWORD = "kiln", "tide-and-glaze"


@dataclass(frozen=True, slots=True)
class PracticeServer:
    """A practice mail server: its name and the behaviour that it shows, in words."""

    host: str
    does: str


SERVERS = (
    PracticeServer(MAIL, f"encrypts, takes the login “{USER}” with the password “{PASSWORD}”, and hands mail on to the Mailroom"),
    PracticeServer(UNENCRYPTED, "offers no encryption"),
    PracticeServer(EXPIRED, "has a certificate that ran out three days ago"),
    PracticeServer(STRANGER, "has a certificate of an authority that nobody knows"),
    PracticeServer(OTHER_NAME, "has a certificate for another name"),
    PracticeServer(SILENT, "does not answer"),
)


class _Relay:
    """Takes mail of those who signed in, and hands it on."""

    def __init__(self, onward: tuple[str, int] | None) -> None:
        self._onward = onward
        self.taken: list[tuple[str, list[str], bytes]] = []

    async def handle_DATA(self, server: SMTP, session: Any, envelope: Any) -> str:  # noqa: N802  aiosmtpd calls it so
        """Hand a message on, and answer as the Mailroom does."""
        is_encrypted = server.transport is not None and server.transport.get_extra_info("sslcontext") is not None
        content = trace_of(session, MAIL, is_encrypted=is_encrypted) + (envelope.original_content or b"")
        self.taken.append((envelope.mail_from or "", list(envelope.rcpt_tos), content))
        del self.taken[:-20]
        if self._onward is None:
            return "250 Taken"
        return await asyncio.to_thread(self._hand_on, envelope.mail_from or "", list(envelope.rcpt_tos), content)

    def _hand_on(self, sender: str, recipients: list[str], content: bytes) -> str:
        assert self._onward is not None
        try:
            with smtplib.SMTP(*self._onward, timeout=60) as onward:
                onward.sendmail(sender, recipients, content)
        except smtplib.SMTPRecipientsRefused as refused:
            code, words = next(iter(refused.recipients.values()))
            return f"{code} {words.decode('ascii', 'replace')}"
        except smtplib.SMTPResponseException as refused:
            return f"{refused.smtp_code} {refused.smtp_error!r}"
        except (OSError, smtplib.SMTPException):
            logger.exception("the Mailroom does not take what the practice mail server hands on")
            return "451 4.4.1 The next server does not answer"
        return "250 2.0.0 Handed on"


def _signs_in(server: SMTP, session: Any, envelope: Any, mechanism: str, auth_data: Any) -> AuthResult:
    """The login of the good server, and no other."""
    given = isinstance(auth_data, LoginPassword) and (auth_data.login, auth_data.password) == (USER.encode(), PASSWORD.encode())
    return AuthResult(success=given, handled=given)


class PracticeMail:
    """The servers; ``onward`` is the Mailroom's host and port, without which mail is only kept in ``relay.taken``."""

    def __init__(self, context: ssl.SSLContext, onward: tuple[str, int] | None = None) -> None:
        self._context = context
        self.relay = _Relay(onward)
        self._servers: list[asyncio.Server] = []

    async def start(self) -> MailPorts:
        """Listen on free ports of loopback."""
        # Clients break off at a wrong certificate, which is what these servers are for; the library would tell each as a failure.
        logging.getLogger("mail.log").setLevel(logging.CRITICAL)
        return MailPorts(
            starttls=await self._listen(tls_context=self._context, require_starttls=True, auth_required=True),
            tls=await self._listen(self._context, auth_required=True, auth_require_tls=False),
            plain=await self._listen(),
        )

    async def _listen(self, context: ssl.SSLContext | None = None, **how: Any) -> int:
        def made() -> SMTP:
            with warnings.catch_warnings():
                # The library does not see that the connection was encrypted from its first octet.
                warnings.simplefilter("ignore", UserWarning)
                return SMTP(self.relay, hostname=MAIL, authenticator=_signs_in, **how)

        server = await asyncio.get_running_loop().create_server(made, "127.0.0.1", 0, ssl=context)
        self._servers.append(server)
        return int(server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Stop listening."""
        for server in self._servers:
            server.close()
            await server.wait_closed()
