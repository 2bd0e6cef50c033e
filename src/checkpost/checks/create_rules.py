"""Records that break a rule each: none is stored."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.records import natural_rows, new_record
from checkpost.checks.registry import Blocked, check
from checkpost.checks.rules import accepted, broken_by, situation
from checkpost.checks.strays import strays
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.field import MISSING
from checkpost.values.broken import Break
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, key_text

#: How often another record is tried where a row of others may be meant.
_TRIES = 8


@dataclass(frozen=True)
class _Bad:
    """A record that breaks a rule."""

    rule: Break
    record: Mapping[str, Any]


async def _broken_record(case: Case, rule: Break) -> _Bad | None:
    """A record that breaks a rule, and is not taken for a row of others; None where there is none."""
    for _ in range(_TRIES):
        record = rule.apply(await new_record(case))
        if not natural_rows(case).taken_for(record):
            return _Bad(rule, record)
    return None


async def _send(case: Case, bad: _Bad) -> tuple[Exchange, Key | None]:
    """Send a record that breaks a rule; the key of its row, if one was made."""
    if bad.rule.value is MISSING:
        case.state.lacked.add(bad.rule.field)
    return await case.create(bad.record, situation(bad.rule))


async def _at_once(case: Case, records: Sequence[_Bad]) -> list[tuple[Break, Exchange]]:
    """Send records that break a rule each."""
    answers = await all_of(_send(case, bad) for bad in records)
    return [(bad.rule, exchange) for bad, (exchange, _) in zip(records, answers, strict=True)]


async def _one_by_one(case: Case, records: Sequence[_Bad]) -> list[tuple[Break, Exchange]]:
    """Send records that break a rule each, and look whether those that are accepted are shown. One that is not can
    often not be removed either, and may break the list for everybody: it is the last, and none of its kind is sent to
    other tables."""
    tried: list[tuple[Break, Exchange]] = []
    left_out: Exception | None = None
    for bad in records:
        if bad.rule.kind in case.world.spoiling:
            continue
        try:
            exchange, key = await _send(case, bad)
        except Unsafe as unsafe:  # of this record, or of every further one, which is not sent either
            left_out = unsafe
            continue
        except Blocked as blocked:
            left_out = blocked
            break
        tried.append((bad.rule, exchange))
        if key is None or not exchange.answer.ok or not case.has("read"):
            continue
        if (await case.read(key))[0].answer.status >= 500:
            case.world.spoiling.add(bad.rule.kind)
            break
    if left_out is not None and not tried:
        raise left_out
    return tried  # what was taken so far is told all the same


@check("create.rules", needs=("create", "delete"), creates=True, cost=lambda r: 3 * len(r.writable("create")) + 2)
async def rules_are_enforced(case: Case) -> AsyncIterator[Finding]:
    """Is a record that breaks one rule of its schema refused, and not stored?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    # where rows can be changed, each was tried in a change first, since a row that is known can be mended
    kinds = set() if case.has("update") or case.has("replace") else case.world.spoiling_changes
    broken = [
        each
        for each in broken_by(case, "create", await new_record(case))
        if (each.field, repr(each.value)) not in case.state.unshown and each.kind not in kinds
    ]
    # values are the same however they are sent
    records = [bad for each in broken if (bad := await _broken_record(case, each)) is not None]
    async with case.world.first_to_break:
        tried = await _one_by_one(case, records) if case.world.lenient is None else None
    if tried is None:
        tried = await (_one_by_one if case.world.lenient else _at_once)(case, records)
    case.world.lenient = bool(case.world.lenient) or any(exchange.answer.ok for _, exchange in tried)
    for each, exchange in tried:
        if exchange.answer.ok and (found := accepted(case, "create", each, exchange)) is not None:
            yield found
    sent = {exchange.number: (each, exchange) for each, exchange in tried}
    for entry, own in await strays(case):
        answered = case.answered.get(entry.number)
        if answered is None or answered.number not in sent or answered.answer.status < 400:
            continue
        each, exchange = sent[answered.number]
        failed = exchange.answer.status >= 500
        if failed and case.state.stores_failing:
            continue  # as every row is
        yield case.finding(
            "error",
            "expectation",
            "A create that is answered with a server error stores its row"
            if failed
            else "A record is refused but stored",
            "no new row",
            f"{exchange.answer.status}, and the list holds it with the key {key_text(own.key)}",
            cause="refused but stored",
            purpose="create",
            subjects=[situation(each)],
            evidence=[exchange, own.exchange],
        )
