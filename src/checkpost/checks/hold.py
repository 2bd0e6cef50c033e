"""Rows that outlive a run: left there on purpose, and read again when the API has been started anew."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_value
from checkpost.checks.registry import Blocked, Skipped, check, looking
from checkpost.checks.shown import shown
from checkpost.findings import Differing, Finding
from checkpost.model.field import MISSING
from checkpost.oracle.same import differences
from checkpost.rows.journal import Entry
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row, key_text


@check("hold.left", needs=("create", "delete"), creates=True, alone=True, cost=lambda resource: 8)
@looking
async def left(case: Case) -> None:
    """Are rows left behind, as they are stored, for a later look?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    rows = [*(await case.own()), *(await case.own(full=False))]
    if case.has("update"):
        rows.append(await _changed(case))
    for own in rows:
        await _hold(case, own)
    case.world.held += len(rows)
    case.remark(f"{len(rows)} rows are held")


async def _changed(case: Case) -> Own:
    """A row that is changed after it was made: a change too may live in a cache alone."""
    own = (await case.own())[0]
    names = case.resource.key_fields
    for field in case.resource.writable("update"):
        if field.name in names or case.resource.relation(field.name) is not None or not field.shown:
            continue
        value = await new_value(case, field, unlike=own.record.get(field.name, MISSING))
        if value is not MISSING and value is not None:
            await case.send("update", "changing a row that is held", key=own.key, record={field.name: value})
            break
    return own


async def _hold(case: Case, own: Own) -> None:
    """Keep a row, and those made for it that it refers to."""
    ledger = case.world.ledger
    assert ledger is not None
    _, row = await case.row_now(own.key)
    case.made.remove(ledger.hold(case.resource.name, own.key, row))
    for relation in case.resource.relations:
        target = case.world.model.resource(relation.resource)
        value = row.get(relation.field)
        if target is None or value not in case.world.state(target.name).parents:
            continue
        _, held = await case.other(target).row_now((value,))
        ledger.hold(target.name, (value,), held)


@check("hold.kept", cost=lambda resource: 4)
async def kept(case: Case) -> AsyncIterator[Finding]:
    """Are the rows that an earlier run has left still there, as they were?"""
    entries = [each for each in case.world.waiting if each.resource == case.resource.name and each.named is not None]
    if not entries:
        raise Skipped("no rows of it are held")
    listing = await case.listing() if case.has("list") else None
    gone: list[tuple[Entry, Exchange]] = []
    for entry in entries:
        assert entry.named is not None
        row: Row | None = None
        if case.has("read"):
            exchange, row = await case.read(entry.named, "a row that is held")
        elif listing is not None and not listing.problem:
            exchange, row = listing.exchanges[-1], listing.by_key.get(entry.named)
        else:
            raise Blocked("held rows cannot be read")
        if row is None and exchange.answer.status >= 500:
            raise Blocked(f"a held row cannot be read ({exchange.answer.status})")
        if row is None:
            gone.append((entry, exchange))
            continue
        held = dict(entry.held or {})
        changed = differences(case.fields, held, row)
        if changed:
            name = changed[0]
            yield case.finding(
                "error",
                "expectation",
                "A row that was stored has changed by itself",
                f"{name} = {shown(held[name])}, as it was when it was left",
                f"{name} = {shown(row[name])}",
                cause="held changed",
                purpose="read",
                subjects=changed,
                evidence=[exchange],
            )
        elif listing is not None and listing.complete and entry.named not in listing.by_key:
            yield case.finding(
                "error",
                "expectation",
                "A row that was stored is no longer in the list",
                f"the row {key_text(entry.named)}",
                "it can be read by its key, but the list does not hold it",
                cause="held not listed",
                purpose="list",
                evidence=listing.exchanges[:1],
            )
    if gone:
        yield case.finding(
            "error",
            "expectation",
            "Rows that were stored are gone",
            f"the {len(entries)} rows that were left there",
            f"{len(gone)} of them are not there",
            cause="held gone",
            purpose="create",
            evidence=[exchange for _, exchange in gone[:2]],
            rows=[Differing("gone", key_text(entry.named), dict(entry.held or {})) for entry, _ in gone[:3]],
        )
