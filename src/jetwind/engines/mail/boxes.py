"""Practice mailboxes of the Mailroom: each does one thing that servers do to mail, so that a team sees what Jetwind tells of it.

A box is known by the name before the @ of an address at :data:`DOMAIN`. Boxes that answer for good or for now do so in SMTP (RFC 5321
§4.2.1, with codes of RFC 3463); boxes that change mail keep what they made of it.
"""

from __future__ import annotations

import email
import re
from collections.abc import Callable
from dataclasses import dataclass
from email.message import EmailMessage, Message
from email.mime.multipart import MIMEMultipart
from email.mime.nonmultipart import MIMENonMultipart
from email.mime.text import MIMEText
from email.policy import SMTP
from email.utils import formatdate, make_msgid
from urllib.parse import quote

#: Where the boxes are: below the invented cooperative's own domain.
DOMAIN = "boxes.saltmarsh-kiln.example"
#: Seconds that the slow box takes for a reply, and after which the late box has a mail.
SLOW_SECONDS, LATE_SECONDS = 30.0, 11 * 60.0
#: How often the box that puts off does so.
PUT_OFF_TIMES = 2


#: Seconds after which a box that writes about a mail does so.
REPORT_SECONDS = {"bounces-later": 60.0, "complains": 20.0, "answers-by-itself": 2.0}


@dataclass(frozen=True, slots=True)
class Box:
    """One box: what it does, in words; its answer in SMTP, empty where it takes the mail; and what it makes of a mail.

    ``report`` writes a mail about one that came, from the mail, the box's address and the envelope sender; ``copies`` are kept of each mail.
    ``is_before_word`` says that the mail is changed before its server verifies the signatures, as by another server on the way.
    """

    name: str
    does: str
    answer: str = ""
    change: Callable[[bytes], bytes] | None = None
    copies: int = 1
    report: Callable[[bytes, str, str], bytes] | None = None
    is_before_word: bool = False

    @property
    def address(self) -> str:
        """The address of the box."""
        return f"{self.name}@{DOMAIN}"


def _with_html(raw: bytes, change: Callable[[str], str]) -> bytes:
    """The mail with its HTML changed; every other part as it was."""
    mail = _read(raw)
    for part in mail.walk():
        if part.get_content_type() == "text/html":
            part.set_content(change(part.get_content()), subtype="html", charset="utf-8", cte="quoted-printable")
    return mail.as_bytes()


def _read(raw: bytes) -> EmailMessage:
    read = email.message_from_bytes(raw, policy=SMTP)
    assert isinstance(read, EmailMessage)
    return read


def _lead_over(raw: bytes, page: str) -> bytes:
    def over(match: re.Match[str]) -> str:
        return f"{match[1]}https://guard.saltmarsh-kiln.example/{page}?to={quote(match[2], safe='')}{match[3]}"

    return _with_html(raw, lambda html: re.sub(r"""(<a\s[^>]*?href=["'])(https?://[^"']{1,2000})(["'])""", over, html))


def _rewrite_links(raw: bytes) -> bytes:
    return _lead_over(raw, "open")


def _block_links(raw: bytes) -> bytes:
    return _lead_over(raw, "blocked")


def _add_footer(raw: bytes) -> bytes:
    notice = "<p>This message was checked by the gateway of Saltmarsh.</p>"
    return _with_html(raw, lambda html: _before_end(html, notice))


def _add_pixel(raw: bytes) -> bytes:
    pixel = '<img src="https://count.saltmarsh-kiln.example/p.gif" width="1" height="1" alt="">'
    return _with_html(raw, lambda html: _before_end(html, pixel))


def _before_end(html: str, put: str) -> str:
    at = html.lower().rfind("</body>")
    return f"{html[:at]}{put}{html[at:]}" if at >= 0 else html + put


def _strip_headers(raw: bytes) -> bytes:
    mail = _read(raw)
    for name in ("List-Unsubscribe", "List-Unsubscribe-Post", "List-Id", "Reply-To"):
        del mail[name]
    return mail.as_bytes()


def _drop_html(raw: bytes) -> bytes:
    mail = _read(raw)
    text = mail.get_body(("plain",))
    kept = EmailMessage(policy=SMTP)
    for name, value in mail.items():
        if not name.lower().startswith("content-") and name.lower() != "mime-version":
            kept[name] = value
    kept.set_content(text.get_content() if text is not None else "", charset="utf-8")
    return kept.as_bytes()


def _drop_styles(raw: bytes) -> bytes:
    return _with_html(raw, lambda html: re.sub(r"(?is)<style\b.*?</style\s*>", "", html))


def _other_charset(raw: bytes) -> bytes:
    """Everything in ASCII, with a question mark for each other letter."""
    mail = _read(raw)
    for part in mail.walk():
        if part.get_content_maintype() == "text" and not part.is_attachment():
            plain = part.get_content().encode("ascii", "replace").decode("ascii")
            part.set_content(
                plain,
                subtype=part.get_content_subtype(),
                charset="us-ascii",
                cte="7bit" if max(map(len, plain.splitlines()), default=0) < 900 else "quoted-printable",
            )
    return mail.as_bytes()


def _encode_anew(raw: bytes) -> bytes:
    """Every text in base64, with boundaries of its own: no difference to anybody who reads it."""
    mail = _read(raw)
    for part in mail.walk():
        if part.is_multipart():
            part.set_boundary(f"=_again_{len(raw)}_{id(part) % 9_973}")
        elif part.get_content_maintype() == "text" and not part.is_attachment():
            part.set_content(part.get_content(), subtype=part.get_content_subtype(), charset="utf-8", cte="base64")
    return mail.as_bytes()


