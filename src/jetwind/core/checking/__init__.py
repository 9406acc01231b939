"""Checks: how one is declared, what it may answer, and how all of them are run."""

from jetwind.core.checking.brief import PLACES, Brief, RequiredItem, UnusableBrief
from jetwind.core.checking.context import Context, Kind
from jetwind.core.checking.declaration import Check, Options, check
from jetwind.core.checking.finding import (
    CannotTell,
    CheckResult,
    DoesNotApply,
    Fault,
    Finding,
    Hit,
    Level,
    Outcome,
    Part,
    Place,
)
from jetwind.core.checking.options import Option, options_of
from jetwind.core.checking.registry import registry
from jetwind.core.checking.rulebooks import (
    HOUSE_DEMANDS,
    Demand,
    Rulebook,
    UnusableRulebook,
    asking,
    exempt,
    house_rulebook,
    rulebook_from_toml,
    rulebooks,
)
from jetwind.core.checking.runner import run, run_check
from jetwind.core.checking.samples import CheckSample, Layout, SampleBlock, box, clear, finds, laid_out
from jetwind.core.checking.settings import UnusableSetting, check_settings

__all__ = [
    "HOUSE_DEMANDS",
    "PLACES",
    "Brief",
    "CannotTell",
    "Check",
    "CheckResult",
    "CheckSample",
    "Context",
    "Demand",
    "DoesNotApply",
    "Fault",
    "Finding",
    "Hit",
    "Kind",
    "Layout",
    "Level",
    "Option",
    "Options",
    "Outcome",
    "Part",
    "Place",
    "RequiredItem",
    "Rulebook",
    "SampleBlock",
    "UnusableBrief",
    "UnusableRulebook",
    "UnusableSetting",
    "asking",
    "box",
    "check",
    "check_settings",
    "clear",
    "exempt",
    "finds",
    "house_rulebook",
    "laid_out",
    "options_of",
    "registry",
    "rulebook_from_toml",
    "rulebooks",
    "run",
    "run_check",
]
