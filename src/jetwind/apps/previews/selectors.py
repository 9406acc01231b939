"""Reading renders: for the checks, for the station, and what lies at a point of one."""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from dataclasses import dataclass
from typing import Any

from jetwind.apps.intake.models import Revision
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.known import LOSS_TRIED, OWN_RENDERS
from jetwind.apps.previews.models import LossTrial, Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checking.circumstance import Later
from jetwind.core.profiles import profiles
from jetwind.core.renders import Render as Rendered
from jetwind.core.renders import Renders
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Shown
from jetwind.core.source import SourceText, Span


def renders_for_checks(revision: Revision) -> dict[str, Any]:
    """The renders of a revision, for the checks; nothing while any is still waiting."""
    workspace = revision.mailing.workspace
    chosen = chosen_profiles(workspace)
    rows, tried = OWN_RENDERS.of(revision), LOSS_TRIED.of(revision)
    own = {row["profile"]: (row["key"], row["state"]) for row in as_whom(revision).of(rows) if row["profile"] in chosen}
    if tried is None or tried["profiles"] != chosen or any(name not in own or own[name][1] == Render.State.WAITING for name in chosen):
        return {}
    answer = hashlib.sha256(json.dumps([tried["key"], sorted(own.items()), sorted(workspace.audience.items())]).encode()).hexdigest()
    return {"renders": Later(answer, lambda: _renders(revision))}


def _renders(revision: Revision) -> Renders:
    workspace = revision.mailing.workspace
    chosen = chosen_profiles(workspace)
    whom = as_whom(revision)
    trial = LossTrial.objects.get(revision=revision)
    kept: dict[str, Rendered] = {}
    problems: dict[str, str] = {}
    enlarged = None
    # The database gives one render at a time: the stored boxes of a heavy message take ten megabytes a profile, the blocks made of them less.
    for render in revision.renders.filter(mode=OWN, profile__in=chosen, **whom.here).defer("changes", "spoken").iterator(chunk_size=1):
        if render.state == Render.State.DONE:
            kept[render.profile] = Rendered(profiles()[render.profile], render.layout, render.clipped, frozenset(render.blocked))
        else:
            problems[render.profile] = render.problem
        enlarged = render.enlarged if enlarged is None else enlarged
    done = {name: kept[name] for name in chosen if name in kept}
    failed = {name: problems[name] for name in chosen if name not in done}
    shown = None
    if trial.shown is not None:
        shown = tuple(
            Shown(
                one["feature"],
                one["title"],
                effect=one["effect"],
                profiles=tuple(one["profiles"]),
                spans=tuple(Span(span["start"], span["end"]) for span in one["spans"]),
                # Answers of before that was noted lack it.
                elements=tuple(one.get("elements", ())),
            )
            for one in trial.shown
        )
    shares = {name: float(share) for name, share in workspace.audience.items()}
    lost = tuple(Loss.from_row(row) for row in enlarged) if enlarged is not None else None
    return Renders(done, failed, shares=shares, shown=shown, untold=trial.untold, reader=whom.name, enlarged=lost)


@dataclass(frozen=True, slots=True)
class Told:
    """A feature that a profile dropped, altered or added: how often, and the first lines."""

    kind: str
    feature: str
    title: str
    count: int
    lines: tuple[int, ...]


def told(render: Render, source: SourceText | None) -> list[Told]:
    """The changes that a profile made to the message, by feature."""
    counts = Counter((kind, feature, title) for kind, feature, title, _, _ in render.changes)
    lines: dict[tuple[str, str, str], list[int]] = {}
    for kind, feature, title, start, _ in render.changes:
        if start is not None and source is not None:
            lines.setdefault((kind, feature, title), []).append(source.position(start).line)
    return [
        Told(kind, feature, title, count, tuple(sorted(set(lines.get((kind, feature, title), ()))))[:12])
        for (kind, feature, title), count in sorted(counts.items(), key=lambda item: (_ORDER[item[0][0]], -item[1], item[0][2]))
    ]


_ORDER = {"dropped": 0, "altered": 1, "added": 2}


def element_at(layout: Measured, x: float, y: float) -> int | None:
    """The smallest block of a render under a point, or the nearest within 40 px."""
    under = [block for block in layout.blocks if block.x <= x <= block.right and block.y <= y <= block.bottom]
    if under:
        return min(under, key=lambda block: block.width * block.height).element
    near = [(max(block.x - x, 0, x - block.right) + max(block.y - y, 0, y - block.bottom), block.element) for block in layout.blocks]
    closest = min(near, default=None)
    return closest[1] if closest is not None and closest[0] <= 40 else None
