"""The house's own levels and thresholds."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping

from jetwind.core.checking.declaration import Check, Options
from jetwind.core.checking.options import options_of
from jetwind.core.errors import Unusable
from jetwind.core.source.plain import Unfit, read


class UnusableSetting(Unusable):
    """A level or threshold that a check cannot use; the text names the check, the setting and the remedy."""


def check_settings(declared: Check, settings: Mapping[str, Mapping[str, object]]) -> tuple[str, Options]:
    """The level and the options of a check under the house's settings: ``{check id: {"level": …, option: value}}``.

    Raises:
        UnusableSetting: an unknown option, a level that is none, or a value of the wrong type.
    """
    own = dict(settings.get(declared.id, {}))
    level = own.pop("level", declared.level.value)
    if level not in ("stop", "fix", "note", "off"):
        raise UnusableSetting(f"{declared.id}: level is stop, fix, note or off, not {level!r}.")
    defaults = declared.options()
    known = {option.name: getattr(defaults, option.name) for option in dataclasses.fields(defaults)}
    for name in own:
        if name not in known:
            raise UnusableSetting(f"{declared.id} has no option {name!r}; it has {', '.join(known) or 'none'}.")
    if not own:
        return level, defaults
    try:
        options = read({**known, **own}, type(defaults))
    except Unfit as unfit:
        raise UnusableSetting(f"{declared.id}: {unfit}.") from unfit
    for option in options_of(type(defaults)):
        if option.name in own and not option.takes(own[option.name]):
            raise UnusableSetting(f"{declared.id}: {option.name} is {option.range}, not {own[option.name]!r}.")
    return level, options
