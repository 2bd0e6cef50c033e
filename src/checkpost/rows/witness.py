"""What there is in a table now, as far as it can be looked at, and which of its rows are the run's."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from checkpost.errors import NotCompleted
from checkpost.model.query import Compare, Operator
from checkpost.model.resource import Resource
from checkpost.model.spelling import Filtering, Inexpressible
from checkpost.rows.holdings import given_once
from checkpost.rows.journal import FAILED, Entry
from checkpost.rows.ledger import Ledger
from checkpost.rows.resemblance import HEAD, Bears, likeness, marked, may_be
from checkpost.rows.table import Table, as_number
from checkpost.wire.client import Client
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Answer
from checkpost.wire.listing import Asked, Key, Listing, Row

#: How many rows of a list are read to find the run's own.
MOST_LOOKED_THROUGH = 100_000
#: How many keys are tried that a whole list does not have.
_SAMPLES = 3
#: How many rows a filter is given to show that it works.
_FEW = 200
#: How many keys are read that creates may have been given.
_MOST_BETWEEN = 2_000
#: From how many requests on a list is not read again for rows that were removed.
_LONG_LIST = 20
#: From which status on an API says that it failed itself (RFC 9110, 15.6).
_FAILS = 500
#: How keys that are none are refused.
_MALFORMED = {400, 422}
_FAILS_WITH_THE_LIST = "reading it fails, and so does the list: it may be the row of a create that gave no key"
_NEVER_SEEN = "neither its key nor its list has shown it, or any other row of this run"
_OTHER_VALUES = "a create was answered with its key, but it shows other values than were sent"
_HAD_BEFORE = "a create was answered with its key, and it is as was sent, but the list had such a key before the run"
_MADE_ANEW = "a row of this run with its key was removed, and then a change of it was answered with success"
_MADE_BESIDE = "it was not there before the run, and changes in its table were seen to make rows of their own"
_PARTS: tuple[Operator, ...] = ("contains", "icontains", "like", "ilike", "match")


@dataclass
class Look:
    """What was seen of a table: ``own`` rows by key, ``like`` those that may be the run's though nothing proves it,
    each with why; ``untold`` are entries whose fate nothing could show. ``whole`` says that the list was read whole,
    ``failing`` that the API failed to answer it, ``short`` how many rows it lacks of those that it says there are,
    ``hidden`` which rows it does not show though they are there, ``pages`` how many requests it took."""

    rows: dict[Key, Row] = field(default_factory=dict)
    whole: bool = False
    failing: bool = False
    short: int = 0
    hidden: set[Key] = field(default_factory=set)
    pages: int = 0
    own: dict[Key, Entry] = field(default_factory=dict)
    like: dict[Key, str] = field(default_factory=dict)
    untold: list[Entry] = field(default_factory=list)
    why: str = ""


async def look(ledger: Ledger, name: str, entries: Sequence[Entry], last: Look | None = None) -> Look:
    """Look at a table whose ``entries`` are open: at the list in whole, else by a filter for the run's mark, and by
    key where the list does not show a row. Whether a whole list hides rows is asked only once, if it does not:
    ``last`` is the look before."""
    client = ledger.reach(name)
    if client is None:
        return Look(untold=list(entries), why="the contract no longer has the table")
    found, table = Look(), ledger.table(name)
    filtered, loose = False, [each for each in entries if each.kind in {"create", "link"} and each.answered is None]
    if "list" in client.resource.operations:
        if table.whole:  # else it was too long before, and is so now
            _take(found, await client.whole_list(ledger.most, "tidying up"))
        else:
            first = await client.send("list", check="tidying up", situation="some rows")
            rows = client.rows_in(first.answer.json) if first.answer.ok else None
            found.rows = {key: row for row in rows or () if (key := client.key_of(row)) is not None}
            found.failing = first.answer.status >= 500
            found.why = f"it answers {first.answer.status}" if rows is None else "it was not read whole"
        table.show(found.rows.values())
        if not found.whole:
            filtered = await _by_mark(client, ledger, entries, found.rows)
        if not found.whole and loose and not (filtered and all(ledger.marks(name, each.record) for each in loose)):
            _take(found, await client.whole_list(MOST_LOOKED_THROUGH, "tidying up"))
            table.show(found.rows.values())
    unclear = await _by_key(client, table, entries, found, last)
    made = [each for each in loose if not each.sure or each.status < 400]
    if (not found.whole and loose and not filtered) or (found.short and made):
        await _between_keys(client, table, entries, found, len(loose))
    for each in ledger.journal.entries(name):
        if each.held is not None and each.named is not None:
            found.rows.pop(each.named, None)  # it stays on purpose
    _claim(ledger, client, table, entries, found)
    found.own |= {key: each for each in entries if (key := each.answered) in unclear and _made_unshown(each, entries)}
    found.own |= await _never_shown(client, table, entries, unclear)
    if not found.whole or found.short:
        found.untold = [each for each in entries if _open(each, ledger, filtered, unclear, found)]
        found.why = found.why or (
            "its list is short of its total" if found.short else "it has no list, and the answer gave no key"
        )
    if found.whole and not found.own and not any(each.proved or each.seen for each in ledger.journal.entries(name)):
        # of a table whose new rows were never seen nothing shows that they would be
        told = {id(each) for each in (*found.own.values(), *found.untold)}
        found.untold += [each for each in entries if id(each) not in told and _never_seen(each, found)]
        found.why = _NEVER_SEEN
    return found


def _never_seen(entry: Entry, found: Look) -> bool:
    """Whether a row was made, as the answer says, or may have been, since there was none, and was never shown."""
    made = 200 <= entry.status < 300 or entry.status == 0
    return entry.kind == "create" and made and not entry.removed and entry.named not in found.like


def _made_unshown(entry: Entry, entries: Sequence[Entry]) -> bool:
    """Whether a row that was seen to be the run's is not shown any more since a change of the run's that failed or was
    refused, the last thing that was done to it, but for removals that were refused: an API may store what it then can
    show neither alone nor in a list."""
    since = [
        each
        for each in entries
        if each.key == entry.answered
        and each.number > entry.number
        and not (each.kind == "remove" and each.sure and each.status >= 400)
    ]
    changed = bool(since) and since[-1].kind == "change" and (not since[-1].sure or since[-1].status >= 400)
    return entry.proved and not entry.removed and changed


async def _never_shown(
    client: Client, table: Table, entries: Sequence[Entry], unclear: Collection[Key]
) -> dict[Key, Entry]:
    """The rows that creates were answered with, the run's mark in them, under keys that no row had before, and that the
    API fails to show since, while reading other keys works: it may store what it then can show neither alone nor in a
    list."""
    last = {each.key: each.number for each in entries if each.key is not None}
    made = [
        (key, each)
        for each in entries
        if (key := each.answered) is not None and key in unclear and each.vouched and not each.removed
        if table.whole and key not in table.known and last.get(key, 0) <= each.number
    ]
    keys = {key for key, _ in made}
    others = [key for key in (*table.own, *table.left) if key not in keys][:_SAMPLES]

    works = [
        answer is not None and (answer.ok or client.absent(answer))
        for answer in [await read_row(client, key) for key in others if made]
    ]
    found = {}
    for key, each in made if works and all(works) else ():
        answer = await read_row(client, key)
        if answer is not None and answer.status >= _FAILS:
            found[key] = each
    return found


async def in_parts(read: Callable[[Any], Awaitable[None]], keys: Sequence[Any]) -> None:
    """Read rows side by side, so many at a time."""
    for start in range(0, len(keys), _FEW):
        await asyncio.gather(*map(read, keys[start : start + _FEW]))


async def read_row(client: Client, key: Key) -> Answer | None:
    """The answer to a read by key at the end of a run; None where the row may not be read."""
    try:
        exchange = await client.send("read", key=key, check="tidying up", situation="whether a row is there")
    except Unsafe:
        return None
    return exchange.answer


def _take(found: Look, listing: Listing) -> None:
    found.rows |= listing.by_key
    found.pages += len(listing.exchanges)
    found.failing = bool(listing.problem) and listing.exchanges[-1].answer.status >= 500
    found.short = min(_MOST_BETWEEN, max(0, (listing.total or 0) - len(listing.rows)))
    found.whole = listing.complete and not listing.problem and len(listing.by_key) == len(listing.rows)
    found.why = listing.problem or listing.partial or ("" if found.whole else "its rows have no keys of their own")


def _open(entry: Entry, ledger: Ledger, filtered: bool, unclear: Collection[Key], found: Look) -> bool:
    """Whether an entry's fate stays unknown where the list is not read whole."""
    if entry.kind in {"remove", "link"}:
        return False
    if entry.answered is not None:
        return entry.answered in unclear
    if any(each is entry for each in found.own.values()) or (filtered and ledger.marks(entry.resource, entry.record)):
        return False
    if entry.key is not None and entry.key not in unclear and entry.kind == "create":
        return False  # reading it by the key that it chose shows none
    refused = entry.sure and entry.status >= 400 and not ledger.refusals_lie
    return not refused and entry.kind == "create"


