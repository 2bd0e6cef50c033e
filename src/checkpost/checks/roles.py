"""Other roles than the run's own: they see and may do what is stated, and nothing else, by any way round."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from checkpost.checks.asking import snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.expand import held
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.shown import shown
from checkpost.findings import Differing, Finding, Severity
from checkpost.model.access import Action, Rights, rights_of
from checkpost.model.field import Field
from checkpost.model.purpose import Purpose
from checkpost.model.query import Compare, Measure, Order, Query, compares
from checkpost.model.resource import Resource
from checkpost.model.spelling import Inexpressible
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.order import out_of_order
from checkpost.oracle.rights import holds
from checkpost.oracle.same import same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import EVERYTHING, Asked, Key, Listing, Row, key_text

NEEDS: tuple[Purpose, ...] = ("create", "delete")
_MOST_HIDDEN, _MOST_SEEN = 4, 2
REFUSALS = frozenset({401, 403, 404, 405, 410})


@dataclass(frozen=True)
class Seen:
    """All rows, as the run's own role sees them, and the keys of those that the other role may see."""

    snapshot: Snapshot
    allowed: frozenset[Key]

    @cached_property
    def hidden(self) -> Mapping[Key, None]:
        """The keys of the other rows, in their order."""
        return {key: None for key in self.snapshot.keys if key is not None and key not in self.allowed}


def stated_rights(case: Case, resource: Resource | None = None) -> Rights:
    found = rights_of(case.world.access, (resource or case.resource).name, case.actor)
    if found is None:
        raise Skipped("nothing is stated of the role here")
    return found


async def seen_by(case: Case, rights: Rights, action: Action = "list") -> Seen:
    """Raises Skipped, Blocked where the rows cannot be known."""
    state = case.state
    if state.unusable:
        raise Blocked(state.unusable)
    snapshot = await rows_of(case)
    keys = [key for key in snapshot.keys if key is not None]
    if not rights.may(action):
        return Seen(snapshot, frozenset())
    look = await looking_up(case, rights)
    rows = zip(snapshot.keys, snapshot.rows, strict=True)
    allowed = frozenset(key for key, row in rows if key is not None and holds(rights.rows, row, look))
    return Seen(snapshot, allowed if rights.rows is not None else frozenset(keys))


async def rows_of(case: Case) -> Snapshot:
    """The rows as the run's own role sees them, few as they may be."""
    try:
        return await snapshot_of(case)
    except Skipped:
        if case.state.snapshot is None:
            raise
        return case.state.snapshot[1]


async def looking_up(case: Case, rights: Rights) -> Any:
    """How a condition finds the values of a row, and of those that it refers to."""
    targets: dict[str, tuple[Mapping[Key, Row], Resource]] = {}
    for compare in compares(rights.rows):
        name, dot, _ = compare.field.partition(".")
        relation = case.resource.relation(name)
        target = case.world.model.resource(relation.resource) if relation is not None else None
        if dot and target is not None and target.under:
            raise Skipped(f"the condition is about rows of {target.name}, of which no more than a part is seen")
        if dot and target is not None:
            snapshot = await rows_of(case.other(target))
            known = {key: dict(row) for key, row in zip(snapshot.keys, snapshot.rows, strict=True) if key is not None}
            targets[name] = known, target

    def look(row: Mapping[str, Any], path: str) -> tuple[Any, Field | None]:
        name, dot, rest = path.partition(".")
        if not dot:
            return row.get(name), case.resource.field(name)
        if name not in targets:
            return None, None
        rows, target = targets[name]
        return rows.get((row.get(name),), {}).get(rest), target.field(rest)

    return look


def told_rights(case: Case, rights: Rights) -> str:
    return f"{case.actor} may {rights.in_words}"


def departure(
    case: Case,
    title: str,
    expected: str,
    observed: str,
    evidence: Sequence[Exchange],
    purpose: Purpose | None = None,
    operation: tuple[str, str] | None = None,
    severity: Severity = "error",
    cause: str = "",
    subjects: Sequence[str] = (),
    rows: Sequence[Differing] = (),
) -> Finding:
    return case.finding(
        severity, "profile", title, expected, observed, cause=cause or f"any:{title}", purpose=purpose,
        operation=operation, subjects=subjects, evidence=evidence, rows=rows,
    )  # fmt: skip


