"""Places in the browser, handed out in turn: one message never takes them all."""

from __future__ import annotations

import asyncio
from collections import Counter, OrderedDict, deque


class Turns:
    """``places`` numbered from 0, of which all that ask for one message hold at most ``most`` together."""

    def __init__(self, places: int, most: int) -> None:
        self._free = list(range(places))
        self._most = most
        self._held: Counter[object] = Counter()
        self._waiting: OrderedDict[object, deque[asyncio.Future[int]]] = OrderedDict()

    @property
    def in_use(self) -> int:
        """How many places are taken."""
        return sum(self._held.values())

    async def take(self, whose: object) -> int:
        """A place, as soon as it is this message's turn."""
        waiting: asyncio.Future[int] = asyncio.get_running_loop().create_future()
        self._waiting.setdefault(whose, deque()).append(waiting)
        self._hand_out()
        try:
            return await waiting
        except asyncio.CancelledError:
            if waiting.done() and not waiting.cancelled():
                self.give_back(whose, waiting.result())
            raise

    def give_back(self, whose: object, place: int) -> None:
        """Free a place."""
        self._held[whose] -= 1
        if not self._held[whose]:
            del self._held[whose]
        self._free.append(place)
        self._free.sort(reverse=True)
        self._hand_out()

    def _hand_out(self) -> None:
        # The lowest number first: its page is kept and warm.
        self._free.sort(reverse=True)
        while self._free and (whose := self._next()) is not None:
            self._waiting.move_to_end(whose)
            self._held[whose] += 1
            self._waiting[whose].popleft().set_result(self._free.pop())

    def _next(self) -> object | None:
        """The message that has waited longest of those that hold fewer places than they may."""
        for whose, queue in list(self._waiting.items()):
            while queue and queue[0].done():
                queue.popleft()
            if not queue:
                del self._waiting[whose]
            elif self._held[whose] < self._most:
                return whose
        return None
