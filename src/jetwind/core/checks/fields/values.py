"""The values of readers bring something everywhere, and no mark in them breaks an address or the HTML."""

from __future__ import annotations

import html
import re
from collections import defaultdict
from collections.abc import Iterator, Sequence

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.field_texts import uses
from jetwind.core.checking.merged import Brought, Hole, MergedFacts, merged_facts, named
from jetwind.core.facts import phrase_set
from jetwind.core.message import Message, Sample

_FILLED = Sample("Tove", {"first_name": "Tove", "code": "GLAZE"})
_EMPTY = Sample("Nil", {"first_name": "", "code": ""})
_MISSING = Sample("Gone", {"code": "GLAZE"})
_READERS = (_FILLED, _EMPTY)
_MARKED = Sample("Marked", {"first_name": "Kit <b>& Sons", "code": "A B&C"})


def facts_for(message: Message, context: Context) -> MergedFacts:
    """The texts that the sample readers get.

    Raises:
        CannotTell: there are no sample readers, or the message cannot be merged for them.
    """
    if not context.readers:
        raise CannotTell("no sample readers were given")
    return merged_facts(message, context.readers)


@check(
    id="fields.no-default",
    name="Field without a default that some reader has empty",
    level=Level.FIX,
    why="Where the value lacks, the reader meets a hole in a sentence or a link that lacks its end.",
    fix="Give the field a default, or show the sentence only where the value is not blank: in Liquid an empty one counts as there.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>Dear {{ first_name | default: 'friend' }},</p>", readers=_READERS),
        clear("<p>{% if first_name != blank %}Dear {{ first_name }},{% endif %} hello</p>", readers=_READERS),
        clear("<p>{% if first_name %}Dear {{ first_name }},{% endif %} hello</p>", readers=(_FILLED, _MISSING)),
        clear("<p>Dear {{ first_name }},</p>", readers=(_FILLED,)),
        clear("<p>Dear {{ first_name }},</p>"),
        clear("<p>{{ greeting }} and {{ unsubscribe_url }}</p>", readers=_READERS),
        clear("<p>{% assign a = 'x' %}{{ a }}{% for i in (1..2) %}{{ i }}{% endfor %}</p>", readers=_READERS),
        finds("<p>Dear {{ first_name }},</p>", at="{{ first_name }}", readers=_READERS),
        finds("<p>Dear {{ first_name }},</p>", at="{{ first_name }}", readers=(_FILLED, _MISSING)),
        finds("<p>Dear {{ first_name | upcase }},</p>", at="{{ first_name | upcase }}", readers=_READERS),
        finds("<a href='https://kiln.example/?c={{ code }}'>Go</a>", at="{{ code }}", readers=_READERS),
        finds("<p>{% if first_name %}Dear {{ first_name }},{% endif %} hello</p>", at="{{ first_name }}", readers=_READERS),
        finds("<img src='cid:a' alt='For {{ first_name }}'>", at="{{ first_name }}", readers=_READERS),
        finds("Subject: {{ first_name }}, hello\nFrom: a@kiln.example\n\nx\n", at="Subject: {{ first_name }}, hello", readers=_READERS),
        finds("Subject: x\nFrom: a@kiln.example\n\nDear {{ first_name }},\n", at="{{ first_name }}", readers=_READERS),
    ],
)
def find_no_default(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every field that is reached brings something for every sample reader. One finding for one field, in all its places.

    A field that no sample reader has a value of is the affair of fields.unknown; those that the sending system fills itself are none.
    """
    if not uses(message):
        return
    same: dict[str, list[Brought]] = defaultdict(list)
    for one in _without_default(message, facts_for(message, context), context.readers):
        same[one.use.token.name or ""].append(one)
    for name, lacking in same.items():
        readers = tuple(dict.fromkeys(reader for one in lacking for reader in one.readers))
        worst = max(lacking, key=lambda one: (one.use.kind in ("copy", "subject"), len(one.readers)))
        evidence = worst.evidence if worst.use.kind in ("copy", "subject", "header") else f"{worst.use.where} without its value"
        data = {"name": name, "readers": named(readers), "evidence": evidence}
        places = [one.use.place for one in lacking]
        yield Hit(
            "“{name}” has no default and is empty for {readers}: “{evidence}”.", worst.use.place, data, identity=name, also=tuple(places)
        )


def _without_default(message: Message, facts: MergedFacts, readers: Sequence[Sample]) -> Iterator[Brought]:
    """Places where a field was reached and brought nothing, although some reader has it."""
    had = {name for reader in readers for name in reader.values}
    system = phrase_set("phrases", "system_fields")
    for one in facts.empty:
        name = one.use.token.name
        if name is not None and name in had and name not in system and one.use.token.default is None and one.use.kind != "comment":
            yield one


@check(
    id="fields.gap",
    name="Hole in the merged text",
    level=Level.FIX,
    why="“Hello ,” tells the reader that a machine wrote to them and knows nothing of them.",
    fix="Give the field a default that reads well, or put the blank and the comma inside the part that is shown with the name.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>Hello{% if first_name != blank %} {{ first_name }}{% endif %}, welcome</p>", readers=_READERS),
        clear("<p>Dear {{ first_name | default: 'friend' }}, welcome.</p>", readers=_READERS),
        clear("<p>{% if code != blank %}<b>Your code</b>{% endif %}</p><p>Hello.</p>", readers=_READERS),
        clear("<p>Welcome {{ first_name | default: '' }} to the kiln</p>", readers=_READERS),  # two blanks are one in HTML
        clear("<p>Bonjour{% if first_name != blank %} {{ first_name }}{% endif %} !</p>", readers=_READERS),
        clear("<p>Hello , and ( ) as the author wrote it {{ first_name | default: 'you' }}</p>", readers=_READERS),
        clear("<p>Dear {{ first_name }},</p>", readers=_READERS),  # told once, by fields.no-default
        finds("<p>Hello {{ first_name | default: '' }}, welcome</p>", at="{{ first_name | default: '' }}", readers=_READERS),
        finds("<p>Dear {% if first_name %}{{ first_name }}{% endif %}!</p>", at="{% if first_name %}", readers=(_FILLED, _MISSING)),
        finds("<p>Hello {{ first_name }}, welcome</p>", at="{{ first_name }}", readers=(_FILLED, Sample("Blank", {"first_name": " "}))),
        finds("<p>{{ first_name | default: '' }}’s order</p>", at="{{ first_name | default: '' }}", readers=_READERS),
        finds("<p>Your code ({{ code | default: '' }}) waits</p>", at="{{ code | default: '' }}", readers=_READERS),
        finds(
            "Subject: Here is {{ code | default: '' }} for you\nFrom: a@kiln.example\n\nx\n",
            at="Subject: Here is {{ code | default: '' }} for you",
            readers=_READERS,
        ),
        finds(
            "Subject: x\nFrom: a@kiln.example\n\nHello {{ first_name | default: '' }},\n",
            at="{{ first_name | default: '' }}",
            readers=_READERS,
        ),
    ],
)
def find_gap(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where a field or a block brings nothing, the words about it read as if nothing were lacking.

    A field that is empty because it has no default is told by fields.no-default, once.
    """
    if not uses(message):
        return
    facts = facts_for(message, context)
    told = {(id(one.use.text), one.use.token.span.start) for one in _without_default(message, facts, context.readers)}
    holes: dict[tuple[str, str], list[Hole]] = defaultdict(list)
    for hole in facts.holes:
        if (id(hole.text), hole.at.span.start) not in told:
            holes[hole.at.source, hole.evidence].append(hole)
    for (source, evidence), same in holes.items():
        readers = tuple(dict.fromkeys(reader for hole in same for reader in hole.readers))
        data = {"evidence": evidence, "readers": named(readers), "where": same[0].text.where}
        first, *others = (hole.text.place(hole.at.span) for hole in same)
        message_text = "The {where} reads “{evidence}” for {readers}, with a hole where something fell away."
        yield Hit(message_text, first, data, identity=f"{source} {evidence}", also=tuple(others))


_ENCODES = re.compile(r"\|\s*(?:url_encode|url_escape|cgi_escape|base64_url_safe_encode)\b")
#: Never part of an address as it stands (RFC 3986 §2); and what cuts a value short or splits it inside one.
_NEVER = re.compile(r"[\s\"<>\\^`{|}]|[^\x00-\x7f]|%(?![0-9A-Fa-f]{2})")
_SPLITS = re.compile(r"[&#+]")
_ADDRESS_BEFORE = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:[^\s\"'<>]*\Z")


@check(
    id="fields.address-unescaped",
    name="Value that breaks a link address",
    level=Level.FIX,
    why="A blank or an ampersand in a value ends the address or begins another parameter: the link leads elsewhere.",
    fix="Let the field be percent-encoded on its way into the address, as url_encode does.",
    basis="RFC 3986 §2.1",
    samples=[
        clear("<a href='https://kiln.example/?n={{ first_name | url_encode }}'>Go</a>", readers=(_MARKED,)),
        clear("<a href='https://kiln.example/?n={{ first_name }}'>Go</a>", readers=(_FILLED,)),
        clear("<a href='{{ code }}'>Go</a>", readers=(Sample("Whole", {"code": "https://kiln.example/a?b=1&c=2#d"}),)),
        clear("<a href='mailto:{{ code }}'>Write</a>", readers=(Sample("Mail", {"code": "kit+a@kiln.example"}),)),
        clear("<p>Dear {{ first_name }}</p><img src='cid:a' alt='{{ first_name }}'>", readers=(_MARKED,)),
        clear("<a href='https://kiln.example/?n={{ first_name }}'>Go</a>"),
        finds("<a href='https://kiln.example/?n={{ first_name }}'>Go</a>", at="{{ first_name }}", readers=(_MARKED,)),
        finds("<img src='https://kiln.example/{{ code }}.png' alt=''>", at="{{ code }}", readers=(Sample("Blank", {"code": "a b"}),)),
        finds("<a href='https://kiln.example/?c={{ code | default: 'a b' }}'>Go</a>", at="{{ code | default: 'a b' }}", readers=(_EMPTY,)),
        finds("Subject: x\nFrom: a@kiln.example\n\nSee https://kiln.example/?c={{ code }}\n", at="{{ code }}", readers=(_MARKED,)),
    ],
)
def find_address_unescaped(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A value of a field in a link address holds no character that an address cannot hold there.

    A field that is the whole address, or its beginning, may hold what an address is made of; one behind ``mailto:`` a plus sign.
    """
    if not uses(message):
        return
    same: dict[str, list[tuple[Brought, str]]] = defaultdict(list)
    for one in facts_for(message, context).brought:
        marks = _breaking(one)
        if marks:
            same[one.use.token.source].append((one, marks))
    for source, found in same.items():
        worst, marks = max(found, key=lambda pair: len(pair[1]))
        readers = tuple(dict.fromkeys(reader for one, _ in found for reader in one.readers))
        data = {"name": worst.use.token.name, "value": html.unescape(worst.made), "marks": marks, "readers": named(readers)}
        places = tuple(dict.fromkeys(one.use.place for one, _ in found))
        sentence = "“{name}” goes into an address as it is: “{value}” of {readers} has {marks} in it."
        yield Hit(sentence, places[0], data, identity=source, also=places[1:])


_SAID = {" ": "a blank", "\n": "a line break", "\t": "a tab"}


def _breaking(one: Brought) -> str:
    """The characters of a value that break the address that it goes into, in words; empty where none does."""
    use = one.use
    if _ENCODES.search(use.token.source):
        return ""
    made = html.unescape(one.made) if use.text.is_html else one.made
    if use.kind == "address" and use.attribute is not None:
        before = use.text.text[use.attribute.value_span.start : use.token.span.start].strip()
    elif use.kind == "copy" and not use.text.is_html:
        found = _ADDRESS_BEFORE.search(one.around[0])
        if found is None or "://" not in found[0]:
            return ""
        before = found[0]
    else:
        return ""
    marks = _NEVER.findall(made)
    if before and not before.lower().startswith(("mailto:", "tel:")):
        marks += _SPLITS.findall(made)
    return ", ".join(_SAID.get(mark, f"“{mark}”") for mark in dict.fromkeys(marks))


_ESCAPES = re.compile(r"\|\s*(?:escape|escape_once|strip_html|h|url_encode|json)\b")
_REFERENCE = re.compile(r"&(?:#\d+|#[xX][0-9A-Fa-f]+|[A-Za-z][A-Za-z0-9]+);?")


@check(
    id="fields.markup-unescaped",
    name="Value that breaks the HTML",
    level=Level.STOP,
    why="A value with an angle bracket in it becomes markup: what follows disappears, or takes another form.",
    fix="Let the field be escaped on its way into HTML, or say in Settings that the sending system escapes values.",
    basis="HTML §13.1.4; values are escaped or not as the syntax says",
    samples=[
        clear("<p>Dear {{ first_name | escape }}</p>", readers=(_MARKED,)),
        clear("<p>Dear {{ first_name }}</p>", readers=(_FILLED, Sample("Quote", {"first_name": 'Ada O’Hara "Kit"'}))),
        clear("<!-- {{ first_name }} --><p>Hello</p>", readers=(_MARKED,)),
        clear("Subject: For {{ first_name }}\nFrom: a@kiln.example\n\nDear {{ first_name }}\n", readers=(_MARKED,)),
        finds("<p>Dear {{ first_name }}</p>", at="{{ first_name }}", readers=(_MARKED,)),
        finds("<p>Dear {{ first_name }}</p>", at="{{ first_name }}", readers=(Sample("Firm", {"first_name": "Kiln & Sons"}),)),
        finds("<img src='cid:a' alt='For {{ first_name }}'>", at="{{ first_name }}", readers=(Sample("O", {"first_name": "O'Hara"}),)),
    ],
)
def find_markup_unescaped(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No value puts ``<``, ``>`` or ``&`` into the HTML as it is, nor the quote that ends the attribute it stands in.

    A bare ``&`` or ``>`` that begins no reference reads as it should in every browser (HTML §13.2.5.72), so it weighs as a fix.
    """
    if message.html is None or message.syntax.escapes or not any(use.text.is_html for use in uses(message)):
        return
    same: dict[str, list[tuple[Brought, str]]] = defaultdict(list)
    for one in facts_for(message, context).brought:
        marks = _marks_of(one)
        if marks:
            same[one.use.token.name or ""].append((one, marks))
    for name, found in same.items():
        breaks = [pair for pair in found if pair[1] not in "&>" or _REFERENCE.search(pair[0].made)]
        worst, mark = (breaks or found)[0]
        readers = tuple(dict.fromkeys(reader for one, _ in found for reader in one.readers))
        data = {"name": name, "value": worst.made, "mark": mark, "readers": named(readers), "where": worst.use.where}
        places = tuple(dict.fromkeys((worst.use.place, *(one.use.place for one, _ in found))))
        sentence = "“{name}” goes into {where} as it is: “{value}” of {readers} has “{mark}” in it."
        yield Hit(sentence, places[0], data, identity=name, level=None if breaks else Level.FIX, also=places[1:])


def _marks_of(one: Brought) -> str:
    """The first character of a value that means something to HTML where it stands."""
    use = one.use
    if not use.text.is_html or use.kind in ("comment",) or _ESCAPES.search(use.token.source):
        return ""
    marks = "<>&"
    if use.attribute is not None:
        before = use.text.text[use.attribute.value_span.start - 1 : use.attribute.value_span.start]
        marks = (before if before in ("'", '"') else " ") + "<" + ("" if use.kind == "address" else "&")
    return next((char for char in marks if char in one.made), "")
