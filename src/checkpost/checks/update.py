"""Changing some fields of a row."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from collections.abc import Set as AbstractSet
from datetime import UTC, datetime
from typing import Any

from checkpost.checks.blame import is_of_value, said, wants
from checkpost.checks.case import Case
from checkpost.checks.create import read_only_values
from checkpost.checks.own import Own
from checkpost.checks.read import succeeded_on_missing
from checkpost.checks.readback import NULL_UNSENT, UNSENT_TITLE, answer_differs, changed_values, list_differs
from checkpost.checks.records import is_allowed, may_be_shown, new_record, new_value, sayable
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import again
from checkpost.checks.rules import broken_by, refused_and_unchanged, situation
from checkpost.checks.shown import shown
from checkpost.checks.vacancy import vacant_key
from checkpost.findings import RESETS, UPDATE_LOST, Finding
from checkpost.model.field import MISSING, Field
from checkpost.model.purpose import Purpose, Write
from checkpost.model.shape import shape_of
from checkpost.oracle.same import change as alteration
from checkpost.oracle.same import differences, kept_by_server, same
from checkpost.rows.table import is_whole
from checkpost.values.broken import Break
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "update", "delete")


@check("update.each-field", needs=_NEEDS, creates=True, cost=lambda r: 2 * len(r.writable("update")) + 4)
async def each_field(case: Case) -> AsyncIterator[Finding]:
    """Is a changed field stored, and every other field left as it was?"""
    fork = case.ledger.table(case.resource.name).fork
    if fork is not None:  # a change that was sent before has made a row of its own, so that no more are sent
        yield another_row(case, "update", *fork)
        return
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    key = case.resource.key_fields
    changes: list[dict[str, Any]] = []
    for field in case.resource.writable("update"):
        if field.name in key or case.is_own_key(field.name):
            continue
        if field.name in case.resource.values or field.name in case.state.withheld:
            continue
        value = await new_value(case, field, unlike=row.get(field.name))
        if value is not MISSING:
            changes.append({field.name: value})
            changes += [{field.name: each} for each in taken_for_none(case, field, value)]
        if field.nullable and field.shown and value is not None and sayable(case, "update", None):
            changes.append({field.name: None})
    if not changes:
        raise Skipped("none of its fields can be changed")
    done, refused, stored = False, list[tuple[dict[str, Any], Exchange]](), set[str]()
    lacking_first: tuple[dict[str, Any], Exchange] | None = None
    case.state.wanted_beside, demanded = set(), shape_of(case.body_schema("update")).required
    for change in changes:
        name = next(iter(change))
        exchange = await case.send("update", f"changing {name}", key=own.key, record=change)
        if exchange.answer.refused:
            lacking = exchange
            exchange, wanted = await _with_what_is_wanted(case, own, change, exchange, demanded)
            lacking_first = lacking_first or ((change, lacking) if wanted - demanded else None)
        done |= not exchange.answer.refused
        if exchange.answer.status in {401, 403, 405}:
            raise Skipped(f"the role {case.world.role.name} may not update ({exchange.answer.status})")
        if exchange.answer.refused:
            refused.append((change, exchange))
            continue
        if exchange.answer.failure:
            continue
        read, after = await case.row_now(own.key)
        evidence = [own.exchange, exchange, read]
        if not exchange.answer.ok:
            if not differences(case.fields, change, after) and differences(case.fields, change, row):
                yield _stored_all_the_same(case, change, exchange, evidence)
            row = after
            continue
        wrong = judge_change(case, "update", change, row, after, exchange, evidence)
        for found in wrong:
            yield found
        stored |= set() if wrong else {name}
        row = after
    if lacking_first is not None:
        for found in _wants_more(case, own, *lacking_first, case.state.wanted_beside - demanded):
            yield found
    for found in _refusals(case, own, refused, done):
        yield found
    if case.has("list"):
        listing = await case.listing()
        for found in list_differs(case, row, listing.by_key.get(own.key), listing.exchanges[-1:]):
            yield found
    async for found in _together(case, own, row, stored):
        yield found
    await send_nulls(case, "update", own.key)


async def _together(case: Case, own: Own, row: Row, names: AbstractSet[str]) -> AsyncIterator[Finding]:
    """The findings about one change of several fields, each of which is stored where it is changed alone."""
    change = {name: await new_value(case, case.fields[name], unlike=row.get(name)) for name in sorted(names)}
    change = {name: value for name, value in change.items() if value is not MISSING}
    if len(change) < 2:
        return
    exchange = await case.send("update", "changing several fields", key=own.key, record=change)
    if exchange.answer.ok:
        read, after = await case.row_now(own.key)
        for found in judge_change(case, "update", change, row, after, exchange, [own.exchange, exchange, read]):
            yield found


async def _with_what_is_wanted(
    case: Case, own: Own, change: dict[str, Any], refused: Exchange, demanded: AbstractSet[str]
) -> tuple[Exchange, set[str]]:
    """A refused change once more, with the fields beside it that the refusal asks for and that were not sent, as those
    that are ``demanded`` by the contract are but for the key; and which these are, if that is taken. Else the refusal
    itself."""
    known = case.state.wanted_beside
    others = {each.name for each in case.resource.writable("update")} - set(change) - known
    wanted = wants(refused, others - (demanded - set(case.resource.key_fields)))
    if not wanted or case.resource.patched:
        return refused, set()
    case.state.wanted_beside = known | wanted
    exchange = await case.send("update", f"changing {next(iter(change))}", key=own.key, record=change)
    if exchange.answer.ok:
        return exchange, wanted
    case.state.wanted_beside = known
    return refused, set()


def _wants_more(
    case: Case, own: Own, change: dict[str, Any], refused: Exchange, wanted: AbstractSet[str]
) -> Iterator[Finding]:
    names = sorted(wanted)
    case.remark(f"changes are sent with {', '.join(names)}, as refusals ask; the contract does not say so")
    if not case.resource.guessed:
        yield case.finding(
            "warning",
            "contract",
            "A change is refused without fields that the contract does not demand",
            f"success for a change of {next(iter(change))} alone",
            said(refused),
            cause="change wants more",
            purpose="update",
            subjects=names,
            evidence=[own.exchange, refused],
        )


def taken_for_none(case: Case, field: Field, value: Any) -> list[Any]:
    """Values of a field that many programs take for none at all, where another has just been sent."""
    if value is True:
        return [False]
    plain = field.kind == "number" and field.type != "string" and not (field.unique or field.places)
    free = plain and case.resource.relation(field.name) is None and value != 0
    return [0] if free and case.world.valid(field, 0) and may_be_shown(case, field, 0) else []


def _stored_all_the_same(
    case: Case, change: Mapping[str, Any], exchange: Exchange, evidence: list[Exchange]
) -> Finding:
    name, value = next(iter(change.items()))
    return case.finding(
        "error",
        "expectation",
        "An update that is answered with a server error is stored",
        "success, or the row as before",
        f"{exchange.answer.status}, and {name} = {shown(value)} is there",
        cause="any:stored in spite of an error",
        purpose="update",
        subjects=[name],
        evidence=evidence,
    )


async def send_nulls(case: Case, purpose: Write, key: Key) -> None:
    """Send null for each field of an own row for which the body's schema allows it and the row's does not: what is
    answered, and what is there then, is judged as every answer is."""
    bodies = shape_of(case.resource.record_schema(purpose)).properties
    for field in case.resource.writable(purpose):
        node = bodies.get(field.name)
        stays = field.nullable or not field.shown or field.name in case.resource.values
        if stays or node is None or not sayable(case, purpose, None):
            continue
        if case.world.validators.is_valid(node, None, "request"):
            await case.send(purpose, f"null for {field.name}", key=key, record={field.name: None})
            await case.row_now(key)


def another_row(case: Case, purpose: Purpose, meant: Key, answered: Key, evidence: Sequence[Exchange]) -> Finding:
    return case.finding(
        "error",
        "expectation",
        "A change is answered with another row",
        f"the row {key_text(meant)}",
        f"the row {key_text(answered)}",
        cause="any:another row",
        purpose=purpose,
        evidence=evidence,
    )


def judge_change(
    case: Case,
    purpose: Purpose,
    change: dict[str, Any],
    before: Row,
    after: Row,
    exchange: Exchange,
    evidence: list[Exchange],
) -> list[Finding]:
    """The findings about one update: what was sent is stored, the rest stays, the answer is true."""
    found: list[Finding] = []
    now = datetime.now(UTC)
    shown_row, meant = case.client.row_in(exchange.answer) or {}, case.client.key_of(before)
    answered = case.client.key_of(shown_row) if is_whole(shown_row, before) else None
    if answered and meant and key_text(answered) != key_text(meant) and case.client.key_of(change) is None:
        return [another_row(case, purpose, meant, answered, evidence)]
    other = differences(case.fields, change, after)
    kept = [name for name in other if kept_by_server(case.fields[name], change[name], after[name], now)]
    lost = [
        name
        for name in other
        if name in before
        and name not in (*kept, *case.state.disputed)
        and same(case.fields[name], before[name], after[name])
        and alteration(case.fields[name], change[name], after[name]) != "the number was rounded"
    ]
    case.learn(case.state.unchangeable, kept)
    # a field that another value was stored of is not one that nothing changes
    unsent = [name for name in lost if change[name] is None]
    told = [name for name in unsent if name not in case.state.unchangeable]
    lost = [name for name in lost if name not in unsent]
    if told:
        name = told[0]
        found.append(
            case.finding(
                "error",
                "expectation",
                UNSENT_TITLE,
                f"{name} = null",
                f"{name} = {shown(after[name])}, as before",
                cause=NULL_UNSENT,
                purpose=purpose,
                subjects=told,
                evidence=evidence,
            )
        )
    if lost:
        name = lost[0]
        case.learn(case.state.unchangeable, lost)
        found.append(
            case.finding(
                "error",
                "expectation",
                "Update returns success but does not store the value",
                f"{name} = {shown(change[name])}",
                f"{name} = {shown(after[name])}, as before",
                cause=UPDATE_LOST,
                purpose=purpose,
                subjects=lost,
                evidence=evidence,
            )
        )
    elif not unsent:
        changed = list(changed_values(case, purpose, change, after, evidence))
        found += changed or answer_differs(case, purpose, exchange, after, change)
    others = [
        field.name
        for field in case.resource.fields
        if not field.read_only and field.name not in change and (field.created or field.updated)
    ]
    touched = [
        name
        for name in differences(case.fields, before, after, others)
        if name not in {*case.state.disputed, *case.state.withheld}
        and not kept_by_server(case.fields[name], before[name], _without(after[name], before[name], case, change), now)
    ]
    if touched:
        name = touched[0]
        found.append(
            case.finding(
                "error",
                "expectation",
                "Update changes fields that were not sent",
                f"{name} = {shown(before[name])}, as before",
                f"{name} = {shown(after[name])}",
                cause=RESETS,
                purpose=purpose,
                subjects=touched,
                evidence=evidence,
            )
        )
    return found


def _refusals(
    case: Case, own: Own, refused: Sequence[tuple[dict[str, Any], Exchange]], done: bool
) -> Iterator[Finding]:
    """The findings about changes that were refused: one if nothing was ``done``, else one for each that was refused for
    its value."""
    if refused and not done:
        case.state.not_changeable = f"no change is accepted: {said(refused[0][1])}"
    refused = [each for each in refused if is_allowed(case, "update", each[1])]
    if len(refused) > 1 and not done:
        yield case.finding(
            "warning",
            "contract",
            "No change that the contract allows is accepted",
            "success for a valid change",
            said(refused[0][1]),
            cause="valid refused",
            purpose="update",
            evidence=[own.exchange, refused[0][1]],
        )
        return
    for change, exchange in refused:
        name = next(iter(change))
        if case.fields[name].types and is_of_value(exchange, name, case.fields):
            yield _refused(case, change, exchange)


def _refused(case: Case, change: dict[str, Any], exchange: Exchange) -> Finding:
    name = next(iter(change))
    return case.finding(
        "warning",
        "contract",
        "Values that the contract allows are refused",
        f"success for {name} = {shown(change[name], 60)}",
        f"{exchange.answer.status} {' '.join(exchange.answer.text.split())[:160]}",
        cause="any:valid value refused",
        purpose="update",
        subjects=[name],
        evidence=[exchange],
    )


def _without(after: Any, before: Any, case: Case, change: Mapping[str, Any]) -> Any:
    """An object as it is now, with what it shows of a change as it was before: it may stand there once more."""
    if not isinstance(after, dict) or not isinstance(before, dict):
        return after
    sent = [(case.fields[name], value) for name, value in change.items() if name in case.fields]
    texts = {name: value for name, value in after.items() if isinstance(value, str) and value}
    again = {name for name, value in texts.items() if any(same(each, one, value) for each, one in sent)}
    return {name: before[name] if name in again and name in before else value for name, value in after.items()}


#: How often rows that seem to be changed by an update are looked at once more.
_LOOKS = 6


async def _several(case: Case, row: Row) -> dict[str, Any]:
    """New values for every field that an update may set."""
    change = {}
    for field in case.resource.writable("update"):
        in_key = case.resource.key is not None and field.name in case.resource.key.fields
        if in_key or case.is_own_key(field.name) or field.name in case.resource.values:
            continue
        value = await new_value(case, field, unlike=row.get(field.name))
        if value is not MISSING:
            change[field.name] = value
    return change


def _changed(case: Case, own: Key, before: Listing, after: Listing) -> set[Key]:
    """The keys of rows that are not the run's and differ between two readings of the list."""
    return {
        key
        for key, row in before.by_key.items()
        if key != own
        and key not in case.made_keys
        and key in after.by_key
        and differences(case.fields, row, after.by_key[key], case.settable)
    }


