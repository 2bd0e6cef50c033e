"""Changes that give a row what another row has, and only one may have."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.records import new_value, replacement, sayable
from checkpost.checks.registry import Skipped, check
from checkpost.checks.removal import forget
from checkpost.findings import Basis, Finding
from checkpost.model.field import Field
from checkpost.model.purpose import Write
from checkpost.oracle.same import differences, same
from checkpost.wire.door import Act, Made

#: Which operation is asked, where there are both.
_CHANGES: tuple[Write, ...] = ("update", "replace")


def unique_fields(case: Case, purpose: Write) -> list[Field]:
    """The fields besides the key whose values are unique, and that a body may set."""
    key = case.resource.key_fields
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
    whole = await replacement(case, second.key) if purpose == "replace" else {}
    fields = unique_fields(case, purpose)
    if not fields:
        # an API may have such fields and not say so: what it answers then is judged as every answer is
        key = case.resource.key_fields
        alike = [each.name for each in case.resource.writable(purpose) if each.name not in key]
        record = whole | {name: first.record[name] for name in alike if first.record.get(name) is not None}
        if not record:
            raise Skipped("none of its fields can be set to another row's value")
        await case.send(purpose, "the values of another row", key=second.key, record=record)
        return
    for field in fields:
        value = first.record.get(field.name)
        if value is None or not sayable(case, purpose, value):
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


@check("update.taken-key", needs=("create", "read", "delete"), creates=True, cost=lambda resource: 8)
async def key_of_another(case: Case) -> AsyncIterator[Finding]:
    """Are rows left as they are when the body of a change names the key of another one?"""
    purpose: Write | None = next((each for each in _CHANGES if case.has(each)), None)
    resource, key = case.resource, case.resource.key
    if purpose is None or key is None:
        raise Skipped("its rows cannot be changed, or their key is not known")
    if not resource.layout.plain or resource.under or resource.addresses or not case.world.markable(resource):
        raise Skipped("its key is in no body, or its rows cannot be told apart")
    if any(resource.relation(name) or not case.fields[name].shown for name in key.fields):
        raise Skipped("its key is made of references, or not shown")
    first, second = await case.own(2)
    rows = [(await case.row_now(each.key))[1] for each in (first, second)]
    whole = await replacement(case, second.key) if purpose == "replace" else {}
    free = [each for each in resource.writable(purpose) if each.is_text and each.name not in key.fields]
    values = {each.name: await new_value(case, each) for each in free[:1] if not whole}
    record = {**whole, **values, **dict(zip(key.fields, first.key, strict=True))}
    # an API that goes by the body changes the other row: that one is the run's too
    act = Act("change", (Made(resource.name, record),), tuple((resource.name, each.key) for each in (second, first)))
    exchange = await case.send(purpose, "the key of another row in the body", key=second.key, record=record, act=act)
    reads = [await case.read(each.key, "a row whose key a body named") for each in (first, second)]
    evidence = [first.exchange, second.exchange, exchange, *(read for read, _ in reads)]

    def wrong(title: str, observed: str) -> Finding:
        return case.finding(
            "error",
            "expectation",
            title,
            "a refusal, or a change of the row that the path names, and of no other",
            observed,
            cause="key in body",
            purpose=purpose,
            evidence=evidence,
        )

    (read, after), (other, own) = reads
    if own is None and case.client.absent(other.answer):
        forget(case, second.key)
        yield wrong("A change with the key of another row in its body removes the row", str(exchange.answer.status))
    elif after is None and case.client.absent(read.answer):
        forget(case, first.key)
        yield wrong("A change removes the row whose key its body names", str(exchange.answer.status))
    elif after is not None and (changed := differences(case.fields, rows[0], after, case.settable)):
        yield wrong(
            "A change changes the row whose key its body names",
            f"{exchange.answer.status}, and {changed[0]} of that row changed",
        )
