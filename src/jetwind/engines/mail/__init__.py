"""Mail out over SMTP, and the Mailroom: the inbox stand-in that test sends arrive in."""

from jetwind.engines.mail.boxes import BOXES, Box
from jetwind.engines.mail.connection_test import Step, Tried, steps_of
from jetwind.engines.mail.mailbox_file import mails_of
from jetwind.engines.mail.mailroom import Delivery, Mailroom
from jetwind.engines.mail.outbound import Handover, HandoverOutcome, MailServer, OpenServer, Reach, Security, hand_over

__all__ = [
    "BOXES",
    "Box",
    "Delivery",
    "Handover",
    "HandoverOutcome",
    "MailServer",
    "Mailroom",
    "OpenServer",
    "Reach",
    "Security",
    "Step",
    "Tried",
    "hand_over",
    "mails_of",
    "steps_of",
]
