"""Rows for others to refer to. What writes a row may change those that it refers to: the first rows of a table refer to
rows of the run's own, and so do all others where these are seen to change."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.removal import remove
from checkpost.model.field import MISSING, Field, Reason
from checkpost.model.fields import field_of
from checkpost.model.hyperlink import Hyperlink, address_at, holds_address
from checkpost.model.paths import normal
from checkpost.model.precedence import is_made, is_required
from checkpost.model.relation import Relation
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.oracle.same import same
from checkpost.rows.table import Table, as_number
from checkpost.wire.door import Unsafe
from checkpost.wire.listing import Key, Row

if TYPE_CHECKING:
    from checkpost.checks.case import Case
    from checkpost.checks.state import State
from checkpost.checks.world import World

#: The check that makes the first row of a table.
FIRST = "create.stored"
#: How many rows of a table are referred to at the most, and how many are made for it where any will do.
MOST_PARENTS, _USUAL = 50, 2
#: For how many seconds a key is on trial that no row was seen to refer to.
_TRIAL = 10.0
#: How often the making of such a row is tried.
_TRIES = 3


def is_open(state: State) -> bool:
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


async def new_rows(case: Case, count: int) -> list[tuple[Key, Row]]:
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
        taken = case.state.values_taken(each) if each.unique else set()
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
    if first or state.tried or case.world.ledger is None or not is_made(case.resource) or not is_open(state):
        return
    async with state.trying:
        if state.tried or all(touches(case.world, name, each.resource) for each in case.resource.relations):
            return
        state.tried = True
        trial = replace(case, trying=True, made=[], remarks=[], requests=0)
        with contextlib.suppress(Blocked, Skipped, Unsafe):
            for own in await trial.own():
                await remove(trial, own.key)
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
    state, optional = world.state(target.name), not is_required(case.resource, relation)
    known, own = await _others(case, target), touches(world, case.resource.name, target.name)
    if world.ledger is not None:
        # where each row refers to another one, an API may know it by that: nobody else's refers to the run's own
        natural = world.ledger.table(case.resource.name).natural
        own = own or natural.tells_apart([relation.field])
        known = [key for key in known if not natural.taken_for({relation.field: key})]
    if case.above is not None and not case.making:
        later = is_made(target) and target.name not in world.stands_on.get(case.resource.name, ())
        if known or (later and optional):
            return [] if later and optional and (case.check.name == FIRST or own) else known
    if target.name in case.making or (target.name == case.resource.name and not own):
        return [] if own and optional else known  # tables that refer to each other cannot both come first
    field = case.resource.field(relation.field)
    bearing = relation == next(iter(case.resource.relations), None) and not world.markable(case.resource)
    bearing = bearing and field is not None and not field.unique
    if known and not bearing and not own:
        return known
    wanted = _USUAL if own else 1
    wanted = min(max(wanted, len(_lasting(case, target)) + 1), MOST_PARENTS) if more else wanted
    if is_made(target) and world.ledger is not None and not state.no_parent:
        # the whole chain of parents is made by one check at a time: none waits for another that waits for it
        async with contextlib.nullcontext() if case.making else world.making_parents:
            await _make(case, target, wanted)
    made = _lasting(case, target)
    if made and (own or bearing):
        return made if len(made) >= wanted else [*made, *known]
    return known or made


async def one_of_many(case: Case, each: Field) -> list[Any]:
    """A list of one reference, for a field of several that is named as the rows of a table are; empty where no such
    row is known, nor can be made."""
    name, item, resources = normal(each.name), shape_of(each.node).item, case.world.model.resources
    target = next((one for one in resources if name in {normal(one.name), normal(one.name.rpartition("/")[2])}), None)
    names = target.key.fields if target is not None and target.key is not None else ()
    if target is None or item is None or len(names) != 1:
        return []
    keys = await parents(
        case, Relation(each.name, target.name, names[0], Reason("it is named as its rows are", "guess"))
    )
    key = target.field(names[0])
    if keys and target.item is not None and key is not None and holds_address(field_of(each.name, item)):
        return [Hyperlink(address_at(target.item), key.types <= {"integer", "number"}).of(keys[0])]
    return keys[:1]


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
    if missing <= 0 or not is_open(state):
        return
    other = replace(case.other(target), making=(*case.making, case.resource.name))
    made = [key[-1] for key, _ in await new_rows(other, missing)]
    state.no_parent = not made and not state.parents
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
