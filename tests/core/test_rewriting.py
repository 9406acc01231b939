"""What each kind of client does to a message, transformation by transformation; the table's features are in test_support_table."""

import re
from dataclasses import replace
from functools import partial

import pytest

from jetwind.core.markup import parse
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import Change, profiles, rewrite, untouched
from jetwind.core.profiles.pictures import LACKING_RULES
from jetwind.core.profiles.plan import Plan
from jetwind.core.profiles.stylesheet import attribute_kept, sheet_kept, with_addresses
from jetwind.core.profiles.support import Loss
from tests.factories import package, picture
from tests.references import newsletters

WORD = profiles()["word-processor"]
PLAIN = profiles()["desktop-pane"]


def page(html: str, **files: bytes) -> Message:
    """A message of HTML and its pictures."""
    return read_bytes(package(html, **files), "x.zip")


def bare(html: str) -> str:
    """Rewritten HTML without marks, and without the space of pictures that are not there."""
    html = html.replace(f"<style>{LACKING_RULES}</style>", "")
    return re.sub(r' data-jetwind-(?:element="\d+"|lacking="[a-z ]*")', "", html)


def places(message: Message, changes: tuple[Change, ...], feature: str) -> list[str]:
    """The source at the places of a feature's changes."""
    assert message.html is not None
    return [message.html.source.slice(change.span) for change in changes if change.feature == feature and change.span is not None]


