"""Sorting: each field both ways, several keys, nulls together, ties that do not tear pages apart."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import AsyncIterator, Collection, Sequence
from dataclasses import dataclass, replace

from checkpost.checks.asking import Reply, ask, differing, snapshot_of, spelled, with_rows
from checkpost.checks.blame import blamed
from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.findings import Differing, Finding
from checkpost.model.field import Field
from checkpost.model.query import Compare, Order, Query
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Inexpressible, Sorting
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.order import out_of_order
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key

_MOST_PAGES = 12
#: A direction that is none.
_NO_DIRECTION = "sideways"
#: Which share of rows has to come in order for a parameter to be one that orders them, though wrongly; and of how many.
_NEARLY, _FEW = 0.75, 7


def _cost(resource: Resource) -> int:
    return 2 * len(resource.fields) if resource.queries.sortings else 0


@dataclass(frozen=True)
class Sorted:
    """A sorted answer, the first two rows that are out of order, and what it has lost or repeated."""

    order: tuple[Order, ...]
    reply: Reply
    places: tuple[int, ...]
    wrong: tuple[int, int] | None = None
    lost: int = 0
    twice: int = 0


async def sorting_of(case: Case) -> Sorting:
    """How an order is spelled: as described, or of several ways the one that proves itself. Raises Skipped."""
    state, candidates = case.state, case.resource.queries.sortings
    if not candidates:
        raise Skipped("neither contract nor profile describes a sort")
    if state.unsorted:
        raise Skipped(state.unsorted)
    if state.sorting is None and len(candidates) == 1:
        state.sorting = candidates[0]
    elif state.sorting is None:
        snapshot, tried = await snapshot_of(case), list[Sorted]()
        best, share = candidates[0], 0.0
        for candidate in candidates:
            shown = await _share_in_order(case, snapshot, candidate, tried)
            best, share = (candidate, shown) if shown > share else (best, share)
            if share == 1:
                break
        if share < _NEARLY:
            state.unsorted = (
                f"how {candidates[0].parameter} is written is not described, and no usual way of "
                f"{len(candidates)} works; state it under 'queries' in the profile"
            )
            if len(tried) >= len(candidates) and all(_as_it_was(each) for each in tried):
                state.order_ignored = tried[0].reply.exchange
            raise Skipped(state.unsorted)
        named = tuple(sorted(state.sortable))  # the contract names none
        state.sorting = replace(best, fields=named) if named else best
    assert state.sorting is not None
    return state.sorting


def _as_it_was(tried: Sorted) -> bool:
    """Whether rows came whole, and in the order in which they come by themselves."""
    return tried.reply.complete and tried.places == tuple(range(len(tried.places)))


async def _share_in_order(case: Case, snapshot: Snapshot, sorting: Sorting, tried: list[Sorted]) -> float:
    """Which share of rows comes in order, the less of both ways, as a field shows by which they do not come so by
    themselves; one of those that a refusal of another names, if it does. What was answered is added to ``tried``."""
    shares: list[float] = []
    for descending in (False, True):
        field = telling(snapshot, descending, case.state.sortable)
        if field is None:
            continue
        order = (Order(field.name, descending),)
        found = await asked_in_order(case, snapshot, order, sorting, "trying how an order is written")
        if found is not None and found.reply.refused and not case.state.sortable:
            case.state.sortable = blamed(found.reply.exchange, snapshot.fields.keys() - {field.name})
            if case.state.sortable:
                return await _share_in_order(case, snapshot, sorting, tried)
        if found is None or found.reply.rows is None:
            return 0.0
        tried.append(found)
        shares.append(1.0 if found.wrong is None else _neighbours_in_order(snapshot, found))
        if shares[-1] < _NEARLY:
            return 0.0
    return min(shares, default=0.0)


def _neighbours_in_order(snapshot: Snapshot, found: Sorted) -> float:
    """Which share of the rows is in order with the one before; 0 where they are few."""
    values = snapshot.column(found.order[0].field).values[list(found.places)].tolist()
    pairs = list(itertools.pairwise(values[::-1] if found.order[0].descending else values))
    if len(pairs) < _FEW:
        return 0.0
    return float(sum(one <= other for one, other in pairs) / len(pairs))


def telling(snapshot: Snapshot, descending: bool, among: Collection[str] = ()) -> Field | None:
    """A field without nulls, a number if there is one, by which the rows are not in order as they come by
    themselves; of those that are named, if any are."""
    kinds = ("number", "text")
    named = [each for each in snapshot.fields.values() if each.kind in kinds and (not among or each.name in among)]
    fields = sorted(named, key=lambda each: kinds.index(each.kind))
    for each in fields:
        column = snapshot.column(each.name)
        distinct = len(set(column.values.tolist())) > 2 and not column.null.any()
        if distinct and out_of_order(snapshot, range(len(snapshot)), (Order(each.name, descending),)) is not None:
            return each
    return None


async def asked_in_order(
    case: Case, snapshot: Snapshot, order: tuple[Order, ...], sorting: Sorting, situation: str = "a sorted list"
) -> Sorted | None:
    """A sorted answer, judged; None for an order that cannot be spelled."""
    try:
        reply = await ask(case, spelled(case, Query(order=order), sorting=sorting), situation)
    except Inexpressible:
        return None
    snapshot = with_rows(case, snapshot, [reply])
    keys = [case.client.key_of(row) for row in reply.rows or ()]
    known = [key for key in keys if key is not None]
    places = tuple(snapshot.positions[key] for key in known if key in snapshot.positions)
    judged = [each for each in order if snapshot.fields[each.field].kind not in {"uuid", ""}]
    wrong = out_of_order(snapshot, places, order) if len(judged) == len(order) else None
    refers = case.resource.relation(order[0].field) is not None
    if wrong is not None and refers and as_what_they_refer_to(snapshot, places, order[0]):
        wrong = None
    lost = len(snapshot) - len(set(places)) if reply.complete and snapshot.whole else 0
    # of a list that grows unseen, a row may be in two pages
    twice = len(known) - len(set(known)) if snapshot.counted else 0
    return Sorted(order, reply, places, wrong, lost, twice)


def as_what_they_refer_to(snapshot: Snapshot, places: Sequence[int], order: Order) -> bool:
    """Whether rows may be in an order that those which they refer to have among themselves: rows that refer to one
    stand together, and they are not just the other way round."""
    column = snapshot.column(order.field)
    values = [None if column.null[place] else column.values[place] for place in places]
    together = len([None for _ in itertools.groupby(values)]) == len(set(values))
    return together and out_of_order(snapshot, places, (Order(order.field, not order.descending),)) is not None


def _described(sorting: Sorting, snapshot: Snapshot) -> list[Field]:
    """The fields that an order may be by."""
    named = [each for each in snapshot.fields.values() if sorting.fields is None or each.name in sorting.fields]
    return [each for each in named if each.kind]


def sortable(case: Case, sorting: Sorting, snapshot: Snapshot) -> list[Field]:
    """The fields that an order may be by, but for those by which rows were seen to be in no order."""
    return [each for each in _described(sorting, snapshot) if each.name not in case.state.missorted]


@check("sort.each-field", needs=("list",), cost=_cost)
async def each_field(case: Case) -> AsyncIterator[Finding]:
    """Does the list come in order by each field, both ways, with nulls together and every row there?"""
    try:
        sorting = await sorting_of(case)
    except Skipped:
        if case.state.order_ignored is None:
            raise
        yield _without_effect(case, case.state.order_ignored)
        return
    snapshot = await snapshot_of(case)
    orders = [(Order(each.name, down),) for each in _described(sorting, snapshot) for down in (False, True)]
    trials = await _judged(case, sorting, orders)
    snapshot = await snapshot_of(case)
    refused = [each for each in trials if each.reply.refused]
    if refused and len(refused) == len(trials) and sorting.reason.certainty != "stated":
        case.state.unsorted = f"every order was refused, so that {sorting.parameter} is taken to be written otherwise"
        raise Skipped(case.state.unsorted)
    if trials and not refused and all(each.reply.rows is None for each in trials):
        raise Blocked(f"no order was answered with rows ({trials[0].reply.exchange.answer.status or 'no answer'})")
    promised = [each for each in refused if sorting.fields is not None]
    if promised:
        yield _finding(case, snapshot, sorting, "A documented order is refused", promised, "refused")
    wrong = [each for each in trials if each.wrong]
    case.state.missorted |= {each.order[0].field for each in wrong}
    if wrong:
        async for finding in _grouped(case, snapshot, sorting, wrong, trials):
            yield finding
    torn = [each for each in trials if (each.lost or each.twice) and not each.wrong]
    if torn:
        yield _finding(case, snapshot, sorting, "A sorted list loses or repeats rows", torn, "torn")
    if not wrong:
        for ascending, descending in zip(trials[::2], trials[1::2], strict=False):
            field = snapshot.fields[ascending.order[0].field]
            if field.kind == "uuid" and field.unique and _not_reversed(ascending, descending):
                yield _finding(
                    case, snapshot, sorting, "Descending is not ascending reversed", [descending], "reversed"
                )


def _without_effect(case: Case, exchange: Exchange) -> Finding:
    ways = case.resource.queries.sortings
    return case.finding(
        "note",
        "expectation",
        "No usual way of writing an order has any effect",
        f"rows in order for one of the {len(ways)} ways in which {ways[0].parameter} is usually written",
        "the order in which they come without it, each time",
        cause="any:order ignored",
        purpose="list",
        place=ways[0].place,
        subjects=[ways[0].parameter],
        evidence=[exchange],
    )


def _not_reversed(ascending: Sorted, descending: Sorted) -> bool:
    whole = ascending.reply.complete and descending.reply.complete
    return whole and len(ascending.places) > 2 and ascending.places != descending.places[::-1]


async def _judged(case: Case, sorting: Sorting, orders: Sequence[tuple[Order, ...]]) -> list[Sorted]:
    """Sorted answers; what is wrong is asked for again on rows read anew."""

    async def every() -> list[Sorted]:
        snapshot = await snapshot_of(case)
        found = await all_of(asked_in_order(case, snapshot, order, sorting) for order in orders)
        return [each for each in found if each is not None]

    trials = await every()
    if not any(each.wrong or each.lost or each.twice for each in trials):
        return trials
    before = await snapshot_of(case, anew=True)
    again = await every()
    after = await snapshot_of(case, anew=True)
    if not before.unchanged(after):
        case.remark("others were changing the rows meanwhile, so that what looked wrong could not be judged")
        return [each for each in again if not (each.wrong or each.lost or each.twice)]
    wrong = {each.order for each in trials if each.wrong or each.lost or each.twice}
    return [each for each in again if each.order in wrong or not (each.wrong or each.lost or each.twice)]


async def _grouped(
    case: Case, snapshot: Snapshot, sorting: Sorting, wrong: Sequence[Sorted], trials: Sequence[Sorted]
) -> AsyncIterator[Finding]:
    """One finding for each cause: sorting as a whole, a direction, a kind of value, or a field."""
    usable = [each for each in trials if each.reply.rows is not None]
    down = [each for each in wrong if each.order[0].descending]
    fields = {each.order[0].field for each in wrong}
    could_show = [each for each in usable if _has_order(snapshot, each.order[0].field)]
    if len(wrong) > 3 and len(wrong) >= 0.45 * len(could_show) and len(fields) > 2:
        case.state.unsorted = "sorting does not work"
        if len(down) == len(wrong):
            title, cause = "Descending order is ignored", "descending"
        elif not down:
            title, cause = "Ascending order is not kept", "ascending"
        else:
            title, cause = "Sorting is ignored", "every order"
        yield _finding(case, snapshot, sorting, title, wrong, cause)
        return
    ignored = _ignored(wrong) if sorting.fields is None and len(wrong) < len(could_show) else []
    if ignored:  # the contract does not say by which fields rows can be sorted
        title = "An order by some fields is ignored"
        yield _finding(case, snapshot, sorting, title, ignored, "field ignored", stated=False)
    wrong = [each for each in wrong if each not in ignored]
    kinds = Counter(snapshot.fields[each.order[0].field].kind for each in wrong)
    for kind in kinds:
        group = [each for each in wrong if snapshot.fields[each.order[0].field].kind == kind]
        words = {"number": "Numbers are not sorted by their value", "text": "Texts are not in order"}
        title = words.get(kind, "Rows are not in the order asked for")
        same_null = all(_null_in_pair(snapshot, each) for each in group)
        if same_null:
            title = "Nulls are mixed among the values of a sorted list"
        yield _finding(case, snapshot, sorting, title, group, f"{kind} {'nulls' if same_null else 'order'}")


def _ignored(wrong: Sequence[Sorted]) -> list[Sorted]:
    """The orders by fields for which the rows come alike both ways."""
    ways: dict[str, list[Sorted]] = {}
    for each in wrong:
        ways.setdefault(each.order[0].field, []).append(each)
    return [each for both in ways.values() if len(both) == 2 and both[0].places == both[1].places for each in both]


def _has_order(snapshot: Snapshot, name: str) -> bool:
    column = snapshot.column(name)
    return len(set(column.values[~column.null].tolist())) > 1


def _null_in_pair(snapshot: Snapshot, each: Sorted) -> bool:
    column = snapshot.column(each.order[0].field)
    return each.wrong is not None and bool(column.null[list(each.wrong)].any())


def _finding(
    case: Case,
    snapshot: Snapshot,
    sorting: Sorting,
    title: str,
    group: Sequence[Sorted],
    cause: str,
    stated: bool = True,
) -> Finding:
    shown = group[0]
    said = ", ".join(map(str, shown.order))
    names = [each.field for each in shown.order]
    rows: list[Differing] = []
    observed = str(shown.reply.exchange.answer.status)
    if shown.wrong is not None and max(shown.wrong) < len(snapshot):
        first, second = (snapshot.rows[place] for place in shown.wrong)
        observed = f"{_values(first, names)} before {_values(second, names)}"
        rows = differing(snapshot, "too early", shown.wrong[:1], names) + differing(
            snapshot, "too late", shown.wrong[1:], names
        )
    elif shown.lost or shown.twice:
        observed = f"{shown.lost} rows missing, {shown.twice} twice"
    return case.finding(
        "error" if stated else "warning",
        "contract" if stated else "expectation",
        title,
        f"rows by {said}",
        observed,
        cause=f"sort {cause}",
        purpose="list",
        place=sorting.place,
        subjects=dict.fromkeys(", ".join(map(str, each.order)) for each in group),
        evidence=[shown.reply.exchange],
        rows=rows,
    )


def _values(row: object, names: Sequence[str]) -> str:
    assert isinstance(row, dict)
    return ", ".join(f"{name} {row.get(name)!r}" for name in names)


async def other_order(case: Case, snapshot: Snapshot, condition: Compare | None) -> tuple[Order, ...]:
    """A descending order by a number or date that a condition is not about, the one with the most values, so that few
    rows are equal; none where none can be asked for."""
    try:
        sorting = await sorting_of(case)
    except Skipped:
        return ()
    fields = [
        each
        for each in sortable(case, sorting, snapshot)
        if each.kind in {"number", "date", "date-time"} and (condition is None or each.name != condition.field)
    ]
    values = {each.name: len(set(snapshot.column(each.name).values.tolist())) for each in fields}
    most = max(values, key=lambda name: values[name], default=None)
    # where pages are known to be torn between equal rows, that is told
    torn = any(each.check == "sort.pages" for each in case.known())
    return (Order(most, True),) if most is not None and not (torn and values[most] < len(snapshot)) else ()


@check("sort.several-keys", needs=("list",), cost=lambda resource: 2)
async def several_keys(case: Case) -> AsyncIterator[Finding]:
    """Does a second key order the rows that the first one leaves equal?"""
    sorting = await sorting_of(case)
    if not sorting.several:
        raise Skipped("the contract does not say that several keys may be given")
    snapshot = await snapshot_of(case)
    pairs = tied_pairs(case, sorting, snapshot)
    if not pairs:
        raise Skipped("no field has equal values in several rows")
    for found in await by_two(case, sorting, *pairs[0]):
        yield found


async def by_two(case: Case, sorting: Sorting, first: str, second: str) -> list[Finding]:
    """The finding that an order by one field, and by a second where rows are equal in it, is not kept."""
    orders = [(Order(first), Order(second, True)), (Order(first, True), Order(second))]
    wrong = [each for each in await _judged(case, sorting, orders) if each.wrong]
    if not wrong:
        return []
    snapshot = await snapshot_of(case)
    return [_finding(case, snapshot, sorting, "An order by two fields is not kept", wrong, "several")]


def tied_pairs(case: Case, sorting: Sorting, snapshot: Snapshot) -> list[tuple[str, str]]:
    """A field with few values, and one with many."""
    kinds = {"number", "boolean", "date", "date-time", "text"}
    fields = [
        each for each in sortable(case, sorting, snapshot) if each.kind in kinds and _has_order(snapshot, each.name)
    ]
    distinct = {each.name: len(set(snapshot.column(each.name).values.tolist())) for each in fields}
    few = sorted((name for name in distinct if distinct[name] <= len(snapshot) / 2), key=lambda name: distinct[name])
    many = sorted(
        (each.name for each in fields if each.kind in {"number", "date", "date-time"}), key=lambda name: -distinct[name]
    )
    return [(first, second) for first in few for second in many if first != second]


@check("sort.pages", needs=("list",), cost=lambda resource: 6)
async def ties_across_pages(case: Case) -> AsyncIterator[Finding]:
    """Do pages of a list that is sorted by a field with equal values still hold each row once?"""
    sorting = await sorting_of(case)
    snapshot = await snapshot_of(case)
    paged_by_position(case, snapshot)
    tied = tied_pairs(case, sorting, snapshot)
    if not tied:
        raise Skipped("no field has equal values in several rows")
    for found in await across_pages(case, sorting, snapshot, tied[0][0]):
        yield found


def paged_by_position(case: Case, snapshot: Snapshot) -> None:
    """Raise Skipped or Blocked where pages of a list cannot be asked for side by side."""
    if case.resource.paging.style not in {"offset", "page", "range"} or not snapshot.whole:
        raise Skipped("the list is not paged by position, or was not read whole")
    if case.state.pages_broken:
        raise Blocked(case.state.pages_broken)


async def across_pages(case: Case, sorting: Sorting, snapshot: Snapshot, name: str) -> list[Finding]:
    """The finding that pages of a list sorted by a field in which rows are equal lose or repeat rows."""
    paging = case.resource.paging
    size = min(max(2, -(-len(snapshot) // 5)), paging.largest or 1000)
    if -(-len(snapshot) // size) > _MOST_PAGES:
        raise Skipped(f"the list has over {_MOST_PAGES} pages of the largest size")
    order = (Order(name),)
    asked = spelled(case, Query(order=order), sorting=sorting)

    async def joined() -> tuple[list[Key], list[Reply]]:
        count = -(-len(snapshot) // size)
        pages = await all_of(ask(case, asked, "a sorted page", size, number) for number in range(count))
        keys = [key for page in pages for row in page.rows or () if (key := case.client.key_of(row)) is not None]
        return keys, list(pages)

    keys, pages = await joined()
    if any(page.rows is None for page in pages) or any(len(page.rows or ()) != size for page in pages[:-1]):
        raise Skipped("the pages do not have the size that was asked for")
    if len(set(keys)) == len(keys) == len(snapshot):
        return []
    fresh = await snapshot_of(case, anew=True)
    keys, pages = await joined()
    lost, twice = set(fresh.keys) - set(keys), [key for key, count in Counter(keys).items() if count > 1]
    if not fresh.unchanged(await snapshot_of(case, anew=True)) or not (lost or twice):
        return []
    return [
        case.finding(
            "error",
            "expectation",
            "Pages of a list sorted by equal values lose or repeat rows",
            f"each row once in the pages of {size}, by {order[0]}",
            f"{len(lost)} rows missing, {len(twice)} twice",
            cause="sorted pages",
            purpose="list",
            subjects=[str(order[0])],
            evidence=[page.exchange for page in pages[:2]],
            rows=differing(fresh, "missing", [fresh.positions[key] for key in lost], [order[0].field])
            + differing(
                fresh, "twice", [fresh.positions[key] for key in twice if key in fresh.positions], [order[0].field]
            ),
        )
    ]


@check("sort.unknown", needs=("list",), cost=lambda resource: 1)
async def unknown_key(case: Case) -> AsyncIterator[Finding]:
    """Is an order by an unknown field refused?"""
    sorting = await sorting_of(case)
    if "{field}" in sorting.parameter:
        raise Skipped("each field has a parameter of its own for the order")
    order = (Order("no_such_field"),)
    reply = await ask(case, spelled(case, Query(order=order), sorting=sorting), "an order by an unknown field")
    documented = [each.status for each in case.operation("list").responses if each.status in {"400", "422", "4XX"}]
    if reply.rows and (sorting.fields is not None or documented):
        yield case.finding(
            "warning" if sorting.fields is not None else "note",
            "contract" if sorting.fields is not None else "expectation",
            "An order by an unknown field is accepted",
            f"a refusal ({' or '.join(documented) or '400'})",
            f"{reply.exchange.answer.status} with {len(reply.rows)} rows",
            cause="unknown sort key",
            purpose="list",
            place=sorting.place,
            evidence=[reply.exchange],
        )


@check("sort.unknown-direction", needs=("list",), cost=lambda resource: 1)
async def unknown_direction(case: Case) -> AsyncIterator[Finding]:
    """Is an order in a direction that is none refused, where the direction is a parameter of its own?"""
    sorting = await sorting_of(case)
    fields = sortable(case, sorting, await snapshot_of(case))
    if not sorting.direction or not fields:
        raise Skipped("no parameter of its own has the direction" if fields else "no field can be ordered by")
    parameter = case.operation("list").query_parameter(sorting.direction)
    known = shape_of(parameter.schema).keywords.get("enum") if parameter is not None else None
    if known and _NO_DIRECTION in known:
        raise Skipped(f"{_NO_DIRECTION} is a direction")
    sideways = replace(sorting, words=(_NO_DIRECTION, _NO_DIRECTION))
    asked = spelled(case, Query(order=(Order(fields[0].name),)), sorting=sideways)
    reply = await ask(case, asked, "an order in no direction")
    if reply.rows and known:
        yield case.finding(
            "warning",
            "contract",
            "An order in an unknown direction is accepted",
            f"a refusal, such as 400: {sorting.direction} is {' or '.join(map(str, known))}",
            f"{reply.exchange.answer.status} with {len(reply.rows)} rows for {sorting.direction}={_NO_DIRECTION}",
            cause="unknown direction",
            purpose="list",
            place=sorting.place,
            evidence=[reply.exchange],
        )
