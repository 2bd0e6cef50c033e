"""Many rows in one request: all of them, in order, and what is answered is what is stored."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.checks.asking import key_text, spelled
from checkpost.checks.case import Case, Own
from checkpost.checks.conformance import shown
from checkpost.checks.filter import filtering_of
from checkpost.checks.many import Sent, create_many, send_items, told_by
from checkpost.checks.readback import changed_values
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.rules import situation
from checkpost.findings import Basis, Differing, Finding, Severity
from checkpost.model.bulk import Bulk, BulkPurpose
from checkpost.model.field import MISSING, Field
from checkpost.model.purpose import Purpose
from checkpost.model.query import Compare, Operator, Query
from checkpost.model.resource import Resource
from checkpost.model.spelling import Filtering, Inexpressible
from checkpost.oracle.same import differences, same
from checkpost.values.broken import Break, breaks
from checkpost.wire.door import Act, Made, Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Asked, Key, Listing

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_LARGE, _FEW = 1000, 60
#: What leaves the rows with a value; the list shows beforehand what it leaves.
_EQUAL: tuple[Operator, ...] = ("eq", "match")
#: Seconds for a large request that are worth a word.
_LONG = 5.0
#: A maximum over this is not tried.
_MOST = 2000


def _bulk(case: Case, purpose: BulkPurpose) -> Bulk:
    bulk = case.resource.bulk.get(purpose)
    if bulk is None:
        raise Skipped(f"the contract has no {purpose} of many rows at once")
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    return bulk


def _has(purpose: BulkPurpose, cost: int) -> Any:
    return lambda resource: cost if purpose in resource.bulk else 0


def _finding(
    case: Case,
    bulk: Bulk,
    title: str,
    expected: str,
    observed: str,
    evidence: Sequence[Exchange],
    severity: Severity = "error",
    basis: Basis = "expectation",
    cause: str = "",
    subjects: Sequence[str] = (),
) -> Finding:
    return case.finding(
        severity,
        basis,
        title,
        expected,
        observed,
        cause=cause or f"any:{title}",
        operation=(bulk.operation.method, bulk.operation.path),
        place=bulk.operation.place if basis == "contract" else None,
        subjects=subjects,
        evidence=evidence,
    )


def _said(exchange: Exchange) -> str:
    answer = exchange.answer
    return answer.detail or f"{answer.status} {' '.join(answer.text.split())[:160]}"


async def _records(case: Case, number: int) -> list[dict[str, Any]]:
    return [await case.record() for _ in range(number)]


def _not_allowed(exchange: Exchange) -> None:
    if exchange.answer.status in {401, 403, 405, 501}:
        raise Skipped(f"the role may not do this ({exchange.answer.status})")


@check("bulk.create", needs=_NEEDS, creates=True, cost=_has("create", 8))
async def created(case: Case) -> AsyncIterator[Finding]:
    """Are many rows sent at once all stored as sent, and answered in their order?"""
    bulk = _bulk(case, "create")
    case.state.many_refused = ""
    sent = await create_many(case, bulk, await _records(case, 3), "three valid records at once")
    _not_allowed(sent.exchange)
    if sent.exchange.answer.refused and not sent.stored and case.resource.relations:
        case.look_again()  # others may have removed what the records refer to
        sent = await create_many(case, bulk, await _records(case, 3), "three valid records at once")
    if sent.exchange.answer.refused and not sent.stored:
        case.state.many_refused = f"a valid request with many rows was refused ({sent.exchange.answer.status})"
        yield _finding(
            case, bulk, "Many valid records at once are refused", "success", _said(sent.exchange), [sent.exchange],
            "warning", "contract",
        )  # fmt: skip
        return
    if not sent.exchange.answer.ok and not sent.stored:
        raise Blocked(_said(sent.exchange))
    for found in _all_there(case, bulk, sent):
        yield found
    for key, record in zip(sent.keys, sent.records, strict=True):
        if key is not None and case.has("read"):
            read, row = await case.row_now(key)
            for found in changed_values(case, "create", record, row, [sent.exchange, read]):
                yield found


def _all_there(case: Case, bulk: Bulk, sent: Sent) -> list[Finding]:
    """Whether valid records are all stored, told so, and in their order."""
    number, told, evidence = len(sent.records), sent.told, [sent.exchange]
    if sent.sure and len(sent.stored) < number:
        title = "Many rows are sent at once, and not all are stored"
        return [_finding(case, bulk, title, f"{number} rows", f"{len(sent.stored)} rows", evidence)]
    if told.count is not None and told.count != number:
        title = "A request with many rows tells a wrong number"
        return [_finding(case, bulk, title, str(number), str(told.count), evidence)]
    shown_rows = [row for row in told.rows if row is not None]
    if told.refused or (told.rows and len(shown_rows) not in {0, number}):
        title = "The answer to many rows does not show them all"
        seen = f"{len(shown_rows)} rows, {len(told.refused)} called refused"
        return [_finding(case, bulk, title, f"{number} rows", seen, evidence)]
    if not shown_rows:
        return []
    keys = [case.client.key_of(row) for row in shown_rows]
    wrong = next((place for place, key in enumerate(sent.keys) if key is not None and keys[place] != key), None)
    if wrong is not None:
        same_rows = set(keys) == set(sent.keys)
        title = "Many rows are answered in another order" if same_rows else "The answer to many rows shows others"
        expected = f"the row {key_text(sent.keys[wrong])} at place {wrong + 1}"
        return [_finding(case, bulk, title, expected, f"the row {key_text(keys[wrong])}", evidence)]
    for row, record in zip(shown_rows, sent.records, strict=True):
        unlike = [name for name in differences(case.fields, record, row) if name not in case.state.disputed]
        unlike = [name for name in unlike if not case.fields[name].read_only]
        if unlike:
            name = unlike[0]
            title = "The answer to many rows shows other values than were sent"
            expected = f"{name} = {shown(record[name])}"
            return [_finding(case, bulk, title, expected, f"{name} = {shown(row[name])}", evidence, subjects=unlike)]
    return []


@check("bulk.bad-item", needs=_NEEDS, creates=True, cost=_has("create", 10))
async def bad_item(case: Case) -> AsyncIterator[Finding]:
    """With one bad row among good ones: is what is answered what is stored?"""
    bulk = _bulk(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    asked = False
    for what, records, bad in await _with_bad(case):
        asked = True
        sent = await create_many(case, bulk, records, what)
        _not_allowed(sent.exchange)
        if sent.sure:
            for found in _agrees(case, bulk, what, sent, bad):
                yield found
    await _twins(case, bulk)
    if not asked:
        raise Skipped("nothing is known that makes a row bad")


async def _with_bad(case: Case) -> list[tuple[str, list[dict[str, Any]], int]]:
    """Three records of which one is bad, in some ways: what is wrong, the records, the place of the bad one."""
    found = []
    schema = case.body_schema("create")
    world = case.world
    record = await case.record()
    broken: list[Break] = []
    if schema is not None:
        broken = breaks(case.resource, "create", record, schema, world.contract, world.validators, case.values)
    preferred = ("required", "enum", "pattern", "minimum", "maximum", "maxLength", "minLength", "type")
    usable = sorted(
        (
            each
            for each in broken
            if each.keyword in preferred
            and each.field in case.fields
            and (each.field, each.keyword) not in case.state.unenforced
        ),
        key=lambda each: preferred.index(each.keyword),
    )
    for each in {each.keyword == "required": each for each in reversed(usable)}.values():
        records: list[dict[str, Any]] = await _records(case, 3)
        records[1] = dict(each.apply(records[1]))
        found.append((f"one bad row among three ({situation(each)})", records, 1))
    unique = unique_field(case)
    if unique is not None and not twice_taken(case):
        records = await _records(case, 3)
        records[2] = {**records[2], unique.name: records[0].get(unique.name)}
        if records[0].get(unique.name) is not None:
            found.append((f"two rows of three with the same {unique.name}", records, 2))
    return found


async def _twins(case: Case, bulk: Bulk) -> None:
    """Send one record twice at once where nothing is said to be unique: what is answered is judged as every answer
    is."""
    if unique_field(case) is None and not case.client_keys and case.world.markable(case.resource):
        [record] = await _records(case, 1)
        await create_many(case, bulk, [record, dict(record)], "the same record twice at once")


def twice_taken(case: Case) -> bool:
    """Whether a second row with the same unique value is known to be taken even alone."""
    return any(each.check == "create.unique" for each in case.known())


def unique_field(case: Case) -> Field | None:
    names = case.resource.key.fields if case.resource.key else ()
    for each in case.resource.writable("create"):
        relation = case.resource.relation(each.name)
        if each.unique and relation is None and each.name not in case.resource.values:
            return each if each.name not in names or case.client_keys else None
    return None


def _agrees(case: Case, bulk: Bulk, what: str, sent: Sent, bad: int) -> list[Finding]:
    """Whether what was answered to a request with a bad item is what is stored."""
    told, stored, evidence = sent.told, sent.stored, [sent.exchange]
    number = len(sent.records)
    status = sent.exchange.answer.status
    good = set(range(number)) - {bad}

    def wrong(title: str, expected: str, observed: str, basis: Basis = "expectation") -> list[Finding]:
        return [_finding(case, bulk, title, expected, observed, evidence, basis=basis, cause=title, subjects=[what])]

    if bad in stored and (sent.exchange.answer.ok or len(stored) == number):
        both_stored = "same" in what
        title = "A bad row among good ones is stored" if not both_stored else "Duplicates in one request are stored"
        return wrong(title, "a refusal of it", f"{status}, and {len(stored)} rows stored", "contract")
    if sent.exchange.answer.status >= 400:
        if stored:
            title = "A refused request with many rows stores some of them"
            return wrong(title, "nothing stored", f"{status}, and {len(stored)} of {number} rows stored")
        if bulk.atomic is False and status < 500:
            return [
                _finding(
                    case, bulk, "One bad row stops all others, against the contract",
                    "the others stored, the bad one told", f"{_said(sent.exchange)}", evidence, "warning", "contract",
                )
            ]  # fmt: skip
        return []
    if not sent.exchange.answer.ok:
        return []
    if bulk.atomic and stored:
        title = "One bad row does not stop the others, against the contract"
        return wrong(title, "nothing stored", f"{status}, and {len(stored)} of {number} rows stored", "contract")
    if told.each:
        claimed = set(range(number)) - told.refused
        if claimed != stored:
            lost, kept = claimed - stored, stored - claimed
            observed = f"{len(lost)} told as stored are not, {len(kept)} told as refused are"
            title = "Results of single rows do not tell what is stored"
            return wrong(title, f"the rows {_places(stored)} stored, as they are", observed)
        return (
            [] if bad in told.refused else wrong("A bad row is not told as refused", f"row {bad + 1}", "no such result")
        )
    if told.count is not None and told.count != len(stored):
        return wrong("A request with many rows tells a wrong number", str(len(stored)), str(told.count))
    if stored != good and stored:
        return wrong(
            "A bad row takes good ones with it", f"{len(good)} rows", f"{status}, and {len(stored)} rows stored"
        )
    if told.count is None:
        keys = {case.client.key_of(row) for row in told.rows if row is not None}
        if bulk.atomic is False and keys == {sent.keys[place] for place in stored}:
            return []  # the rows that it shows are those that are stored
        return wrong("A bad row among good ones is dropped silently", "a refusal, or a word about it", str(status))
    return []


def _places(places: Sequence[int] | frozenset[int]) -> str:
    return ", ".join(str(place + 1) for place in sorted(places)) or "none"


@check("bulk.limits", needs=_NEEDS, creates=True, alone=True, cost=_has("create", 6))
async def limits(case: Case) -> AsyncIterator[Finding]:
    """Are an empty request and one over the documented maximum answered as documented, and nothing stored?"""
    bulk = _bulk(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    exchange = await send_items(case, bulk, [], "no rows at all", making(case, []))
    _not_allowed(exchange)
    if exchange.answer.ok and bulk.least:
        yield _finding(
            case, bulk, "A request without rows is accepted", f"a refusal: at least {bulk.least}",
            str(exchange.answer.status), [exchange], "warning", "contract", f"least {bulk.form}",
        )  # fmt: skip
    if bulk.largest is None or bulk.largest > _MOST:
        return
    sent = await create_many(case, bulk, await _many(case, bulk.largest + 1), "more rows than are allowed")
    if sent.exchange.answer.ok or sent.stored:
        yield _finding(
            case, bulk, "More rows than the documented maximum are accepted",
            f"a refusal: at most {bulk.largest}", f"{sent.exchange.answer.status}, and {len(sent.stored)} stored",
            [sent.exchange], "error", "contract",
        )  # fmt: skip
    await _sweep(case, sent)


async def _many(case: Case, number: int) -> list[dict[str, Any]]:
    """So many records with nothing in them but what they need, and one text by which a row is known as the run's."""
    first = await case.record(full=False)
    first |= await case.telling_text(first)
    keys = case.resource.key.fields if case.resource.key else ()
    if any(name in first and case.resource.relation(name) for name in keys):
        return [first, *[await case.record(full=False) for _ in range(number - 1)]]
    marked = [name for name, value in first.items() if case.world.mark in str(value)]
    varied = [case.fields[name] for name in first if name in {*keys, *marked} or case.fields[name].unique]
    return [first] + [{**first, **{each.name: await case.value(each) for each in varied}} for _ in range(number - 1)]


