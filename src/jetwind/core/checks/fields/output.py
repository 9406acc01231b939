"""Nothing that looks like a field is left once the message is merged."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.fields import mask, token_shapes
from jetwind.core.markup import source_span
from jetwind.core.message import Message, Sample
from jetwind.core.source import Span

_READ_ATTRIBUTES = frozenset({"alt", "title", "href", "src", "background", "aria-label", "content"})
_ADDRESSES = frozenset({"href", "src", "background"})


@check(
    id="fields.unresolved",
    name="Raw field left in the message",
    level=Level.STOP,
    why="The reader sees the machinery instead of a name, or follows a link that leads nowhere.",
    fix="Write the field in this message's syntax, or take it out.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>Dear {{ first_name }}, 50% off [today] and 100%! See footnote [1] and {1}.</p>"),
        clear("<style>p{color:red}</style><p style='x'>Set {a, b} and **bold** text</p>"),
        clear("<a href='https://kiln.example/caf%C3%A9clair%20?a=%7B1%7D'>Go</a>"),
        clear("Subject: x\nFrom: a@kiln.example\n\n[Unsubscribe] <https://kiln.example/u>\n----\n~~~~\n## Heading ##\n"),
        clear("<!--[if mso]>{{ x }}<![endif]--><p>Price: $20 (from $25)</p>"),
        finds("<p>Dear {first_name},</p>", at="{first_name}"),
        finds("<p>Dear [[first name here]] and [[first_name]],</p>", at="[[first_name]]"),
        finds("<p>Dear %%first_name%%,</p>", at="%%first_name%%"),
        finds("<p>Dear &lt;&lt;Name&gt;&gt;,</p>", at="&lt;&lt;Name&gt;&gt;"),
        finds("<p>Dear {{ first_name,</p>", at="{{ first_name,"),
        finds("<a href='https://kiln.example/?c=${code}'>Go</a>", at="${code}"),
        finds("<img src='cid:a' alt='For [FIRST_NAME]'>", at="[FIRST_NAME]"),
        finds("Subject: Hello %first_name%\nFrom: a@kiln.example\n\nx\n", at="Subject: Hello %first_name%"),
        finds("Subject: x\nFrom: a@kiln.example\n\nDear [FIRST_NAME],\n", at="[FIRST_NAME]"),
        finds("<p>Dear {{ first_name }},</p>", at="{{ first_name }}", readers=(Sample("Odd", {"first_name": "[[NAME]]"}),)),
    ],
)
def find_unresolved(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, preview text, HTML, alternative texts, addresses and plain text hold nothing token-shaped once merged.

    Fields of the message's own syntax are replaced by definition, so what remains is what the source holds besides
    them, and what a reader's value brings in.
    """
    for name in ("Subject", "From", "Reply-To"):
        header = message.header(name)
        if header is not None:
            for span in token_shapes(mask(header.value, message.syntax)):
                yield _hit(header.value, span, Place.in_header(message, name, header), "header", name)
    for span in token_shapes(mask(message.given_preview_text, message.syntax)):
        yield _hit(message.given_preview_text, span, Place.in_header(message, "Preview text"), "header", "preview text")
    yield from _in_html(message)
    if message.text is not None:
        for span in token_shapes(mask(message.text.text, message.syntax)):
            yield _hit(message.text.text, span, Place.in_text(message, span), "text", "plain text")
    yield from _from_values(message, context)


def _in_html(message: Message) -> Iterator[Hit]:
    document = message.document
    if document is None:
        return
    for piece in (*message.reading.lead_in_pieces, *message.reading.pieces):
        run = piece.run
        # The run keeps its own fields as written; masking them again leaves only what is foreign.
        for span in token_shapes(mask(run.text, message.syntax)):
            where = source_span(document.source.slice(run.span), run.span, span.start, span.end) if run.span else run.parent.start_tag
            yield _hit(run.text, span, Place.in_html(message, where, run.parent.index), "html", "the copy")
    for element in document.all_elements:
        for name, attribute in element.attributes.items():
            if name not in _READ_ATTRIBUTES or (name == "content" and element.tag != "meta"):
                continue
            for span in token_shapes(mask(attribute.value, message.syntax), in_address=name in _ADDRESSES):
                raw = document.source.slice(attribute.value_span)
                where = source_span(raw, attribute.value_span, span.start, span.end)
                yield _hit(attribute.value, span, Place.in_html(message, where, element.index), name, f"{name} of {element.tag}")


def _from_values(message: Message, context: Context) -> Iterator[Hit]:
    """A value of a sample reader that is itself token-shaped, where the message uses it."""
    places: dict[str, Place] = {}
    if message.html is not None:
        for token in message.syntax.tokens(message.html.text):
            if token.name:
                places.setdefault(token.name, Place.in_html(message, token.span))
    if message.text is not None:
        for token in message.syntax.tokens(message.text.text):
            if token.name:
                places.setdefault(token.name, Place.in_text(message, token.span))
    for reader in context.readers:
        for name, place in places.items():
            for span in token_shapes(reader.values.get(name, "")):
                yield _hit(reader.values[name], span, place, f"reader:{reader.name}", f"the copy for {reader.name}")


def _hit(text: str, span: Span, place: Place, scope: str, where: str) -> Hit:
    token = text[span.start : span.end]
    return Hit("“{token}” stays unresolved in {where}.", place, {"token": token, "where": where}, identity=f"{place.part}:{scope}:{token}")
