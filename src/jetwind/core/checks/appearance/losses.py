"""Losses of the chosen clients, where they show: told by client and by cause, with what helps."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Layout, Level, Options, Place, check, clear, finds, laid_out
from jetwind.core.checking.grouping import MOST_PLACES
from jetwind.core.checks.rendered import need_renders, seen_in
from jetwind.core.facts import table
from jetwind.core.facts.tables import LossMends
from jetwind.core.markup import Document
from jetwind.core.message import Message
from jetwind.core.profiles.support import features
from jetwind.core.renders import Renders
from jetwind.core.renders.loss_places import LossPlaces, Sources
from jetwind.core.renders.showing import Effect, Shown
from jetwind.core.source import Span

#: Why a feature is lost, by how it is lost (client_features.toml): these are told together.
_CAUSES = {
    "style": "sheets", "at-rule": "media", "media-feature": "media", "selector": "selectors", "nesting": "selectors", "property": "declarations",
    "keyword": "declarations", "function": "declarations", "unit": "declarations", "variables": "declarations", "important": "declarations",
    "control": "form",
}  # fmt: skip
_ACTIVE = "appearance.active-content"
#: Elements that are parts of a form.
_FORM = frozenset({"form", "select", "textarea", "fieldset", "label", "legend", "option", "datalist"})


def _lost(feature: str, title: str, start: int, end: int, effect: Effect = "layout", *elements: int) -> Layout:
    return laid_out(
        "word-processor",
        shown=(Shown(feature, title, effect=effect, profiles=("word-processor",), spans=(Span(start, end),), elements=elements),),
    )


def _lost_twice(feature: str, title: str, *spans: tuple[int, int], elements: tuple[int, ...] = ()) -> Layout:
    places = tuple(Span(*span) for span in spans)
    return laid_out(
        "word-processor", shown=(Shown(feature, title, effect="layout", profiles=("word-processor",), spans=places, elements=elements),)
    )


def _lost_both(*lost: tuple[str, str, int, int]) -> Layout:
    losses = tuple(Shown(feature, title, "layout", ("word-processor",), (Span(start, end),)) for feature, title, start, end in lost)
    return laid_out("word-processor", shown=losses)


_TWICE = '<p style="padding:0">x</p><p style="padding:4px">y</p>'
_FLEX = '<p style="display:flex">x</p>'
_BOTH = '<p style="display:flex;float:left">x</p>'
_SHEET_ALONE = "<style>p { margin: 4px; color: red } b { margin: 8px }</style>"
_SHEET = f"{_SHEET_ALONE}<p>x</p>"


def _hits(message: Message, context: Context, category: str) -> Iterator[Hit]:
    document, renders = need_renders(message, context)
    if renders.shown is None:
        raise CannotTell(renders.untold)
    sources = Sources(document)
    # A form is told once: the check of active content says that it works nowhere, whichever of its parts a client leaves out.
    is_told = _ACTIVE in context.asked and context.settings.get(_ACTIVE, {}).get("level") != "off" and bool(list(document.elements("form")))
    for group in _by_what_is_dropped([shown for shown in renders.shown if shown.feature.startswith(category) and shown.spans]):
        if not (is_told and _cause(group[0].feature) == "form"):
            yield _hit(message, sources, renders, group)


def _hit(message: Message, sources: Sources, renders: Renders, group: list[Shown]) -> Hit:
    """One loss: of a feature, or of several kinds of selectors in the same rules."""
    effect: Effect = "layout" if any(shown.effect == "layout" for shown in group) else "look"
    places = LossPlaces(sources, {element for shown in group for element in shown.elements} if all(one.elements for one in group) else ())
    all_spans = _telling(sources.document, sorted({span for shown in group for span in shown.spans}))
    spans = places.that_show(all_spans)
    first, *others = (_place(message, sources, span) for span in spans[:MOST_PLACES])
    titles = list(dict.fromkeys(shown.title for shown in group))
    cause = _cause(group[0].feature)
    ids = [profile_id for profile_id in renders.renders if any(profile_id in shown.profiles for shown in group)]
    many, showing = places.declarations(spans) if cause == "sheets" else (0, 0)
    return Hit(
        _sentence(effect, cause, many, showing),
        first,
        {
            "title": titles[0] if len(titles) == 1 else f"{titles[0]} with {len(titles) - 1} more in the same rules",
            "titles": titles,
            "feature": group[0].feature,
            "features": [shown.feature for shown in group],
            "places": _that_show(len(spans), len(all_spans)),
            "spans": [[span.start, span.end] for span in spans[:MOST_PLACES]],
            "effect": effect,
            "declarations": many,
            "showing": showing,
            "clients": _clients(renders, ids),
            **seen_in(renders, ids),
        },
        identity=" ".join(sorted(shown.feature for shown in group)),
        level=None if effect == "layout" else Level.NOTE,
        fix=_mend(group[0].feature, effect, is_media=cause == "sheets" and places.are_of_media(spans)),
        also=tuple(others),
        cause=f"{cause} {effect}",
        # A form is one thing, whichever of its parts which client leaves out.
        among="" if cause == "form" else " ".join(dict.fromkeys(renders.renders[profile_id].profile.modelled_on for profile_id in ids)),
    )


def _sentence(effect: Effect, cause: str, declarations: int, showing: int) -> str:
    if cause == "sheets" and declarations and showing:
        start = "Style sheets are not kept: {declarations} declarations, of which {showing} show, in {profiles}"
    else:
        start = "{title} is lost: {places} in {profiles}"
    return start + ("." if effect == "layout" else "; only the look suffers.")


def _that_show(showing: int, of: int) -> str:
    if showing < of:
        return f"{showing} of {of} places {'shows' if showing == 1 else 'show'}"
    return "1 place shows" if showing == 1 else f"{showing} places show"


def _counted(number: int, one: str) -> str:
    return f"{number} {one}" if number == 1 else f"{number} {one}s"


def _clients(renders: Renders, ids: Iterable[str]) -> str:
    """The clients of these profiles for a sentence, each by the name of the first profile that has been rendered for it."""
    families = {renders.renders[profile_id].profile.modelled_on for profile_id in ids}
    names: dict[str, str] = {}
    for render in renders.renders.values():
        if render.profile.modelled_on in families:
            names.setdefault(render.profile.modelled_on, render.profile.name)
    first, *others = names.values()
    return f"“{first}”" + (f" and {_counted(len(others), 'other client')}" if others else "")


def _cause(feature: str) -> str:
    of = features()[feature]
    return "form" if of.names & _FORM else _CAUSES.get(of.how, "markup")


def _mend(feature: str, effect: Effect, *, is_media: bool) -> str | None:
    """The mend against the loss of a feature; None where only the check's own advice helps. ``is_media``: media queries alone are lost."""
    mends = table("loss_mends", LossMends)
    if is_media:
        return mends["media"]
    of_layout = [mends["features"].get(feature), mends["how"].get(features()[feature].how)] if effect == "layout" else []
    return next((mend for mend in (mends["look"].get(feature), *of_layout) if mend is not None), None)


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


