"""The reasons. Each looks at one habit of unwanted mail and shows its evidence.

Source of every reason: common practice, no published source. They judge what the copy holds, never single words that
honest offers need ("sale", "free").
"""

from __future__ import annotations

import ipaddress
import re

from jetwind.core.checking.context import Context
from jetwind.core.images import is_spacer
from jetwind.core.links import links
from jetwind.core.links.way_out import unsubscribe_link
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.spam.declaring import Verdict, reason

_PRESSURE = re.compile(
    r"\b(?:act now|urgent response|risk[- ]free|100% free|no obligation|guaranteed (?:income|winner|results)|you (?:have|are a) w[io]n(?:ner)?|winner!|"
    r"claim your prize|cash bonus|double your|earn (?:extra )?(?:money|cash|\$)|make money|lowest price ever|once in a lifetime|no credit check|"
    r"work from home|miracle|this is not spam|dear friend|congratulations!|while supplies last|call now|order now!|buy now!|limited time only)",
    re.IGNORECASE,
)
_FALSE_REPLY = re.compile(r"\s*(?:re|fw|fwd|aw|wg|sv|rv|antw|tr)\s*:", re.IGNORECASE)


@reason("subject-missing", "No subject", 3.5)
def _subject_missing(message: Message, context: Context) -> Verdict:
    return "the subject is missing or empty" if message.envelope_known and not message.subject.strip() else None


@reason("subject-shouting", "Subject in capitals", 1.2)
def _subject_shouting(message: Message, context: Context) -> Verdict:
    letters = [char for char in message.subject if char.isalpha()]
    capitals = sum(char.isupper() for char in letters)
    return f"{capitals} of {len(letters)} letters are capitals" if len(letters) >= 8 and capitals * 2 > len(letters) else None


@reason("subject-marks", "Rows of exclamation or question marks in the subject", 0.8)
def _subject_marks(message: Message, context: Context) -> Verdict:
    match = re.search(r"[!?]{2,}|(?:!.*){3,}", message.subject)
    return f"“{match[0][:30]}”" if match else None


@reason("subject-false-reply", "Subject of a reply that is none", 1.8)
def _subject_false_reply(message: Message, context: Context) -> Verdict:
    if not _FALSE_REPLY.match(message.subject) or message.header("In-Reply-To") or message.header("References"):
        return None
    return f"“{message.subject[:30]}”"


@reason("wording-pressure", "Words of pressure", 0.6)
def _wording_pressure(message: Message, context: Context) -> Verdict:
    found = sorted({match[0].lower() for match in _PRESSURE.finditer(f"{message.subject}\n{reading_of(message).visible_text}")})
    return (", ".join(found[:6]), min(0.6 * len(found), 2.4)) if found else None


@reason("wording-marks", "Many exclamation marks", 0.7)
def _wording_marks(message: Message, context: Context) -> Verdict:
    text = reading_of(message).visible_text
    count = text.count("!")
    return f"{count} in {len(text):,} characters" if count >= 5 and count * 250 > len(text) else None


@reason("wording-capitals", "Copy in capitals", 0.8)
def _wording_capitals(message: Message, context: Context) -> Verdict:
    letters = [char for char in reading_of(message).visible_text if char.isalpha()]
    capitals = sum(char.isupper() for char in letters)
    return f"{capitals * 100 // len(letters)} % of the letters" if len(letters) > 100 and capitals * 10 > len(letters) * 4 else None


@reason("pictures-only", "Pictures but hardly any text", 2.4)
def _pictures_only(message: Message, context: Context) -> Verdict:
    pictures, characters = _pictures(message), len(reading_of(message).visible_text)
    return f"{pictures} pictures, {characters} characters of text" if pictures and characters < 80 else None


@reason("picture-balance", "Much picture for little text", 0.9)
def _picture_balance(message: Message, context: Context) -> Verdict:
    pictures, characters = _pictures(message), len(reading_of(message).visible_text)
    return (
        f"{pictures} pictures, {characters} characters of text"
        if characters >= 80 and pictures >= 2 and characters < 120 * pictures
        else None
    )


@reason("markup-heavy", "Heavy markup for its text", 0.5)
def _markup_heavy(message: Message, context: Context) -> Verdict:
    if message.html is None:
        return None
    characters = len(reading_of(message).visible_text)
    return (
        f"{message.html.octets:,} octets of HTML for {characters:,} characters"
        if message.html.octets > 40_000 and message.html.octets > 60 * characters
        else None
    )


@reason("active-content", "Script or form in the message", 1.6)
def _active_content(message: Message, context: Context) -> Verdict:
    document = message.document
    found = sorted({element.tag for element in document.elements("script", "form", "iframe", "object", "embed")}) if document else []
    return ", ".join(found) if found else None


@reason("text-hidden", "Much hidden text", 1.2)
def _text_hidden(message: Message, context: Context) -> Verdict:
    if message.document is None:
        return None
    hidden = len(reading_of(message).hidden_text)
    shown = len(reading_of(message).visible_text)
    return f"{hidden:,} characters hidden, {shown:,} shown" if hidden > 400 and hidden > shown else None


@reason("link-number", "Link to a bare number address", 1.8)
def _link_number(message: Message, context: Context) -> Verdict:
    for link in links(message):
        try:
            ipaddress.ip_address(link.host)
        except ValueError:
            continue
        return link.host
    return None


@reason("link-host-long", "Long host name in a link", 0.4)
def _link_host_long(message: Message, context: Context) -> Verdict:
    longest = max((link.host for link in links(message)), key=len, default="")
    return longest if len(longest) > 40 else None


@reason("text-missing", "No plain-text part", 0.6)
def _text_missing(message: Message, context: Context) -> Verdict:
    lacking = message.html is not None and message.envelope_known and (message.text is None or not message.text.text.strip())
    return "HTML without plain text" if lacking else None


@reason("unsubscribe-missing", "No way to unsubscribe", 0.9)
def _unsubscribe_missing(message: Message, context: Context) -> Verdict:
    return "no unsubscribe link found" if context.kind.is_bulk and unsubscribe_link(message) is None else None


@reason("reply-elsewhere", "Replies go to another domain", 0.5)
def _reply_elsewhere(message: Message, context: Context) -> Verdict:
    senders = {box.address.rpartition("@")[2].lower() for box in message.mailboxes("From")}
    replies = {box.address.rpartition("@")[2].lower() for box in message.mailboxes("Reply-To")}
    strange = {
        reply for reply in replies for sender in senders if reply and sender and not (reply.endswith(sender) or sender.endswith(reply))
    }
    return ", ".join(sorted(strange)) if strange else None


def _pictures(message: Message) -> int:
    document = message.document
    if document is None:
        return 0
    return sum(not message.cascade.is_hidden(image) and not is_spacer(message, image) for image in document.elements("img"))
