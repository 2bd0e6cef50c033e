"""What the table behind a resource holds, against what the API shows, stores and promises."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_value
from checkpost.checks.registry import Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.shown import shown as text_of
from checkpost.database.agreement import agrees, as_texts, plain
from checkpost.findings import Differing, Finding
from checkpost.model.field import MISSING, Field
from checkpost.oracle.same import same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import key_text

if TYPE_CHECKING:  # what reads databases takes a while to load
    from checkpost.database.behind import Behind, Row
    from checkpost.database.connection import Column
    from checkpost.database.mapping import Mapped

#: How long a table is given to show what was written, in seconds, and how often it is looked at meanwhile.
_PATIENCE, _LOOKS = 1.0, 5
#: From which share of rows on a field that differs is taken to be another thing than its column.
_ANOTHER_THING = 0.9
#: How many rows are named.
_NAMED = 5


def _pair(case: Case) -> tuple[Behind, Mapped]:
    """The database and the resource's table. Raises Skipped where there is none, or its rows cannot be paired."""
    behind = case.world.behind
    if behind is None:
        raise Skipped("the profile names no database")
    pair = behind.of(case.resource.name)
    if pair is None:
        raise Skipped(
            "no table of the database was recognised as its own; 'witness: {tables: …}' in the profile states it"
        )
    if not pair.key:
        raise Skipped(f"its key has no column in the table {pair.table.name}, so that rows cannot be paired")
    return behind, pair


@check("database.rows", needs=("list",), alone=True)
async def rows_are_those_of_the_table(case: Case) -> AsyncIterator[Finding]:
    """Does the list show the rows of its table, each with the table's values?"""
    behind, pair = _pair(case)
    first = await behind.rows(pair)
    listing = await case.listing()
    second = await behind.rows(pair)
    if first is None or second is None:
        raise Skipped(f"the table {pair.table.name} has too many rows, or keys that do not tell them apart")
    if listing.problem or not listing.complete:
        raise Skipped(f"the list was not read whole: {listing.problem or listing.partial}")
    stable = {key: row for key, row in first.items() if second.get(key) == row}
    listed = {as_texts(key): row for key, row in listing.by_key.items() if key is not None}
    shared = stable.keys() & listed.keys()
    if listed and not shared and stable:
        raise Skipped(f"no key of the list is one of the table {pair.table.name}")
    evidence = listing.exchanges[-1:]
    made = {as_texts(key) for key in case.made_keys}  # of rows of the run's own that stay other checks tell
    missing = [key for key in stable if key not in listed and key not in made]
    if missing:
        cause = _apart([stable[key] for key in missing], [stable[key] for key in shared])
        if cause:
            case.remark(f"the list leaves {len(missing)} rows of {pair.table.name} out: those with {cause}")
        else:
            yield case.finding(
                "error", "expectation", "Rows of the table are missing from the list",
                f"{len(stable)} rows, as in the table {pair.table.name}", f"{len(listed)} rows",
                cause="missing rows", purpose="list", evidence=evidence,
                rows=[Differing("missing", key_text(key), _values(stable[key], pair)) for key in missing[:_NAMED]],
            )  # fmt: skip
    surplus = [key for key in listed if key not in first and key not in second]
    if surplus:
        yield case.finding(
            "error", "expectation", "The list shows rows that the table does not have",
            f"the {len(second)} rows of the table {pair.table.name}", f"{len(surplus)} rows more",
            cause="surplus rows", purpose="list", evidence=evidence,
            rows=[Differing("surplus", key_text(key), dict(listed[key])) for key in surplus[:_NAMED]],
        )  # fmt: skip
    for found in _values_differ(case, pair, {key: (listed[key], stable[key]) for key in shared}, evidence):
        yield found


def _values(row: Row, pair: Mapped) -> dict[str, Any]:
    return {name: plain(row[column]) for name, column in list(pair.columns.items())[:_NAMED]}


def _apart(missing: Sequence[Row], there: Sequence[Row]) -> str:
    """What all rows that are left out have in common and no row that is shown has: a column with its value, or that it
    has one; empty where there is nothing of the kind."""
    for name in missing[0] if there else ():
        left_out, kept = ({str(plain(row[name])) for row in rows} for rows in (missing, there))
        if len(left_out) == 1 and not left_out & kept and len(missing) > 1:
            return f"{name} = {plain(missing[0][name])}"
        if "None" not in left_out and kept == {"None"}:
            return f"{name} set"
    return ""


