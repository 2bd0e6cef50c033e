"""Other roles than the run's own: they see and may do what is stated, and nothing else, by any way round."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from checkpost.checks.asking import key_text, snapshot_of, spelled
from checkpost.checks.bulk import key_items
from checkpost.checks.case import Case
from checkpost.checks.conformance import shown
from checkpost.checks.expand import held
from checkpost.checks.many import create_many, send_items
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.findings import Differing, Finding, Severity
from checkpost.model.access import Action, Rights, rights_of
from checkpost.model.field import MISSING, Field
from checkpost.model.query import Compare, Measure, Order, Query, compares
from checkpost.model.resource import Purpose, Resource
from checkpost.model.spelling import Inexpressible
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.order import out_of_order
from checkpost.oracle.rights import holds
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import EVERYTHING, Asked, Key, Listing, Row

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_MOST_HIDDEN, _MOST_SEEN = 4, 2
_REFUSED = frozenset({401, 403, 404, 405, 410})


@dataclass(frozen=True)
class Seen:
    """All rows, as the run's own role sees them, and the keys of those that the other role may see."""

    snapshot: Snapshot
    allowed: frozenset[Key]

    @cached_property
    def hidden(self) -> Mapping[Key, None]:
        """The keys of the other rows, in their order."""
        return {key: None for key in self.snapshot.keys if key is not None and key not in self.allowed}


def _rights(case: Case, resource: Resource | None = None) -> Rights:
    found = rights_of(case.world.access, (resource or case.resource).name, case.actor)
    if found is None:
        raise Skipped("nothing is stated of the role here")
    return found


async def _seen(case: Case, rights: Rights, action: Action = "list") -> Seen:
    """Raises Skipped, Blocked where the rows cannot be known."""
    state = case.state
    if state.unusable:
        raise Blocked(state.unusable)
    snapshot = await rows_of(case)
    keys = [key for key in snapshot.keys if key is not None]
    if not rights.may(action):
        return Seen(snapshot, frozenset())
    look = await _look(case, rights)
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


async def _look(case: Case, rights: Rights) -> Any:
    """How a condition finds the values of a row, and of those that it refers to."""
    targets: dict[str, tuple[Mapping[Key, Row], Resource]] = {}
    for compare in compares(rights.rows):
        name, dot, _ = compare.field.partition(".")
        relation = case.resource.relation(name)
        target = case.world.model.resource(relation.resource) if relation is not None else None
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


def _told(case: Case, rights: Rights) -> str:
    return f"{case.actor} may {rights.in_words}"