async def look_again(ledger: Ledger, name: str, last: Look) -> Look | None:
    """The last look, without the rows that are gone since: by their keys, where the list is long; else None."""
    client = ledger.reach(name)
    if client is None or "read" not in client.resource.operations or len(last.own) >= last.pages or last.hidden:
        return None
    if last.pages < _LONG_LIST:
        return None
    found = replace(last, rows=dict(last.rows), own={})
    answers: dict[Key, Answer | None] = {}

    async def read(key: Key) -> None:
        answers[key] = await read_row(client, key)

    await in_parts(read, list(last.own))
    for key, entry in last.own.items():
        answer = answers[key]
        if answer is None:
            return None
        if client.absent(answer):
            found.rows.pop(key)
            continue
        row = client.row_read(answer) if answer.ok else None
        if row is None:
            return None
        if ledger.shows(entry, key, row):
            found.own[key] = entry
    return found


async def look_as(client: Client, ledger: Ledger, entries: Sequence[Entry], found: Look) -> None:
    """Add the rows that a role made and that are shown to it alone: the one that looks may see no rows of others."""
    claimed = {id(each) for each in found.own.values()}
    makers = [each for each in entries if each.kind == "create"]
    makers = [each for each in makers if not each.sure or each.status < 400 or ledger.refusals_lie]
    open_still = [each for each in makers if not each.removed and id(each) not in claimed]
    if not open_still and not ledger.table(client.resource.name).apart:
        return
    rows: dict[Key, Row] = {}
    try:
        if "list" in client.resource.operations:
            rows |= (await client.whole_list(ledger.most, "tidying up")).by_key
        for key in [each.named for each in open_still] if "read" in client.resource.operations else ():
            answer = await read_row(client, key) if key is not None and key not in rows else None
            row = client.row_read(answer) if answer is not None and answer.ok else None
            if key is not None and row is not None and client.key_of(row) in (None, key):
                rows[key] = row
    except NotCompleted:
        return  # the role cannot log in any more
    bears = ledger.bears(client.resource)
    for key in rows.keys() - found.rows.keys():
        answered = next((each for each in open_still if each.named == key and ledger.shows(each, key, rows[key])), None)
        maker = answered or _maker(makers, client.resource, rows[key], bears)
        if maker is not None:
            found.own[key], found.rows[key] = maker, rows[key]
            found.hidden.add(key)
    told = {id(each) for each in found.own.values()}
    found.untold = [each for each in found.untold if id(each) not in told]