LEAK = "A role is shown rows that it may not see"
FIELDS = "A role is shown fields that are hidden from it"
REFUSED = "A role is refused what it may do"


def _leaks(case: Case, resource: str) -> bool:
    """Whether a list is known to show the role what it should not: by any way round it would do so again."""
    known = case.world.findings.by_key.values()
    return any(each.resource == resource and each.role == case.actor and each.check == "access.rows" for each in known)


def shown_fields(rows: Iterable[Mapping[str, Any]], rights: Rights) -> list[str]:
    return sorted({name for row in rows for name in rights.hidden if name in row})


async def _list(case: Case, asked: Asked = EVERYTHING, situation: str = "the list as another role") -> Listing:
    listing = await case.acting.whole_list(case.world.most_rows, case.check.name, situation, asked)
    case.requests += len(listing.exchanges)
    return listing


@check("access.rows", needs=("list",), cost=lambda resource: 3, per_role=True)
async def rows(case: Case) -> AsyncIterator[Finding]:
    """Does the list hold exactly the rows that the role may see, without the fields that it may not?"""
    rights = stated_rights(case)
    listing = await _list(case)
    first = listing.exchanges[0]
    if not rights.may("list"):
        if listing.rows:
            yield _leak(case, rights, len(listing.rows), [first], "list", [])
        return
    if listing.problem:
        if first.answer.status in REFUSALS:
            yield departure(
                case, REFUSED, told_rights(case, rights), str(first.answer.status), [first], "list", subjects=["list"]
            )
            return
        raise Blocked(listing.problem)
    fields = shown_fields(listing.rows, rights)
    if fields:
        yield hidden_shown(case, rights, fields, [first], "list")
    for attempt in (1, 2):
        seen = await seen_by(case, rights)
        beyond = _beyond(listing, seen)
        foreign = await _outside(case, rights, beyond)
        surplus = [key for key in listing.by_key if key in seen.hidden or key in foreign]
        missing = [key for key in seen.allowed if key not in listing.by_key] if listing.complete else []
        counted = not beyond or listing.complete or listing.broken_off
        total = listing.total if seen.snapshot.whole and counted else None
        if not surplus and not missing and total in (None, len(seen.allowed) + len(beyond)):
            return
        if attempt == 1:  # others may have changed rows since the list was read
            await snapshot_of(case, anew=True)
            listing = await _list(case)
    if surplus:
        yield _leak(case, rights, len(surplus), [first], "list", surplus)
    elif missing:
        told = [Differing("missing", key_text(key), {}) for key in missing[:3]]
        yield departure(
            case, "A role is not shown rows that it may see", f"{len(seen.allowed)} rows: {told_rights(case, rights)}",
            f"{len(missing)} of them are missing", [first], "list", rows=told,
        )  # fmt: skip
    else:
        yield departure(
            case, "A total counts rows that the role may not see", str(len(seen.allowed)), str(total), [first], "list"
        )


def _beyond(listing: Listing, seen: Seen) -> Mapping[Key, Row]:
    """The rows of a role's list that the run's own role does not see, as where each sees those of its own tenant."""
    return {key: row for key, row in listing.by_key.items() if key not in seen.snapshot.positions}


async def _outside(case: Case, rights: Rights, rows: Mapping[Key, Row]) -> frozenset[Key]:
    """Those of them that a role's condition leaves out, as far as it asks for nothing but what they hold themselves."""
    if not rows or any("." in each.field for each in compares(rights.rows)):
        return frozenset()
    look = await looking_up(case, rights)
    wanted = {each.field for each in compares(rights.rows)}
    return frozenset(key for key, row in rows.items() if wanted <= row.keys() and not holds(rights.rows, row, look))