def _place(message: Message, sources: Sources, span: Span) -> Place:
    element = sources.element_at(span)
    return Place.in_html(message, span, element.index if element is not None else None)


def _together(what: dict[str, str], where: str = " in {clients}") -> dict[str, str]:
    """The sentences of causes, for losses that move something and for those of the look alone."""
    told: dict[str, str] = {}
    for cause, words in what.items():
        told[f"{cause} layout"] = f"{words} lost: {{many}} places show{where}."
        told[f"{cause} look"] = f"{words} lost: {{many}} places show{where}; only the look suffers."
    return told


@check(
    id="appearance.css-unsupported",
    name="Style that a chosen client drops",
    level=Level.FIX,
    why="In that client the message does not look as it was made.",
    fix="Use what every chosen client takes, give a fallback before it, or excuse the loss where it is meant.",
    basis="Open support dataset (its package and date stand in facts/client_support.json); the loss is tried on the render",
    together=_together({"declarations": "Declarations are", "selectors": "Rules are", "media": "At-rules are"}),
    samples=[
        clear(_FLEX, renders=laid_out("word-processor")),
        clear(_FLEX, renders=_lost("html-style", "style", 3, 24)),
        clear(_FLEX, renders=_lost("html-doctype", "doctype", 0, 5)),
        finds(_FLEX, "display:flex", renders=_lost("css-display-flex", "display:flex", 10, 22)),
        finds(_TWICE, "padding:4px", renders=_lost_twice("css-padding", "padding", (10, 19), (36, 47))),
        finds(_FLEX, "display:flex", renders=_lost("css-border-radius", "border-radius", 10, 22, "look")),
        finds(_BOTH, "display:flex", renders=_lost_both(("css-display-flex", "flex", 10, 22), ("css-float", "float", 23, 33))),
        finds(_SHEET, "margin: 4px", renders=_lost_twice("css-margin", "margin", (11, 22), (41, 52), elements=(4,))),
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
    together=_together({"markup": "Elements and attributes are"}) | _together({"form": "Parts of a form are"}, where=""),
    samples=[
        clear("<section>x</section>", renders=laid_out("word-processor")),
        finds("<section>x</section>", "<section>", renders=_lost("html-semantics", "HTML5 semantics", 0, 9)),
        finds(_SHEET, _SHEET_ALONE, renders=_lost("html-style", "style element", 0, 62, "layout", 4)),
    ],
)
def find_html_unsupported(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No element or attribute whose loss shows is dropped by a chosen client."""
    yield from _hits(message, context, "html-")
