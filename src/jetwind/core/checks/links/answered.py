"""Every link ends at a page that is there, straight and soon."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.samples import answered, opened
from jetwind.core.checks.links.target import is_stand_in, place_of
from jetwind.core.checks.needs import need_answers
from jetwind.core.links.addresses import inward_ip, parsed
from jetwind.core.links.answers import MOST_HOPS, Answer
from jetwind.core.links.collection import Target
from jetwind.core.message import Message, Sample

_A = "https://kiln.org/a"
_LINK = f"<a href='{_A}'>Glazes</a>"
_FIELD = "<a href='https://kiln.org/{{ n }}'>Glazes</a>"
_READERS = (Sample("Tove", {"n": "a"}), Sample("Bo", {"n": "b"}))
#: Statuses by which servers turn programs away that they let people through (common practice, no published source).
TURNED_AWAY = frozenset({401, 403, 406, 429, 503, 999})


def told(message: Message, target: Target, answer: Answer, sentence: str, **data: object) -> Hit:
    """A hit at all places of an address, with what it answered as evidence."""
    first, *others = (place_of(message, found.link) for found in target.found)
    way = [f"{hop.status} {hop.address}" for hop in answer.hops]
    shown: dict[str, object] = {"address": target.address, "status": answer.status, "final": answer.final, "way": way, **data}
    if target.readers:
        shown["readers"] = list(target.readers[:3])
        sentence = f"{sentence.removesuffix('.')}, as {{readers}} gets it."
    return Hit(
        sentence, first, shown, identity=target.found[0].address + (f" {target.address}" if target.readers else ""), also=tuple(others)
    )


def answers_of(message: Message, context: Context) -> Iterator[tuple[Target, Answer]]:
    """Each address that was opened, with its answer.

    Raises:
        CannotTell: an address that may be opened was not asked for, or nobody was let in; told when all others were gone through.
    """
    known, asked = need_answers(message, context)
    lacking = 0
    for target in asked:
        answer = known.links.get(target.address)
        if answer is None or answer.problem == "not-opened":
            lacking += not target.is_closed
        else:
            yield target, answer
    if lacking:
        raise CannotTell(
            f"{lacking} of {len(asked)} addresses were not opened" if lacking > 1 else f"1 of {len(asked)} addresses was not opened"
        )


def each(message: Message, context: Context, hit: Callable[[Target, Answer], Hit | None]) -> Iterator[Hit]:
    """The hits that ``hit`` makes of the answers; that some were not opened matters only where nothing was found."""
    found = False
    try:
        for target, answer in answers_of(message, context):
            made = hit(target, answer)
            if made is not None:
                found = True
                yield made
    except CannotTell:
        if not found:
            raise


@check(
    id="links.broken",
    name="Link to a page that is not there",
    level=Level.STOP,
    why="The reader expects the promised page and lands on one that says sorry.",
    fix="Correct the address, or have the page put back, before the message leaves.",
    basis="RFC 9110 §15.5, §15.6",
    together="{many} links lead to pages that answer with an error.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 200))),
        clear(_LINK, given=opened(answered(_A, 301, ("https://kiln.org/b", 200)))),
        clear(_LINK, given=opened(answered(_A, 429, problem="busy"))),
        clear(_LINK, given=opened(answered(_A, problem="no-name", why="x"))),
        clear(_LINK, given={**opened(answered(_A, 403)), "seen_by_hand": frozenset({_A})}),
        clear("<a href='mailto:a@kiln.org'>a</a>", given=opened(answered(_A, 404))),
        clear(_LINK),
        finds(_LINK, at=_A, given=opened(answered(_A, 404))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, ("https://kiln.org/b", 500)))),
        finds(_LINK, given={**opened(answered(_A, 404)), "seen_by_hand": frozenset({_A})}),
        finds(
            _FIELD, at="https://kiln.org/{{ n }}", readers=_READERS, given=opened(answered("https://kiln.org/b", 410), answered(_A, 200))
        ),
        finds("From: a@kiln.org\nSubject: x\n\nSee https://kiln.org/a.\n", at=_A, given=opened(answered(_A, 404))),
    ],
)
def find_broken(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No link ends with a status of 400 or more. A server that turns programs away is believed where a person opened the page by hand."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if answer.problem or answer.status < 400:
            return None
        if answer.status in TURNED_AWAY and target.address in context.seen_by_hand:
            return None
        where = "" if answer.final.partition("#")[0] == target.address.partition("#")[0] else f" at {answer.final}"
        remark = "; it may turn programs away: open it by hand" if answer.status in TURNED_AWAY else ""
        return told(message, target, answer, "{address} answers {status}" + "{where}{remark}.", where=where, remark=remark)

    return each(message, context, hit)


@check(
    id="links.unreachable",
    name="Link to a server that does not answer",
    level=Level.STOP,
    why="The reader waits, and the browser says that it found nothing.",
    fix="Correct the host, or have the server and its certificate seen to, before the message leaves.",
    basis="RFC 9110 §3.3, §15.6.4; RFC 8446 for certificates",
    together="{many} links lead to servers that do not answer.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 200))),
        clear(_LINK, given=opened(answered(_A, 404))),
        clear(_LINK, given=opened(answered(_A, 302, 302, problem="loop", why="x"))),
        clear(_LINK, given={**opened(answered(_A, problem="timed-out", why="x")), "seen_by_hand": frozenset({_A})}),
        clear(
            "<a href='https://example.com/'>told by links.placeholder</a>",
            given=opened(answered("https://example.com/", problem="no-name", why="x")),
        ),
        clear(
            "<a href='https://127.0.0.1/'>told by links.private-host</a>",
            given=opened(answered("https://127.0.0.1/", problem="refused", why="x")),
        ),
        finds(_LINK, at=_A, given=opened(answered(_A, problem="no-name", why="there is no such name"))),
        finds(_LINK, at=_A, given=opened(answered(_A, problem="tls", why="its certificate is not valid"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 503, problem="busy", why="the server said 503 3 times"))),
        finds(_LINK, at=_A, given=opened(answered(_A, problem="refused", why="10.0.0.1 lies inside the network"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, problem="bad-redirect", why="it leads to “x:”, which is no address"))),
    ],
)
def find_unreachable(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every link's name exists, its server answers over a secure connection that holds, in time, and leads to where a browser can follow."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if answer.problem not in ("no-name", "no-connection", "tls", "timed-out", "broken-off", "busy", "bad-redirect", "refused"):
            return None
        if answer.problem in ("timed-out", "busy", "broken-off") and target.address in context.seen_by_hand:
            return None
        address = parsed(target.address)
        if address is not None and is_stand_in(context, address.host):
            return None
        if (
            answer.problem == "refused"
            and address is not None
            and not answer.hops
            and (inward_ip(address.host) or "." not in address.host.rstrip("."))
        ):
            return None
        return told(message, target, answer, "{address} cannot be reached: {why}.", why=answer.why)

    return each(message, context, hit)


@check(
    id="links.redirect-loop",
    name="Link that is led round in circles",
    level=Level.STOP,
    why="The browser gives up, and the reader with it.",
    fix="Have the redirects mended, or link to the page itself.",
    basis="RFC 9110 §15.4",
    together="{many} links are led in circles.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 301, ("https://kiln.org/b", 302), ("https://kiln.org/c", 200)))),
        clear(_LINK, given=opened(answered(_A, problem="timed-out", why="x"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, ("https://kiln.org/b", 302), problem="loop", why="x"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, ("https://kiln.org/b", 302), problem="too-many-hops", why="x"))),
    ],
)
def find_loop(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No link leads back to where it came from, or on and on."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if answer.problem == "loop":
            return told(message, target, answer, "{address} leads back to itself.")
        return (
            told(message, target, answer, "{address} is led on more than {most} times.", most=MOST_HOPS)
            if answer.problem == "too-many-hops"
            else None
        )

    return each(message, context, hit)


@dataclass(frozen=True)
class LongOptions(Options):
    """The options that a house may set."""

    most_hops: Annotated[int, About("redirects that pass", unit="redirects")] = 2


@check(
    id="links.redirect-long",
    name="Many redirects on the way",
    level=Level.FIX,
    why="Each hop costs a reader on a phone up to a second, and each may break.",
    fix="Link to where it ends, or take hops out.",
    basis="Common practice, no published source",
    options=LongOptions,
    together="{many} links are led on too often.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 301, ("https://kiln.org/b", 302), ("https://kiln.org/c", 200)))),
        clear(_LINK, given=opened(answered(_A, 302, ("https://kiln.org/b", 302), ("https://kiln.org/c", 302), problem="loop", why="x"))),
        finds(
            _LINK,
            at=_A,
            given=opened(answered(_A, 301, ("https://kiln.org/b", 302), ("https://kiln.org/c", 302), ("https://kiln.org/d", 200))),
        ),
    ],
)
def find_long(message: Message, context: Context, options: LongOptions) -> Iterator[Hit]:
    """At most two redirects lie between a link and its page."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        number = len(answer.redirects)
        if answer.problem in ("loop", "too-many-hops") or number <= options.most_hops:
            return None
        return told(message, target, answer, "{address} is led on {number} times before it ends at {final}.", number=number)

    return each(message, context, hit)


