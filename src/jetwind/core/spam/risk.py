"""The estimate as a finding, so that it can be excused and can stop a release."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message
from jetwind.core.spam.total import spam_sum


@check(
    id="spam.risk",
    name="Spam risk",
    level=Level.FIX,
    why="Filters may put the message aside before any reader sees it.",
    fix="Look at the heaviest reasons first, change one thing, and see what moves.",
    basis="Common practice, no published source; weights and bands measured on open mail of 2002 (docs/spam-calibration.md), those of modern habits set by hand",
    samples=[
        clear(
            "From: a@kiln.org\nSubject: Spring glaze sale\n\nTwelve glazes at a fifth off until Sunday.\nUnsubscribe: https://kiln.org/u\n"
        ),
        clear("From: a@kiln.org\nSubject: {{ subject }}\n\n{{ content }}\nUnsubscribe: https://kiln.org/u\n"),
        finds("From: a@kiln.org\n\nTwelve glazes at a fifth off until Sunday.\nUnsubscribe: https://kiln.org/u\n"),
        finds("From: a@kiln.org\nSubject: RE: YOU ARE A WINNER!!!\n\nAct now! Claim your prize! Risk-free! Call now! Now!\n"),
    ],
)
def find_risk(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The sum of all reasons stays in the low band."""
    total = spam_sum(message, context)
    band = total.band()
    if band == "low":
        if total.unknown:
            raise CannotTell("; ".join(f"nothing can be told of {names}: {why}" for names, why in total.unknown_by_why[:3]))
        return
    yield Hit(
        "Spam risk is {band}: {score}, most of it from “{heaviest}”.",
        Place("message"),
        {"band": band, "score": total.score(), "heaviest": total.reasons[0].name, "reasons": [reason.id for reason in total.reasons]},
        identity=f"{band}:{' '.join(sorted(reason.id for reason in total.reasons))}",
        level=Level.STOP if band == "high" else Level.FIX,
    )
