"""Every field and block tag can be read."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.field_texts import Use, all_texts, uses
from jetwind.core.fields import FieldToken, Syntax, condition, opaque, unclosed
from jetwind.core.markup import source_span
from jetwind.core.message import Message, Shared
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span

_MISFITS: Shared[list[tuple[Use, str]]] = Shared("misfit fields")

#: Fields that need no template engine to be read: a name, and filters with nothing or plain values behind them.
_PLAIN = re.compile(
    r"-?\s*[A-Za-z_][\w-]*(?:\.[\w-]+)*\s*(?:\|\s*(?P<filter>default|upcase|downcase|capitalize|escape|strip|url_encode|date|truncate|append|prepend|size)"
    r"\s*(?::\s*(?:\"[^\"{}|]*\"|'[^'{}|]*'|\d+)\s*)?)*-?\Z"
)
_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_FILTER = re.compile(r"\|\s*([A-Za-z_]\w*)?")
#: Tags that need what stands around them, and are told by fields.block-unbalanced where that lacks.
_NEEDS_MORE = frozenset({"if", "unless", "case", "for", "tablerow", "capture", "ifchanged"})
_STANDS_ALONE = frozenset({"else", "elsif", "when", "raw", "endraw", "comment", "break", "continue"})
_READ_ATTRIBUTES = frozenset({"alt", "title", "href", "src", "background", "aria-label", "content"})
_MOST = 2_000


@check(
    id="fields.malformed",
    name="Field that cannot be read",
    level=Level.STOP,
    why="The sending system stops on it, or sends it as it is written: the reader sees the machinery.",
    fix="Close the field, give it a name, or use a filter that there is.",
    basis="Common practice, no published source; Liquid grammar as python-liquid implements it",
    together="{many} fields cannot be read.",
    samples=[
        clear("<p>Dear {{ first_name | default: 'you' | upcase }}, {{ order.total }} {{- x -}} {{ 'now' | date: '%Y' }}</p>"),
        clear("<p>{% if a and b contains 'x' %}{% elsif c %}{% else %}{% endif %}{% case t %}{% when 'x', 'y' %}{% endcase %}</p>"),
        clear(
            "<p>{% for i in (1..3) limit: 2 %}{{ i }}{% break %}{% endfor %}{% assign a = b | plus: 1 %}{% comment %}{{ {% endcomment %}</p>"
        ),
        clear("<p>{% raw %}{{ }}{% endraw %} a } b { c {1} {} }</p><style>@media(x){a{b:c}}</style><p>{{#if a}}{{/if}}</p>"),
        clear("<script>var a = {b: {c: 1}};</script><p style='x'>Set {a, b}, {c: {d: e}} it</p>"),
        clear("<a href='https://kiln.example/?a=%7B%7Bx%7D%7D&amp;b={{ b | url_encode }}'>Go</a><!-- {{ old -->"),
        clear("<p>{{$json.name}} {{ a ?? b }} {% extends 'x' %} {{ fn(a) }} {{ first name }}</p>"),  # of another syntax, told once
        finds("<p>Dear {{ first_name,</p>", at="{{ first_name,"),
        finds("<p>Dear {{ first_name }, hi</p>", at="{{ first_name "),
        finds("<p>Dear {{ }}, hi</p>", at="{{ }}"),
        finds("<p>Dear {{ first name }}, hi</p>", at="{{ first name }}"),
        finds("<p>Dear {{ first_name | shout }}, hi</p>", at="{{ first_name | shout }}"),
        finds("<p>Dear {{ first_name | }}, hi</p>", at="{{ first_name | }}"),
        finds("<p>Dear {{ first_name | default 'you' }}, hi</p>", at="{{ first_name | default 'you' }}"),
        finds("<p>{% fi member %}Hello</p>", at="{% fi member %}"),
        finds("<p>{% if %}Hello{% endif %}</p>", at="{% if %}"),
        finds("<p>first_name }}, hello</p>", at="first_name }}"),
        finds("<p>{% if member Hello</p>", at="{% if member Hello"),
        finds("<img src='cid:a' alt='For {{ first_name'>", at="{{ first_name"),
        finds("Subject: Hello {{ first_name\nFrom: a@kiln.example\n\nx\n", at="Subject: Hello {{ first_name"),
        finds("Subject: x\nFrom: a@kiln.example\n\nHello {{ name | shout }}\n", at="{{ name | shout }}"),
    ],
)
def find_malformed(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each field has a name and filters that there are, each tag is one of the syntax, and each mark that opens is closed.

    Braces in styles and scripts and in comments are their own. Blocks as a whole are the affair of fields.block-unbalanced.
    """
    syntax = message.syntax
    # What is written in another syntax with the same marks is told once, by fields.foreign.
    for use, why in () if is_of_another_syntax(message) else misfits(message):
        yield Hit("“{token}” cannot be read: {why}.", use.place, {"token": use.token.source, "why": why}, identity=use.token.source)
    for written, span, place in _loose(message, syntax):
        mark = written[span.start : span.end]
        opens = mark.startswith((syntax.open_mark, syntax.block_open))
        why = "what it opens is never closed" if opens else "it closes what was never opened"
        yield Hit("“{token}” cannot be read: {why}.", place, {"token": mark, "why": why}, identity=mark)


