"""Many rows changed or removed in one request."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from typing import Any

from checkpost.checks.blame import said
from checkpost.checks.bulk import ANOTHER_ORDER, bulk_finding, bulk_for, has_bulk, in_places, not_allowed
from checkpost.checks.case import Case
from checkpost.checks.many import changing, key_items, removing, send_items, told_by
from checkpost.checks.own import Own
from checkpost.checks.records import new_record, new_value
from checkpost.checks.registry import Skipped, check
from checkpost.checks.removal import again, forget
from checkpost.checks.shown import shown
from checkpost.checks.vacancy import vacant_key
from checkpost.findings import Finding, Severity
from checkpost.model.bulk import Bulk
from checkpost.model.field import MISSING, Field
from checkpost.model.purpose import Purpose
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")


async def _changes(case: Case, bulk: Bulk, rows: Sequence[Own]) -> tuple[str, list[dict[str, Any]]]:
    """A new value of one field for each row, or one for all of them where the request takes no more, as the items of a
    request. Raises Skipped."""
    names = case.resource.key_fields
    replaces = bulk.operation.method == "PUT" and "replace" in case.resource.operations
    fields = [
        each
        for each in case.resource.writable("update" if case.has("update") else "replace")
        if each.name not in names
        and case.resource.relation(each.name) is None
        and each.shown
        and each.name not in case.state.unchangeable
    ]
    chosen = sorted(fields, key=lambda each: (each.kind not in {"text", "number"}, each.unique, each.type == "boolean"))
    for field in chosen:
        if bulk.beside and (field.type == "boolean" or not _repeats(case, field)):
            continue  # one value has to be new to all of them, and none's alone
        items: list[dict[str, Any]] = []
        for own in rows:
            one = bool(bulk.beside and items)
            value = (
                items[0][field.name]
                if one
                else await new_value(case, field, unlike=own.record.get(field.name, MISSING))
            )
            if value is MISSING or value is None:
                break
            whole = await new_record(case, "replace") if replaces else {}
            items.append({**whole, **dict(zip(names, own.key, strict=True)), field.name: value})
        if len(items) == len(rows):
            return field.name, items
    raise Skipped("none of its fields can be changed")


def _repeats(case: Case, field: Field) -> bool:
    """Whether several rows have one value in a field, so that it is not unique, whatever the contract leaves out."""
    values = [repr(row.get(field.name)) for row in case.state.rows_before if row.get(field.name) is not None]
    return not field.unique and len(set(values)) < len(values)


@check("bulk.update", needs=_NEEDS, creates=True, cost=has_bulk("update", 14))
async def updated(case: Case) -> AsyncIterator[Finding]:
    """Do changes of many rows at once reach each of them, and no other?"""
    bulk = bulk_for(case, "update")
    rows = await case.own(4)
    name, items = await _changes(case, bulk, rows[:3])
    field = case.fields[name]
    before = (await case.row_now(rows[3].key))[1]
    exchange = await send_items(case, bulk, items, "changes of three rows", changing(case, bulk, items))
    not_allowed(exchange)
    evidence = [exchange]
    if exchange.answer.refused:
        yield bulk_finding(
            case, bulk, "Bulk update is refused", "success", said(exchange), evidence, "warning", "contract"
        )
        return
    if not exchange.answer.ok:
        return
    now = [(await case.row_now(own.key))[1] for own in rows]
    lost = [place for place in range(3) if name in now[place] and not same(field, items[place][name], now[place][name])]
    if lost:
        swapped = any(same(field, items[other][name], now[lost[0]][name]) for other in range(3) if other != lost[0])
        title = "Bulk update changes the wrong rows" if swapped else "Bulk update does not store all changes"
        expected, seen = shown(items[lost[0]][name]), shown(now[lost[0]][name])
        yield bulk_finding(case, bulk, title, f"{name} = {expected}", f"{name} = {seen}", evidence, subjects=[name])
    if differences(case.fields, before, now[3], case.settable):
        yield bulk_finding(
            case, bulk, "Bulk update changes a row that was not named",
            "the row as before", f"the row {key_text(rows[3].key)} changed", evidence,
        )  # fmt: skip
    for found in _answered(case, bulk, exchange, [own.key for own in rows[:3]], items, lost):
        yield found
    async for found in _absent_among(case, bulk, rows, field):
        yield found


def _answered(
    case: Case,
    bulk: Bulk,
    exchange: Exchange,
    keys: Sequence[Key],
    items: Sequence[Mapping[str, Any]],
    lost: Sequence[int],
) -> list[Finding]:
    """Whether the answer to changes of many rows tells what was done."""
    told = told_by(case, exchange.answer, keys)
    if lost:
        return []
    if told.refused or (told.count is not None and told.count != len(keys)):
        seen = str(told.count) if told.count is not None else f"{len(told.refused)} called refused"
        title = "A bulk request reports a wrong count"
        return [bulk_finding(case, bulk, title, str(len(keys)), seen, [exchange])]
    answered = [case.client.key_of(row) if row else None for row in told.rows]
    if any(answered) and [key for key in answered if key] != list(keys):
        same_rows = set(answered) == set(keys)
        title = ANOTHER_ORDER if same_rows else "The answer to a bulk request does not show all rows"
        weight: Severity = "note" if same_rows else "error"  # each row shows its key
        expected = ", ".join(map(key_text, keys))
        seen = ", ".join(map(key_text, answered))
        return [bulk_finding(case, bulk, title, expected, seen, [exchange], weight)]
    for row, item in zip(told.rows, items, strict=False):
        unlike = differences(case.fields, item, row or {})
        if unlike:
            name = unlike[0]
            title = "The answer to a bulk update shows the old values"
            return [
                bulk_finding(
                    case, bulk, title, f"{name} = {item[name]!r}", f"{name} = {(row or {})[name]!r}", [exchange]
                )
            ]
    return []


async def _absent_among(case: Case, bulk: Bulk, rows: Sequence[Own], field: Field) -> AsyncIterator[Finding]:
    """A change of a missing row, beside one that there is: what is answered is what is done."""
    try:
        absent = await vacant_key(case)
    except Skipped:
        return
    names = case.resource.key_fields
    before = (await case.row_now(rows[0].key))[1]
    value = await new_value(case, field, unlike=before.get(field.name, MISSING))
    if value is MISSING or field.unique:
        return
    whole = await new_record(case, "replace") if bulk.operation.method == "PUT" and case.has("replace") else {}
    items = [{**whole, **dict(zip(names, key, strict=True)), field.name: value} for key in (rows[0].key, absent)]
    what = "changes of a row that there is, and one that is missing"
    exchange = await send_items(case, bulk, items, what, changing(case, bulk, items))
    _, now = await case.row_now(rows[0].key)
    changed = same(field, value, now.get(field.name))
    _, made = await case.read(absent, "a missing row") if case.has("read") else (exchange, None)
    if made is not None:
        again(case, absent)
        case.remark("changes of many rows make those that there are not")
        return
    for found in _partly(case, bulk, exchange, (rows[0].key, absent), changed, "changes"):
        yield found


def _partly(case: Case, bulk: Bulk, exchange: Exchange, keys: Sequence[Key], done: bool, what: str) -> list[Finding]:
    """Whether the answer to a request about a row that there is and one that is missing tells what was done."""
    told = told_by(case, exchange.answer, keys)
    status = exchange.answer.status
    if exchange.answer.refused and done:
        title = f"Refused {what} of many rows are done in part"
        return [bulk_finding(case, bulk, title, "nothing done", f"{status}, and one row of two", [exchange])]
    if not exchange.answer.ok:
        return []
    if told.each and ((0 in told.refused) == done or 1 not in told.refused):
        title = "Results per row do not match what is stored"
        return [bulk_finding(case, bulk, title, "the second alone refused" if done else "both refused",
                         f"refused: {in_places(told.refused)}", [exchange])]  # fmt: skip
    if bulk.atomic and done:
        title = f"A missing row does not stop {what} of others, against the contract"
        return [
            bulk_finding(
                case, bulk, title, "nothing done", f"{status}, and one row of two", [exchange], basis="contract"
            )
        ]
    if told.count is not None and told.count != int(done):
        title = "A bulk request reports a wrong count"
        return [bulk_finding(case, bulk, title, str(int(done)), str(told.count), [exchange])]
    return []


@check("bulk.delete", needs=_NEEDS, creates=True, alone=True, cost=has_bulk("delete", 14))
async def deleted(case: Case) -> AsyncIterator[Finding]:
    """Are the rows whose keys are named gone, and no others?"""
    bulk = bulk_for(case, "delete")
    if not bulk.keys:
        raise Skipped("how it takes keys is not known")
    case.state.many_kept = ""
    rows = await case.own(4)
    listed = await case.listing() if case.has("list") else None
    keys = [own.key for own in rows]
    items = key_items(case, bulk, keys[:2])
    exchange = await send_items(case, bulk, items, "two rows to be removed", removing(case, bulk, keys[:2]))
    not_allowed(exchange)
    if exchange.answer.refused:
        case.state.many_kept = f"removing many rows answers {exchange.answer.status}"
        yield bulk_finding(
            case, bulk, "Bulk delete is refused", "success", said(exchange), [exchange], "warning", "contract"
        )
        return
    if not exchange.answer.ok:
        return
    there = [await _is_there(case, key) for key in keys]
    for key, still in zip(keys, there, strict=True):
        if not still:
            forget(case, key)
    if any(there[:2]):
        case.state.many_kept = "not all of the rows are removed"
        seen = f"{exchange.answer.status}, and {sum(there[:2])} of 2 are still there"
        yield bulk_finding(case, bulk, "Bulk delete leaves rows", "both rows gone", seen, [exchange])
    others = case.own_keys - set(keys)
    after = await case.listing() if listed is not None else None
    own_lost = not all(there[2:])
    foreign: set[Key] = set()
    if listed is not None and after is not None and listed.complete and after.complete:
        # rows of other checks that these have not removed count too: asked again, it is alone
        foreign = (set(listed.by_key) | others) - set(after.by_key) - (case.made_keys - case.own_keys)
    if own_lost or foreign:
        case.state.many_kept = "more rows are removed than are named"
        seen = f"{len(foreign) + 2 - sum(there[2:])} more gone"
        yield bulk_finding(case, bulk, "Bulk delete removes other rows too", "the two rows alone", seen, [exchange])
        return
    told = told_by(case, exchange.answer, keys[:2])
    if told.count is not None and told.count != 2 and not any(there[:2]):
        title = "A bulk request reports a wrong count"
        yield bulk_finding(case, bulk, title, "2", str(told.count), [exchange])
    try:
        absent = await vacant_key(case)
    except Skipped:
        return
    both = [keys[2], absent]
    what = "a row, and one that is missing"
    exchange = await send_items(case, bulk, key_items(case, bulk, both), what, removing(case, bulk, both))
    gone = not await _is_there(case, keys[2])
    if gone:
        forget(case, keys[2])
    for found in _partly(case, bulk, exchange, both, gone, "removals"):
        yield found


async def _is_there(case: Case, key: Key) -> bool:
    if case.has("read"):
        exchange, row = await case.read(key, "a row that may be gone")
        if row is not None or case.client.absent(exchange.answer):
            return row is not None
    return key in (await case.listing()).by_key
