"""Writes as other roles than the run's own: each is done or refused as stated, and none by any way round."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Collection, Iterator, Mapping, Sequence
from typing import Any, Literal

from checkpost.checks.both_sides import child_record, holds_row, link_act, place_of, usable
from checkpost.checks.bulk_filtered import by_filter, by_filter_act, own_chosen
from checkpost.checks.case import Case
from checkpost.checks.filtering import filtering_of
from checkpost.checks.many import create_many, key_items, removing, send_items
from checkpost.checks.own import Own
from checkpost.checks.records import new_record, new_value, replacement
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.roles import (
    NEEDS,
    REFUSALS,
    REFUSED,
    departure,
    hidden_shown,
    looking_up,
    shown_fields,
    stated_rights,
    told_rights,
)
from checkpost.checks.shown import shown
from checkpost.checks.standing import beside
from checkpost.checks.strays import strays
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.access import Rights, rights_of
from checkpost.model.field import MISSING
from checkpost.model.purpose import Purpose
from checkpost.model.query import compares
from checkpost.model.resource import Subcollection
from checkpost.oracle.rights import holds
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Row


@check("access.writes", needs=NEEDS, creates=True, cost=lambda resource: 16, per_role=True)
async def writes(case: Case) -> AsyncIterator[Finding]:
    """Is each write refused that the role may not do, with nothing changed, and done if it may?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    rights = stated_rights(case)
    async for finding in _creates(case, rights):
        yield finding
    look = await looking_up(case, rights)
    every: tuple[Purpose, ...] = ("update", "replace", "delete")
    purposes = [each for each in every if case.has(each)]
    if not any(map(rights.may, purposes)) and await _all_refused(case, rights, purposes):
        purposes = []
    for purpose, own in [each async for each in _tried(case, rights, look, purposes)]:
        _, before = await case.row_now(own.key)
        may = rights.may(purpose) and holds(rights.rows, before, look)
        exchange = await change_by_role(case, purpose, own.key, before, {*rights.kept, *rights.hidden})
        if exchange is None:
            continue
        there, after = await case.read(own.key, "the row then") if case.has("read") else (exchange, before)
        gone = after is None and case.client.absent(there.answer)
        if gone:
            forget(case, own.key)
        done = gone or bool(after is not None and differences(case.fields, before, after, case.settable))
        evidence = [own.exchange, exchange, there]
        if may:
            if exchange.answer.status in REFUSALS and not done:
                yield departure(
                    case, REFUSED, told_rights(case, rights), str(exchange.answer.status), evidence, purpose,
                    cause=f"refused {purpose}", subjects=[purpose],
                )  # fmt: skip
            elif exchange.answer.ok and not case.is_open(exchange) and not done and case.has("read"):
                yield departure(
                    case, f"{_said(purpose)} by a role is answered with success and not done",
                    f"it is done: {told_rights(case, rights)}",
                    f"{exchange.answer.status}, and the row is as before", evidence, purpose,
                    cause=f"undone {purpose}", subjects=[purpose],
                )  # fmt: skip
        elif done or (exchange.answer.ok and not case.resource.by_filter):  # a filter may leave nothing to change
            yield _not_refused(case, rights, purpose, exchange, done, evidence)
        for found in _answer_shows(case, rights, exchange, purpose):
            yield found
    async for finding in _many(case, rights):
        yield finding


async def _all_refused(case: Case, rights: Rights, purposes: Sequence[Purpose]) -> bool:
    """Whether a role that may do none of them is refused each of them on one row, which stays as it was."""
    if not case.has("read"):
        return False
    own = (await case.own())[0]
    _, before = await case.row_now(own.key)
    for purpose in purposes:
        exchange = await change_by_role(case, purpose, own.key, before, {*rights.kept, *rights.hidden})
        if exchange is not None and exchange.answer.status not in REFUSALS:
            return False
    there, after = await case.read(own.key, "the row then")
    if after is None and case.client.absent(there.answer):
        forget(case, own.key)
    return after is not None and not differences(case.fields, before, after, case.settable)


async def _tried(
    case: Case, rights: Rights, look: Any, purposes: Sequence[Purpose]
) -> AsyncIterator[tuple[Purpose, Own]]:
    """Each purpose with an own row that the role sees if it sees any; where that may be done to some rows alone, also
    with one of the others."""
    for purpose in purposes:
        yield purpose, await _row_that(case, rights, look, True)
        if rights.may(purpose) and rights.rows is not None:
            yield purpose, await _row_that(case, rights, look, False)


