"""Rows that are made, moved and linked under others: seen from both sides, at once and only there."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.standing import beside
from checkpost.checks.strays import strays
from checkpost.contract.contract import Operation
from checkpost.findings import Finding
from checkpost.model.purpose import Purpose
from checkpost.model.relation import Expanded
from checkpost.model.resource import Resource, Subcollection
from checkpost.model.shape import shape_of
from checkpost.oracle.same import differences, same
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")


def place_of(operation: Operation) -> tuple[str, str]:
    return operation.method, operation.path


def usable(case: Case, name: str, *purposes: Purpose) -> Resource | None:
    """A resource whose rows can be made and removed; None, with a remark, where they cannot."""
    resource = case.world.model.resource(name)
    state = case.world.state(name)
    lacks = resource is None or not {"create", "delete", *purposes} <= set(resource.operations) or resource.key is None
    if lacks or state.not_creatable or state.not_removable or state.may_not_create:
        case.remark(f"rows of {name} cannot be made and removed")
        return None
    return resource


def _known_wrong(case: Case, sub: Subcollection) -> bool:
    """Whether the list is known to hold other rows than it should: those that are made under it may be among them."""
    known = case.world.findings.by_key.values()
    place = place_of(sub.view.operations["list"])
    return any(each.check == "relate.sublist" and place in each.operations for each in known)


async def holds_row(case: Case, sub: Subcollection, parent: Key, child: Key) -> tuple[Exchange, bool | None]:
    """Whether the list under a row holds another; None where that cannot be told."""
    client = case.world.view(case.resource, sub.view, parent)
    listing = await client.whole_list(case.world.most_rows, case.check.name, "the list under a row")
    case.requests += len(listing.exchanges)
    known = not listing.problem and listing.complete
    return listing.exchanges[0], (child in listing.by_key) if known else None


@check("relate.moved", needs=_NEEDS, creates=True, cost=lambda resource: 14 * len(resource.subcollections))
async def moved(case: Case) -> AsyncIterator[Finding]:
    """Is a row that is made under another one, or moved to it, in its list, and no longer in the other's?"""
    asked = False
    for sub in case.resource.subcollections:
        if not sub.many or sub.through is not None or sub.via is None or _known_wrong(case, sub):
            continue
        child = usable(case, sub.child)
        if child is None:
            continue
        field = child.field(sub.via)
        if field is None or not field.created or (child.key is not None and sub.via in child.key.fields):
            continue
        asked = True
        async with beside(case, child) as other:
            first, second = await case.own(2)
            async for finding in _moved(case, other, sub, first, second):
                yield finding
    if not asked:
        raise Skipped("nothing can be made under its rows")


async def _moved(case: Case, other: Case, sub: Subcollection, first: Own, second: Own) -> AsyncIterator[Finding]:
    assert sub.via is not None
    listed = sub.view.operations["list"]
    made, key = await other.create({**await new_record(other), sub.via: first.key[-1]}, "a row under an own row")
    if key is None:
        raise Blocked(f"no row of {sub.child} could be made under an own row ({made.answer.status})")

    def wrong(title: str, expected: str, evidence: Sequence[Exchange]) -> Finding:
        return case.finding(
            "error",
            "expectation",
            title,
            expected,
            f"the row {key_text(key)} of {sub.child}",
            cause=f"{title} {sub.path}",
            operation=place_of(listed),
            evidence=evidence,
        )

    seen, there = await holds_row(case, sub, first.key, key)
    if there is False:
        yield wrong("A row made under another is missing from the list there", "the row in the list", [made, seen])
        return
    elsewhere, astray = await holds_row(case, sub, second.key, key)
    if astray:
        yield wrong("A row is listed under a row that it does not belong to", "an empty list", [made, elsewhere])
        return
    field = other.fields[sub.via]
    if (
        field.updated
        and field.name not in other.state.unchangeable
        and "update" in other.resource.operations
        and there is not None
    ):
        change = await other.send("update", "moving a row to another one", key=key, record={sub.via: second.key[-1]})
        _, row = await other.row_now(key)
        if change.answer.ok and same(field, second.key[-1], row.get(sub.via)):
            left, still = await holds_row(case, sub, first.key, key)
            now, arrived = await holds_row(case, sub, second.key, key)
            if still:
                yield wrong("A row that is moved stays in the list that it left", "not there", [change, left])
            elif arrived is False:
                yield wrong("A row that is moved is missing where it went", "the row in the list", [change, now])
    if "create" in sub.view.operations:
        async for finding in _made_there(case, other, sub, first):
            yield finding


