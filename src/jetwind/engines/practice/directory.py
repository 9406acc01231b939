"""The names of the practice field, and the way by which a fetcher finds them: invented domains on this machine's loopback address."""

from __future__ import annotations

import json
from dataclasses import astuple, dataclass
from pathlib import Path

from jetwind.engines.fetch import Endpoint, PracticeResolver, Resolver, SystemResolver

DOMAIN = "saltmarsh-kiln.example"
#: A second invented house, for links that lead elsewhere: a potters' guild that the cooperative belongs to.
OTHER_DOMAIN = "tidewater-guild.example"
#: Names with a web server behind them.
SERVED = ("", "www", "pictures", "answers", "news", "go", "guard")
#: Names whose certificate is wrong, each in its own way.
EXPIRED, STRANGER, OTHER_NAME = (f"{name}.{DOMAIN}" for name in ("expired", "stranger", "misnamed"))
#: A name with nobody listening behind it. Any further name does not exist at all.
SILENT = f"silent.{DOMAIN}"
#: Mail servers: one that encrypts and takes a login, and one that offers no encryption.
MAIL, UNENCRYPTED = f"mail.{DOMAIN}", f"open-mail.{DOMAIN}"
#: Ports of mail servers: submission (RFC 6409), and submission with TLS from the first octet (RFC 8314).
SUBMISSION, SUBMISSIONS = 587, 465
#: A port of loopback that nobody listens on: discard (RFC 863).
_NOBODY = 9


@dataclass(frozen=True, slots=True)
class MailPorts:
    """The ports of the practice mail servers: with STARTTLS, with TLS from the first octet, and without encryption."""

    starttls: int
    tls: int
    plain: int


@dataclass(frozen=True, slots=True)
class Directory:
    """Where the practice field listens, and the PEM file of the authority that its certificates come from."""

    http_port: int
    https_port: int
    mail: MailPorts
    authority: Path

    def resolver(self, others: Resolver | None = None) -> PracticeResolver:
        """A resolver that finds the practice field's names on this machine, and leaves all other names to ``others``."""
        web = {80: self.http_port, 443: self.https_port}
        mail = {SUBMISSION: self.mail.starttls, SUBMISSIONS: self.mail.tls}
        names = [f"{name}.{DOMAIN}" if name else DOMAIN for name in SERVED]
        hosts = dict.fromkeys([*names, OTHER_DOMAIN, f"www.{OTHER_DOMAIN}"], Endpoint("127.0.0.1", web))
        # The three wrong certificates are those of a web server and of a mail server.
        hosts |= dict.fromkeys([EXPIRED, STRANGER, OTHER_NAME], Endpoint("127.0.0.1", web | mail))
        hosts[MAIL] = Endpoint("127.0.0.1", mail)
        hosts[UNENCRYPTED] = Endpoint("127.0.0.1", {SUBMISSION: self.mail.plain})
        hosts[SILENT] = Endpoint("127.0.0.1", dict.fromkeys((80, 443, SUBMISSION, SUBMISSIONS), _NOBODY))
        return PracticeResolver(frozenset({DOMAIN, OTHER_DOMAIN}), hosts, others or SystemResolver())

    def write(self, path: Path) -> None:
        """Write the directory to a file, for other programs of this machine."""
        path.write_text(json.dumps([self.http_port, self.https_port, astuple(self.mail), str(self.authority)]))

    @classmethod
    def read(cls, path: str | Path) -> Directory | None:
        """The directory that :meth:`write` kept; None where there is none, as when no practice field stands."""
        try:
            http_port, https_port, mail, authority = json.loads(Path(path).read_text())
            return cls(int(http_port), int(https_port), MailPorts(*map(int, mail)), Path(authority))
        except (OSError, ValueError, TypeError):
            return None

    @property
    def trusted_key(self) -> str:
        """The key that a browser is told to trust, since it takes no authority; empty where there is none."""
        file = self.authority.with_name("trusted-key")
        return file.read_text() if file.exists() else ""

    @property
    def authorities(self) -> dict[str, str]:
        """The PEM file by domain, as a fetcher takes it."""
        return dict.fromkeys((DOMAIN, OTHER_DOMAIN), str(self.authority)) if self.authority.exists() else {}
