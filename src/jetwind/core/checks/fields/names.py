"""Every field is one that the sending system can fill."""

from __future__ import annotations

import difflib
import re
from bisect import bisect_right
from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.facts import phrases
from jetwind.core.fields import FieldToken
from jetwind.core.message import Message
from jetwind.core.source import Span

_KNOWN = frozenset({"first_name", "email", "order.number"})
_INTRODUCES = re.compile(r"\{%-?\s*(?:for|assign|capture|increment|decrement|tablerow)\s+([A-Za-z_][\w-]*)")
_BLOCK = re.compile(r"\{%-?\s*(?P<tag>\w+)(?P<rest>.*?)-?%\}", re.DOTALL)
_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_IDENTIFIER = re.compile(r"(?<![\w.])[A-Za-z_][\w-]*(?:\.[\w-]+)*")
_READS_FIELDS = frozenset({"if", "elsif", "unless", "case", "for", "assign", "echo", "tablerow"})
_NOT_FIELDS = frozenset(
    {"and", "or", "not", "in", "contains", "true", "false", "nil", "null", "blank", "empty", "limit", "offset", "reversed", "cols"}
)


@check(
    id="fields.unknown",
    name="Field that nobody fills",
    level=Level.STOP,
    why="A field that the list does not have comes out blank or raw.",
    fix="Use the field's name as the field list has it, or add it to the list.",
    basis="House: the field list",
    samples=[
        clear("<p>Hello {{ first_name | default: 'there' }}</p>", known_fields=_KNOWN),
        clear("<p>Order {{ order.number }}</p>", known_fields=_KNOWN),
        clear("<p>{% for item in order %}{{ item.title }} {{ forloop.index }}{% endfor %}</p>", known_fields=_KNOWN | {"order"}),
        clear("<p>{{ frist_name }}</p>"),
        clear("<a href='{{ unsubscribe_url }}'>Unsubscribe</a>", known_fields=_KNOWN),
        clear("<p>{% if first_name == 'Ada' and email contains '@' %}Hello{% endif %}</p>", known_fields=_KNOWN),
        finds("<p>Hello {{ frist_name }}</p>", at="{{ frist_name }}", known_fields=_KNOWN),
        finds("<a href='https://kiln.example/?m={{ mail }}'>Go</a>", at="{{ mail }}", known_fields=_KNOWN),
        finds("Subject: For {{ name }}\nFrom: a@kiln.example\n\nHello\n", at="Subject: For {{ name }}", known_fields=_KNOWN),
        finds("<p>{% if membr %}Hello{% endif %}</p>", at="{% if membr %}", known_fields=_KNOWN),
    ],
)
def find_unknown(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every field of subject, preview text, HTML and plain text is on the field list."""
    used = list(_used(message))
    if not used:
        return
    if context.known_fields is None:
        raise CannotTell("no field list or sample readers were given")
    introduced = {"forloop", "tablerowloop"}
    for part in (message.html, message.text):
        introduced.update(match[1] for match in _INTRODUCES.finditer(part.text if part else ""))
    known = context.known_fields | frozenset(phrases("phrases", "system_fields"))
    for name, place in used:
        root = name.split(".")[0]
        if name in known or root in known or root in introduced:
            continue
        near = difflib.get_close_matches(name, sorted(known), 1, 0.6)
        yield Hit(
            "The field “{name}” is not on the field list{near}.",
            place,
            {"name": name, "near": f"; the nearest is “{near[0]}”" if near else ""},
            identity=name,
            fix=f"Write {near[0]}, or add {name} to the field list." if near else None,
        )


def _used(message: Message) -> Iterator[tuple[str, Place]]:
    for header_name in ("Subject", "From", "Reply-To"):
        header = message.header(header_name)
        if header is not None:
            for token in message.syntax.tokens(header.value):
                yield from ((name, Place.in_header(message, header_name, header)) for name in _names(token))
    for token in message.syntax.tokens(message.given_preview_text):
        yield from ((name, Place.in_header(message, "Preview text")) for name in _names(token))
    if message.html is not None and message.document is not None:
        starts = sorted((element.start_tag.start, element.index) for element in message.document.all_elements if element.start_tag)
        for token in message.syntax.tokens(message.html.text):
            before = bisect_right(starts, (token.span.start, len(starts)))
            element = starts[before - 1][1] if before else None
            yield from ((name, Place.in_html(message, token.span, element)) for name in _names(token))
    if message.text is not None:
        for token in message.syntax.tokens(message.text.seen):
            span = Span(token.span.start, token.span.end)
            yield from ((name, Place.in_text(message, span)) for name in _names(token))


def _names(token: FieldToken) -> list[str]:
    """Field names that a token reads; a block tag such as ``if`` may read several."""
    if not token.is_block:
        return [token.name] if token.name else []
    block = _BLOCK.match(token.source)
    if block is None or block["tag"] not in _READS_FIELDS:
        return []
    rest = _QUOTED.sub(" ", block["rest"])
    if block["tag"] in ("for", "tablerow"):
        rest = rest.partition(" in ")[2]
    elif block["tag"] == "assign":
        rest = rest.partition("=")[2]
    rest = rest.split("|")[0]
    return [name for name in _IDENTIFIER.findall(rest) if name.lower() not in _NOT_FIELDS]