async def child_record(other: Case, sub: Subcollection, parent: Own) -> tuple[dict[str, Any], dict[str, Any]]:
    """A record that belongs to a row, and the body that makes it by the path under that row."""
    assert sub.via is not None
    shape = shape_of(sub.view.record_schema("create"))
    full = {**await new_record(other), sub.via: parent.key[-1]}
    # the path says whose it is, but a body may have to say so as well
    told = {sub.via} - shape.required
    body = {name: value for name, value in full.items() if name not in told and name in (shape.properties or full)}
    return full, body


async def _made_there(case: Case, other: Case, sub: Subcollection, parent: Own) -> AsyncIterator[Finding]:
    """Create a row by the path under another row: it belongs to that one."""
    assert sub.via is not None
    operation = sub.view.operations["create"]
    taken = {each.name for each in sub.view.fields if each.created} or None
    record, body = await child_record(other, sub, parent)
    client = case.world.view(case.resource, sub.view, parent.key)
    made, key = await other.create(record, "a row made under another", through=client, body=body)
    if key is None:
        if made.answer.refused and taken and made.answer.status not in {401, 403, 405}:
            yield case.finding(
                "warning",
                "contract",
                "No row can be made under another",
                "success for a valid record",
                f"{made.answer.status} {' '.join(made.answer.text.split())[:160]}",
                cause=f"not made under {sub.path}",
                operation=place_of(operation),
                evidence=[made],
            )
        return
    _, row = await other.row_now(key)
    if sub.via in row and not same(other.fields[sub.via], parent.key[-1], row[sub.via]):
        yield case.finding(
            "error",
            "expectation",
            "A row that is made under another does not belong to it",
            f"{sub.via} = {parent.key[-1]!r}",
            f"{sub.via} = {row[sub.via]!r}",
            cause=f"made elsewhere {sub.path}",
            operation=place_of(operation),
            evidence=[made],
        )


@check("relate.linked", needs=_NEEDS, creates=True, cost=lambda resource: 12)
async def linked(case: Case) -> AsyncIterator[Finding]:
    """Are two rows that are linked seen from both sides, once, and no more when they are unlinked?"""
    asked = False
    for sub in case.resource.subcollections:
        if sub.link is None:
            continue
        child = usable(case, sub.child)
        if child is None:
            continue
        asked = True
        async with beside(case, child) as other:
            own, far = (await case.own())[0], (await other.own())[0]
            async for finding in _linked(case, other, sub, own.key, far.key):
                yield finding
    if not asked:
        raise Skipped("its rows are not linked with others by the contract")


def link_act(case: Case, sub: Subcollection, own: Key, far: Key, makes: bool) -> Act:
    """What linking or unlinking two own rows may do: where a table between them is known, ``makes`` its row."""
    between = case.world.model.resource(sub.through) if sub.through else None
    pair = {sub.via or "": own[-1], sub.far or "": far[-1]}
    touched = ((case.resource.name, own), (sub.child, far))
    if not makes or between is None:
        return Act("link", (), touched)
    names = between.key.fields if between.key is not None else ()
    key = tuple(pair[name] for name in names) if names and set(names) == set(pair) else None
    return Act("link", (Made(between.name, pair, key),), touched)