def _values_differ(
    case: Case, pair: Mapped, rows: Mapping[tuple[str, ...], tuple[Row, Row]], evidence: Sequence[Exchange]
) -> Iterator[Finding]:
    """A finding for the fields of which some rows show another value than the table holds. Where nearly all do, the
    field is another thing than its column: that is remarked alone."""
    for name, column in pair.columns.items():
        field = case.resource.field(name)
        both = [(key, listed[name], row[column]) for key, (listed, row) in rows.items() if name in listed]
        wrong = [each for each in both if not agrees(field, each[1], each[2])]
        telling = [each for each in both if each[1] is not None or each[2] is not None]
        if not wrong:
            continue
        if len(wrong) >= _ANOTHER_THING * len(telling) and len(telling) > 1:
            case.remark(f"{name} is not what the column {column} holds in {len(wrong)} of {len(telling)} rows")
            continue
        key, listed, stored = wrong[0]
        yield case.finding(
            "error", "expectation", "The list shows another value than the table holds",
            f"{name} = {text_of(plain(stored))}, as in {pair.table.name} {key_text(key)}",
            f"{name} = {text_of(listed)}; so in {len(wrong)} of {len(both)} rows",
            cause="other values", purpose="list", subjects=[name], evidence=evidence,
            rows=[Differing("other value", key_text(each[0]), {name: each[1], f"{column} in the table": plain(each[2])})
                  for each in wrong[:_NAMED]],
        )  # fmt: skip


@check(
    "database.stored", needs=("create", "delete"), creates=True, alone=True,
    cost=lambda resource: 4 + 2 * ("update" in resource.operations),
)  # fmt: skip
async def writes_reach_the_table(case: Case) -> AsyncIterator[Finding]:
    """Does the table hold what a create, an update and a delete have left, and every other row as it was?"""
    behind, pair = _pair(case)
    before = await behind.rows(pair)
    own = (await case.own())[0]
    row = await _stored(behind, pair, own)
    if row is None:
        yield case.finding(
            "error", "expectation", "Create returns success, but the table has no such row",
            f"the row {key_text(own.key)} in {pair.table.name}", "no such row",
            cause="not in the table", purpose="create", evidence=[own.exchange],
        )  # fmt: skip
        return
    read = (await case.row_now(own.key))[1]
    for found in _as_sent(case, pair, "create", own.record, row, read, [own.exchange]):
        yield found
    async for found in _update(case, behind, pair, own):
        yield found
    last = await behind.row(pair, own.key)
    exchange = await case.send("delete", "deleting a row that the table has", key=own.key)
    if exchange.answer.ok and not case.is_open(exchange):
        forget(case, own.key)
        for found in await _deleted(case, behind, pair, own, last, exchange):
            yield found
    after = await behind.rows(pair)
    if before is not None and after is not None:
        for found in _others(case, pair, before, after, [own.exchange, exchange]):
            yield found


async def _stored(behind: Behind, pair: Mapped, own: Own) -> Row | None:
    """The row of the table, for which a moment is waited."""
    for _ in range(_LOOKS):
        row = await behind.row(pair, own.key)
        if row is not None:
            return row
        await asyncio.sleep(_PATIENCE / _LOOKS)
    return None


def _as_sent(
    case: Case, pair: Mapped, purpose: Any, sent: Mapping[str, Any], row: Row, read: Row, evidence: Sequence[Exchange]
) -> Iterator[Finding]:
    """A finding where the API shows what was sent and the table holds something else."""
    wrong = []
    for name, value in sent.items():
        field, column = case.resource.field(name), pair.columns.get(name)
        if column is None or field is None or field.write_only or name not in read:
            continue
        kept = same(field, value, read[name])  # what the API itself shows otherwise is told by other checks
        if kept and not agrees(field, read[name], row[column]):
            wrong.append((name, column))
    if wrong:
        name, column = wrong[0]
        yield case.finding(
            "error", "expectation", "The table holds another value than the API shows after a write",
            f"{pair.table.name}.{column} = {text_of(read[name])}, as sent and as the API shows it",
            f"{pair.table.name}.{column} = {text_of(plain(row[column]))}",
            cause="other value stored", purpose=purpose, subjects=[each for each, _ in wrong], evidence=evidence,
        )  # fmt: skip


