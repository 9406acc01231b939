"""Syntaxes of marks alone: described, read, filled, traced; blocks as a tree; holes in merged text.

No published source describes such a syntax; expected values are worked by hand from ``docs/fields.md``. What Liquid does with a template
is python-liquid's own answer; its source distribution (2.3.6) carries no cases.
"""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.checking import Context, registry, run_check
from jetwind.core.checking.copies import MOST_COPIES, readers_copies
from jetwind.core.checking.field_texts import uses
from jetwind.core.checking.merged import excerpt, merged_facts, named, shows_hole
from jetwind.core.checking.overview import field_overview
from jetwind.core.checks.fields.overflow import graphemes
from jetwind.core.fields import (
    LIQUID,
    UnusableSyntax,
    as_description,
    condition,
    described,
    fields_read,
    fill,
    from_toml,
    guess,
    merge,
    structure,
    tried,
)
from jetwind.core.message import Message, Sample, read_bytes
from jetwind.core.source import Span

ANGLES = described(
    {
        "name": "Angles",
        "open": "<<",
        "close": ">>",
        "default": "|",
        "if": ["if"],
        "else": ["else", "elseif"],
        "end": ["end", "/if"],
        "comment-open": "<<!",
        "comment-close": "!>>",
    }
)
SQUARE = described({"name": "Square", "open": "[", "close": "]", "default": ":"})
PERCENT = described({"name": "Per cent", "open": "%", "close": "%"})
APART = described({"name": "Apart", "open": "$(", "close": ")", "block-open": "$[", "block-close": "]", "if": "show", "end": "done"})


class TestDescribing:
    """A description is refused with a sentence that names what is wrong."""

    @pytest.mark.parametrize(
        ("data", "key"),
        [
            ({}, "name"),
            ({"name": "x" * 41, "open": "<<", "close": ">>"}, "name"),
            ({"name": "x", "close": ">>"}, "open"),
            ({"name": "x", "open": "<<"}, "close"),
            ({"name": "x", "open": "<", "close": ">"}, "open"),
            ({"name": "x", "open": "ab", "close": ">>"}, "open"),
            ({"name": "x", "open": "< <", "close": ">>"}, "open"),
            ({"name": "x", "open": "#########", "close": ">>"}, "open"),
            ({"name": "x", "open": 7, "close": ">>"}, "open"),
            ({"name": "x", "open": "<<", "close": ">>", "if": ["if"]}, "end"),
            ({"name": "x", "open": "<<", "close": ">>", "if": ["if"], "end": ["if"]}, "end"),
            ({"name": "x", "open": "<<", "close": ">>", "end": [7]}, "end"),
            ({"name": "x", "open": "<<", "close": ">>", "end": list("abcdefg")}, "end"),
            ({"name": "x", "open": "<<", "close": ">>", "comment-open": "<<!"}, "comment-close"),
            ({"name": "x", "open": "<<", "close": ">>", "colour": "red"}, "colour"),
        ],
    )
    def test_what_makes_no_syntax(self, data: dict[str, object], key: str) -> None:
        """The entry at fault is named."""
        with pytest.raises(UnusableSyntax) as refused:
            described(data)
        assert refused.value.key == key

    @pytest.mark.parametrize("syntax", [ANGLES, SQUARE, PERCENT, APART], ids=lambda one: one.name)
    def test_it_is_told_as_it_was_described(self, syntax) -> None:  # type: ignore[no-untyped-def]
        """There and back."""
        assert described(as_description(syntax)) == syntax

    def test_a_file(self) -> None:
        """TOML 1.0; one that is none says where."""
        text = 'name = "Angles"\nopen = "<<"\nclose = ">>"\ndefault = "|"\nif = ["if"]\nend = ["end"]\nescapes = true\n'
        assert from_toml(text).escapes
        with pytest.raises(UnusableSyntax, match="no TOML"):
            from_toml("name = ")


