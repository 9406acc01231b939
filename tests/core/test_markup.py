"""The tree with its places in the source as given."""

import html

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.markup import Element, TextRun, parse, source_span
from jetwind.core.source import Span

SOUP = st.lists(
    st.sampled_from(
        [
            "<p>",
            "</p>",
            "<table>",
            "<tr>",
            "<td>",
            "</table>",
            "<a href='x'>",
            "</a>",
            "<b>",
            "</b>",
            '<img alt="q" src=a>',
            "text ",
            "&amp;",
            "&copy",
            "\r\n",
            "{{ x }}",
            "{% if a %}",
            "<!-- c -->",
            "<![endif]-->",
            "<",
            ">",
            "é",
            "<style>p{a:b}</style>",
            "<br/>",
            "\0",
            "<svg>",
            "<title>t</title>",
        ]
    ),
    max_size=25,
).map("".join)


def one(source: str, tag: str) -> Element:
    """The first element with a tag."""
    return next(parse(source).elements(tag))


class TestAttributes:
    """Name, value and whole, each with its exact place."""

    @pytest.mark.parametrize(
        ("source", "value", "written"),
        [
            ('<a href="x?a=1&amp;b=2">', "x?a=1&b=2", "x?a=1&amp;b=2"),
            ("<a href='x'>", "x", "x"),
            ("<a href=x>", "x", "x"),
            ("<a href = 'x' >", "x", "x"),
            ("<a\r\n  href='x'>", "x", "x"),
            ("<a href>", "", ""),
            ("<a href=''>", "", ""),
            ('<a href="{{ url }}?b={{ c }}">', "{{ url }}?b={{ c }}", "{{ url }}?b={{ c }}"),
            ('<a href="{{ url | default: "x" }}">', '{{ url | default: "x" }}', '{{ url | default: "x" }}'),
            ("<a href='x?copy=1&copy=2'>", "x?copy=1&copy=2", "x?copy=1&copy=2"),
        ],
    )
    def test_value_and_its_place(self, source: str, value: str, written: str) -> None:
        """References are resolved in the value; the span covers what is written."""
        document = parse(source)
        attribute = next(document.elements("a")).attributes["href"]
        assert attribute.value == value
        assert document.source.slice(attribute.value_span) == written
        assert document.source.slice(attribute.name_span) == "href"
        assert document.source.slice(attribute.span).startswith("href")

    def test_of_a_doubled_attribute_the_first_counts(self) -> None:
        """HTML §13.2.5.33."""
        assert one("<a href='first' href='second'>x</a>", "a").get("href") == "first"


class TestTree:
    """Built as the standard builds it."""

    def test_implied_elements_have_no_place(self) -> None:
        """tbody stands in the tree but not in the source."""
        assert one("<table><tr><td>1</table>", "tbody").start_tag is None

    def test_block_tags_between_rows_stay_in_the_table(self) -> None:
        """A loop around rows does not push its text out of the table."""
        cell = one("<table>{% for x in y %}<tr><td>{{ x }}</td></tr>{% endfor %}</table>", "td")
        assert [ancestor.tag for ancestor in cell.ancestors()] == ["tr", "tbody", "table", "body", "html"]
        assert cell.text == "{{ x }}"

    def test_a_deep_tree_is_walked_without_recursion(self) -> None:
        """19,000 nested elements are hostile, not impossible."""
        assert sum(1 for _ in parse("<div>" * 19_000 + "deep").root.elements("div")) == 19_000

    def test_conditional_comments_are_comments(self) -> None:
        """Their place covers the whole comment, newlines of two characters included."""
        document = parse("<p>a</p>\r\n<!--[if mso]>\r\n<b>x</b>\r\n<![endif]-->\r\n<p>b</p>")
        (comment,) = document.comments
        assert document.source.slice(comment.span) == "<!--[if mso]>\r\n<b>x</b>\r\n<![endif]-->"

    def test_selectors_find_the_same_elements(self) -> None:
        """A selector gives our own elements, and an unreadable one a ValueError."""
        document = parse("<p class='a'>1</p><p>2</p>")
        assert [element.text for element in document.select("p.a")] == ["1"]
        with pytest.raises(ValueError, match="cannot read"):
            document.select("p:::")

    def test_parse_errors_have_their_standard_code_and_place(self) -> None:
        """HTML §13.2.2."""
        faults = parse("<p>a</p><a href='x' href='y'>b</a>").faults
        assert "duplicate-attribute" in [fault.code for fault in faults]


