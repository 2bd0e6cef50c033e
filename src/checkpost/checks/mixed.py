"""Whether requests that come at the same time get each its own answer."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, position_of

_AT_ONCE = 8
_TURNS = 3
_SITUATION = "pages at the same time"


@check("read.at-once", needs=("list",), alone=True, cost=lambda resource: _AT_ONCE)
async def own_answers(case: Case) -> AsyncIterator[Finding]:
    """Does each of several pages that are asked for at the same time come as it comes by itself?"""
    paging, before = case.resource.paging, case.state.before
    if paging.style not in {"offset", "page"} or paging.position is None or paging.limit is None:
        raise Skipped("the contract describes no parameters for size and position")
    rows = len(before.rows) if before is not None else 0
    size = min(max(1, rows // _AT_ONCE), paging.largest or rows)
    pages = min(_AT_ONCE, rows // max(size, 1))
    if pages < 3:
        raise Skipped("the list has too few rows")
    swapped: list[list[Exchange]] = []
    for turn in range(_TURNS):
        async with case.world.session.pace.together():
            at_once = await all_of(_page(case, number, size) for number in range(pages))
        if turn == 0 and len({keys for _, keys in at_once}) == pages:
            return
        async with case.world.session.pace.alone():
            alone = [(await _page(case, number, size))[1] for number in range(pages)]
        if len(set(alone)) < pages:
            return  # pages are at fault by themselves
        mixed = [
            exchange for (exchange, keys), own in zip(at_once, alone, strict=True) if keys != own and keys in alone
        ]
        swapped += [mixed] if mixed else []
    if len(swapped) < 2:
        return
    yield case.finding(
        "error",
        "expectation",
        "Requests at the same time get each other's answers",
        "for each page the rows that it has when it is asked for alone",
        f"{len(swapped[-1])} of {pages} pages came with the rows of another",
        cause="everywhere:mixed up",
        purpose="list",
        evidence=swapped[-1][:2],
    )


async def _page(case: Case, number: int, size: int) -> tuple[Exchange, tuple[Key | None, ...]]:
    asked = position_of(case.client, number, size)
    exchange = await case.send("list", _SITUATION, query=asked.pairs, headers=asked.headers)
    rows = case.client.rows_in(exchange.answer.json) if exchange.answer.ok else None
    # a page that is refused is like no other
    return exchange, tuple(case.client.key_of(row) for row in rows) if rows else ((number, "none"),)
