"""Values at the far end of what JSON can say (RFC 8259, 6 to 8): an API may refuse them, and must not break on them."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Callable
from typing import Any

from checkpost.checks.case import Case, Own
from checkpost.checks.readback import changed_values
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.findings import Finding
from checkpost.model.field import Field
from checkpost.model.media import is_form, request_media_type
from checkpost.wire.client import wrap

#: A number that no usual type of a database holds, and one that no usual type of a program does (RFC 8259, 6).
_HUGE, _HUGER = 10**22, "1e400"
_SIZED = frozenset({"int8", "int16", "int32", "int64", "float", "double"})


@check("create.extreme-values", needs=("create", "delete"), creates=True, cost=lambda resource: 7)
async def extreme_values(case: Case) -> AsyncIterator[Finding]:
    """Does the API neither break on extreme values nor store others in their place?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    if is_form(request_media_type(case.operation("create"))) or not case.world.markable(case.resource):
        raise Skipped("rows are made by a form, or bear no mark by which they would be known again")
    free = [
        each
        for each in case.resource.writable("create")
        if not (each.unique or each.name in case.resource.values or case.resource.relation(each.name))
    ]
    texts = [
        each for each in case.resource.writable("create") if each.is_text and each.name not in case.resource.values
    ]
    numbers = [each for each in free if each.kind == "number" and each.type != "string" and each.format not in _SIZED]
    asked = 0
    for situation, fields, change in (
        ("a NUL in a text", texts, lambda value: f"{value}\0x"),
        ("a number beyond 64 bits", numbers, lambda value: _HUGE),
    ):
        record = await _changed(case, fields, change)
        if not record:
            continue
        asked += 1
        exchange, key = await case.create(record, situation)
        if key is not None:
            own = Own(key, record, exchange)
            read, row = await case.row_now(own.key)
            sent = {each.name: record[each.name] for each in fields if each.name in record}
            for found in changed_values(case, "create", sent, row, [exchange, read], dict.fromkeys(sent, situation)):
                yield found
    if case.resource.layout.plain and "create" not in case.resource.listed:
        # what no decoded record can hold is written into the body, where the record has a value of the run's
        for situation, fields, written in (
            ("half of a character in a text", texts, lambda value: json.dumps(f"{value}\ud83c")),
            (f"the number {_HUGER}", numbers, lambda value: _HUGER),
        ):
            record = await _changed(case, fields, lambda value: value)
            if record:
                asked += 1
                await case.create(record, situation, raw=_written(case, record, fields, written))
    if not asked:
        raise Skipped("none of its fields takes such a value")


async def _changed(case: Case, fields: list[Field], change: Callable[[Any], Any]) -> dict[str, Any]:
    """A valid record with other values in some fields, where the contract allows them; empty where it allows none."""
    record = await case.record()
    changed = {each.name: change(record[each.name]) for each in fields if record.get(each.name) is not None}
    by_name = {each.name: each for each in fields}
    allowed = {name: value for name, value in changed.items() if case.world.valid(by_name[name], value)}
    return {**record, **allowed} if allowed else {}


def _written(case: Case, record: dict[str, Any], fields: list[Field], written: Callable[[Any], str]) -> bytes:
    """A record's body with the values of some fields in another notation."""
    marks = {each.name: f"@{place}@" for place, each in enumerate(fields) if record.get(each.name) is not None}
    body = json.dumps(wrap({**record, **marks}, case.resource.envelope.body))
    for name, mark in marks.items():
        body = body.replace(json.dumps(mark), written(record[name]))
    return body.encode()
