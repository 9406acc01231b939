"""The message says who sends it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.needs import need_headers
from jetwind.core.links.addresses import organisational_domain
from jetwind.core.message import Envelope, Mailbox, Message


@check(
    id="envelope.sender-missing",
    name="No sender address",
    level=Level.STOP,
    why="Without a From address the message cannot be sent, and nobody would know whom it is from.",
    fix="Enter the sender's name and address.",
    basis="RFC 5322 §3.6.2 (from memory)",
    samples=[
        clear("From: Kiln <hello@kiln.example>\nSubject: x\n\ny\n"),
        clear("From: hello@kiln.example\nSubject: x\n\ny\n"),
        clear("From: {{ sender_name }} <{{ sender_address }}>\nSubject: x\n\ny\n"),
        clear("<p>HTML without any headers</p>"),
        clear("<p>x</p>", envelope=Envelope(subject="x", sender_address="hello@kiln.example")),
        finds("Subject: x\n\ny\n"),
        finds("From: Kiln\nSubject: x\n\ny\n", at="From: Kiln"),
        finds("From: Kiln <>\nSubject: x\n\ny\n"),
        finds("<p>x</p>", envelope=Envelope(subject="x")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """From names at least one mailbox."""
    need_headers(message)
    header = message.header("From")
    if header is None:
        yield Hit("The message has no From header.", Place.in_header(message, "From"), identity="missing")
        return
    if message.holds_field(header.value):
        return
    if "@" not in header.raw:
        yield Hit("From has no address: {value}", Place.in_header(message, "From", header), {"value": header.value or "empty"})


#: RFC 5322 §3.2.3 dot-atom or §3.2.4 quoted-string, letters beyond ASCII allowed by RFC 6532 §3.2 (from memory).
_LOCAL = re.compile(r"(?:[\w!#$%&'*+/=?^`{|}~-]+(?:\.[\w!#$%&'*+/=?^`{|}~-]+)*|\"(?:[^\"\\\r\n]|\\.)*\")\Z")
#: RFC 5321 §4.1.2 Domain, RFC 1035 §2.3.1 labels of at most 63 octets; an address literal is one too (§4.1.3).
_LABEL = re.compile(r"[^\W_](?:(?:[^\W_]|-){0,61}[^\W_])?\Z")
_LITERAL = re.compile(r"\[(?:\d{1,3}(?:\.\d{1,3}){3}|IPv6:[0-9A-Fa-f:.]+)\]\Z")


def address_fault(address: str) -> str:
    """The fault of an addr-spec (RFC 5322 §3.4.1), as a clause for people; empty where there is none."""
    local, at, domain = address.rpartition("@")
    if not at:
        return "has no @"
    if not _LOCAL.match(local) or len(local.encode()) > 64:
        return f"has {local!r} before the @, which is no mailbox name" if local else "has nothing before the @"
    if _LITERAL.match(domain):
        return ""
    labels = domain.split(".")
    if not domain or len(domain.encode()) > 255 or not all(_LABEL.match(label) for label in labels):
        return f"has {domain!r} after the @, which is no domain" if domain else "has nothing after the @"
    if len(labels) == 1:
        return f"has {domain!r} after the @, which lacks its top-level domain"
    return f"has {domain!r} after the @, which ends in a number" if labels[-1].isdigit() else ""


@check(
    id="envelope.sender-invalid",
    name="Sender or reply address that is none",
    level=Level.STOP,
    why="Servers refuse the message, and answers to it get lost.",
    fix="Write the address as name@domain, and put a display name that holds a comma in quotes.",
    basis="RFC 5322 §3.4.1; RFC 5321 §4.1.2 (from memory)",
    samples=[
        clear('From: Kiln <hello@kiln.example>\nReply-To: "Doe, Jane" <jane.o\'doe+x@mail.kiln.example>\nSubject: x\n\ny\n'),
        clear('From: "odd \\"local\\""@kiln.example\nSubject: x\n\ny\n'),
        clear("From: =?utf-8?q?T=C3=B6pfer?= <info@t\u00f6pferei.example>\nSubject: x\n\ny\n"),
        clear("From: {{ sender_name }} <{{ sender_address }}>\nReply-To: {{ reply }}@kiln.example\nSubject: x\n\ny\n"),
        clear("From: Kiln <root@[192.0.2.1]>\nSubject: x\n\ny\n"),
        clear("Subject: no From at all is another check\n\ny\n"),
        finds("From: Kiln <hello@kiln..example>\nSubject: x\n\ny\n", at="From: Kiln <hello@kiln..example>"),
        finds("From: Kiln <hello@>\nSubject: x\n\ny\n"),
        finds("From: Kiln <hello@@kiln.example>\nSubject: x\n\ny\n"),
        finds("From: Kiln <hello@kiln>\nSubject: x\n\ny\n"),
        finds("From: Kiln <hello@kiln_works.example>\nReply-To: a@b.example\nSubject: x\n\ny\n"),
        finds("From: a@kiln.example\nReply-To: hello.kiln.example\nSubject: x\n\ny\n"),
        finds("From: Saltmarsh, Kiln <a@kiln.example>\nSubject: x\n\ny\n"),
        finds("<p>x</p>", envelope=Envelope(subject="x", sender_address="hello kiln@kiln.example")),
    ],
)
def find_invalid(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every address in From, Reply-To and Sender is an addr-spec at a domain."""
    need_headers(message)
    for name in ("From", "Reply-To", "Sender"):
        for header in message.header_fields(name):
            if not header.value.strip() or message.holds_field(header.value):
                continue
            boxes = [box for box in message.mailboxes_of(header) if box.address]
            if name == "From" and "@" not in header.raw:
                continue
            faults = [(box.address, fault) for box in boxes if (fault := address_fault(box.address))]
            if not boxes and header.value.strip(" ;") and not header.value.rstrip().endswith(";"):
                faults = [(header.value, "cannot be read")]
            for address, fault in faults[:1]:
                yield Hit(
                    "{name}: the address {address} {fault}.",
                    Place.in_header(message, name, header),
                    {"name": name, "address": address or header.value, "fault": fault},
                    identity=f"{name}:{header.value}",
                )


