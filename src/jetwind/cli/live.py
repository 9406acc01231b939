"""Opening the links of a message and fetching its pictures, for ``--live``."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jetwind.core.images.elsewhere import remote_pictures, with_fetched
from jetwind.core.links.answers import Answer, Answers
from jetwind.core.links.collection import Role, Target, targets
from jetwind.core.links.opening import MOST_LANDINGS, MOST_PICTURE_OCTETS, DoorKeeping, as_resource, is_landing, to_open, without_way_out
from jetwind.core.message import Message, Resource, Sample
from jetwind.core.reports.tables import without_controls
from jetwind.engines.fetch import Fetcher, Policy, Wanted, fetch_all
from jetwind.engines.practice import DOMAIN, OTHER_DOMAIN, Directory


@dataclass(frozen=True)
class Live:
    """A message with what lies elsewhere: its pictures put in, and every answer. ``shut`` says why an address was not opened."""

    message: Message
    answers: Answers
    targets: tuple[Target, ...]
    shut: dict[str, str]

    def as_text(self) -> str:
        """Every address with its hops, one a line, for a terminal."""
        lines = [""]
        for target in self.targets:
            lines.append(target.address)
            answer = self.answers.links.get(target.address)
            if answer is None:
                lines.append(f"      not opened: {self.shut.get(target.address, 'too many addresses')}")
            else:
                lines += [f"      {line}" for line in _way(answer)]
        return "\n".join(without_controls(line) for line in lines) + "\n"


def _way(answer: Answer) -> list[str]:
    lines = [f"{hop.status}  {hop.took_ms:>5} ms  {hop.method:<4} {hop.address}" for hop in answer.hops]
    if answer.problem:
        lines.append(f"{answer.problem}: {answer.why}")
    elif answer.page is not None and (said := answer.page.heading or answer.page.title):
        lines.append(f"“{said}”")
    return lines


def live(message: Message, readers: Sequence[Sample], *, reads_links: bool = True, lands: bool = False) -> Live:
    """Ask for every link that may be opened, and for every picture that lies elsewhere; with ``lands``, open their pages in a browser.

    Where ``JETWIND_PRACTICE`` names the directory of a practice field that stands on this machine, its names are found there.
    """
    practice = Directory.read(os.environ.get("JETWIND_PRACTICE", ""))
    keeping = DoorKeeping(practice=frozenset({DOMAIN, OTHER_DOMAIN}) if practice is not None else frozenset())
    found = targets(message, readers)
    pictures = [one for one in remote_pictures(message, readers) if not one.is_tracking]
    wanted = [Wanted(one.address) for one in to_open(found, keeping)] if reads_links else []
    wanted += [Wanted(one.address, "picture") for one in pictures]

    links: list[Answer] = []
    shown: dict[str, Answer] = {}
    resources: dict[str, Resource] = {}
    octets = 0
    for fetched in fetch_all(fetcher, wanted) if wanted else ():
        answer = fetched.answer
        if fetched.wanted.kind == "link":
            links.append(answer)
            continue
        shown[answer.address] = answer
        octets += len(fetched.body)
        resource = as_resource(answer, fetched.body) if octets <= MOST_PICTURE_OCTETS else None
        if resource is not None:
            resources[answer.address] = resource
    links = without_way_out(links, keeping)
    if lands:
        links = _landed(links, {one.address: one.role for one in found}, keeping, practice)
    answers = Answers({answer.address: answer for answer in links}, shown)
    shut = {one.address: why for one in found if (why := keeping.why_shut(one))}
    return Live(with_fetched(message, resources), answers, found, shut)


def fetcher() -> Fetcher:
    """One that asks the network, and the practice field that ``JETWIND_PRACTICE`` names."""
    practice = Directory.read(os.environ.get("JETWIND_PRACTICE", ""))
    if practice is None:
        return Fetcher()
    return Fetcher(Policy(frozenset({DOMAIN, OTHER_DOMAIN})), practice.resolver(), authorities=practice.authorities)


def _landed(links: Sequence[Answer], roles: dict[str, Role], keeping: DoorKeeping, practice: Directory | None) -> list[Answer]:
    """The answers with what their pages look like on a phone."""
    from jetwind.engines.browser import LandingBrowser, landings

    def browser() -> LandingBrowser:
        if practice is None:
            return LandingBrowser()
        return LandingBrowser(Policy(keeping.practice), practice.resolver(), trusted_key=practice.trusted_key)

    asked = [answer for answer in links if is_landing(answer, roles[answer.address])][:MOST_LANDINGS]
    shown = {landing.answer.address: landing.landed for landing in landings(browser, asked)} if asked else {}
    return [replace(answer, landed=shown.get(answer.address)) for answer in links]
