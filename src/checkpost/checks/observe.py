"""What a role can do, tried and not judged: for a person to look at, confirm and freeze."""

from __future__ import annotations

from dataclasses import dataclass, field

from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check, looking
from checkpost.checks.removal import forget
from checkpost.checks.role_writes import change_by_role
from checkpost.checks.roles import rows_of
from checkpost.model.access import Action
from checkpost.model.purpose import Purpose
from checkpost.model.query import Measure
from checkpost.oracle.same import differences


@dataclass
class Observed:
    """What was seen of one role and resource: the actions that worked, how many of all rows the list holds,
    a field that all of them have in common and others do not, and fields that rows lack."""

    actions: set[Action] = field(default_factory=set)
    rows: str = ""
    common: tuple[str, object] | None = None
    hidden: tuple[str, ...] = ()

    @property
    def line(self) -> str:
        """The line of the profile that states just this."""
        order: tuple[Action, ...] = ("list", "read", "create", "update", "replace", "delete", "bulk", "aggregate")
        done = [each for each in order if each in self.actions]
        text = ", ".join(done) or "none"
        text = "read" if set(done) == {"list", "read", "aggregate"} else text
        if self.common is not None:
            value = f"'{self.common[1]}'" if isinstance(self.common[1], str) else str(self.common[1])
            text += f" where {self.common[0]} = {value}"
        return text + (f" hide {', '.join(self.hidden)}" if self.hidden else "")


@check("observe.reads", needs=("list",), cost=lambda resource: 4, per_role=True)
@looking
async def reads(case: Case) -> None:
    """What does the role see?"""
    seen = case.world.observed.setdefault((case.resource.name, case.actor), Observed())
    snapshot = await rows_of(case)
    listing = await case.acting.whole_list(case.world.most_rows, case.check.name, "the list as another role")
    case.requests += len(listing.exchanges)
    if listing.exchanges[0].answer.ok and not listing.problem:
        seen.actions.add("list")
    keys = [key for key in listing.by_key if key in snapshot.positions]
    seen.rows = "none" if not listing.rows else ("all" if len(keys) >= len(snapshot) else "some")
    if seen.rows == "some":
        inside = [snapshot.rows[snapshot.positions[key]] for key in keys]
        outside = [row for key, row in zip(snapshot.keys, snapshot.rows, strict=True) if key not in listing.by_key]
        for name, each in case.fields.items():
            values = {row.get(name) for row in inside if isinstance(row.get(name), str | int)}
            unlike = all(row.get(name) not in values for row in outside)
            if each.kind in {"text", "number", "uuid"} and len(values) == 1 and len(inside) > 1 and unlike:
                seen.common = name, next(iter(values))
                break
    known = {name for row in snapshot.rows for name in row if name in case.fields}
    shown = {name for row in listing.rows for name in row}
    seen.hidden = tuple(sorted(known - shown)) if listing.rows else ()
    key = next(iter(keys), next((each for each in snapshot.keys if each is not None), None))
    if case.has("read") and key is not None:
        exchange = await case.send("read", "a row as another role", through=case.acting, key=key)
        if exchange.answer.ok:
            seen.actions.add("read")
    aggregating = case.resource.queries.aggregating
    operation = case.world.contract.operation("GET", aggregating.path) if aggregating is not None else None
    if aggregating is not None and operation is not None and "count" in aggregating.functions:
        asked = aggregating.pairs([Measure("count")], ())
        answer = await case.acting.get(operation, asked, case.check.name, "an aggregate as another role")
        if answer.answer.ok:
            seen.actions.add("aggregate")
    elif {"list", "read"} <= seen.actions:
        seen.actions.add("aggregate")


@check("observe.writes", needs=("create", "delete"), creates=True, cost=lambda resource: 10, per_role=True)
@looking
async def writes(case: Case) -> None:
    """What can the role write?

    It is tried on rows of the run's own.
    """
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    if case.state.not_removable:
        raise Skipped(case.state.not_removable)
    seen = case.world.observed.setdefault((case.resource.name, case.actor), Observed())
    exchange, made = await case.create(await new_record(case), f"a create by {case.actor}", through=case.acting)
    if exchange.answer.ok and made is not None:
        seen.actions.add("create")
    purposes: tuple[Purpose, ...] = ("update", "replace", "delete")
    for purpose in [each for each in purposes if case.has(each)]:
        # a role may be allowed its own rows alone: one that it made shows it
        own = (await case.own())[0]
        key = made if made is not None and exchange.answer.ok else own.key
        _, before = await case.row_now(key)
        answer = await change_by_role(case, purpose, key, before)
        if answer is None:
            continue
        there, after = await case.read(key, "the row then") if case.has("read") else (answer, before)
        gone = after is None and case.client.absent(there.answer)
        if gone:
            forget(case, key)
        if gone or (after is not None and differences(case.fields, before, after, case.settable)):
            seen.actions.add(purpose)
    if "create" in seen.actions and case.resource.bulk:
        seen.actions.add("bulk")