class TestStyles:
    """Declarations, rules and at-rules, with their places."""

    def test_a_declaration_goes_and_its_fallback_stays(self) -> None:
        """The place is the declaration's own, entities in the attribute or not."""
        message = page('<p style="color: red; display:flex; font-family: &quot;Times&quot;; display: block">x</p>')
        found = rewrite(message, replace(PLAIN, modelled_on="gmx desktop-webmail"))
        assert "display:flex" not in found.html
        assert places(message, found.changes, "css-display") == ["display:flex"]

    def test_only_some_elements_keep_it(self) -> None:
        """Padding in the word-processor engine: cells keep it, paragraphs do not, in one rule for both."""
        message = page("<style>.a { color: red; padding: 4px; margin: 1px }</style><p class=a>x</p><table><td class=a>y</table>")
        found = rewrite(message, WORD)
        assert ".a:where(td, th) { padding: 4px }" in found.html
        # In order: what came before and after stays before and after.
        assert found.html.index("color: red") < found.html.index(":where(td, th)") < found.html.index("margin: 1px")
        assert places(message, found.changes, "css-padding") == ["padding: 4px"]

    def test_padding_meant_for_this_engine(self) -> None:
        """It takes the place of a cell's other padding, in an attribute or a sheet; other elements and other clients pass over it."""
        message = page(
            "<style>.b { padding: 12px; mso-padding-alt: 4px 8px }</style><a class=b>x</a>"
            "<table><td class=b>y<td style='mso-padding-alt:1px; padding:9px'>z<td style='mso-padding-alt: calc(1px)'>w</table>"
        )
        found = rewrite(message, WORD)
        assert ".b:where(td, th) { padding: 4px 8px !important }" in found.html
        assert 'style="padding: 1px !important; padding: 9px"' in found.html
        assert places(message, found.changes, "mso-padding-alt") == ["mso-padding-alt: 4px 8px", "mso-padding-alt:1px"]
        assert "calc(1px) !important" not in found.html
        assert "!important" not in rewrite(message, PLAIN).html
        without = page("<style>.b { mso-padding-alt: 4px }</style><a class=b>x</a>")
        assert places(without, rewrite(without, WORD).changes, "mso-padding-alt") == []

    def test_a_loss_that_hits_no_element_is_not_told(self) -> None:
        """Cells keep their padding, so nothing is lost where only cells have the class."""
        message = page("<style>.a { padding: 4px }</style><table><td class=a>y</table>")
        assert places(message, rewrite(message, WORD).changes, "css-padding") == []

    def test_a_margin_without_its_auto(self) -> None:
        """Side by side, so that what markup says of the others holds; important stays with each."""
        plan = Plan(WORD, tuple(loss for loss in WORD.losses if loss.feature == "css-margin"))
        for given, kept in (
            ("margin: 0 auto", "margin-top: 0; margin-bottom: 0"),
            (
                "margin: 1px auto 2px 3px !important",
                "margin-top: 1px !important; margin-bottom: 2px !important; margin-left: 3px !important",
            ),
            ("margin: auto", ""),
            ("margin-left: auto", ""),
            ("margin: 4px", "margin: 4px"),
        ):
            assert attribute_kept(given, "table", plan)[0] == kept

    def test_shadow_elements_keep_their_place(self) -> None:
        """A condition stands before a pseudo-element."""
        kept, _ = sheet_kept(
            "p::before, a:hover { padding: 4px }", Plan(WORD, tuple(loss for loss in WORD.losses if loss.feature == "css-padding"))
        )
        assert "p:where(td, th)::before, a:hover:where(td, th) { padding: 4px }" in kept

    def test_a_comma_inside_a_selector_parts_nothing(self) -> None:
        """In a function or in a string."""
        plan = Plan(WORD, tuple(loss for loss in WORD.losses if loss.feature == "css-padding"))
        kept, _ = sheet_kept("p:is(.a, .b), td[title='a, b'] { padding: 4px }", plan)
        assert "p:is(.a, .b):where(td, th), td[title='a, b']:where(td, th) { padding: 4px }" in kept.replace('"', "'")

    def test_nested_rules_and_media_queries(self) -> None:
        """What is inside an at-rule that stays is judged too; what nests too deep is left out."""
        plan = Plan(PLAIN, (Loss("x", "x", "property", frozenset({"gap"})),))
        kept, changes = sheet_kept("@media screen { @supports (display: grid) { p { gap: 1px; color: red } } }", plan)
        assert [change.feature for change in changes] == ["x"]
        assert "color: red" in kept
        assert "gap" not in kept
        deep = "@media screen {" * 40 + "p { color: red }" + "}" * 40  # under the depth that is read at all
        kept, changes = sheet_kept(deep, plan)
        assert [change.title for change in changes] == ["blocks nested too deep"]

    def test_a_sheet_without_losses_is_given_back_as_it_was(self) -> None:
        """Comments, spacing and hacks too."""
        css = "/* a */ p{color:red;;}\n<!-- .b { margin:0 } --> @media(max-width:1px){a{b:c}}"
        assert sheet_kept(css, Plan(PLAIN, ()))[0] == css
        assert attribute_kept("color:red;;margin:0", "p", Plan(PLAIN, ()))[0] == "color:red;;margin:0"

    @pytest.mark.parametrize(
        "css", ["p{", "}}}", "@media", "p{color:red", "a{b:url(", '"', "@import", "\\", "p{--x:{}}", "a:not(" * 500, "{" * 3000]
    )
    def test_broken_sheets_do_no_harm(self, css: str) -> None:
        """Every profile takes them."""
        message = page(f"<style>{css}</style><p style='{css.replace(chr(39), '')}'>x</p>")
        for profile in profiles().values():
            assert rewrite(message, profile).html

    def test_style_elements_over_the_limit_go_whole(self) -> None:
        """One octet more than the client keeps."""
        profile = profiles()["webmail-wide"]
        fits = "<style>" + "a" * profile.style_limit + "</style>"
        assert "<style" in bare(rewrite(page(f"<head>{fits}</head><p>x"), profile).html.split("</style>", 1)[1])
        found = rewrite(page(f"<head>{fits.replace('<style>', '<style>é')}</head><p>x"), profile)
        assert [change.title for change in found.changes if change.feature == "style-limit"] == [
            "style element of 16,386 octets, over the 16,384 that are kept"
        ]

    def test_addresses_in_any_spelling(self) -> None:
        """Quoted or not; a bracket that never closes is left alone."""
        css = "a{b:url(x.png) url( 'y z.png' ) URL(\"q\") url(broken"
        assert with_addresses(css, str.upper) == 'a{b:url("X.PNG") url("Y Z.PNG") url("Q") url(broken'

    def test_fonts_that_are_not_at_hand(self) -> None:
        """They are taken out of the stack, and told; a web font that the client loads is its own affair."""
        message = page("<p style=\"font-family: Fancy, 'Segoe UI', sans-serif\">x</p>")
        phone = rewrite(message, profiles()["phone-upright"])
        assert "font-family: sans-serif" in phone.html
        assert [change.title for change in phone.changes] == ["not at hand: Fancy, Segoe UI"]
        # What no program here has, an open family stands for; see stand_in_fonts.toml.
        assert "font-family: &quot;Segoe UI&quot;, &quot;Carlito&quot;, sans-serif" in rewrite(message, PLAIN).html
        loaded = page('<style>@font-face { font-family: Fancy; src: url(f.woff2) }</style><p style="font-family: Fancy, serif">x</p>')
        assert not [change for change in rewrite(loaded, PLAIN).changes if change.feature == "font"]

    def test_class_names_and_ids_with_a_prefix(self) -> None:
        """In the markup and in selectors alike, except in attribute selectors: there the rule no longer hits."""
        found = rewrite(page("<style>.a p, #b, [class=a] { color: red }</style><div class='a c' id=b><p>x"), profiles()["webmail-prefix"])
        assert ".x_a p, #x_b" in found.html
        assert 'class="x_a x_c"' in found.html
        assert 'id="x_b"' in found.html
        assert "x_" not in untouched(partial(rewrite, page("<p class=a>x")), profiles()["webmail-prefix"]).html


