"""Whether the loss of a feature shows: tried alone, and once more among all that the client loses (decision 0010).

First the message is laid out with nothing lost and with that one feature lost. Where that shows, it is laid out as the client has it and
with that one feature kept: what the rest of the client makes up for, such as a ghost table for a lost margin, is no loss.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import Rewriter, Rewritten
from jetwind.core.profiles.support import features
from jetwind.core.renders.departure import ACROSS, DOWN
from jetwind.core.renders.measured import Measured
from jetwind.core.source import Span

Effect = Literal["layout", "look"]


@dataclass(frozen=True, slots=True)
class Trial:
    """A feature to take out in a window, and the profiles of that kind of window that lack it."""

    feature: str
    window: Profile
    profiles: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Shown:
    """A feature whose loss shows: as moved or vanished blocks or only as another look, where, and in which profiles.

    ``spans`` are all places where a client loses it. ``elements`` are those whose block shows the loss, by index in the message's tree, at
    most MOST_ELEMENTS; empty where that is not known, as for a ground or a border.
    """

    feature: str
    title: str
    effect: Effect
    profiles: tuple[str, ...]
    spans: tuple[Span, ...]
    elements: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Answer:
    """The result of a trial: the effect, and the elements whose block shows it."""

    trial: Trial
    effect: Effect
    elements: frozenset[int] = frozenset()


#: Elements that one loss keeps: more are not gone through.
MOST_ELEMENTS = 1_000


def trials(pages: dict[str, Rewritten], chosen: Sequence[Profile]) -> list[Trial]:
    """The trials for these profiles, each feature once for each kind of window: device, way up, engine, day or night."""
    windows: dict[tuple[object, ...], Profile] = {}
    lacking: dict[tuple[str, tuple[object, ...]], list[str]] = {}
    for profile in chosen:
        key = (profile.device, profile.is_turned, profile.engine, profile.is_night)
        windows.setdefault(key, profile)
        for feature in {change.feature for change in pages[profile.id].changes if change.is_listed and change.kind != "added"}:
            if feature == "html-doctype":
                continue  # a client that brings a doctype of its own takes nothing from the message
            known = features().get(feature)
            # A client that forces its own night does not mean to ask the message for one.
            is_own_night = feature.startswith("css-at-media") and profile.is_night and profile.night != "asks"
            if known is not None and not known.is_unseen and not is_own_night:
                lacking.setdefault((feature, key), []).append(profile.id)
    return [Trial(feature, windows[key], tuple(ids)) for (feature, key), ids in sorted(lacking.items(), key=lambda item: str(item[0]))]


def without(rewriter: Rewriter, trial: Trial, profile: Profile) -> Rewritten:
    """The message in the trial's window with the feature lost in the way of one of the profiles that lack it."""
    return rewriter(_in_window(trial.window, profile), only=trial.feature)


def whole(rewriter: Rewriter, trial: Trial) -> Rewritten:
    """The message in the trial's window with nothing lost, as the engine of that window reads it."""
    return rewriter(_in_window(trial.window, trial.window), only="")


def as_it_is(rewriter: Rewriter, trial: Trial, profile: Profile) -> Rewritten:
    """The message in the trial's window with everything lost that one of the profiles lacks."""
    return rewriter(_in_window(trial.window, profile))


def with_it(rewriter: Rewriter, trial: Trial, profile: Profile) -> Rewritten:
    """The same, but that the trial's feature stays."""
    return rewriter(_in_window(trial.window, profile), spared=trial.feature)


def _in_window(window: Profile, profile: Profile) -> Profile:
    from dataclasses import replace

    return replace(
        window,
        modelled_on=profile.modelled_on,
        account=profile.account,
        images="stand-in",
        alternative="styled",
        prefix="",
        clip=0,
        style_limit=0,
    )