async def _by_key(client: Client, table: Table, entries: Sequence[Entry], found: Look, last: Look | None) -> set[Key]:
    """Read the rows that the list does not show; the keys of those of which nothing can be told."""
    named = {each.named: each for each in entries if each.named is not None and each.named not in found.rows}
    named = {key: each for key, each in named.items() if key not in table.known or key in table.ever}
    if "read" not in client.resource.operations:
        return set() if found.whole else {key for key in named if key is not None}
    told = [key for key, each in named.items() if each.answered is not None and not each.removed]
    told += [key for key in (last.own if last is not None else ()) if key not in found.rows and key not in told]
    # a list that was read whole vouches for rows that were removed or refused, unless it hides such rows: a few tell
    vouched = [key for key in named if key not in told]
    samples, rest = vouched[-_SAMPLES:], vouched[:-_SAMPLES]
    if found.whole and last is not None and not last.hidden:
        samples, rest = [], []
    unclear: set[Key] = set()

    async def read(key: Key | None) -> None:
        if key is None:
            return
        answer = await read_row(client, key)
        if answer is None:
            unclear.add(key)
            return
        row = client.row_read(answer) if answer.ok else None
        if row is not None and client.key_of(row) in (None, key):
            found.rows[key] = row
            found.hidden.add(key)
        elif row is None and not client.absent(answer) and (answer.status not in _MALFORMED or named[key].proved):
            unclear.add(key)  # what was shown under a key once is not refused for the key

    await in_parts(read, [*told, *samples])
    if not found.whole or found.hidden:
        await in_parts(read, rest)
    return unclear