async def _row_that(case: Case, rights: Rights, look: Any, seen: bool) -> Own:
    """An own row that satisfies a role's condition, or one that does not, as far as a record can be made so."""
    if rights.rows is None:
        return (await case.own())[0]
    if seen and rights.owner and rights.may("create"):
        record = await new_record(case)
        exchange, key = await case.create(record, f"a row of {case.actor}", through=case.acting)
        if key is not None:
            return Own(key, record, exchange)
    wanted = {each.field: each.value for each in compares(rights.rows) if each.operator == "eq"} if seen else {}
    for _ in range(8):
        record = await new_record(case)
        record |= {name: value for name, value in wanted.items() if name in record}
        if holds(rights.rows, record, look) == seen:
            break
    exchange, key = await case.create(record)
    return Own(key, record, exchange) if key is not None else (await case.own())[0]


def _said(purpose: Purpose) -> str:
    return f"An {purpose}" if purpose == "update" else f"A {purpose}"


def _not_refused(
    case: Case, rights: Rights, purpose: Purpose, exchange: Exchange, done: bool, evidence: Sequence[Exchange]
) -> Finding:
    refused = not exchange.answer.ok
    verb = {"update": "changes", "replace": "replaces", "delete": "deletes", "create": "creates"}[purpose]
    title = (
        f"A role {verb} rows that it may not" if done else f"{_said(purpose)} that is not done is answered with success"
    )
    if refused:
        title = f"{_said(purpose)} is refused to a role but done"
    return departure(
        case, title, f"a refusal: {told_rights(case, rights)}",
        f"{exchange.answer.status}, and it is {'done' if done else 'not done'}", evidence, purpose,
        severity="error" if done else "warning", cause=f"any:{purpose} not refused",
    )  # fmt: skip


async def change_by_role(
    case: Case, purpose: Purpose, key: Key, before: Row, leave: Collection[str] = ()
) -> Exchange | None:
    """A write by the other role to a row of the run's own; None where it has nothing to change but fields to
    ``leave``."""
    body: dict[str, Any] = {}
    if purpose in {"update", "replace"}:
        values = await freely_changed(case, before, leave, "replace" if purpose == "replace" else "update")
        if not values:
            return None
        body = {"record": values if purpose == "update" else {**await replacement(case, key), **values}}
    return await case.send(purpose, f"a {purpose} by {case.actor}", through=case.acting, key=key, **body)


async def freely_changed(
    case: Case, before: Mapping[str, Any], leave: Collection[str] = (), purpose: Literal["update", "replace"] = "update"
) -> dict[str, Any]:
    """A field that can be changed by itself, other than those to ``leave``, and a new value of it."""
    names = case.resource.key_fields
    for each in case.resource.writable(purpose):
        fixed = each.name in names or case.resource.relation(each.name) is not None or each.name in leave
        if fixed or not each.shown or each.name in case.state.unchangeable:
            continue
        value = await new_value(case, each, unlike=before.get(each.name, MISSING))
        if value is not MISSING and value is not None:
            return {each.name: value}
    return {}


async def _creates(case: Case, rights: Rights) -> AsyncIterator[Finding]:
    record = await new_record(case)
    owner = case.resource.field(rights.owner) if rights.owner else None
    if owner is not None and rights.owner in record and same(owner, rights.identity, record[rights.owner]):
        # whose the row is to be is asked with somebody else's name
        other = await new_value(case, owner, unlike=rights.identity)
        record |= {rights.owner: other} if other is not MISSING else {}
    exchange, key = await case.create(record, f"a create by {case.actor}", through=case.acting)
    if not rights.may("create"):
        there = [] if exchange.answer.ok else await strays(case)
        if exchange.answer.ok or there:
            yield _not_refused(case, rights, "create", exchange, key is not None or bool(there), [exchange])
        return
    if key is None:
        if exchange.answer.status in REFUSALS:
            yield departure(
                case, REFUSED, told_rights(case, rights), str(exchange.answer.status), [exchange], "create",
                cause="refused create", subjects=["create"],
            )  # fmt: skip
        return
    for found in _answer_shows(case, rights, exchange, "create"):
        yield found
    _, row = await case.row_now(key)
    async for found in _owned(case, rights, exchange, key, row):
        yield found
    async for found in _kept(case, rights, key, row):
        yield found


