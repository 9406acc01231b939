"""One cause is one finding: faults that are mended for one reason are told together, each with its own places and words."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import replace

from jetwind.core.checking.declaration import Check
from jetwind.core.checking.finding import Fault, Finding, Place

#: Places that a finding lists: nobody steps through more.
MOST_PLACES = 200


def fingerprint(check_id: str, identity: str) -> str:
    """Sixteen hexadecimal digits that stay while the thing stays.

    Where it stands in the source plays no part, so an unrelated change elsewhere leaves it alone.
    """
    return _digest(check_id, " ".join(identity.split()), "1")


def cause_of(declared: Check, cause: str, among: str = "") -> str:
    """The fingerprint of a cause whose faults are told together; empty where they are told one by one."""
    return _digest(declared.id, cause, "cause", *([among] if among else [])) if cause in declared.together else ""


def together(declared: Check, faults: Iterable[Finding]) -> list[Finding]:
    """Faults of one cause and one level as one finding, in the place of the first of them; all others as they are.

    What only some readers' copies have is told together for the same readers.
    """
    groups: dict[tuple[str, ...], list[Finding]] = {}
    for fault in faults:
        of_cause = (fault.cause, fault.level.value, str(fault.data.get("merged_for", "")))
        groups.setdefault(of_cause if fault.cause else (fault.fingerprint,), []).append(fault)
    return [_as_one(declared, group) if len(group) > 1 else group[0] for group in groups.values()]


def _as_one(declared: Check, group: Sequence[Finding]) -> Finding:
    first = group[0]
    sentence = first.several
    listed: list[Place] = []
    told: list[Fault] = []
    for fault in group:
        own = fault.places[: MOST_PLACES - len(listed)]
        listed += own
        told.append(Fault(fault.message if own else "", fault.fix if own else "", fault.fingerprint, len(own), fault.count - len(own)))
    many = sum(fault.count for fault in group)
    # Of each fault that is listed, what its own sentence names: pages find an address or a picture by it.
    names = [name for name in first.data if all(name in fault.data for fault in group)]
    listed_data = [fault.data for fault, one in zip(group, told, strict=True) if one.places]
    alike = {name: first.data[name] for name in names if all(fault.data[name] == first.data[name] for fault in group)}
    data: dict[str, object] = alike | {
        "many": many,
        "faults": len(group),
        "each": {name: [values[name] for values in listed_data] for name in names},
    }
    if readers := first.data.get("merged_for"):
        # As the runner words what only some copies have.
        sentence, data = "For {merged_for}: " + sentence, {**data, "merged_for": readers, "readers": readers}
    return replace(
        first,
        template=sentence,
        data=data,
        fix=first.fix if all(fault.fix == first.fix for fault in group) else declared.fix,
        fingerprint=_digest(first.cause, *sorted(f"{fault.fingerprint} {fault.count}" for fault in group), "together"),
        place=listed[0],
        others=tuple(listed[1:]),
        more=many - len(listed),
        faults=tuple(told),
    )


def _digest(*parts: str) -> str:
    return hashlib.sha256("\0".join(parts).encode("utf-8", "surrogatepass")).hexdigest()[:16]
