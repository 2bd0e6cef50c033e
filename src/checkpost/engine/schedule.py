"""Carrying out many works at once: each as soon as those it builds on have ended and its tables are free for it."""

from __future__ import annotations

import asyncio
import heapq
from collections import Counter, defaultdict
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

#: How a work uses a table: it only reads it, it writes to rows of its own, or nobody else may be at work there.
Use = Literal["reads", "own", "alone"]
Footprint = Mapping[str, Use]


@dataclass(frozen=True)
class Work:
    """Something to do: ``number`` is its place among all, ``after`` has the numbers of those that come before it.

    ``footprint`` tells how it uses each table that it touches, once those have ended; of what could begin, the least
    ``rank`` does so first.
    """

    number: int
    footprint: Callable[[], Footprint]
    after: frozenset[int] = frozenset()
    rank: float = 0


#: Does a work that may use its tables so; what it returns is how it has to use them to be done again, if it has.
Do = Callable[[Work, Footprint], Awaitable[Footprint | None]]


@dataclass
class _Tables:
    """Which uses each table has at the moment, and for which work it is kept free."""

    uses: dict[str, Counter[Use]] = field(default_factory=lambda: defaultdict(Counter))
    kept: dict[str, int] = field(default_factory=dict)

    def taken(self, number: int, wanted: Footprint) -> str | None:
        """The first table that is not free for a work's use; None if all are. What wants one for itself comes next
        there, so that it does not wait for all the others."""
        for name, use in wanted.items():
            others = [each for each, count in self.uses[name].items() if count]
            if others and (use == "alone" or others != [use]):
                if use == "alone":
                    self.kept.setdefault(name, number)
                return name
            if self.kept.get(name, number) != number:
                return name
        return None

    def take(self, number: int, wanted: Footprint) -> None:
        for name, use in wanted.items():
            self.uses[name][use] += 1
            if self.kept.get(name) == number:
                del self.kept[name]

    def give(self, wanted: Footprint) -> None:
        for name, use in wanted.items():
            self.uses[name][use] -= 1


async def carry_out(works: Sequence[Work], do: Do, most: int) -> None:
    """Do all works, ``most`` of them at once at the most. Raises ValueError where works come after each other in a
    circle, ExceptionGroup of what ``do`` raises; nothing goes on behind either."""
    known = {each.number: each for each in works}
    open_before = {each.number: len(each.after & known.keys()) for each in works}
    behind: dict[int, list[int]] = defaultdict(list)
    for each in works:
        for number in each.after & known.keys():
            behind[number].append(each.number)
    ready: list[tuple[float, int, Footprint]] = []
    parked: dict[str, list[tuple[float, int, Footprint]]] = defaultdict(list)
    tables, ended, waiting, running = _Tables(), asyncio.Queue[tuple[int, Footprint, Footprint | None]](), len(works), 0

    def now_ready(number: int, footprint: Footprint) -> None:
        heapq.heappush(ready, (known[number].rank, number, footprint))

    async def one(number: int, footprint: Footprint) -> None:
        ended.put_nowait((number, footprint, await do(known[number], footprint)))

    for number, before in open_before.items():
        if not before:
            now_ready(number, known[number].footprint())
    async with asyncio.TaskGroup() as group:
        while waiting:
            while ready and running < most:
                rank, number, footprint = heapq.heappop(ready)
                taken = tables.taken(number, footprint)
                if taken is not None:
                    parked[taken].append((rank, number, footprint))
                    continue
                tables.take(number, footprint)
                running += 1
                group.create_task(one(number, footprint))
            if not running and tables.kept:
                # two that want several tables may each have one kept free that the other wants
                tables.kept.clear()
                ready += [another for several in parked.values() for another in several]
                parked.clear()
                heapq.heapify(ready)
                continue
            if not running:
                raise ValueError("works wait for each other in a circle")
            number, footprint, again = await ended.get()
            running -= 1
            tables.give(footprint)
            if again is not None:
                now_ready(number, again)
            else:
                waiting -= 1
                for other in behind[number]:
                    open_before[other] -= 1
                    if not open_before[other]:
                        now_ready(other, known[other].footprint())
            for name in footprint:
                for again_ready in parked.pop(name, ()):
                    heapq.heappush(ready, again_ready)