async def _owned(case: Case, rights: Rights, exchange: Exchange, key: Key, row: Row) -> AsyncIterator[Finding]:
    """A row that a role makes is its own, whatever it says, and cannot be given to another."""
    field = case.resource.field(rights.owner) if rights.owner else None
    if field is None or rights.owner not in row:
        return
    if not same(field, rights.identity, row[rights.owner]):
        yield departure(
            case, "A row that a role makes belongs to another", f"{rights.owner} = {shown(rights.identity)}",
            shown(row[rights.owner]), [exchange], "create", subjects=[rights.owner],
        )  # fmt: skip
        return
    before = case.state.rows_before
    other = next((each[rights.owner] for each in before if each.get(rights.owner) not in (None, rights.identity)), None)
    if other is None:
        return
    made, second = await case.create(
        {**await new_record(case), rights.owner: other}, "a create for another", through=case.acting
    )
    if second is not None:
        _, given = await case.row_now(second)
        if same(field, other, given.get(rights.owner)):
            yield departure(
                case, "A role makes rows that belong to another",
                f"a refusal, or {rights.owner} = {shown(rights.identity)}", shown(other), [made],
                "create", subjects=[rights.owner],
            )  # fmt: skip
    if case.has("update") and rights.may("update"):
        change = await case.send(
            "update", "giving a row to another", through=case.acting, key=key, record={rights.owner: other}
        )
        _, after = await case.row_now(key)
        if same(field, other, after.get(rights.owner)):
            yield departure(
                case, "A role gives its row to another", f"{rights.owner} as it was", shown(other), [change], "update",
                subjects=[rights.owner],
            )  # fmt: skip


async def _kept(case: Case, rights: Rights, key: Key, row: Row) -> AsyncIterator[Finding]:
    """Fields that the role may not change stay as they are."""
    if not case.has("update") or not rights.may("update"):
        return
    for name in rights.kept:
        field = case.resource.field(name)
        value = await new_value(case, field, unlike=row.get(name, MISSING)) if field is not None else MISSING
        if field is None or value is MISSING or name in case.state.unchangeable:
            continue
        change = await case.send(
            "update", "a field that the role may not change", through=case.acting, key=key, record={name: value}
        )
        _, after = await case.row_now(key)
        if same(field, value, after.get(name)) and not same(field, value, row.get(name)):
            yield departure(
                case, "A role changes a field that it may not",
                f"{name} = {shown(row.get(name))}: {told_rights(case, rights)}", shown(after.get(name)), [change],
                "update", subjects=[name],
            )  # fmt: skip


def _answer_shows(case: Case, rights: Rights, exchange: Exchange, purpose: Purpose) -> list[Finding]:
    """Hidden fields in the answer to a write, an error included."""
    row = case.client.row_in(exchange.answer) if exchange.answer.ok else None
    fields = shown_fields([row] if row else [], rights)
    return [hidden_shown(case, rights, fields, [exchange], purpose)] if fields else []


async def _many(case: Case, rights: Rights) -> AsyncIterator[Finding]:
    """Writes of many rows at once, where the role may not write one."""
    acting = case.acting
    bulk = case.resource.bulk.get("create")
    if bulk is not None and not (rights.may("bulk") and rights.may("create")) and not case.state.many_refused:
        sent = await create_many(
            case, bulk, [await new_record(case) for _ in range(2)], f"many creates by {case.actor}", acting
        )
        if sent.stored:
            yield departure(
                case, "A role creates many rows at once that it may not", f"a refusal: {told_rights(case, rights)}",
                f"{sent.exchange.answer.status}, and {len(sent.stored)} stored", [sent.exchange],
                operation=(bulk.operation.method, bulk.operation.path),
            )  # fmt: skip
    bulk = case.resource.bulk.get("delete")
    if bulk is not None and bulk.keys and not case.state.many_kept:
        rows = await case.own(2)
        keys = [own.key for own in rows]
        look, (_, row) = await looking_up(case, rights), await case.row_now(keys[0])
        if rights.may("bulk") and rights.may("delete") and holds(rights.rows, row, look):
            return
        exchange = await send_items(
            case, bulk, key_items(case, bulk, keys), f"many deletes by {case.actor}", removing(case, bulk, keys), acting
        )
        found = await all_of(case.read(key, "a row then") for key in keys) if case.has("read") else []
        gone = [
            key for key, (seen, row) in zip(keys, found, strict=True) if row is None and case.client.absent(seen.answer)
        ]
        for key in gone:
            forget(case, key)
        if gone:
            yield departure(
                case, "A role deletes many rows at once that it may not", f"a refusal: {told_rights(case, rights)}",
                f"{exchange.answer.status}, and {len(gone)} gone", [exchange],
                operation=(bulk.operation.method, bulk.operation.path),
            )  # fmt: skip


