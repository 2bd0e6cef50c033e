"""Relations between answers that hold on tables of any size, also on those too long to be read whole."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.checks.asking import Reply, ask, differing, snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.filtering import filtering_of, halving
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.sort import other_order, sorting_of
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.query import Compare, Operator, Order, Query
from checkpost.model.resource import Resource
from checkpost.model.spelling import Filtering, Inexpressible
from checkpost.oracle.columns import Mask, Snapshot
from checkpost.oracle.filter import Reading, evaluate
from checkpost.oracle.order import out_of_order
from checkpost.wire.listing import Key

_OPPOSITES: tuple[tuple[Operator, Operator], ...] = (("ge", "lt"), ("gt", "le"), ("eq", "ne"))
_MOST_FIELDS = 4
_PAGES = 3


def _cost(resource: Resource) -> int:
    return 8 if resource.queries.filterings else 0


@check("filter.halves", needs=("list",), cost=_cost)
async def halves(case: Case) -> AsyncIterator[Finding]:
    """Do a filter and its opposite split the list, by the totals that they give?"""
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    before = case.state.before
    if before is None or before.total is None:
        raise Skipped("the list gives no total")
    splits = _splits(filtering, snapshot, case.state.misfiltered)
    if not splits:
        raise Skipped("no field has two operators that are opposites, and nulls that can be counted")

    async def count(condition: Compare | None) -> Reply:
        return await ask(case, spelled(case, Query(condition)), "a filter and its opposite", 1)

    async def counted() -> list[tuple[tuple[Compare, ...], list[Reply], int | None]]:
        whole = (await count(None)).total
        return [(parts, list(await all_of(map(count, parts))), whole) for parts in splits]

    wrong = [parts for parts, replies, whole in await counted() if not {None, whole} & set(_sums(replies))]
    if not wrong:
        return
    case.state.replies.clear()
    again = await counted()
    case.state.replies.clear()
    after = (await count(None)).total
    for parts, replies, whole in again:
        told = next(iter(_sums(replies)))
        # rows that come and go meanwhile change the number of all
        if parts in wrong and told is not None and whole == after and whole not in _sums(replies):
            yield case.finding(
                "error",
                "expectation",
                "A filter and its opposite do not split the list",
                f"{whole} rows in all: {', '.join(map(str, parts))}",
                f"{' + '.join(str(reply.total) for reply in replies)} = {told}",
                cause="filter halves",
                purpose="list",
                place=filtering.place_of(parts[0].field),
                subjects=[parts[0].field],
                evidence=[reply.exchange for reply in replies],
            )


def _sums(replies: list[Reply]) -> list[int | None]:
    """How many rows the two halves and the nulls are, and the two alone: one of them may hold the nulls too."""
    totals = [reply.total for reply in replies if reply.total is not None]
    return [None] if len(totals) < len(replies) else [sum(totals), sum(totals[:2])]


def _splits(filtering: Filtering, snapshot: Snapshot, wrong: set[tuple[str, str]]) -> list[tuple[Compare, ...]]:
    """Comparisons of a field that leave each row once: two opposites, and the nulls where there may be any."""
    found: list[tuple[Compare, ...]] = []
    for field in snapshot.fields.values():
        known = {operator for operator in filtering.operators(field.name) if (field.name, operator) not in wrong}
        values = [row.get(field.name) for row in snapshot.rows if row.get(field.name) is not None]
        # a contract may forbid nulls that rows have all the same
        nullable = field.nullable or len(values) < len(snapshot.rows)
        if field.kind not in {"number", "boolean", "date"} or not values or (nullable and "null" not in known):
            continue
        chosen = [pair for pair in _OPPOSITES if known >= set(pair) and (pair[0] == "eq" or field.kind != "boolean")]
        value = sorted(values, key=str)[len(values) // 2]
        for first, second in chosen[:1]:
            nulls = (Compare(field.name, "null"),) if nullable else ()
            found.append((Compare(field.name, first, value), Compare(field.name, second, value), *nulls))
    return found[:_MOST_FIELDS]


@check("sort.ends", needs=("list",), cost=lambda resource: 4 if resource.queries.sortings else 0)
async def ends(case: Case) -> AsyncIterator[Finding]:
    """Is no row before the first of a sorted list, by what is known of the rows?"""
    sorting = await sorting_of(case)
    snapshot = await snapshot_of(case)
    if snapshot.whole:
        raise Skipped("the list was read whole, and its order looked at in every row")
    field = next(
        (
            each
            for each in snapshot.fields.values()
            if each.kind in {"number", "date", "date-time"}
            and not each.nullable
            and not snapshot.column(each.name).null.any()
            and (sorting.fields is None or each.name in sorting.fields)
            and not (case.resource.key and each.name in case.resource.key.fields)
        ),
        None,
    )
    if field is None:
        raise Skipped("no field that is never null can be sorted by")
    for down in (False, True):
        order = (Order(field.name, down),)
        reply = await ask(case, spelled(case, Query(order=order), sorting=sorting), "a sorted list")
        rows = list(reply.rows or ())
        if not rows:
            continue
        # the last row of the first page must not stand behind any row of the sample that is not on the page
        keys = {case.client.key_of(row) for row in rows}
        rest = [row for row, key in zip(snapshot.rows, snapshot.keys, strict=True) if key not in keys]
        both = Snapshot(
            [rows[-1], *rest], [case.client.key_of(rows[-1]) or (), *_keys(case, rest)], snapshot.fields, False
        )
        early = [place for place in range(1, len(both)) if out_of_order(both, [0, place], order)]
        if early and not reply.complete:
            yield case.finding(
                "error",
                "contract",
                "A sorted list does not begin with the rows that come first",
                f"rows by {order[0]}, from the whole table",
                f"{len(early)} rows of a sample of {len(snapshot)} belong on the first page",
                cause="sort ends",
                purpose="list",
                place=sorting.place,
                subjects=[str(order[0])],
                evidence=[reply.exchange],
                rows=differing(both, "missing", early, [field.name]),
            )
            return


def _keys(case: Case, rows: Sequence[Mapping[str, Any]]) -> list[Key]:
    return [case.client.key_of(row) or () for row in rows]


@check("page.filtered", needs=("list",), cost=lambda resource: 3 if resource.queries.filterings else 0)
async def filtered_pages(case: Case) -> AsyncIterator[Finding]:
    """Do the pages of what a filter leaves, in an order, hold each of its rows once, in that order?"""
    paging = case.resource.paging
    if paging.style not in {"offset", "page", "range"}:
        raise Skipped("the list is not paged by position")
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    if case.state.pages_broken:
        raise Blocked(case.state.pages_broken)
    if not snapshot.whole:
        raise Skipped("the list was not read whole to compare with")
    wrong = case.state.misfiltered
    condition = next((each for each in halving(filtering, snapshot) if (each.field, each.operator) not in wrong), None)
    if condition is None:
        raise Skipped("no filter leaves some rows and not all")
    truth = evaluate(condition, snapshot, Reading())
    order = _apart(snapshot, truth.true, await other_order(case, snapshot, condition))
    wanted = int(truth.true.sum())
    size = min(max(2, -(-wanted // _PAGES)), paging.largest or 1000)
    if wanted < 3 or -(-wanted // size) > 12:
        raise Skipped("what the filter leaves does not come to a few pages")
    try:
        asked = spelled(case, Query(condition, order))
    except Inexpressible:
        raise Skipped("a filter and an order cannot be written together") from None

    async def joined() -> tuple[list[Key], list[Reply]]:
        pages = await all_of(
            ask(case, asked, "a page of what a filter leaves", size, number) for number in range(-(-wanted // size))
        )
        keys = [key for page in pages for row in page.rows or () if (key := case.client.key_of(row)) is not None]
        return keys, list(pages)

    expected = {snapshot.keys[place] for place in range(len(snapshot)) if truth.true[place]}
    keys, pages = await joined()
    if any(page.rows is None for page in pages):
        return
    if set(keys) == expected and len(keys) == len(expected) and not _unordered(snapshot, keys, order):
        return
    fresh = await snapshot_of(case, anew=True)
    keys, pages = await joined()
    if list(fresh.keys) != list(snapshot.keys):
        return  # others are at work
    lost, more = expected - set(keys), set(keys) - expected
    twice = len(keys) - len(set(keys))
    unordered = _unordered(snapshot, keys, order)
    if lost or more or twice or unordered:
        names = [condition.field, *(each.field for each in order)]
        yield case.finding(
            "error",
            "expectation",
            "Pages of a filtered list do not join to what the filter leaves",
            f"{wanted} rows in pages of {size}: {Query(condition, order)}",
            f"{len(lost)} rows missing, {len(more)} that do not match, {twice} twice"
            if lost or more or twice
            else "rows in another order from page to page",
            cause="filtered pages",
            purpose="list",
            evidence=[page.exchange for page in pages[:2]],
            rows=differing(snapshot, "missing", [snapshot.positions[key] for key in lost], names)
            + differing(
                snapshot, "does not match", [snapshot.positions[k] for k in more if k in snapshot.positions], names
            ),
        )


def _apart(snapshot: Snapshot, left: Mask, order: tuple[Order, ...]) -> tuple[Order, ...]:
    """An order in which the rows that a filter leaves are not just the first of all: those would be on the first pages
    of a list that is cut before it is filtered too."""
    for each in order:
        column = snapshot.column(each.field)
        inside, outside = column.values[left & ~column.null], column.values[~left & ~column.null]
        if len(inside) and len(outside) and min(inside.tolist()) >= max(outside.tolist()):
            return (replace(each, descending=not each.descending),)
    return order


def _unordered(snapshot: Snapshot, keys: list[Key], order: tuple[Order, ...]) -> bool:
    places = [snapshot.positions[key] for key in keys if key in snapshot.positions]
    return bool(order) and out_of_order(snapshot, places, order) is not None
