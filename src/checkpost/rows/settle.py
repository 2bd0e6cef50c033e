"""The end of a run, and ``sweep``: what is the run's is removed, what stays is named, and entries are closed by what
was seen, never by an answer alone."""

from __future__ import annotations

import asyncio
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from graphlib import CycleError, TopologicalSorter

from checkpost.errors import NotCompleted
from checkpost.oracle.same import differences
from checkpost.rows.journal import Entry
from checkpost.rows.ledger import Ledger
from checkpost.rows.table import Harm
from checkpost.rows.witness import Look, look, look_again, look_as, read_row
from checkpost.wire.client import Client
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, key_text

_MOST_ROUNDS = 8
#: How many rows of others that the list has no more are read by their keys, before the rest is taken to be gone.
_MOST_READ = 50
#: How often one row's removal is asked for.
_MOST_ASKED = 3
#: How many times as long as a request may take it is waited for one that had no answer.
_PATIENCE = 1.5
#: Seconds before a second look where an answer was an error of the server's.
_SHORT = 0.3
#: How long is waited for a list that fails, in seconds, the last of them first.
_PAUSES = (2.0, 0.5)


@dataclass(frozen=True)
class Left:
    """A row that stays: its table, its key (None where it is not known), why, and whether it is ``certain`` that it is
    there and the run's."""

    table: str
    key: Key | None
    why: str
    certain: bool = True

    def __str__(self) -> str:
        return f"{self.table} {key_text(self.key)}: {self.why}"


@dataclass(frozen=True)
class Settlement:
    """How it ended: rows that stay, rows of others that were hit or changed meanwhile, and how many were removed."""

    left: tuple[Left, ...] = ()
    harmed: tuple[Harm, ...] = ()
    removed: int = 0
    #: How many rows that were deleted and kept were removed for good, by table.
    purged: Mapping[str, int] = field(default_factory=dict)


#: A client for a table as a role; None where the table or the role is not known.
Waits = Callable[[float], None]
As = Callable[[str, str], Client | None]

_ALONG = "it bears the run's mark, and no request was to make it: the API may have made it along with another row"
#: Why a row that was deleted is named where a path removes rows for good.
_MAY_BE_KEPT = "it was deleted, and may be kept: it is not known whether its key is another row's by now"


async def settle(
    ledger: Ledger,
    as_role: As,
    roles: Sequence[str],
    timeout: float,
    age: float = 0.0,
    waits: Waits = lambda seconds: None,
) -> Settlement:
    """Remove every row that is the run's.

    ``roles`` are those that may be tried for it; ``timeout`` is how many seconds a request may take, ``age`` how many
    have passed since the last one left; ``waits`` is told before it is waited for those without an answer.
    """
    await ledger.landed()
    work = _Settling(ledger, as_role, roles, timeout * _PATIENCE, age, waits)
    return await work.all()