@check(
    "access.by-filter",
    needs=(*NEEDS, "list"),
    creates=True,
    alone=True,
    cost=lambda r: 12 if by_filter(r) else 0,
    per_role=True,
)
async def by_a_filter(case: Case) -> AsyncIterator[Finding]:
    """Do changes and removals by filter leave the rows alone that the role may not change?"""
    purposes = by_filter(case.resource)
    rights = stated_rights(case)
    if not purposes:
        raise Skipped("the contract has no change or removal by filter")
    filtering = await filtering_of(case)
    look = await looking_up(case, rights)
    for purpose in purposes:
        what: Purpose = "delete" if purpose == "filtered delete" else "update"
        rows, asked = await own_chosen(case, filtering)
        own = rows[:2]
        _, before = await case.row_now(own[0].key)
        if rights.may(what) and rights.may("bulk") and holds(rights.rows, before, look):
            continue
        fixed = [each.name for each in case.resource.fields if each.unique or each.name in str(asked.pairs)]
        values = await freely_changed(case, before, fixed)
        if what == "update" and not values:
            continue
        operation = case.resource.bulk[purpose].operation
        record = values if what == "update" else None
        act = by_filter_act(case, what, [each.key for each in own], values)
        exchange = await case.send(
            what, f"by a filter, as {case.actor}", through=case.acting, operation=operation, query=asked.pairs,
            record=record, act=act,
        )  # fmt: skip
        there, after = await case.read(own[0].key, "the row then") if case.has("read") else (exchange, before)
        gone = after is None and case.client.absent(there.answer)
        if gone:
            for each in own:
                forget(case, each.key)
        if gone or (after is not None and differences(case.fields, before, after, list(values))):
            did = "removes" if what == "delete" else "changes"
            yield departure(
                case, f"A role {did} rows by filter that it may not", f"no row: {told_rights(case, rights)}",
                f"{exchange.answer.status}, and the rows are {did.rstrip('s')}d", [exchange, there],
                operation=(operation.method, operation.path),
            )  # fmt: skip


@check(
    "access.linked",
    needs=NEEDS,
    creates=True,
    cost=lambda r: 12 * len([each for each in r.subcollections if each.link or "create" in each.view.operations]),
    per_role=True,
)
async def linked(case: Case) -> AsyncIterator[Finding]:
    """Is nothing made or linked under a row by a role that may not make it?"""
    asked = False
    for sub in case.resource.subcollections:
        between = rights_of(case.world.access, sub.through or sub.child, case.actor)
        makes = sub.through is None and sub.via is not None and "create" in sub.view.operations
        if between is None or not (makes or sub.link is not None):
            continue
        child = usable(case, sub.child)
        if child is None:
            continue
        asked = True
        async with beside(case, child) as other:
            ask = _linked_by_role if sub.link is not None else _made_by_role
            async for finding in ask(case, other, sub, between):
                yield finding
    if not asked:
        raise Skipped("nothing can be made or linked under its rows, or no rights are stated of it")


async def _made_by_role(case: Case, other: Case, sub: Subcollection, rights: Rights) -> AsyncIterator[Finding]:
    if rights.may("create"):
        return
    above = rights_of(case.world.access, case.resource.name, case.actor) or Rights(frozenset())
    parent = await _row_that(case, above, await looking_up(case, above), True)
    record, body = await child_record(other, sub, parent)
    client = case.world.view(case.resource, sub.view, parent.key, case.actor)
    made, key = await other.create(record, f"a row made under another by {case.actor}", through=client, body=body)
    stored = key is not None or (not made.answer.ok and bool(await strays(other)))
    if stored:
        yield departure(
            case, "A role makes rows under others that it may not",
            f"a refusal: {case.actor} may {rights.in_words} in {sub.child}", f"{made.answer.status}, and it is stored",
            [made], operation=place_of(sub.view.operations["create"]), cause=f"made under {sub.path}",
        )  # fmt: skip


