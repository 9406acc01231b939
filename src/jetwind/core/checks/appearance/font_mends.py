"""The mend of font lists."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checks.appearance.layout import last_family
from jetwind.core.checks.needs import need_html
from jetwind.core.message import Message
from jetwind.core.source import Span
from jetwind.core.styles import placed_declarations

#: The kind of families that messages are set in, by name in small letters (from memory).
_KINDS = {
    "serif": (
        "georgia", "times", "times new roman", "palatino", "palatino linotype", "book antiqua", "garamond", "cambria", "baskerville",
        "merriweather", "lora", "playfair display", "noto serif", "pt serif", "source serif pro",
    ),
    "sans-serif": (
        "arial", "helvetica", "helvetica neue", "verdana", "tahoma", "trebuchet ms", "lucida grande", "lucida sans unicode", "geneva", "calibri",
        "segoe ui", "roboto", "open sans", "lato", "montserrat", "noto sans", "source sans pro", "poppins", "inter", "arial black", "impact",
        "arial narrow", "century gothic", "gill sans", "futura", "optima",
    ),
    "monospace": ("courier", "courier new", "consolas", "monaco", "menlo", "lucida console", "roboto mono", "source code pro"),
}  # fmt: skip
_PRIORITY = re.compile(r"\s*!\s*important\s*\Z|\s*\Z", re.IGNORECASE)


@mend(
    "appearance.font-stack",
    kind=MendKind.CONFIRM,
    does="Each list that ends with the family gets the generic family of its kind.",
    leaves="A family whose kind is not known is left to a person.",
    samples=[
        turns("<p style='font-family: Georgia'>x</p>", "<p style='font-family: Georgia, serif'>x</p>"),
        turns(
            "<style>p { font-family: Arial, Helvetica !important; color: red }</style><p style='font:bold 12px Helvetica'>x</p>",
            "<style>p { font-family: Arial, Helvetica, sans-serif !important; color: red }</style>"
            "<p style='font:bold 12px Helvetica, sans-serif'>x</p>",
        ),
        leaves_alone("<p style='font-family: Kiln Display'>x</p>"),
    ],
)
def mend_font_stack(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The generic family stands last, before a priority (CSS Fonts 4 §2.1)."""
    family = str(finding.data.get("family", "")).casefold()
    kind = next((kind for kind, names in _KINDS.items() if family in names), "")
    _, document = need_html(message)
    for placed in placed_declarations(document, "font") if kind else ():
        name, value = placed.declaration.name, placed.declaration.value
        last = last_family(value, shorthand=name == "font") if name in ("font", "font-family") and not message.holds_field(value) else None
        end = _PRIORITY.search(document.source.slice(placed.span))
        if last is not None and last.casefold() == family and end is not None:
            yield Change("html", Span(placed.span.start + end.start(), placed.span.start + end.start()), f", {kind}")