async def _between_keys(client: Client, table: Table, entries: Sequence[Entry], found: Look, lost: int) -> None:
    """Read the rows whose keys the API may have given to creates of the run that got no key in their answer: numbers
    behind the largest one that was there before, up to as many behind the last that the run was given as creates are
    ``lost``, or as the list is short of. Only where reading rows of the run's was seen to show them, or the list says
    that it lacks some, and others' keys are numbers too."""
    numbers = [as_number(key[-1]) for key in table.known]
    given = {key for each in entries if (key := each.answered) is not None} | table.ever
    own = [number for key in given if len(key) == 1 and (number := as_number(key[0])) is not None]
    proved = (own and (table.recognised or any(each.proved for each in entries))) or (found.short and numbers)
    if "read" not in client.resource.operations or not proved or None in numbers or client.resource.under:
        return
    others = [number for number in numbers if number is not None]
    first = max([*others, *([min(own) - 1] if own else [])]) + 1
    last = max([*own, *([max(others) + found.short] if others and found.short else [])]) + lost
    gone = {each.named for each in entries if each.removed} | table.left.keys()
    answered = [key for each in entries if (key := each.answered) is not None]
    if len(set(answered)) < len(answered):
        # keys are given again: one that was removed may be that of a create since
        since = max((each.number for each in entries if each.kind == "create" and each.answered is None), default=0)
        gone = {key for key, number in _removals(entries).items() if number > since}
    tried = [(number,) for number in range(first, last + 1)]
    tried = [key for key in tried if key not in found.rows and key not in gone and key not in table.known]
    failing: list[Key] = []

    async def read(key: Key) -> None:
        answer = await read_row(client, key)
        if answer is None:
            return
        row = client.row_read(answer) if answer.ok else None
        if row is not None and client.key_of(row) == key:
            found.rows[key] = row
        if answer.status >= _FAILS:
            failing.append(key)

    await in_parts(read, tried[:_MOST_BETWEEN])
    if len(failing) < len(tried):  # else the API fails whatever is read
        found.like |= dict.fromkeys(failing, _FAILS_WITH_THE_LIST)


