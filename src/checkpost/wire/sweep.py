"""Removing the rows that a run has made: at its end, or later from its journal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

from checkpost.wire.client import Client, Unsafe
from checkpost.wire.journal import Entry
from checkpost.wire.listing import Key
from checkpost.wire.strays import likeness, match

_PASSES = 2


async def sweep(
    clients: Mapping[str, Client],
    entries: Sequence[Entry],
    known: Mapping[str, Iterable[Key]],
    mark: str,
    most: int,
    gone: Callable[[Entry], None],
) -> list[Entry]:
    """Remove rows, the last made first; those that are left.

    ``known`` holds the keys that each resource had before the run: such a row is never touched. A row is
    removed if the API confirmed that the run made it, or else if it bears the run's mark or agrees with the
    record. ``gone`` is told of every entry that needs no more.
    """
    before = {name: frozenset(keys) for name, keys in known.items()}
    waiting = await _with_keys(clients, entries, before, mark, most, gone)
    for _ in range(_PASSES):
        # a parent can go only when its children have gone
        waiting = [entry for entry in waiting if not await _remove(clients, entry, before, mark, gone)]
    return waiting


async def _with_keys(
    clients: Mapping[str, Client],
    entries: Sequence[Entry],
    before: Mapping[str, frozenset[Key]],
    mark: str,
    most: int,
    gone: Callable[[Entry], None],
) -> list[Entry]:
    """The entries with the keys that a look at the lists gives those without; the last made first."""
    keyed = [entry for entry in entries if entry.key is not None]
    for name in dict.fromkeys(entry.resource for entry in entries if entry.key is None):
        lost = [entry for entry in entries if entry.key is None and entry.resource == name]
        client = clients.get(name)
        if client is None or "list" not in client.resource.operations:
            keyed += lost
            continue
        listing = await client.whole_list(most)
        taken = set(before.get(name, ())) | {each.key for each in keyed if each.resource == name and each.key}
        found = {entry.number: key for entry, key in match(client.resource, lost, listing, taken, mark)}
        for entry in lost:
            if entry.number in found:
                keyed.append(replace(entry, key=found[entry.number], confirmed=True))
            elif listing.complete:
                gone(entry)
            else:
                keyed.append(entry)
    return sorted(keyed, key=lambda entry: -entry.number)


async def _remove(
    clients: Mapping[str, Client],
    entry: Entry,
    before: Mapping[str, frozenset[Key]],
    mark: str,
    gone: Callable[[Entry], None],
) -> bool:
    """Remove one row; whether nothing of it is left."""
    client = clients.get(entry.resource)
    if client is None or entry.key is None or "delete" not in client.resource.operations:
        return False
    if entry.key in before.get(entry.resource, ()):
        gone(entry)
        return True
    if not entry.confirmed and "read" in client.resource.operations:
        answer = (await client.send("read", key=entry.key, check="sweep")).answer
        row = client.row_in(answer) if answer.ok else None
        # a key that was refused may be none at all
        never_made = client.absent(answer) or answer.status in {400, 422}
        if never_made or (row is not None and not likeness(client.resource, entry.record or {}, row, mark)):
            gone(entry)
            return True
    try:
        exchange = await client.send("delete", key=entry.key, check="sweep", situation="removing a row")
    except Unsafe:
        return False
    if exchange.answer.status in {404, 410} or (exchange.answer.ok and await _row(client, entry.key) is None):
        gone(entry)
        return True
    return False


async def _row(client: Client, key: Key) -> dict[str, object] | None:
    if "read" not in client.resource.operations:
        return None
    exchange = await client.send("read", key=key, check="sweep")
    row = client.row_in(exchange.answer) if exchange.answer.ok else None
    return row if row is not None and client.key_of(row) in (None, key) else None