@check(
    id="envelope.sender-name-missing",
    name="No sender name",
    level=Level.FIX,
    why="The inbox row starts with a bare address, which few readers know.",
    fix="Put the name readers know you by before the address.",
    basis="Common practice, no published source",
    samples=[
        clear("From: Kiln <hello@kiln.example>\nSubject: x\n\ny\n"),
        clear("From: hello@kiln.example (Kiln Works)\nSubject: x\n\ny\n"),
        clear("From: {{ sender }}\nSubject: x\n\ny\n"),
        clear("Subject: no From at all is another check\n\ny\n"),
        finds("From: hello@kiln.example\nSubject: x\n\ny\n", at="From: hello@kiln.example"),
        finds('From: "" <hello@kiln.example>\nSubject: x\n\ny\n'),
        finds('From: "hello@kiln.example" <hello@kiln.example>\nSubject: x\n\ny\n'),
    ],
)
def find_name_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """From has a display name."""
    need_headers(message)
    header = message.header("From")
    if header is None or message.holds_field(header.value):
        return
    for box in message.mailboxes("From")[:1]:
        if "@" in box.address and box.name.strip().lower() in ("", box.address.lower()):
            yield Hit(
                "From has no name before {address}.", Place.in_header(message, "From", header), {"address": box.address}, identity="name"
            )


_NO_REPLY = re.compile(
    r"(?:do[-_.]?not|don[-_.]?t|no|not|never)[-_.]?(?:reply|answer|respond)|noreply|keine?[-_.]?antwort|nicht[-_.]?antworten"
    r"|ne[-_.]?pas[-_.]?repondre|no[-_.]?responder|no[-_.]?contestar|nao[-_.]?respond[ae]r?|non[-_.]?rispondere|geen[-_.]?antwoord",
    re.IGNORECASE,
)


