"""The way between a run and the API in memory: what is late, lost, doubled or put off, and the moments of a crash."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from random import Random
from typing import Any

from checkpost.rows.settle import Left
from checkpost.wire.exchange import Answer
from tests.simulation.api import Api, Json, Key, Pending

#: For how many seconds at the most a write waits that was answered 202.
QUEUED = 2.0
#: Seconds that a client waits, and after which a request that is late is carried out all the same.
TIMEOUT, LATE = 10.0, 14.0


#: Rows of a table that may be left, and are named, where the API removes none.
MOST_LEFT = 4


class Disk:
    """A journal's log that keeps what was synced apart from what was only written."""

    def __init__(self, text: str = "") -> None:
        self._lines = [text] if text else []
        self._length = self.synced = len(text)
        self.removed = False

    def append(self, text: str) -> None:
        self._lines.append(text)
        self._length += len(text)

    async def sync(self) -> None:
        reached = self._length
        await asyncio.sleep(0.001)
        self.synced = max(self.synced, reached)

    def close(self) -> None:
        pass

    def remove(self) -> None:
        self.removed = True

    def upto(self, length: int) -> str:
        """What a crash of the machine leaves."""
        self._lines = ["".join(self._lines)]
        return self._lines[0][:length]


@dataclass(frozen=True)
class Moment:
    """One moment at which a run may end: the API's rows, those of people, what is on its way, and what is on disk."""

    rows: Mapping[str, Mapping[Key, Json]]
    foreign: Mapping[str, Mapping[Key, Json]]
    next: Mapping[str, int]
    pending: tuple[Pending, ...]
    synced: int


class Wire:
    """A transport whose latencies and faults are drawn by seed. ``at`` is called at every boundary of a request."""

    def __init__(self, api: Api, seed: int, at: Callable[[Wire], None] = lambda wire: None) -> None:
        self.api, self.at = api, at
        self.random = Random(f"wire/{api.temper.name}/{seed}")
        self.pending: list[Pending] = []
        self.sent = 0
        #: Rows of people at the moment when something that was not asked for reached them.
        self.hurt: list[str] = []

    async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        temper, random = self.api.temper, self.random
        self.sent += 1
        self.at(self)  # before it leaves
        writes = method not in {"GET", "HEAD", "OPTIONS"}
        drawn = random.random() if writes else 1.0
        late, lost = drawn < temper.late, temper.late <= drawn < temper.late + temper.lost
        request = Pending(asyncio.get_running_loop().time() + (LATE if late else 0), method, url, headers, body)
        if writes:
            self.pending.append(request)
        await asyncio.sleep(random.uniform(0.001, 0.05))
        if temper.dies and self.sent > temper.dies:
            return await self._dead(request)
        if temper.queued and writes and random.random() < temper.queued:
            asyncio.get_running_loop().call_later(random.uniform(0.01, QUEUED), self._carry_out, request)
            return Answer(202, (), b"")
        if late:
            asyncio.get_running_loop().call_later(LATE, self._carry_out, request)
            await asyncio.sleep(TIMEOUT)
            return Answer(0, (), b"", "timeout", "no whole answer within 10 s")
        status, told = self._carry_out(request)
        self.at(self)  # done, and not answered
        await asyncio.sleep(random.uniform(0.001, 0.05))
        odd = temper.breaks and any(sign in (body or b"") for sign in (b"\\u0000", b"\\ud83c", b"1e400"))
        if lost or odd:
            return Answer(0, (), b"", "closed", "the connection was closed without an answer")
        extra: tuple[tuple[str, str], ...] = ()
        if writes and status < 400 and random.random() < temper.busy_but_done:
            status, told, extra = random.choice((429, 503)), {"error": "busy"}, (("Retry-After", "1"),)
        if writes and status < 400 and random.random() < temper.failing_but_done:
            status, told = 500, {"error": "failed"}
        self.at(self)  # answered
        status = 202 if temper.accepts and writes and status < 300 else status
        content = b"" if told is None or method == "HEAD" else json.dumps(told).encode()
        return Answer(status, (("Content-Type", "application/json"), *extra), content)

    async def _dead(self, request: Pending) -> Answer:
        """What comes of a request to an API that answers none any more."""
        if self.api.temper.dies_doing:
            self._carry_out(request)
        elif request in self.pending:
            self.pending.remove(request)
        if not self.api.temper.dies_silent:
            return Answer(500, (), b"")
        await asyncio.sleep(TIMEOUT)
        return Answer(0, (), b"", "timeout", "no whole answer within 10 s")

    def _carry_out(self, request: Pending) -> tuple[int, Any]:
        if request in self.pending:
            self.pending.remove(request)
        done = self.api.handle(request.method, request.url, request.headers, request.body)
        if request.method not in {"GET", "HEAD", "OPTIONS"} and self.random.random() < self.api.temper.doubled:
            # at once: what comes twice after somebody else was given the key is beyond any client
            self.api.handle(request.method, request.url, request.headers, request.body)
        if self.random.random() < self.api.temper.others:
            self.api.somebody_works()
        return done

    def moment(self, synced: int, now: float) -> Moment:
        """A copy of this moment; rows themselves are never changed in place."""
        api = self.api
        waiting = tuple(
            Pending(max(0.0, each.due - now), each.method, each.url, each.headers, each.body) for each in self.pending
        )
        return Moment(
            {name: dict(rows) for name, rows in api.rows.items()},
            {name: dict(rows) for name, rows in api.foreign.items()},
            dict(api.next),
            waiting,
            synced,
        )