def misfits(message: Message) -> list[tuple[Use, str]]:
    """The fields and tags between the syntax's own marks that it cannot read, each with why, as the end of a sentence."""
    return message.shared(
        _MISFITS,
        lambda: [(use, why) for use in uses(message) if use.kind != "comment" and (why := _fault(use.token, message.syntax))],
    )


#: What other syntaxes write between these marks, and no slip in this one looks like: a sign in front, a call, an operator of theirs.
_OF_OTHERS = re.compile(r"\{\{[-~]?\s*[$@=#>&^/*]|\{%[-~]?\s*=|\?\?|[\w'\"]\s*~\s*[\w'\"]|\.\[|\w\(")
#: Tags that other syntaxes with these marks have and this one lacks (from memory).
_TAGS_OF_OTHERS = frozenset(
    {
        "autoescape",
        "block",
        "blocktrans",
        "elif",
        "elseif",
        "embed",
        "endautoescape",
        "endblock",
        "extends",
        "filter",
        "from",
        "import",
        "load",
        "macro",
        "set",
        "spaceless",
        "static",
        "trans",
        "url",
        "verbatim",
        "with",
    }
)


def is_of_another_syntax(message: Message) -> bool:
    """Whether fields between the syntax's own marks give away that they were written for another sending system."""
    syntax = message.syntax
    own = (syntax.open_mark, syntax.block_open)
    if syntax.grammar == "marks" or not misfits(message):
        return False
    return any((use.token.is_foreign and use.token.source.startswith(own)) for use in uses(message)) or any(
        _OF_OTHERS.search(html.unescape(use.token.source)) or use.token.word in _TAGS_OF_OTHERS for use, _ in misfits(message)
    )


def _fault(token: FieldToken, syntax: Syntax) -> str:
    """The fault of one field or tag, as the end of a sentence."""
    if token.is_foreign or token.is_literal or token.word == "comment":
        return ""
    if syntax.grammar == "marks":
        if token.is_block:
            opens = syntax.turn(token) == "opens"
            return "its condition is no field, nor a field and a value" if opens and condition(token) is None else ""
        return "" if token.name else "between its marks stands no field’s name"
    written = html.unescape(token.source)
    inner = written[2:-2]
    if not token.is_block and _PLAIN.match(inner):
        return ""
    if not inner.strip(" -\n\t"):
        return "between its marks stands no field’s name" if not token.is_block else "between its marks stands no tag"
    # Loaded when first used: it takes a sixth of a second, and most fields are plain.
    from jetwind.core.fields.liquid import faults_of, knows_filter

    for name in _FILTER.findall(_QUOTED.sub("''", inner)):
        if not name:
            return "a filter has no name"
        if not knows_filter(name):
            return f"there is no filter “{name}”"
    if token.word in _STANDS_ALONE or token.word.startswith("end"):
        return ""
    ending = f"{{% end{token.word} %}}" if token.word in _NEEDS_MORE else ""
    middle = "{% when 1 %}" if token.word == "case" else ""
    return faults_of(written + middle + ending)


def _loose(message: Message, syntax: Syntax) -> Iterator[tuple[str, Span, Place]]:
    """Marks that open and never close, or close and never opened: the text, the span in it, the place."""
    if len(syntax.open_mark) < 2:
        return
    for text in all_texts(message):
        for span in unclosed(opaque(text.text, syntax), syntax) if not text.is_html else ():
            yield text.text, span, text.place(span)
    document = message.document
    if document is None or not any(
        mark in document.source.text for mark in (syntax.open_mark, syntax.block_open, syntax.close_mark, "&lt;")
    ):
        return
    if "<" in syntax.open_mark:
        # To HTML such a mark begins a tag, so that it is no text of the tree.
        source = document.masked(Span(0, len(document.source.text)))
        for span in unclosed(source, syntax):
            if source[span.start] == "<":
                yield source, span, Place.in_html(message, span, document.element_before(span.start))
    reading = reading_of(message)
    for piece in (*reading.lead_in_pieces, *reading.pieces)[: _MOST * 20]:
        run = piece.run
        for span in unclosed(opaque(run.text, syntax), syntax):
            where = source_span(document.source.slice(run.span), run.span, span.start, span.end) if run.span else run.parent.start_tag
            yield run.text, span, Place.in_html(message, where, run.parent.index)
    for element in document.all_elements:
        for name, attribute in element.attributes.items() if element.names else ():
            if name not in _READ_ATTRIBUTES or (name == "content" and element.tag != "meta"):
                continue
            for span in unclosed(opaque(attribute.value, syntax), syntax):
                raw = document.source.slice(attribute.value_span)
                yield (
                    attribute.value,
                    span,
                    Place.in_html(message, source_span(raw, attribute.value_span, span.start, span.end), element.index),
                )