async def _linked(case: Case, other: Case, sub: Subcollection, own: Key, far: Key) -> AsyncIterator[Finding]:
    assert sub.link is not None
    client = case.world.view(case.resource, sub.view, own)
    between = case.world.model.resource(sub.through) if sub.through else None

    async def send(operation: Operation, situation: str) -> Exchange:
        case.state.writes += 1
        other.state.writes += 1
        if between is not None:
            case.world.state(between.name).writes += 1
        record = {sub.linked_by: far[-1]} if sub.linked_by and operation is sub.link else None
        key = () if sub.linked_by and operation is sub.link else far
        act = link_act(case, sub, own, far, operation is sub.link)
        return await case.send(
            "update", situation, through=client, operation=operation, key=key, record=record, act=act
        )

    def wrong(operation: Operation, title: str, expected: str, observed: str, evidence: Sequence[Exchange]) -> Finding:
        return case.finding(
            "error",
            "expectation",
            title,
            expected,
            observed,
            cause=f"{title} {sub.path}",
            operation=place_of(operation),
            evidence=evidence,
        )

    first = await send(sub.link, "linking two rows")
    if not first.answer.ok:
        if first.answer.refused and first.answer.status not in {401, 403}:
            yield wrong(sub.link, "Two rows cannot be linked", "success", str(first.answer.status), [first])
        return
    try:
        for title, expected, seen in await _unseen(case, other, sub, own, far):
            yield wrong(sub.link, title, expected, "not there", [first, seen])
            return
        again = await send(sub.link, "linking two rows again")
        listing = await client.whole_list(case.world.most_rows, case.check.name, "the list under a row")
        count = [client.key_of(row) for row in listing.rows].count(far)
        if count > 1:
            yield wrong(
                sub.link, "Rows that are linked twice are listed twice", "once", f"{count} times", [first, again]
            )
    finally:
        gone = await send(sub.unlink, "unlinking two rows") if sub.unlink is not None else None
    if sub.unlink is None or gone is None or not gone.answer.ok:
        if sub.unlink is not None and gone is not None and gone.answer.refused:
            yield wrong(sub.unlink, "Two rows cannot be unlinked", "success", str(gone.answer.status), [first, gone])
        return
    seen, there = await holds_row(case, sub, own, far)
    if there:
        yield wrong(sub.unlink, "Rows that are unlinked are still listed", "not in the list", "there", [gone, seen])
        return
    exchange, row = await other.read(far, "a row that was unlinked") if other.has("read") else (gone, {})
    if row is None and other.client.absent(exchange.answer):
        forget(other, far)
        what = f"the row of {sub.child} itself is gone"
        yield wrong(sub.unlink, "Unlinking removes the row", "the row stays", what, [gone, exchange])
        return
    # a second time is answered one way or the other: a server error alone is wrong, and told elsewhere
    await send(sub.unlink, "unlinking two rows again")


async def _unseen(case: Case, other: Case, sub: Subcollection, own: Key, far: Key) -> list[tuple[str, str, Exchange]]:
    """From which sides a link is not seen: the row's list, the other row's, the rows between."""
    seen, there = await holds_row(case, sub, own, far)
    if there is False:
        return [
            ("A row that is linked is missing from the list", f"the row {key_text(far)} under {key_text(own)}", seen)
        ]
    for back in other.resource.subcollections:
        if back.child != case.resource.name or back.through != sub.through or sub.through is None:
            continue
        seen, there = await holds_row(other, back, far, own)
        if there is False:
            return [("A link is seen from one side only", f"the row {key_text(own)} under {key_text(far)}", seen)]
    between = case.world.model.resource(sub.through) if sub.through else None
    if between is not None and "list" in between.operations:
        listing = await case.other(between).listing()
        pair = (own[-1], far[-1])
        found = any((row.get(sub.via or ""), row.get(sub.far or "")) == pair for row in listing.rows)
        if listing.complete and not listing.problem and not found:
            return [(f"A link is missing from the list of {between.name}", "its row", listing.exchanges[0])]
    return []


@check("relate.nested", needs=_NEEDS, creates=True, cost=lambda resource: 8 * len(resource.nested))
async def nested(case: Case) -> AsyncIterator[Finding]:
    """Are rows that are made along with another one stored with it, and none of them if one is refused?"""
    asked = False
    for each in case.resource.nested:
        child = usable(case, each.resource, "list")
        if child is None:
            continue
        asked = True
        async with beside(case, child) as other:
            async for finding in _nested(case, other, each):
                yield finding
    if not asked:
        raise Skipped("no rows can be made along with its own")


async def _inner(case: Case, other: Case, each: Expanded) -> dict[str, Any]:
    """A record as it stands inside another one: with the members that its schema there has."""
    schema = shape_of(case.resource.record_schema("create")).properties[each.name]
    members = shape_of(shape_of(schema).item).properties
    record = await new_record(other)
    # never with a key of their own: a server that looks for it would overwrite somebody else's row
    keys = set(other.resource.key.fields) if other.resource.key is not None and not other.client_keys else set()
    return {name: value for name, value in record.items() if name in members and name not in {each.via, *keys}}


