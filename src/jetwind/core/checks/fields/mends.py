"""The mends of fields in the shipped syntax: a default, a filter, a field of another syntax."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, sources, turns
from jetwind.core.message import Message, Sample
from jetwind.core.source import Span

_READERS = (Sample("Tove", {"first_name": "Tove"}), Sample("Nil", {"first_name": ""}))
_MARKED = Sample("Marked", {"first_name": "A & B"})
#: A field with nothing but its name and filters, between its marks and their blanks.
_FIELD = re.compile(r"\{\{-?\s*[\w.]+(?:\s*\|[^{}|]*)*?(?P<end>\s*-?\}\})")
#: A field of another syntax that is a name between marks.
_FOREIGN = re.compile(r"[^\w\s]{1,3}=?\s*(?P<name>[A-Za-z]\w*)\s*[^\w\s]{1,3}")
#: Before a field that is a part of an address: a parameter, a step of the path, or letters of one.
_INSIDE = re.compile(r"(?:[?&;][\w.~-]{1,80}=|[\w/.~-])\Z")


def _is_liquid(message: Message) -> bool:
    """Whether fields are written as in Liquid, whose filters are known."""
    return message.syntax.grammar == "liquid" and message.syntax.open_mark == "{{"


def _quote(message: Message, part: str, span: Span) -> str:
    """The quotation mark that may stand in a field at a place: inside a tag, the one that the attribute is not written with."""
    if part != "html" or message.html is None:
        return '"'
    before = message.html.text[max(0, span.start - 4_000) : span.start]
    tag = before[before.rfind("<") :] if before.rfind("<") > before.rfind(">") else ""
    return "'" if tag.count('"') % 2 else '"'


@fill(
    "fields.no-default",
    asks="The words for readers without a value",
    example="friend",
    does="Each place of the field gets these words as its default.",
    leaves="Fields of a header are left to a person, and so are words with quotation marks or braces.",
    samples=[
        turns("<p>Dear {{ first_name }},</p>", '<p>Dear {{ first_name | default: "friend" }},</p>', "friend", readers=_READERS),
        turns(
            "<p>Dear {{first_name | upcase}},</p><img src='cid:a' alt=\"For {{ first_name }}\">",
            "<p>Dear {{first_name | upcase | default: \"friend\"}},</p><img src='cid:a' alt=\"For {{ first_name | default: 'friend' }}\">",
            "friend",
            readers=_READERS,
        ),
        leaves_alone("<p>Dear {{ first_name }},</p>", 'the "friend"', readers=_READERS),
        leaves_alone("Subject: {{ first_name }}, hello\nFrom: a@kiln.example\n\nx\n", "friend", readers=_READERS),
    ],
)
def fill_default(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The filter stands last, where it sees what the others made."""
    if not _is_liquid(message) or set(word) & set("\"'{}<>&"):
        return
    for part, span, written in sources(message, finding):
        found = _FIELD.fullmatch(written)
        if part == "header" or found is None:
            return
        quote = _quote(message, part, span)
        yield Change(part, span, f"{written[: found.start('end')]} | default: {quote}{word}{quote}{found['end']}")


@mend(
    "fields.address-unescaped",
    kind=MendKind.CONFIRM,
    does="The value is percent-encoded on its way into the address.",
    leaves="A field that is the whole address is left to a person, and so is one of another syntax.",
    samples=[
        turns(
            "<a href='https://kiln.example/?n={{ first_name }}'>Go</a>",
            "<a href='https://kiln.example/?n={{ first_name | url_encode }}'>Go</a>",
            readers=(_MARKED,),
        ),
        leaves_alone("<a href='{{ first_name }}?x'>Go</a>", readers=(Sample("Blank", {"first_name": "https://kiln.example/a b"}),)),
    ],
)
def mend_unescaped(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The filter url_encode stands last."""
    for part, span, written in sources(message, finding):
        found, source = _FIELD.fullmatch(written), message.source_of(part)
        before = source.text[max(0, span.start - 100) : span.start] if source is not None else ""
        if _is_liquid(message) and part != "header" and found is not None and _INSIDE.search(before):
            yield Change(part, span, f"{written[: found.start('end')]} | url_encode{found['end']}")


@mend(
    "fields.markup-unescaped",
    kind=MendKind.CONFIRM,
    does="The value is escaped on its way into the HTML; a value that is meant as HTML then shows its tags.",
    leaves="A field of another syntax, or with braces in it, is left to a person.",
    samples=[
        turns("<p>Dear {{ first_name }}</p>", "<p>Dear {{ first_name | escape }}</p>", readers=(_MARKED,)),
        turns(
            "<p>Dear {{first_name | strip}}</p>",
            "<p>Dear {{first_name | strip | escape}}</p>",
            readers=(_MARKED,),
        ),
        leaves_alone("<p>{% if first_name %}{{ first_name | replace: '{', '(' }}{% endif %}</p>", readers=(_MARKED,)),
    ],
)
def mend_markup(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The filter escape stands last."""
    for part, span, written in sources(message, finding):
        found = _FIELD.fullmatch(written)
        if _is_liquid(message) and part == "html" and found is not None:
            yield Change(part, span, f"{written[: found.start('end')]} | escape{found['end']}")


@mend(
    "fields.foreign",
    kind=MendKind.CONFIRM,
    does="Each field that another syntax writes between marks is written in this message's syntax.",
    leaves="A name that the workspace does not fill is left to a person, and so are conditions.",
    samples=[
        turns(
            "<p>Dear [[first_name]] and %%FIRST_NAME%%,</p>",
            "<p>Dear {{ first_name }} and {{ first_name }},</p>",
            known_fields=frozenset({"first_name"}),
        ),
        leaves_alone("<p>Dear [[first_name]],</p>"),
        leaves_alone("<p>Dear [[pot]],</p>", known_fields=frozenset({"first_name"})),
    ],
)
def mend_foreign(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The name as the workspace has it, whatever its capitals were."""
    known = {name.casefold(): name for name in sorted(context.known_fields or ())}
    for part, span, written in sources(message, finding):
        found = _FOREIGN.fullmatch(written)
        name = known.get(found["name"].casefold()) if found is not None else None
        if _is_liquid(message) and part != "header" and name is not None:
            yield Change(part, span, f"{{{{ {name} }}}}")


@mend(
    "fields.unknown",
    kind=MendKind.CONFIRM,
    does="The name becomes the one on the field list that is nearest to it.",
    leaves="A name that is near to none is left to a person, and so are fields of headers.",
    samples=[
        turns(
            "<p>Hello {{ frist_name | upcase }}</p><p>{% if frist_name %}Hello{% endif %}</p>",
            "<p>Hello {{ first_name | upcase }}</p><p>{% if first_name %}Hello{% endif %}</p>",
            known_fields=frozenset({"first_name"}),
        ),
        leaves_alone("<p>Hello {{ pot }}</p>", known_fields=frozenset({"first_name"})),
        leaves_alone("Subject: For {{ frist_name }}\nFrom: a@kiln.example\n\nHello\n", known_fields=frozenset({"first_name"})),
    ],
)
def mend_unknown(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The name alone, in each place where it stands; filters and conditions stay."""
    near = re.search(r"“([\w.]+)”", str(finding.data.get("near", "")))
    name = str(finding.data.get("name", ""))
    for part, span, written in sources(message, finding) if near is not None and name else ():
        right = re.sub(rf"(?<![\w.'\"]){re.escape(name)}(?![\w'\"])", near[1] if near is not None else "", written)
        if part != "header" and right != written:
            yield Change(part, span, right)
