"""The message leaves in the future, at an hour that every reader has."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from zoneinfo import available_timezones

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message, Sample

_NOW = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)
_HERE = Sample("Ines", {"time_zone": "Europe/Lisbon"})
_NOWHERE = Sample("Tove", {"time_zone": ""})


@check(
    id="envelope.planned-past",
    name="Planned time is past",
    level=Level.STOP,
    why="The message would go out at once, or never.",
    fix="Plan it for a time to come.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>x</p>", given={"now": _NOW, "planned": datetime(2027, 3, 1, 12, 1, tzinfo=UTC)}),
        clear("<p>x</p>", given={"now": _NOW}),
        finds("<p>x</p>", given={"now": _NOW, "planned": datetime(2027, 3, 1, 11, 59, tzinfo=UTC)}),
    ],
)
def find_past(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The planned time has not passed."""
    if context.planned is None:
        raise DoesNotApply("no time is planned")
    if context.now is None:
        raise CannotTell("the present time is not known")
    if context.planned < context.now:
        shown = f"{context.planned:%Y-%m-%d %H:%M %Z}".strip()
        yield Hit(
            "The message is planned for {planned}, which is past.", Place("message", "Planned time"), {"planned": shown}, identity=shown
        )


@check(
    id="envelope.zone-missing",
    name="Reader without a time zone",
    level=Level.FIX,
    why="A message that leaves at each reader's own hour has no hour for this one.",
    fix="Give the reader a time zone by its IANA name, such as Europe/Lisbon.",
    basis="IANA time zone database",
    samples=[
        clear("<p>x</p>", readers=(_HERE,), given={"local_time": True}),
        clear("<p>x</p>", readers=(_NOWHERE,)),
        finds("<p>x</p>", readers=(_HERE, _NOWHERE), given={"local_time": True}),
        finds("<p>x</p>", readers=(Sample("Ada", {"time_zone": "Lisbon time"}),), given={"local_time": True}),
    ],
)
def find_zone_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where the plan goes by readers' local time, every sample reader has a zone."""
    if not context.local_time:
        raise DoesNotApply("the planned time is not each reader's own")
    known = available_timezones()
    for reader in context.readers:
        zone = reader.values.get("time_zone", "").strip()
        if zone not in known:
            yield Hit(
                "{reader} has the time zone “{zone}”, which is none." if zone else "{reader} has no time zone.",
                Place("message", "Sample readers"),
                {"reader": reader.name, "zone": zone},
                identity=f"{reader.name}:{zone}",
            )
