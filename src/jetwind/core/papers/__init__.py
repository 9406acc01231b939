"""The sender's papers: what name records and signatures say about who may send in a domain's name. Values; an engine asks."""

from jetwind.core.papers.dmarc import DmarcRecord, aligned, dmarc_record
from jetwind.core.papers.values import Bimi, Dkim, Dmarc, Lookup, Papers, Signing, Spf, is_as_sent, sender_domain, sender_domains

__all__ = [
    "Bimi",
    "Dkim",
    "Dmarc",
    "DmarcRecord",
    "Lookup",
    "Papers",
    "Signing",
    "Spf",
    "aligned",
    "dmarc_record",
    "is_as_sent",
    "sender_domain",
    "sender_domains",
]
