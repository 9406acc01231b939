"""Every field is written in the syntax that this message's sending system reads."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain, islice

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.fields.malformed import is_of_another_syntax, misfits
from jetwind.core.fields import tokens
from jetwind.core.markup import Document, TextRun, parse, source_span
from jetwind.core.markup.conditional import conditionals
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span
from jetwind.core.styles.cascade import NEVER_SHOWN

#: Attributes that a reader gets to see or follow; tokens of code marks are found in all of them.
_READ_ATTRIBUTES = frozenset({"alt", "title", "href", "src", "background", "aria-label", "content", "style", "width", "height", "bgcolor"})
_ADDRESSES = frozenset({"href", "src", "background"})
#: Tokens of one message that are told one by one.
_MOST = 3_000
#: Conditional blocks of one message that are looked at; real ones have a dozen.
_MOST_BLOCKS = 500


@check(
    id="fields.foreign",
    name="Field in another syntax",
    level=Level.STOP,
    why="The sending system does not read it: the reader sees the machinery instead of a name.",
    fix="Write the field in this message's syntax, or take it out.",
    basis="Common practice, no published source",
    together="{many} fields are in another syntax than this message’s.",
    samples=[
        clear("<p>Dear {{ first_name }}, 50% off [today] and 100%! See footnote [1] and {1}.</p>"),
        clear("<div>{% if vip %}<p>Dear {{ first_name | default: 'friend' }}</p>{% endif %}</div>"),
        clear("<style>p{color:red}@media(max-width:600px){a{b:c}}</style><p style='x'>Set {a, b} and **bold** text</p>"),
        clear("<style>#head#foot{width:50%;color:#BADA55}/* %old_note% */a[data-x]{background:url(a%20b%C3%A9a)}</style><p>x</p>"),
        clear("<a href='https://kiln.example/caf%C3%A9clair%20?a=%7B1%7D'>Go</a>"),
        clear(
            "Subject: x\nFrom: a@kiln.example\n\n[Unsubscribe] <https://kiln.example/u>\n----\n~~~~\n## Heading ##\n[SHOP NOW] [click here]\n"
        ),
        clear(
            "Subject: [KILN] Spring is here\nFrom: a@kiln.example\n\n[SOLD OUT] 20%-30% off, #spring #glaze#clay, a[0], [x] done [ ] open\n"
        ),
        clear("<!-- %old_name% and [YOUR NAME] --><!--[if mso]><p>100% wool, #glaze#clay</p><![endif]--><p>x</p>"),
        clear("<!--[if mso]>{{ x }}<![endif]--><![if !mso]><p>Price: $20 (from $25), 3 << 4</p><![endif]>"),
        finds("<p>Dear {first_name},</p>", at="{first_name}"),
        finds("<p>{{$json.name}} {{ a ?? b }} {{ first name }}</p>", at="{{ a ?? b }}"),
        finds("<p>{% extends 'x' %}{% block copy %}Hello{% endblock %}</p>", at="{% extends 'x' %}"),
        finds("<p>Dear <% name %>, your <%= order.total %></p>", at="<%= order.total %>"),
        finds("<p>Dear &lt;%= name %&gt;,</p>", at="&lt;%= name %&gt;"),
        finds("<p>{{#if vip}}Dear{{/if}} friend</p>", at="{{#if vip}}"),
        finds("<p>Dear [[first_name]] and %%first_name%%,</p>", at="[[first_name]]"),
        finds("<p>Dear [[first_name]] and %%first_name%%,</p>", at="%%first_name%%"),
        finds("<p>Dear &lt;&lt;Name&gt;&gt;,</p>", at="&lt;&lt;Name&gt;&gt;"),
        finds("<p>Dear #FIRST_NAME# of %company%</p>", at="%company%"),
        finds("<p>Kiln Works, [our address here]</p>", at="[our address here]"),
        finds("<a href='https://kiln.example/?c=${code}'>Go</a>", at="${code}"),
        finds("<img src='cid:a' alt='For [FIRST_NAME]'>", at="[FIRST_NAME]"),
        finds("<img {{/if}} src='cid:a' alt='x'><table><tr><% if a > b %><td bgcolor='${ground}'>x</td></tr></table>", at="<% if a > b %>"),
        finds("<style>p { color: <%= ink %> }</style><p>x</p>", at="<%= ink %>"),
        finds("<!--[if mso]><table><tr><td>Dear %first_name%, 50% off</td></tr></table><![endif]--><p>x</p>", at="%first_name%"),
        finds("<style>p { color: #ink_colour#; width: %card_width%px }</style><p>x</p>", at="%card_width%"),
        finds("Subject: Hello %first_name%\nFrom: a@kiln.example\n\nx\n", at="Subject: Hello %first_name%"),
        finds("Subject: x\nFrom: a@kiln.example\n\nDear [FIRST_NAME],\n", at="[FIRST_NAME]"),
    ],
)
def find_foreign(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, preview text, HTML, alternative texts, addresses, styles and plain text hold no token of another syntax."""
    others = ((use.token.source, use.place) for use, _ in misfits(message)) if is_of_another_syntax(message) else ()
    for token, place in chain(_tokens(message), others):
        yield Hit("“{token}” is a field in another syntax than this message's.", place, {"token": token}, identity=" ".join(token.split()))


