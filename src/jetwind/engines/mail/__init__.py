"""Mail out over SMTP, and the Mailroom: the inbox stand-in that test sends arrive in."""

from jetwind.engines.mail.mailroom import Delivery, Mailroom
from jetwind.engines.mail.outbound import Handover, MailServer, Outcome, hand_over

__all__ = ["Delivery", "Handover", "MailServer", "Mailroom", "Outcome", "hand_over"]