async def _linked_by_role(case: Case, other: Case, sub: Subcollection, rights: Rights) -> AsyncIterator[Finding]:
    """Link two own rows as the role, and unlink what the run's own role has linked."""
    assert sub.link is not None
    above = rights_of(case.world.access, case.resource.name, case.actor) or Rights(frozenset())
    own = (await _row_that(case, above, await looking_up(case, above), True)).key
    far = (await other.own())[0].key
    mine = case.world.view(case.resource, sub.view, own)
    theirs = case.world.view(case.resource, sub.view, own, case.actor)

    async def send(link: bool, by_role: bool) -> Exchange:
        operation = sub.link if link else sub.unlink
        assert operation is not None
        other.state.writes += 1
        named = link and bool(sub.linked_by)
        act = link_act(case, sub, own, far, makes=link)
        words = f"{'linking' if link else 'unlinking'} two rows by {case.actor if by_role else 'the run'}"
        return await case.send(
            "update", words, through=theirs if by_role else mine, operation=operation, key=() if named else far,
            record={sub.linked_by: far[-1]} if named else None, act=act,
        )  # fmt: skip

    made = False
    try:
        if not rights.may("create"):
            sent = await send(True, True)
            seen, made = await _is_linked(case, sub, own, far)
            if made:
                yield _link_departs(case, sub, rights, True, [sent, seen])
        if rights.may("delete") or sub.unlink is None:
            return
        if not made:
            made = (await send(True, False)).answer.ok and (await _is_linked(case, sub, own, far))[1]
        if made:
            sent = await send(False, True)
            seen, made = await _is_linked(case, sub, own, far)
            if not made:
                yield _link_departs(case, sub, rights, False, [sent, seen])
    finally:
        if made and sub.unlink is not None:
            await send(False, False)


async def _is_linked(case: Case, sub: Subcollection, own: Key, far: Key) -> tuple[Exchange, bool]:
    seen, there = await holds_row(case, sub, own, far)
    return seen, bool(there)


def _link_departs(case: Case, sub: Subcollection, rights: Rights, link: bool, evidence: Sequence[Exchange]) -> Finding:
    operation = sub.link if link else sub.unlink
    assert operation is not None
    return departure(
        case, f"A role {'links' if link else 'unlinks'} rows that it may not",
        f"a refusal: {case.actor} may {rights.in_words} in {sub.through or sub.child}",
        f"{evidence[0].answer.status}, and they are {'linked' if link else 'unlinked'}", evidence,
        operation=place_of(operation), cause=f"{'link' if link else 'unlink'} {sub.path}",
    )  # fmt: skip


@check("access.conflicts", needs=NEEDS, creates=True, cost=lambda resource: 2, per_role=True)
async def conflicts(case: Case) -> AsyncIterator[Finding]:
    """Does a refused duplicate tell a role nothing of the row that it may not see?"""
    rights = stated_rights(case)
    if not rights.may("create") or case.state.not_creatable:
        raise Skipped("the role may make no rows here")
    unique = [each for each in case.resource.writable("create") if each.unique and each.kind in {"text", "number"}]
    if not unique:
        raise Skipped("none of its fields is unique")
    if not (case.has("read") and rights.may("read")):
        raise Skipped("the role reads no rows by their keys, so that none is hidden from it")
    # a row of the run's own: an API may change the one that has the value, in place of refusing it
    own = (await case.own())[0]
    if (await case.send("read", f"an own row, by {case.actor}", key=own.key, through=case.acting)).answer.ok:
        raise Skipped("rows that the run makes are not hidden from the role")
    hidden = (await case.row_now(own.key))[1]
    for field in unique:
        if not hidden.get(field.name):
            continue
        value = hidden[field.name]
        record = {**await new_record(case), field.name: value}
        exchange, key = await case.create(record, f"a duplicate by {case.actor}", through=case.acting)
        if key is not None or not exchange.answer.refused:
            continue  # that a unique value is taken twice is told elsewhere
        told = list(_told_of(hidden, set(map(str, record.values())), exchange.answer.text))
        if told:
            yield departure(
                case, "A conflict reveals a row that the role may not see",
                "nothing of the row that it conflicts with",
                f"{', '.join(told)} in the answer", [exchange], "create", subjects=told,
            )  # fmt: skip
        elif field.name in exchange.answer.text and str(value) in exchange.answer.text:
            yield departure(
                case, "A conflict reveals that a hidden row has a value",
                "a refusal that names no value of others",
                f"{field.name} and {shown(value, 40)} in the answer", [exchange], "create", severity="note",
                subjects=[field.name],
            )  # fmt: skip


def _told_of(row: Mapping[str, Any], sent: set[str], text: str) -> Iterator[str]:
    """The fields of a row whose values a text holds, but for values that were sent: those that are long enough not to
    stand there by chance, and numbers that stand with the field's name."""
    for name, value in row.items():
        plain = isinstance(value, str | int) and not isinstance(value, bool)
        if not plain or str(value) in sent:
            continue
        word = str(value)
        alone = re.search(rf"(?<![\w.]){re.escape(word)}(?!\w|\.\w)", text)
        if alone and (len(word) >= 6 or (isinstance(value, int) and re.search(rf"\b{re.escape(name)}\b", text))):
            yield name
