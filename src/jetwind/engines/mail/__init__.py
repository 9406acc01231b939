"""Mail out over SMTP, and the Mailroom: the inbox stand-in that test sends arrive in."""

from jetwind.engines.mail.boxes import BOXES, Box
from jetwind.engines.mail.mailbox_file import mails_of
from jetwind.engines.mail.mailroom import Delivery, Mailroom
from jetwind.engines.mail.outbound import Handover, HandoverOutcome, MailServer, hand_over

__all__ = ["BOXES", "Box", "Delivery", "Handover", "HandoverOutcome", "MailServer", "Mailroom", "hand_over", "mails_of"]