def _leak(
    case: Case, rights: Rights, number: int, evidence: Sequence[Exchange], purpose: Purpose, keys: Sequence[Key]
) -> Finding:
    told = [Differing("surplus", key_text(key), {}) for key in keys[:3]]
    return departure(
        case,
        LEAK,
        told_rights(case, rights),
        f"{number} rows more",
        evidence,
        purpose,
        cause=f"any:leak {purpose}",
        rows=told,
    )


def hidden_shown(
    case: Case, rights: Rights, fields: Sequence[str], evidence: Sequence[Exchange], purpose: Purpose
) -> Finding:
    return departure(
        case,
        FIELDS,
        told_rights(case, rights),
        f"{', '.join(fields)} in the answer",
        evidence,
        purpose,
        subjects=fields,
    )


@check("access.read", needs=("read", "list"), cost=lambda resource: 6, per_role=True)
async def read(case: Case) -> AsyncIterator[Finding]:
    """Can a row be read by its key if the role may see it, and not else, whatever is sent along?"""
    rights = stated_rights(case)
    seen = await seen_by(case, rights, "read")
    acting = case.acting
    for key in list(seen.hidden)[:_MOST_HIDDEN]:
        exchange = await case.send("read", "a row that the role may not see", through=acting, key=key)
        row = acting.row_in(exchange.answer) if exchange.answer.ok else None
        if row is not None:
            yield _leak(case, rights, 1, [exchange], "read", [key])
            break
        if exchange.answer.status == 401 and case.world.roles[case.actor].credentials:
            yield departure(
                case, "Valid credentials are answered 401", "403 or 404 (RFC 9110, 15.5.4)",
                "401", [exchange], "read", severity="warning",
            )  # fmt: skip
            break
        tag = (await case.send("read", "a row", key=key)).answer.header("etag")
        if tag is not None:
            known = await case.send(
                "read", "a row that the role may not see", through=acting, key=key, headers={"If-None-Match": tag}
            )
            if known.answer.status == 304:
                yield departure(
                    case, "An ETag reveals a row that the role may not see", "a refusal", "304", [known], "read"
                )
                break
    for key in list(seen.allowed)[:_MOST_SEEN]:
        exchange = await case.send("read", "a row that the role may see", through=acting, key=key)
        row = acting.row_in(exchange.answer) if exchange.answer.ok else None
        if row is None and exchange.answer.status in REFUSALS:
            again, there = await case.read(key)
            if there is not None:
                yield departure(
                    case, REFUSED, told_rights(case, rights), str(exchange.answer.status), [exchange, again], "read",
                    subjects=["read"],
                )  # fmt: skip
            break
        fields = shown_fields([row] if row else [], rights)
        if fields:
            yield hidden_shown(case, rights, fields, [exchange], "read")
            break


@check("access.ways", needs=("list",), cost=lambda resource: 12, per_role=True)
async def ways(case: Case) -> AsyncIterator[Finding]:
    """Do filters, orders, selections and aggregates tell a role nothing of what it may not see?"""
    rights = stated_rights(case)
    seen = await seen_by(case, rights)
    if not seen.hidden and not rights.hidden:
        raise Skipped("the role may see everything here")
    if _leaks(case, case.resource.name):
        raise Skipped("the list shows what it should not already")
    async for finding in _by_filter(case, rights, seen):
        yield finding
    for name in rights.hidden:
        async for finding in _by_hidden_field(case, rights, seen, name):
            yield finding
    async for finding in _by_aggregate(case, rights, seen):
        yield finding


async def _by_filter(case: Case, rights: Rights, seen: Seen) -> AsyncIterator[Finding]:
    """Ask for hidden rows by their keys, and by the values that hide them."""
    filtering = case.state.filtering or next(iter(case.resource.queries.filterings), None)
    names = case.resource.key_fields
    if filtering is None or case.state.unfiltered or not seen.hidden:
        return
    hidden = next(iter(seen.hidden))
    row = seen.snapshot.rows[seen.snapshot.positions[hidden]]
    wanted = [Compare(name, "eq", value) for name, value in zip(names, hidden, strict=True)][:1]
    for compare in compares(rights.rows):
        value = row.get(compare.field)
        if "." not in compare.field and isinstance(value, str | int) and not isinstance(value, bool):
            wanted.append(Compare(compare.field, "eq", value))
    for condition in wanted:
        try:
            asked = spelled(case, Query(condition), filtering)
        except Inexpressible:
            continue
        listing = await _list(case, asked, "a filter for rows that the role may not see")
        surplus = [key for key in listing.by_key if key in seen.hidden]
        if surplus:
            yield _leak(case, rights, len(surplus), listing.exchanges[:1], "list", surplus)
            return


