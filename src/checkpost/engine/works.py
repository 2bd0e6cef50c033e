"""A plan as works: which tables each check touches and how, and which checks come before it."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from functools import partial

from checkpost.checks.order import builds_on
from checkpost.checks.parents import FIRST, touches
from checkpost.checks.registry import HOLD
from checkpost.checks.world import World
from checkpost.engine.plan import Planned
from checkpost.engine.schedule import Footprint, Use, Work
from checkpost.model.precedence import reached
from checkpost.model.resource import Resource

#: The checks that look at rows of several tables at once.
_SEVERAL = re.compile(r"relate\.|access\.(related|linked)$")
#: Checks that may break lists for a moment, also of tables whose rows are shown with others.
_BREAKING = frozenset({"create.extreme-values", "update.as-shown"})
#: Checks after which a table may be no good for others: an API may store what it then cannot show.
_RISKY = frozenset({"create.rules"})
#: Checks whose changes of rows have to be under way at the same moment, which an API may bear worst of all.
AT_ONCE = frozenset({"concurrency.unique", "concurrency.fields"})
#: What is known of a table once its rows can be made and removed.
_KNOWN = (FIRST, "delete.gone")
#: What explains failures, once all that may meet them in its table has ended.
_EXPLAINS = "create.second"
#: What comes when all else has ended: rows that are left, and log-outs, behind which other tokens may be no good.
_LAST = re.compile(rf"{HOLD}\.|access\.log-out$")


def works_of(world: World, planned: Sequence[Planned]) -> list[Work]:
    """The planned checks that are to be asked, numbered by their place in the plan: all that only looks at a table
    before what writes to it, but for the first rows that show whether that can be done."""
    asked = {number: each for number, each in enumerate(planned) if not each.reason}
    tables = _Tables(world)
    named: dict[tuple[str, str], list[int]] = defaultdict(list)
    readers: dict[str, list[int]] = defaultdict(list)
    looks: dict[str, list[int]] = defaultdict(list)
    touches: dict[str, list[int]] = defaultdict(list)
    touching = {number: tables.touched(each) for number, each in asked.items()}
    last = {number for number, each in asked.items() if _LAST.match(each.check.name)}
    for number, each in asked.items():
        named[each.resource.name, each.check.name].append(number)
        for table in touching[number]:
            touches[table].append(number)
        if each.check.creates or number in last:
            continue
        for table in touching[number]:
            looks[table].append(number)
        if not each.check.per_role and not _SEVERAL.match(each.check.name):
            readers[each.resource.name].append(number)
    resources = world.model.resources
    places = {each.name: place / len(resources) for place, each in enumerate(resources)}
    most, turns = Counter(each.resource.name for each in asked.values()), Counter[str]()
    awaited = {table for first in tables.made_first.values() for table in first}
    mended = {number for number, each in asked.items() if each.check.name in _RISKY and _changed(each.resource)}
    works = []
    for number, each in asked.items():
        touched = touching[number]
        after = {
            other
            for name in builds_on(each.check)
            for table in (touched[:1] if _SEVERAL.match(name) else touched)
            for other in named.get((table, name), ())
            if planned[other].actor in ("", each.actor)
        }
        if each.check.creates and not each.check.gate:
            after |= {other for table in touched for other in looks[table]}
        if each.check.name in _RISKY and not _changed(each.resource):
            # what a change shows to be harmful is not tried where no row could be mended
            after |= mended
        if each.check.creates:
            # rows that are made to be referred to stay: what looks at all rows of their table comes before
            after |= {other for table in tables.made_first[each.resource.name] for other in readers[table]}
        if each.check.name == FIRST:
            # its rows refer to some that are made for that
            above = world.stands_on.get(each.resource.name, ())
            after |= {other for table in above for name in _KNOWN for other in named.get((table, name), ())}
        elif each.check.creates and not each.check.gate:
            after |= {other for relation in each.resource.relations for other in readers[relation.resource]}
        if each.check.name == _EXPLAINS:
            after |= {other for other in touches[each.resource.name] if planned[other].check.name != _EXPLAINS} - last
        if number in last:
            after |= asked.keys() - last
        footprint = partial(tables.footprint, each, touched)
        rank = 0.0 if each.resource.name in awaited else 1.0
        if each.check.creates and not each.check.gate:
            # what has its table for itself comes at another time in each: while one is kept from most, others have
            # enough to do
            name = each.resource.name
            own = places[name] if each.check.alone else turns[name] / most[name]
            rank = 2.0 if _SEVERAL.match(each.check.name) else 2.0 + own + (each.check.name in _RISKY)
            rank += 2 * (each.check.name in AT_ONCE)
            turns[name] += 1
        works.append(Work(number, footprint, frozenset(after - {number}), rank))
    return works


def _changed(resource: Resource) -> bool:
    return bool({"update", "replace"} & resource.operations.keys())


class _Tables:
    """What is known of tables before checks are asked of them."""

    def __init__(self, world: World) -> None:
        self.world = world
        self._parents = {each.name: list(self._made_for(each)) for each in world.model.resources}
        self._referring: dict[str, set[str]] = defaultdict(set)
        #: For each table, those whose rows show its rows without being asked for them.
        self._shown_in: dict[str, set[str]] = defaultdict(set)
        for each in world.model.resources:
            for relation in each.relations:
                self._referring[relation.resource].add(each.name)
            for member in (*each.embedded, *each.nested):
                if member.always and member.resource != each.name:
                    self._shown_in[member.resource].add(each.name)
        above = {each.name: reached(each.name, lambda at: self._parents.get(at, ())) for each in world.model.resources}
        #: For each table, those in which rows may be made first for its rows, straight or by others between; where
        #: tables refer to each other, not the table itself.
        self.made_first = {
            name: [table for table in tables if name not in above.get(table, ())] for name, tables in above.items()
        }

    def _made_for(self, resource: Resource) -> Iterable[str]:
        """The tables in which rows may have to be made for this one's rows to refer to."""
        if self.world.ledger is None or "create" not in resource.operations or not resource.relations:
            return
        names = resource.key.fields if resource.key is not None else ()
        leans = not self.world.markable(resource) or (names and all(resource.relation(name) for name in names))
        for relation in resource.relations:
            before = self.world.state(relation.resource).before
            if relation.resource != resource.name and (leans or before is None or not before.by_key):
                yield relation.resource

    def _stood_on(self, name: str, first: bool) -> set[str]:
        """The tables in which rows are made for others to refer to, straight or by others between: for the first row,
        or since what refers to them is seen to change them."""

        def onward(at: str) -> set[str]:
            if first and at == name:
                return set(self.world.stands_on.get(name, ()))
            resource = self.world.model.resource(at)
            further = {each.resource for each in resource.relations} if resource is not None else set()
            return {table for table in further if touches(self.world, at, table)}

        return reached(name, onward) - {name} if self.world.ledger is not None else set()

    def touched(self, planned: Planned) -> list[str]:
        """The tables that a check touches, its own first."""
        resource = planned.resource
        if planned.check.name in _BREAKING:
            return [resource.name, *sorted(self._shown_in[resource.name])]
        if not _SEVERAL.match(planned.check.name):
            return [resource.name]
        names = [resource.name, *(each.resource for each in resource.relations)]
        names += sorted(self._referring[resource.name])
        for sub in resource.subcollections:
            names += [sub.child, *([sub.through] if sub.through else [])]
        for link in resource.linkages:
            names += [link.child] if link.child else [each.name for each in self.world.model.resources]
        for other in (*resource.embedded, *resource.nested):
            names += [other.resource, *([other.through] if other.through else [])]
        return list(dict.fromkeys(names))

    def footprint(self, planned: Planned, touched: Sequence[str]) -> Footprint:
        """How a check uses the tables that it touches, told when those before it have ended."""
        check = planned.check
        if not check.creates or (check.alone and not check.cost(planned.resource)):
            return dict.fromkeys(touched, "reads")
        uses: dict[str, Use] = {}
        for name in touched:
            uses |= dict.fromkeys(self._parents.get(name, ()), "own")
            uses |= dict.fromkeys(self._stood_on(name, first=check.name == FIRST), "own")
        uses |= {name: self._written(name) for name in touched}
        if check.alone:
            uses |= dict.fromkeys(touched if check.name in _BREAKING else touched[:1], "alone")
        return uses

    def _written(self, name: str) -> Use:
        """Whether rows of the run's own are told apart there, so that several checks can make some at once: by a key
        that the run chooses, else by a mark and the key that a create is answered with."""
        resource, ledger = self.world.model.resource(name), self.world.ledger
        key = resource.key if resource is not None else None
        if resource is None or key is None or ledger is None:
            return "alone"
        told = self.world.markable(resource) and not ledger.table(name).keyless
        return "own" if told or key.assigned_by == "client" else "alone"
