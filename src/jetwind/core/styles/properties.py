"""The properties that are computed: the words they take, what they are where nothing sets them, which are inherited.

Source: CSS Color 4, CSS Fonts 4, CSS Text 3, CSS Display 3 (from memory; held against Chromium in the tests).
"""

from __future__ import annotations

#: Words that every property takes (CSS Cascade 5 §7.3).
WIDE = frozenset(["inherit", "initial", "unset", "revert", "revert-layer"])

_DISPLAY = (
    "none inline block inline-block list-item table inline-table table-cell table-row table-row-group table-header-group table-footer-group "
    "table-column table-column-group table-caption flex inline-flex grid inline-grid flow-root contents run-in -webkit-box -webkit-inline-box"
)
#: The words of properties that take nothing else.
KEYWORDS: dict[str, frozenset[str]] = {
    "display": frozenset(_DISPLAY.split()),
    "visibility": frozenset(["visible", "hidden", "collapse"]),
    "font-style": frozenset(["normal", "italic", "oblique"]),
    "text-align": frozenset(
        [
            "left",
            "right",
            "center",
            "justify",
            "start",
            "end",
            "-webkit-left",
            "-webkit-center",
            "-webkit-right",
            "match-parent",
            "-internal-center",
        ]
    ),
    "text-transform": frozenset(["none", "capitalize", "uppercase", "lowercase", "full-width"]),
    "overflow-x": frozenset(["visible", "hidden", "scroll", "auto", "clip"]),
    "overflow-y": frozenset(["visible", "hidden", "scroll", "auto", "clip"]),
    "white-space": frozenset(["normal", "nowrap", "pre", "pre-wrap", "pre-line", "break-spaces"]),
    "float": frozenset(["none", "left", "right", "inline-start", "inline-end"]),
    "position": frozenset(["static", "relative", "absolute", "fixed", "sticky"]),
    "mso-hide": frozenset(["all", "screen", "none"]),
}
#: What a property is where nothing sets it.
INITIAL: dict[str, str] = {
    "display": "inline",
    "visibility": "visible",
    "opacity": "1",
    "font-size": "medium",
    "font-family": '"Times New Roman"',
    "font-weight": "normal",
    "font-style": "normal",
    "line-height": "normal",
    "color": "black",
    "background-color": "transparent",
    "background-image": "none",
    "text-decoration-line": "none",
    "text-align": "start",
    "text-transform": "none",
    "max-width": "none",
    "max-height": "none",
    "overflow-x": "visible",
    "overflow-y": "visible",
    "white-space": "normal",
    "float": "none",
    "position": "static",
    "letter-spacing": "normal",
    "mso-hide": "none",
}
INHERITED = frozenset(
    [
        "visibility",
        "font-size",
        "font-family",
        "font-weight",
        "font-style",
        "line-height",
        "color",
        "text-align",
        "text-transform",
        "white-space",
        "letter-spacing",
    ]
)
PROPERTIES = tuple(INITIAL)