@pytest.mark.parametrize("start", ["<!doctype html>", "", " \r\n<!DOCTYPE html>\r\n"])
def test_the_clients_own_sheet_comes_first_wherever_the_message_begins(start: str) -> None:
    """Also where a tag follows at once."""
    found = bare(rewrite(page(f"{start}<body style='margin:0'><p>x"), profiles()["webmail-columns"]).html)
    assert found.strip().startswith(f"{start.strip()}<style>html:root:root {{ width: 660px !important;")
    assert "<div style='margin:0'><p>x" in found


class TestWordProcessor:
    """Conditional comments, VML, percentages of the file."""

    SOURCE = (
        "<p>before</p><!--[if mso]><table width=600><tr><td><![endif]--><p>for all</p><!--[if mso]></td></tr></table><![endif]-->"
        "<!--[if !mso]><!--><p>for others</p><!--<![endif]-->"
    )

    def test_conditional_blocks(self) -> None:
        """What is hidden from others is read, what is for others is not, and both are told with their places."""
        message = page(self.SOURCE)
        found = rewrite(message, WORD)
        text = bare(found.html)
        assert "<table width=600><tr><td>" in text
        assert "for others" not in text
        assert "[if" not in text
        assert [change.kind for change in found.changes if change.feature == "conditional"] == ["added", "added", "dropped"]
        assert places(message, found.changes, "conditional") == ["<table width=600><tr><td>", "</td></tr></table>", "<p>for others</p>"]

    def test_elements_keep_their_number(self) -> None:
        """What stands in the message's own tree is marked with its index there; the rest beyond its end."""
        message = page(self.SOURCE)
        assert message.document is not None
        own = list(message.document.elements("p"))[1]
        found = rewrite(message, WORD)
        assert re.search(rf'<p data-jetwind-element="{own.index}">for all', found.html)
        extra = re.search(r'<table data-jetwind-element="(\d+)"', found.html)
        assert extra is not None
        assert int(extra[1]) >= len(message.document.all_elements)

    def test_other_engines_take_them_for_comments(self) -> None:
        """The source stays as it is."""
        assert bare(rewrite(page(self.SOURCE), PLAIN).html) == self.SOURCE

    def test_a_drawn_button(self) -> None:
        """Shape, fill, corners and text of VML; its settings and its XML show nothing."""
        message = page(
            "<!--[if mso]><xml><o:PixelsPerInch>96</o:PixelsPerInch></xml>"
            '<v:roundrect href="https://k.org/" style="height:40px;v-text-anchor:middle;width:200px" arcsize="10%" stroke="f" fillcolor="#B93C0A">'
            "<w:anchorlock/><center>Book</center></v:roundrect><![endif]-->"
        )
        text = bare(rewrite(message, WORD).html)
        assert "96" not in text
        assert "anchorlock" not in text
        assert '<a href="https://k.org/" style="' in text
        for part in ("height:40px", "width:200px", "background-color:#B93C0A", "border-radius:4px", "justify-content:center"):
            assert part in text, part
        assert "<center>Book</center></a>" in text

    def test_a_percentage_is_taken_of_the_picture(self) -> None:
        """50 % of a picture of 400 px are 200 px, whatever is around."""
        found = rewrite(page('<img src="a.png" width="50%" alt="">', a_dot_png=picture(400, 100)), WORD)
        assert 'width="200"' in found.html
        assert [change.kind for change in found.changes if change.feature == "html-width"] == ["altered"]

    def test_hidden_for_it_alone(self) -> None:
        """mso-hide is its own word for display: none."""
        assert 'style="display: none"' in rewrite(page('<p style="mso-hide: all">x</p>'), WORD).html
        assert "mso-hide" in rewrite(page('<p style="mso-hide: all">x</p>'), PLAIN).html


class TestPictures:
    """Blocked, not supported, inside their own address."""

    def test_blocked_as_each_client_shows_it(self) -> None:
        """Background pictures too; the client's own type where it has one."""
        message = page(
            '<img src="a.png" alt="Bowl"><table><td background="a.png" style="background: url(a.png)">x</table>', a_dot_png=picture()
        )
        styled = rewrite(message, profiles()["pane-blocked"])
        assert styled.html.count("/blocked") == 3
        assert styled.parts == {}
        assert len(styled.blocked) == 1
        assert "img {" not in styled.html
        assert "font: 13px" in rewrite(message, profiles()["webmail-blocked"]).html
        assert "color: transparent" in rewrite(message, profiles()["phone-blocked"]).html

    def test_a_picture_in_its_own_address_becomes_a_part(self) -> None:
        """Decoded once, whatever the page does with it; what is no picture is not shown."""
        message = page(
            '<img src="data:image/png;base64,iVBORw0KGgo="><img src="data:text/html,%3Cp%3E"><img src="data:image/png;base64,***">'
        )
        found = rewrite(message, PLAIN)
        assert "data:" not in found.html
        assert all(part.content_type.startswith("image/") for part in found.parts.values())