async def _update(case: Case, behind: Behind, pair: Mapped, own: Own) -> AsyncIterator[Finding]:
    if not case.has("update"):
        return
    change: dict[str, Any] = {}
    for each in case.resource.writable("update"):
        known = own.record.get(each.name, MISSING)
        if each.name in pair.columns and case.resource.relation(each.name) is None and not _is_key(case, each):
            value = await new_value(case, each, unlike=known)
            if value is not MISSING:
                change[each.name] = value
    if not change:
        return
    exchange = await case.send("update", "changing a row that the table has", key=own.key, record=change)
    if not exchange.answer.ok or case.is_open(exchange):
        return
    read = (await case.row_now(own.key))[1]
    for look in range(_LOOKS):
        row = await behind.row(pair, own.key)
        found = list(_as_sent(case, pair, "update", change, row, read, [own.exchange, exchange])) if row else []
        if row is not None and not found:
            return
        if look + 1 < _LOOKS:
            await asyncio.sleep(_PATIENCE / _LOOKS)
    for finding in found:
        yield finding


def _is_key(case: Case, field: Field) -> bool:
    return case.resource.key is not None and field.name in case.resource.key.fields


async def _deleted(
    case: Case, behind: Behind, pair: Mapped, own: Own, last: Row | None, exchange: Exchange
) -> list[Finding]:
    """A finding where a deleted row is in the table as it was; a remark where it is marked as deleted."""
    row = await behind.row(pair, own.key)
    for _ in range(_LOOKS):
        if row is None or row != last:
            break
        await asyncio.sleep(_PATIENCE / _LOOKS)
        row = await behind.row(pair, own.key)
    if row is None:
        return []
    marks = [name for name in row if last is not None and row[name] != last[name]]
    if marks:
        case.remark(f"deleted rows stay in the table {pair.table.name}, with {', '.join(marks)} set")
        return []
    return [
        case.finding(
            "error",
            "expectation",
            "Delete returns success, but the table still has the row",
            f"no row {key_text(own.key)} in {pair.table.name}",
            "the row, as it was",
            cause="deleted row in the table",
            purpose="delete",
            evidence=[own.exchange, exchange],
        )
    ]


def _others(
    case: Case, pair: Mapped, before: Mapping[tuple[str, ...], Row], after: Mapping[tuple[str, ...], Row],
    evidence: Sequence[Exchange],
) -> Iterator[Finding]:  # fmt: skip
    """A finding for rows of others that are not what they were."""
    made = {as_texts(key) for key in case.made_keys}
    changed = [key for key, row in before.items() if key not in made and after.get(key) != row]
    if changed:
        key = changed[0]
        now = after.get(key)
        columns = [name for name in before[key] if now is not None and now[name] != before[key][name]]
        what = f"{', '.join(columns)} changed" if columns else "is gone"
        yield case.finding(
            "error", "expectation", "Writing to one row reaches other rows of the table",
            "every other row as it was", f"{len(changed)} others are not; {pair.table.name} {key_text(key)}: {what}",
            cause="other rows", purpose="create", subjects=columns, evidence=evidence,
        )  # fmt: skip


@check("database.rules", cost=lambda resource: 0)
async def rules_are_those_of_the_table(case: Case) -> AsyncIterator[Finding]:
    """Are the contract's rules for fields such that the table can keep them?"""
    _, pair = _pair(case)
    for title, lines in _contradictions(case, pair).items():
        yield case.finding(
            "warning", "contract", title, lines[0][1], lines[0][2], cause=title, purpose="create",
            subjects=[name for name, _, _ in lines],
        )  # fmt: skip


def _contradictions(case: Case, pair: Mapped) -> dict[str, list[tuple[str, str, str]]]:
    """What contract and table say against each other, by title: field, what the table has, what the contract says."""
    found: dict[str, list[tuple[str, str, str]]] = {}
    for name, column_name in pair.columns.items():
        field, column = case.resource.field(name), pair.table.column(column_name)
        if field is None or column is None or not field.created or field.read_only:
            continue
        where = f"{pair.table.name}.{column.name}"
        longer = column.length is not None and field.max_length is not None and field.max_length > column.length
        if longer and _holds_text(column):
            title = "A documented maxLength is longer than the column"
            told = f"maxLength {column.length} at the most: {where} is {column.type}"
            found.setdefault(title, []).append((name, told, f"maxLength {field.max_length}"))
        if field.required and field.nullable and not column.nullable and not column.has_default:
            title = "Null is documented for a column that takes none"
            found.setdefault(title, []).append((name, f"no null: {where} is NOT NULL", "null is allowed"))
    return found


def _holds_text(column: Column) -> bool:
    return "CHAR" in column.type.upper()
