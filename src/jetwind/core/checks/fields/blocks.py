"""Blocks begin and end where they may, and each part of them is shown to somebody."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.field_texts import FieldText, field_texts
from jetwind.core.checking.merged import merged_facts
from jetwind.core.fields import Block, FieldToken, structure
from jetwind.core.markup import Document
from jetwind.core.message import Message, Sample
from jetwind.core.source import Span

_MEMBER = Sample("Member", {"member": "yes", "tier": "clay"})
_GUEST = Sample("Guest", {"tier": "glaze"})
_VOID = frozenset(["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr"])
#: End tags that may be left out (HTML §13.1.2.4).
_MAY_STAY_OPEN = frozenset(
    [
        "p",
        "li",
        "td",
        "th",
        "tr",
        "tbody",
        "thead",
        "tfoot",
        "dt",
        "dd",
        "option",
        "optgroup",
        "colgroup",
        "caption",
        "html",
        "head",
        "body",
        "rt",
        "rp",
    ]
)
#: Elements inside a part that are followed; deeper ones are taken as balanced.
_DEEPEST = 200
#: Tags that are looked at, once for each block around them; blocks beyond are taken as balanced.
_MOST_TAGS = 200_000


@check(
    id="fields.block-unbalanced",
    name="Conditional part that is not balanced",
    level=Level.STOP,
    why="The sending system stops on a block without an end; a block that cuts through elements takes the layout apart for some readers.",
    fix="End each block, and begin and end it inside the same element.",
    basis="Liquid grammar as python-liquid implements it; HTML §13.1.2 for elements",
    samples=[
        clear("<p>{% if member %}Hello{% elsif tier == 'clay' %}Good day{% else %}Welcome{% endif %}</p>"),
        clear("<table>{% for i in (1..2) %}<tr><td>x</td></tr>{% else %}<tr><td>y</td></tr>{% endfor %}</table>"),
        clear("<p {% if member %}class='a'{% else %}class='b'{% endif %}>x</p><style>{% if member %}p{a:b}{% endif %}</style>"),
        clear("<div>{% if member %}<a href='https://kiln.example/'>{% endif %}<img src='cid:a'>{% if member %}</a>{% endif %}</div>"),
        clear("<tr>{% if member %}<td class='a'>{% else %}<td class='b'>{% endif %}x</td></tr>"),
        clear("<ul>{% if member %}<li>One<li>Two{% endif %}<li>Three</ul>{% if member %}<p>One<p>Two{% endif %}"),
        clear(
            "<p>{% case tier %}{% when 'clay' %}a{% else %}b{% endcase %}{% comment %}{% if %}{% endcomment %}{% raw %}{% if x %}{% endraw %}</p>"
        ),
        clear("<!--[if mso]>{% if member %}<table>{% endif %}<![endif]--><p>x</p>"),
        clear(
            "<div>{% if tier %}" + "{% if member %}<div class='a'>{% else %}<div class='b'>{% endif %}x</div>" * 30 + "{% endif %}</div>"
        ),
        finds("<p>{% if member %}Hello</p>", at="{% if member %}"),
        finds("<p>Hello{% endif %}</p>", at="{% endif %}"),
        finds("<p>{% if member %}a{% else %}b{% endfor %}</p>", at="{% endfor %}"),
        finds("<p>{% for i in (1..2) %}{% if i %}a{% endfor %}</p>", at="{% if i %}"),
        finds("<p>{% else %}Hello</p>", at="{% else %}"),
        finds("<tr><td>{% if member %}Hello</td><td>{% endif %}Welcome</td></tr>", at="{% if member %}"),
        finds("<div>{% if member %}Hello</div>{% endif %}<p>x</p>", at="{% if member %}"),
        finds("<div>{% if member %}<div>Hello{% endif %}</div>", at="{% if member %}"),
        finds("<a href='{% if member %}https://kiln.example/'>Go{% endif %}</a>", at="{% if member %}"),
        finds("Subject: {% if member %}Hello\nFrom: a@kiln.example\n\nx\n", at="Subject: {% if member %}Hello"),
    ],
)
def find_unbalanced(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each block has an end of its own kind, and what lies between its tags opens and closes the same elements.

    Two blocks on one condition, of which the first opens an element and the second closes it, are balanced for every reader; so are
    the parts of one block that leave the same elements open, and elements whose end tag may be left out.
    """
    for text in field_texts(message):
        if not any(token.is_block for token in text.tokens):
            continue
        blocks = structure(text.tokens, message.syntax)
        for one in blocks.misplaced:
            data = {"token": one.token.source, "why": one.why}
            yield Hit("“{token}” {why}.", text.place(one.token.span), data, identity=f"{one.token.source} {one.why}")
        if text.is_html and message.document is not None:
            yield from _crossing(message.document, text, [block for _, block in blocks.walk()])


