"""Fonts that a message brings along, which most clients do not load."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Document
from jetwind.core.message import Message
from jetwind.core.profiles.profile import profiles

_FACE = "<style>@font-face { font-family: Kiln; src: url(https://x.example/k.woff2) }</style>"
#: Words in a family's name that say how wide it runs.
_NARROW = ("condensed", "narrow", "compressed")


@check(
    id="appearance.font-remote",
    name="Web font without a safe fallback",
    level=Level.NOTE,
    why="Most clients do not load fonts: the text is set in what comes next, with other widths and other line ends.",
    fix="Name a family that every machine has, of similar width, after the web font.",
    basis="Open support dataset: @font-face is dropped by three of four clients; the safe families are common practice, no published source",
    samples=[
        clear(f'{_FACE}<p style="font-family: Kiln, Arial, sans-serif">x</p>'),
        clear('<p style="font-family: Arial, sans-serif">x</p>'),
        clear(f'{_FACE}<p style="font-family: Kiln, sans-serif">x</p>'),
        clear(f"{_FACE}<p style=\"font-family: Kiln, 'Fancy Sans', Verdana\">x</p>"),
        finds(f'{_FACE}<p style="font-family: Kiln">x</p>', "font-family: Kiln"),
        finds(f'{_FACE}<p style="font-family: Kiln, cursive">x</p>', "font-family: Kiln, cursive"),
        finds(
            '<link rel="stylesheet" href="https://fonts.example/css?family=Kiln+Condensed"><p style="font-family: \'Kiln Condensed\', Arial">x</p>',
            "font-family: 'Kiln Condensed', Arial",
        ),
    ],
)
def find_remote_fonts(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A stack that begins with a web font goes on with a family that every machine has and that runs about as wide."""
    from jetwind.core.profiles.work import web_fonts
    from jetwind.core.styles import placed_declarations

    _, document = need_html(message)
    brought = web_fonts(message) | _linked(document)
    if not brought:
        return
    safe = profiles()["phone-upright"].families & profiles()["desktop-pane"].families
    told: set[str] = set()
    for placed in placed_declarations(document, "font-family"):
        if placed.rule is not None and any(name == "font-face" for name, _ in placed.rule.within):
            continue
        families = [part.strip(" \"'").lower() for part in placed.declaration.value.split(",")]
        if families[0] not in brought or families[0] in told:
            continue
        rest = [family for family in families[1:] if family in safe and family not in ("cursive", "fantasy", "math", "emoji")]
        is_narrow = any(word in families[0] for word in _NARROW)
        if rest and not (is_narrow and not any(word in family for word in _NARROW for family in families[1:])):
            continue
        told.add(families[0])
        yield Hit(
            "The web font “{family}” has no safe fallback of similar width.",
            Place.in_html(message, placed.span, placed.element.index),
            {"family": placed.declaration.value.split(",")[0].strip(" \"'")},
            identity=families[0],
        )


def _linked(document: Document) -> frozenset[str]:
    """Families that a linked or imported sheet of fonts brings, as far as its address names them."""
    import re
    from urllib.parse import unquote_plus

    addresses = [link.get("href") or "" for link in document.elements("link") if "stylesheet" in (link.get("rel") or "").lower()]
    for block in document.elements("style"):
        addresses += re.findall(r"""@import\s+(?:url\()?\s*["']?([^"')\s;]+)""", block.text, re.IGNORECASE)
    found: set[str] = set()
    for address in addresses:
        for name in re.findall(r"[?&]family=([^&#]+)", address.replace("&amp;", "&")):
            found |= {family.partition(":")[0].strip().lower() for family in unquote_plus(name).split("|")}
    return frozenset(found)
