"""The moments that an API keeps of a row by itself: when it was made, and when it was last changed."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Iterator
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any, TypeGuard

from checkpost.checks.case import Case
from checkpost.checks.records import new_value, replacement
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Finding
from checkpost.model.field import MISSING, Field
from checkpost.model.paths import normal
from checkpost.model.purpose import Purpose, Write
from checkpost.oracle.same import instant
from checkpost.wire.exchange import Answer, Exchange
from checkpost.wire.listing import Row

_ENDS = r"(?:at|on|date|time|datetime|timestamp|utc)*"
_MADE = re.compile(rf"(?:date|time)?(?:created|inserted){_ENDS}|creation(?:date|time){_ENDS}|createdate{_ENDS}")
_CHANGED = re.compile(
    rf"(?:date|time|last)?(?:updated|modified){_ENDS}|last(?:update|modification){_ENDS}|(?:update|modification)date{_ENDS}"
)
#: Seconds between two changes that moments of whole seconds, and of parts of them, tell apart.
_APART, _NEAR = 1.1, 0.05
#: Seconds that two clocks may differ by.
_ASTRAY = 300


@check("update.moments", needs=("create", "delete"), creates=True, cost=lambda resource: 5)
async def moments_are_kept(case: Case) -> AsyncIterator[Finding]:
    """Is the moment at which a row was made that moment, and stays; and does that of its last change move?"""
    made, changed = _named(case, _MADE), _named(case, _CHANGED)
    if not made and not changed:
        raise Skipped("it has no moments that the API keeps by itself")
    purpose: Write = "update" if case.has("update") else "replace"
    if not case.has(purpose):
        raise Skipped("its rows cannot be changed")
    own = (await case.own())[0]
    read, before = await case.row_now(own.key)
    kept = [each for each in changed if _told(before.get(each.name))]
    for field in made:
        astray = _astray(before.get(field.name), read.answer)
        if astray:
            title = "The moment at which a row is made is told as another"
            yield _finding(case, "create", title, *astray, field, [own.exchange, read])
    told = [value for each in (*made, *kept) if _told(value := before.get(each.name))]
    if told:
        await asyncio.sleep(_NEAR if all(map(_has_parts, told)) else _APART)
    whole = await replacement(case, own.key) if purpose == "replace" else {}
    record = {**whole, **await _some_change(case, purpose, before)}
    exchange = await case.send(purpose, "changing a row a moment later", key=own.key, record=record)
    if not exchange.answer.ok:
        raise Skipped(f"a change of the row is answered {exchange.answer.status or exchange.answer.detail}")
    read, after = await case.row_now(own.key)
    for found in _moved(case, purpose, made, kept, before, after, [own.exchange, exchange, read]):
        yield found


def _named(case: Case, pattern: re.Pattern[str]) -> list[Field]:
    """The fields of a name that no client can set."""
    fields = [
        each for each in case.resource.fields if each.shown and not (each.created or each.updated or each.replaced)
    ]
    return [each for each in fields if pattern.fullmatch(normal(each.name)) and each.kind in {"date-time", "text"}]


def _told(value: Any) -> TypeGuard[str]:
    return isinstance(value, str) and re.search(r"\d\d:\d\d", value) is not None and instant(value) is not None


def _has_parts(value: str) -> bool:
    """Whether a moment is told in parts of seconds."""
    return bool(re.search(r":\d\d\.\d*[1-9]", value))


async def _some_change(case: Case, purpose: Write, row: Row) -> dict[str, Any]:
    fixed = {*case.resource.key_fields, *case.resource.values, *case.state.withheld, *case.state.unchangeable}
    for field in case.resource.writable(purpose):
        if field.name not in fixed and case.resource.relation(field.name) is None:
            value = await new_value(case, field, unlike=row.get(field.name))
            if value is not MISSING:
                return {field.name: value}
    raise Skipped("none of its fields can be changed")


def _astray(value: Any, answer: Answer) -> tuple[str, str] | None:
    """What a moment should be near, and what it is, where it says its zone and is another moment than the server's
    own clock tells (RFC 9110, 6.6.1)."""
    if not _told(value) or not re.search(r"(?:[zZ]|[+-]\d\d:?\d\d)$", value.strip()):
        return None
    date = answer.header("date")
    try:
        now = parsedate_to_datetime(date) if date else datetime.now(UTC)
    except ValueError:
        now = datetime.now(UTC)
    moment = instant(value)
    if moment is None or abs((moment - now).total_seconds()) <= _ASTRAY:
        return None
    return f"about {now.astimezone(UTC).isoformat(timespec='seconds')}", value


def _moved(
    case: Case,
    purpose: Purpose,
    made: list[Field],
    kept: list[Field],
    before: Row,
    after: Row,
    evidence: list[Exchange],
) -> Iterator[Finding]:
    for field in made:
        first, second = before.get(field.name), after.get(field.name)
        if _told(first) and _told(second) and instant(first) != instant(second):
            title = "A change moves the moment at which the row was made"
            yield _finding(case, purpose, title, f"{first}, as before", second, field, evidence)
    for field in kept:
        first, second = before[field.name], after.get(field.name)
        if _told(second) and instant(first) == instant(second):
            title = "A change leaves the moment of the last change as it was"
            yield _finding(case, purpose, title, f"a moment after {first}", second, field, evidence)


def _finding(
    case: Case, purpose: Purpose, title: str, expected: str, observed: str, field: Field, evidence: list[Exchange]
) -> Finding:
    return case.finding(
        "warning",
        "expectation",
        title,
        f"{field.name} = {expected}",
        f"{field.name} = {observed}",
        cause=title,
        purpose=purpose,
        subjects=[field.name],
        evidence=evidence,
    )
