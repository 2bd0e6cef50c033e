"""Rows for others to refer to. What writes a row may change those that it refers to: the first rows of a table refer to
rows of the run's own, and so do all others where these are seen to change."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
from collections import defaultdict
from collections.abc import AsyncIterator, Callable, Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from checkpost.checks.registry import Blocked, Skipped
from checkpost.model.field import MISSING, Field
from checkpost.model.relation import Relation
from checkpost.model.resource import Model, Resource
from checkpost.oracle.same import same
from checkpost.rows.table import Table, as_number
from checkpost.wire.door import Unsafe
from checkpost.wire.listing import Key, Row

if TYPE_CHECKING:
    from checkpost.checks.case import Case
    from checkpost.checks.world import State, World

#: The check that makes the first row of a table.
FIRST = "create.stored"
#: How many rows of a table are referred to at the most, and how many are made for it where any will do.
MOST_PARENTS, _USUAL = 50, 2
#: For how many seconds a key is on trial that no row was seen to refer to.
_TRIAL = 10.0
#: How often the making of such a row is tried.
_TRIES = 3


def reached(start: str, onward: Callable[[str], Iterable[str]]) -> set[str]:
    """The tables that one leads to, straight or by others between; itself only where a way leads back."""
    found: set[str] = set()
    waiting = [start]
    while waiting:
        new = set(onward(waiting.pop())) - found
        found |= new
        waiting += new
    return found


def stands_on(model: Model) -> dict[str, frozenset[str]]:
    """For each table, those it refers to in which a row can be made before its own first one. Of tables that refer to
    each other one comes first, that whose rows need not refer to the other's if there is one."""
    straight: dict[str, set[str]] = defaultdict(set)
    edges = [(each, relation) for each in model.resources for relation in each.relations]
    for resource, relation in sorted(edges, key=lambda each: not _required(*each)):
        target = model.resource(relation.resource)
        if target is None or not _made(resource) or not _made(target):
            continue
        if resource.name not in {target.name, *reached(target.name, straight.__getitem__)}:
            straight[resource.name].add(target.name)
    return {name: frozenset(tables) for name, tables in straight.items() if tables}


def _required(resource: Resource, relation: Relation) -> bool:
    field = resource.field(relation.field)
    return field is not None and field.required and not field.nullable


def _made(resource: Resource) -> bool:
    """Whether rows can be made there, and removed again."""
    return {"create", "delete"} <= set(resource.operations)


def _is_open(state: State) -> bool:
    """Whether nothing is known that keeps rows from being made and removed."""
    return not (state.not_creatable or state.not_removable or state.may_not_create)


def touches(world: World, resource: str, target: str) -> bool:
    """Whether what writes rows of one table changes those of another that they refer to. Where it was not seen, what
    others do counts. The rows of a tree may hold what no answer shows: how many are below, or where they stand. And a
    row whose removal was refused may be held by what it refers to."""
    if resource == target:
        return True
    if world.ledger is not None and world.ledger.table(resource).held:
        return True
    pair = resource, target
    return pair in world.touching or (pair not in world.spared and bool(world.touching))


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
        for target in targets:
            await _stand(case, target, others)
        yield
    finally:
        case.above = None
        for other in others:
            await case.let_go(other)
        await case.clean()
        for other in reversed(others):
            await other.clean()
            case.requests += other.requests


async def _stand(case: Case, name: str, others: list[Case]) -> None:
    """Make a row of a table to refer to, and before it those that it has to refer to itself."""
    target = case.world.model.resource(name)
    assert target is not None and case.above is not None
    if not _is_open(case.world.state(name)):
        return
    other = replace(case.other(target), making=(*case.making, case.resource.name), above={})
    for further in sorted(case.world.stands_on.get(name, ())):
        if touches(case.world, name, further):
            await _stand(other, further, others)
    others.append(other)
    for key, row in await _new_rows(other, 1):
        case.above[name] = other, key, row


async def _new_rows(case: Case, count: int) -> list[tuple[Key, Row]]:
    """New rows, read again so that what refers to them is known by that; none where they cannot be made."""
    for _ in range(_TRIES):  # an answer may be lost
        try:
            return [(each.key, (await case.row_now(each.key))[1]) for each in await case.own(count)]
        except Skipped:
            break
        except (Blocked, Unsafe):
            if case.state.not_creatable:
                break
    return []


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


def _as_field(field: Field, key: Any) -> Any:
    """The key of another row as a field that refers to it has it: keys of documents are texts of numbers."""
    number = as_number(key) if field.types == {"integer"} else None
    return key if number is None else number


async def reference(case: Case, each: Field, relation: Relation, unlike: Any = MISSING) -> Any:
    """The key of a row that a field may refer to, other than ``unlike``; where rows are not to share one, of one
    that none refers to."""
    await _try_removal(case)
    before: list[Any] = []
    for turn in range(MOST_PARENTS if each.unique else 1):
        keys = [_as_field(each, key) for key in await parents(case, relation, turn > 0)]
        if keys == before:
            break
        before = keys
        taken = case.taken(each) if each.unique else set()
        others = [key for key in keys if key not in taken and (unlike is MISSING or not same(each, unlike, key))]
        others = others if each.unique else _one_by_one(case, each, others)
        if others:
            value = others[case.values.number() % len(others)]
            taken |= {value} if each.unique else set()
            return value
    return None if each.nullable else MISSING