async def _sweep(case: Case, sent: Sent) -> None:
    """Remove many rows by the operation for it, where there is one; the rest goes one by one."""
    bulk = case.resource.bulk.get("delete")
    keys = [key for key in sent.keys if key is not None and len(key) == 1]
    if bulk is None or not bulk.keys or len(keys) < 20 or case.state.many_kept:
        return
    size = min(bulk.largest or 50, 50 if bulk.form == "query" else 500)
    for start in range(0, len(keys), size):
        part = keys[start : start + size]
        items = key_items(case, bulk, part)
        try:
            exchange = await send_items(case, bulk, items, "tidying up", removing(case, bulk, part))
        except Unsafe:
            return  # one by one, then
        if not exchange.answer.ok:
            return
    listing = await case.listing()
    for key in keys:
        if listing.complete and key not in listing.by_key:
            case.forget(key)


@check("bulk.large", needs=_NEEDS, creates=True, alone=True, cost=_has("create", 30))
async def large(case: Case) -> AsyncIterator[Finding]:
    """Is a large number of rows stored whole, and answered in order?"""
    bulk = _bulk(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    # a thousand rows once a run: what serves one table serves the others
    free = not any(each.required and case.resource.relation(each.name) for each in case.resource.fields)
    first, case.world.large_done = free and not case.world.large_done, case.world.large_done or free
    number = min(_LARGE if first else _FEW, bulk.largest or _LARGE, case.world.most_rows // 2)
    sent = await create_many(case, bulk, await _many(case, number), f"{number} rows at once")
    try:
        if sent.exchange.answer.status == 413 or sent.exchange.answer.failure:
            case.remark(f"{number} rows at once: {_said(sent.exchange)}")
        elif sent.exchange.answer.ok:
            if sent.exchange.seconds > _LONG:
                case.remark(f"{number} rows at once took {sent.exchange.seconds:.1f} s")
            for found in _all_there(case, bulk, sent):
                yield found
    finally:
        await _sweep(case, sent)


# -- changing and removing ---------------------------------------------------------------------------


def making(case: Case, records: Sequence[Mapping[str, Any]]) -> Act:
    return Act("create", tuple(Made(case.resource.name, dict(record)) for record in records))


def changing(case: Case, bulk: Bulk, items: Sequence[Mapping[str, Any]]) -> Act:
    """What changes of many rows may do, each item being a row's key and its new values."""
    name, names = case.resource.name, case.resource.key.fields if case.resource.key else ()
    keys = tuple(tuple(item[each] for each in names) for item in items)
    return Act("change", tuple(Made(name, dict(item)) for item in items), tuple((name, key) for key in keys))


def removing(case: Case, bulk: Bulk, keys: Sequence[Key]) -> Act:
    """What a removal of many rows may do; on the path of all rows it may take them all, if the keys are ignored."""
    on_all = bulk.operation.method == "DELETE" and bulk.operation.path == case.resource.collection
    return Act("remove", (), tuple((case.resource.name, key) for key in keys), on_all)


def key_items(case: Case, bulk: Bulk, keys: Sequence[Key]) -> list[Any]:
    """Keys as the items of a request: plain values, or objects."""
    from checkpost.model.shape import shape_of

    names = case.resource.key.fields if case.resource.key else ()
    objects = len(names) > 1
    media = bulk.operation.body.content[0].schema if bulk.operation.body and bulk.operation.body.content else None
    if media is not None and bulk.form in {"array", "wrapped"}:
        array = shape_of(media).properties.get(bulk.name) if bulk.name else media
        objects = shape_of(shape_of(array).item).is_object
    return [dict(zip(names, key, strict=True)) if objects else key[0] for key in keys]


async def _changes(case: Case, bulk: Bulk, rows: Sequence[Own]) -> tuple[str, list[dict[str, Any]]]:
    """A new value of one field for each row, as the items of a request. Raises Skipped."""
    names = case.resource.key.fields if case.resource.key else ()
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
        items = []
        for own in rows:
            value = await case.value(field, unlike=own.record.get(field.name, MISSING))
            if value is MISSING or value is None:
                break
            whole = await case.record("replace") if replaces else {}
            items.append({**whole, **dict(zip(names, own.key, strict=True)), field.name: value})
        if len(items) == len(rows):
            return field.name, items
    raise Skipped("none of its fields can be changed")


@check("bulk.update", needs=_NEEDS, creates=True, cost=_has("update", 14))
async def updated(case: Case) -> AsyncIterator[Finding]:
    """Do changes of many rows at once reach each of them, and no other?"""
    bulk = _bulk(case, "update")
    rows = await case.own(4)
    name, items = await _changes(case, bulk, rows[:3])
    field = case.fields[name]
    before = (await case.row_now(rows[3].key))[1]
    exchange = await send_items(case, bulk, items, "changes of three rows", changing(case, bulk, items))
    _not_allowed(exchange)
    evidence = [exchange]
    if exchange.answer.refused:
        yield _finding(
            case, bulk, "Changes of many rows are refused", "success", _said(exchange), evidence, "warning", "contract"
        )
        return
    if not exchange.answer.ok:
        return
    now = [(await case.row_now(own.key))[1] for own in rows]
    lost = [place for place in range(3) if name in now[place] and not same(field, items[place][name], now[place][name])]
    if lost:
        swapped = any(same(field, items[other][name], now[lost[0]][name]) for other in range(3) if other != lost[0])
        title = "Changes of many rows reach the wrong ones" if swapped else "Not all of many changes are stored"
        expected, seen = shown(items[lost[0]][name]), shown(now[lost[0]][name])
        yield _finding(case, bulk, title, f"{name} = {expected}", f"{name} = {seen}", evidence, subjects=[name])
    if differences(case.fields, before, now[3], case.settable):
        yield _finding(
            case, bulk, "Changes of many rows reach one that was not named",
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
    told = told_by(case, exchange.answer, len(keys))
    if lost:
        return []
    if told.refused or (told.count is not None and told.count != len(keys)):
        seen = str(told.count) if told.count is not None else f"{len(told.refused)} called refused"
        title = "A request with many rows tells a wrong number"
        return [_finding(case, bulk, title, str(len(keys)), seen, [exchange])]
    answered = [case.client.key_of(row) if row else None for row in told.rows]
    if any(answered) and [key for key in answered if key] != list(keys):
        title = "Many rows are answered in another order"
        if set(answered) != set(keys):
            title = "The answer to many rows does not show them all"
        expected = ", ".join(map(key_text, keys))
        return [_finding(case, bulk, title, expected, ", ".join(map(key_text, answered)), [exchange])]
    for row, item in zip(told.rows, items, strict=False):
        unlike = differences(case.fields, item, row or {})
        if unlike:
            name = unlike[0]
            title = "The answer to many rows shows the old ones"
            return [
                _finding(case, bulk, title, f"{name} = {item[name]!r}", f"{name} = {(row or {})[name]!r}", [exchange])
            ]
    return []


async def _absent_among(case: Case, bulk: Bulk, rows: Sequence[Own], field: Field) -> AsyncIterator[Finding]:
    """A change of a missing row, beside one that there is: what is answered is what is done."""
    try:
        absent = await case.vacant_key()
    except Skipped:
        return
    names = case.resource.key.fields if case.resource.key else ()
    before = (await case.row_now(rows[0].key))[1]
    value = await case.value(field, unlike=before.get(field.name, MISSING))
    if value is MISSING or field.unique:
        return
    whole = await case.record("replace") if bulk.operation.method == "PUT" and case.has("replace") else {}
    items = [{**whole, **dict(zip(names, key, strict=True)), field.name: value} for key in (rows[0].key, absent)]
    what = "changes of a row that there is, and one that is missing"
    exchange = await send_items(case, bulk, items, what, changing(case, bulk, items))
    _, now = await case.row_now(rows[0].key)
    changed = same(field, value, now.get(field.name))
    _, made = await case.read(absent, "a missing row") if case.has("read") else (exchange, None)
    if made is not None:
        case.again(absent)
        case.remark("changes of many rows make those that there are not")
        return
    for found in _partly(case, bulk, exchange, changed, "changes"):
        yield found


def _partly(case: Case, bulk: Bulk, exchange: Exchange, done: bool, what: str) -> list[Finding]:
    """Whether the answer to a request about a row that there is and one that is missing tells what was done."""
    told = told_by(case, exchange.answer, 2)
    status = exchange.answer.status
    if exchange.answer.refused and done:
        title = f"Refused {what} of many rows are done in part"
        return [_finding(case, bulk, title, "nothing done", f"{status}, and one row of two", [exchange])]
    if not exchange.answer.ok:
        return []
    if told.each and ((0 in told.refused) == done or 1 not in told.refused):
        title = "Results of single rows do not tell what is stored"
        return [_finding(case, bulk, title, "the second alone refused" if done else "both refused",
                         f"refused: {_places(told.refused)}", [exchange])]  # fmt: skip
    if bulk.atomic and done:
        title = f"A missing row does not stop {what} of others, against the contract"
        return [
            _finding(case, bulk, title, "nothing done", f"{status}, and one row of two", [exchange], basis="contract")
        ]
    if told.count is not None and told.count != int(done):
        title = "A request with many rows tells a wrong number"
        return [_finding(case, bulk, title, str(int(done)), str(told.count), [exchange])]
    return []


@check("bulk.delete", needs=_NEEDS, creates=True, cost=_has("delete", 14))
async def deleted(case: Case) -> AsyncIterator[Finding]:
    """Are the rows whose keys are named gone, and no others?"""
    bulk = _bulk(case, "delete")
    if not bulk.keys:
        raise Skipped("how it takes keys is not known")
    case.state.many_kept = ""
    rows = await case.own(4)
    listed = await case.listing() if case.has("list") else None
    keys = [own.key for own in rows]
    items = key_items(case, bulk, keys[:2])
    exchange = await send_items(case, bulk, items, "two rows to be removed", removing(case, bulk, keys[:2]))
    _not_allowed(exchange)
    if exchange.answer.refused:
        case.state.many_kept = f"removing many rows answers {exchange.answer.status}"
        yield _finding(
            case, bulk, "Removing many rows is refused", "success", _said(exchange), [exchange], "warning", "contract"
        )
        return
    if not exchange.answer.ok:
        return
    there = [await _is_there(case, key) for key in keys]
    for key, still in zip(keys, there, strict=True):
        if not still:
            case.forget(key)
    if any(there[:2]):
        case.state.many_kept = "not all of the rows are removed"
        seen = f"{exchange.answer.status}, and {sum(there[:2])} of 2 are still there"
        yield _finding(case, bulk, "Not all of many rows are removed", "both rows gone", seen, [exchange])
    after = await case.listing() if listed is not None else None
    own_lost = not all(there[2:])
    foreign: set[Key] = set()
    if listed is not None and after is not None and listed.complete and after.complete:
        foreign = set(listed.by_key) - set(after.by_key) - case.made_keys
    if own_lost or foreign:
        case.state.many_kept = "more rows are removed than are named"
        seen = f"{len(foreign) + 2 - sum(there[2:])} more gone"
        yield _finding(case, bulk, "Removing many rows removes others too", "the two rows alone", seen, [exchange])
        return
    told = told_by(case, exchange.answer, 2)
    if told.count is not None and told.count != 2 and not any(there[:2]):
        title = "A request with many rows tells a wrong number"
        yield _finding(case, bulk, title, "2", str(told.count), [exchange])
    try:
        absent = await case.vacant_key()
    except Skipped:
        return
    both = [keys[2], absent]
    what = "a row, and one that is missing"
    exchange = await send_items(case, bulk, key_items(case, bulk, both), what, removing(case, bulk, both))
    gone = not await _is_there(case, keys[2])
    if gone:
        case.forget(keys[2])
    for found in _partly(case, bulk, exchange, gone, "removals"):
        yield found


async def _is_there(case: Case, key: Key) -> bool:
    if case.has("read"):
        exchange, row = await case.read(key, "a row that may be gone")
        if row is not None or case.client.absent(exchange.answer):
            return row is not None
    return key in (await case.listing()).by_key


# -- by filter ---------------------------------------------------------------------------------------


@check("bulk.filtered", needs=(*_NEEDS, "list"), creates=True, alone=True, cost=lambda r: 20 if by_filter(r) else 0)
async def filtered(case: Case) -> AsyncIterator[Finding]:
    """Do changes and removals by filter reach the rows that it leaves, and no other?"""
    purposes = by_filter(case.resource)
    if not purposes:
        raise Skipped("the contract has no change or removal by filter")
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    filtering = await filtering_of(case)
    for purpose in purposes:
        bulk = case.resource.bulk[purpose]
        rows, asked = await own_chosen(case, filtering)
        before = await case.listing()
        try:
            async for finding in _by(case, bulk, asked, rows, before):
                yield finding
                if finding.severity == "error":
                    return
        except Skipped as why:
            case.remark(str(why))


def by_filter(resource: Resource) -> list[BulkPurpose]:
    purposes: tuple[BulkPurpose, ...] = ("filtered update", "filtered delete")
    return [purpose for purpose in purposes if purpose in resource.bulk]


def by_filter_act(case: Case, purpose: Purpose, keys: Sequence[Key], values: Mapping[str, Any]) -> Act:
    """What a change or removal by filter may do: only the API decides which rows it leaves."""
    name = case.resource.name
    touched = tuple((name, key) for key in keys)
    if purpose == "delete":
        return Act("remove", (), touched, True)
    return Act("change", tuple(Made(name, values) for _ in keys), touched, True)


async def _listed(case: Case, asked: Asked) -> Listing:
    listing = await case.client.whole_list(case.world.most_rows, case.check.name, "what the filter leaves", asked)
    case.requests += len(listing.exchanges)
    return listing


async def own_chosen(case: Case, filtering: Filtering) -> tuple[list[Own], Asked]:
    """Three own rows, and a filter that is seen to leave the first two and nothing else."""
    chosen = await _own_by_value(case, filtering)
    if chosen is None:
        raise Skipped("no filter is known that leaves nothing but the run's own rows")
    rows, asked = chosen
    if {case.client.key_of(row) for row in (await _listed(case, asked)).rows} != {own.key for own in rows[:2]}:
        # what a filter leaves in a list is what it changes: nobody else's rows may be among it
        raise Skipped("the filter does not leave just the run's own rows, so that it is not tried on a write")
    return rows, asked


async def _own_by_value(case: Case, filtering: Filtering) -> tuple[list[Own], Asked] | None:
    """Three own rows, and a filter that leaves the first two of them and no others."""
    names = case.resource.key.fields if case.resource.key else ()
    for field in case.resource.writable("create"):
        plain = field.kind in {"text", "number", "date"} and "enum" not in field.keywords
        fixed = field.unique or field.name in names or case.resource.relation(field.name) is not None
        wrong = (field.name, "eq") in case.state.misfiltered or field.name in case.resource.values
        operator = next((each for each in _EQUAL if each in filtering.operators(field.name)), None)
        if not plain or fixed or wrong or not field.shown or operator is None:
            continue
        records = [await case.record() for _ in range(3)]
        value = records[0].get(field.name)
        before = case.state.before.rows if case.state.before else ()
        if value in (None, "") or any(same(field, value, row.get(field.name)) for row in before):
            continue
        records[1][field.name] = value
        if same(field, value, records[2].get(field.name)):
            continue
        made = [(record, *await case.create(record)) for record in records]
        rows = [Own(key, record, exchange) for record, exchange, key in made if key is not None]
        if len(rows) < 3:
            continue
        try:
            return rows, spelled(case, Query(Compare(field.name, operator, value)), filtering)
        except Inexpressible:
            continue
    return None


async def _by(case: Case, bulk: Bulk, asked: Asked, rows: Sequence[Own], before: Listing) -> AsyncIterator[Finding]:
    """Change or remove by filter; what became of the rows that it leaves, of the third, and of all others."""
    removes = bulk.purpose == "filtered delete"
    purpose: Purpose = "delete" if removes else "update"
    used = {pair[0] for pair in asked.pairs}
    values: dict[str, Any] = {}
    if not removes:
        for field in case.resource.writable("update"):
            free = case.resource.relation(field.name) is None and not field.unique and field.shown and bool(field.kind)
            free = free and field.name not in case.state.unchangeable
            if free and not any(field.name in name for name in used) and field.name not in str(asked.pairs):
                value = await case.value(field)
                if value is not MISSING and value is not None:
                    values = {field.name: value}
                    break
        if not values:
            raise Skipped("none of its fields can be changed freely")
    act = by_filter_act(case, purpose, [own.key for own in rows[:2]], values)
    exchange = await case.send(
        purpose, "by a filter", operation=bulk.operation, query=asked.pairs, record=None if removes else values, act=act
    )
    _not_allowed(exchange)
    evidence = [exchange]
    if exchange.answer.refused:
        title = "A change by filter is refused" if not removes else "A removal by filter is refused"
        yield _finding(case, bulk, title, "success", _said(exchange), evidence, "warning", "contract")
        return
    after = await case.listing()
    if not before.complete or not after.complete or after.problem:
        raise Skipped("the list cannot be looked through")

    def reached(key: Key) -> bool:
        row = after.by_key.get(key)
        if removes or row is None:
            return row is None
        return all(same(case.fields[name], value, row.get(name)) for name, value in values.items())

    for own in rows:
        if own.key not in after.by_key:
            case.forget(own.key)
    missed = [own.key for own in rows[:2] if not reached(own.key)]
    others = [key for key, row in before.by_key.items() if key not in {own.key for own in rows[:2]}]
    touched = [
        key
        for key in others
        if key not in after.by_key or differences(case.fields, before.by_key[key], after.by_key[key], list(values))
    ]
    if touched:
        restored = await _put_back(case, touched, before, after, list(values))
        what = "removes" if removes else "changes"
        lost = [key for key in touched if key not in after.by_key]
        told = [
            Differing("removed" if key in lost else "changed", key_text(key), dict(before.by_key[key]))
            for key in touched[:5]
        ]
        for key in touched:
            if key not in case.made_keys:
                case.harmed(key, "removed" if key in lost else "changed", before.by_key[key], key in restored)
        finding = _finding(
            case, bulk, f"A filter {what} rows that it does not leave", "the two rows that it leaves",
            f"{exchange.answer.status}, and {len(touched)} more", evidence,
        )  # fmt: skip
        yield replace(finding, rows=tuple(told))
    if missed:
        title = "A removal by filter leaves rows" if removes else "A change by filter misses rows"
        yield _finding(
            case, bulk, title, "both rows", f"{exchange.answer.status}, and {len(missed)} as before", evidence
        )
    count = told_by(case, exchange.answer, 2).count
    if count is not None and not missed and not touched and count != 2:
        title = "A request with many rows tells a wrong number"
        yield _finding(case, bulk, title, "2", str(count), evidence)


async def _put_back(case: Case, keys: Sequence[Key], before: Listing, after: Listing, names: Sequence[str]) -> set[Key]:
    """Give rows that a faulty API has changed against the filter their values again; the keys of those that have
    them."""
    restored: set[Key] = set()
    for key in keys if case.has("update") else ():
        values = {name: before.by_key[key][name] for name in names if name in before.by_key[key]}
        if key in after.by_key and values and (await case.restore(key, values)).answer.ok:
            restored.add(key)
    return restored
