"""The HTML is small enough to be shown whole."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_html
from jetwind.core.message import Message
from jetwind.core.profiles.profile import Profile, profiles


@dataclass(frozen=True)
class ClipOptions(Options):
    """The options that a house may set."""

    clip_octets: Annotated[int, About("size of the HTML part at which some webmail cuts it", unit="octets")] = 102_400
    warn_percent: Annotated[int, About("where the warning starts", unit="per cent", most=100)] = 90


@check(
    id="appearance.clipped",
    name="HTML so large that it is cut off",
    level=Level.STOP,
    why="Some large webmail shows the first 100 KB only: the footer with the unsubscribe link is gone.",
    fix="Take out unused styles, comments and white space, or split the message.",
    basis="Common practice, no published source",
    options=ClipOptions,
    samples=[
        clear(f"<p>{'a' * 90_000}</p>"),
        finds(f"<p>{'a' * 93_000}</p>"),
        finds(f"<p>{'é' * 52_000}</p>"),
    ],
)
def find_clipped(message: Message, context: Context, options: ClipOptions) -> Iterator[Hit]:
    """The HTML part, decoded from its transfer encoding, has at most 102,400 octets."""
    if message.html is None:
        raise DoesNotApply("the message has no HTML part")
    octets = message.html.octets
    if octets * 100 < options.clip_octets * options.warn_percent:
        return
    over = octets > options.clip_octets
    yield Hit(
        "The HTML has {octets} octets; it is cut off after {limit}."
        if over
        else "The HTML has {octets} octets, close to the {limit} after which it is cut off.",
        Place("html"),
        {"octets": octets, "limit": options.clip_octets},
        identity="clipped" if over else "close",
        level=None if over else Level.FIX,
    )


def _rules(octets: int) -> str:
    """A style element with so many octets of rules."""
    rule = ".kiln { color: #1b2430; margin: 0 } "
    return f"<style>{(rule * (octets // len(rule) + 1))[:octets]}</style>"


@check(
    id="appearance.head-styles-long",
    name="Style sheet that a client drops for its length",
    level=Level.FIX,
    why="The client drops the whole style element: what stands in it for phones or for the night is gone.",
    fix="Part the styles into several style elements, put those first that matter most, and take out what nothing uses.",
    basis="Common practice, no published source; the limits are those of the profiles",
    samples=[
        clear(f"<head>{_rules(16_384)}</head><p class='kiln'>x</p>"),
        clear(f"<head>{_rules(9_000)}{_rules(9_000)}</head><p class='kiln'>x</p>"),
        clear(f"<head><!--[if mso]>{_rules(20_000)}<![endif]--></head><p>x</p>"),
        clear(f"<p>{'a' * 20_000}</p>"),
        finds(f"<head>{_rules(16_385)}</head><p class='kiln'>x</p>", at="<style>"),
        finds(f"<head>{_rules(900)}{_rules(30_000)}</head><p class='kiln'>x</p>", at="<style>"),
        finds(f"<head><style>/* {'é' * 8_200} */</style></head><p>x</p>", at="<style>"),
    ],
)
def find_long_styles(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No style element has more octets than a chosen profile keeps; without renders, than any usual one."""
    _, document = need_html(message)
    limited = _limited(context)
    for style in document.elements("style") if limited else ():
        octets = len(style.text.encode("utf-8", "surrogatepass"))
        dropping = [profile for profile in limited if octets > profile.style_limit]
        if dropping:
            named = f"“{dropping[0].name}”" + (f" and {len(dropping) - 1} more" if len(dropping) > 1 else "")
            limit = max(profile.style_limit for profile in dropping)
            yield Hit(
                "A style element has {octets} octets; {profiles} keep up to {limit}."
                if len(dropping) > 1
                else "A style element has {octets} octets; {profiles} keeps up to {limit}.",
                Place.in_html(message, style.start_tag, style.index),
                {"octets": octets, "limit": limit, "profiles": named, "profile_ids": [profile.id for profile in dropping]},
                identity=f"{limit} {style.text[:200]}",
            )


def _limited(context: Context) -> list[Profile]:
    """The profiles with a limit on style elements. Renders say which profiles were chosen; without renders the usual ones count."""
    chosen = context.renders.renders.keys() if context.renders is not None else [one.id for one in profiles().values() if not one.is_rare]
    return [profiles()[profile_id] for profile_id in chosen if profile_id in profiles() and profiles()[profile_id].style_limit]
