"""Structure of a message, conditional comments, media queries, values and placed declarations."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.markup import Element, parse
from jetwind.core.markup.conditional import conditionals, conditions_for_word_processor, covering
from jetwind.core.message import Message, read_bytes
from jetwind.core.prose.outline import outline_of
from jetwind.core.styles import ComputedStyles, Medium, applies, is_quirky, placed_declarations
from jetwind.core.styles.colours import legacy_colour
from jetwind.core.styles.values import expand
from tests.references import newsletters


def message(html: str) -> Message:
    """HTML alone as a message."""
    return read_bytes(html.encode(), "a.html")


class TestOutline:
    """Which part is for what."""

    PAGE = (
        "<body><div style='display:none'>Lead-in</div><table width='100%'><tr><td align='center'><table width='600'>"
        "<tr><td><a href='w'>View in browser</a></td></tr><tr><td><a href='h'><img src='l' alt='Kiln'></a></td></tr>"
        "<tr><td><h1>Spring sale</h1><p>Twelve glazes at a fifth off until Sunday.</p><a href='s' style='background:#b93c0a;padding:10px'>Shop now</a></td></tr>"
        "<tr><td><p>You get this because you are a member.</p><p>© Kiln Works</p><a href='u'>Unsubscribe</a></td></tr></table></td></tr></table></body>"
    )

    def test_sections(self) -> None:
        """Header before the heading, footer from its first own words on."""
        found = [(section, passage.text.strip()) for section, passage in outline_of(message(self.PAGE)).sections]
        assert found == [
            ("header", "View in browser"),
            ("body", "Spring sale"),
            ("body", "Twelve glazes at a fifth off until Sunday."),
            ("body", "Shop now"),
            ("footer", "You get this because you are a member."),
            ("footer", "© Kiln Works"),
            ("footer", "Unsubscribe"),
        ]

    def test_container_and_section_of(self) -> None:
        """The box of 600 px holds the message; elements know their section."""
        made = message(self.PAGE)
        assert made.document is not None
        container = outline_of(made).container
        assert container is not None
        assert (container[0].tag, container[1]) == ("table", 600)
        links = {link.get("href"): outline_of(made).section_of(link) for link in made.document.elements("a")}
        assert links == {"w": "header", "h": "header", "s": "body", "u": "footer"}

    def test_buttons(self) -> None:
        """A link with a ground of its own, or alone in a cell that has one; not a sentence."""
        made = message(
            "<a href=a style='background:#000;padding:9px'>Go</a><a href=b>plain</a><table><tr><td bgcolor='#123456'><a href=c>Shop</a></td>"
            "<td bgcolor='#123456'>Read <a href=d>more</a></td></tr></table><a href=e style='background:#000;display:block'>one two three four five six seven eight</a>"
        )
        assert [link.get("href") for link in outline_of(made).buttons] == ["a", "c"]

    @pytest.mark.parametrize(
        ("html", "is_data"),
        [
            ("<table><tr><th>Glaze<tr><td>x</table>", True),
            ("<table><caption>Prices</caption><tr><td>x</table>", True),
            ("<table role=table><tr><td>x</table>", True),
            ("<table><tr><td>x</table>", False),
            ("<table role=presentation><tr><th>x</table>", False),
            ("<table><tr><td><table><tr><th>inner</table></table>", False),
            ("<table><tr><th></th><td>x</table>", False),
        ],
    )
    def test_data_tables(self, html: str, is_data: bool) -> None:
        """Heads or a caption of its own make a table hold data (HTML §4.9.1)."""
        made = message(html)
        assert made.document is not None
        assert outline_of(made).is_data_table(next(made.document.elements("table"))) is is_data

    @pytest.mark.parametrize(
        ("attributes", "width"),
        [
            ("width='600'", (600.0, False)),
            ("width='600px'", (600.0, False)),
            ("width='100%'", (100.0, True)),
            ("style='width:50%'", (50.0, True)),
            ("width='900' style='max-width:600px'", (600.0, False)),
            ("width='900' style='width:100%;max-width:640px'", (640.0, False)),
            ("style='width:450pt'", (600.0, False)),
            ("width='auto'", None),
            ("", None),
        ],
    )
    def test_widths(self, attributes: str, width: tuple[float, bool] | None) -> None:
        """Style before attribute, both held down by max-width."""
        made = message(f"<table {attributes}><tr><td>x</table>")
        assert made.document is not None
        found = outline_of(made).width(next(made.document.elements("table")))
        assert (None if found is None else (found.value, found.is_percent)) == width

    def test_rows(self) -> None:
        """Cells with the columns that they span."""
        made = message("<table><tr><td colspan=2>a<td>b<tr><td colspan=x>c</table>")
        assert [[span for _, span in row.cells] for row in outline_of(made).rows()] == [[2, 1], [1]]

    def test_real_newsletters(self) -> None:
        """On real mail (tests/references.py): sections never raise, come in order, and most letters are body where there is a heading."""
        ranks = {"header": 0, "body": 1, "footer": 2}
        seen = 0
        for name, raw in newsletters():
            made = read_bytes(raw, f"{name}.eml")
            if made.document is None:
                continue
            order = [ranks[section] for section, _ in outline_of(made).sections]
            assert order == sorted(order)
            container = outline_of(made).container
            assert container is None or 1 <= container[1] < 3000
            list(outline_of(made).rows())
            seen += 1
        assert seen >= 40


class TestConditionals:
    """Three forms, their contents, and what is wrong."""

    def test_forms(self) -> None:
        """Form, condition and content of each block."""
        text = "<!--[if mso]>a<![endif]--><!--[if !mso]><!-->b<!--<![endif]--><![if gte mso 9]>c<![endif]>"
        blocks, faults = conditionals(text)
        assert faults == []
        assert [(block.form, block.condition, text[block.content.start : block.content.end]) for block in blocks] == [
            ("hidden", "mso", "a"),
            ("revealed", "!mso", "b"),
            ("bare", "gte mso 9", "c"),
        ]
        found = covering(blocks, text.index("b<"))
        assert found is blocks[1]
        assert covering(blocks, 0) is None

    @pytest.mark.parametrize(
        ("condition", "meant"),
        [("mso", True), ("gte mso 9", True), ("(mso)|(IE)", True), ("!mso", False), ("!(mso)", False), ("lt IE 9", False)],
    )
    def test_who_reads_it(self, condition: str, meant: bool) -> None:
        """Whether the word-processor engine takes the block for markup."""
        assert conditions_for_word_processor(condition) is meant

    @given(
        st.lists(
            st.sampled_from(
                ["<!--[if mso]>", "<![endif]-->", "<!--[if !mso]><!-->", "<!--<![endif]-->", "<![if x]>", "<![endif]>", "<!--", "-->", "x"]
            ),
            max_size=14,
        )
    )
    @settings(max_examples=400)
    def test_any_order(self, pieces: list[str]) -> None:
        """Never raises; blocks hold their content; every mark is in a block or a fault or a comment."""
        text = "".join(pieces)
        blocks, faults = conditionals(text)
        for block in blocks:
            assert block.span.contains(block.content)
            assert block.span.end <= len(text)
        assert all(fault.span.end <= len(text) for fault in faults)


class TestMedia:
    """Media Queries 4."""

    PHONE = Medium(width=375, height=700, pixel_ratio=3, dark=True, touch=True)
    DESK = Medium()

    @pytest.mark.parametrize(
        ("query", "phone", "desk"),
        [
            ("", True, True),
            ("screen", True, True),
            ("print", False, False),
            ("not print", True, True),
            ("only screen and (max-width: 600px)", True, False),
            ("(min-width: 600px)", False, True),
            ("screen and (max-width:600px) and (orientation: portrait)", True, False),
            ("(max-width: 100px), (min-width: 1000px)", False, True),
            ("(width <= 600px)", True, False),
            ("(300px < width < 400px)", True, False),
            ("not all and (max-width: 600px)", False, True),
            ("not (max-width: 600px)", False, True),
            ("(max-width: 600px) or (min-width: 1000px)", True, True),
            ("(prefers-color-scheme: dark)", True, False),
            ("(-webkit-min-device-pixel-ratio: 2)", True, False),
            ("(min-resolution: 192dpi)", True, False),
            ("(hover: hover)", False, True),
            ("(pointer: coarse)", True, False),
            ("(max-width: 37.5em)", True, False),
            ("(monochrome)", False, False),
            ("(color)", True, True),
            ("(unknown-thing: 3)", False, False),
            ("screen and", False, False),
            ("screen (max-width: 600px)", False, False),
            ("(max-width: 600px) and (unknown: 1)", False, False),
            ("tty and (max-width:600px)", False, False),
        ],
    )
    def test_applies(self, query: str, phone: bool, desk: bool) -> None:
        """On a phone at night and on a desk; what cannot be read holds nowhere."""
        assert (applies(query, self.PHONE), applies(query, self.DESK)) == (phone, desk)


class TestValues:
    """What cannot be told is None; what is invalid does not win."""

    def value(self, css: str, name: str, html: str = "<p style='{}'>x</p>") -> str | None:
        """The computed value of the first p."""
        document = parse("<!doctype html>" + html.format(css))
        return ComputedStyles(document).value(next(document.elements("p")), name)

    @pytest.mark.parametrize(
        ("css", "name", "value"),
        [
            ("color:var(--ink)", "color", None),
            ("font-size:calc(1px + 2vw)", "font-size", None),
            ("font-size:5vw", "font-size", None),
            ("color:{{ ink }}", "color", None),
            ("color:canvastext", "color", None),
            ("font-size:5vw;line-height:2em", "line-height", None),
            ("color:red;color:nonsense", "color", "rgb(255, 0, 0)"),
            ("color:red;color:#ggg", "color", "rgb(255, 0, 0)"),
            ("font-size:20px;font-size:-4px", "font-size", "20px"),
            ("font-size:20px;font-size:12", "font-size", "20px"),  # no unit: invalid outside quirks mode
            ("color:blue!important;color:red", "color", "rgb(0, 0, 255)"),
            ("mso-hide:all", "mso-hide", "all"),
            ("background:url(a.png) #eee", "background-color", "rgb(238, 238, 238)"),
            ("background:none", "background-image", "none"),
            ("font:12pt/1.5 Georgia,serif", "font-size", "16px"),
            ("opacity:150%", "opacity", "1"),
            ("max-width:50%", "max-width", "50%"),
            ("color:hsl(120 100% 25% / .5)", "color", "rgba(0, 128, 0, 0.5)"),
        ],
    )
    def test_one(self, css: str, name: str, value: str | None) -> None:
        """Unknown, invalid, important, shorthand."""
        assert self.value(css, name) == value

    def test_unknown_goes_down_and_stops_at_what_is_known(self) -> None:
        """A child inherits that nobody can tell, until it says itself."""
        document = parse("<!doctype html><div style='color:var(--x)'><p>a</p><b style='color:red'>b</b></div>")
        styles = ComputedStyles(document)
        assert styles.value(next(document.elements("p")), "color") is None
        assert styles.colour(next(document.elements("b"))) == (255, 0, 0, 1.0)
        assert styles.px(next(document.elements("b")), "font-size") == 16

    @pytest.mark.parametrize(
        ("value", "colour"),
        [
            ("#fff", (255, 255, 255, 1.0)),
            ("red", (255, 0, 0, 1.0)),
            ("chucknorris", (192, 0, 0, 1.0)),  # the standard's own oddity
            ("FFCC99", (255, 204, 153, 1.0)),
            ("", None),
            ("transparent", None),
        ],
    )
    def test_legacy_colours(self, value: str, colour: tuple[int, int, int, float] | None) -> None:
        """HTML §2.3.6; held against Chromium in tests/engines/test_computed_styles.py."""
        assert legacy_colour(value) == colour

    @pytest.mark.parametrize(
        ("doctype", "quirky"),
        [
            ("<!doctype html>", False),
            (
                '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "http://www.w3.org/TR/xhtml1/DTD/xhtml1-transitional.dtd">',
                False,
            ),
            ('<!DOCTYPE HTML PUBLIC "-//W3C//DTD HTML 4.01 Transitional//EN">', True),
            ('<!DOCTYPE HTML PUBLIC "-//W3C//DTD HTML 4.01 Transitional//EN" "http://www.w3.org/TR/html4/loose.dtd">', False),
            ('<!DOCTYPE HTML PUBLIC "-//W3C//DTD HTML 3.2 Final//EN">', True),
            ("", True),
        ],
    )
    def test_quirks(self, doctype: str, quirky: bool) -> None:
        """HTML §13.2.6.4.1."""
        assert is_quirky(parse(f"{doctype}<p>x")) is quirky

    @given(
        st.text(alphabet=st.sampled_from(list("redpxem%#0123 ,/()'\"!-;urlfontABC{}\\")), max_size=30),
        st.sampled_from(["color", "font", "background", "font-size", "font-family", "text-decoration", "overflow", "opacity"]),
    )
    @settings(max_examples=400)
    def test_never_raises(self, value: str, name: str) -> None:
        """Any value is read, unknown or invalid."""
        for long, (kind, _) in expand(name, value, quirks=True):
            assert isinstance(long, str)
            assert kind in {"wide", "keyword", "px", "em", "rem", "percent", "number", "colour", "family", "image", "unknown"}


class TestPlaced:
    """Every declaration with its place."""

    @pytest.mark.parametrize(
        ("html", "spans"),
        [
            ("<p style='color:red; font: 12px Arial'>", ["color:red", "font: 12px Arial"]),
            ("<style>p{color:red}\r\n\r\n td , a { width : 3px ; }</style>", ["color:red", "width : 3px"]),
            ('<p style="font-family:&quot;A;B&quot;,serif;color:red">', ["font-family:&quot;A;B&quot;,serif", "color:red"]),
            ("<style>@media (max-width:9px){ p{ color : blue !important } }</style>", ["color : blue !important"]),
            ("<p style='background:url(a;b.png)'>", ["background:url(a;b.png)"]),
            ("<style>@font-face{font-family:Lora;src:url(x)}</style>", ["font-family:Lora", "src:url(x)"]),
        ],
    )
    def test_spans(self, html: str, spans: list[str]) -> None:
        """Name to value, as written, entities and line ends and all."""
        document = parse(html)
        assert [document.source.slice(placed.span) for placed in placed_declarations(document)] == spans

    def test_only_some(self) -> None:
        """By the start of the name."""
        document = parse("<p style='color:red;font-size:9px'><b style='font-weight:bold'>x</b></p>")
        assert [placed.declaration.name for placed in placed_declarations(document, "font")] == ["font-size", "font-weight"]
        holders = [placed.element for placed in placed_declarations(document)]
        assert all(isinstance(holder, Element) for holder in holders)
