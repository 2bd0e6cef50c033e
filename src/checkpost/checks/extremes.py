"""Values at the far end of what JSON can say (RFC 8259, 6 to 8): an API may refuse them, and must not break on them."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Callable, Mapping
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.readback import changed_values
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.rules import broken_by
from checkpost.checks.trial import tried_first
from checkpost.findings import Finding
from checkpost.model.field import Field
from checkpost.model.media import is_form, request_media_type
from checkpost.model.purpose import Purpose
from checkpost.wire.exchange import Exchange

#: A number that no usual type of a database holds, and one that no usual type of a program does (RFC 8259, 6).
_HUGE, _HUGER = 10**22, "1e400"
#: The largest that a usual column of whole numbers holds, and one that is not kept in single precision.
_WIDE, _EXACT = 2**31 - 1, 1234567.89
_HALF = "half of a character in a text"
_NARROW = frozenset({"int8", "int16"})
_SIZED = frozenset({"int8", "int16", "int32", "int64", "float", "double"})


# alone: a list that cannot show a row of this check's is no matter of others
@check("create.extreme-values", needs=("create", "delete"), creates=True, alone=True, cost=lambda resource: 17)
async def extreme_values(case: Case) -> AsyncIterator[Finding]:
    """Does the API neither break on extreme values nor store others in their place?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    if is_form(request_media_type(case.operation("create"))) or not case.world.markable(case.resource):
        raise Skipped("rows are made by a form, or bear no mark by which they would be known again")
    fixed = {*case.resource.values, *case.resource.key_fields}
    kept = [each for each in case.resource.writable("create") if each.name not in fixed]
    text = next((each for each in kept if each.is_text and not case.resource.relation(each.name)), None)
    numbers = [each for each in kept if each.kind == "number" and _may_be_far(case, each)]
    number = min(numbers, key=lambda each: each.types != {"integer"}, default=None)
    plain = case.resource.layout.plain and "create" not in case.resource.listed
    # one field of a record at a time: by the others its row is known again, whatever is made of that one
    nul, _ = await _sent(case, text, "a NUL in a text", lambda value: f"{value}\0x")
    far, created = await _sent(case, number, "a number beyond 64 bits", lambda value: _HUGE)
    if created is not None and number is not None and number.types == {"integer"}:
        case.state.in_columns |= created.answer.status >= 400
        case.state.loosely |= created.answer.ok
    huge, _ = await _sent(case, number if plain else None, f"the number {_HUGER}", lambda value: value, _HUGER)
    usual = [each for each in kept if each.kind == "number" and _may_be_any(case, each)]
    whole = next((each for each in usual if each.types == {"integer"} and each.format not in _NARROW), None)
    real = next((each for each in usual if "number" in each.types and each.format != "float"), None)
    wide, _ = await _sent(case, whole, "a number of 32 bits", lambda value: _WIDE)
    exact, _ = await _sent(case, real, "a number of nine digits", lambda value: _EXACT)
    asked = [nul, far, huge, wide, exact, await _half_sent(case, text if plain else None)]
    if all(findings is None for findings in asked):
        raise Skipped("none of its fields takes such a value")
    for found in [finding for findings in asked for finding in findings or ()]:
        yield found


async def _half_sent(case: Case, field: Field | None) -> list[Finding] | None:
    """The findings about half of a character in a text; None where it is not sent. What keeps rows in files may lose
    all of them where it fails to write one: it is written only where rows are kept as a database keeps them, as this
    table shows, or another where this one has nothing that would."""
    state, others = case.state, case.world.states.values()
    shown = state.in_columns or any(each.in_columns for each in others)
    if shown and not (state.loosely or (not state.in_columns and any(each.loosely for each in others))):
        return (await _sent(case, field, _HALF, _halved, "escaped"))[0]
    return [] if field is not None and await _in_a_refused_record(case, field) else None


def _halved(text: Any) -> Any:
    return f"{text}\ud83c"


async def _in_a_refused_record(case: Case, field: Field) -> bool:
    """Send half of a character in a record that is refused for another field, so that it is read and not stored;
    whether that could be done. How it is answered is judged with all others."""
    record = await new_record(case)
    try:
        broken = broken_by(case, "create", record) if isinstance(record.get(field.name), str) else []
    except Skipped:
        return False
    other = next((each for each in broken if each.field in case.fields and each.field != field.name), None)
    if other is None:
        return False
    exchange, key = await case.create(other.apply(await new_record(case)), "a record that breaks a rule")
    ledger = case.world.ledger
    if not exchange.answer.refused or key is not None or ledger is None or ledger.refusals_lie:
        return False
    record = other.apply(await new_record(case))
    record[field.name] = _halved(record[field.name])
    await case.create(record, _HALF, raw=json.dumps(case.client.body_of(record, "create")).encode())
    return True


def _may_be_far(case: Case, field: Field) -> bool:
    """Whether a number may be any, as far as the contract goes. Where rows show texts it is a decimal of some length:
    a longer one may be stored, be read no more, and so not be removed either."""
    return field.format not in _SIZED and _may_be_any(case, field)


def _may_be_any(case: Case, field: Field) -> bool:
    """Whether a field takes numbers as they are, and each as often as it is sent."""
    rows = case.state.before.rows if case.state.before is not None else ()
    if any(isinstance(row.get(field.name), str) for row in rows):
        return False
    return field.type != "string" and not (field.unique or case.resource.relation(field.name))


async def _sent(
    case: Case, field: Field | None, situation: str, change: Callable[[Any], Any], written: str = ""
) -> tuple[list[Finding] | None, Exchange | None]:
    """The findings about a record with another value in one field, and the create; None where it is not sent, since no
    field or the contract takes it. What no decoded record holds is ``written`` into the body, as it is or escaped:
    an API that takes it may not be able to show it, so that it is tried by a change first, and not at all where rows
    cannot be changed."""
    if field is None:
        return None, None
    record = await new_record(case)
    if record.get(field.name) is None:
        return None, None
    value = record[field.name] = change(record[field.name])
    if not written and not case.world.valid(field, value):
        return None, None
    body: dict[str, Any] = {}
    if written:

        def raw(record: Mapping[str, Any], purpose: Purpose) -> bytes:
            mark = {field.name: "@"} if written == _HUGER else {}
            return json.dumps(case.client.body_of({**record, **mark}, purpose)).replace('"@"', _HUGER).encode()

        tried = await tried_first(case, field.name, value, situation, raw)
        if tried is None:
            return None, None
        if tried.row is None:
            title, cause = "A value makes a row unreadable", "unreadable by a value"
            expected = "a refusal, or the row as before"
            return tried.unreadable(case, title, expected, situation, cause, field.name), None
        body["raw"] = raw(record, "create")
    exchange, key = await case.create(record, situation, **body)
    if key is None or written:
        return [], exchange
    read, row = await case.row_now(key)
    sent = {field.name: record[field.name]}
    return list(changed_values(case, "create", sent, row, [exchange, read], {field.name: situation})), exchange
