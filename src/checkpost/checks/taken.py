"""Changes that give a row what another row has, and only one may have."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Basis, Finding
from checkpost.model.field import Field
from checkpost.model.purpose import Write
from checkpost.oracle.same import same


def unique_fields(case: Case, purpose: Write) -> list[Field]:
    """The fields besides the key whose values are unique, and that a body may set."""
    key = case.resource.key.fields if case.resource.key else ()
    fixed = {*key, *case.resource.values}
    return [each for each in case.resource.writable(purpose) if each.unique and each.name not in fixed]


def unique_basis(field: Field | None) -> Basis:
    """Why a value has to be unique: the profile or the contract says so, or it is a key."""
    if field is None or field.unique_reason is None:
        return "expectation"
    return "profile" if "profile" in field.unique_reason.text else "contract"


@check("update.unique", needs=("create", "update", "delete"), creates=True, cost=lambda resource: 6)
async def update_keeps_unique(case: Case) -> AsyncIterator[Finding]:
    """Is an update refused that gives a row the unique value of another?"""
    async for found in _stays_unique(case, "update"):
        yield found


@check("replace.unique", needs=("create", "replace", "delete"), creates=True, cost=lambda resource: 6)
async def replace_keeps_unique(case: Case) -> AsyncIterator[Finding]:
    """Is a replacement refused that gives a row the unique value of another?"""
    async for found in _stays_unique(case, "replace"):
        yield found


async def _stays_unique(case: Case, purpose: Write) -> AsyncIterator[Finding]:
    first, second = await case.own(2)
    whole = await case.replacement(second.key) if purpose == "replace" else {}
    fields = unique_fields(case, purpose)
    if not fields:
        # an API may have such fields and not say so: what it answers then is judged as every answer is
        key = case.resource.key.fields if case.resource.key else ()
        alike = [each.name for each in case.resource.writable(purpose) if each.name not in key]
        record = whole | {name: first.record[name] for name in alike if first.record.get(name) is not None}
        if not record:
            raise Skipped("none of its fields can be set to another row's value")
        await case.send(purpose, "the values of another row", key=second.key, record=record)
        return
    for field in fields:
        value = first.record.get(field.name)
        if value is None or not case.sayable(purpose, value):
            continue
        situation = f"the {field.name} of another row"
        exchange = await case.send(purpose, situation, key=second.key, record={**whole, field.name: value})
        if not exchange.answer.ok:
            continue
        read, after = await case.row_now(second.key)
        if same(field, value, after.get(field.name)):
            yield case.finding(
                "error",
                unique_basis(field),
                f"{purpose.capitalize()} gives a row the unique value of another",
                f"a refusal, such as 409: {field.name} is unique",
                str(exchange.answer.status),
                cause=f"any:taken {field.name}",
                purpose=purpose,
                place=field.node.place if field.node else None,
                subjects=[field.name],
                evidence=[first.exchange, second.exchange, exchange, read],
            )
