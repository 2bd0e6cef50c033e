"""The one door for every request that may create, change or remove rows.

Before such a request leaves, what it may do is on disk (``rows.journal``), and each row that it names has been seen to
be the run's own (``rows.holdings``). Nothing else in Check Post can send one: ``Session.transmit`` is called from here
alone.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from checkpost.errors import NotCompleted
from checkpost.rows.accepted import Accepted
from checkpost.rows.coerced import coerced
from checkpost.rows.holdings import Holdings, Reach
from checkpost.rows.journal import FAILED, Entry, Journal
from checkpost.rows.resemblance import shows
from checkpost.rows.table import Harm, Table, is_whole
from checkpost.rows.unshown import IS_SHOWN, key_unshown
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made, Unsafe
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import Key, Row, key_text
from checkpost.wire.session import Session
from checkpost.wire.throttle import TOO_MANY

#: How often a request is sent again that was turned away for the moment, and was seen not to be done.
_MOST_WAITS = 3
#: How many rows that were deleted are tried to be removed for good before one was seen to be kept.
_MOST_TRIED = 3
#: How many rows are looked for one by one, where a list would show them all.
_MOST_READ = 8
#: How the removal of a row is refused that may be held by what it refers to.
_HELD = {400, 403, 409, 422, 423}
#: Answers that tell nothing of whether the work was done.
_TELL_NOTHING = {408, 425, TOO_MANY}
#: What may be done later (RFC 9110, 15.3.3).
_ACCEPTED = 202
#: A refusal, though it is counted among the failures (RFC 9110, 15.6.2).
_NOT_IMPLEMENTED = 501
#: How many rows there may be at once that cannot be shown to be the run's.
_MOST_STRANGE = 3
#: How many own rows are read where the list fails.
_MOST_LAST = 20
#: How many rows that cannot be shown are removed in a table.
_MOST_UNSHOWN = 3
#: How long is waited before each look whether a list fails since a create, in seconds.
_PAUSES = (0.0, 0.5, 2.0)
#: Of how many creates it may stay open whether they made a row, where a list never shows all rows.
_MOST_OPEN = 2
#: How many rows of a table there may be before one was seen to be gone; how many that could not be removed.
_MOST_UNTRIED, _MOST_STUCK = 4, 2
#: How often it is waited for others to remove theirs, and how long each time, in seconds.
_TURNS, _TURN = 8, 0.25


def _may_be_unread(request: Request) -> bool:
    """Whether a body is said to be no record."""
    return request.media_type.startswith("text/")


def _is_plain(key: Key) -> bool:
    """Whether all parts of a key are what keys are made of."""
    return all(isinstance(part, str | int) for part in key)


def kept_as(value: Any) -> list[Any]:
    """A value, and what lenient servers make of it: a text of it, or of it as a fraction, a number of what is true or
    false, the only member of a list."""
    if isinstance(value, str):
        return [value]
    found = [value, str(value), json.dumps(value, ensure_ascii=False, default=str)]
    if isinstance(value, bool):
        found += kept_as(int(value))
    elif isinstance(value, int) and abs(value) <= 2**53:
        found.append(str(float(value)))
    elif isinstance(value, list) and len(value) == 1:
        found += kept_as(value[0])
    return found


class Ledger(Holdings):
    """All that a run does to rows."""

    def __init__(
        self, session: Session, journal: Journal, mark: str, reach: Reach, most: int, by_filter: bool = False
    ) -> None:
        """``most`` is how many rows of a list are read, ``by_filter`` whether the user allows writes to whatever a
        filter leaves."""
        super().__init__(journal, mark, reach, most)
        self.session, self._by_filter = session, by_filter
        self.harmed: list[Harm] = []
        #: Tables whose list fails since a create failed: with the numbers of the two exchanges.
        self.broken: list[tuple[str, int, int]] = []
        self._choosing: dict[str, asyncio.Lock] = {}
        #: Own rows that a request without an answer may still reach: nothing more is sent to them until it has landed,
        #: since their keys could be somebody else's by then.
        self.pending: dict[tuple[str, Key], str] = {}
        #: Requests that were answered 202, and not seen to be done.
        self.accepted: set[int] = set()
        self._accepted = Accepted(self)
        #: When the last request ended without an answer, in the event loop's time.
        self.unclear_at = 0.0
        #: Rows that are touched just now whatever is known of them: see ``_meaning``.
        self._meant: set[tuple[str, Key]] = set()
        self._flying: set[asyncio.Task[Exchange]] = set()
        self._looking_at_stuck = asyncio.Lock()
        self._looking_again: dict[str, asyncio.Lock] = {}
        #: Removals that a server error has answered: each is tried once more.
        self._failed_removals: dict[tuple[str, Key], tuple[int, Request, Act]] = {}
        #: Exchanges that failed, and whose requests did not when they were sent beside no other write.
        self.recovered: set[int] = set()
        #: What was sent for each field, and what a server may make of it, as Python writes it.
        self._values: dict[tuple[str, str], set[str]] = defaultdict(set)
        self._numbers: dict[int, tuple[int, ...]] = {}
        self._begun: Counter[str] = Counter()
        self._ended: Counter[str] = Counter()

    def has_sent(self, name: str, field: str, value: Any) -> bool:
        """Whether the run has sent a value for a field of a table, or one that a lenient server makes of one."""
        return repr(value) in self._values.get((name, field), ())

    async def send(self, request: Request, act: Act, check: str) -> Exchange:
        """Send a request; see ``_sent``. A row that would not be known again, should its create have no answer in time,
        is made while nothing else is under way, unless answers come far within it: what goes wrong then is not for
        other requests."""
        made = act.made if act.kind == "create" and not self.session.steady else ()
        lone = any(each.key is None and self.table(each.table).bearing and not self.would_bear(each) for each in made)
        async with self.session.pace.by_itself() if lone else contextlib.nullcontext():
            return await self._sent(request, act, check)

    async def _sent(self, request: Request, act: Act, check: str) -> Exchange:
        """Send a request once its intent is on disk, and note what its answer tells.

        It is sent again only if the API put it off (429, 503 with ``Retry-After``; RFC 9110, 10.2.3) or a log-in has
        run out, and a witness shows that nothing was done. Raises Unsafe where it may reach rows of others.
        """
        waits = 0
        while True:
            await self._make_room(act)
            entries: list[Entry] = []
            try:
                await self._permit(act)
                before = await self._keys_before(request, act)
                entries = self._intend(request, act)
                await self.journal.synced()
                for name, key in act.touched:
                    # looked at once more, since the journal may have taken its time
                    if not (self.is_own(name, key) or self.is_spare(name, key) or (name, key) in self._meant):
                        raise Unsafe(f"the row {key_text(key)} of {name} is no longer the run's")
            except BaseException:
                self._give_room(act)
                self.journal.settle([each.number for each in entries], "never sent")
                raise
            flight = asyncio.ensure_future(self._carry(request, act, entries, check, before))
            self._flying.add(flight)
            flight.add_done_callback(self._flying.discard)
            # an interrupt does not cut a write off: its answer tells what became of it
            exchange = await asyncio.shield(flight)
            if act.kind == "create" and exchange.answer.status >= 500:
                for name in dict.fromkeys(made.table for made in act.made):
                    await self.look_again(name)  # what breaks a list breaks it for everybody
            again = self.session.put_off(exchange) if waits < _MOST_WAITS else None
            if again is None or not await self._undone(act, entries, again):
                return exchange
            waits += 1

    async def _keys_before(self, request: Request, act: Act) -> set[Key] | None:
        """The keys that a table has just before a row is made that may bear nothing to know it by: the record does not,
        or stands in a body that is said to be no record. None where the row can be known, or they cannot be had."""
        if act.kind != "create" or len(act.made) != 1 or (self.would_bear(act.made[0]) and not _may_be_unread(request)):
            return None
        name = act.made[0].table
        client, table = self.reach(name), self.table(name)
        if client is None or act.made[0].key is not None or not table.whole:
            return None
        listing = await client.whole_list(self.most, "ledger")
        return set(listing.by_key) if listing.complete and not listing.problem else None

    async def _carry(
        self, request: Request, act: Act, entries: Sequence[Entry], check: str, before: set[Key] | None
    ) -> Exchange:
        names = {*(made.table for made in act.made), *(name for name, _ in act.touched)}
        self._begun.update(names)
        try:
            exchange = await self.session.transmit(request, check)
        finally:
            self._ended.update(names)
            self._give_room(act)
        answer = exchange.answer
        told = 0 < answer.status < 500 or answer.status == _NOT_IMPLEMENTED
        later = answer.status == _ACCEPTED and not answer.failure and not await self._accepted.is_done(act, answer)
        sure = not answer.failure and told and answer.status not in _TELL_NOTHING and not later
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
        for made in act.made if act.kind == "create" else ():
            self.table(made.table).made_last = exchange.number
            self.table(made.table).unanswered |= answer.failure == "timeout"
            self.table(made.table).fates_open += not sure
            if answer.status >= 500:
                self.table(made.table).suspect = exchange.number
        if act.kind == "remove" and answer.status >= 400 and answer.status not in {404, 410}:
            for name, touched in act.touched:
                table = self.table(name)
                if answer.status in _HELD:
                    table.held |= {touched} & table.own.keys()
                # where rows were seen to go, a refusal is of that role, version or row that others refer to
                if answer.status >= 500 or not table.removable:
                    table.stuck |= {touched} & table.own.keys()
                if answer.status >= 500 and len(act.touched) == 1:
                    self._failed_removals.setdefault((name, touched), (exchange.number, request, act))
        if answer.failure or later:
            self.pending |= dict.fromkeys(act.touched, "was answered 202" if later else "had no answer")
            self.accepted |= {exchange.number} if later else set()
            self.unclear_at = asyncio.get_running_loop().time()
        if answer.ok and act.key_in is not None and entries:
            key = act.key_in(answer)
            if key is not None:
                self._take_down(entries[0], answer, key)
                if before is not None and key not in before:
                    self.journal.tell(entries[0].number, fresh=True)
                self.answered(entries[0].number, key)
                self.table(entries[0].resource).keyless = False  # it was left out since that was asked for
            elif sure:
                self.table(entries[0].resource).keyless = True
        # a POST to a row's path makes one by itself, and says nothing of changes
        by_change = act.kind == "change" and request.method in {"PATCH", "PUT"}
        if answer.ok and by_change and len(act.touched) == len(entries) == 1:
            self._take_for_another(act.touched[0], entries[0], exchange)
        return exchange

    def _take_for_another(self, meant: tuple[str, Key], entry: Entry, exchange: Exchange) -> None:
        """Note of the row that a change was answered with where that has another key than the one that was meant, and
        nobody had it: a faulty API may make a row of what it is sent. Only where it shows what was sent, and is no less
        of a row than others: an answer may as well be about what was done."""
        client, table = self.reach(entry.resource), self.table(entry.resource)
        row = client.row_in(exchange.answer) if client is not None else None
        key = client.key_of(row) if client is not None and row is not None else None
        if key is None or row is None or client is None or not table.whole or client.key_of(entry.record) is not None:
            return
        sent = {name for name, value in entry.record.items() if value is not None}
        known = key_text(key) == key_text(meant[1]) or any(key in each for each in (table.known, table.ever))
        if known or key in table.strangers or not sent or not sent <= row.keys() or not is_whole(row, table.shown):
            return
        if self.shows(entry, key, row):
            table.fork = meant[1], key, (exchange,)
            self.answered(entry.number, key)

    def _take_down(self, entry: Entry, answer: Answer, key: Key) -> None:
        """Note of the row that a create's answer shows that it bears the run's mark, or else how it is, since nothing
        else would tell it from others."""
        client = self.reach(entry.resource)
        row = client.row_in(answer) if client is not None else None
        if client is None or row is None:
            return
        if not self.bears(client.resource)(row, None):
            self.journal.tell(entry.number, shown=row)
        elif client.key_of(row) == key:
            self.journal.tell(entry.number, vouched=True)

    async def landed(self) -> None:
        """Return when no request of the run's is on its way any more."""
        while self._flying:
            await asyncio.wait(set(self._flying))

    async def look_at_stuck(self, name: str) -> None:
        """Look whether rows whose removal was answered with a failure are gone all the same; those that are not are
        removed once more, beside no other write: if they go then, writes are sent one at a time from now on."""
        async with self._looking_at_stuck:  # who comes meanwhile waits for what comes of it
            for key in list(self.table(name).stuck):
                await self._remove_again(name, key)

    async def _remove_again(self, name: str, key: Key) -> None:
        if await self.row(name, key) is None:
            self.gone(name, key)
            return
        failed = self._failed_removals.pop((name, key), None)
        if failed is None:
            return
        number, request, act = failed
        try:
            with self.session.gently():
                done = (await self.send(request, act, "ledger")).answer.ok and await self.row(name, key) is None
        except Unsafe:
            return
        self.session.gentle |= done
        if done:
            self.recovered.add(number)
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
            self.table(made.table).bearing |= act.kind == "create" and self.marks(made.table, made.record)
            for name, value in made.record.items():
                self._values[made.table, name].update(map(repr, kept_as(value)))
            self._pick(made.table, made.record)
            entries.append(entry)
            if _may_be_unread(request):
                self.journal.tell(entry.number, unread=True)
            if act.kind == "change" and key is not None:
                self.table(made.table).changes.setdefault(key, []).append(made.record)
        if act.kind == "remove":
            self._leaving |= {each: self.table(each[0]).own.get(each[1], 0) for each in touched}
        if not act.made:
            for name, key in touched:
                entries.append(self.journal.intend(act.kind, name, request.role, {}, key))
                if act.kind == "remove" and len(touched) > 1:
                    self.journal.tell(entries[-1].number, several=True)
        return entries

    def _pick(self, name: str, record: Mapping[str, Any]) -> None:
        """Note a key that a record names, as it may be stored: a change that names another may make a row of it."""
        client, table = self.reach(name), self.table(name)
        key = client.key_of(record) if client is not None else None
        if key is None or key in table.known or key in table.ever:
            return  # the API made it up
        stored = tuple(part.strip() if isinstance(part, str) else part for part in key)
        for each in {key, stored}:
            if not any(each in seen for seen in (table.known, table.ever, table.picked)):
                table.picked.add(each)
                self.journal.picked(name, each)

    async def _undone(self, act: Act, entries: Sequence[Entry], pause: float) -> bool:
        """Whether, after a pause, a request that was put off is seen not to be done."""
        await asyncio.sleep(pause)
        if act.kind == "remove":
            for name, key in act.touched:
                if self.is_own(name, key) and await self.row(name, key) is None:
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
        if act.kind == "change":
            forks = next((name for name, _ in act.touched if self.table(name).fork is not None), None)
            if forks is not None:
                raise Unsafe(f"changes in {forks} make rows of their own, as the answer to one shows")
            await self._permit_naming(self._named_anew(act))
        for name, key in act.touched:
            await self._permit_touching(name, key)
        if act.by_filter and not self._by_filter:
            for name in {name for name, _ in act.touched}:
                await self._permit_filter(name)

    async def _make_room(self, act: Act) -> None:
        """Count in the rows that are to be made. Raises Unsafe where more would be made than could stay, if none can be
        removed."""
        if act.kind != "create":
            return
        for made in act.made:
            table = self.table(made.table)
            if self._too_many_stay(table):
                await self.look_at_stuck(made.table)  # one may be gone whatever the answer said
            if self._too_many_stay(table):
                raise Unsafe(f"a row of {made.table} could not be removed, so that no more are made")
        wanted = Counter(made.table for made in act.made)
        # those of other checks may be about to go
        for turn in range(_TURNS + 1):
            full = [name for name, number in wanted.items() if not self._has_room(name, number)]
            if not full:
                break
            if turn == _TURNS:
                raise Unsafe(f"no row of {full[0]} was seen to be removed yet, so that no more are made")
            await asyncio.sleep(_TURN)
        for name, number in wanted.items():
            self.table(name).making += number

    def _too_many_stay(self, table: Table) -> bool:
        """Whether so many removals failed that no more rows are made."""
        return len(table.stuck) >= (_MOST_STUCK if table.removable else 1)

    def _give_room(self, act: Act) -> None:
        """Count out the rows that were to be made: they are there, or not."""
        for made in act.made if act.kind == "create" else ():
            self.table(made.table).making -= 1

    def _has_room(self, name: str, number: int) -> bool:
        """Whether so many rows more may be made in a table: any number where one was seen to be gone, else a few."""
        table = self.table(name)
        return table.removable or len(table.own) + table.making + number <= _MOST_UNTRIED

    async def _permit_making(self, every: Sequence[Made]) -> None:
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
            blind = "list" not in client.resource.operations or (table.before is not None and table.before.broken_off)
            if table.fates_open >= _MOST_OPEN and blind:
                raise Unsafe(f"creates in {name} failed and may have made rows, and no list shows all of them")
        together = Counter(made.table for made in every)
        for made in every:
            table = self.table(made.table)
            if made.key is None and table.before is not None and table.before.failed:
                raise Unsafe(f"the list of {made.table} fails, so that a row that a create leaves could not be found")
            if made.key is None and (table.keyless or table.unanswered) and not self.would_bear(made):
                why = "gives no key when a row is made" if table.keyless else "has not answered a create in time"
                raise Unsafe(f"{made.table} {why}, and this row would bear nothing to find it by")
            if made.key is None and together[made.table] > 1 and not table.tells_many and not self.would_bear(made):
                raise Unsafe(f"rows of {made.table} made at once would bear nothing to find them by")
            if made.key is None and not table.whole and not any(value is not None for value in made.record.values()):
                raise Unsafe(f"the list of {made.table} is not read whole, and an empty row is told from others by it")
            same = table.natural.taken_for(made.record) if made.key is None else ()
            if same:
                raise Unsafe(
                    f"{made.table} has a row with the same {' and '.join(same)}, which may be changed in its place"
                )
        named = [(made.table, made.key or self._named_by(made)) for made in every]
        await self._permit_naming([(name, key) for name, key in named if key is not None])

    async def _permit_naming(self, every: Sequence[tuple[str, Key]]) -> None:
        """Raise Unsafe where a record names a key that is, or may be read as, that of a row of somebody else's."""
        chosen: dict[str, set[Key]] = {}
        for name, key in every:
            table = self.table(name)
            named = self._read_as(name, key)
            if _is_plain(key) and (key in table.own or key in table.chosen):
                continue
            before = [each for each in named if each in table.known and each not in table.ever]
            if before:
                raise Unsafe(f"{name} had a row {key_text(before[0])} before the run")
            unmarked = {each for each in named if each != key or not self._bears_mark(name, key)}
            chosen.setdefault(name, set()).update(unmarked - table.own.keys())
        # somebody else may have taken a key since; an API that overwrites would do it to that row
        for name, keys in chosen.items():
            async with self._choosing.setdefault(name, asyncio.Lock()):  # one key may be chosen many times at once
                taken = await self._taken(name, keys - self.table(name).chosen)
                if taken:
                    raise Unsafe(f"{name} has a row {key_text(taken[0])} that is not the run's")
                self.table(name).chosen |= keys
                self.table(name).picked |= keys

    def _named_anew(self, act: Act) -> list[tuple[str, Key]]:
        """The keys that the records of a change name beside those of the rows that it changes."""
        named = [(made.table, self._named_by(made)) for made in act.made]
        return [(name, key) for name, key in named if key is not None and (name, key) not in act.touched]

    def _named_by(self, made: Made) -> Key | None:
        """What a record has in the place of a key, be it one or not; None where it has none."""
        client = self.reach(made.table)
        names = client.resource.key.fields if client is not None and client.resource.key is not None else ()
        parts = tuple(made.record.get(name) for name in names)
        return parts if parts and None not in parts else None

    def _read_as(self, name: str, key: Key) -> set[Key]:
        """The keys that what stands in the place of one may be read as; itself, if it may be one."""
        client = self.reach(name)
        readings = coerced(client.resource, key) if client is not None else []
        return {each for each in (key, *readings) if _is_plain(each)}

    def list_failed(self, name: str) -> None:
        """A table's list was answered with a server error: a row that was made may be one that it cannot show."""
        table = self.table(name)
        table.suspect = table.suspect or table.made_last

    async def look_again(self, name: str) -> None:
        """Look whether a table's list still can be read after a create that failed, or since it was seen to fail: there
        may be a row that the API cannot show. No more rows are made then."""
        async with self._looking_again.setdefault(name, asyncio.Lock()):
            table, client = self.table(name), self.reach(name)
            number, table.suspect = table.suspect, 0
            if not number or client is None or "list" not in client.resource.operations:
                return
            if table.before is not None and table.before.problem:  # it may be refused, where creates are not
                table.broken = f"a create failed in {name}, whose list cannot be read to see what it left"
                return
            for pause in _PAUSES:  # what is asked of it at once may be too much for the moment
                await asyncio.sleep(pause)
                exchanges = (await client.whole_list(self.most, "ledger")).exchanges
                if not exchanges or exchanges[-1].answer.status < 500:
                    return
            known = await self._not_shown(client, table)
            self.broken.append((name, known or number, exchanges[-1].number))
            try:
                mended = not known and await self._remove_unshown(client, table)
            except (Unsafe, NotCompleted):
                mended = False
            if not mended:
                table.broken = f"the list of {name} fails since a row was made, so that no more are made"

    async def _remove_unshown(self, client: Client, table: Table) -> bool:
        """Remove the row of a create that failed, which the API cannot show, nor its list since. Whether the list can
        be read again."""
        name = client.resource.name
        creates = [each for each in self.journal.entries(name) if each.kind == "create" and each.named is None]
        entry = next((each for each in reversed(creates) if each.status >= 500), None)
        if entry is None or "delete" not in client.resource.operations or table.unshown >= _MOST_UNSHOWN:
            return False
        key = await key_unshown(client, table)
        if key is None:
            return False
        table.unshown += 1
        self.answered(entry.number, key)
        with self._meaning(name, key):
            await client.send("delete", key=key, check="ledger", situation="removing a row that cannot be shown")
        if not client.absent((await client.send("read", key=key, check="ledger", situation=IS_SHOWN)).answer):
            return False
        self.gone(name, key)
        exchanges = (await client.whole_list(self.most, "ledger")).exchanges
        return bool(exchanges) and exchanges[-1].answer.ok

    async def _not_shown(self, client: Client, table: Table) -> int:
        """The number of the exchange that has made the own row which the API fails to show; 0 where it shows the last
        ones."""
        if "read" not in client.resource.operations:
            return 0
        for key, number in list(table.own.items())[::-1][:_MOST_LAST]:
            answer = (await client.send("read", key=key, check="ledger", situation=IS_SHOWN)).answer
            if answer.status >= 500:
                return self._exchange_of.get(number, 0)
        return 0

    async def _taken(self, name: str, keys: set[Key]) -> list[Key]:
        """Which of some keys have a row now."""
        client = self.reach(name)
        if len(keys) > _MOST_READ and client is not None and "list" in client.resource.operations:
            listing = await client.whole_list(self.most, "ledger")
            if listing.complete and not listing.problem:
                return [key for key in keys if key in listing.by_key]
        return [key for key in keys if await self.row(name, key) is not None]

    @contextlib.contextmanager
    def _meaning(self, name: str, key: Key) -> Iterator[None]:
        """Let a row be touched meanwhile that was not shown to be the run's: one of others that is given its values
        again, one of the run's that was deleted and is kept, or one that cannot be shown."""
        self._meant.add((name, key))
        try:
            yield
        finally:
            self._meant.discard((name, key))

    async def _permit_touching(self, name: str, key: Key) -> None:
        table = self.table(name)
        if (name, key) in self._meant:
            return
        if (name, key) in self.pending:
            how = self.pending[name, key]
            raise Unsafe(f"a request to the row {key_text(key)} of {name} {how}, and may still be carried out")
        if key in table.own and key in table.unproved:
            row = await self.row(name, key)
            if key in table.unproved:
                why = "it is not there" if row is None else "reading it shows another one"
                raise Unsafe(f"the row {key_text(key)} of {name} cannot be shown to be the run's: {why}")
        if self.is_own(name, key):
            return
        if self.is_spare(name, key) and await self.row(name, key) is None:
            return
        raise Unsafe(f"the row {key_text(key)} of {name} is not one of the run's")

    def would_bear(self, made: Made) -> bool:
        """Whether the row of a record would bear the run's mark, or refer to a row that does."""
        client = self.reach(made.table)
        return client is not None and self.bears(client.resource)(self.shown(made.table, made.record), ())

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

    def harm(self, name: str, key: Key, how: str, row: Row, restored: bool = False) -> None:
        """A request of the run's has reached a row of somebody else's."""
        self.harmed.append(Harm(name, key, how, dict(row), restored))

    async def restore(self, client: Client, key: Key, values: Mapping[str, Any], check: str) -> Exchange:
        """Give a row that a request of the run's has changed its values again. Raises Unsafe for a row that the API
        itself would pick."""
        resource = client.resource
        if resource.picked_by_api("update") and not self._by_filter:
            raise Unsafe("a change by filter would put back whatever the API makes of the filter")
        with self._meaning(resource.name, key):
            act = Act("change", (), ((resource.name, key),))
            return await client.send(
                "update", key=key, record=dict(values), check=check, situation="putting a row back as it was", act=act
            )

    def purged(self, name: str, removal: Exchange) -> None:
        """Note that a row which was not deleted before was removed for good, so that nothing of it is kept."""
        if removal.answer.ok:
            self.journal.settle(self.numbers(removal), "removed for good")
            self.table(name).purged += 1

    async def purge(self, client: Client, shown: Collection[Key]) -> tuple[int, list[Key]]:
        """Remove for good the run's rows whose removal was asked for and not refused, and that are not ``shown``; how
        many were kept. Where the first few were not kept none is: a crash may have come behind one that was removed.
        Nothing is done for a key that has a row, or is given again: where that is not known, the keys are returned."""
        name, found = client.resource.name, 0
        table = self.table(name)
        entries = [each for each in self.journal.entries(name) if each.held is None]
        asked = {each.key for each in entries if each.kind == "remove" and (each.status < 300 or not each.sure)}
        made: dict[Key | None, list[int]] = {}
        for each in entries:
            for key in {each.answered, each.key}:
                made.setdefault(key, []).append(each.number)
        stay = table.known | set(shown)
        # those that were seen first: of others there may never have been a row
        seen = {each.answered for each in entries if each.proved or each.seen}
        gone = [key for key in asked if key and key not in stay]
        gone.sort(key=lambda key: (key not in seen, made[key][0]))
        untried = [key for key in gone if not self.never_again(name, key)]
        for tried, key in enumerate([key for key in gone if key not in untried]):
            if tried == _MOST_TRIED and not found:
                break
            if await self.row(name, key) is not None:
                continue
            try:
                with self._meaning(name, key):
                    exchange = await client.send(
                        "delete", key=key, check="tidying up", situation="removing a row for good"
                    )
            except (Unsafe, NotCompleted):
                continue
            if exchange.answer.ok:
                found += 1
                self.journal.settle([*made[key], *self.numbers(exchange)], "removed for good")
        return found, [] if table.reuses_keys else untried

    def maker(self, name: str, key: Key) -> str:
        """The role that made an own row; "" where that is not known."""
        entry = self.journal.entry(self.table(name).own.get(key, 0))
        return entry.role if entry is not None else ""

    def owns(self, name: str, key: Key) -> bool:
        """Whether a row is the run's own."""
        table = self.tables.get(name)
        return table is not None and key in table.own

    def writes(self, name: str) -> tuple[int, int]:
        """How many writes to a table were sent, and how many of them have ended."""
        return self._begun[name], self._ended[name]
