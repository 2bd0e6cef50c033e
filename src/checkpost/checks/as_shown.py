"""Changes that the schema of a body allows, and that of rows rules out."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.records import new_record, replacement
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.rules import situation
from checkpost.checks.shown import shown
from checkpost.findings import Finding
from checkpost.model.purpose import Write
from checkpost.model.resource import Resource
from checkpost.oracle.same import same
from checkpost.values.broken import Break, ruled_where_shown, rules_of_rows_alone


def _purpose(resource: Resource) -> Write:
    return "update" if "update" in resource.operations else "replace"


def _cost(resource: Resource) -> int:
    ruled = rules_of_rows_alone(resource, resource.record_schema(_purpose(resource)))
    return 3 + 4 * len(ruled) if ruled else 0


# alone: a list that cannot show what a change has made of a row is no matter of others
@check("update.as-shown", needs=("create", "delete", "read"), creates=True, alone=True, cost=_cost)
async def shown_as_ruled(case: Case) -> AsyncIterator[Finding]:
    """Is a row that was changed as the contract allows still one that it allows to be shown?"""
    purpose = _purpose(case.resource)
    schema = case.body_schema(purpose) if case.has(purpose) else None
    if schema is None or purpose in case.resource.bodies_untold:
        raise Skipped("the contract has no schema for the body of a change")
    record = await new_record(case, purpose)
    left = {*case.resource.moving_others, *case.state.disputed, *case.state.withheld}
    changes = [
        each
        for each in ruled_where_shown(case.resource, record, schema, case.world.validators, case.values)
        if each.field not in left
    ]
    if not changes:
        raise Skipped("what bodies may hold may be shown too")
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    record = await replacement(case, own.key) if purpose == "replace" else record

    def whole(change: Break) -> dict[str, object]:
        return change.apply(record) if purpose == "replace" else {change.field: change.value}

    case.state.against |= {(change.field, repr(change.value)) for change in changes}
    for change in changes:
        exchange = await case.send(purpose, situation(change), key=own.key, record=whole(change))
        if exchange.answer.refused:
            continue
        if exchange.answer.ok:
            read, after = await case.read(own.key, situation(change))
            stored = (after or {}).get(change.field)
            if stored is not None and same(case.fields[change.field], change.value, stored):
                yield case.finding(
                    "error",
                    "contract",
                    "A change that the contract allows makes a row that it rules out",
                    f"a refusal, or the {change.keyword} of rows ({change.rule}) for what may be sent too",
                    f"{exchange.answer.status}, and {change.field} is shown as {shown(stored, 80)}",
                    cause="any:shown against its schema",
                    purpose=purpose,
                    place=change.place,
                    subjects=[change.field],
                    evidence=[own.exchange, exchange, read],
                )
        before = record if purpose == "replace" else {change.field: row.get(change.field)}
        await case.send(purpose, "the row as it was", key=own.key, record=before)
        if (await case.read(own.key))[0].answer.status >= 500:  # what cannot be shown may break lists
            raise Blocked("a row could not be made readable again")