async def _by_hidden_field(case: Case, rights: Rights, seen: Seen, name: str) -> AsyncIterator[Finding]:
    """A field that is hidden is shown by no selection, and told by no filter and no order."""
    field = case.resource.field(name)
    if field is None or not rights.may("list"):
        return
    title = "A query reveals a field that is hidden from the role"
    selecting = case.resource.queries.selecting
    if selecting is not None:
        listing = await _list(case, Asked(tuple(selecting.pairs((name,)))), "a selection of a hidden field")
        if shown_fields(listing.rows, rights):
            yield hidden_shown(case, rights, [name], listing.exchanges[:1], "list")
    known = [(key, row) for key, row in zip(seen.snapshot.keys, seen.snapshot.rows, strict=True) if key in seen.allowed]
    values = [row.get(name) for _, row in known if row.get(name) is not None]
    filtering = case.state.filtering or next(iter(case.resource.queries.filterings), None)
    if filtering is not None and values and not case.state.unfiltered:
        value = values[0]
        expected = {key for key, row in known if same(field, value, row.get(name))}
        try:
            asked = spelled(case, Query(Compare(name, "eq", value)), filtering)
        except Inexpressible:
            return
        listing = await _list(case, asked, "a filter on a hidden field")
        if listing.rows and set(listing.by_key) == expected and len(expected) < len(known):
            told = f"the {len(expected)} rows whose {name} is {shown(value, 40)}"
            yield departure(
                case, title, f"a refusal: {name} is hidden", told, listing.exchanges[:1], "list", subjects=[name]
            )
            return
    sorting = case.state.sorting or next(iter(case.resource.queries.sortings), None)
    if sorting is None or case.state.unsorted or len(set(map(str, values))) < 4:
        return
    for order in ((Order(name),), (Order(name, True),)):
        try:
            listing = await _list(
                case, spelled(case, Query(order=order), sorting=sorting), "an order by a hidden field"
            )
        except Inexpressible:
            return
        places = [seen.snapshot.positions[key] for key in listing.by_key if key in seen.snapshot.positions]
        if len(places) < 4 or out_of_order(seen.snapshot, places, order) is not None:
            return
    yield departure(
        case, title, f"a refusal: {name} is hidden", f"rows in the order of {name}", listing.exchanges[:1], "list",
        subjects=[name],
    )  # fmt: skip


async def _by_aggregate(case: Case, rights: Rights, seen: Seen) -> AsyncIterator[Finding]:
    """The number of rows that aggregates tell is that of the rows that the role may see."""
    aggregating = case.resource.queries.aggregating
    operation = case.world.contract.operation("GET", aggregating.path) if aggregating is not None else None
    if aggregating is None or operation is None or "count" not in aggregating.functions or not seen.snapshot.whole:
        return
    asked = aggregating.pairs([Measure("count")], ())
    exchange = await case.acting.get(operation, asked, case.check.name, "an aggregate as another role")
    case.requests += 1
    place = (operation.method, operation.path)
    if not exchange.answer.ok:
        if rights.may("aggregate") and exchange.answer.status in {401, 403}:
            yield departure(
                case, REFUSED, told_rights(case, rights), str(exchange.answer.status), [exchange], operation=place,
                subjects=["aggregate"],
            )  # fmt: skip
        return
    numbers = [int(each) for each in re.findall(r"(?<![\w.])\d+(?![\w.])", exchange.answer.text)]
    allowed, everything = len(seen.allowed), len(seen.snapshot)
    if everything in numbers and allowed not in numbers:
        if rights.may("aggregate") and (not rights.may("list") or _beyond(await _list(case), seen)):
            return
        yield departure(
            case, "An aggregate reveals rows that the role may not see", f"{allowed} rows: {told_rights(case, rights)}",
            f"{everything} rows", [exchange], operation=place,
        )  # fmt: skip


