"""The one door for every request that may create, change or remove rows.

Before such a request leaves, what it may do is on disk (``rows.journal``), and each row that it names has been seen to
be the run's own. Nothing else in Check Post can send one: ``Session.transmit`` is called from here alone.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from checkpost.model.resource import Resource
from checkpost.oracle.same import differences
from checkpost.rows.journal import FAILED, Book, Entry, Journal
from checkpost.rows.resemblance import Bears, marked, shows, stamps
from checkpost.rows.script import Deeds
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made, Unsafe
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import Key, Listing, Row
from checkpost.wire.session import Session

#: How often a request is sent again that was turned away for the moment, and was seen not to be done.
_MOST_WAITS = 3
#: How long a text has to be that nobody else would come upon.
_LONG = 6
#: How many rows are read by a key that is only guessed.
_TRIED = 5
#: How many rows are looked for one by one, where a list would show them all.
_MOST_READ = 8
#: Answers that tell nothing of whether the work was done.
_TELL_NOTHING = {202, 408, 425, 429}
#: A client for a table by its name, as the role that sees everything; None where the table is not known.
Reach = Callable[[str], Client | None]


@dataclass(frozen=True)
class Harm:
    """A row of somebody else that a request of the run has changed or removed: what it was."""

    table: str
    key: Key
    how: str
    row: Mapping[str, Any]
    restored: bool = False
    #: Whether it was the run: where others are at work too, it may have been they.
    certain: bool = True

    def __str__(self) -> str:
        again = ", and has its values again" if self.restored else ""
        return f"{self.table} {_text(self.key)} {self.how}{again}"


@dataclass
class Table:
    """One table as the run has dealt with it.

    Once it was ``looked_at``, ``known`` holds the keys that it had before: all of them, if ``whole``. ``own`` has the
    entry of each row of the run's by its key (those in ``unproved`` on the API's word alone), ``ever`` every key that
    the run was given, ``left`` the keys of own rows that are gone again, with the number of the last entry then.
    """

    known: frozenset[Key] = frozenset()
    whole: bool = False
    looked_at: bool = False
    #: Whether it was settled that its key can be written by.
    key_settled: bool = False
    before: Listing | None = None
    own: dict[Key, int] = field(default_factory=dict)
    ever: set[Key] = field(default_factory=set)
    unproved: set[Key] = field(default_factory=set)
    #: Those of them that were read and showed something else than was sent; and whether any row was ever proved.
    strange: set[Key] = field(default_factory=set)
    recognised: bool = False
    #: Keys without a mark that the run has chosen, and that no row had: what is there now is a create on its way.
    chosen: set[Key] = field(default_factory=set)
    #: All keys that it has chosen itself.
    picked: set[Key] = field(default_factory=set)
    #: Whether the API gave no key when a row was made.
    keyless: bool = False
    #: Own rows whose removal was asked for and not refused: another row may have the key by now.
    doubtful: set[Key] = field(default_factory=set)
    left: dict[Key, int] = field(default_factory=dict)
    #: Whether the API was seen to give the key of a row that is gone to another.
    reuses_keys: bool = False
    #: Why nothing is written; and why no row but the run's own is read by its key.
    forbidden: str = ""
    harmful: str = ""
    #: Whether a row of the run's was seen to be gone after it was made; own rows whose removal was answered with a
    #: failure; and how many rows are being made just now.
    removable: bool = False
    stuck: set[Key] = field(default_factory=set)
    making: int = 0
    #: The number of an exchange in which a create failed, until the list was looked at behind it; and why no more rows
    #: are made.
    suspect: int = 0
    broken: str = ""
    #: What fields of own rows hold of which nothing was sent, as far as it is not another value in each.
    usual: dict[str, list[Any]] = field(default_factory=dict)
    #: What changes have sent to an own row, by its key.
    changes: dict[Key, list[Mapping[str, Any]]] = field(default_factory=dict)


#: How many rows there may be at once that cannot be shown to be the run's.
_MOST_STRANGE = 3
#: How many rows of a table there may be before one was seen to be gone; how many that could not be removed.
_MOST_UNTRIED, _MOST_STUCK = 4, 2
#: How many values a field may take by itself, so that it is no moment and no number that counts on.
_MOST_USUAL = 2


class Ledger:
    """All that a run does to rows."""

    def __init__(
        self, session: Session, journal: Journal, mark: str, reach: Reach, most: int, by_filter: bool = False
    ) -> None:
        """``most`` is how many rows of a list are read, ``by_filter`` whether the user allows writes to whatever a
        filter leaves."""
        self.session, self.journal, self.mark = session, journal, mark
        self.reach, self.most, self._by_filter = reach, most, by_filter
        self.tables: dict[str, Table] = {}
        self.harmed: list[Harm] = []
        #: Tables whose list fails since a create failed: with the numbers of the two exchanges.
        self.broken: list[tuple[str, int, int]] = []
        #: Whether the API was seen to store what it had refused.
        self.refusals_lie = False
        self._choosing: dict[str, asyncio.Lock] = {}
        self._knowing: dict[str, asyncio.Lock] = {}
        #: Own rows that a request without an answer may still reach: nothing more is sent to them until it has landed,
        #: since their keys could be somebody else's by then.
        self.pending: set[tuple[str, Key]] = set()
        #: When the last request ended without an answer, in the event loop's time.
        self.unclear_at = 0.0
        #: The entries of own rows whose removal was asked for: their keys may be given to new rows at any moment.
        self._leaving: dict[tuple[str, Key], int] = {}
        #: Rows of others that are given their values again just now.
        self._restoring: set[tuple[str, Key]] = set()
        self._flying: set[asyncio.Task[Exchange]] = set()
        #: What requests did, for the commands that show it again.
        self.deeds = Deeds()
        self._exchange_of: dict[int, int] = {}
        #: What was sent for each field, as Python writes it.
        self._sent: dict[tuple[str, str], set[str]] = defaultdict(set)
        self._numbers: dict[int, tuple[int, ...]] = {}

    def take_up(self, book: Book) -> None:
        """Go on from what an earlier process has journaled: its rows have to be seen anew."""
        for name, keys in book.known.items():
            table = self.table(name)
            table.known, table.whole, table.looked_at = keys, name in book.whole, True
            table.key_settled = True
        for name, picked in book.picked.items():
            self.table(name).picked |= picked
        for entry in book.entries.values():
            if entry.kind == "create" and entry.answered is not None:
                # what was sent to a row that had this key before says nothing of the one that has it since
                self.table(entry.resource).changes.pop(entry.answered, None)
            if entry.removed:
                self.table(entry.resource).ever.add(entry.answered or ())
                continue
            failed = entry.status in FAILED or (entry.sure and 400 <= entry.status < 404)
            if entry.kind == "remove" and entry.key is not None and not failed:
                self.table(entry.resource).doubtful.add(entry.key)
            if entry.kind == "create" and entry.key is not None and entry.key not in self.table(entry.resource).known:
                self.table(entry.resource).picked.add(entry.key)
            if entry.kind == "change" and entry.key is not None:
                self.table(entry.resource).changes.setdefault(entry.key, []).append(entry.record)
            elif entry.answered is not None:
                self._given(entry, entry.answered)
            elif entry.kind == "create" and entry.key is not None and self._bears_mark(entry.resource, entry.key):
                self._given(entry, entry.key)

    def has_sent(self, name: str, field: str, value: Any) -> bool:
        """Whether the run has sent a value for a field of a table."""
        return repr(value) in self._sent.get((name, field), ())

    def table(self, name: str) -> Table:
        found = self.tables.get(name)
        if found is None:
            found = self.tables[name] = Table()
        return found

    def own_keys(self, name: str) -> set[Key]:
        """The keys of the rows of the run's that are there now, as far as it was told."""
        return set(self.table(name).own)

    def made_keys(self, name: str) -> set[Key]:
        """Every key that the run's rows have had."""
        return self.table(name).ever

    # -- what is known ---------------------------------------------------------------------------------

    def know(self, name: str, listing: Listing) -> None:
        """The rows that a table had before the run wrote to it."""
        table = self.table(name)
        table.before, table.known, table.whole = listing, frozenset(listing.by_key), listing.complete
        table.looked_at = True
        keys = [key for key in listing.by_key if key is not None]
        counted = listing.complete and listing.rows and not listing.problem
        if listing.repeated:
            table.forbidden = "its list shows one key twice, so that the key does not name one row"
        elif counted and len(keys) < len(listing.rows):
            table.forbidden = "rows of its list share a key, or have none, so that the key does not name one row"
        self.journal.known(name, keys, listing.complete)

    def rekey(self, name: str, field: str, keys: Mapping[Key, Key], before: Listing | None) -> None:
        """Rows of a table have other keys than was taken for granted, those of a ``field``: by the ones before, as its
        list shows them now. ``before`` are the rows of before the run under their other keys."""
        table = self.table(name)
        own = {keys[key]: number for key, number in table.own.items() if key in keys}
        self.tables[name] = Table(own=own, ever=set(own), unproved=set(own))
        self.journal.keyed(name, field)
        if before is not None:
            self.know(name, before)
        for key, number in own.items():
            self.journal.tell(number, answered=key)

    async def _know(self, name: str) -> Table:
        """The table, its rows of before read first if nobody has."""
        async with self._knowing.setdefault(name, asyncio.Lock()):
            table = self.table(name)
            if not table.looked_at:
                client = self.reach(name)
                if client is not None and "list" in client.resource.operations:
                    self.know(name, await client.whole_list(self.most, "ledger"))
                else:
                    self.know(name, Listing((), {}, False))
            if not table.key_settled:
                table.key_settled = True
                table.forbidden = table.forbidden or await self._why_no_key(name, table)
        return table

    async def _why_no_key(self, name: str, table: Table) -> str:
        """Why a table's key cannot be written by; empty if it can. A key that is only guessed is tried by reads."""
        client = self.reach(name)
        key = client.resource.key if client is not None else None
        if client is None or key is None:
            return f"its key is not known; 'resources: {{{name}: {{key: FIELD}}}}' in the profile states it"
        if key.reason.certainty != "guess":
            return ""
        fields = {each.name: each for each in client.resource.fields if each.created or each.updated or each.replaced}
        rows = list(table.before.by_key.items())[:_TRIED] if table.before is not None else []
        shown = 0
        for own, row in rows if "read" in client.resource.operations else ():
            answer = (await client.send("read", key=own, check="ledger", situation="a key that is guessed")).answer
            read = client.row_in(answer) if answer.ok else None
            shown += read is not None and not differences(fields, row, read)
        if rows and shown == len(rows):
            return ""
        names = ", ".join(key.fields)
        line = f"resources: {{{name}: {{key: [{names}]}}}}"
        return f"its key is only guessed to be {names}; '{line}' in the profile states it"

    def saw(self, name: str, rows: Iterable[tuple[Key | None, Row]]) -> None:
        """Take note of rows that an answer has shown: a row of the run's is proved by what it shows."""
        table = self.tables.get(name)
        if table is None or not table.unproved:
            return
        client = self.reach(name)
        for key, row in rows:
            if key in table.unproved and key is not None and client is not None:
                number = table.own[key]
                entry = self.journal.entry(number)
                if entry is None:
                    continue
                sure = key not in table.doubtful or self.bears(client.resource)(row, self.sent_to(entry, key))
                if sure and self.shows(entry, key, row):
                    table.unproved.discard(key)
                    table.strange.discard(key)
                    table.recognised = True
                    self._learn_usual(table, client.resource, row, self.sent_to(entry, key))
                    self.journal.tell(number, proved=True, stamps=stamps(client.resource, entry.record, row) or None)
                elif sure:
                    table.strange.add(key)

    def _learn_usual(self, table: Table, resource: Resource, row: Row, sent: Sequence[Mapping[str, Any]]) -> None:
        """Note what an own row that bears the run's mark holds where nothing was sent."""
        if not self.bears(resource)(row, None):
            return
        for name, value in row.items():
            known = table.usual.setdefault(name, [])
            if len(known) <= _MOST_USUAL and value not in known and not any(name in record for record in sent):
                known.append(value)

    def sent_to(self, entry: Entry, key: Key) -> list[Mapping[str, Any]]:
        """The records that were sent for a row: to make it, and to change it since."""
        return [entry.record, *self.table(entry.resource).changes.get(key, ())]

    def shows(self, entry: Entry, key: Key, row: Row) -> bool:
        """Whether a row is the one that was made with an entry and answered with its key. It is new, for which less is
        wanted, only where the list was read whole before the run."""
        client = self.reach(entry.resource)
        if client is None:
            return False
        records, bears = self.sent_to(entry, key), self.bears(client.resource)
        table = self.table(entry.resource)
        usual = {name: values for name, values in table.usual.items() if len(values) <= _MOST_USUAL}
        return shows(client.resource, records, row, bears, table.whole, entry.shown, usual)

    # -- sending ---------------------------------------------------------------------------------------

    async def send(self, request: Request, act: Act, check: str) -> Exchange:
        """Send a request once its intent is on disk, and note what its answer tells.

        It is sent again only if the API put it off (429, 503 with ``Retry-After``; RFC 9110, 10.2.3) or a log-in has
        run out, and a witness shows that nothing was done. Raises Unsafe where it may reach rows of others.
        """
        waits = 0
        while True:
            await self._permit(act)
            self._permit_more(act)
            entries = self._intend(request, act)
            await self.journal.synced()
            for name, key in act.touched:
                # looked at once more, since the journal may have taken its time
                if not (self._is_own(name, key) or self.is_spare(name, key) or (name, key) in self._restoring):
                    raise Unsafe(f"the row {_text(key)} of {name} is no longer the run's")
            flight = asyncio.ensure_future(self._carry(request, act, entries, check))
            self._flying.add(flight)
            flight.add_done_callback(self._flying.discard)
            # an interrupt does not cut a write off: its answer tells what became of it
            exchange = await asyncio.shield(flight)
            again = self.session.put_off(exchange) if waits < _MOST_WAITS else None
            if again is None or not await self._undone(act, entries, again):
                return exchange
            waits += 1

    async def _carry(self, request: Request, act: Act, entries: Sequence[Entry], check: str) -> Exchange:
        try:
            exchange = await self.session.transmit(request, check)
        finally:
            for made in act.made if act.kind == "create" else ():
                self.table(made.table).making -= 1
        answer = exchange.answer
        sure = not answer.failure and 0 < answer.status < 500 and answer.status not in _TELL_NOTHING
        numbers = tuple(each.number for each in entries)
        self._numbers[exchange.number] = numbers
        self.deeds.acts[exchange.number] = act
        self._exchange_of.update(dict.fromkeys(numbers, exchange.number))
        if act.kind == "remove" and answer.ok:
            self.deeds.removed[exchange.number] = list(act.touched)
        for number in numbers:
            self.journal.tell(number, status=answer.status, sure=sure)
        if act.kind == "remove" and (not sure or answer.ok or answer.status in {404, 410}):
            for name, touched in act.touched:
                table = self.table(name)
                if touched in table.own:
                    table.unproved.add(touched)
                if touched in table.own and answer.status not in FAILED:
                    table.doubtful.add(touched)
        if act.kind == "create" and answer.status >= 500:
            for made in act.made:
                self.table(made.table).suspect = exchange.number
        if act.kind == "remove" and answer.status >= 400 and answer.status not in {404, 410}:
            for name, touched in act.touched:
                self.table(name).stuck |= {touched} & self.table(name).own.keys()
        if answer.failure or answer.status == 202:
            self.pending.update(act.touched)
            self.unclear_at = asyncio.get_running_loop().time()
        if answer.ok and act.key_in is not None and entries:
            key = act.key_in(answer)
            if key is not None:
                self._take_down(entries[0], answer)
                self.answered(entries[0].number, key)
                self.table(entries[0].resource).keyless = False  # it was left out since that was asked for
            elif sure:
                self.table(entries[0].resource).keyless = True
        return exchange

    def _take_down(self, entry: Entry, answer: Answer) -> None:
        """Note the row that a create's answer shows, where nothing else would tell it from others."""
        client = self.reach(entry.resource)
        row = client.row_in(answer) if client is not None else None
        if client is not None and row is not None and not self.bears(client.resource)(row, None):
            self.journal.tell(entry.number, shown=row)

    async def landed(self) -> None:
        """Return when no request of the run's is on its way any more."""
        while self._flying:
            await asyncio.wait(set(self._flying))

    async def look_at_stuck(self, name: str) -> None:
        """Look whether rows whose removal was answered with a failure are gone all the same."""
        for key in list(self.table(name).stuck):
            if await self._row(name, key) is None:
                self.gone(name, key)

    def stuck(self, name: str) -> tuple[Key, Entry, int] | None:
        """A row of the run's that could not be removed: its key, the entry that made it, and its exchange's number."""
        table = self.table(name)
        for key in table.stuck & table.own.keys():
            entry = self.journal.entry(table.own[key])
            if entry is not None and entry.number in self._exchange_of:
                return key, entry, self._exchange_of[entry.number]
        return None

    def numbers(self, exchange: Exchange) -> tuple[int, ...]:
        """The journal's numbers of the rows that a request was to make."""
        return self._numbers.get(exchange.number, ())

    def _intend(self, request: Request, act: Act) -> list[Entry]:
        entries = []
        touched = list(act.touched)
        for place, made in enumerate(act.made):
            key = made.key
            if act.kind == "change" and key is None and place < len(touched):
                key = touched[place][1]
            entry = self.journal.intend(act.kind, made.table, request.role, made.record, key, made.above)
            for name, value in made.record.items():
                self._sent[made.table, name].add(repr(value))
            self._pick(made.table, made.record)
            entries.append(entry)
            if act.kind == "change" and key is not None:
                self.table(made.table).changes.setdefault(key, []).append(made.record)
        if act.kind == "remove":
            self._leaving |= {each: self.table(each[0]).own.get(each[1], 0) for each in touched}
        if not act.made:
            for name, key in touched:
                entries.append(self.journal.intend(act.kind, name, request.role, {}, key))
        return entries

    def _pick(self, name: str, record: Mapping[str, Any]) -> None:
        """Note a key that a record names, as it may be stored: a change that names another may make a row of it."""
        client, table = self.reach(name), self.table(name)
        key = client.key_of(record) if client is not None else None
        if key is not None and key not in table.known | table.ever:  # else the API made it up
            stored = tuple(part.strip() if isinstance(part, str) else part for part in key)
            new = {key, stored} - table.known - table.ever - table.picked
            table.picked |= new
            for each in new:
                self.journal.picked(name, each)

    async def _undone(self, act: Act, entries: Sequence[Entry], pause: float) -> bool:
        """Whether, after a pause, a request that was put off is seen not to be done."""
        await asyncio.sleep(pause)
        if act.kind == "remove":
            for name, key in act.touched:
                if self._is_own(name, key) and await self._row(name, key) is None:
                    return False
        if act.kind != "create":
            return True
        for name in {made.table for made in act.made}:
            client = self.reach(name)
            if client is None or "list" not in client.resource.operations:
                return False
            listing = await client.whole_list(self.most, "ledger")
            if not listing.complete or listing.problem:
                return False
            table = self.table(name)
            others = {key: row for key, row in listing.by_key.items() if key not in table.known | table.own.keys()}
            records = [entry.record for entry in entries if entry.resource == name]
            if any(shows(client.resource, records, row, self.bears(client.resource)) for row in others.values()):
                return False
        self.journal.settle([entry.number for entry in entries], "list")
        return True

    # -- permission ------------------------------------------------------------------------------------

    async def _permit(self, act: Act) -> None:
        """Raise Unsafe unless an act can reach nothing but the run's own rows."""
        for name in dict.fromkeys([*(made.table for made in act.made), *(name for name, _ in act.touched)]):
            table = await self._know(name)
            if table.forbidden:
                raise Unsafe(f"nothing is written to {name}: {table.forbidden}")
        if act.kind == "create":
            await self._permit_making(act.made)
        for name, key in act.touched:
            await self._permit_touching(name, key)
        if act.by_filter and not self._by_filter:
            for name in {name for name, _ in act.touched}:
                await self._permit_filter(name)

    def _permit_more(self, act: Act) -> None:
        """Raise Unsafe where more rows would be made in a table than may stay there, should they not be removable; else
        count them in."""
        if act.kind != "create":
            return
        for name in {made.table for made in act.made}:
            table = self.table(name)
            if len(table.stuck) >= (_MOST_STUCK if table.removable else 1):
                raise Unsafe(f"a row of {name} could not be removed, so that no more are made")
            there = len(table.own) + table.making + sum(made.table == name for made in act.made)
            if not table.removable and there > _MOST_UNTRIED:
                raise Unsafe(f"no row of {name} was seen to be removed yet, so that no more are made")
        for made in act.made:
            self.table(made.table).making += 1

    async def _permit_making(self, every: Sequence[Made]) -> None:
        chosen: dict[str, set[Key]] = {}
        for name in dict.fromkeys(made.table for made in every):
            client = self.reach(name)
            if client is None or not {"list", "read"} & set(client.resource.operations):
                raise Unsafe(f"nothing is made in {name}: neither a list nor a read would show it again")
            if client.resource.picked_by_api("delete") and not self._by_filter:
                await self._permit_filter(name)  # it could not be removed again
            table = self.table(name)
            await self.look_again(name)
            if table.stuck:
                await self.look_at_stuck(name)
            if table.broken:
                raise Unsafe(table.broken)
            if len(table.strange) > (_MOST_STRANGE if table.recognised else 0):
                raise Unsafe(f"rows made in {name} are not shown as they were sent, so that they could not be removed")
        for made in every:
            table = self.table(made.table)
            if made.key is None and table.keyless and not self._bears(made):
                raise Unsafe(
                    f"{made.table} gives no key when a row is made, and this one would bear nothing to find it by"
                )
            if made.key is None or made.key in table.own or made.key in table.chosen:
                continue
            if made.key in table.known and made.key not in table.ever:
                raise Unsafe(f"{made.table} had a row {_text(made.key)} before the run")
            if not self._bears_mark(made.table, made.key):
                chosen.setdefault(made.table, set()).add(made.key)
        # somebody else may have taken a key since; an API that overwrites would do it to that row
        for name, keys in chosen.items():
            async with self._choosing.setdefault(name, asyncio.Lock()):  # one key may be chosen many times at once
                taken = await self._taken(name, keys - self.table(name).chosen)
                if taken:
                    raise Unsafe(f"{name} has a row {_text(taken[0])} that is not the run's")
                self.table(name).chosen |= keys
                self.table(name).picked |= keys

    async def look_again(self, name: str) -> None:
        """Look whether a table's list still can be read after a create that failed: its row may be there all the same,
        and be one that the API cannot show. No more rows are made then."""
        async with self._knowing.setdefault(name, asyncio.Lock()):
            table, client = self.table(name), self.reach(name)
            number, table.suspect = table.suspect, 0
            if not number or client is None:
                return
            if table.before is not None and table.before.problem:
                table.broken = f"a create failed in {name}, whose list cannot be read to see what it left"
                return
            for _ in range(2):
                exchanges = (await client.whole_list(self.most, "ledger")).exchanges
                if not exchanges or exchanges[-1].answer.status < 500:
                    return
            table.broken = f"the list of {name} fails since a create did, so that no more rows are made"
            self.broken.append((name, number, exchanges[-1].number))

    async def _taken(self, name: str, keys: set[Key]) -> list[Key]:
        """Which of some keys have a row now."""
        client = self.reach(name)
        if len(keys) > _MOST_READ and client is not None and "list" in client.resource.operations:
            listing = await client.whole_list(self.most, "ledger")
            if listing.complete and not listing.problem:
                return [key for key in keys if key in listing.by_key]
        return [key for key in keys if await self._row(name, key) is not None]

    async def _permit_touching(self, name: str, key: Key) -> None:
        table = self.table(name)
        if (name, key) in self._restoring:
            return
        if (name, key) in self.pending:
            raise Unsafe(f"a request to the row {_text(key)} of {name} had no answer, and may still be carried out")
        if key in table.own and key in table.unproved:
            row = await self._row(name, key)
            if key in table.unproved:
                why = "it is not there" if row is None else "reading it shows another one"
                raise Unsafe(f"the row {_text(key)} of {name} cannot be shown to be the run's: {why}")
        if self._is_own(name, key):
            return
        if self.is_spare(name, key) and await self._row(name, key) is None:
            return
        raise Unsafe(f"the row {_text(key)} of {name} is not one of the run's")

    def _is_own(self, name: str, key: Key) -> bool:
        table = self.table(name)
        return key in table.own and key not in table.unproved

    def is_spare(self, name: str, key: Key) -> bool:
        """Whether a key was that of a row of the run's which is gone, and will be given to no other row: the run chose
        it, or a row that the run has made since is there, whose key the API made anew."""
        table = self.table(name)
        if key not in table.left or key in table.own or (table.reuses_keys and not self._bears_mark(name, key)):
            return False
        numbers = [part for known in table.known if (part := as_number(known[-1])) is not None]
        last = as_number(key[-1])
        largest = max([*numbers, last]) if last is not None else None
        since = [as_number(other[-1]) for other, number in table.own.items() if number > table.left[key]]
        anew = [part for part in since if largest is None or (part is not None and part > largest)]
        client = self.reach(name)
        resource = client.resource if client is not None else None
        if resource is None or resource.key is None or resource.key.assigned_by != "client":
            return self._bears_mark(name, key) or (resource is not None and bool(anew))
        # a text that the run chose is nobody else's choice; numbers and references may well be
        return self._bears_mark(name, key) or any(
            isinstance(key[place], str) and not resource.relation(each)
            for place, each in enumerate(resource.key.fields)
        )

    def _bears(self, made: Made) -> bool:
        client = self.reach(made.table)
        return client is not None and self.bears(client.resource)(made.record, ())

    def _bears_mark(self, name: str, key: Key) -> bool:
        """Whether a key is the run's own choice: by its mark, or by a row of the run's that it refers to."""
        client = self.reach(name)
        if client is None or client.resource.key is None:
            return any(isinstance(part, str) and self.mark in part for part in key)
        return self.bears(client.resource)(dict(zip(client.resource.key.fields, key, strict=False)), ())

    def bears(self, resource: Resource) -> Bears:
        """Tells of a row whether it bears the run's mark, or, where no record that was sent for it does, refers to one
        of the run's rows."""

        def told(row: Mapping[str, Any], records: Sequence[Mapping[str, Any]] | None) -> bool:
            if marked(row, self.mark) or self._own_choice(resource, row):
                return True
            if records is None:
                return False
            refers = any(self._surely_own(each.resource, row.get(each.field)) for each in resource.relations)
            return refers and not any(marked(record, self.mark) for record in records)

        return Bears(self.mark, told)

    def _own_choice(self, resource: Resource, row: Mapping[str, Any]) -> bool:
        """Whether a row has a key that the run has made up: a text that nobody else would come upon."""
        table, key = self.tables.get(resource.name), resource.key
        if table is None or key is None or not table.picked:
            return False
        free = [row.get(name) for name in key.fields if resource.relation(name) is None]
        long = any(isinstance(part, str) and len(part) >= _LONG for part in free)
        return long and tuple(row.get(name) for name in key.fields) in table.picked

    def _surely_own(self, name: str, value: Any) -> bool:
        table = self.tables.get(name)
        if table is None or not isinstance(value, str | int) or (value,) in table.doubtful:
            return False
        entry = self.journal.entry(table.own.get((value,), 0))
        return entry is not None and entry.proved and not entry.removed

    async def _permit_filter(self, name: str) -> None:
        """Only the API decides what a filter leaves, and it may leave everything: without the user's word it is tried
        only where no row of anybody else's is."""
        client, table = self.reach(name), self.table(name)
        listing = await client.whole_list(self.most, "ledger") if client is not None else None
        if listing is None or not listing.complete or set(listing.by_key) - set(table.own):
            raise Unsafe(
                "a change by filter reaches whatever the API makes of the filter, and others have rows in this table; "
                "'writes_by_filter: true' in the profile allows it"
            )

    # -- witnesses -------------------------------------------------------------------------------------

    async def _row(self, name: str, key: Key) -> Row | None:
        """The row with a key as it is now, by its key or else in the list; None where neither shows it."""
        client = self.reach(name)
        if client is None:
            return None
        operations = client.resource.operations
        if "read" in operations:
            answer = (await client.send("read", key=key, check="ledger", situation="whose row it is")).answer
            row = client.row_in(answer) if answer.ok else None
            if row is not None and client.key_of(row) in (None, key):
                self.saw(name, [(key, row)])
                return row
            if client.absent(answer):
                return None
        if "list" not in operations:
            raise Unsafe(f"whether {name} has a row {_text(key)} cannot be determined")
        listing = await client.whole_list(self.most, "ledger")
        self.saw(name, listing.by_key.items())
        if key not in listing.by_key and not listing.complete:
            raise Unsafe(f"whether {name} has a row {_text(key)} cannot be determined")
        return listing.by_key.get(key)

    # -- what became of rows ---------------------------------------------------------------------------

    def answered(self, number: int, key: Key) -> None:
        """An entry's row has this key, as the API says: it is the run's only once reading it shows it."""
        entry = self.journal.entry(number)
        if entry is None:
            return
        table = self.table(entry.resource)
        if key in table.known and key not in table.ever:
            return  # somebody else's, whatever the API says
        self.journal.tell(number, answered=key)
        made = self.deeds.made.setdefault(self._exchange_of.get(number, 0), [])
        if (entry.resource, key) not in made and entry.kind == "create":
            made.append((entry.resource, key))
        self._given(entry, key)

    def _given(self, entry: Entry, key: Key) -> None:
        table = self.table(entry.resource)
        table.reuses_keys |= table.left.pop(key, None) is not None and entry.key is None
        if key in table.own and table.own[key] != entry.number and entry.answered is None and entry.key == key:
            return  # a second intent for one key: the row is still the first one's
        table.own[key] = entry.number
        table.ever.add(key)
        table.unproved.add(key)
        table.doubtful.discard(key)

    def found(self, number: int, key: Key, row: Row) -> None:
        """The list shows an entry's row under this key, with the run's mark."""
        self.answered(number, key)
        entry = self.journal.entry(number)
        if entry is not None:
            self.refusals_lie = self.refusals_lie or (entry.sure and entry.status >= 400)
            self.saw(entry.resource, [(key, row)])

    def gone(self, name: str, key: Key) -> None:
        """An own row is gone, as far as an answer or a look tells; the end of the run looks again."""
        table, left = self.table(name), self._leaving.pop((name, key), 0)
        if left and table.own.get(key, left) != left:
            self.journal.tell(left, removed=True)
            return  # a new row of the run's has been given its key meanwhile
        number = table.own.pop(key, None)
        table.unproved.discard(key)
        table.strange.discard(key)
        table.chosen.discard(key)
        table.changes.pop(key, None)
        table.stuck.discard(key)
        if number is not None:
            table.removable = True
            self.journal.tell(number, removed=True)
            table.left[key] = self.journal.count

    def back(self, name: str, key: Key) -> None:
        """A row is there again under a key whose row was gone."""
        table = self.table(name)
        numbers = [each.number for each in self.journal.entries(name) if each.answered == key or each.key == key]
        if key not in table.own and numbers:
            table.left.pop(key, None)
            table.own[key] = numbers[-1]
            table.unproved.add(key)

    def claim(self, name: str, key: Key, number: int) -> None:
        """A look at the table has shown that a row is the run's."""
        table = self.table(name)
        self.journal.tell(number, seen=True)
        table.left.pop(key, None)
        table.own[key] = number
        table.ever.add(key)
        table.unproved.discard(key)
        table.doubtful.discard(key)

    def is_still(self, name: str, key: Key, row: Row) -> bool:
        """Whether a row is the run's own that had the key, and not another that was given it since."""
        number = self.table(name).own.get(key)
        entry = self.journal.entry(number) if number is not None else None
        return entry is not None and self.shows(entry, key, row)

    def hold(self, name: str, key: Key, row: Row) -> int:
        """Leave an own row on purpose, as it is; the number of its entry."""
        table = self.table(name)
        number = table.own.pop(key)
        table.unproved.discard(key)
        self.journal.tell(number, held=dict(row))
        return number

    def harm(self, name: str, key: Key, how: str, row: Row, restored: bool = False) -> None:
        """A request of the run's has reached a row of somebody else's."""
        self.harmed.append(Harm(name, key, how, dict(row), restored))

    async def restore(self, client: Client, key: Key, values: Mapping[str, Any], check: str) -> Exchange:
        """Give a row that a request of the run's has changed its values again. Raises Unsafe for a row that the API
        itself would pick."""
        resource = client.resource
        if resource.picked_by_api("update") and not self._by_filter:
            raise Unsafe("a change by filter would put back whatever the API makes of the filter")
        touched = ((resource.name, key),)
        self._restoring.add((resource.name, key))
        try:
            act = Act("change", (), touched)
            return await client.send(
                "update", key=key, record=dict(values), check=check, situation="putting a row back as it was", act=act
            )
        finally:
            self._restoring.discard((resource.name, key))

    def harmful_reads(self, name: str, why: str) -> None:
        """Reading a row of a table harms it: from now on only own rows are read by their keys."""
        self.table(name).harmful = why

    def refuse_reading(self, name: str, key: Key | None) -> None:
        """Raise Unsafe where reading a row by its key is known to harm it, and it is not the run's own."""
        table = self.tables.get(name)
        if table is not None and table.harmful and key is not None and key not in table.own:
            raise Unsafe(f"rows of others are not read by their keys: {table.harmful}")


def as_number(part: Any) -> int | None:
    """A part of a key as a number, if it is one or is written as one: JSON:API has its keys as texts."""
    if isinstance(part, int):
        return part
    return int(part) if isinstance(part, str) and part.isascii() and part.isdigit() else None


def _text(key: Key) -> str:
    return "/".join(map(str, key))
