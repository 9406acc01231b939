"""Merge fields: found with spans, filled for a reader, recognised by shape."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.fields import LIQUID, blanked, fill, foreign_tokens, opaque, past_limit, source_tokens, tokens, unclosed
from jetwind.core.source import LIMITS


def shapes(text: str, *, in_address: bool = False) -> list[str]:
    """The token-shaped pieces of a text."""
    return [token.source for token in foreign_tokens(text, in_address=in_address)]


class TestTokens:
    """The shipped syntax."""

    def test_name_and_default_are_read(self) -> None:
        """A field's name, its default, and its exact source."""
        text = 'Hi {{ first_name | default: "you" }} and {{order.number}}'
        tokens = list(LIQUID.tokens(text))
        assert [(token.name, token.default, text[token.span.start : token.span.end]) for token in tokens] == [
            ("first_name", "you", '{{ first_name | default: "you" }}'),
            ("order.number", None, "{{order.number}}"),
        ]

    def test_entities_inside_a_token_are_read(self) -> None:
        """An attribute writes quotes as entities."""
        (token,) = LIQUID.tokens("{{ name | default: &quot;you&quot; }}")
        assert token.default == "you"

    def test_a_name_that_cannot_be_read_is_none(self) -> None:
        """A space inside a name is no name."""
        (token,) = LIQUID.tokens("{{ first name }}")
        assert token.name is None

    @given(st.text(alphabet=st.sampled_from("{}% |ab\r\n"), max_size=40))
    def test_masking_keeps_length_and_newlines(self, text: str) -> None:
        """Offsets stay true after masking."""
        masked = blanked(text, source_tokens(text, LIQUID))
        assert len(masked) == len(text)
        assert [i for i, char in enumerate(text) if char in "\r\n"] == [i for i, char in enumerate(masked) if char in "\r\n"]


class TestFill:
    """The message as one reader gets it. Expected values: python-liquid is used inside, so these are written by hand."""

    @pytest.mark.parametrize(
        ("source", "values", "expected"),
        [
            ("Hello {{ name }}!", {"name": "Maeve"}, "Hello Maeve!"),
            ("Hello {{ name | default: 'you' }}!", {"name": ""}, "Hello you!"),
            ("Hello {{ name | default: &#39;you&#39; }}!", {}, "Hello you!"),
            ("{{ order.number }}", {"order.number": "7"}, "7"),
            ("{% if vip == 'yes' %}Dear{% else %}Hello{% endif %} {{ name }}", {"vip": "yes", "name": "Bo"}, "Dear Bo"),
            ("{{ unknown }}.", {}, "."),
            ("no fields & nothing changed", {"name": "x"}, "no fields & nothing changed"),
            ("{{ name | upcase }}!", {"name": "Bo"}, "BO!"),
            ("{{ name | default: 'you' | upcase }} {{ 'x' | append: 'y' }} {{- name }}", {"name": ""}, "YOU xy"),
            ("{{ order['number'] }}", {"order.number": "7"}, "7"),
            ("{% if name != blank %}A{% else %}B{% endif %}", {}, "B"),
            ("{% if name == blank %}A{% else %}B{% endif %}", {}, "A"),
            ("{% if name != blank and vip %}A{% else %}B{% endif %}", {"name": "Bo", "vip": "1"}, "A"),
            ("{% if name != blank %}A{% else %}B{% endif %}", {"name": " "}, "B"),
            ("{{ name | shout }} {{ name | upcase }}", {"name": "Bo"}, "Bo Bo"),
        ],
    )
    def test_values_are_filled(self, source: str, values: dict[str, str], expected: str) -> None:
        """Value, else default, else nothing; conditional parts are decided."""
        assert fill(source, values, escape=False) == expected

    def test_values_are_escaped_in_html(self) -> None:
        """A value with markup characters stays text (HTML §13.1.4)."""
        assert fill("<p>{{ name }}</p>", {"name": "Tess & Sons <studio>"}, escape=True) == "<p>Tess &amp; Sons &lt;studio&gt;</p>"

    def test_a_broken_block_hides_nothing(self) -> None:
        """Without its end, the rest of the message is still filled."""
        assert "Bo" in fill("{% if vip %}Dear {{ name }}", {"name": "Bo"}, escape=False)

    def test_an_endless_loop_is_cut(self) -> None:
        """A hostile loop ends at the limit instead of filling memory."""
        bomb = "{% for a in (1..100000) %}{% for b in (1..100000) %}x{% endfor %}{% endfor %}{{ name }}"
        assert len(fill(bomb, {"name": "Bo"}, escape=False)) < 5_000_000