def _finding(
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


def _shown_fields(rows: Iterable[Mapping[str, Any]], rights: Rights) -> list[str]:
    return sorted({name for row in rows for name in rights.hidden if name in row})


async def _list(case: Case, asked: Asked = EVERYTHING, situation: str = "the list as another role") -> Listing:
    listing = await case.acting.whole_list(case.world.most_rows, case.check.name, situation, asked)
    case.requests += len(listing.exchanges)
    return listing


@check("access.rows", needs=("list",), cost=lambda resource: 3, per_role=True)
async def rows(case: Case) -> AsyncIterator[Finding]:
    """Does the list hold exactly the rows that the role may see, without the fields that it may not?"""
    rights = _rights(case)
    listing = await _list(case)
    first = listing.exchanges[0]
    if not rights.may("list"):
        if listing.rows:
            yield _leak(case, rights, len(listing.rows), [first], "list", [])
        return
    if listing.problem:
        if first.answer.status in _REFUSED:
            yield _finding(
                case, REFUSED, _told(case, rights), str(first.answer.status), [first], "list", subjects=["list"]
            )
            return
        raise Blocked(listing.problem)
    fields = _shown_fields(listing.rows, rights)
    if fields:
        yield _hidden_shown(case, rights, fields, [first], "list")
    for attempt in (1, 2):
        seen = await _seen(case, rights)
        surplus = [key for key in listing.by_key if key in seen.hidden]
        missing = [key for key in seen.allowed if key not in listing.by_key] if listing.complete else []
        total = listing.total if listing.total is not None and seen.snapshot.whole else None
        if not surplus and not missing and total in (None, len(seen.allowed)):
            return
        if attempt == 1:  # others may have changed rows since the list was read
            await snapshot_of(case, anew=True)
            listing = await _list(case)
    if surplus:
        yield _leak(case, rights, len(surplus), [first], "list", surplus)
    elif missing:
        told = [Differing("missing", key_text(key), {}) for key in missing[:3]]
        yield _finding(
            case, "A role is not shown rows that it may see", f"{len(seen.allowed)} rows: {_told(case, rights)}",
            f"{len(missing)} of them are missing", [first], "list", rows=told,
        )  # fmt: skip
    else:
        yield _finding(
            case, "A total tells of rows that a role may not see", str(len(seen.allowed)), str(total), [first], "list"
        )


def _leak(
    case: Case, rights: Rights, number: int, evidence: Sequence[Exchange], purpose: Purpose, keys: Sequence[Key]
) -> Finding:
    told = [Differing("surplus", key_text(key), {}) for key in keys[:3]]
    return _finding(
        case,
        LEAK,
        _told(case, rights),
        f"{number} rows more",
        evidence,
        purpose,
        cause=f"any:leak {purpose}",
        rows=told,
    )


def _hidden_shown(
    case: Case, rights: Rights, fields: Sequence[str], evidence: Sequence[Exchange], purpose: Purpose
) -> Finding:
    return _finding(
        case, FIELDS, _told(case, rights), f"{', '.join(fields)} in the answer", evidence, purpose, subjects=fields
    )


@check("access.read", needs=("read", "list"), cost=lambda resource: 6, per_role=True)
async def read(case: Case) -> AsyncIterator[Finding]:
    """Can a row be read by its key if the role may see it, and not else, whatever is sent along?"""
    rights = _rights(case)
    seen = await _seen(case, rights, "read")
    acting = case.acting
    for key in list(seen.hidden)[:_MOST_HIDDEN]:
        exchange = await case.send("read", "a row that the role may not see", through=acting, key=key)
        row = acting.row_in(exchange.answer) if exchange.answer.ok else None
        if row is not None:
            yield _leak(case, rights, 1, [exchange], "read", [key])
            break
        if exchange.answer.status == 401 and case.world.roles[case.actor].credentials:
            yield _finding(
                case, "A role with valid credentials is told that they are not", "403 or 404 (RFC 9110, 15.5.4)",
                "401", [exchange], "read", severity="warning",
            )  # fmt: skip
            break
        tag = (await case.send("read", "a row", key=key)).answer.header("etag")
        if tag is not None:
            known = await case.send(
                "read", "a row that the role may not see", through=acting, key=key, headers={"If-None-Match": tag}
            )
            if known.answer.status == 304:
                yield _finding(
                    case, "A tag tells a role of a row that it may not see", "a refusal", "304", [known], "read"
                )
                break
    for key in list(seen.allowed)[:_MOST_SEEN]:
        exchange = await case.send("read", "a row that the role may see", through=acting, key=key)
        row = acting.row_in(exchange.answer) if exchange.answer.ok else None
        if row is None and exchange.answer.status in _REFUSED:
            again, there = await case.read(key)
            if there is not None:
                yield _finding(
                    case, REFUSED, _told(case, rights), str(exchange.answer.status), [exchange, again], "read",
                    subjects=["read"],
                )  # fmt: skip
            break
        fields = _shown_fields([row] if row else [], rights)
        if fields:
            yield _hidden_shown(case, rights, fields, [exchange], "read")
            break


@check("access.ways", needs=("list",), cost=lambda resource: 12, per_role=True)
async def ways(case: Case) -> AsyncIterator[Finding]:
    """Do filters, orders, selections and aggregates tell a role nothing of what it may not see?"""
    rights = _rights(case)
    seen = await _seen(case, rights)
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
    names = case.resource.key.fields if case.resource.key else ()
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
    title = "A query tells a role of a field that is hidden from it"
    selecting = case.resource.queries.selecting
    if selecting is not None:
        listing = await _list(case, Asked(tuple(selecting.pairs((name,)))), "a selection of a hidden field")
        if _shown_fields(listing.rows, rights):
            yield _hidden_shown(case, rights, [name], listing.exchanges[:1], "list")
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
            yield _finding(
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
    yield _finding(
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
            yield _finding(
                case, REFUSED, _told(case, rights), str(exchange.answer.status), [exchange], operation=place,
                subjects=["aggregate"],
            )  # fmt: skip
        return
    numbers = [int(each) for each in re.findall(r"(?<![\w.])\d+(?![\w.])", exchange.answer.text)]
    allowed = len(seen.allowed) if rights.may("aggregate") else 0
    everything = len(seen.snapshot)
    if everything in numbers and allowed not in numbers:
        yield _finding(
            case, "An aggregate tells of rows that a role may not see", f"{allowed} rows: {_told(case, rights)}",
            f"{everything} rows", [exchange], operation=place,
        )  # fmt: skip


@check("access.related", needs=("list",), cost=lambda r: 4 * (len(r.subcollections) + len(r.embedded)), per_role=True)
async def related(case: Case) -> AsyncIterator[Finding]:
    """Do lists under rows, and rows inside rows, hold only what the role may see?"""
    own = _rights(case)
    asked = False
    seen_here = await _seen(case, own, "read")
    for sub in case.resource.subcollections:
        child = case.world.model.resource(sub.child)
        rights = rights_of(case.world.access, sub.child, case.actor)
        if child is None or rights is None or not sub.many or "list" not in child.operations:
            continue
        if _leaks(case, sub.child):
            continue
        seen = await _seen(case.other(child), rights)
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
                yield _finding(
                    case, LEAK, f"{case.actor} may {rights.in_words} in {sub.child}",
                    f"{len(surplus)} rows of {sub.child}", evidence,
                    operation=place, cause=f"leak under {sub.path}", rows=told,
                )  # fmt: skip
                break
            fields = _shown_fields(listing.rows, rights)
            if fields:
                yield _finding(
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
        seen = await _seen(case.other(target), rights, "read")
        expansion = case.resource.expansion
        pairs = tuple(expansion.pairs([each.name])) if expansion is not None and not each.always else ()
        listing = await _list(case, Asked(pairs), f"rows with {each.name} expanded, as a role")
        names = target.key.fields if target.key else ()
        for row in listing.rows:
            try:
                inside = held(row, each)
            except LookupError:
                continue
            items = [item for item in (inside if isinstance(inside, list) else [inside]) if isinstance(item, dict)]
            keys = [tuple(item.get(name) for name in names) for item in items]
            surplus = [key for key in keys if key in seen.hidden]
            fields = _shown_fields(items, rights)
            if surplus or fields:
                what = f"the row {key_text(surplus[0])} of {each.resource}" if surplus else ", ".join(fields)
                yield _finding(
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
    return [key for key in parents.snapshot.keys if key in parents.allowed and key[0] in hidden][:2]


# -- writes ------------------------------------------------------------------------------------------


@check("access.writes", needs=_NEEDS, creates=True, cost=lambda resource: 16, per_role=True)
async def writes(case: Case) -> AsyncIterator[Finding]:
    """Is each write refused that the role may not do, with nothing changed, and done if it may?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    rights = _rights(case)
    async for finding in _creates(case, rights):
        yield finding
    look = await _look(case, rights)
    purposes: tuple[Purpose, ...] = ("update", "replace", "delete")
    for purpose in [each for each in purposes if case.has(each)]:
        own = (await case.own())[0]
        _, before = await case.row_now(own.key)
        may = rights.may(purpose) and holds(rights.rows, before, look)
        exchange = await change_by_role(case, purpose, own.key, before)
        if exchange is None:
            continue
        there, after = await case.read(own.key, "the row then") if case.has("read") else (exchange, before)
        gone = after is None and there.answer.status in {404, 410}
        if gone:
            case.forget(own.key)
        done = gone or bool(after is not None and differences(case.fields, before, after, case.settable))
        evidence = [own.exchange, exchange, there]
        if may:
            if exchange.answer.status in _REFUSED and not done:
                yield _finding(
                    case, REFUSED, _told(case, rights), str(exchange.answer.status), evidence, purpose,
                    cause=f"refused {purpose}", subjects=[purpose],
                )  # fmt: skip
        elif done or exchange.answer.ok:
            yield _not_refused(case, rights, purpose, exchange, done, evidence)
        for found in _answer_shows(case, rights, exchange, purpose):
            yield found
    async for finding in _many(case, rights):
        yield finding


def _not_refused(
    case: Case, rights: Rights, purpose: Purpose, exchange: Exchange, done: bool, evidence: Sequence[Exchange]
) -> Finding:
    refused = not exchange.answer.ok
    verb = {"update": "changes", "replace": "replaces", "delete": "deletes", "create": "creates"}[purpose]
    title = f"A role {verb} rows that it may not" if done else f"A {purpose} that is not done is answered with success"
    if refused:
        title = f"A {purpose} that is refused to a role is done all the same"
    return _finding(
        case, title, f"a refusal: {_told(case, rights)}",
        f"{exchange.answer.status}, and it is {'done' if done else 'not done'}", evidence, purpose,
        severity="error" if done else "warning", cause=f"any:{purpose} not refused",
    )  # fmt: skip


async def change_by_role(case: Case, purpose: Purpose, key: Key, before: Row) -> Exchange | None:
    """A write by the other role to a row of the run's own; None where it has nothing to change."""
    body: dict[str, Any] = {}
    if purpose in {"update", "replace"}:
        names = case.resource.key.fields if case.resource.key else ()
        fields = [
            each
            for each in case.resource.writable(purpose)
            if each.name not in names and case.resource.relation(each.name) is None and each.shown
            and each.name not in case.state.unchangeable
        ]  # fmt: skip
        values = {}
        for field in fields:
            value = await case.value(field, unlike=before.get(field.name, MISSING))
            if value is not MISSING and value is not None:
                values = {field.name: value}
                break
        if not values:
            return None
        body = {"record": values if purpose == "update" else {**await case.replacement(key), **values}}
    return await case.send(purpose, f"a {purpose} by {case.actor}", through=case.acting, key=key, **body)


async def _creates(case: Case, rights: Rights) -> AsyncIterator[Finding]:
    record = await case.record()
    exchange, key = await case.create(record, f"a create by {case.actor}", through=case.acting)
    if not rights.may("create"):
        strays = [] if exchange.answer.ok else await case.strays()
        if exchange.answer.ok or strays:
            yield _not_refused(case, rights, "create", exchange, key is not None or bool(strays), [exchange])
        return
    if key is None:
        if exchange.answer.status in _REFUSED:
            yield _finding(
                case, REFUSED, _told(case, rights), str(exchange.answer.status), [exchange], "create",
                cause="refused create", subjects=["create"],
            )  # fmt: skip
        return
    for found in _answer_shows(case, rights, exchange, "create"):
        yield found
    _, row = await case.row_now(key)
    async for found in _owned(case, rights, exchange, key, row):
        yield found
    async for found in _kept(case, rights, key, row):
        yield found


async def _owned(case: Case, rights: Rights, exchange: Exchange, key: Key, row: Row) -> AsyncIterator[Finding]:
    """A row that a role makes is its own, whatever it says, and cannot be given to another."""
    field = case.resource.field(rights.owner) if rights.owner else None
    if field is None or rights.owner not in row:
        return
    if not same(field, rights.identity, row[rights.owner]):
        yield _finding(
            case, "A row that a role makes belongs to another", f"{rights.owner} = {shown(rights.identity)}",
            shown(row[rights.owner]), [exchange], "create", subjects=[rights.owner],
        )  # fmt: skip
        return
    before = case.state.before.rows if case.state.before else ()
    other = next((each[rights.owner] for each in before if each.get(rights.owner) not in (None, rights.identity)), None)
    if other is None:
        return
    made, second = await case.create(
        {**await case.record(), rights.owner: other}, "a create for another", through=case.acting
    )
    if second is not None:
        _, given = await case.row_now(second)
        if same(field, other, given.get(rights.owner)):
            yield _finding(
                case, "A role makes rows that belong to another",
                f"a refusal, or {rights.owner} = {shown(rights.identity)}", shown(other), [made],
                "create", subjects=[rights.owner],
            )  # fmt: skip
    if case.has("update") and rights.may("update"):
        change = await case.send(
            "update", "giving a row to another", through=case.acting, key=key, record={rights.owner: other}
        )
        _, after = await case.row_now(key)
        if same(field, other, after.get(rights.owner)):
            yield _finding(
                case, "A role gives its row to another", f"{rights.owner} as it was", shown(other), [change], "update",
                subjects=[rights.owner],
            )  # fmt: skip


async def _kept(case: Case, rights: Rights, key: Key, row: Row) -> AsyncIterator[Finding]:
    """Fields that the role may not change stay as they are."""
    if not case.has("update") or not rights.may("update"):
        return
    for name in rights.kept:
        field = case.resource.field(name)
        value = await case.value(field, unlike=row.get(name, MISSING)) if field is not None else MISSING
        if field is None or value is MISSING or name in case.state.unchangeable:
            continue
        change = await case.send(
            "update", "a field that the role may not change", through=case.acting, key=key, record={name: value}
        )
        _, after = await case.row_now(key)
        if same(field, value, after.get(name)) and not same(field, value, row.get(name)):
            yield _finding(
                case, "A role changes a field that it may not",
                f"{name} = {shown(row.get(name))}: {_told(case, rights)}", shown(after.get(name)), [change],
                "update", subjects=[name],
            )  # fmt: skip


def _answer_shows(case: Case, rights: Rights, exchange: Exchange, purpose: Purpose) -> list[Finding]:
    """Hidden fields in the answer to a write, an error included."""
    row = case.client.row_in(exchange.answer) if exchange.answer.ok else None
    fields = _shown_fields([row] if row else [], rights)
    return [_hidden_shown(case, rights, fields, [exchange], purpose)] if fields else []


async def _many(case: Case, rights: Rights) -> AsyncIterator[Finding]:
    """Writes of many rows at once, where the role may not write one."""
    acting = case.acting
    bulk = case.resource.bulk.get("create")
    if bulk is not None and not (rights.may("bulk") and rights.may("create")) and not case.state.many_refused:
        sent = await create_many(
            case, bulk, [await case.record() for _ in range(2)], f"many creates by {case.actor}", acting
        )
        if sent.stored:
            yield _finding(
                case, "A role creates many rows at once that it may not", f"a refusal: {_told(case, rights)}",
                f"{sent.exchange.answer.status}, and {len(sent.stored)} stored", [sent.exchange],
                operation=(bulk.operation.method, bulk.operation.path),
            )  # fmt: skip
    bulk = case.resource.bulk.get("delete")
    if bulk is not None and bulk.keys and not case.state.many_kept:
        rows = await case.own(2)
        keys = [own.key for own in rows]
        look, (_, row) = await _look(case, rights), await case.row_now(keys[0])
        if rights.may("bulk") and rights.may("delete") and holds(rights.rows, row, look):
            return
        exchange = await send_items(case, bulk, key_items(case, bulk, keys), f"many deletes by {case.actor}", acting)
        found = await asyncio.gather(*(case.read(key, "a row then") for key in keys)) if case.has("read") else []
        gone = [
            key
            for key, (seen, row) in zip(keys, found, strict=True)
            if row is None and seen.answer.status in {404, 410}
        ]
        for key in gone:
            case.forget(key)
        if gone:
            yield _finding(
                case, "A role deletes many rows at once that it may not", f"a refusal: {_told(case, rights)}",
                f"{exchange.answer.status}, and {len(gone)} gone", [exchange],
                operation=(bulk.operation.method, bulk.operation.path),
            )  # fmt: skip


# -- credentials -------------------------------------------------------------------------------------


@check("access.credentials", needs=("list",), cost=lambda resource: 2, per_role=True)
async def credentials(case: Case) -> AsyncIterator[Finding]:
    """Are expired credentials, and those under another scheme, refused?"""
    role, rights = case.world.roles[case.actor], _rights(case)
    open_list = case.operation("list").open
    if not role.credentials or open_list or not rights.may("list"):
        raise Skipped("the list needs no credentials, or is not for this role")
    trials = [("expired", "expired credentials")] if role.expired else []
    if any(each.where == "header" and each.template.lower().startswith("bearer ") for each in role.credentials):
        trials.append(("scheme", "credentials under another scheme"))
    for kind, words in trials:
        exchange = await case.send("list", words, through=case.acting, credentials=kind)
        if exchange.answer.ok:
            yield _finding(
                case, f"{words.capitalize()} are taken", "401 (RFC 9110, 15.5.2)", str(exchange.answer.status),
                [exchange], "list", severity="error" if kind == "expired" else "warning",
            )  # fmt: skip


@check("access.caches", needs=("list",), cost=lambda resource: 2, per_role=True)
async def caches(case: Case) -> AsyncIterator[Finding]:
    """Is an answer that depends on credentials not offered to shared caches?"""
    exchange = await case.send("list", "the list as another role", through=case.acting)
    control = (exchange.answer.header("cache-control") or "").lower()
    rights = _rights(case)
    differs = rights.rows is not None or rights.hidden or not rights.may("list") or not case.operation("list").open
    varies = "authorization" in (exchange.answer.header("vary") or "").lower()
    shared = re.search(r"\bpublic\b|\bs-maxage=[1-9]", control)
    if exchange.answer.ok and case.world.roles[case.actor].credentials and differs and shared and not varies:
        yield _finding(
            case, "An answer for one role may be served to others by a cache",
            "no public or s-maxage without Vary: Authorization (RFC 9111, 3.5)", f"Cache-Control: {control}",
            [exchange], "list",
        )  # fmt: skip


@check("access.unexposed", cost=lambda resource: 0)
async def unexposed(case: Case) -> AsyncIterator[Finding]:
    """Are tables that are not to be exposed out of reach, however their names are written?"""
    first = case.world.model.resources[0]
    if case.resource is not first or not case.world.unexposed:
        raise Skipped("the profile names no table that is not to be reached, or another resource asks for it")
    prefix = (first.collection or "/").rpartition("/")[0]
    for table in case.world.unexposed:
        for name in _writings(table):
            url = f"{case.world.base_url.rstrip('/')}{prefix}/{name}"
            exchange = await case.world.session.send(Request("GET", url, case.world.role.name), case.check.name)
            case.requests += 1
            if (
                exchange.answer.ok
                and exchange.answer.parsed[0]
                and json.dumps(exchange.answer.json) not in {"[]", "{}"}
            ):
                yield _finding(
                    case, "A table that is not to be exposed can be read", f"404 for {table}",
                    f"{exchange.answer.status} at {prefix}/{name}", [exchange], operation=("GET", f"{prefix}/{name}"),
                    cause=f"unexposed {table}", subjects=[name],
                )  # fmt: skip
                break


def _writings(name: str) -> list[str]:
    """A table's name in the ways in which paths write names."""
    import inflection

    camelize = inflection.camelize
    plain = inflection.underscore(name.replace("-", "_"))
    forms = [plain, inflection.pluralize(plain), inflection.singularize(plain)]
    written = [
        way
        for form in forms
        for way in (form, form.replace("_", "-"), camelize(form, False), camelize(form), form.upper())
    ]
    return list(dict.fromkeys([name, *written]))
