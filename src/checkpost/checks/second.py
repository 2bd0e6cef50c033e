"""Creates that failed: was it for the row that was there already?"""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Skipped, check
from checkpost.checks.removal import remove
from checkpost.findings import Finding, operation_name


@check("create.second", needs=("create", "delete"), creates=True, alone=True, cost=lambda resource: 0)
async def second_row_is_made(case: Case) -> AsyncIterator[Finding]:
    """Can a row be made while another one is there, where creates were answered with server errors?

    A column that the API does not show, and that has to be unique, lets one row in at a time: what fails beside other
    requests and not by itself is no matter of load then.
    """
    if not case.state.create_failed:
        raise Skipped("no valid record was answered with a server error")
    first = (await case.own())[0]
    exchange, key = await case.create(await new_record(case), "a second valid record")
    if key is not None or exchange.answer.status < 500:
        return
    await remove(case, first.key)
    alone, key = await case.create(await new_record(case))
    if key is None:
        return
    again, key = await case.create(await new_record(case), "a second valid record")
    if key is not None or again.answer.status != exchange.answer.status:
        return  # a server fails for other reasons as well
    for failed in (exchange, again):
        case.forget_failure("create", failed)
    creating = operation_name(case.operation("create"))
    case.world.overloaded[:] = [each for each in case.world.overloaded if each.operations != creating]
    yield case.finding(
        "error",
        "expectation",
        "A second row cannot be made while another is there",
        "success for each valid record",
        f"{exchange.answer.status} for the second, and {alone.answer.status} once the first is removed",
        cause="second",
        purpose="create",
        evidence=[first.exchange, exchange, alone],
    )