@check("update.other-rows", needs=(*_NEEDS, "list"), creates=True, alone=True, cost=lambda resource: 10)
async def other_rows(case: Case) -> AsyncIterator[Finding]:
    """Does updating one row leave all other rows alone?"""
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    # what changes between two readings with no update in between is somebody else's doing
    lists = [await case.listing(), await case.listing()]
    noisy = _changed(case, own.key, *lists)
    touched: set[Key] | None = None
    evidence: list[Exchange] = []
    for _ in range(2):
        exchange = await case.send("update", "changing a row", key=own.key, record=await _several(case, row))
        lists.append(await case.listing())
        if not all(listing.complete for listing in lists):
            raise Skipped("the list is too long to compare all rows, or cannot be read whole")
        changed = _changed(case, own.key, *lists[-2:]) - noisy
        touched = changed if touched is None else touched & changed
        if not touched:
            return
        evidence = [own.exchange, exchange, *lists[-1].exchanges[:1]]
    for _ in range(_LOOKS):  # nothing is written meanwhile: what goes on changing is somebody else's doing too
        touched = (touched or set()) - _changed(case, own.key, lists[-1], await case.listing())
        if not touched:
            return
    key = next(iter(touched or ()))
    name = differences(case.fields, lists[-2].by_key[key], lists[-1].by_key[key], case.settable)[0]
    seen = f"{name} of the row {key_text(key)} changed to {shown(lists[-1].by_key[key][name])}"
    yield case.finding(
        "error",
        "expectation",
        "Update of one row changes others",
        "no other row changes",
        seen,
        cause="other rows",
        purpose="update",
        evidence=evidence,
    )


