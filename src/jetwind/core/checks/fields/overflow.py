"""The longest value of a field has room where it is shown."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

import regex

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.field_texts import FieldText, Use, field_texts, uses
from jetwind.core.checking.merged import Brought, merged_facts, named
from jetwind.core.checking.options import About
from jetwind.core.checking.samples import box, laid_out
from jetwind.core.checks.rendered import fields_by_element, seen_in, widened_by_values
from jetwind.core.message import Message, Sample
from jetwind.core.renders import Renders

_HEAD = "From: Kiln <hello@kiln.example>\n"
_SHORT = Sample("Al", {"first_name": "Al"})
_LONG = Sample("Long", {"first_name": "Maximiliana-Theodora"})
_WIDE = box("p", "text", (0, 0, 520, 20), characters=60)


@dataclass(frozen=True)
class OverflowOptions(Options):
    """The options that a house may set."""

    most_characters: Annotated[int, About("the longest subject that passes, as a reader counts", unit="characters")] = 60


@check(
    id="fields.overflow",
    name="Value too long for its place",
    level=Level.FIX,
    why="For readers with a long value the end of the subject is cut, or the message has to be pushed sideways.",
    fix="Put the field where there is room, cut it with a filter such as truncate, or let the words around it break.",
    basis="Common practice, no published source; the layout is measured on the render",
    options=OverflowOptions,
    samples=[
        clear(f"{_HEAD}Subject: Hello {{{{ first_name }}}}\n\nx\n", readers=(_SHORT, _LONG)),
        clear(f"{_HEAD}Subject: {'a' * 70} {{{{ first_name }}}}\n\nx\n", readers=(_SHORT, _LONG)),  # too long without the field
        clear(f"{_HEAD}Subject: {'a' * 70}\n\nx\n", readers=(_SHORT, _LONG)),
        clear(f"{_HEAD}Subject: {'a' * 50} {{{{ first_name }}}}\n\nx\n"),
        clear("<p>Hello {{ first_name }}</p>", readers=(_LONG,), renders=laid_out("phone-upright", _WIDE, content_width=520)),
        clear("<p>Hello</p>", readers=(_LONG,), renders=laid_out("phone-upright", _WIDE, content_width=520, reader="Long")),
        clear(
            "<table width=640><tr><td><p>Hello {{ first_name }}</p></table>",
            readers=(_LONG,),
            renders=laid_out("phone-upright", box("p", "text", (0, 0, 640, 20)), content_width=640, reader="Long"),
        ),
        clear(
            "<p>Hello {{ first_name }}</p>",
            readers=(_LONG,),
            renders=laid_out("phone-upright", box("p", "text", (0, 0, 300, 20)), content_width=390, reader="Long"),
        ),
        clear(
            "<p>Hello {{ first_name }}</p><table width=640><tr><td>x</table>",
            readers=(_SHORT,),
            renders=laid_out("phone-upright", box("p", "text", (0, 0, 640, 20)), width=640, content_width=640, scale=0.61, reader="Al"),
        ),
        finds(
            f"{_HEAD}Subject: {'a' * 50} {{{{ first_name }}}}\n\nx\n",
            at=f"Subject: {'a' * 50} {{{{ first_name }}}}",
            readers=(_SHORT, _LONG),
        ),
        finds(
            "<p>Hello {{ first_name }}</p>",
            at="{{ first_name }}",
            readers=(Sample("Long", {"first_name": "x" * 80}),),
            renders=laid_out("phone-upright", _WIDE, content_width=520, reader="Long"),
        ),
        finds(
            "<p>Hello {{ first_name }}</p>",
            at="{{ first_name }}",
            readers=(Sample("Long", {"first_name": "x" * 80}),),
            renders=laid_out(
                "phone-upright", box("p", "text", (0, 0, 1000, 20)), width=1000, content_width=1000, scale=0.39, reader="Long"
            ),
        ),
    ],
)
def find_overflow(message: Message, context: Context, options: OverflowOptions) -> Iterator[Hit]:
    """With the longest value the subject stays within its limit, and no block with a field in it is wider than the screen.

    A subject that is too long without the field is told by envelope.subject-long alone; a message that is too wide because a width is
    fixed, by appearance.sideways. What no render of a reader was made of cannot be told, and is not.
    """
    if not context.readers or not uses(message):
        return
    for text in field_texts(message):
        if text.where == "subject" or text.where.startswith("subject variant"):
            yield from _subject(message, context, text, options.most_characters)
    if context.renders is not None and context.renders.reader:
        yield from _sideways(message, context, context.renders)


def graphemes(text: str) -> int:
    """User-perceived characters (Unicode UAX #29)."""
    return len(regex.findall(r"\X", " ".join(text.split())))


def _subject(message: Message, context: Context, text: FieldText, most: int) -> Iterator[Hit]:
    facts = merged_facts(message, context.readers)
    copies = sorted(((graphemes(copy), copy, readers) for copy, readers in facts.copies.get(text.where, ())), reverse=True)
    if not copies or copies[0][0] <= most or copies[-1][0] > most:
        return
    length, copy, readers = copies[0]
    brought = [one for one in facts.brought if one.use.text is text and set(one.readers) & set(readers)]
    longest = max(brought, key=lambda one: len(one.made), default=None)
    touched = tuple(name for count, _, names in copies if count > most for name in names)
    data = {"name": _name(longest), "where": text.where, "length": length, "limit": most, "readers": named(touched), "merged": copy}
    yield Hit(
        "The longest “{name}” makes the {where} {length} characters long, for {readers}; the limit is {limit}.",
        text.place(text.tokens[0].span),
        data,
        identity=f"{text.where} {text.text}",
    )


def _name(brought: Brought | None) -> str:
    return brought.use.token.name or "" if brought is not None else "value"


def _sideways(message: Message, context: Context, renders: Renders) -> Iterator[Hit]:
    by_element = fields_by_element(message)
    for element, (room, width, ids) in widened_by_values(message, context).items():
        use = max(by_element[element], key=lambda one: _length(message, context, one, renders.reader))
        value = next(
            (one.made for one in merged_facts(message, context.readers).brought if one.use is use and renders.reader in one.readers), ""
        )
        data = {"name": use.token.name, "value": value, "reader": renders.reader, "width": width, "room": room, **seen_in(renders, ids)}
        yield Hit(
            "“{value}” of {reader} makes its line {width} px wide where there are {room} px, in {profiles}.",
            Place.in_html(message, use.token.span, element),
            data,
            identity=f"sideways {use.token.name}",
        )


def _length(message: Message, context: Context, use: Use, reader: str) -> int:
    facts = merged_facts(message, context.readers)
    return max((len(one.made) for one in facts.brought if one.use is use and reader in one.readers), default=0)
