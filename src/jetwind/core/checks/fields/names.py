"""Every field is one that the sending system can fill."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.field_texts import uses
from jetwind.core.facts import phrase_set
from jetwind.core.fields import fields_read
from jetwind.core.message import Message

_KNOWN = frozenset({"first_name", "email", "order.number"})
_INTRODUCES = re.compile(r"\{%-?\s*(?:for|assign|capture|increment|decrement|tablerow)\s+([A-Za-z_][\w-]*)")


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
    known = context.known_fields | phrase_set("phrases", "system_fields")
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
    for use in uses(message):
        yield from ((name, use.place) for name in fields_read(use.token, message.syntax))