@check("update.rules", needs=_NEEDS, creates=True, cost=lambda r: 3 * len(r.writable("update")) + 3)
async def rules_are_enforced(case: Case) -> AsyncIterator[Finding]:
    """Is a change that breaks a rule refused, and the row left as it was?"""
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    key = case.resource.key_fields
    # a change of the key may make a row of its own
    broken = [each for each in broken_by(case, "update", await _several(case, row)) if each.field not in key]

    async def send(each: Break) -> Exchange:
        return await case.send("update", situation(each), key=own.key, record={each.field: each.value})

    async def mend(each: Break) -> Exchange:
        return await case.send("update", "the row as it was", key=own.key, record={each.field: row.get(each.field)})

    async for found in refused_and_unchanged(case, "update", own, row, broken, send, mend):
        yield found


@check("update.read-only", needs=_NEEDS, creates=True, cost=lambda resource: 4)
async def read_only_is_kept(case: Case) -> AsyncIterator[Finding]:
    """Does an update leave read-only fields alone?"""
    async for found in read_only_kept(case, "update"):
        yield found


async def read_only_kept(case: Case, purpose: Purpose) -> AsyncIterator[Finding]:
    """Send values for read-only fields with a valid body, and look whether they were taken."""
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    sent = read_only_values(case, row)
    if not sent:
        raise Skipped("it has no read-only fields that rows show")
    valid = await new_record(case, purpose) if purpose == "replace" else {}
    exchange = await case.send(purpose, "values for read-only fields", key=own.key, record={**valid, **sent})
    if not exchange.answer.ok:
        return
    read, after = await case.row_now(own.key)
    taken = [name for name in sent if name in after and same(case.fields[name], sent[name], after[name])]
    if taken:
        field = case.fields[taken[0]]
        yield case.finding(
            "error",
            "contract",
            "A read-only field accepts the value that was sent",
            f"{taken[0]} = {shown(row.get(taken[0]))}",
            f"{taken[0]} = {shown(after[taken[0]])}",
            cause="any:read-only taken",
            purpose=purpose,
            place=field.node.place if field.node else None,
            subjects=taken,
            evidence=[own.exchange, exchange, read],
        )


