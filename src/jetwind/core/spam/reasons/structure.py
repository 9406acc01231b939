"""Reasons in how the message is put together, and in what it lacks."""

from __future__ import annotations

from jetwind.core.checking import CannotTell, Context, Place, clear, finds
from jetwind.core.checking.field_texts import uses
from jetwind.core.links.way_out import unsubscribe_link
from jetwind.core.message import Message
from jetwind.core.prose.alignment import html_sentences, text_sentences
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span
from jetwind.core.spam.declaring import Evidence, found_by, reason

_HEAD = "From: Kiln Works <hello@kiln.org>\nSubject: x\nMIME-Version: 1.0\n"
_LONG = "The big kiln is fired on Monday, and the small one on Thursday. Bring your pots by noon of the day before."
_OUT = "Unsubscribe: https://kiln.org/u"
_PLAIN = clear(f"{_HEAD}\n{_LONG}\n\n{_OUT}\n")
_BOTH = f"{_HEAD}Content-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain\n\n{{}}\n--b\nContent-Type: text/html\n\n{{}}\n--b--\n"


@reason(
    id="text-missing",
    name="No plain-text part",
    group="structure",
    weight=0.4,
    why="Programs that send to millions often leave it out; mail programs do not.",
    fix="Make the plain text from the HTML.",
    samples=[
        _PLAIN,
        clear(_BOTH.format(_LONG, f"<p>{_LONG}</p>")),
        clear(f"<p>{_LONG}</p>"),
        finds(f"{_HEAD}Content-Type: text/html\n\n<p>{_LONG}</p>\n"),
        finds(_BOTH.format("", f"<p>{_LONG}</p>")),
    ],
)
def text_missing(message: Message, context: Context) -> Evidence | None:
    """HTML without plain text beside it, or with an empty one."""
    if message.html is None or not message.envelope_known or (message.text is not None and message.text.text.strip()):
        return None
    return Evidence("HTML without plain text", Place("message"))


@reason(
    id="parts-differ",
    name="Plain text says something else",
    group="structure",
    weight=0.7,
    by_hand=True,
    why="A harmless text for filters beside another for readers is an old trick.",
    fix="Make the plain text afresh from the HTML.",
    samples=[
        _PLAIN,
        clear(_BOTH.format(_LONG, f"<p>{_LONG}</p>")),
        clear(_BOTH.format(f"Please open this in a browser. {_LONG}", "<p>{{ content }}</p>")),
        finds(
            _BOTH.format(
                "Mary had a little lamb, its fleece was white as snow. And everywhere that Mary went, the lamb was sure to go.",
                f"<p>{_LONG}</p>",
            )
        ),
    ],
)
def parts_differ(message: Message, context: Context) -> Evidence | None:
    """Under a tenth of the words of the HTML's sentences stand in the plain text too, of eight words and more."""
    if message.html is None or message.text is None or not message.text.text.strip() or uses(message):
        return None
    html = {word for sentence in html_sentences(message)[:300] for word in sentence.text.lower().split() if len(word) > 3}
    text = {word for sentence in text_sentences(message)[:300] for word in sentence.text.lower().split() if len(word) > 3}
    if len(html) < 8 or len(text) < 3 or len(html & text) * 10 >= min(len(html), len(text)):
        return None
    return Evidence(
        f"{len(html & text)} of {len(html)} words stand in both", Place.in_text(message, Span(0, min(80, len(message.text.text))))
    )


@reason(
    id="copy-missing",
    name="Nothing to read and nothing to see",
    group="structure",
    weight=1.0,
    by_hand=True,
    why="An empty message tries out whether an address exists.",
    fix="Write the message.",
    samples=[
        _PLAIN,
        clear(f"{_HEAD}\n{{{{ content }}}}\n"),
        clear("<img src='a.png' alt='Pots'>"),
        finds(f"{_HEAD}\nhi\n"),
        finds(f"{_HEAD}Content-Type: text/html\n\n<p></p>\n"),
    ],
)
def copy_missing(message: Message, context: Context) -> Evidence | None:
    """Fewer than ten letters, and no picture."""
    letters = sum(map(str.isalnum, reading_of(message).visible_text))
    pictures = message.document is not None and next(iter(message.document.elements("img")), None) is not None
    if letters >= 10 or pictures or message.attachments:
        return None
    if uses(message):
        raise CannotTell("fields will bring text that is not known yet")
    return Evidence(f"{letters} letters of text", Place("message"))