class TestReading:
    """Fields, blocks and comments of marks alone."""

    def kinds(self, line: str, syntax=ANGLES) -> list[tuple[str, str]]:  # type: ignore[no-untyped-def]
        """Each stretch and what it is read as."""
        return [(one.source, one.kind) for one in tried(line, syntax) if one.kind != "text"]

    def test_a_line_is_told_in_pieces(self) -> None:
        """Nothing is lost, each piece once."""
        line = "Hi <<first_name|you>><<if member>>, member<<end>> <<! a remark !>> <<first name>> {{ x }}."
        assert "".join(one.source for one in tried(line, ANGLES)) == line
        assert self.kinds(line) == [
            ("<<first_name|you>>", "field"),
            ("<<if member>>", "block"),
            ("<<end>>", "block"),
            ("<<! a remark !>>", "comment"),
            ("<<first name>>", "broken"),
            ("{{ x }}", "another syntax"),
        ]

    def test_marks_written_as_references_are_the_marks(self) -> None:
        """HTML writes an angle bracket so."""
        (token,) = ANGLES.tokens("&lt;&lt;first_name|&quot;you&quot;&gt;&gt;")
        assert (token.name, token.default) == ("first_name", "you")

    def test_single_marks_leave_copy_alone(self) -> None:
        """Brackets and per cent signs of ordinary copy, and octets of an address, are no fields."""
        assert self.kinds("[SHOP NOW] [1] [first_name] [a b]", SQUARE) == [("[first_name]", "field")]
        assert self.kinds("20%-30% off, %C3%A9, caf%C3%A9%20, 5%up%3, %first_name%", PERCENT) == [("%first_name%", "field")]

    def test_blocks_with_marks_of_their_own(self) -> None:
        """The field's marks hold no block then."""
        assert self.kinds("$[show member]x$[done] $(show) $(name)", APART) == [
            ("$[show member]", "block"), ("$[done]", "block"), ("$(show)", "field"), ("$(name)", "field"),
        ]  # fmt: skip

    @pytest.mark.parametrize(
        ("rest", "values", "holds"),
        [
            ("member", {"member": "yes"}, True),
            ("member", {"member": " "}, False),
            ("member", {}, False),
            ("not member", {}, True),
            ("!member", {"member": "x"}, False),
            ("tier = 'clay'", {"tier": "clay"}, True),
            ("tier == clay", {"tier": "clay"}, True),
            ('tier != "clay"', {"tier": "clay"}, False),
            ("tier is glaze", {"tier": "clay"}, False),
        ],
    )
    def test_conditions(self, rest: str, values: dict[str, str], holds: bool) -> None:
        """A field that is filled, or has a value."""
        (token,) = ANGLES.tokens(f"<<if {rest}>>")
        asked = condition(token)
        assert asked is not None
        assert asked.holds(values) is holds
        assert fields_read(token, ANGLES) == [rest.removeprefix("not ").lstrip("!").split(" ")[0]]

    def test_a_condition_that_is_none(self) -> None:
        """It is told as broken and hides nothing."""
        (token,) = ANGLES.tokens("<<if a > b>>") or [None]
        assert token is None or condition(token) is None

    @pytest.mark.parametrize(
        ("texts", "expected"),
        [
            (["Hi {{ first_name }}"], "Liquid"),
            (["Hi <<first_name>>"], "Angles"),
            (["Hi [first_name]"], "Square"),
            (["Hi [today]"], "Liquid"),
            (["Hi"], "Liquid"),
            (["{{ town }} <<first_name>> <<town>>"], "Angles"),
            (["<<something>>"], "Angles"),
        ],
    )
    def test_guessing(self, texts: list[str], expected: str) -> None:
        """By what is read, the field list before all."""
        assert guess(texts, [LIQUID, ANGLES, SQUARE], frozenset({"first_name", "town"})).name == expected


BITS = [
    "word ", "<p>", "<<x>>", "<<y|d>>", "<<if x>>", "<<if y = 'b'>>", "<<else>>", "<<elseif y>>", "<<end>>", "<</if>>", "<<! <<x>> !>>", "<<", ">>", "<<first name>>", "{{ x }}", "é",
]  # fmt: skip
VALUES = st.fixed_dictionaries({}, optional={"x": st.sampled_from(["", "Tove", "<i>", "<<y>>"]), "y": st.sampled_from(["", "b", "ü"])})