@check(
    id="envelope.sender-noreply",
    name="Nobody reads the answers",
    level=Level.NOTE,
    why="Readers who answer get no answer; and an address that takes mail is better thought of by filters.",
    fix="Give a reply address that somebody reads.",
    basis="Common practice, no published source",
    samples=[
        clear("From: Kiln <hello@kiln.example>\nSubject: x\n\ny\n"),
        clear("From: Kiln <no-reply@kiln.example>\nReply-To: hello@kiln.example\nSubject: x\n\ny\n"),
        clear("From: Kiln <noel@kiln.example>\nSubject: x\n\ny\n"),
        clear("From: Kiln <reply-no-12@kiln.example>\nSubject: x\n\ny\n"),
        finds("From: Kiln <no-reply@kiln.example>\nSubject: x\n\ny\n", at="From: Kiln <no-reply@kiln.example>"),
        finds("From: Kiln <a@kiln.example>\nReply-To: DoNotReply@kiln.example\nSubject: x\n\ny\n"),
        finds("From: Kiln <news.noreply@kiln.example>\nSubject: x\n\ny\n"),
    ],
)
def find_noreply(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Answers go to a mailbox that does not call itself unread."""
    need_headers(message)
    name, box = _reply_box(message)
    if box is not None and _NO_REPLY.search(box.address.rpartition("@")[0]):
        yield Hit(
            "Answers go to {address}.", Place.in_header(message, name, message.header(name)), {"address": box.address}, identity=box.address
        )


@check(
    id="envelope.reply-domain",
    name="Answers go to another organisation",
    level=Level.NOTE,
    why="Readers are wary when the answer goes to a domain that they did not write to, and so are filters.",
    fix="Answer from the sender's own domain, or make sure that the other one is meant.",
    basis="RFC 7489 §3.2 (from memory)",
    samples=[
        clear("From: Kiln <a@news.kiln.example>\nReply-To: hello@kiln.example\nSubject: x\n\ny\n"),
        clear("From: Kiln <a@kiln.co.uk>\nReply-To: hello@mail.kiln.co.uk\nSubject: x\n\ny\n"),
        clear("From: Kiln <a@kiln.example>\nReply-To: {{ reply_address }}\nSubject: x\n\ny\n"),
        clear("From: Kiln <a@kiln.example>\nSubject: x\n\ny\n"),
        finds("From: Kiln <a@kiln.example>\nReply-To: hello@other.example\nSubject: x\n\ny\n", at="Reply-To: hello@other.example"),
        finds("From: Kiln <a@kiln.co.uk>\nReply-To: hello@other.co.uk\nSubject: x\n\ny\n"),
    ],
)
def find_reply_domain(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Reply-To and From belong to one organisation."""
    need_headers(message)
    header = message.header("Reply-To")
    senders = [box for box in message.mailboxes("From") if "@" in box.address]
    if header is None or not senders or message.holds_field(header.value):
        return
    sender = senders[0].address.rpartition("@")[2].lower()
    for box in message.mailboxes("Reply-To"):
        domain = box.address.rpartition("@")[2].lower()
        if domain == sender or address_fault(box.address) or address_fault(senders[0].address):
            continue
        ours = organisational_domain(sender)
        if organisational_domain(domain) != ours:
            yield Hit(
                "Answers go to {domain}, but the sender is at {ours}.",
                Place.in_header(message, "Reply-To", header),
                {"domain": organisational_domain(domain), "ours": ours},
                identity=f"{domain}:{ours}",
            )
            return


def _reply_box(message: Message) -> tuple[str, Mailbox | None]:
    for name in ("Reply-To", "From"):
        for box in message.mailboxes(name):
            if "@" in box.address:
                return name, box
    raise DoesNotApply("there is no address to answer to")
