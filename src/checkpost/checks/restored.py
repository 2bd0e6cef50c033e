"""Bringing back rows that were deleted and are kept, where the contract has a path for it."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.shown import shown
from checkpost.checks.vacancy import keep_vacant, smaller
from checkpost.findings import Finding
from checkpost.oracle.same import differences
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import key_text


@check("delete.restored", needs=("create", "delete", "read"), creates=True, cost=lambda r: 9 if r.restore else 0)
async def restored(case: Case) -> AsyncIterator[Finding]:
    """Is a deleted row there again, as it was, once it is restored?"""
    restore = case.resource.restore
    if restore is None:
        raise Skipped("the contract has no path that restores a deleted row")
    own = await smaller(case)  # some APIs give the largest key out again
    _, before = await case.row_now(own.key)
    gone = await case.send("delete", "deleting a row", key=own.key)
    if not gone.answer.ok:
        raise Blocked(f"deleting a row answers {gone.answer.status or gone.answer.detail}")
    forget(case, own.key)
    await keep_vacant(case, own.key)
    made = Made(case.resource.name, dict(own.record), own.key, case.world.within(case.resource))
    act = Act("create", (made,), key_in=lambda answer: own.key)
    exchange = await case.send("update", "restoring a deleted row", operation=restore, key=own.key, act=act)
    case.numbers(exchange)
    read, row = await case.read(own.key, "a restored row")

    def departs(title: str, expected: str, seen: str, evidence: list[Exchange]) -> Finding:
        return case.finding(
            "error",
            "contract",
            title,
            expected,
            seen,
            cause=title,
            place=restore.place,
            evidence=[own.exchange, gone, *evidence],
        )

    if not exchange.answer.ok:
        if exchange.answer.refused:
            title = f"Restoring a deleted row is refused with {exchange.answer.status}"
            yield departs(title, "success", str(exchange.answer.status), [exchange])
        return
    if row is None:
        yield departs(
            "A restored row is not there",
            f"the row {key_text(own.key)}",
            f"{exchange.answer.status}, and {read.answer.status} when it is read",
            [exchange, read],
        )
        return
    case.state.kept = case.state.kept or str(restore)
    changed = differences(case.fields, before, row, case.settable)
    if changed:
        name = changed[0]
        title = "A restored row is not as it was"
        yield departs(title, f"{name} = {shown(before[name])}", f"{name} = {shown(row[name])}", [exchange, read])
    listing = await case.listing() if case.has("list") else None
    if listing is not None and listing.complete and own.key not in listing.by_key:
        yield departs(
            "A restored row is not in the list",
            f"the row {key_text(own.key)}, which is found by its key",
            "no such row",
            [exchange, read, listing.exchanges[-1]],
        )
