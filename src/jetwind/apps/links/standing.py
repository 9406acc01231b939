"""How a link stands: its state by shape and by word, from its answer."""

from __future__ import annotations

from dataclasses import dataclass

from jetwind.core.links.answers import Answer

#: States of a link. Each has a line and an end of its own on the map; colour comes second.
STATES = ("fine", "led", "doubtful", "broken", "lost", "round", "shut", "waiting")


@dataclass(frozen=True, slots=True)
class Standing:
    """A state, the words for it, and whether a reader is stopped by it."""

    state: str
    words: str

    @property
    def is_stop(self) -> bool:
        """Whether a reader does not come to a page."""
        return self.state in ("broken", "lost", "round")


_PROBLEMS = {
    "no-name": "no such name",
    "no-connection": "nobody listens",
    "tls": "certificate",
    "timed-out": "no answer in time",
    "broken-off": "broke off",
    "busy": "busy",
    "bad-redirect": "led nowhere",
    "refused": "inside the network",
}


def standing_of(answer: Answer | None, why_shut: str, doubts: frozenset[str] = frozenset()) -> Standing:
    """How a link stands. ``doubts`` are the checks that found something at it."""
    if answer is None or answer.problem == "not-opened":
        return Standing("shut", "not opened") if why_shut or answer is not None else Standing("waiting", "not asked yet")
    if answer.problem in ("loop", "too-many-hops"):
        return Standing("round", "goes in circles" if answer.problem == "loop" else "led on and on")
    if answer.problem:
        return Standing("lost", _PROBLEMS[answer.problem])
    if answer.status >= 400:
        return Standing("broken", str(answer.status))
    words = [str(answer.status)]
    if "links.slow" in doubts:
        words.append(f"{answer.took_ms / 1000:.1f} s")
    words += [said for check, said in _DOUBTS.items() if check in doubts]
    if len(words) > 1:
        return Standing("doubtful", " · ".join(words))
    return (
        Standing("led", f"{answer.status} · {len(answer.redirects)} {'hop' if len(answer.redirects) == 1 else 'hops'}")
        if answer.redirects
        else Standing("fine", words[0])
    )


_DOUBTS = {
    "links.landing-error": "says not there",
    "links.redirect-downgrade": "not secure on the way",
    "links.redirect-long": "many hops",
    "links.promise-missing": "promise not kept",
    "links.page-narrow": "not for phones",
}