@reason(
    id="attachment-risky",
    name="Attachment that programs refuse",
    group="structure",
    weight=3.0,
    by_hand=True,
    why="Servers put the whole message aside for it.",
    fix="Take it off, and link to a page from which it can be loaded.",
    samples=[
        _PLAIN,
        finds(
            f'{_HEAD}Content-Type: multipart/mixed; boundary=b\n\n--b\n\n{_LONG}\n--b\nContent-Disposition: attachment; filename="kiln.exe"\n\nx\n--b--\n'
        ),
    ],
)
def attachment_risky(message: Message, context: Context) -> Evidence | None:
    """A program, a script, a document with macros or a locked archive."""
    return found_by("sending.attachment-risky", message, context)


@reason(
    id="header-encoding",
    name="Raw octets in a header",
    group="structure",
    weight=0.8,
    why="Mail programs encode characters beyond ASCII; hurried scripts do not.",
    fix="Encode the header as RFC 2047 says.",
    samples=[_PLAIN, finds("From: Kiln <hello@kiln.org>\nSubject: Gl\udce4ser\n\nThe big kiln is fired on Monday.\n")],
)
def header_encoding(message: Message, context: Context) -> Evidence | None:
    """A header that is no ASCII, or whose encoded words are broken."""
    return found_by("envelope.header-encoding", message, context)


@reason(
    id="unsubscribe-missing",
    name="No way to unsubscribe",
    group="missing parts",
    weight=0.7,
    by_hand=True,
    why="A reader who finds no way out presses the spam button, and filters learn from that.",
    fix="Put a link that says “Unsubscribe” in the footer.",
    samples=[_PLAIN, clear(f"{_HEAD}\nYour receipt: {_LONG}\n", kind="transactional"), finds(f"{_HEAD}\n{_LONG}\n")],
)
def unsubscribe_missing(message: Message, context: Context) -> Evidence | None:
    """No visible way out of the list in a promotional message or a newsletter."""
    if not context.kind.is_bulk or unsubscribe_link(message) is not None or (message.html is None and message.text is None):
        return None
    return Evidence("no unsubscribe link found", Place("html" if message.html is not None else "text"))


@reason(
    id="address-missing",
    name="No postal address",
    group="missing parts",
    weight=0.2,
    by_hand=True,
    why="Honest senders of offers say where they can be found.",
    fix="Put street, place and code in the footer.",
    samples=[clear(f"{_HEAD}\n{_LONG} Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW.\n"), finds(f"{_HEAD}\n{_LONG}\n")],
)
def address_missing(message: Message, context: Context) -> Evidence | None:
    """No postal address in a promotional message or a newsletter."""
    return found_by("footer.address-missing", message, context)


@reason(
    id="one-click-missing",
    name="No unsubscribing by one click",
    group="missing parts",
    weight=0.3,
    by_hand=True,
    why="Large mailbox providers ask bulk senders for it.",
    fix="Send List-Unsubscribe with an https address, and List-Unsubscribe-Post.",
    samples=[
        clear(f"{_HEAD}List-Unsubscribe: <https://kiln.org/u>\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\n\n{_LONG}\n"),
        clear(f"<p>{_LONG}</p>"),
        finds(f"{_HEAD}List-Unsubscribe: <https://kiln.org/u>\n\n{_LONG}\n"),
        finds(f"{_HEAD}\n{_LONG}\n"),
    ],
)
def one_click_missing(message: Message, context: Context) -> Evidence | None:
    """The headers for it are missing or wrong, in bulk mail as it is sent."""
    return found_by("footer.list-unsubscribe", message, context) or found_by("footer.one-click", message, context)
