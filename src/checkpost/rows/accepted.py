"""Whether a write that was answered 202 (Accepted; RFC 9110, 15.3.3) is done: it may be a matter of a queue, but many
APIs answer so what they have carried out."""

from __future__ import annotations

import asyncio

from checkpost.errors import NotCompleted
from checkpost.oracle.same import same
from checkpost.rows.holdings import Holdings
from checkpost.wire.door import Act, Unsafe
from checkpost.wire.exchange import Answer
from checkpost.wire.listing import Key

#: How many such writes have to be seen done at once, and none not, before one that shows no effect is taken for one
#: without any; and how long after it is looked once more, in seconds.
_PROMPT, _AGAIN = 3, 0.5


class Accepted:
    """What was seen of an API's answers of 202."""

    def __init__(self, holdings: Holdings) -> None:
        self._holdings = holdings
        self._done, self._late = 0, False

    async def is_done(self, act: Act, answer: Answer) -> bool:
        """Whether what a request was to do is seen to be done, or, where all before were done at once, not to come."""
        if await self._is_seen(act, answer):
            self._done += 1
            return True
        if self._done < _PROMPT or self._late or act.kind != "change":
            return False
        await asyncio.sleep(_AGAIN)
        self._late = await self._is_seen(act, answer)
        return not self._late

    async def _is_seen(self, act: Act, answer: Answer) -> bool:
        if act.by_filter:
            return False
        try:
            if act.kind == "create":
                key = act.key_in(answer) if act.key_in is not None and len(act.made) == 1 else None
                return key is not None and await self._is_made(act, key)
            found = [await self._is_written(act, place) for place in range(len(act.touched))]
        except (Unsafe, NotCompleted):
            return False  # it cannot be seen
        return bool(found) and all(found)

    async def _is_made(self, act: Act, key: Key) -> bool:
        name = act.made[0].table
        row, client = await self._holdings.row(name, key), self._holdings.reach(name)
        return row is not None and client is not None and self._holdings.bears(client.resource)(row, None)

    async def _is_written(self, act: Act, place: int) -> bool:
        """Whether a row is gone, or shows what was sent for it."""
        name, key = act.touched[place]
        row, client = await self._holdings.row(name, key), self._holdings.reach(name)
        if act.kind == "remove" or row is None or client is None or place >= len(act.made):
            return act.kind == "remove" and row is None
        sent = self._holdings.shown(name, act.made[place].record)
        return bool(sent) and all(
            each in row and same(client.resource.field(each), value, row[each]) for each, value in sent.items()
        )