class _Settling:
    def __init__(
        self, ledger: Ledger, as_role: As, roles: Sequence[str], longest: float, age: float, waits: Waits
    ) -> None:
        self.waits = waits
        self.ledger, self.as_role, self.roles, self.longest, self.age = ledger, as_role, roles, longest, age
        self.looks: dict[str, Look] = {}
        self.tried: dict[tuple[str, Key], str] = {}
        self.asked: Counter[tuple[str, Key]] = Counter()
        self.purged: Counter[str] = Counter()
        #: Whether a removal was accepted, and not seen to be done.
        self.later = False

    def entries(self, name: str) -> list[Entry]:
        return [each for each in self.ledger.journal.entries(name) if each.held is None]

    async def all(self) -> Settlement:
        journal = self.ledger.journal
        every = [each for each in journal.entries() if each.held is None]
        names = self._children_first(dict.fromkeys(each.resource for each in every))
        unclear = [each for each in every if not each.sure]
        if any(each.status in {0, 202} for each in unclear):
            pause = max(0.0, self.longest - self.age)
            self.waits(pause)
            await asyncio.sleep(pause)  # what is still on its way lands first, before any key is free again
        self.ledger.pending.clear()
        open_ = {each.resource for each in unclear}
        pauses = [self.longest if any(each.status == 202 for each in unclear) else _SHORT] if unclear else []
        waiting, under = list(names), self._stood_on(names)
        whole: set[str] = set()
        patience = list(_PAUSES)
        for _ in range(_MOST_ROUNDS):
            looks = await asyncio.gather(*(self._look(name, name in whole) for name in waiting))
            self.looks |= dict(zip(waiting, looks, strict=True))
            removed = False
            for name in waiting:
                # what is under a row goes before it, and is looked for as long as it may be there
                busy = {each for each in names if self.looks[each].own or (pauses and each in open_)}
                rows = list(self.looks[name].own.items())[::-1]
                free = [(key, entry) for key, entry in rows if not busy & under.get((name, key), set())]
                removed = await self._remove_all(name, free) or removed
            if self.later:
                await asyncio.sleep(self.longest)
                self.ledger.pending.clear()
                self.later = False
            # what was removed may have taken other rows with it, and what could not go may go now
            again = list(names) if removed else []
            if not again and pauses:
                await asyncio.sleep(pauses.pop())
                again = [name for name in names if any(each.resource == name for each in unclear)]
                whole = set(again)
            failing = [name for name in names if self.looks[name].untold and self.looks[name].failing]
            if not again and failing and patience:
                await asyncio.sleep(patience.pop())  # it may answer again, once less is asked of it
                again, whole = failing, set(failing)
            if not again:
                break
            waiting = [name for name in names if name in again or self.looks[name].own]
        for name in names:
            await self._purge(name)
        left = [each for name in names for each in self._left(name)]
        self._close(names, left)
        stay = {(each.table, each.key) for each in left}
        gone = sum(each not in stay for each in self.asked)
        touched = await self._touched(names)
        return Settlement(tuple(left), (*self.ledger.harmed, *touched), gone, +self.purged)

    async def _look(self, name: str, whole: bool) -> Look:
        """A table as it is now; where little was left of a long list, by the keys of that, unless it is wanted
        whole."""
        last, entries = self.looks.get(name), self.entries(name)
        if last is not None and await self._is_gone_above(name):
            return last  # it was looked for before that went, and there is nowhere to look any more
        found = await look_again(self.ledger, name, last) if last is not None and not whole else None
        found = found or await look(self.ledger, name, entries, last)
        reader = self.ledger.reach(name)
        for role in dict.fromkeys(each.role for each in entries):
            client = self.as_role(name, role) if reader is not None and role != reader.role else None
            if client is not None:
                await look_as(client, self.ledger, [each for each in entries if each.role == role], found)
        return found

    def _children_first(self, names: dict[str, None]) -> list[str]:
        """The tables, those that refer to others before them; in their own order where they refer to each other."""
        graph: dict[str, set[str]] = {name: set() for name in names}
        for name in names:
            client = self.ledger.reach(name)
            for relation in client.resource.relations if client is not None else ():
                if relation.resource in graph and relation.resource != name:
                    graph[relation.resource].add(name)
        try:
            return list(TopologicalSorter(graph).static_order())
        except CycleError:
            return list(names)

    async def _is_gone_above(self, name: str) -> bool:
        """Whether the row that a table is looked at under was the run's, and is seen to be removed."""
        client = self.ledger.reach(name)
        above = (client.resource.under, client.within) if client is not None and client.resource.under else None
        reader = self.ledger.reach(above[0]) if above is not None and above in self.asked else None
        if above is None or reader is None or "read" not in reader.resource.operations:
            return False
        answer = await read_row(reader, above[1])
        return answer is not None and reader.absent(answer)

    def _stood_on(self, names: Sequence[str]) -> Mapping[tuple[str, Key], set[str]]:
        """The rows that tables are looked at under, by table and key, each with these."""
        found: defaultdict[tuple[str, Key], set[str]] = defaultdict(set)
        for name in names:
            client = self.ledger.reach(name)
            if client is not None and client.resource.under:
                found[client.resource.under, client.within].add(name)
        return found

    async def _remove_all(self, name: str, rows: Sequence[tuple[Key, Entry]]) -> bool:
        """Ask for the removal of rows, the last made first: side by side where the first goes, none may refer to
        another, and none was asked for before; whether any was answered with success, or may yet be done."""
        client = self.ledger.reach(name)
        apart = client is not None and all(each.resource != name for each in client.resource.relations)
        apart = apart and not any(self.asked[name, key] for key, _ in rows)
        removed = [await self._remove(name, *rows[0])] if rows else []
        if apart and removed == [True] and not self.later:
            return any([True, *await asyncio.gather(*(self._remove(name, *each) for each in rows[1:]))])
        return any([*removed, *[await self._remove(name, *each) for each in rows[1:]]])

    async def _remove(self, name: str, key: Key, entry: Entry) -> bool:
        """Ask for a row's removal, as the role that made it or else as another; whether it was answered with success,
        or may yet be done."""
        reader = self.ledger.reach(name)
        if reader is None or "delete" not in reader.resource.operations:
            self.tried[name, key] = "the contract has no way to remove it"
            return False
        if self.asked[name, key] >= _MOST_ASKED:
            return False
        self.asked[name, key] += 1
        self.ledger.claim(name, key, entry.number)
        for role in dict.fromkeys([entry.role, *self.roles]):
            client = self.as_role(name, role)
            if client is None:
                continue
            purging = client.purging() if self.ledger.table(name).purges else None
            client = purging or client
            try:
                exchange = await client.send("delete", key=key, check="tidying up", situation="removing a row")
            except Unsafe as why:
                self.tried[name, key] = str(why)
                return False
            except NotCompleted:
                continue  # the role cannot log in
            if exchange.answer.refused and client.resource.forcing:
                forced = {client.resource.forcing: "true"}
                how = "removing a row by force"
                exchange = await client.send("delete", key=key, query=forced, check="tidying up", situation=how)
            still = "and the row is still there" if key in self.looks[name].rows else "and so does reading the row"
            self.tried[name, key] = f"DELETE answers {_said(exchange)}, {still}"
            if purging is not None:
                self.ledger.purged(name, exchange)
            if exchange.answer.ok or exchange.answer.status in {404, 410}:
                self.later |= exchange.number in self.ledger.accepted
                return True
            if exchange.answer.failure or exchange.answer.status >= 500:
                await asyncio.sleep(self.longest if exchange.answer.failure else _SHORT)
                self.ledger.pending.clear()
                return True  # perhaps: the next look tells
        return False

    async def _purge(self, name: str) -> None:
        """Remove for good what was deleted and is kept, where the contract has a way."""
        client = next((each for role in self.roles if (each := self.as_role(name, role)) is not None), None)
        purging = client.purging() if client is not None else None
        if purging is not None:
            self.purged[name], untried = await self.ledger.purge(purging, self.looks[name].rows)
            self.looks[name].like.update(dict.fromkeys(untried, _MAY_BE_KEPT))

    def _left(self, name: str) -> list[Left]:
        found = self.looks[name]
        untold = f"whether it was made cannot be determined: {found.why}"
        # a key that was given again and again stands for one row at the most
        keys = [each.named for each in found.untold if each.named is not None]
        unsure = {**self._along(name), **dict.fromkeys(keys, untold), **found.like}
        unknown = sum(each.named is None for each in found.untold)
        return [
            *(Left(name, key, self.tried.get((name, key), "it is still there")) for key in found.own),
            *(
                Left(name, key, self.tried.get((name, key), why), False)
                for key, why in unsure.items()
                if key not in found.own
            ),
            *[Left(name, None, untold, False)] * unknown,
        ]

    def _along(self, name: str) -> dict[Key, str]:
        """The rows that bear the run's mark, were not there before, and that no request was to make: an API may make a
        row of what another names, such as a tag or a queue."""
        table, client = self.ledger.table(name), self.ledger.reach(name)
        if client is None or not table.whole:
            return {}
        bears, known = self.ledger.bears(client.resource), table.known | table.ever | self.looks[name].own.keys()
        return {key: _ALONG for key, row in self.looks[name].rows.items() if key not in known and bears(row, None)}

    def _close(self, names: Sequence[str], left: Sequence[Left]) -> None:
        """Close the entries whose rows are gone or were never made, as the last look showed."""
        open_keys = {(each.table, each.key) for each in left if each.key is not None}
        for name in names:
            found = self.looks[name]
            stays = {id(each) for each in (*found.own.values(), *found.untold)}
            unclear = any(each.table == name and each.key not in found.own for each in left)
            closed = [
                each.number
                for each in self.entries(name)
                if id(each) not in stays
                and (name, each.named) not in open_keys
                and not (unclear and each.answered is None and not each.sure)
            ]
            self.ledger.journal.settle(closed, "list" if found.whole else "key")

    async def _touched(self, names: Sequence[str]) -> list[Harm]:
        """Rows of others that are not as they were before the run, where nobody else was seen at work."""
        found: list[Harm] = []
        for name in names:
            table, seen, client = self.ledger.table(name), self.looks[name], self.ledger.reach(name)
            before = table.before
            if before is None or client is None or not (before.complete and seen.whole):
                continue
            resource = client.resource
            fields = {each.name: each for each in resource.fields}
            settable = [each.name for each in resource.fields if each.created or each.updated or each.replaced]
            told = {each.key for each in self.ledger.harmed if each.table == name}
            alone = not set(seen.rows) - table.known - table.ever - set(seen.like)
            for key, row in before.by_key.items():
                if key in told:
                    continue
                now = seen.rows.get(key)
                if now is None and len(found) < _MOST_READ and await self._is_read(client, key):
                    continue  # the list leaves it out, for whatever reason
                how = "is gone" if now is None else ""
                if now is not None and (changed := differences(fields, row, now, settable)):
                    how = f"has another {changed[0]}"
                if how:
                    found.append(Harm(name, key, how, row, certain=alone))
        return found

    @staticmethod
    async def _is_read(client: Client, key: Key) -> bool:
        """Whether reading a row by its key shows it."""
        if "read" not in client.resource.operations:
            return False
        try:
            answer = await read_row(client, key)
        except NotCompleted:
            return False
        return answer is not None and client.row_read(answer) is not None


def _said(exchange: Exchange) -> str:
    return str(exchange.answer.status or exchange.answer.detail)