@check("update.missing-key", needs=("update", "create", "delete"), creates=True, cost=lambda resource: 4)
async def missing_key(case: Case) -> AsyncIterator[Finding]:
    """Is an update of a missing key answered with "not found"?"""
    key = await vacant_key(case)
    row = dict((await case.own())[0].record)
    change = await _several(case, row)
    if not change:
        raise Blocked("no valid change could be made")
    name = next(iter(change))
    async for found in write_to_missing(case, "update", key, {name: change[name]}):
        yield found


async def write_to_missing(case: Case, purpose: Purpose, key: Any, record: dict[str, Any]) -> AsyncIterator[Finding]:
    """Write to a missing key; an API may take that for a create."""
    exchange = await case.send(purpose, "a missing key", key=key, record=record)
    made = False
    if case.has("read"):
        read = await case.send("read", "a missing key", key=key)
        made = read.answer.ok and case.client.row_in(read.answer) is not None
        made = made and case.client.key_of(case.client.row_in(read.answer) or {}) == key
    if made:
        again(case, key)
    statuses = {response.status for response in case.operation(purpose).responses}
    # PUT may make the row (RFC 9110, 9.3.4), unless the contract promises "not found" and no 201
    may_create = made and ("201" in statuses or (purpose == "replace" and not statuses & {"404", "410"}))
    none_left = case.resource.by_filter and not made
    if exchange.answer.ok and not may_create and not none_left:
        yield succeeded_on_missing(case, purpose, exchange)
