"""Questions put to a list: spelled as the API has it, answered once, and held against the snapshot."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.state import State
from checkpost.findings import Differing
from checkpost.model.query import Query, compares
from checkpost.model.spelling import Filtering, Pairs, Sorting
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Answer
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import USUAL_PAGE, Asked, Key, Listing, Row, counted, key_text, position_of, says_more

T = TypeVar("T")
_MOST_SHOWN = 5
#: Pages of one answer that are read where no total tells how many rows there are.
_MOST_PAGES = 5
#: Rows that are asked for at once at the most; how many may come to those that are known while others are at work.
_MOST_ROWS, _SPARE = 1000, 20
#: Pages that a sample is drawn from, beside the first.
_SAMPLES = 4


@dataclass(frozen=True)
class Reply:
    """What a list answered: ``rows`` is None where it refused, ``complete`` says whether they are all."""

    exchange: Exchange
    rows: tuple[Row, ...] | None
    total: int | None
    complete: bool

    @property
    def refused(self) -> bool:
        return self.exchange.answer.refused


async def snapshot_of(case: Case, anew: bool = False) -> Snapshot:
    """The rows as they are now, read once for all questions between two writes. Raises Blocked, Skipped."""
    state = case.state
    if state.unusable:
        raise Blocked(state.unusable)
    if state.ghosts:
        raise Blocked(state.ghosts)
    async with state.reading:  # one reading serves all that wait for it
        if state.snapshot is None or state.snapshot[0] != state.writes or anew:
            await _read_anew(case, anew)
    assert state.snapshot is not None
    snapshot = state.snapshot[1]
    if len(snapshot) < 3:
        raise Skipped("the list has too few rows, or rows whose keys are not known")
    if not snapshot.whole:
        case.remark(f"judged by a sample of {len(snapshot)} rows, since the list was not read whole")
    return snapshot


async def _read_anew(case: Case, anew: bool) -> None:
    state = case.state
    unchanged = state.before is not None and state.writes == 0 and not anew and not state.outdated
    listing = state.before if unchanged and state.before is not None else await case.listing()
    if listing.repeated:
        raise Blocked("its list has rows twice")
    if listing.problem:
        raise Blocked(f"its list cannot be used: {listing.problem}")
    shown = {name: field for name, field in case.fields.items() if field.shown}
    sound = listing.complete and not state.pages_broken
    whole = sound and (listing.total is None or listing.total == len(listing.rows))
    by_key = dict(listing.by_key)
    if not listing.complete and listing.total:
        by_key |= await _spread(case, listing)
    state.snapshot = (state.writes, Snapshot(list(by_key.values()), list(by_key), shown, whole, listing.total))
    if anew:
        state.replies.clear()


async def _spread(case: Case, listing: Listing) -> dict[Key, Row]:
    """Rows from all over a list that is too long to be read whole: a few pages at even distances."""
    paging = case.resource.paging
    step = len(case.client.rows_in(listing.exchanges[0].answer.json) or ())
    if paging.style not in {"offset", "page", "range"} or not step or listing.total is None:
        return {}
    last = (listing.total - 1) // step
    numbers = sorted({round(last * part / _SAMPLES) for part in range(1, _SAMPLES + 1)} - {0})
    found: dict[Key, Row] = {}
    for number in numbers:
        asked = position_of(case.client, number, step)
        exchange = await case.send("list", "a sample", query=asked.pairs, headers=asked.headers)
        for row in case.client.rows_in(exchange.answer.json) or () if exchange.answer.ok else ():
            key = case.client.key_of(row)
            if key is not None:
                found[key] = row
    return found


def spelled(case: Case, query: Query, filtering: Filtering | None = None, sorting: Sorting | None = None) -> Asked:
    """A query in the API's words. Raises Inexpressible."""
    queries = case.resource.queries
    pairs: Pairs = []
    if query.condition is not None:
        filtering = filtering or case.state.filtering
        assert filtering is not None
        pairs += filtering.pairs(query.condition, case.fields)
    if query.order:
        sorting = sorting or case.state.sorting
        assert sorting is not None
        pairs += sorting.pairs(query.order)
    if query.select and queries.selecting is not None:
        pairs += queries.selecting.pairs(query.select)
    return Asked(tuple(pairs))


async def ask(
    case: Case, asked: Asked, situation: str, limit: int | None = None, number: int = 0, whole: bool = False
) -> Reply:
    """Put a question, unless its answer is known already. Without ``limit`` the largest page is wanted, with it
    the page of that size and number; ``whole`` asks for the further pages too, even if a total tells of them."""
    known = (asked.pairs, tuple(asked.headers.items()), limit, number, whole, case.state.writes)
    return await once(case.state, known, lambda: _put(case, asked, situation, limit, number, whole))