class TestFilling:
    """The message as a reader gets it."""

    @pytest.mark.parametrize(
        ("source", "values", "expected"),
        [
            ("Hi <<x|you>>!", {"x": "Tove"}, "Hi Tove!"),
            ("Hi <<x|you>>!", {}, "Hi you!"),
            ("<<if x>>A<<if y>>B<<else>>C<<end>><<else>>D<<end>>.", {"x": "1"}, "AC."),
            ("<<if x>>A<<elseif y>>B<<else>>C<<end>>", {"y": "1"}, "B"),
            ("<<if x>>A<<elseif y>>B<<else>>C<<end>>", {}, "C"),
            ("a<<! <<x>> !>>b", {"x": "1"}, "ab"),
            ("<<if x>>A<<else>>B", {"x": "1"}, "AB"),
            ("<<end>>A <<x>>", {"x": "1"}, "A 1"),
            ("<<if x>>A<<end>>", {"x": " "}, ""),
        ],
    )
    def test_examples(self, source: str, values: dict[str, str], expected: str) -> None:
        """Worked by hand; a broken block hides nothing."""
        assert fill(source, values, escape=False, syntax=ANGLES) == expected

    @given(st.lists(st.sampled_from(BITS), max_size=14).map("".join), VALUES, st.booleans())
    def test_what_is_merged_is_led_back(self, source: str, values: dict[str, str], escape: bool) -> None:
        """The text is that of filling; pieces cover it; what stands in the source stands there word for word."""
        merged = merge(source, values, escape=escape, syntax=ANGLES)
        assert merged.text == fill(source, values, escape=escape, syntax=ANGLES)
        at = 0
        for piece in merged.pieces:
            assert piece.start == at < piece.end
            at = piece.end
            if piece.token is None:
                assert merged.text[piece.start : piece.end] == source[piece.source.start : piece.source.end]
        assert at == len(merged.text)
        assert all(piece.token is not None and piece.start == piece.end for piece in merged.empty)


class TestStructure:
    """Blocks as a tree."""

    def test_a_tree(self) -> None:
        """Parts and what stands inside them."""
        source = "{% if a %}1{% if b %}2{% endif %}{% elsif c %}3{% else %}4{% endif %}{% case d %}{% when 1 %}5{% endcase %}"
        found = structure(list(LIQUID.tokens(source)), LIQUID)
        assert not found.misplaced
        assert [
            (depth, [(part.says, source[part.body.start : part.body.end]) for part in block.parts]) for depth, block in found.walk()
        ] == [
            (0, [("if a", "1{% if b %}2{% endif %}"), ("elsif c", "3"), ("else", "4")]),
            (1, [("if b", "2")]),
            (0, [("case d", ""), ("when 1", "5")]),
        ]

    @given(
        st.lists(
            st.sampled_from(["{% if a %}", "{% else %}", "{% endif %}", "{% for x in y %}", "{% endfor %}", "{% when 1 %}", "t"]),
            max_size=20,
        ).map("".join)
    )
    def test_every_tag_is_placed_or_told(self, source: str) -> None:
        """No tag is lost, none is in two places."""
        tokens = list(LIQUID.tokens(source))
        found = structure(tokens, LIQUID)
        placed = [token.span.start for _, block in found.walk() for token in block.tokens]
        assert len(placed) == len(set(placed))
        assert {*placed, *(one.token.span.start for one in found.misplaced)} == {token.span.start for token in tokens}

    def test_a_thousand_inside_each_other(self) -> None:
        """They stop at a depth that is told."""
        found = structure(list(LIQUID.tokens("{% if a %}" * 1000)), LIQUID)
        assert len(found.misplaced) == 1000
        assert found.misplaced[0].why == "stands inside 100 others"


class TestHoles:
    """What shows that something is lacking. Common practice, no published source."""

    @pytest.mark.parametrize(
        ("before", "after", "hole"),
        [
            ("Hello ", ", welcome", True),
            ("Dear ", "!", True),
            ("", ", welcome", True),
            ("", "’s order", True),
            ("your ", "'s order", True),
            ("code (", ") waits", True),
            ("“", "”", True),
            ("Dear", "", True),
            ("Bonjour ", " !", True),
            ("Hello", ", welcome", False),
            ("Hello ", "and welcome", False),
            ("Bonjour", " !", False),
            ("Bonjour ", "!", False),
            ("wait ", "...", False),
            ("from ", ".example", False),
            ("Hello", "", False),
            ("", "Hello", False),
            ("", "", False),
        ],
    )
    def test_words_about_a_place(self, before: str, after: str, hole: bool) -> None:
        """In HTML, where any white space is one blank."""
        assert shows_hole(before, after, collapses=True) is hole

    def test_two_blanks_show_where_they_stay(self) -> None:
        """In a subject or plain text, not in HTML."""
        assert shows_hole("Here is ", " for you", collapses=False)
        assert not shows_hole("Here is ", " for you", collapses=True)

    def test_words(self) -> None:
        """Readers by name, words about a place on one line."""
        assert named(["Ada", "Bo"]) == "Ada, Bo"
        assert named(["a", "b", "c", "d"]) == "a, b, c and 1 other"
        assert named(list("abcdef")) == "a, b, c and 3 others"
        assert excerpt("Hello\n ", "", ", you", 36) == "Hello , you"