def _one_by_one(case: Case, each: Field, others: list[Any]) -> list[Any]:
    """Of the keys that a field may hold those with which rows could be removed again, and one more where none is on
    trial: what refers to a row that is locked may be held by it. All, where a pair of several references may have
    to be unique."""
    sent = [one.field for one in case.resource.relations if case.fields[one.field].created]
    proved = case.state.released.get(each.name, set())
    known = [key for key in others if key in proved]
    ledger = case.world.ledger
    if sent != [each.name] or not known or len(known) == len(others) or ledger is None:
        return others
    value, since = case.state.on_trial.get(each.name, (None, 0.0))
    now = asyncio.get_running_loop().time()
    if value is not None and value not in proved:
        rows = [ledger.journal.entry(number) for number in ledger.table(case.resource.name).own.values()]
        if now - since < _TRIAL or any(row is not None and row.record.get(each.name) == value for row in rows):
            return known
    further = next(key for key in others if key not in proved)
    case.state.on_trial[each.name] = further, now
    return [further]


async def _try_removal(case: Case) -> None:
    """Once, before rows of a table refer to those of others: make one that does, and remove it. What it refers to may
    hold it, as what is locked does; later rows refer to the run's own then."""
    state, name = case.state, case.resource.name
    first = case.check.gate or case.above is not None or case.making or case.trying
    if first or state.tried or case.world.ledger is None or not _made(case.resource) or not _is_open(state):
        return
    async with state.trying:
        if state.tried or all(touches(case.world, name, each.resource) for each in case.resource.relations):
            return
        state.tried = True
        trial = replace(case, trying=True, made=[], remarks=[], requests=0)
        with contextlib.suppress(Blocked, Skipped, Unsafe):
            for own in await trial.own():
                await trial.remove(own.key)
        case.requests += trial.requests


async def parents(case: Case, relation: Relation, more: bool = False) -> list[Any]:
    """Keys of rows that a relation may refer to: some that are there, else one made for it. Rows that change those that
    they refer to, and rows that cannot bear the run's mark, refer to its own, where such can be made: by that the
    latter are known again. ``more`` asks for one of these more than there are."""
    world = case.world
    target = world.model.resource(relation.resource)
    if target is None:
        return []
    if target.name in (case.above or ()):
        return [(case.above or {})[target.name][1][-1]]
    state, optional = world.state(target.name), not _required(case.resource, relation)
    known, own = await _others(case, target), touches(world, case.resource.name, target.name)
    if case.above is not None and not case.making:
        later = _made(target) and target.name not in world.stands_on.get(case.resource.name, ())
        if known or (later and optional):
            return [] if later and optional and (case.check.name == FIRST or own) else known
    if target.name in case.making or (target.name == case.resource.name and not own):
        return [] if own and optional else known  # tables that refer to each other cannot both come first
    field = case.resource.field(relation.field)
    bearing = relation == next(iter(case.resource.relations)) and not world.markable(case.resource)
    bearing = bearing and field is not None and not field.unique
    if known and not bearing and not own:
        return known
    wanted = _USUAL if own else 1
    wanted = min(max(wanted, len(_lasting(case, target)) + 1), MOST_PARENTS) if more else wanted
    if _made(target) and world.ledger is not None and not state.no_parent:
        # the whole chain of parents is made by one check at a time: none waits for another that waits for it
        async with contextlib.nullcontext() if case.making else world.making_parents:
            await _make(case, target, wanted)
    made = _lasting(case, target)
    if made and (own or bearing):
        return made if len(made) >= wanted else [*made, *known]
    return known or made


def _lasting(case: Case, target: Resource) -> list[Any]:
    """The keys of rows that were made to be referred to, as far as they are there."""
    ledger = case.world.ledger
    there = {key[-1] for key in ledger.own_keys(target.name)} if ledger is not None else set()
    return [key for key in case.world.state(target.name).parents if key in there]


async def _make(case: Case, target: Resource, wanted: int) -> None:
    """Rows of another table for others to refer to, as many as ``wanted``, if they can be made; they stay until the
    end of the run."""
    state = case.world.state(target.name)
    missing = wanted - len(_lasting(case, target))
    if missing <= 0 or not _is_open(state):
        return
    other = replace(case.other(target), making=(*case.making, case.resource.name))
    made = [key[-1] for key, _ in await _new_rows(other, missing)]
    state.no_parent = not made
    state.writes += bool(made)
    state.parents += made


async def _others(case: Case, target: Resource) -> list[Any]:
    """Keys of rows that were there before the run: those that it makes for other checks may be gone in a moment."""
    world, state = case.world, case.world.state(target.name)
    # a check that is asked again may have referred to rows that others have removed since
    again = case.looked_again is not None and target.name not in case.looked_again
    if (state.before is None or again) and "list" in target.operations:
        if case.looked_again is not None:
            case.looked_again.add(target.name)
        state.before = await world.client(target).whole_list(world.most_rows, case.check.name)
    there: Iterable[Key] = state.before.by_key if state.before else ()
    table = world.ledger.table(target.name) if world.ledger is not None else Table()
    known = list(itertools.islice((key for key in there if key in table.known), MOST_PARENTS))
    others = (key for key in there if key not in table.ever)
    return [key[-1] for key in known or itertools.islice(others, MOST_PARENTS)]
