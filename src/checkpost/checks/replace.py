"""Replacing a row as a whole."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import UTC, datetime
from typing import Any

from checkpost.checks.blame import said
from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.readback import answer_differs, changed_values, list_differs
from checkpost.checks.records import is_allowed, new_record, replacement, sayable
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.rules import broken_by, refused_and_unchanged, situation
from checkpost.checks.shown import shown
from checkpost.checks.update import another_row, read_only_kept, send_nulls, taken_for_none, write_to_missing
from checkpost.checks.vacancy import vacant_key
from checkpost.findings import REPLACE_LOST, Finding
from checkpost.model.field import MISSING
from checkpost.model.purpose import Purpose
from checkpost.oracle.same import differences, kept_by_server, same
from checkpost.values.broken import Break
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row

_NEEDS: tuple[Purpose, ...] = ("create", "replace", "delete")


@check("replace.stored", needs=_NEEDS, creates=True, cost=lambda resource: 7)
async def replace_is_stored(case: Case) -> AsyncIterator[Finding]:
    """Is a replacement stored, the same again when it is sent twice?"""
    fork = case.ledger.table(case.resource.name).fork
    if fork is not None and not case.has("update"):
        yield another_row(case, "replace", *fork)
        return
    own = (await case.own())[0]
    _, before = await case.row_now(own.key)
    record = await replacement(case, own.key)
    exchange = await case.send("replace", "a valid replacement", key=own.key, record=record)
    if exchange.answer.status in {401, 403, 405}:
        raise Skipped(f"the role {case.world.role.name} may not replace ({exchange.answer.status})")
    if exchange.answer.refused:
        case.state.not_replaceable = f"no replacement is accepted: {said(exchange)}"
    if exchange.answer.refused and case.resource.guessed:
        raise Skipped(f"what a row may hold is only guessed from others, and it is refused ({exchange.answer.status})")
    if exchange.answer.refused and not is_allowed(case, "replace", exchange):
        raise Skipped(
            f"no replacement as the contract wants it could be made, and it is refused ({exchange.answer.status})"
        )
    if exchange.answer.refused:
        yield case.finding(
            "warning",
            "contract",
            "Replace that the contract allows is refused",
            "success",
            said(exchange),
            cause="valid refused",
            purpose="replace",
            evidence=[own.exchange, exchange],
        )
        return
    if not exchange.answer.ok:
        raise Blocked(f"a valid replacement is answered {exchange.answer.status or exchange.answer.detail}")
    read, after = await case.row_now(own.key)
    evidence = [own.exchange, exchange, read]
    lost = _not_stored(case, record, before, after)
    if lost:
        name = lost[0]
        yield case.finding(
            "error",
            "expectation",
            "Replace returns success but does not store the value",
            f"{name} = {shown(record[name])}",
            f"{name} = {shown(after[name])}, as before",
            cause=REPLACE_LOST,
            purpose="replace",
            subjects=lost,
            evidence=evidence,
        )
    else:
        changed = list(changed_values(case, "replace", record, after, evidence))
        for found in changed or list(answer_differs(case, "replace", exchange, after, record)):
            yield found
    again = await case.send("replace", "the same replacement again", key=own.key, record=record)
    _, twice = await case.row_now(own.key)
    now = datetime.now(UTC)
    moved = [
        name
        for name in differences(case.fields, after, twice, case.settable)
        if not kept_by_server(case.fields[name], after[name], twice[name], now)
        and not (name in record and all(same(case.fields[name], record[name], each[name]) for each in (after, twice)))
    ]
    if moved or (exchange.answer.ok and again.answer.refused):
        seen = f"{moved[0]} = {shown(twice[moved[0]])}" if moved else str(again.answer.status)
        yield case.finding(
            "error",
            "standard",
            "A replace sent twice has another effect than sent once",
            "the same row (RFC 9110, 9.2.2: PUT is idempotent)",
            seen,
            cause="not idempotent",
            purpose="replace",
            subjects=moved,
            evidence=[own.exchange, exchange, again],
        )
    if case.has("list"):
        listing = await case.listing()
        for found in list_differs(case, twice, listing.by_key.get(own.key), listing.exchanges[-1:]):
            yield found
    if not lost:
        for found in await _emptied(case, own, record, twice):
            yield found
    if case.resource.partial_replace:
        await send_nulls(case, "replace", own.key)


async def _emptied(case: Case, own: Own, record: Row, before: Row) -> list[Finding]:
    """Replace a row by one of null, false and zero where it may hold them: many programs take those for nothing sent.
    Texts stay, by which the row is known again."""
    fixed = {*case.resource.key_fields, *case.resource.values, *case.state.unchangeable}
    fields = [each for each in case.resource.writable("replace") if each.name in record and each.shown]
    change: dict[str, Any] = {}
    for field in [each for each in fields if each.name not in fixed and not each.is_text]:
        if field.type == "boolean":
            change[field.name] = False
        elif zero := taken_for_none(case, field, record[field.name]):
            change[field.name] = zero[0]
        elif field.nullable and sayable(case, "replace", None):
            change[field.name] = None
    if not change:
        return []
    sent = {**record, **change}
    exchange = await case.send("replace", "null, false and zero in place of values", key=own.key, record=sent)
    if not exchange.answer.ok:
        return []
    read, after = await case.row_now(own.key)
    kept = [name for name in _not_stored(case, sent, before, after) if name in change]
    if kept:
        shown_as = f"{kept[0]} = {shown(after[kept[0]])}, as before"
        return [
            case.finding(
                "error",
                "expectation",
                "Replace passes over null, false or zero",
                f"{kept[0]} = {shown(sent[kept[0]])}",
                shown_as,
                cause="replace passes over",
                purpose="replace",
                subjects=kept,
                evidence=[own.exchange, exchange, read],
            )
        ]
    return list(changed_values(case, "replace", change, after, [own.exchange, exchange, read]))


@check("replace.omitted", needs=_NEEDS, creates=True, cost=lambda resource: 4)
async def omitted_is_reset(case: Case) -> AsyncIterator[Finding]:
    """Does a field that a replacement leaves out fall back to its default or null?"""
    if case.resource.partial_replace:
        raise Skipped("the contract requires nothing in its body, so that it is an update of some fields")
    own = await _all_set(case) or (await case.own())[0]
    _, before = await case.row_now(own.key)
    record = await replacement(case, own.key, full=False)
    omitted = [
        field
        for field in case.resource.writable("replace")
        if field.name not in record and before.get(field.name) is not None and _tells(case, field.name, before)
    ]
    if not omitted:
        raise Skipped("no optional field can show it")
    exchange = await case.send("replace", "a replacement of the required fields", key=own.key, record=record)
    if not exchange.answer.ok:
        return
    read, after = await case.row_now(own.key)
    if _not_stored(case, record, before, after):
        raise Blocked("a replace is not stored")
    kept = [
        field.name
        for field in omitted
        if field.name in after
        and same(field, before[field.name], after[field.name])
        and not kept_by_server(field, before[field.name], after[field.name], datetime.now(UTC))
    ]
    if kept:
        name = kept[0]
        default = case.fields[name].default
        yield case.finding(
            "warning",
            "standard",
            "A replace keeps fields that were left out",
            f"{name} = {shown(None if default is MISSING else default)} (RFC 9110, 9.3.4: PUT replaces the state)",
            f"{name} = {shown(after[name])}, as before",
            cause="keeps omitted",
            purpose="replace",
            subjects=kept,
            evidence=[own.exchange, exchange, read],
        )


async def _all_set(case: Case) -> Own | None:
    """A new row whose booleans are not what they would be without a word of them; None where it is not taken so."""
    record = await new_record(case)
    booleans = [each for each in case.resource.writable("replace") if each.type == "boolean" and each.name in record]
    booleans = [each for each in booleans if each.name not in case.resource.values]
    record |= {each.name: each.default is not True for each in booleans}
    exchange, key = await case.create(record)
    return Own(key, record, exchange) if key is not None else None


def _not_stored(case: Case, record: Row, before: Row, after: Row) -> list[str]:
    """The fields that a replace was to change and that are as before."""
    now = datetime.now(UTC)
    return [
        name
        for name in differences(case.fields, record, after)
        if name in before
        and name not in case.state.disputed
        and same(case.fields[name], before[name], after[name])
        and not kept_by_server(case.fields[name], record[name], after[name], now)
    ]


def _tells(case: Case, name: str, row: dict[str, Any]) -> bool:
    field = case.fields[name]
    if field.default is MISSING:
        # a default that is not documented is often one of these: the replace may have set it anew
        return row[name] not in (False, 0, "", [], {})
    return not same(field, field.default, row[name])


@check("replace.rules", needs=_NEEDS, creates=True, cost=lambda r: 2 * len(r.writable("replace")) + 3)
async def rules_are_enforced(case: Case) -> AsyncIterator[Finding]:
    """Is a replacement that breaks a rule refused, and the row left as it was?"""
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    valid = await replacement(case, own.key)
    key = case.resource.key_fields
    # a key in the body is not a rule of its own: the path says which row it is
    broken = [each for each in broken_by(case, "replace", valid) if each.field not in key]

    async def send(each: Break) -> Exchange:
        record = each.apply(await replacement(case, own.key))
        return await case.send("replace", situation(each), key=own.key, record=record)

    async def mend(each: Break) -> Exchange:
        return await case.send("replace", "the row as it was", key=own.key, record=valid)

    async for found in refused_and_unchanged(case, "replace", own, row, broken, send, mend):
        yield found


@check("replace.read-only", needs=_NEEDS, creates=True, cost=lambda resource: 4)
async def read_only_is_kept(case: Case) -> AsyncIterator[Finding]:
    """Does a replace leave read-only fields alone?"""
    async for found in read_only_kept(case, "replace"):
        yield found


@check("replace.missing-key", needs=_NEEDS, creates=True, cost=lambda resource: 3)
async def missing_key(case: Case) -> AsyncIterator[Finding]:
    """Is a replace of a missing key answered as documented?"""
    key = await vacant_key(case)
    async for found in write_to_missing(case, "replace", key, await replacement(case, key)):
        yield found