@dataclass(slots=True)
class _Left:
    """The elements that a part of a block leaves behind: closed ones that stood open before it, and opened ones left open."""

    closes: list[str]
    opens: list[str]

    def __bool__(self) -> bool:
        return bool(self.closes or self.opens)


def _crossing(document: Document, text: FieldText, blocks: list[Block]) -> Iterator[Hit]:
    inside = _tokens_of_tags(document, text)
    cut: list[tuple[Block, list[_Left]]] = []
    budget = _MOST_TAGS
    for block in blocks:
        if block.closing is None:
            continue
        budget -= sum(len(document.tags_within(part.body)) for part in block.parts)
        if budget < 0:
            break
        homes = {inside.get(token.span.start) for token in block.tokens}
        if len(homes) > 1:
            yield _crosses(text, block, "begins in one tag and ends in another")
        elif homes == {None}:
            left = [_left_by(document, part.body, part.inside) for part in block.parts]
            if any(left):
                cut.append((block, left))
    balanced = _balanced_in_pairs(cut)
    for block, left in cut:
        alike = all(one == left[0] for one in left) and any(part.token.word == "else" for part in block.parts)
        if not alike and id(block) not in balanced:
            worst = next(one for one in left if one)
            why = f"closes “{worst.closes[0]}” that stood open before it" if worst.closes else f"leaves “{worst.opens[0]}” open"
            yield _crosses(text, block, why)


def _crosses(text: FieldText, block: Block, why: str) -> Hit:
    opening = block.parts[0].token
    assert block.closing is not None
    data = {"token": opening.source, "why": why}
    places = [text.place(token.span) for token in block.tokens]
    return Hit("The part that “{token}” opens {why}.", places[0], data, identity=f"{opening.source} {why}", also=tuple(places[1:]))


def _balanced_in_pairs(cut: list[tuple[Block, list[_Left]]]) -> set[int]:
    """Blocks that belong together: what one opens, a later one on the same condition closes."""
    waiting: dict[str, list[tuple[Block, list[str]]]] = {}
    balanced: set[int] = set()
    for block, left in cut:
        if len(left) != 1:
            continue
        says = " ".join(block.parts[0].says.split())
        if left[0].opens and not left[0].closes:
            waiting.setdefault(says, []).append((block, left[0].opens))
        elif left[0].closes and not left[0].opens and waiting.get(says):
            first, opened = waiting[says][-1]
            if Counter(opened) == Counter(left[0].closes):
                waiting[says].pop()
                balanced.update((id(first), id(block)))
    return balanced


def _tokens_of_tags(document: Document, text: FieldText) -> dict[int, int | None]:
    """For each block tag by its start, the start of the tag or comment of the source that it stands in; None in text."""
    homes: dict[int, int | None] = {}
    source = iter(document.tokens)
    current = next(source, None)
    for token in text.tokens:
        while current is not None and current.span.end <= token.span.start:
            current = next(source, None)
        if token.is_block:
            homes[token.span.start] = None if current is None or current.kind == "text" else current.span.start
    return homes