class TestTextRuns:
    """Text with its place."""

    @pytest.mark.parametrize("source", ["<p>a &amp; b</p>", "<p>a\r\nb</p>", "<td>x<b>y</b>z", "<p>Gr&uuml;&szlig;e &#8364; &copy 1</p>"])
    def test_a_run_reads_back_from_its_source(self, source: str) -> None:
        """Resolving the source of a run gives the run."""
        document = parse(source)
        runs = [node for node in document.body.walk() if isinstance(node, TextRun)]
        assert runs
        for run in runs:
            assert run.span is not None
            assert html.unescape(document.source.slice(run.span)).replace("\r\n", "\n") == run.text.replace("\r\n", "\n")

    @pytest.mark.parametrize(
        ("raw", "start", "end", "written"),
        [
            ("a &amp; b", 2, 3, "&amp;"),
            ("a &amp; b", 4, 5, "b"),
            ("x\r\ny", 2, 3, "y"),
            ("plain", 1, 3, "la"),
            ("&lt;&lt;n&gt;&gt;", 0, 5, "&lt;&lt;n&gt;&gt;"),
        ],
    )
    def test_resolved_characters_map_back(self, raw: str, start: int, end: int, written: str) -> None:
        """From characters of the resolved text to characters of the source."""
        span = source_span(raw, Span(10, 10 + len(raw)), start, end)
        assert raw[span.start - 10 : span.end - 10] == written


class TestAnyInput:
    """Whatever comes in."""

    @settings(max_examples=150, deadline=None)
    @given(SOUP)
    def test_never_raises_and_spans_stay_inside(self, source: str) -> None:
        """Every span lies inside the source, and start tags read back as tags."""
        document = parse(source)
        for element in document.all_elements:
            for span in (element.start_tag, element.end_tag, element.span):
                assert span is None or 0 <= span.start <= span.end <= len(source)
            if element.start_tag:
                assert document.source.slice(element.start_tag).lower().startswith("<" + element.tag[:1].lower()) or element.tag == "img"
            for attribute in element.attributes.values():
                assert attribute.span.contains(attribute.value_span)
        for node in document.root.walk():
            if isinstance(node, TextRun) and node.span:
                assert node.span.end <= len(source)

    @settings(max_examples=100, deadline=None)
    @given(st.text(max_size=200))
    def test_any_text_makes_a_document(self, source: str) -> None:
        """A tree for every input, as the standard defines."""
        assert parse(source).root.tag == "html"


#: What start tags of unmerged templates are made of.
PIECES = st.sampled_from(
    [
        "{{/if}}",
        "{{#if a}}",
        "<% if %>",
        "<%= x %>",
        "{% if a > b %}",
        "${x}",
        "[[x]]",
        "%%x%%",
        "{{ x }}",
        "{{{x}}}",
        "<%",
        "%>",
        "{{",
        "}}",
        "'",
        '"',
        "/",
        ">",
        "<",
        "=",
        " ",
        "\t",
        "\r\n",
        "\x00",
        "&amp;",
        "&quot",
        "&#0;",
        "\\u0000",
        "src",
        "=x",
        "='y'",
        '="z"',
        "é",
        "`",
        "a:b",
        "\ue000",
    ]
)


class TestStartTagsOfTemplates:
    """Reading attributes never raises, whatever stands in a tag."""

    @given(
        st.sampled_from(["img", "td", "a", "style", "svg"]),
        st.lists(PIECES, max_size=14).map("".join),
        st.sampled_from([">", "/>", "", ">text</a>"]),
    )
    def test_no_tag_raises(self, tag: str, inside: str, end: str) -> None:
        """Names, values and all spans are read; each span lies in the source and holds its value's."""
        document = parse(f"<p><{tag} {inside}{end}")
        for element in document.all_elements:
            for name, attribute in element.attributes.items():
                element.get(name)
                assert 0 <= attribute.span.start <= attribute.value_span.start <= attribute.value_span.end <= len(document.source.text)
                assert attribute.name_span.start == attribute.span.start
            assert element.get("no-such-name") is None or "no-such-name" in element.attributes

    @pytest.mark.parametrize(
        "code", ["{{/if}}", "{{#if a}}", "<% if a > b %>", "<%= x %>", "{% if a %}", "${x}", "[[x]]", "%%x%%", "<?php if ($a > 3): ?>"]
    )
    def test_code_in_a_tag_takes_nothing_along(self, code: str) -> None:
        """The attributes around it are read as if it were not there."""
        image = one(f"<img {code} src='a.png' {code} alt='b'>", "img")
        assert (image.get("src"), image.get("alt")) == ("a.png", "b")

    def test_branches_between_rows_move_nothing(self) -> None:
        """Code between rows is white space to the tree: no text is moved out of the table."""
        document = parse("<table><% if a > b %><tr><td>1</td></tr><% else %><tr><td>2</td></tr><% end %></table>")
        table = next(document.elements("table"))
        assert table.text.strip() == "12" or table.text.split() == ["1", "2"]
        assert document.body.text.split() == ["1", "2"]
