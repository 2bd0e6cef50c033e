"""Removing the rows that a check has made."""

from __future__ import annotations

from typing import TYPE_CHECKING

from checkpost.checks.together import all_of
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key

if TYPE_CHECKING:
    from checkpost.checks.case import Case


async def clean(case: Case) -> None:
    """Remove every row that this check has made, as far as that is told; the end of the run looks for the rest."""
    ledger = case.world.ledger
    if ledger is None or not case.made:
        return
    table = ledger.table(case.resource.name)
    mine = set(case.made)
    keys = [key for key, number in table.own.items() if number in mine]
    case.made.clear()
    await all_of(remove(case, key) for key in reversed(keys))


async def remove(case: Case, key: Key) -> Exchange | None:
    """Remove an own row now; one that stays is looked for at the end. The answer, if it was asked for."""
    if not case.has("delete"):
        return None
    try:
        purges = await _purges(case, key)
        operation = case.resource.purge if purges else case.operation("delete")
        exchange = await case.send("delete", "tidying up", key=key, operation=operation)
        if purges:
            case.ledger.purged(case.resource.name, exchange)
        maker = case.maker_of(key, exchange)
        if maker is not None:
            exchange = await case.send("delete", "tidying up", maker, key=key)
            case.ledger.table(case.resource.name).apart |= exchange.answer.ok
    except Unsafe:
        return None  # the end of the run looks for it again, and tells if it stays
    if (exchange.answer.ok and not case.is_open(exchange)) or exchange.answer.status in {404, 410}:
        forget(case, key)
    return exchange


async def _purges(case: Case, key: Key) -> bool:
    """Whether rows are removed by the path that removes for good what was deleted: where such are kept, and it was
    seen to remove an own row that was not deleted, and no other row. The first one asked for is tried so."""
    table = case.ledger.table(case.resource.name)
    if case.resource.purge is None or not case.state.kept or not case.has("list"):
        return False
    async with case.state.purging:
        if table.purges is None:
            before = await case.listing()
            exchange = await case.send("delete", "tidying up", key=key, operation=case.resource.purge)
            after = await case.listing()
            lost = {each for each in before.by_key.keys() - after.by_key.keys() if case.was_there(each)}
            whole = before.complete and after.complete and key in before.by_key
            table.purges = exchange.answer.ok and whole and key not in after.by_key and not lost
            if table.purges:
                case.ledger.purged(case.resource.name, exchange)
    return table.purges


def forget(case: Case, key: Key) -> None:
    """Note that an own row is gone."""
    _release(case, key)
    case.ledger.gone(case.resource.name, key)
    case.state.used.discard(key)


def _release(case: Case, key: Key) -> None:
    """Let others refer to the rows that one alone may refer to, and that goes."""
    referring = [each for each in case.resource.fields if case.resource.relation(each.name)]
    number = case.ledger.table(case.resource.name).own.get(key) if referring else None
    entry = case.ledger.journal.entry(number) if number is not None else None
    record = entry.record if entry is not None else {}
    for each in referring:
        value = record.get(each.name)
        if each.unique:
            case.state.values_taken(each).discard(value)
        elif isinstance(value, str | int):
            case.state.released.setdefault(each.name, set()).add(value)


def again(case: Case, key: Key) -> None:
    """Note that a row is there under the key of one that was gone."""
    case.ledger.back(case.resource.name, key)
    number = case.ledger.table(case.resource.name).own.get(key)
    case.made += [number] if number is not None else []
