"""Declarations, lengths and what hides an element."""

import pytest

from jetwind.core.markup import parse
from jetwind.core.styles import Cascade, declarations, length_px, urls


class TestDeclarations:
    """A style attribute in its parts."""

    def test_broken_declarations_are_dropped(self) -> None:
        """As CSS itself drops them, the rest stays."""
        found = declarations("color: red; : x; width 3px; MARGIN:0 !important")
        assert [(one.name, one.value, one.important) for one in found] == [("color", "red", False), ("margin", "0", True)]

    @pytest.mark.parametrize(
        ("value", "px"),
        [("12px", 12), ("0", 0), ("9pt", 12), ("1em", 16), ("50%", None), ("auto", None), (None, None), ("calc(1px)", None)],
    )
    def test_lengths(self, value: str | None, px: float | None) -> None:
        """What cannot be known is None, never a number."""
        assert length_px(value) == px

    def test_urls_of_a_value(self) -> None:
        """Quoted, bare, and inside another function."""
        assert list(urls("url(a.png), url('b.png'), image-set(url(c.png) 1x)")) == ["a.png", "b.png", "c.png"]


class TestHidden:
    """What a sighted reader never gets to see."""

    @pytest.mark.parametrize(
        "style",
        [
            "display:none",
            "DISPLAY : NONE",
            "visibility:hidden",
            "opacity:0",
            "font-size:0",
            "font-size:1px",
            "max-height:0;overflow:hidden",
            "height:0px;overflow:hidden",
        ],
    )
    def test_styles_that_hide(self, style: str) -> None:
        """Inline styles that take text away."""
        document = parse(f'<div style="{style}">x</div>')
        assert Cascade(document).is_hidden(next(document.elements("div")))

    @pytest.mark.parametrize("style", ["display:block", "max-height:0", "font-size:12px", "height:0", "opacity:.5", "width:0"])
    def test_styles_that_do_not(self, style: str) -> None:
        """Text stays visible."""
        document = parse(f'<div style="{style}">x</div>')
        assert not Cascade(document).is_hidden(next(document.elements("div")))

    def test_children_of_the_hidden_are_hidden(self) -> None:
        """Through all levels."""
        document = parse('<div style="display:none"><table><tr><td><p>x</p></td></tr></table></div>')
        assert Cascade(document).is_hidden(next(document.elements("p")))

    def test_a_font_size_of_zero_around_pictures_hides_nothing(self) -> None:
        """The usual way to close gaps between pictures."""
        document = parse('<td><div style="font-size:0"><p style="font-size:14px">x</p></div>')
        assert not Cascade(document).is_hidden(next(document.elements("p")))


class TestCascade:
    """CSS Cascade 4 §6."""

    @pytest.mark.parametrize(
        ("css", "attribute", "display"),
        [
            ("p{display:none}", "", "none"),
            ("p{display:none}", "display:block", "block"),
            ("p{display:none !important}", "display:block", "none"),
            (".a{display:none} p{display:block}", "", "none"),
            ("p{display:none} p{display:inline}", "", "inline"),
            ("@media (max-width:600px){p{display:none}}", "", None),
            ("p:hover{display:none} p::before{display:none}", "", None),
            ("#x{display:flex} .a{display:none}", "", "flex"),
        ],
    )
    def test_which_declaration_wins(self, css: str, attribute: str, display: str | None) -> None:
        """Importance, style attribute, specificity, order; media queries apart."""
        document = parse(f'<style>{css}</style><p class="a" id="x" style="{attribute}">t</p>')
        assert Cascade(document).value(next(document.elements("p")), "display") == display