class TestLimits:
    """Templates without bounds stop at a limit that is told, whatever they ask for."""

    @pytest.mark.parametrize(
        ("source", "said"),
        [
            ("{% for i in (1..999999999) %}x{% endfor %}", "go round more than"),
            ("{% for i in (1..9999) %}x{% endfor %}" * 5, "go round more than"),
            ("{% for i in (1..200) %}{% for j in (1..200) %}x{% endfor %}{% endfor %}", "go round more than"),
            ("{% tablerow i in (1..99999999) %}x{% endtablerow %}", "go round more than"),
            ("{% assign a = (1..1000000000) | join: ',' %}", "more than 10,000 items"),
            ("{% assign s = 'ab' %}" + "{% assign s = s | append: s %}" * 30, "grows beyond 200,000 characters"),
            ("{% assign s = 'aaaaaaaaaa' %}" + "{% assign s = s | replace: 'a', s %}" * 9, "a filter makes more"),
            ("{% assign n = 12345678901234567890 %}" + "{% assign n = n | times: n %}" * 20, "beyond 1,000 digits"),
            ("{% capture s %}" + "x" * 1000 + "{% endcapture %}" + "{% capture s %}{{ s }}{{ s }}{% endcapture %}" * 25, "limit"),
            (
                "{% assign s = 'glaze' %}"
                + "{% assign t = s | append: s | append: s %}" * 400
                + "{% for i in (1..9000) %}"
                + "{% assign t = t | append: '"
                + "y" * 900
                + "' %}{% endfor %}",
                "characters",
            ),
        ],
    )
    def test_what_has_no_bounds(self, source: str, said: str) -> None:
        """Told by past_limit; filled token by token, so that the rest of the message is there."""
        assert said in past_limit(source, {})
        assert fill(source + "{{ name }}", {"name": "Bo"}, escape=False).endswith("Bo")

    @pytest.mark.parametrize(
        "source", ["{% if %}x{% endif %}", "{{ x }}", "{% for i in (1..100) %}{{ i | append: '" + "x" * 3000 + "' }}{% endfor %}"]
    )
    def test_what_is_usual(self, source: str) -> None:
        """Broken syntax is told by others, and a long list is no fault."""
        assert past_limit(source, {}) == ""


