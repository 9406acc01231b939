"""Whether the picture that a BIMI record names loads."""

from __future__ import annotations

from collections.abc import Callable

from jetwind.engines.fetch import Fetcher, Wanted, fetch_all
from jetwind.engines.names.sender import Loads


def loading(fetcher: Callable[[], Fetcher]) -> Loads:
    """Asks for a picture and says why it does not come; empty where it does."""

    def loads(address: str) -> str:
        for fetched in fetch_all(fetcher, [Wanted(address, "link")]):
            answer = fetched.answer
            if answer.problem:
                return f"its picture does not load: {answer.why or answer.problem}"
            if answer.hops and answer.hops[-1].status != 200:
                return f"its picture does not load: status {answer.hops[-1].status}"
        return ""

    return loads