def _left_by(document: Document, body: Span, inner: list[Block]) -> _Left:
    """The elements that the tags inside a stretch of the source leave behind. Of a block inside, the first part alone counts."""
    skipped = iter([part.body for block in inner for part in block.parts[1:]])
    skip = next(skipped, None)
    opened: list[str] = []
    closes: list[str] = []
    for token in document.tags_within(body):
        while skip is not None and skip.end <= token.span.start:
            skip = next(skipped, None)
        if skip is not None and skip.start <= token.span.start:
            continue
        if token.kind == "start tag":
            if token.name not in _VOID and len(opened) < _DEEPEST and not _closes_itself(document, token.span):
                opened.append(token.name)
        elif token.name in opened:
            while opened.pop() != token.name:
                pass
        elif token.name != "br":
            closes.append(token.name)
    return _Left(closes, [name for name in opened if name not in _MAY_STAY_OPEN or name in closes])


def _closes_itself(document: Document, span: Span) -> bool:
    """Whether a tag ends in a slash, as those of word-processor markup do."""
    return document.source.text[span.start : span.end].endswith("/>") and ":" in document.source.text[span.start : span.end].split()[0]


@check(
    id="fields.branch-unseen",
    name="Conditional part that no sample reader shows",
    level=Level.NOTE,
    why="Nobody has looked at it: its words, links and pictures go out unseen.",
    fix="Add a sample reader who is shown it.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>{% if member %}Hello{% else %}Welcome{% endif %}</p>", readers=(_MEMBER, _GUEST)),
        clear("<p>{% if member %}{% endif %}x{% unless member %} {% endunless %}</p>", readers=(_MEMBER,)),
        clear("<p>{% if tier == 'clay' %}{{ missing }}{% endif %}</p>", readers=(_MEMBER,)),
        clear("<p>{% case tier %}{% when 'clay' %}a{% when 'glaze' %}b{% endcase %}</p>", readers=(_MEMBER, _GUEST)),
        clear("<p>{% if member %}Hello{% else %}Welcome{% endif %}</p>"),
        finds("<p>{% if member %}Hello{% else %}Welcome{% endif %}</p>", at="{% else %}", readers=(_MEMBER,)),
        finds("<p>{% if tier == 'raku' %}Hello{% endif %}</p>", at="{% if tier == 'raku' %}", readers=(_MEMBER, _GUEST)),
        finds("<p>{% case tier %}{% when 'raku' %}a{% else %}b{% endcase %}</p>", at="{% when 'raku' %}", readers=(_MEMBER, _GUEST)),
        finds("Subject: {% if member %}a{% else %}b{% endif %}\nFrom: a@kiln.example\n\nx\n", readers=(_MEMBER,)),
    ],
)
def find_unseen(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Some sample reader is shown each part of each block."""
    if not any(token.is_block and message.syntax.turn(token) for text in field_texts(message) for token in text.tokens):
        return
    if not context.readers:
        raise CannotTell("no sample readers were given")
    facts = merged_facts(message, context.readers)
    if facts.left_out:
        raise CannotTell(f"the copies of {facts.left_out} sample readers were not looked at")
    for text, part in facts.unseen:
        data = {"part": part.token.source, "where": text.where}
        where = text.place(part.token.span)
        yield Hit(
            "No sample reader is shown what follows “{part}” in the {where}.",
            where,
            data,
            identity=f"{part.token.source} {_first_words(text, part.token)}",
        )
    if facts.untraced and not facts.unseen:
        raise CannotTell(f"the {facts.untraced[0]} looks at its own words, so that it cannot be told who is shown what")


def _first_words(text: FieldText, token: FieldToken) -> str:
    return " ".join(text.text[token.span.end : token.span.end + 60].split())