async def _nested(case: Case, other: Case, each: Expanded) -> AsyncIterator[Finding]:
    assert each.via is not None
    rows = [await _inner(case, other, each) for _ in range(2)]
    record = await new_record(case)
    made, key = await _with_inside(case, other, each, record, rows, "a record with rows inside")
    operation = case.operation("create")
    if key is None:
        if made.answer.refused:
            yield case.finding(
                "warning",
                "contract",
                "A record with rows inside is refused",
                f"success for two rows of {each.name}",
                f"{made.answer.status} {' '.join(made.answer.text.split())[:160]}",
                cause=f"nested refused {each.name}",
                purpose="create",
                evidence=[made],
            )
        return
    found = await _belonging(other, each, key)
    _told(case, other, made, found)
    if len(found) != len(rows):
        yield _nested_finding(
            case,
            each,
            operation,
            "Rows made along with another one are not stored",
            f"{len(rows)} rows of {other.resource.name} that refer to it",
            f"{len(found)}",
            [made],
        )
        return
    stored = [(await other.row_now(child))[1] for child in found]
    unlike = [row for row in rows if not any(not differences(other.fields, row, other_row) for other_row in stored)]
    if unlike:
        yield _nested_finding(
            case,
            each,
            operation,
            "A row made along with another one is stored otherwise",
            f"{unlike[0]}",
            f"{stored[0]}"[:200],
            [made],
        )
    broken = await _broken(case, other, each)
    if broken is None:
        return
    record = await new_record(case)
    refused, key = await _with_inside(case, other, each, record, broken, "a record with a bad row inside")
    if refused.answer.refused:
        found = await strays(case)
        if found:
            own = found[0][1].key
            title, observed = (
                "A refused record with rows inside is stored in part",
                f"{refused.answer.status}, and the row {key_text(own)} is there",
            )
            _told(case, other, refused, await _belonging(other, each, own))
            yield _nested_finding(case, each, operation, title, "nothing stored", observed, [refused])
    elif key is not None:
        _told(case, other, refused, await _belonging(other, each, key))
        yield _nested_finding(
            case,
            each,
            operation,
            "A record with a bad row inside is accepted",
            "a refusal",
            str(refused.answer.status),
            [refused],
        )


async def _with_inside(
    case: Case, other: Case, each: Expanded, record: Mapping[str, Any], rows: Sequence[Mapping[str, Any]], words: str
) -> tuple[Exchange, Key | None]:
    """Create a record with rows of another table inside it."""
    inside = tuple(Made(other.resource.name, dict(row)) for row in rows)
    return await case.create(record, words, body={**record, each.name: list(rows)}, inside=inside)


def _told(case: Case, other: Case, exchange: Exchange, keys: Sequence[Key]) -> None:
    """Note which rows of the other table were made along with a record."""
    numbers = case.numbers(exchange)[1:]
    for number, key in zip(numbers, keys, strict=False):
        case.made.remove(number)
        other.made.append(number)
        other.told(number, key)


async def _broken(case: Case, other: Case, each: Expanded) -> list[Mapping[str, Any]] | None:
    """Two rows of which the second lacks a required field; None where none is required."""
    schema = shape_of(case.resource.record_schema("create")).properties[each.name]
    required = sorted(shape_of(shape_of(schema).item).required & set(other.fields) - {each.via})
    if not required:
        return None
    good, bad = await _inner(case, other, each), await _inner(case, other, each)
    return [good, {name: value for name, value in bad.items() if name != required[0]}]


async def _belonging(other: Case, each: Expanded, parent: Key) -> list[Key]:
    """The keys of the rows that refer to a row."""
    listing = await other.listing()
    field = other.fields.get(each.via or "")
    return [key for key, row in listing.by_key.items() if same(field, parent[-1], row.get(each.via or ""))]


def _nested_finding(
    case: Case, each: Expanded, operation: Operation, title: str, expected: str, observed: str, evidence: list[Exchange]
) -> Finding:
    return case.finding(
        "error",
        "expectation",
        title,
        expected,
        observed,
        cause=f"{title} {each.name}",
        operation=place_of(operation),
        subjects=[each.name],
        evidence=evidence,
    )
