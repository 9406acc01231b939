"""Links that were rewritten on the way: whether they still end at the page that was reviewed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from urllib.parse import unquote

from jetwind.core.arrivals.differences import Compared, Difference
from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer
from jetwind.core.links.collection import Role, web
from jetwind.core.links.opening import DoorKeeping
from jetwind.core.links.way_out import ADDRESS_WORDS

#: Rewritten links of one arrival that are followed.
MOST_FOLLOWED = 40
#: Characters of an address in a sentence.
_SHOWN = 60


@dataclass(frozen=True, slots=True)
class Rewritten:
    """The address of a link as it arrived; it may be opened as any other link may."""

    address: str
    role: Role = "action"

    @property
    def is_closed(self) -> bool:
        """Whether the address itself says that opening it unsubscribes or changes somebody."""
        return bool(ADDRESS_WORDS.search(unquote(self.address)))


def to_follow(compared: Compared, known: Mapping[str, Answer], keeping: DoorKeeping) -> list[str]:
    """The new addresses of links whose old address was opened and had a page, in their order.

    ``known`` are the answers of the reviewed message by address. A link that was not opened there is not followed here.
    """
    found = []
    for _, before, after in _pairs(compared):
        if (kept := known.get(before)) is not None and kept.is_opened and not keeping.why_shut(Rewritten(after)):
            found.append(after)
    return list(dict.fromkeys(found))[:MOST_FOLLOWED]


def with_ends(compared: Compared, known: Mapping[str, Answer], asked: Mapping[str, Answer]) -> Compared:
    """The comparison with a word on each rewritten link that was followed: ``asked`` are the answers of the new addresses.

    A link that ends at another page, or that does not open any more, is a stop.
    """
    told = {
        id(one): _told(one, known[before], asked[after]) for one, before, after in _pairs(compared) if before in known and after in asked
    }
    return replace(compared, differences=tuple(told.get(id(one), one) for one in compared.differences))


def _pairs(compared: Compared) -> Iterator[tuple[Difference, str, str]]:
    """The rewritten links, with both addresses as a browser takes them."""
    for one in compared.differences:
        before, after = (web(written) for written in (one.before, one.after))
        if one.kind == "link-rewritten" and not one.is_stop and before is not None and after is not None:
            yield one, before.href, after.href


def _told(one: Difference, before: Answer, after: Answer) -> Difference:
    if not after.is_opened:
        # A server that does not answer Jetwind may answer a reader.
        return replace(one, template=f"{one.template} It could not be followed: {{why}}.", data={**one.data, "why": _why(after)})
    if is_same_end(before, after):
        return replace(one, template=f"{one.template} It still ends at the same page.")
    data = {**one.data, "end": _cut(after.final), "status": after.status}
    if after.status >= 400 > before.status:
        return replace(one, template=f"{one.template} Its page is not there: status {{status}}.", data=data, is_stop=True)
    return replace(one, template=f"{one.template} It ends at another page: {{end}}", data=data, is_stop=True)


def _cut(address: str) -> str:
    return address if len(address) <= _SHOWN else f"{address[:_SHOWN]}…"


def _why(answer: Answer) -> str:
    return (answer.why or answer.problem or "no answer came").rstrip(".")[:200]


def is_same_end(one: Answer, other: Answer) -> bool:
    """Whether two addresses end at the same page: at the same address but for the fragment, or at one path with the same title and heading.

    Servers put session numbers and counters into the query of an address.
    """
    ends = [parsed(answer.final) for answer in (one, other)]
    if ends[0] is None or ends[1] is None or (one.status >= 400) != (other.status >= 400):
        return False
    if ends[0].href.partition("#")[0] == ends[1].href.partition("#")[0]:
        return True
    if (ends[0].host, ends[0].path) != (ends[1].host, ends[1].path) or one.page is None or other.page is None:
        return False
    names = [(answer.page.title, answer.page.heading) for answer in (one, other) if answer.page is not None]
    return names[0] == names[1] and any(names[0])