@check("access.related", needs=("list",), cost=lambda r: 4 * (len(r.subcollections) + len(r.embedded)), per_role=True)
async def related(case: Case) -> AsyncIterator[Finding]:
    """Do lists under rows, and rows inside rows, hold only what the role may see?"""
    own = stated_rights(case)
    asked = False
    seen_here = await seen_by(case, own, "read")
    for sub in case.resource.subcollections:
        child = case.world.model.resource(sub.child)
        rights = rights_of(case.world.access, sub.child, case.actor)
        if child is None or rights is None or not sub.many or "list" not in child.operations:
            continue
        if _leaks(case, sub.child):
            continue
        seen = await seen_by(case.other(child), rights)
        for key in _telling_parents(seen_here, seen, sub.via if sub.through is None else None):
            asked = True
            client = case.world.view(case.resource, sub.view, key, case.actor)
            listing = await client.whole_list(case.world.most_rows, case.check.name, "the list under a row, as a role")
            case.requests += len(listing.exchanges)
            surplus = [each for each in listing.by_key if each in seen.hidden]
            operation = sub.view.operations["list"]
            place, evidence = (operation.method, operation.path), listing.exchanges[:1]
            if surplus:
                told = [Differing("surplus", key_text(each), {}) for each in surplus[:3]]
                yield departure(
                    case, LEAK, f"{case.actor} may {rights.in_words} in {sub.child}",
                    f"{len(surplus)} rows of {sub.child}", evidence,
                    operation=place, cause=f"leak under {sub.path}", rows=told,
                )  # fmt: skip
                break
            fields = shown_fields(listing.rows, rights)
            if fields:
                yield departure(
                    case, FIELDS, f"{case.actor} may {rights.in_words} in {sub.child}", ", ".join(fields), evidence,
                    operation=place, cause=f"fields under {sub.path}", subjects=fields,
                )  # fmt: skip
                break
    for each in case.resource.embedded:
        target = case.world.model.resource(each.resource)
        rights = rights_of(case.world.access, each.resource, case.actor)
        if target is None or rights is None or "list" not in target.operations or not own.may("list"):
            continue
        if _leaks(case, each.resource):
            continue
        asked = True
        seen = await seen_by(case.other(target), rights, "read")
        expansion = case.resource.expansion
        pairs = tuple(expansion.pairs([each.name])) if expansion is not None and not each.always else ()
        listing = await _list(case, Asked(pairs), f"rows with {each.name} expanded, as a role")
        names = target.key_fields
        for row in listing.rows:
            try:
                inside = held(row, each)
            except LookupError:
                continue
            items = [item for item in (inside if isinstance(inside, list) else [inside]) if isinstance(item, dict)]
            keys = [tuple(item.get(name) for name in names) for item in items]
            surplus = [key for key in keys if key in seen.hidden]
            fields = shown_fields(items, rights)
            if surplus or fields:
                what = f"the row {key_text(surplus[0])} of {each.resource}" if surplus else ", ".join(fields)
                yield departure(
                    case, LEAK if surplus else FIELDS, f"{case.actor} may {rights.in_words} in {each.resource}", what,
                    listing.exchanges[:1], "list", cause=f"leak inside {each.name}", subjects=[each.name],
                )  # fmt: skip
                break
    if not asked:
        raise Skipped("nothing is listed under its rows, or shown inside them, of which rights are stated")


def _telling_parents(parents: Seen, children: Seen, via: str | None) -> list[Key]:
    """Rows to look under: those that the role may see, and that have rows under them which it may not."""
    if via is None:
        return list(parents.allowed)[:2]
    hidden = {children.snapshot.rows[children.snapshot.positions[key]].get(via) for key in children.hidden}
    return [key for key in parents.snapshot.keys if key in parents.allowed and key[-1] in hidden][:2]