def _claim(ledger: Ledger, client: Client, table: Table, entries: Sequence[Entry], found: Look) -> None:
    """Tell the run's rows among those that were seen."""
    resource, bears = client.resource, ledger.bears(client.resource)
    foreign = table.known - table.ever
    removals, answered = _removals(entries), _removals([each for each in entries if each.sure])
    for entry in entries:
        key = entry.answered
        if key is None or key in foreign or key not in found.rows:
            continue
        row = found.rows[key]
        records, alike = ledger.sent_to(entry, key), ledger.shows(entry, key, row)
        removed_since = removals.get(key, 0) > entry.number
        same = any(row.get(name) == value for name, value in (entry.stamps or {}).items()) or bears(row, records)
        same = same or ledger.never_again(resource.name, key)
        if bears(row, None) or (alike and (same or not removed_since)):
            found.own[key] = entry
        elif alike:
            found.like[key] = "it is like a row that was removed since, and does not bear the run's mark"
        elif table.whole and answered.get(key, 0) <= entry.number:
            found.like[key] = _OTHER_VALUES  # or its removal, which was on its way, was not carried out
    made_anew(table, entries, removals, found)
    makers = [each for each in entries if each.kind != "remove"]
    texts: dict[str, list[Entry]] = {}
    for entry in makers:
        for value in entry.record.values():
            if isinstance(value, str):
                texts.setdefault(value, []).append(entry)
    for key, row in found.rows.items():
        if key in found.own or not bears(row, ()):
            continue
        near = [entry for value in row.values() if isinstance(value, str) for entry in texts.get(value, ())]
        maker = _maker(near, resource, row, bears) or _maker(makers, resource, row, bears)
        if key in foreign:
            found.like[key] = "somebody else's row had its key before the run, and now it bears the run's mark"
        elif maker is None:
            what = "bears the run's mark" if marked(row, ledger.mark) else "refers to a row of the run's"
            found.like[key] = f"it {what}, but no record that was sent is like it"
        else:
            found.like.pop(key, None)
            found.own[key] = maker
    ledger.refusals_lie |= any(
        each.kind == "create" and each.sure and each.status >= 400 for each in found.own.values()
    )
    claimed = {id(each) for each in found.own.values()}
    for entry in entries:  # the create that named a key made another row: this one is somebody else's
        if entry.answered is not None and id(entry) in claimed and found.like.get(entry.answered) == _OTHER_VALUES:
            found.like.pop(entry.answered)
    for entry in entries:  # what the list showed before the run may have been old
        key = entry.disputed
        if key is not None and key in found.rows and ledger.shows(entry, key, found.rows[key]):
            found.like.setdefault(key, _HAD_BEFORE)
    _suspect(ledger, client, table, makers, found)


def made_anew(table: Table, entries: Sequence[Entry], removals: Mapping[Key, int], found: Look) -> None:
    """Claim the rows that changes have made, under keys of the run's own whose rows were gone: it is the run's where no
    server would give the key again, and may be where one would."""
    for entry in entries:
        key = entry.key
        if entry.kind != "change" or key is None or key not in table.ever or key not in found.rows or key in found.own:
            continue
        gone = removals.get(key, table.left.get(key, 0))
        refused = entry.sure and entry.status >= 400
        if not gone or gone > entry.number or refused:
            continue
        if given_once(key):
            found.own[key] = entry
        elif entry.sure:
            found.like.setdefault(key, _MADE_ANEW)


def _suspect(ledger: Ledger, client: Client, table: Table, makers: Sequence[Entry], found: Look) -> None:
    """Name the rows without the run's mark that are as records that were sent, and that nobody has claimed: requests
    may have been carried out though they were refused or lost, or twice."""
    known = table.known - table.ever
    free = [key for key in found.rows if key not in known and key not in found.own and key not in found.like]
    if not free:
        return
    if table.whole and any(each.kind == "change" and each.answered is not None for each in makers):
        found.like |= dict.fromkeys(free, _MADE_BESIDE)
    # a change whose fate is not known may have made a row of its own as well
    making = [each for each in makers if each.kind != "change" or not each.sure]
    plain = [each for each in making if not ledger.marks(each.resource, each.record)]
    if not table.whole:  # a row like one that the API told may as well be an old one
        plain = [each for each in plain if each.answered is None and _may_have_made(each, ledger)]
    empty = [each for each in plain if not any(value is not None for value in each.record.values())]
    by_value: dict[tuple[str, Any], list[Entry]] = {}
    for entry in plain:
        for pair in entry.record.items():
            if isinstance(pair[1], str | int | float) and not isinstance(pair[1], bool):
                by_value.setdefault(pair, []).append(entry)
    by_head: dict[str, list[Entry]] = {}
    for entry in makers if table.whole else plain:  # an API that cuts texts may have cut the mark off
        for value in entry.record.values() if entry.kind == "create" else ():
            if isinstance(value, str) and len(value) > HEAD:
                by_head.setdefault(value[:HEAD], []).append(entry)
    claimed = {id(each) for each in found.own.values()}
    creates = [each for each in makers if each.kind == "create" and each.named is None and id(each) not in claimed]
    # of a create whose answer is not known nothing is named where its row would bear the mark that it was sent with
    keeps = _keeps_marks(ledger, client.resource.name, found)
    vague = [
        each
        for each in creates
        if not each.sure and (each.unread or not (keeps and ledger.marks(each.resource, each.record)))
    ]
    lost = [*(each for each in creates if each.sure and 200 <= each.status < 300), *vague]
    for key in free if lost and table.whole and found.whole else ():
        found.like[key] = "it was not there before the run, and a row that a create was to make is nowhere to be found"
    for key in free:
        row = found.rows[key]
        if key in found.like:
            continue
        shared = [by_value[pair] for pair in row.items() if isinstance(pair[1], str | int | float) and pair in by_value]
        shared += [by_head.get(each[:HEAD], []) for each in row.values() if isinstance(each, str) and len(each) >= HEAD]
        near = {each.number: each for same in shared for each in same}.values()
        unsure = [each for each in empty if table.whole and _may_have_made(each, ledger)]
        if any(may_be(client.resource, each.record, row) for each in (*near, *unsure)):
            found.like[key] = "it is as a record that was sent, but it does not bear the run's mark"