class TestNightAndClip:
    """Forced colours, and clients that stop."""

    def test_colours_are_turned_by_the_rule(self) -> None:
        """Full: both. Partial: only light grounds and dark letters. In styles, attributes and gradients."""
        message = page('<table><td bgcolor="#ffffff" style="color: #000; background: linear-gradient(#fff, #000)"><font color=white>x')
        full = rewrite(message, profiles()["phone-night"].shown(night=True)).html
        assert 'bgcolor="#1f1f1f"' in full
        assert "color: #ffffff" in full
        assert 'color="#1f1f1f"' in full
        partial = rewrite(message, replace(PLAIN, night="partial", is_night=True)).html
        assert "linear-gradient(#1f1f1f, #000000)" in partial
        assert "<font" in partial
        assert "color=white" in partial

    def test_by_day_and_for_those_who_only_ask_nothing_is_turned(self) -> None:
        """The message's own colours stay."""
        message = page('<table><td bgcolor="#ffffff">x')
        assert 'bgcolor="#ffffff"' in rewrite(message, profiles()["phone-night"].shown(night=False)).html
        assert 'bgcolor="#ffffff"' in rewrite(message, profiles()["desktop-night"]).html

    def test_a_client_that_stops(self) -> None:
        """At a whole tag, before its limit; what comes after is dropped and told."""
        profile = profiles()["phone-app"]
        message = page(f"<p>start</p><p>{'é' * 51_196}</p><p>the end</p><a href='x'>{'y' * 800}</a>")
        found = rewrite(message, profile)
        assert found.clipped
        assert "shows no more" in found.html
        assert "the end" not in found.html
        assert found.html.count("<p") == 2
        assert [change.title for change in found.dropped] == ["everything after 102,400 octets"]
        assert not rewrite(message, PLAIN).clipped


@pytest.mark.parametrize("name", [name for name, data in newsletters() if read_bytes(data, name).html is not None][:40:2])
def test_real_messages_in_every_profile(name: str) -> None:
    """Every place lies in the source, nothing active is left, and a client that lacks nothing changes nothing but that."""
    message = read_bytes(dict(newsletters())[name], name)
    assert message.html is not None
    source = message.html.text
    for profile in profiles().values():
        found = rewrite(message, profile)
        for change in found.changes:
            assert change.title
            assert change.span is None or 0 <= change.span.start <= change.span.end <= len(source)
            if change.is_listed and change.span is not None and change.feature.startswith("css-") and change.span.end < len(source):
                assert source[change.span.start : change.span.end].strip(), change
        assert not list(parse(found.html).elements("script", "iframe", "embed", "applet", "object", "base"))
    plain = bare(untouched(partial(rewrite, message), profiles()["desktop-pane"]).html)
    if not re.search(r"<(script|form|iframe|embed|object|noscript|base|link|meta|audio|video)\b|\son\w+\s*=", source, re.IGNORECASE):
        addresses = re.compile(r'(src|background)="http://parts[^"]*"')
        assert addresses.sub("", plain) == plain
        assert plain == source


class TestUnmergedTemplates:
    """Messages arrive with their fields, in any syntax."""

    def test_code_is_not_drawn(self) -> None:
        """Blocks go, in tags and in text, escaped or not; a field stays as it is written, its marks never read as a tag."""
        message = page(
            "<% if a > b %><p {{#if x}} class='y'>Dear <%= name %></p><% end %>{{#each i}}<b>&lt;% if z %&gt;[[x]]</b>{{/each}}<i <%= attrs %> id=q>i</i>"
        )
        html = bare(rewrite(message, PLAIN).html)
        for code in ("if a", "#if", "end %", "#each", "if z", "attrs"):
            assert code not in html
        assert "Dear &lt;%= name %&gt;" in html
        assert "[[x]]" in html
        assert re.search(r"<i\s+id=q>", html)

    @pytest.mark.parametrize(
        "html",
        [
            "<p style='background-color:{{colour}}; color:#fff'>x</p>",
            "<table bgcolor='${ground}'><td>x</table>",
            "<style>.a { color: #777; background: <%= ground %> }</style><p class='a'>x</p>",
            "<p style='background:%GROUND%'>x</p>",
            "<style>.a { color: #777; background: #ground_colour# }</style><p class='a'>x</p>",
        ],
    )
    def test_a_colour_that_a_field_brings_is_unknown(self, html: str) -> None:
        """A picture that shows nothing stands behind it, so that no contrast is measured."""
        assert re.search(
            r"background-image:\s?linear-gradient\(transparent, transparent\)|data-jetwind-unknown=", rewrite(page(html), PLAIN).html
        )