def _tokens(message: Message) -> Iterator[tuple[str, Place]]:
    for name in ("Subject", "From", "Reply-To"):
        header = message.header(name)
        for token in tokens(header.value, message.syntax) if header is not None else ():
            if token.is_foreign:
                yield token.source, Place.in_header(message, name, header)
    for number, variant in enumerate(message.variants, 1):
        yield from (
            (token.source, Place.in_header(message, f"Subject variant {number}"))
            for token in tokens(variant, message.syntax)
            if token.is_foreign
        )
    for token in tokens(message.given_preview_text, message.syntax):
        if token.is_foreign:
            yield token.source, Place.in_header(message, "Preview text")
    yield from _in_html(message)
    for token in tokens(message.text.seen, message.syntax) if message.text is not None else ():
        if token.is_foreign:
            yield token.source, Place.in_text(message, token.span)


def _in_html(message: Message) -> Iterator[tuple[str, Place]]:
    """Tokens of code marks anywhere in the source; in copy and in attributes that are read, those of word marks and escaped ones too."""
    if message.document is not None:
        for span, source, index in sorted(_placed(message, message.document), key=lambda item: item[0].start):
            yield source, Place.in_html(message, span, index)


def _placed(message: Message, document: Document) -> list[_Placed]:
    found: list[_Placed] = []
    covered = {token.span.start for token in document.field_tokens}
    for token in document.field_tokens[:_MOST]:
        if token.is_foreign:
            found.append((token.span, token.source, document.element_before(token.span.start)))
    reading = reading_of(message)
    shown = (piece.run for piece in (*reading.lead_in_pieces, *reading.pieces))
    words = (item for item in chain(_words(document, shown), _words_of_conditionals(document)) if item[0].start not in covered)
    return [*found, *islice(words, _MOST)]


_Placed = tuple[Span, str, int | None]


def _words(document: Document, runs: Iterable[TextRun]) -> Iterator[_Placed]:
    """Tokens of word marks, and escaped ones, in runs of text and in the attributes that are read."""
    for run in runs:
        for token in tokens(run.text, document.syntax):
            if token.is_foreign and run.span is not None:
                span = source_span(document.source.slice(run.span), run.span, token.span.start, token.span.end)
                yield span, token.source, run.parent.index
    for element in document.all_elements:
        for name, attribute in element.attributes.items() if element.names else ():
            if name not in _READ_ATTRIBUTES or (name == "content" and element.tag != "meta"):
                continue
            for token in tokens(attribute.value, document.syntax, in_address=name in _ADDRESSES):
                if token.is_foreign:
                    raw = document.source.slice(attribute.value_span)
                    yield source_span(raw, attribute.value_span, token.span.start, token.span.end), token.source, element.index


def _words_of_conditionals(document: Document) -> Iterator[_Placed]:
    """The same in blocks that only the word-processor engine reads, which are comments to everybody else."""
    text = document.source.text
    if "[if" not in text.lower():
        return
    blocks = [block for block in conditionals(text)[0] if block.form == "hidden"]
    for block in blocks[:_MOST_BLOCKS]:
        inside = parse(text[block.content.start : block.content.end], document.syntax)
        runs = (node for node in inside.root.walk() if isinstance(node, TextRun) and node.parent.tag not in NEVER_SHOWN)
        for span, source, _ in _words(inside, runs):
            yield Span(block.content.start + span.start, block.content.start + span.end), source, None