def effect(feature: str, before: Measured, after: Measured) -> Effect | None:
    """The effect of the loss: blocks of letters or pictures that moved, changed size or are gone; or a look alone; or nothing."""
    if feature == "html-body":
        # Every message loses it in half of all clients; a margin more or less is no loss to mend.
        return "layout" if _differ(list(_places(before)), list(_places(after)), 40, 40) else None
    if _differ(list(_places(before)), list(_places(after))):
        return "layout"
    # A ground or a border that stands a margin of the page further in is the same ground.
    answer: Effect = "layout" if feature in features() and features()[feature].how == "control" else "look"
    if _differ([box[:4] for box in before.painted], [box[:4] for box in after.painted], 2 * ACROSS + 8, 2 * DOWN):
        return answer
    looks = [(block.colour, block.size, block.weight) for block in before.of("text")]
    if looks != [(block.colour, block.size, block.weight) for block in after.of("text")]:
        return "look"
    return "look" if [box[4] for box in before.painted] != [box[4] for box in after.painted] else None


def differing(before: Measured, after: Measured) -> frozenset[int]:
    """Elements whose block of letters or picture has moved, changed its size or look, or stands in one of the two alone.

    Blocks are held against each other by their element and their number in it.
    """
    one, other = _by_number(before), _by_number(after)
    return frozenset(key[0] for key in one.keys() | other.keys() if not _is_alike(one.get(key), other.get(key)))


_Look = tuple[tuple[float, float, float, float], tuple[object, ...]]


def _by_number(measured: Measured) -> dict[tuple[int, str, int], _Look]:
    numbered: dict[tuple[int, str, int], _Look] = {}
    count: Counter[tuple[int, str]] = Counter()
    for block, place in zip(measured.of("text", "image"), _places(measured), strict=True):
        own = (block.element, block.kind)
        numbered[*own, count[own]] = place, (block.colour, block.size, block.weight)
        count[own] += 1
    return numbered


def _is_alike(one: _Look | None, other: _Look | None) -> bool:
    return one is not None and other is not None and one[1] == other[1] and not _differ([one[0]], [other[0]])


def _places(measured: Measured) -> Iterator[tuple[float, float, float, float]]:
    """Place across, gap above, width and height of what can be read or seen, in order; a change further up counts once."""
    above = 0.0
    for block in measured.of("text", "image"):
        yield block.x, block.y - above, block.width, block.height
        above = block.bottom


def _differ(
    before: list[tuple[float, float, float, float]],
    after: list[tuple[float, float, float, float]],
    across: float = ACROSS,
    down: float = DOWN,
) -> bool:
    if len(before) != len(after):
        return True
    return any(
        abs(one[0] - other[0]) > across or abs(one[2] - other[2]) > across or abs(one[1] - other[1]) > down or abs(one[3] - other[3]) > down
        for one, other in zip(before, after, strict=True)
    )


def gather(pages: dict[str, Rewritten], answers: Sequence[Answer]) -> list[Shown]:
    """One entry for each feature whose loss shows anywhere, with the places in the message that use it."""
    found: dict[str, list[Answer]] = {}
    for answer in answers:
        found.setdefault(answer.trial.feature, []).append(answer)
    shown: list[Shown] = []
    for feature, of_feature in found.items():
        effect: Effect = "layout" if any(answer.effect == "layout" for answer in of_feature) else "look"
        ids = [profile_id for answer in of_feature for profile_id in answer.trial.profiles]
        # Where one of the answers cannot say which elements, all places may be those that show.
        known = all(answer.elements for answer in of_feature)
        elements = sorted({element for answer in of_feature for element in answer.elements}) if known else []
        spans = sorted(
            {
                change.span
                for profile_id in ids
                for change in pages[profile_id].changes
                if change.feature == feature and change.span is not None
            }
        )
        shown.append(
            Shown(
                feature,
                features()[feature].title,
                effect=effect,
                profiles=tuple(ids),
                spans=tuple(spans),
                elements=tuple(elements[:MOST_ELEMENTS]),
            )
        )
    return shown