def _bounce(raw: bytes, box: str, sender: str) -> bytes:
    """A delivery status notification: there is no such mailbox (RFC 3464; RFC 3463 §3.2)."""
    fields = f"Reporting-MTA: dns; {DOMAIN}\n\nFinal-Recipient: rfc822; {box}\nAction: failed\nStatus: 5.1.1\nDiagnostic-Code: smtp; 550 5.1.1 No such box here\n"
    return _report("delivery-status", fields, f"The mail to {box} could not be delivered.", raw, sender)


def _complaint(raw: bytes, box: str, sender: str) -> bytes:
    """A feedback report (RFC 5965)."""
    fields = f"Feedback-Type: abuse\nUser-Agent: Practice/1.0\nVersion: 1\nOriginal-Rcpt-To: <{box}>\n"
    return _report("feedback-report", fields, f"The reader at {box} says that this mail is not wanted.", raw, sender)


def _report(kind: str, fields: str, words: str, raw: bytes, sender: str) -> bytes:
    """A report in three parts: words, fields for machines, and the header of the mail that it is about (RFC 6522 §3)."""
    report = MIMEMultipart("report", report_type=kind)
    _address(report, f"postmaster@{DOMAIN}", sender, "Report on a mail")
    report.attach(MIMEText(words, "plain", "us-ascii"))
    part = MIMENonMultipart("message", kind)
    if kind == "delivery-status":
        # The library writes a delivery status from its groups of fields.
        part.set_payload([email.message_from_string(f"{group.strip()}\n\n") for group in fields.split("\n\n")])
    else:
        part.set_payload(fields)
    report.attach(part)
    head = re.split(rb"\r?\n\r?\n", raw, maxsplit=1)[0].decode("ascii", "ignore")
    report.attach(MIMEText(head.replace("\r\n", "\n") + "\n", "rfc822-headers", "us-ascii"))
    return report.as_bytes(policy=report.policy.clone(linesep="\r\n"))


def _away(raw: bytes, box: str, sender: str) -> bytes:
    """An answer by a machine, as RFC 3834 asks for it but for one thing: careful machines answer no mail of a list (§2)."""
    mail = _read(raw)
    answer = EmailMessage(policy=SMTP)
    _address(answer, box, sender, f"Away: {' '.join(str(mail['Subject'] or '').split())[:100]}")
    identity = " ".join(str(mail["Message-ID"] or "").split())
    if identity:
        answer["In-Reply-To"] = answer["References"] = identity
    answer.set_content("I am at the sea until Monday, and read mail again then.\n")
    return answer.as_bytes()


def _address(mail: Message, writer: str, to: str, subject: str) -> None:
    mail["From"], mail["To"], mail["Subject"] = writer, to, subject
    mail["Date"], mail["Message-ID"], mail["Auto-Submitted"] = formatdate(), make_msgid(domain=DOMAIN), "auto-replied"


BOXES = {
    box.name: box
    for box in (
        Box("accepts", "takes every mail as it is"),
        Box("encodes-anew", "writes every part in another encoding, which is no difference", change=_encode_anew),
        Box("refuses", "refuses for good: there is no such box", "550 5.1.1 No such box here"),
        Box("is-full", "refuses for good: it is full", "552 5.2.2 The box is full"),
        Box("puts-off", "puts a mail off twice, then takes it", "451 4.7.1 Come again later"),
        Box("bounces-later", "takes a mail, and sends it back after a minute: there is no such box", copies=0, report=_bounce),
        Box("complains", "keeps a mail, and says after twenty seconds that it is not wanted", report=_complaint),
        Box("answers-by-itself", "keeps a mail, and answers that its reader is away", report=_away),
        Box("drops-connection", "closes the connection in the middle of a mail"),
        Box("is-slow", "takes half a minute for each reply"),
        Box("is-late", "has a mail only after eleven minutes"),
        Box("doubles", "keeps every mail twice", copies=2),
        Box("rewrites-links", "leads every link over a server of its own, which leads on", change=_rewrite_links),
        Box("blocks-links", "leads every link to a page of its own, which warns and does not lead on", change=_block_links),
        Box("adds-footer", "adds a notice at the end", change=_add_footer),
        Box("adds-pixel", "adds a picture that counts openings", change=_add_pixel),
        Box("strips-headers", "drops the reply address and the headers of the list", change=_strip_headers),
        Box("drops-html", "keeps the plain text alone", change=_drop_html),
        Box("drops-styles", "drops style sheets", change=_drop_styles),
        Box("loses-letters", "has no letters beyond ASCII", change=_other_charset),
        Box(
            "breaks-signature",
            "writes every part anew before the signature is verified, which does not hold then",
            change=_encode_anew,
            is_before_word=True,
        ),
    )
}


def box_of(address: str) -> Box | None:
    """The box of an address; None for any other address."""
    name, _, domain = address.strip().lower().rpartition("@")
    return BOXES.get(name) if domain == DOMAIN else None


def written_about(box: Box, raw: bytes, sender: str) -> bytes | None:
    """The mail that a box writes about one that came; None where it writes none, or cannot read the mail.

    A mail without an envelope sender is answered by nobody, so that machines do not answer each other for ever (RFC 5321 §4.5.5).
    """
    if box.report is None or not sender:
        return None
    try:
        return box.report(raw, box.address, sender)
    except (ValueError, LookupError, TypeError, AttributeError, AssertionError, RecursionError):
        return None


def changed(box: Box, raw: bytes) -> bytes:
    """A mail as the box keeps it; one that the box cannot read stays as it is."""
    if box.change is None:
        return raw
    try:
        return box.change(raw)
    except (ValueError, LookupError, TypeError, AttributeError, AssertionError, RecursionError):
        return raw