class TestShapes:
    """Token-shaped text of any syntax, and ordinary text that must be left alone."""

    @pytest.mark.parametrize(
        ("token", "is_block"),
        [
            *(
                (token, False)
                for token in (
                    "{name}", "{$name}", "${code}", "#{code}", "$!{user.name}", "[[name]]", "[[first name here]]", "%%name%%", "<<name>>", "%first_name%",
                    "[FIRST_NAME]", "[Company_Name]", "[CUSTOMER NAME]", "[our address here]", "[Your name here]", "[insert date]", "$$name$$", "##NAME##", "#NAME#",
                    "@@name@@", "<% name %>", "<%= order.total %>", "<%- a > b %>", "<?= $x ?>", "%%=v(@n)=%%", "{{{raw}}}", "[%first_name%]", "[*name*]",
                    "__FIRST_NAME__", "«First_Name»", "[[ user:name | there ]]", "*|NAME|*",
                )
            ),
            *(
                (token, True)
                for token in ("<% if a < b %>", "<%if(a){%>", "<?php if ($a > 3): ?>", "[% if x %]", "{# note #}", "[[#each items]]", "%%[ if @x then ]%%", "*|IF:VIP|*")
            ),
        ],
    )  # fmt: skip
    def test_tokens_are_found(self, token: str, is_block: bool) -> None:
        """Paired or mirrored marks around a name or an expression; blocks are told from values."""
        (found,) = foreign_tokens(f"Dear {token} , we")
        assert (found.source, found.is_block) == (token, is_block)

    def test_marks_of_the_own_syntax_with_another_grammar(self) -> None:
        """Signs and bare words that open and close blocks are not Liquid, though they stand between its marks."""
        found = tokens("{{#if vip}}A{{else}}B{{/if}} {{> footer}} {{{raw}}} {{ name }} {% if a %}", LIQUID)
        assert [(token.source, token.is_block, token.is_foreign) for token in found] == [
            ("{{#if vip}}", True, True),
            ("{{else}}", True, True),
            ("{{/if}}", True, True),
            ("{{> footer}}", True, True),
            ("{{{raw}}}", False, True),
            ("{{ name }}", False, False),
            ("{% if a %}", True, False),
        ]

    def test_shapes_on_one_line_do_not_hide_one_another(self) -> None:
        """Each is found, whatever stands beside it."""
        found = tokens("{{first_name|there}} %COMPANY% [[x]] ${y}{z_z}<%= w %>", LIQUID)
        assert [token.source for token in found] == ["{{first_name|there}}", "%COMPANY%", "[[x]]", "${y}", "{z_z}", "<%= w %>"]

    def test_beyond_the_limit_nothing_is_told(self) -> None:
        """What is not read is not taken for another syntax."""
        found = tokens("{{a}}" * (LIMITS.tokens + 10), LIQUID)
        assert len(found) == LIMITS.tokens
        assert not any(token.is_foreign for token in found)

    def test_marks_that_stay_open(self) -> None:
        """Told with the words behind them; what closes is none."""
        text = "Dear {{ first_name, and {{ x }}"
        assert next(text[span.start : span.end] for span in unclosed(opaque(text, LIQUID))).startswith("{{ first_name")

    @pytest.mark.parametrize(
        "text",
        [
            "50% off and 100% wool",
            "[1] see [note]",
            "{1}",
            "**bold** and __under__",
            "~~~~ #### ====",
            "a > b < c",
            "x{}y",
            "rate: 5%a b%",
            "((see below))",
            "$20 to $30",
            "[Unsubscribe]",
            "[READ MORE] [SHOP NOW] [SOLD OUT] [NEW] [PDF]",
            "[ILUG] Re: kilns",
            "[click here] [see below] [emphasis added] [link in bio] [read more here] [the kiln] [free shipping]",
            "a <3 b >> c << d",
            "#spring #sale, #glaze#clay, #1 choice, #fff#",
            "20%-30% and 5%off%, 100%% sure 50%% off",
            "<- back ->, 5 < 6 %> x, a||b||c",
            "«bonjour»",
            "width:50%;height:50%",
            "@media(max-width:600px){a{color:red}}",
            "[text](https://x.org) [DATE](https://x.org)",
            "tel:#31#0612345",
        ],
    )
    def test_ordinary_text_is_left_alone(self, text: str) -> None:
        """No false alarm."""
        assert shapes(text) == []

    def test_octets_in_an_address_are_no_tokens(self) -> None:
        """Percent-encoding (RFC 3986 §2.1)."""
        assert shapes("https://kiln.org/%C3%A9clair%20bowl%2Cblue%20", in_address=True) == []
        assert shapes("https://kiln.org/?n=%first_name%", in_address=True) == ["%first_name%"]

    @pytest.mark.parametrize(
        ("css", "found"),
        [
            ("a { color: #ink_colour#; width: %card_width%px } b { width: #w_w#px; margin: 0 %gap%", ["#ink_colour#", "%card_width%", "#w_w#", "%gap%"]),
            ("a { background: url(https://kiln.org/%picture_name%.png) }", ["%picture_name%"]),
            ("@media (max-width: %width%px) { a { color: #%ink% } }", ["%width%", "%ink%"]),
            ("#head#foot, td#a#b #c { color: #fff; } #head#foot{}", []),
            ("a { width: 50%; margin: 0 5% auto 5%; color: #BADA55 } @keyframes x { 0% { top: 0 } 50% { top: 1% } }", []),
            ("/* #todo_one# 100%real% */ [data-x] { content: '[DATE]' } a{color}", []),
            ("a { background: url('data:image/svg+xml,%3Csvg%20fill=%23abc%20%C3%A9a%2F') } b { background: url(/caf%C3%a9clair%20/#a) }", []),
            ("a { width: calc(50%-10%); background: linear-gradient(#fff 10%,#eee 20%) }", []),
        ],
    )  # fmt: skip
    def test_word_marks_in_a_style_sheet(self, css: str, found: list[str]) -> None:
        """Sought in style elements alone, whose ids, colours, percentages, comments and addresses are none; and never in other source."""
        for around in ("<style type='text/css'>{}</style><p>x</p>", "<!--[if mso]><STYLE>{}</style><![endif]-->"):
            source = around.format(css)
            tokens_found = source_tokens(source, LIQUID)
            assert [token.source for token in tokens_found] == found
            assert all(source[token.span.start : token.span.end] == token.source for token in tokens_found)
        assert source_tokens(f"<p>{css}</p>", LIQUID) == []

    @given(st.text(max_size=80))
    def test_spans_lie_inside_and_apart(self, text: str) -> None:
        """Any text: spans in order, inside the text, without overlap."""
        end = 0
        for token in tokens(text, LIQUID):
            assert end <= token.span.start <= token.span.end <= len(text)
            assert text[token.span.start : token.span.end] == token.source
            end = token.span.end
        assert len(opaque(text, LIQUID)) == len(text)
