"""What the chosen clients drop, where its loss shows."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Layout, Level, Options, Place, check, clear, finds, laid_out
from jetwind.core.checking.grouping import MOST_PLACES
from jetwind.core.checks.needs import need_html
from jetwind.core.checks.rendered import need_renders, seen_in
from jetwind.core.markup import Document
from jetwind.core.message import Message
from jetwind.core.profiles.profile import profiles
from jetwind.core.profiles.support import features
from jetwind.core.renders.showing import Effect, Shown
from jetwind.core.source import Span


def _lost(feature: str, title: str, start: int, end: int, effect: Effect = "layout") -> Layout:
    return laid_out("word-processor", shown=(Shown(feature, title, effect, ("word-processor",), (Span(start, end),)),))


def _lost_twice(feature: str, title: str, *spans: tuple[int, int]) -> Layout:
    return laid_out("word-processor", shown=(Shown(feature, title, "layout", ("word-processor",), tuple(Span(*span) for span in spans)),))


_TWICE = '<p style="padding:0">x</p><p style="padding:4px">y</p>'
_FLEX = '<p style="display:flex">x</p>'


def _hits(message: Message, context: Context, category: str) -> Iterator[Hit]:
    document, renders = need_renders(message, context)
    if renders.shown is None:
        raise CannotTell(renders.untold)
    elements = sorted((element.start_tag.start, element.index) for element in document.all_elements if element.start_tag is not None)
    for group in _by_what_is_dropped([shown for shown in renders.shown if shown.feature.startswith(category) and shown.spans]):
        effect: Effect = "layout" if any(shown.effect == "layout" for shown in group) else "look"
        spans = _telling(document, sorted({span for shown in group for span in shown.spans}))
        first, *others = (Place.in_html(message, span, _element_at(elements, span)) for span in spans[:MOST_PLACES])
        titles = list(dict.fromkeys(shown.title for shown in group))
        yield Hit(
            "{title} is lost in {places} and shows in {profiles}."
            if effect == "layout"
            else "{title} is lost in {places}; only the look suffers, in {profiles}.",
            first,
            {
                "title": titles[0] if len(titles) == 1 else f"{titles[0]} with {len(titles) - 1} more in the same rules",
                "titles": titles,
                "feature": group[0].feature,
                "features": [shown.feature for shown in group],
                "places": "1 place" if len(spans) == 1 else f"{len(spans)} places",
                "spans": [[span.start, span.end] for span in spans[:MOST_PLACES]],
                "effect": effect,
                **seen_in(renders, [profile_id for shown in group for profile_id in shown.profiles]),
            },
            identity=" ".join(sorted(shown.feature for shown in group)),
            level=None if effect == "layout" else Level.NOTE,
            also=tuple(others),
        )


#: Values that a property has without being set: dropping them changes nothing.
_NO_OP = re.compile(
    r"[^:]{1,60}:\s*(?:0(?:px|pt|em|rem|%)?(?:\s+0(?:px|pt|em|rem|%)?){0,3}|none|normal|auto|inherit|initial|unset|static|visible|transparent)\s*(?:!\s*important)?\s*;?\s*\Z",
    re.IGNORECASE,
)


def _telling(document: Document, spans: list[Span]) -> list[Span]:
    """Places whose declaration says something; all of them where none does."""
    return [span for span in spans if not _NO_OP.match(document.source.slice(span))] or spans


def _by_what_is_dropped(shown: list[Shown]) -> list[list[Shown]]:
    """Losses that come of the same rules, such as several kinds of selectors in one of them, belong together."""
    groups: list[tuple[set[Span], list[Shown]]] = []
    for one in shown:
        spans = set(one.spans)
        if features()[one.feature].how != "selector":
            groups.append((set(), [one]))
            continue
        joined = [group for group in groups if group[0] & spans]
        for group in joined:
            groups.remove(group)
        groups.append((spans.union(*(group[0] for group in joined)), [*(other for group in joined for other in group[1]), one]))
    return [group for _, group in groups]


def _element_at(elements: list[tuple[int, int]], span: Span) -> int | None:
    """The element whose tag, attribute or sheet the span stands in; ``elements`` are starts of tags with their elements."""
    at = bisect_right(elements, (span.start, len(elements))) - 1
    return elements[at][1] if at >= 0 else None


@check(
    id="appearance.css-unsupported",
    name="Style that a chosen client drops",
    level=Level.FIX,
    why="In that client the message does not look as it was made.",
    fix="Use what every chosen client takes, give a fallback before it, or excuse the loss where it is meant.",
    basis="Open support dataset (its package and date stand in facts/client_support.json); the loss is tried on the render",
    samples=[
        clear(_FLEX, renders=laid_out("word-processor")),
        clear(_FLEX, renders=_lost("html-style", "style", 3, 24)),
        clear(_FLEX, renders=_lost("html-doctype", "doctype", 0, 5)),
        finds(_FLEX, "display:flex", renders=_lost("css-display-flex", "display:flex", 10, 22)),
        finds(_TWICE, "padding:4px", renders=_lost_twice("css-padding", "padding", (10, 19), (36, 47))),
        finds(_FLEX, "display:flex", renders=_lost("css-border-radius", "border-radius", 10, 22, "look")),
    ],
)
def find_css_unsupported(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No declaration, selector or at-rule whose loss shows is dropped by a chosen client."""
    yield from _hits(message, context, "css-")


@check(
    id="appearance.html-unsupported",
    name="Element that a chosen client drops",
    level=Level.FIX,
    why="In that client the message does not look as it was made.",
    fix="Use elements and attributes that every chosen client takes, or excuse the loss where it is meant.",
    basis="Open support dataset (its package and date stand in facts/client_support.json); the loss is tried on the render",
    samples=[
        clear("<section>x</section>", renders=laid_out("word-processor")),
        finds("<section>x</section>", "<section>", renders=_lost("html-semantics", "HTML5 semantics", 0, 9)),
    ],
)
def find_html_unsupported(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No element or attribute whose loss shows is dropped by a chosen client."""
    yield from _hits(message, context, "html-")


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