def resumed(api: Api, moment: Moment) -> Api:
    """The API as it was at a moment."""
    again = Api.__new__(Api)
    again.__dict__ |= api.__dict__
    again.rows = {name: dict(rows) for name, rows in moment.rows.items()}
    again.foreign = {name: dict(rows) for name, rows in moment.foreign.items()}
    again.next = dict(moment.next)
    again.random = Random(moment.synced)
    return again


def amiss(api: Api, left: Iterable[Left]) -> list[str]:
    """What is not as it has to be: rows of people that are gone or changed, rows that are left without being named,
    and rows named for certain that are not there."""
    told = list(left)
    # a row may be named by the key that the contract has, or by the field that finds it
    keys = {(name, (row.get("uid"),)): key for name, rows in api.rows.items() for key, row in rows.items()}
    named = {}
    for each in told:
        # the key of what stands under another row begins with that row's
        own = each.key[-1:] if each.key and api.tables[each.table].under else each.key
        named[each.table, keys.get((each.table, each.key or ()), own)] = each.certain
    found = []
    for name, rows in api.rows.items():
        people = api.foreign[name]
        changed = [(key, row) for key, row in people.items() if rows.get(key) != row]
        found += [f"{name} {key} of people is {rows.get(key)} and was {row}" for key, row in changed]
        for_ever = api.temper.restores or api.temper.purges == "live"
        kept = {key for key, row in rows.items() if for_ever and "~gone" in row}  # as many are told
        strange = {key for key in rows if key not in people and key not in kept}
        unnamed = {key for key in strange if (name, key) not in named}
        unknown = sum(each.table == name and each.key is None for each in told)
        temper = api.temper
        nothing_shows = temper.poisoned or temper.unseen or temper.dies or temper.lacks_break or temper.bare_break
        nothing_shows = nothing_shows or temper.pages_lack
        if nothing_shows and len(unnamed) <= unknown:
            unnamed = set()  # nothing shows their keys: as many creates are named that may have made them
        found += [f"{name} {key} is left, and not named: {rows[key]}" for key in unnamed]
        if api.temper.removes_nothing and len(strange) > MOST_LEFT:
            found.append(f"{len(strange)} rows of {name} are left where none can be removed")
        certain = [key for (table, key), sure in named.items() if table == name and sure]
        found += [f"{name} {key} is named, and is not left" for key in certain if key not in strange]
    return found
