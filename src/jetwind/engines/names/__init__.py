"""Name records from the DNS, a zone file or the practice field, and the sender's papers, which rest on these records."""

from jetwind.engines.names.asking import NoAnswer, NotingResolver, Resolver
from jetwind.engines.names.dkim import verified
from jetwind.engines.names.dns import Dns
from jetwind.engines.names.mark import loading
from jetwind.engines.names.sender import Loads, papers_of
from jetwind.engines.names.signing import MOST_SIGNED, signed
from jetwind.engines.names.zone import UnusableZone, Zone, practice, practice_zone

__all__ = [
    "MOST_SIGNED",
    "Dns",
    "Loads",
    "NoAnswer",
    "NotingResolver",
    "Resolver",
    "UnusableZone",
    "Zone",
    "loading",
    "papers_of",
    "practice",
    "practice_zone",
    "signed",
    "verified",
]