async def once(state: State, known: Hashable, send: Callable[[], Coroutine[Any, Any, T]]) -> T:
    """What a question was answered; it is sent unless it was already, and no write has come between."""
    if known not in state.replies:
        state.replies[known] = asyncio.ensure_future(send())
    reply: asyncio.Future[T] = state.replies[known]
    try:
        return await asyncio.shield(reply)
    except asyncio.CancelledError:
        reply.cancel()
        raise


async def _put(case: Case, asked: Asked, situation: str, limit: int | None, number: int, whole: bool) -> Reply:
    paging = case.resource.paging
    question = counted(case.client, asked)
    untold = not limit and paging.limit is not None and paging.largest is None
    known = case.state.page_size if untold else None
    size = limit or (_page_size(case) if known is None else known)

    async def sent(size: int) -> Exchange:
        position = position_of(case.client, number, size) if limit or paging.style == "range" else Asked()
        if not position.pairs and paging.limit and size:
            position = Asked(((paging.limit, size),), position.headers)
        pairs, headers = [*question.pairs, *position.pairs], {**question.headers, **position.headers}
        return await case.send("list", situation, query=pairs, headers=headers)

    exchange = await sent(size)
    if untold and known is None:
        # nothing says how long a page may be; without a size it is as long as the list makes it
        for smaller in (USUAL_PAGE, 0):
            if not exchange.answer.ok and smaller < size:
                other = await sent(smaller)
                exchange, size = (other, smaller) if other.answer.ok else (exchange, size)
        if exchange.answer.ok:
            case.state.page_size = size
    rows = case.client.rows_in(exchange.answer.json) if exchange.answer.ok else None
    total = case.client.total_of(exchange.answer)
    if rows is None and exchange.answer.status == 416:
        rows = []
    complete = rows is not None and (
        len(rows) == total
        if total is not None
        else _is_all(case, rows, size) and not says_more(exchange.answer, len(rows))
    )
    if rows is not None and limit is None and not complete and (whole or total is None or len(rows) == 0):
        listing = await case.client.whole_list(_MOST_PAGES * size, case.check.name, situation, asked)
        case.requests += len(listing.exchanges)
        if not listing.problem:
            rows, complete = list(listing.rows), listing.complete
    return Reply(exchange, None if rows is None else tuple(rows), total, complete)


def _page_size(case: Case) -> int:
    """How many rows to ask for at once: as many as the contract allows; where it says nothing, no more than the list
    was read with, if all its rows fit."""
    largest, before = case.resource.paging.largest, case.state.before
    if largest is None and before is not None and before.complete and len(before.rows) + _SPARE < USUAL_PAGE:
        return USUAL_PAGE
    return min(largest or _MOST_ROWS, _MOST_ROWS)


def _is_all(case: Case, rows: Sequence[Row], size: int) -> bool:
    """Whether rows are all there are, where no total says so."""
    paging = case.resource.paging
    if paging.style == "none" and not paging.limit:
        # a list may be cut off at a length that nothing tells
        return case.state.before is None or len(rows) < max(1, len(case.state.before.rows))
    return len(rows) < size and (paging.largest is not None or len(rows) < 10)


def as_answer(case: Case, snapshot: Snapshot, condition: Any, reply: Reply) -> Answer:
    """A reply as the oracle takes it."""
    keys = [case.client.key_of(row) for row in reply.rows or ()]
    seen, strange = snapshot.mask(keys)
    return Answer(condition, seen, len(keys), reply.complete, reply.total, tuple(strange))


def with_rows(case: Case, snapshot: Snapshot, replies: Sequence[Reply]) -> Snapshot:
    """A snapshot with the rows that answers have shown beside it: those of a sample, or those that a list
    leaves out unless it is asked for them (archived ones, say). It is no whole one then."""
    more: dict[Key, Row] = {}
    for reply in replies:
        for row in reply.rows or ():
            key = case.client.key_of(row)
            if key is not None and key not in snapshot.positions:
                more[key] = row
    if not more:
        return snapshot
    return Snapshot([*snapshot.rows, *more.values()], [*snapshot.keys, *more], snapshot.fields, False, snapshot.total)


def differing(snapshot: Snapshot, how: str, places: Iterable[int], names: Iterable[str]) -> list[Differing]:
    """Rows as a finding shows them: the first few, with key and the fields that matter."""
    wanted = list(dict.fromkeys(names))
    return [
        Differing(how, key_text(snapshot.keys[place]), _chosen(snapshot.rows[place], wanted))
        for place in list(places)[:_MOST_SHOWN]
    ]


def _chosen(row: Mapping[str, Any], names: Sequence[str]) -> dict[str, Any]:
    return {name: row.get(name) for name in names}


def fields_in(query: Query) -> list[str]:
    """The fields that a query's condition and order look at."""
    return [*(part.field for part in compares(query.condition)), *(each.field for each in query.order)]
