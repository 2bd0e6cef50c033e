"""What a run knows of rows: which were there before it, which are its own, and by what that is proved."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from checkpost.model.resource import Resource
from checkpost.oracle.same import differences
from checkpost.rows.journal import FAILED, Book, Entry, Journal
from checkpost.rows.natural import Natural
from checkpost.rows.resemblance import Bears, is_nothing, marked, shows, stamps
from checkpost.rows.script import Deeds
from checkpost.rows.table import Table, as_number
from checkpost.values.coined import has_mark
from checkpost.wire.client import Client
from checkpost.wire.door import Unsafe
from checkpost.wire.listing import Key, Listing, Row, key_text

#: How long a text has to be that nobody else would come upon.
_LONG = 6
#: A UUID (RFC 9562), or an identifier as long, also behind a word for the table.
_RANDOM = re.compile(
    r"[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}(?![0-9a-fA-F])"
    r"|(?<![0-9A-Za-z])(?=[A-Za-z]*[0-9])(?=[0-9]*[A-Za-z])[0-9A-Za-z]{20,}(?![0-9A-Za-z])"
)
#: How often keys have to be seen to count up.
_SURELY = 3
#: How many rows are read by a key that is not stated.
_TRIED = 5
#: Statuses of a read by what is no key of the table's.
_NO_SUCH_ROW = frozenset({400, 404, 422})
#: How many values a field may take by itself, so that it is no moment and no number that counts on.
_MOST_USUAL = 2
#: Names of fields that say of what kind a row is.
_KIND = re.compile(
    r"(?:.*[_-])?(?:type|kind|status|state|category|level|role|gender|sex|currency|country|language|locale|unit|colou?r|priority"
    r"|mode|phase|stage|grade|severity)(?:_?(?:id|code))?",
    re.I,
)
#: A client for a table by its name, as the role that sees everything; None where the table is not known.
Reach = Callable[[str], Client | None]


def given_once(key: Key) -> bool:
    """Whether a key is one that no server makes twice: a UUID, or as many random signs."""
    return any(isinstance(part, str) and _RANDOM.search(part) is not None for part in key)


def _kinds_of(resource: Resource) -> set[str]:
    """The fields that say of what kind a row is: those of a few values, or with such a name."""
    return {
        each.name for each in resource.fields if {"enum", "const"} & set(each.keywords) or _KIND.fullmatch(each.name)
    }


class Holdings:
    """The rows of a run's, and those of others, by table."""

    def __init__(self, journal: Journal, mark: str, reach: Reach, most: int) -> None:
        """``most`` is how many rows of a list are read."""
        self.journal, self.mark, self.reach, self.most = journal, mark, reach, most
        self.tables: dict[str, Table] = {}
        #: Whether the API was seen to store what it had refused.
        self.refusals_lie = False
        self._knowing: dict[str, asyncio.Lock] = {}
        #: The entries of own rows whose removal was asked for: their keys may be given to new rows at any moment.
        self._leaving: dict[tuple[str, Key], int] = {}
        #: What requests did, for the commands that show it again.
        self.deeds = Deeds()
        self._exchange_of: dict[int, int] = {}

    def take_up(self, book: Book) -> None:
        """Go on from what an earlier process has journaled: its rows have to be seen anew."""
        for name, keys in book.known.items():
            table = self.table(name)
            table.known, table.whole, table.looked_at = keys, name in book.whole, True
            table.key_settled = table.apart = True
        for name, picked in book.picked.items():
            self.table(name).picked |= picked
        given: set[tuple[str, Key]] = set()
        for entry in book.entries.values():
            if entry.kind == "create" and entry.answered is not None:
                again = entry.key is None and (entry.resource, entry.answered) in given
                self.table(entry.resource).reuses_keys |= again
                given.add((entry.resource, entry.answered))
                # what was sent to a row that had this key before says nothing of the one that has it since
                self.table(entry.resource).changes.pop(entry.answered, None)
            self.table(entry.resource).counts_up += entry.counted_up
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

    def know(self, name: str, listing: Listing) -> None:
        """The rows that a table had before the run wrote to it."""
        table = self.table(name)
        table.before, table.known, table.whole = listing, frozenset(listing.by_key), listing.complete
        table.looked_at = True
        client = self.reach(name)
        table.natural = Natural(listing.rows, _kinds_of(client.resource) if client is not None else ())
        table.show(listing.rows)
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
        """Why a table's key cannot be written by; empty if it can. A key that is guessed is tried by reads: of every
        row that is tried; one that is likely to be it, until a row is read by it."""
        client = self.reach(name)
        key = client.resource.key if client is not None else None
        if client is None or key is None:
            return f"its key is not known; 'resources: {{{name}: {{key: FIELD}}}}' in the profile states it"
        if key.reason.certainty == "stated":
            return ""
        fields = {each.name: each for each in client.resource.fields if each.created or each.updated or each.replaced}
        rows = list(table.before.by_key.items())[:_TRIED] if table.before is not None else []
        likely, shown = key.reason.certainty == "likely", 0
        for own, row in rows if "read" in client.resource.operations else ():
            answer = (await client.send("read", key=own, check="ledger", situation="a key that is guessed")).answer
            if likely and answer.status not in _NO_SUCH_ROW:
                return ""
            read = client.row_read(answer) if answer.ok else None
            shown += read is not None and not differences(fields, row, read)
        if (likely and not (rows and "read" in client.resource.operations)) or (rows and shown == len(rows)):
            return ""
        names = ", ".join(key.fields)
        line = f"resources: {{{name}: {{key: [{names}]}}}}"
        if likely:
            return (
                f"its rows are not found by {names}, which is likely to be its key; '{line}' in the profile states it"
            )
        return f"its key is only guessed to be {names}; '{line}' in the profile states it"

    def saw(self, name: str, rows: Iterable[tuple[Key | None, Row]]) -> None:
        """Take note of rows that an answer has shown: a row of the run's is proved by what it shows."""
        table = self.tables.get(name)
        if table is None:
            return
        rows = list(rows)
        table.strangers |= {key for key, _ in rows if key is not None} - table.known - table.ever
        if not table.unproved:
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
                    table.show([row])
                    self._learn_usual(table, client.resource, row, self.sent_to(entry, key))
                    self.journal.tell(number, proved=True, stamps=stamps(client.resource, entry.record, row) or None)
                elif sure:
                    table.strange.add(key)

    def _learn_usual(self, table: Table, resource: Resource, row: Row, sent: Sequence[Mapping[str, Any]]) -> None:
        """Note what an own row that bears the run's mark holds where nothing, or what stands for it, was sent."""
        if not self.bears(resource)(row, None):
            return
        for name, value in row.items():
            known = table.usual.setdefault(name, [])
            unset = all(is_nothing(record.get(name)) for record in sent)
            if len(known) <= _MOST_USUAL and value not in known and unset:
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
        if table.whole and entry.fresh and entry.shown and entry.shown.items() <= row.items():
            return True  # the very row that the answer showed, and that was not there just before
        return shows(client.resource, records, row, bears, table.whole, entry.shown, usual)

    def is_own(self, name: str, key: Key) -> bool:
        """Whether a row is the run's, and was shown to be."""
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

    def _bears_mark(self, name: str, key: Key) -> bool:
        """Whether a key is the run's own choice: by its mark, or by a row of the run's that it refers to."""
        client = self.reach(name)
        if client is None or client.resource.key is None:
            return any(isinstance(part, str) and has_mark(part, self.mark) for part in key)
        return self.bears(client.resource)(dict(zip(client.resource.key.fields, key, strict=False)), ())

    def shown(self, name: str, record: Mapping[str, Any]) -> Mapping[str, Any]:
        """What rows of a table are shown with of a record: not its password."""
        names, client = self.table(name).shown, self.reach(name)
        if not names and client is not None:
            names = {each.name for each in client.resource.fields if each.shown}
        return {each: value for each, value in record.items() if each in names}

    def marks(self, name: str, record: Mapping[str, Any]) -> bool:
        """Whether a record bears the run's mark where rows show it."""
        return marked(self.shown(name, record), self.mark)

    def bears(self, resource: Resource) -> Bears:
        """Tells of a row whether it bears the run's mark, or, where no record that was sent for it does, refers to one
        of the run's rows."""

        def told(row: Mapping[str, Any], records: Sequence[Mapping[str, Any]] | None) -> bool:
            if marked(row, self.mark) or self._own_choice(resource, row):
                return True
            if records is None:
                return False
            refers = any(self._surely_own(each.resource, row.get(each.field)) for each in resource.relations)
            return refers and not any(self.marks(resource.name, record) for record in records)

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

    async def row(self, name: str, key: Key) -> Row | None:
        """The row with a key as it is now, by its key or else in the list; None where neither shows it."""
        client = self.reach(name)
        if client is None:
            return None
        operations = client.resource.operations
        if "read" in operations:
            answer = (await client.send("read", key=key, check="ledger", situation="whose row it is")).answer
            row = client.row_read(answer) if answer.ok else None
            if row is not None and client.key_of(row) in (None, key):
                self.saw(name, [(key, row)])
                return row
            if client.absent(answer):
                return None
        if "list" not in operations:
            raise Unsafe(f"whether {name} has a row {key_text(key)} cannot be determined")
        listing = await client.whole_list(self.most, "ledger")
        self.saw(name, listing.by_key.items())
        if key not in listing.by_key and not listing.complete:
            raise Unsafe(f"whether {name} has a row {key_text(key)} cannot be determined")
        return listing.by_key.get(key)

    def answered(self, number: int, key: Key) -> None:
        """An entry's row has this key, as the API says: it is the run's only once reading it shows it."""
        entry = self.journal.entry(number)
        if entry is None:
            return
        table = self.table(entry.resource)
        if key in table.known and key not in table.ever:
            self.journal.tell(number, disputed=key)
            return  # somebody else's, whatever the API says
        self.journal.tell(number, answered=key)
        made = self.deeds.made.setdefault(self._exchange_of.get(number, 0), [])
        if (entry.resource, key) not in made and entry.kind == "create":
            made.append((entry.resource, key))
        self._given(entry, key)

    def _given(self, entry: Entry, key: Key) -> None:
        table = self.table(entry.resource)
        if table.counts_up < _SURELY and self._is_above_all(table, entry, key):
            table.counts_up += 1
            self.journal.tell(entry.number, counted_up=True)
        table.reuses_keys |= table.left.pop(key, None) is not None and entry.key is None
        if key in table.own and table.own[key] != entry.number and entry.answered is None and entry.key == key:
            return  # a second intent for one key: the row is still the first one's
        table.own[key] = entry.number
        table.ever.add(key)
        table.unproved.add(key)
        table.doubtful.discard(key)

    @staticmethod
    def _is_above_all(table: Table, entry: Entry, key: Key) -> bool:
        """Whether a new row's key is above one that was the largest, and whose row was seen to be gone before the new
        one was asked for."""
        new = as_number(key[-1])
        if new is None:
            return False
        gone = [as_number(each[-1]) for each, last in table.left.items() if last < entry.number]
        largest = max((each for each in gone if each is not None), default=None)
        if largest is None or new <= largest:
            return False
        here = (as_number(each[-1]) for each in (*table.known, *table.own))
        return all(each is None or each < largest for each in here)

    def never_again(self, name: str, key: Key) -> bool:
        """Whether the key of a row of the run's that is gone is given to no other row."""
        table = self.table(name)
        if self._bears_mark(name, key):
            return True
        return not table.reuses_keys and (table.counts_up >= _SURELY or given_once(key))

    def found(self, number: int, key: Key, row: Row) -> None:
        """The list shows an entry's row under this key, with the run's mark."""
        self.answered(number, key)
        entry = self.journal.entry(number)
        if entry is not None:
            self.refusals_lie = self.refusals_lie or (entry.sure and entry.status >= 400)
            # where failures store rows, no answer gives their keys
            self.table(entry.resource).unanswered |= entry.status >= 500
            self.saw(entry.resource, [(key, row)])

    def moved(self, number: int, answered: Key, key: Key, row: Row) -> None:
        """The list shows an entry's row under another key than was answered."""
        entry = self.journal.entry(number)
        if entry is not None:
            table = self.table(entry.resource)
            table.own.pop(answered, None)
            table.unproved.discard(answered)
        self.found(number, key, row)

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
        table.held.discard(key)
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