def test_lengths_are_counted_as_unicode_does() -> None:
    """A subject with a value in it is as long as its user-perceived characters: Unicode 15.0, GraphemeBreakTest.txt (tests/vectors)."""
    cases = differ = 0
    for line in (Path(__file__).parents[1] / "vectors" / "GraphemeBreakTest.txt").read_text("utf-8").splitlines():
        marks = line.partition("#")[0].split()
        if not marks:
            continue
        text = "".join(chr(int(mark, 16)) for mark in marks[1::2])
        cases += 1
        if any(char.isspace() for char in text):
            continue  # a subject is one line, and its white space is one blank
        differ += graphemes(text) != marks.count("÷") - 1
    assert cases == 602
    # The one is U+2701 joined to itself, which the newer Unicode data of the regex library takes for two characters.
    assert differ == 1


def message_of(html: str) -> Message:
    """An HTML message."""
    return read_bytes(html.encode(), "x.html")


class TestFacts:
    """What comes of the fields for all readers."""

    def test_where_each_field_stands(self) -> None:
        """Copy, styles, comments, addresses, alternative texts; of copy, the element around it."""
        message = message_of(
            "<style>p{color:{{ a }}}</style><p>Hi <b>you</b> {{ b }}<!-- {{ c }} --><a href='{{ d }}?{{ e }}'>x</a></p><img alt='{{ f }}' {{ g }}>"
        )
        assert [(use.kind, use.where) for use in uses(message)] == [
            ("style", "styles"), ("copy", "HTML"), ("comment", "a comment"), ("address", "href of a"), ("address", "href of a"),
            ("alt", "alt of img"), ("tag", "a tag"),
        ]  # fmt: skip
        assert message.document is not None
        assert [message.document.all_elements[use.place.element or 0].tag for use in uses(message) if use.kind == "copy"] == ["p"]

    def test_readers_with_the_same_outcome_are_one(self) -> None:
        """Each outcome once, with all its readers."""
        message = message_of("<p>{% if m %}Yes {{ x }}{% else %}No{% endif %}</p>")
        readers = [Sample(f"r{number}", {"x": "a", "other": str(number)} | ({"m": "1"} if number % 2 else {})) for number in range(6)]
        facts = merged_facts(message, readers)
        assert [(one.made, one.readers) for one in facts.brought] == [("a", ("r1", "r3", "r5"))]
        assert [(part.says, readers) for _, _, part, readers in facts.parts] == [("if m", ("r1", "r3", "r5")), ("else", ("r0", "r2", "r4"))]

    def test_copies_that_matter(self) -> None:
        """A number in an address makes no copy of its own; what decides a part does; at most eight, those that differ most."""
        message = message_of("<p>{% if tier == 'a' %}x{% endif %}</p><a href='https://kiln.example/?m={{ number }}'>Go</a>")
        readers = [Sample(f"r{number}", {"tier": "ab"[number % 2], "number": f"SK-{number}"}) for number in range(9)]
        assert [copy.readers for copy in readers_copies(message, readers)] == [("r0", "r2", "r4", "r6", "r8"), ("r1", "r3", "r5", "r7")]
        many = [Sample(f"r{number}", {"tier": str(number)}) for number in range(30)]
        assert len(readers_copies(message, many)) <= MOST_COPIES
        assert readers_copies(message_of("<p>{{ number }}</p>"), readers) == []
        kept = readers_copies(message_of("<a href='{{ u }}'>x</a>{% if tier %}y{% endif %}"), [Sample("r", {"tier": "a"})])
        assert kept[0].merged.message.html is not None and kept[0].merged.message.html.text == "<a href='{{ u }}'>x</a>y"

    def test_what_the_message_tells_is_not_told_of_its_copies(self) -> None:
        """A link that goes to a stand-in address does so in every copy: one finding; one that does so for a reader alone names that one."""
        readers = tuple(Sample(name, {"number": name * 3, "host": host}) for name, host in (("Tove", "kiln.org"), ("Nils", "example.com")))
        for html, told in (
            ("<a href='https://www.example.com/?m={{ number }}'>Go</a>", ["The link"]),
            ("<a href='https://{{ host }}/?m={{ number }}'>Go</a>", ["For Nils: the link"]),
        ):
            answer = run_check(registry()["links.placeholder"], message_of(html), Context(readers=readers))
            assert [finding.message[: len(said)] for finding, said in zip(answer.findings, told, strict=True)] == told

    def test_one_written_address_is_one_finding(self) -> None:
        """Two links with the same field, empty for one reader: one finding with both places."""
        html = "<a href='{{ u }}'>One</a><a href='{{ u }}'>Two</a>"
        answer = run_check(registry()["links.empty"], message_of(html), Context(readers=(Sample("Tove", {"u": "#"}),)))
        assert [len(finding.places) for finding in answer.findings] == [2]

    def test_what_asks_for_too_much_is_not_merged(self) -> None:
        """It is named, and nothing hangs."""
        message = message_of("<p>{% for i in (1..999999999) %}{{ x }}{% endfor %}</p>")
        facts = merged_facts(message, [Sample("a", {"x": "1"})])
        assert facts.too_costly == ["HTML"]

    def test_readers_beyond_the_room_are_counted(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """A long text for many readers stops at a limit that is told."""
        monkeypatch.setattr("jetwind.core.checking.merged.MOST_CHARACTERS", 1000)
        message = message_of("<p>{{ x }}</p>" + "a" * 90)
        facts = merged_facts(message, [Sample(f"r{number}", {"x": str(number)}) for number in range(50)])
        assert 30 < facts.left_out < 50

    def test_a_template_just_below_the_limits_for_many_readers(self) -> None:
        """It is merged for some of them, and the others are counted: nothing takes minutes."""
        message = message_of("<p>{% for i in (1..9000) %}{{ x }}{% endfor %}</p>")
        readers = tuple(Sample(f"r{number}", {"x": str(number)}) for number in range(200))
        facts = merged_facts(message, readers)
        assert 100 < facts.left_out < 199 and not facts.too_costly
        unseen = message_of("<p>{% for i in (1..9000) %}{{ x }}{% endfor %}{% if x == '199' %}y{% endif %}</p>")
        assert run_check(registry()["fields.branch-unseen"], unseen, Context(readers=readers)).outcome.value == "cannot-tell"
        answer = run_check(registry()["fields.past-limit"], message, Context(readers=readers))
        assert [finding.level.value for finding in answer.findings] == ["note"]
        assert f"{facts.left_out} of 200 sample readers" in answer.findings[0].message

    @given(st.lists(st.dictionaries(st.sampled_from(["a", "b", "c"]), st.sampled_from(["", "1", "2", "long"])), min_size=1, max_size=12))
    def test_the_fewest_show_what_all_show(self, rows: list[dict[str, str]]) -> None:
        """Every part that anybody is shown is shown to one of the fewest, and each hole and default stands in one of their rows."""
        message = message_of("<p>{% if a == '1' %}A{% elsif b %}B{{ c }}{% else %}C{% endif %}{{ b | default: 'd' }}{{ a }}</p>")
        readers = [Sample(f"r{number}", row) for number, row in enumerate(rows)]
        found = field_overview(message, readers, None)
        for part in found.parts:
            assert not part.readers or set(part.readers) & set(found.fewest)
        for number in range(len(found.columns)):
            states = {row.cells[number].state for row in found.rows} - {"not shown"}
            assert states == {row.cells[number].state for row in found.rows if row.reader in found.fewest} - {"not shown"}
        assert len(found.fewest) <= len(readers)

    def test_source_of_a_stretch(self) -> None:
        """A merged place leads back to the field."""
        merged = merge("Hi <<x>>, you", {"x": "Tove"}, escape=False, syntax=ANGLES)
        assert merged.source_of(Span(4, 5)) == Span(3, 8)
        assert Context().readers == ()