def _keeps_marks(ledger: Ledger, name: str, found: Look) -> bool:
    """Whether a row of the run's was seen to bear the mark that was sent."""
    if any(marked(found.rows[key], ledger.mark) for key in found.own if key in found.rows):
        return True
    entries = ledger.journal.entries(name)
    return any(each.proved and each.shown is None and ledger.marks(name, each.record) for each in entries)


def _removals(entries: Sequence[Entry]) -> dict[Key, int]:
    """The last removal of each key that was, or may have been, carried out, by the number of its entry."""
    last: dict[Key, int] = {}
    for each in entries:
        # of several rows at once any may be the one that is not there
        absent = each.status in {404, 410} and not each.several
        done = (not each.sure and each.status not in FAILED) or each.status < 300 or absent
        if each.kind == "remove" and each.key is not None and done:
            last[each.key] = each.number
    return last


def _maker(entries: Sequence[Entry], resource: Resource, row: Row, bears: Bears) -> Entry | None:
    return next((each for each in entries if likeness(resource, each.record, row, bears)), None)


def _may_have_made(entry: Entry, ledger: Ledger) -> bool:
    """Whether an entry may have a row that nobody knows of."""
    return not entry.sure or entry.status < 400 or ledger.refusals_lie


async def _by_mark(client: Client, ledger: Ledger, entries: Sequence[Entry], rows: dict[Key, Row]) -> bool:
    """Add the rows that a filter for the mark leaves; whether such a filter works, as a row that is known shows."""
    fields = {each.name: each for each in client.resource.fields}
    mark = ledger.mark
    bearing = [each.record for each in entries if ledger.marks(each.resource, each.record)]
    names = [name for name in fields if bearing and all(mark in str(record.get(name)) for record in bearing)]
    for filtering in client.resource.queries.filterings:
        for name in names:
            for operator in _PARTS:
                if operator not in filtering.operators(name):
                    continue
                control = next((row for row in rows.values() if _telling(row, name)), None)
                if control is None or not await _leaves(client, filtering, name, operator, control):
                    continue
                listing = await client.whole_list(MOST_LOOKED_THROUGH, "tidying up", asked=_asked(
                    client, filtering, name, operator, mark
                ))  # fmt: skip
                if listing.complete and not listing.problem:
                    rows |= listing.by_key
                    return True
    return False


def _telling(row: Mapping[str, object], name: str) -> bool:
    return isinstance(row.get(name), str) and len(str(row[name])) >= 4


def _asked(client: Client, filtering: Filtering, name: str, operator: Operator, text: str) -> Asked:
    value = f"%{text}%" if operator in {"like", "ilike"} else text
    fields = {each.name: each for each in client.resource.fields}
    return Asked(tuple(filtering.pairs(Compare(name, operator, value), fields)))


async def _leaves(client: Client, filtering: Filtering, name: str, operator: Operator, control: Row) -> bool:
    """Whether the filter leaves a row that it has to leave, and not every row."""
    try:
        asked = _asked(client, filtering, name, operator, str(control[name])[1:])
        never = _asked(client, filtering, name, operator, f"{str(control[name])[1:]}-none-such")
    except Inexpressible:
        return False
    none = await client.whole_list(_FEW, "tidying up", asked=never)
    if not none.complete or none.problem or none.rows:
        return False
    kept = await client.whole_list(_FEW, "tidying up", asked=asked)
    return client.key_of(control) in kept.by_key
