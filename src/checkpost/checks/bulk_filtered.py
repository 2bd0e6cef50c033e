"""Rows changed or removed by a filter: those that it leaves, and no other."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.checks.asking import spelled
from checkpost.checks.blame import said
from checkpost.checks.bulk import bulk_finding, not_allowed
from checkpost.checks.case import Case
from checkpost.checks.filtering import filtering_of
from checkpost.checks.many import told_by
from checkpost.checks.own import Own
from checkpost.checks.records import new_record, new_value
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.findings import Differing, Finding
from checkpost.model.bulk import Bulk, BulkPurpose
from checkpost.model.field import MISSING
from checkpost.model.purpose import Purpose
from checkpost.model.query import Compare, Operator, Query
from checkpost.model.resource import Resource
from checkpost.model.spelling import Filtering, Inexpressible
from checkpost.oracle.same import differences, same
from checkpost.wire.door import Act, Made
from checkpost.wire.listing import Asked, Key, Listing, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
#: What leaves the rows with a value; the list shows beforehand what it leaves.
_EQUAL: tuple[Operator, ...] = ("eq", "match")


@check("bulk.filtered", needs=(*_NEEDS, "list"), creates=True, alone=True, cost=lambda r: 20 if by_filter(r) else 0)
async def filtered(case: Case) -> AsyncIterator[Finding]:
    """Do changes and removals by filter reach the rows that it leaves, and no other?"""
    purposes = by_filter(case.resource)
    if not purposes:
        raise Skipped("the contract has no change or removal by filter")
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    filtering = await filtering_of(case)
    for purpose in purposes:
        bulk = case.resource.bulk[purpose]
        rows, asked = await own_chosen(case, filtering)
        before = await case.listing()
        try:
            async for finding in _by(case, bulk, asked, rows, before):
                yield finding
                if finding.severity == "error":
                    return
        except Skipped as why:
            case.remark(str(why))


def by_filter(resource: Resource) -> list[BulkPurpose]:
    purposes: tuple[BulkPurpose, ...] = ("filtered update", "filtered delete")
    return [purpose for purpose in purposes if purpose in resource.bulk]


def by_filter_act(case: Case, purpose: Purpose, keys: Sequence[Key], values: Mapping[str, Any]) -> Act:
    """What a change or removal by filter may do: only the API decides which rows it leaves."""
    name = case.resource.name
    touched = tuple((name, key) for key in keys)
    if purpose == "delete":
        return Act("remove", (), touched, True)
    return Act("change", tuple(Made(name, values) for _ in keys), touched, True)


async def _listed(case: Case, asked: Asked) -> Listing:
    listing = await case.client.whole_list(case.world.most_rows, case.check.name, "what the filter leaves", asked)
    case.requests += len(listing.exchanges)
    return listing


async def own_chosen(case: Case, filtering: Filtering) -> tuple[list[Own], Asked]:
    """Three own rows, and a filter that is seen to leave the first two and nothing else."""
    chosen = await _own_by_value(case, filtering)
    if chosen is None:
        raise Skipped("no filter is known that leaves nothing but the run's own rows")
    rows, asked = chosen
    if {case.client.key_of(row) for row in (await _listed(case, asked)).rows} != {own.key for own in rows[:2]}:
        # what a filter leaves in a list is what it changes: nobody else's rows may be among it
        raise Skipped("the filter does not leave just the run's own rows, so that it is not tried on a write")
    return rows, asked


async def _own_by_value(case: Case, filtering: Filtering) -> tuple[list[Own], Asked] | None:
    """Three own rows, and a filter that leaves the first two of them and no others."""
    names = case.resource.key_fields
    for field in case.resource.writable("create"):
        plain = field.kind in {"text", "number", "date"} and "enum" not in field.keywords
        fixed = field.unique or field.name in names or case.resource.relation(field.name) is not None
        wrong = (field.name, "eq") in case.state.misfiltered or field.name in case.resource.values
        operator = next((each for each in _EQUAL if each in filtering.operators(field.name)), None)
        if not plain or fixed or wrong or not field.shown or operator is None:
            continue
        records = [await new_record(case) for _ in range(3)]
        value = records[0].get(field.name)
        before = case.state.rows_before
        if value in (None, "") or any(same(field, value, row.get(field.name)) for row in before):
            continue
        records[1][field.name] = value
        if same(field, value, records[2].get(field.name)):
            continue
        made = [(record, *await case.create(record)) for record in records]
        rows = [Own(key, record, exchange) for record, exchange, key in made if key is not None]
        if len(rows) < 3:
            continue
        try:
            return rows, spelled(case, Query(Compare(field.name, operator, value)), filtering)
        except Inexpressible:
            continue
    return None


async def _by(case: Case, bulk: Bulk, asked: Asked, rows: Sequence[Own], before: Listing) -> AsyncIterator[Finding]:
    """Change or remove by filter; what became of the rows that it leaves, of the third, and of all others."""
    removes = bulk.purpose == "filtered delete"
    purpose: Purpose = "delete" if removes else "update"
    used = {pair[0] for pair in asked.pairs}
    values: dict[str, Any] = {}
    if not removes:
        for field in case.resource.writable("update"):
            free = case.resource.relation(field.name) is None and not field.unique and field.shown and bool(field.kind)
            free = free and field.name not in case.state.unchangeable
            if free and not any(field.name in name for name in used) and field.name not in str(asked.pairs):
                value = await new_value(case, field)
                if value is not MISSING and value is not None:
                    values = {field.name: value}
                    break
        if not values:
            raise Skipped("none of its fields can be changed freely")
    act = by_filter_act(case, purpose, [own.key for own in rows[:2]], values)
    exchange = await case.send(
        purpose, "by a filter", operation=bulk.operation, query=asked.pairs, record=None if removes else values, act=act
    )
    not_allowed(exchange)
    evidence = [exchange]
    if exchange.answer.refused:
        title = "Update by filter is refused" if not removes else "Delete by filter is refused"
        yield bulk_finding(case, bulk, title, "success", said(exchange), evidence, "warning", "contract")
        return
    after = await case.listing()
    if not before.complete or not after.complete or after.problem:
        raise Skipped("the list cannot be looked through")

    def reached(key: Key) -> bool:
        row = after.by_key.get(key)
        if removes or row is None:
            return row is None
        return all(same(case.fields[name], value, row.get(name)) for name, value in values.items())

    for own in rows:
        if own.key not in after.by_key:
            forget(case, own.key)
    missed = [own.key for own in rows[:2] if not reached(own.key)]
    others = [key for key, row in before.by_key.items() if key not in {own.key for own in rows[:2]}]
    touched = [
        key
        for key in others
        if key not in after.by_key or differences(case.fields, before.by_key[key], after.by_key[key], list(values))
    ]
    if touched:
        restored = await _put_back(case, touched, before, after, list(values))
        what = "removes" if removes else "changes"
        lost = [key for key in touched if key not in after.by_key]
        told = [
            Differing("removed" if key in lost else "changed", key_text(key), dict(before.by_key[key]))
            for key in touched[:5]
        ]
        for key in touched:
            if key not in case.made_keys:
                case.harmed(key, "removed" if key in lost else "changed", before.by_key[key], key in restored)
        finding = bulk_finding(
            case, bulk, f"A filter {what} rows that it does not leave", "the two rows that it leaves",
            f"{exchange.answer.status}, and {len(touched)} more", evidence,
        )  # fmt: skip
        yield replace(finding, rows=tuple(told))
    if missed:
        title = "Delete by filter leaves rows" if removes else "Update by filter misses rows"
        yield bulk_finding(
            case, bulk, title, "both rows", f"{exchange.answer.status}, and {len(missed)} as before", evidence
        )
    count = told_by(case, exchange.answer, (None, None)).count
    if count is not None and not missed and not touched and count != 2:
        title = "A bulk request reports a wrong count"
        yield bulk_finding(case, bulk, title, "2", str(count), evidence)


async def _put_back(case: Case, keys: Sequence[Key], before: Listing, after: Listing, names: Sequence[str]) -> set[Key]:
    """Give rows that a faulty API has changed against the filter their values again; the keys of those that have
    them."""
    restored: set[Key] = set()
    for key in keys if case.has("update") else ():
        values = {name: before.by_key[key][name] for name in names if name in before.by_key[key]}
        if key in after.by_key and values and (await case.restore(key, values)).answer.ok:
            restored.add(key)
    return restored
