"""Finding out whether the picture that a BIMI record names can be loaded."""

from __future__ import annotations

from collections.abc import Callable

from jetwind.engines.fetch import Fetcher, Wanted, fetch_all
from jetwind.engines.names.sender import Loads


def loading(fetcher: Callable[[], Fetcher]) -> Loads:
    """A function that asks for a picture, and returns why it cannot be loaded; an empty text where it can."""

    def loads(address: str) -> str:
        for fetched in fetch_all(fetcher, [Wanted(address, "link")]):
            answer = fetched.answer
            if answer.problem:
                return f"its picture does not load: {answer.why or answer.problem}"
            if answer.hops and answer.hops[-1].status != 200:
                return f"its picture does not load: status {answer.hops[-1].status}"
        return ""

    return loads
