"""Rows of a check that refer to other rows of the run's, and that are removed before these."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from checkpost.checks.parents import FIRST, is_open, new_rows, parents, touches
from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.removal import clean
from checkpost.checks.together import all_of
from checkpost.model.resource import Resource
from checkpost.wire.door import Unsafe
from checkpost.wire.listing import Row

if TYPE_CHECKING:
    from checkpost.checks.case import Case


@contextlib.asynccontextmanager
async def standing_on_own(case: Case) -> AsyncIterator[None]:
    """Have the records of a check that other checks stand on refer to rows made for that, which are removed behind it:
    those of the first row that a table gets, and those that would change others'."""
    check, name, others = case.check, case.resource.name, list["Case"]()
    targets = sorted(case.world.stands_on.get(name, ())) if check.gate and check.creates else []
    targets = [each for each in targets if check.name == FIRST or touches(case.world, name, each)]
    if not targets and check.name != FIRST:
        yield
        return
    case.above = {}
    try:
        if check.name == FIRST and case.resource.under in targets:
            await _stand_under(case)
        for target in targets:
            if target != case.resource.under:
                await _stand(case, target, others)
        yield
    finally:
        case.above = None
        for other in others:
            await let_go(case, other)
        await clean(case)
        for other in reversed(others):
            await clean(other)
            case.requests += other.requests


async def _stand_under(case: Case) -> None:
    """Make a row for those of a table whose paths stand under another's: what is written there may change it. From now
    on the table is looked at under that row, which stays until the end of the run."""
    world, name = case.world, case.resource.name
    target = world.model.resource(case.resource.under)
    assert target is not None
    async with world.making_parents:
        if world.ledger is None or not is_open(world.state(target.name)):
            return
        if world.above.get(name) in world.ledger.own_keys(target.name):
            return  # the check is asked again: what it made before may be under that row
        other = replace(case.other(target), making=(*case.making, name))
        rows = await new_rows(other, 1)
        case.requests += other.requests
    for key, _ in rows:
        world.above[name] = key
        world.ledger.journal.above(name, key)
        case.client = world.client(case.resource)
        world.state(name).before = listing = await case.listing()
        world.ledger.know(name, listing)


async def _stand(case: Case, name: str, others: list[Case]) -> None:
    """Make a row of a table to refer to, and before it those that it has to refer to itself."""
    target = case.world.model.resource(name)
    assert target is not None and case.above is not None
    if not is_open(case.world.state(name)):
        return
    other = replace(case.other(target), making=(*case.making, case.resource.name), above={})
    for further in sorted(case.world.stands_on.get(name, ())):
        if touches(case.world, name, further):
            await _stand(other, further, others)
    others.append(other)
    for key, row in await new_rows(other, 1):
        case.above[name] = other, key, row


async def see_touched(case: Case) -> None:
    """Learn whether a row that was made has changed those that it refers to."""
    for name, (other, key, before) in (case.above or {}).items():
        try:
            changed = _changed(before, (await other.row_now(key))[1])
        except Blocked:
            changed = True
        (case.world.touching if changed else case.world.spared).add((case.resource.name, name))


def _changed(before: Row, now: Row) -> bool:
    """Whether a row has other plain values: what refers to it may be shown in it."""
    names = before.keys() | now.keys()
    pairs = [(before.get(name), now.get(name)) for name in names]
    plain = [pair for pair in pairs if not any(isinstance(value, list | dict) for value in pair)]
    return any(one != other for one, other in plain)


@contextlib.asynccontextmanager
async def beside(case: Case, resource: Resource) -> AsyncIterator[Case]:
    """The same check with another resource whose rows may refer to this one's; both are tidied up behind it."""
    other = case.other(resource)
    try:
        yield other
    finally:
        await let_go(other, case)
        await clean(other)  # those that refer first
        await clean(case)
        case.requests += other.requests


async def let_go(case: Case, other: Case) -> None:
    """Have the rows that this check has made refer to nothing, or to rows that stay for longer, in place of those
    that it has made in another table: where rows that are deleted are kept, they would keep what they
    refer to from being removed."""
    relations = [each for each in case.resource.relations if each.resource == other.resource.name]
    fields = [each for each in relations if case.fields[each.field].updated and case.has("update")]
    ledger = case.world.ledger
    if not fields or not case.made or not other.made or ledger is None or not case.world.markable(case.resource):
        return  # where a row can bear no mark, what it refers to may be what proves that it is the run's
    mine, theirs = set(case.made), set(other.made)
    going = {key for key, number in ledger.table(other.resource.name).own.items() if number in theirs}
    change: dict[str, Any] = {}
    for relation in fields:
        there = [value for value in await parents(case, relation) if (value,) not in going]
        if case.fields[relation.field].nullable or there:
            change[relation.field] = None if case.fields[relation.field].nullable else there[0]
    keys = [key for key, number in ledger.table(case.resource.name).own.items() if number in mine] if change else []
    with contextlib.suppress(Unsafe, Blocked, Skipped):
        await all_of(case.send("update", "tidying up", key=key, record=change) for key in keys)
