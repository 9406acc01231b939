"""Nothing that looks like a field is left once the message is merged."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.fields import LIQUID, opaque, tokens, unclosed
from jetwind.core.markup import source_span
from jetwind.core.message import Message, Sample
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span

_READ_ATTRIBUTES = frozenset({"alt", "title", "href", "src", "background", "aria-label", "content"})


@check(
    id="fields.unresolved",
    name="Raw field left in the message",
    level=Level.STOP,
    why="The reader sees the machinery instead of a name, or follows a link that leads nowhere.",
    fix="Close the field, or mend the reader's value.",
    basis="Common practice, no published source",
    version=2,
    samples=[
        clear("<p>Dear {{ first_name }}, 50% off [today] and 100%! See footnote [1] and {1}.</p>"),
        clear("<style>@media(max-width:600px){p{color:red}}</style><p style='x'>Set {a, b} and **bold** text</p>"),
        clear("<p>Dear [[first_name]]</p>"),  # told once, by fields.foreign
        clear("<!--[if mso]>{{ x }}<![endif]--><p>Price: $20 (from $25)</p>"),
        finds("<p>Dear {{ first_name,</p>", at="{{ first_name,"),
        finds("<img src='cid:a' alt='For {{ first_name'>", at="{{ first_name"),
        finds("Subject: Hello {{ first_name\nFrom: a@kiln.example\n\nx\n", at="Subject: Hello {{ first_name"),
        finds("<p>Dear {{ first_name }},</p>", at="{{ first_name }}", readers=(Sample("Odd", {"first_name": "[[NAME]]"}),)),
    ],
)
def find_unresolved(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject, preview text, HTML, alternative texts, addresses and plain text hold nothing token-shaped once merged.

    Fields of the message's own syntax are replaced by definition, and those of another are told by fields.foreign. What remains are
    marks that open and never close, and what a reader's value brings in.
    """
    for name in ("Subject", "From", "Reply-To"):
        header = message.header(name)
        if header is not None:
            for span in unclosed(opaque(header.value, message.syntax)):
                yield _hit(header.value, span, Place.in_header(message, name, header), name)
    for span in unclosed(opaque(message.given_preview_text, message.syntax)):
        yield _hit(message.given_preview_text, span, Place.in_header(message, "Preview text"), "preview text")
    yield from _in_html(message)
    if message.text is not None:
        for span in unclosed(opaque(message.text.seen, message.syntax)):
            yield _hit(message.text.seen, span, Place.in_text(message, span), "plain text")
    yield from _from_values(message, context)


def _in_html(message: Message) -> Iterator[Hit]:
    document = message.document
    if document is None or "{{" not in document.source.text:
        return
    for piece in (*reading_of(message).lead_in_pieces, *reading_of(message).pieces):
        run = piece.run
        for span in unclosed(opaque(run.text, message.syntax)):
            where = source_span(document.source.slice(run.span), run.span, span.start, span.end) if run.span else run.parent.start_tag
            yield _hit(run.text, span, Place.in_html(message, where, run.parent.index), "the copy")
    for element in document.all_elements:
        for name, attribute in element.attributes.items():
            if name not in _READ_ATTRIBUTES or (name == "content" and element.tag != "meta"):
                continue
            for span in unclosed(opaque(attribute.value, message.syntax)):
                raw = document.source.slice(attribute.value_span)
                where = source_span(raw, attribute.value_span, span.start, span.end)
                yield _hit(attribute.value, span, Place.in_html(message, where, element.index), f"{name} of {element.tag}")


def _from_values(message: Message, context: Context) -> Iterator[Hit]:
    """A value of a sample reader that is itself token-shaped, where the message uses it."""
    places: dict[str, Place] = {}
    if message.html is not None:
        for token in message.syntax.tokens(message.html.text):
            if token.name:
                places.setdefault(token.name, Place.in_html(message, token.span))
    if message.text is not None:
        for token in message.syntax.tokens(message.text.seen):
            if token.name:
                places.setdefault(token.name, Place.in_text(message, token.span))
    for reader in context.readers:
        for name, place in places.items():
            value = reader.values.get(name, "")
            for token in tokens(value, LIQUID):
                yield _hit(value, token.span, place, f"the copy for {reader.name}")


def _hit(text: str, span: Span, place: Place, where: str) -> Hit:
    token = text[span.start : span.end]
    return Hit("“{token}” stays unresolved in {where}.", place, {"token": token, "where": where}, identity=token)
