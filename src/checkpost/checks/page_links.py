"""Links and cursors from page to page: they lead through the whole list, keep what was asked, and are not forged."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import suppress
from urllib.parse import parse_qsl, urlsplit

from checkpost.checks.asking import differing, fields_in, snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.page import ask_page, known_list, missing_and_repeated, place_of, sizes_of
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.findings import Finding
from checkpost.model.query import Compare, Query
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Reading, evaluate
from checkpost.oracle.order import out_of_order
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Asked, Listing, next_url, with_cursor

#: In how many pages of the size that it has by itself a list is read along its links.
_FEW_PAGES = 4


def _has_links(case: Case) -> bool:
    envelope, paging = case.resource.envelope, case.resource.paging
    return envelope.next is not None or envelope.links or paging.style == "cursor"


@check("page.next-link", needs=("list",), cost=lambda resource: 8)
async def next_links(case: Case) -> AsyncIterator[Finding]:
    """Do the links to the next page lead through the whole list, and end?"""
    if case.resource.name in case.client.session.rows_at:
        raise Skipped("its rows come in another envelope than the contract's, which may have other links")
    if not _has_links(case):
        raise Skipped("the list has no link to the next page, and no cursor")
    before = known_list(case)
    if case.state.pages_broken:
        raise Blocked(case.state.pages_broken)
    limit = case.resource.paging.limit
    found = await _along(case, before, Asked(((limit, sizes_of(case, len(before.rows))[-1]),) if limit else ()))
    if found is None and limit is not None:
        found = await _along(case, before, Asked(), _FEW_PAGES)  # of the size that it has by itself
    if found is not None:
        yield found


async def _along(
    case: Case, before: Listing, asked: Asked, most: int | None = None, anew: bool = True
) -> Finding | None:
    """What is wrong with the links from a first page on. With ``most``, only of a list that is answered so, in no more
    pages than that. Where rows came or went meanwhile they are followed ``anew``, once."""
    exchange, shown = await ask_page(case, asked, "a first page")
    exchanges, keys = [exchange], []
    first = len(shown or ()) or 1
    if most is not None and (not shown or first * most < len(before.rows)):
        return None
    for _ in range(len(before.rows) // first + 3):
        rows = case.client.rows_in(exchange.answer.json) if exchange.answer.ok else None
        if rows is None:
            seen = str(exchange.answer.status or exchange.answer.detail)
            return _broken_link(case, exchanges, "a page of rows", seen)
        keys += [case.client.key_of(row) for row in rows]
        url = next_url(case.client, exchange)
        if url is None:
            break
        if urlsplit(url)[:2] != urlsplit(exchange.request.url)[:2]:
            raise Skipped("the link to the next page names another host, and was not followed")
        exchange = await case.client.follow(url, case.check.name, "a linked page")
        case.requests += 1
        exchanges.append(exchange)
    else:
        return _broken_link(case, exchanges, f"an end after {len(before.rows)} rows", "a link on every page")
    lost, twice = missing_and_repeated(keys, before)
    again = await case.listing() if lost or twice else before
    lost = {key for key in lost if key in again.by_key}
    if lost and anew and len(again.rows) != len(before.rows):
        return await _along(case, again, asked, most, anew=False)
    if (lost or twice) and len(again.rows) == len(before.rows):
        seen = f"{len(lost)} rows missing, {len(twice)} twice"
        return _broken_link(case, exchanges, "each row once along the links", seen)
    if len(exchanges) > 1 and not (case.client.rows_in(exchanges[-1].answer.json) or ()):
        return _broken_link(case, exchanges[-2:], "no link on the last page", "a link to a page without rows")
    return None


def _broken_link(case: Case, exchanges: list[Exchange], expected: str, seen: str) -> Finding:
    return case.finding(
        "error",
        "contract",
        "The links to the next page do not lead through the list",
        expected,
        seen,
        cause="next link",
        purpose="list",
        evidence=exchanges[-2:],
    )


@check(
    "page.links-keep-query",
    needs=("list",),
    cost=lambda resource: 3 if resource.envelope.links or resource.envelope.next else 0,
)
async def links_keep_query(case: Case) -> AsyncIterator[Finding]:
    """Does the link to the next page keep filter, order and selection?"""
    if not _has_links(case) or case.resource.paging.limit is None:
        raise Skipped("the list has no link to the next page, or takes no size")
    snapshot = await snapshot_of(case)
    if case.state.pages_broken:
        raise Blocked(case.state.pages_broken)
    query = await _halving(case, snapshot)
    size = max(1, len(snapshot) // 6)
    asked = spelled(case, query)
    first, rows = await ask_page(
        case, Asked((*asked.pairs, (case.resource.paging.limit, size)), asked.headers), "a filtered page"
    )
    url = next_url(case.client, first) if rows else None
    if url is None or urlsplit(url)[:2] != urlsplit(first.request.url)[:2]:
        raise Skipped("what the filter leaves has no second page")
    second = await case.client.follow(url, case.check.name, "a linked page")
    case.requests += 1
    after = case.client.rows_in(second.answer.json) if second.answer.ok else None
    if after is None:
        return
    keys = [key for key in map(case.client.key_of, [*(rows or ()), *after]) if key is not None]
    if not all(key in snapshot.positions for key in keys):
        return  # others are at work
    places = [snapshot.positions[key] for key in keys]
    if query.order and out_of_order(snapshot, places[: len(rows or ())], query.order):
        raise Skipped("the first page is not in order itself")
    truth = evaluate(query.condition, snapshot, Reading()) if query.condition else None
    strangers = [place for place in places if truth is not None and not truth.true[place]]
    unordered = out_of_order(snapshot, places, query.order) if query.order else None
    lost = set(query.select) and any(set(row) > set(rows[0]) for row in after) if rows else False
    kept = {"filter": bool(strangers), "order": unordered is not None, "selection": lost}
    forgotten = [word for word, wrong in kept.items() if wrong]
    if forgotten:
        yield case.finding(
            "error",
            "contract",
            f"The link to the next page forgets the {' and the '.join(forgotten)}",
            f"the next rows of: {query}",
            "rows that do not match the filter"
            if strangers
            else ("rows in another order" if unordered else "all fields"),
            cause="next link forgets",
            purpose="list",
            evidence=[first, second],
            rows=differing(snapshot, "does not match", strangers, fields_in(query)),
        )


async def _halving(case: Case, snapshot: Snapshot) -> Query:
    """A filter and an order that leave about half of the rows. Raises Skipped where neither is to be had."""
    from checkpost.checks.filtering import filtering_of, halving
    from checkpost.checks.sort import other_order

    condition: Compare | None = None
    with suppress(Skipped):
        condition = next(iter(halving(await filtering_of(case), snapshot)), None)
    order = await other_order(case, snapshot, condition)
    if condition is None and not order:
        raise Skipped("the list takes neither filter nor order")
    return Query(condition, order)


@check("page.cursor", needs=("list",), cost=lambda resource: 1 if resource.paging.style == "cursor" else 0)
async def damaged_cursor(case: Case) -> AsyncIterator[Finding]:
    """Is a cursor that was tampered with refused, and never taken for the beginning?"""
    paging = case.resource.paging
    if paging.style != "cursor":
        raise Skipped("the list is not paged by a cursor")
    before = known_list(case)
    first = await case.send("list", "a first page", query={paging.limit: 2} if paging.limit else {})
    following = next_url(case.client, first)
    token = dict(parse_qsl(urlsplit(following).query)).get(str(paging.cursor), "") if following else ""
    rows = case.client.rows_in(first.answer.json) if first.answer.ok else None
    if rows and token in {str(value) for value in rows[-1].values()}:
        raise Skipped("a cursor is a value of the last row, and any other value may be one")
    url = with_cursor(case.client, first, "bm90LWEtY3Vyc29y")
    damaged = await case.client.follow(url, case.check.name, "a damaged cursor")
    case.requests += 1
    rows = case.client.rows_in(damaged.answer.json) if damaged.answer.ok else None
    if rows and case.client.key_of(rows[0]) in before.by_key:
        yield case.finding(
            "warning",
            "expectation",
            "A cursor that the list never gave is accepted",
            "a refusal",
            f"{damaged.answer.status} with {len(rows)} rows",
            cause="damaged cursor",
            purpose="list",
            place=place_of(case, paging.cursor),
            evidence=[damaged],
        )