@check(
    id="links.redirect-downgrade",
    name="Redirect from https to http",
    level=Level.FIX,
    why="For that hop anybody on the way can read and change what the reader gets.",
    fix="Have the redirect lead to https.",
    basis="Common practice, no published source",
    together="{many} links are led on to addresses that are not secure.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 301, ("https://kiln.org/b", 200)))),
        clear(_LINK, given=opened(answered(_A, 302, ("http://10.0.0.1/", 0), problem="refused", why="10.0.0.1 lies inside the network"))),
        clear("<a href='http://kiln.org/a'>x</a>", given=opened(answered("http://kiln.org/a", 301, ("https://kiln.org/a", 200)))),
        clear("<a href='http://kiln.org/a'>x</a>", given=opened(answered("http://kiln.org/a", 301, ("http://kiln.org/b", 200)))),
        finds(_LINK, at=_A, given=opened(answered(_A, 301, ("http://kiln.org/b", 301), ("https://kiln.org/b", 200)))),
    ],
)
def find_downgrade(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No hop leads from https to http."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if answer.problem:
            return None
        hop = next((hop for hop in answer.redirects if hop.address.startswith("https:") and hop.to.startswith("http:")), None)
        return told(message, target, answer, "{address} is led to {to}, which is not secure.", to=hop.to) if hop is not None else None

    return each(message, context, hit)


@dataclass(frozen=True)
class SlowOptions(Options):
    """The options that a house may set."""

    most_ms: Annotated[int, About("the longest way to the page that passes", unit="ms")] = 3_000


@check(
    id="links.slow",
    name="Slow page",
    level=Level.NOTE,
    why="Many readers do not wait; and on the day of sending the server has more to do.",
    fix="Ask the people who run the page to look at it before the message leaves.",
    basis="Common practice, no published source",
    options=SlowOptions,
    together="{many} links lead to pages that take too long.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 200, took_ms=2_900))),
        clear(_LINK, given=opened(answered(_A, problem="timed-out", why="x", took_ms=20_000))),
        clear(_LINK, given=opened(answered(_A, 404, took_ms=4_000))),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, took_ms=3_100))),
    ],
)
def find_slow(message: Message, context: Context, options: SlowOptions) -> Iterator[Hit]:
    """Every page is there within three seconds, all hops counted."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if not answer.is_opened or answer.status >= 400 or answer.took_ms <= options.most_ms:
            return None
        return told(message, target, answer, "{address} takes {seconds} s.", seconds=round(answer.took_ms / 1000, 1))

    return each(message, context, hit)
