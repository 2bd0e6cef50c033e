"""Many rows in one request: all of them, in order, and what is answered is what is stored."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from checkpost.checks.blame import said
from checkpost.checks.case import Case
from checkpost.checks.many import Sent, create_many, key_items, making, removing, send_items
from checkpost.checks.readback import changed_values
from checkpost.checks.records import new_record, new_value, telling_text
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.rules import situation
from checkpost.checks.shown import shown
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.bulk import Bulk, BulkPurpose
from checkpost.model.field import Field
from checkpost.model.purpose import Purpose
from checkpost.oracle.same import differences, kept_by_server
from checkpost.values.broken import Break, breaks
from checkpost.wire.door import Made, Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_LARGE, _FEW = 1000, 60
#: Seconds for a large request that are worth a word.
_LONG = 5.0
#: A maximum over this is not tried.
_MOST = 2000


def bulk_for(case: Case, purpose: BulkPurpose) -> Bulk:
    bulk = case.resource.bulk.get(purpose)
    if bulk is None:
        raise Skipped(f"the contract has no {purpose} of many rows at once")
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    return bulk


def has_bulk(purpose: BulkPurpose, cost: int) -> Any:
    return lambda resource: cost if purpose in resource.bulk else 0


#: A warning: rows are told apart by their keys.
ANOTHER_ORDER = "A bulk request is answered in another order"


def bulk_finding(
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


async def _records(case: Case, number: int) -> list[dict[str, Any]]:
    return [await new_record(case) for _ in range(number)]


def _why_not_allowed(exchange: Exchange) -> str:
    """That a role may not do what was asked for; empty where no answer says so."""
    status = exchange.answer.status
    return f"the role may not do this ({status})" if status in {401, 403, 405, 501} else ""


def not_allowed(exchange: Exchange) -> None:
    """Raise Skipped where an answer says that the role may not do this. Of a request that is wrong on purpose it may
    be a refusal as others are."""
    why = _why_not_allowed(exchange)
    if why:
        raise Skipped(why)


@check("bulk.create", needs=_NEEDS, creates=True, cost=has_bulk("create", 8))
async def created(case: Case) -> AsyncIterator[Finding]:
    """Are many rows sent at once all stored as sent, and answered in their order?"""
    bulk = bulk_for(case, "create")
    case.state.many_refused = ""
    sent = await create_many(case, bulk, await _records(case, 3), "three valid records at once")
    case.state.many_refused = _why_not_allowed(sent.exchange)
    not_allowed(sent.exchange)
    if sent.exchange.answer.refused and not sent.stored and case.resource.relations:
        case.look_again()  # others may have removed what the records refer to
        sent = await create_many(case, bulk, await _records(case, 3), "three valid records at once")
    if sent.exchange.answer.refused and not sent.stored:
        case.state.many_refused = f"a valid request with many rows was refused ({sent.exchange.answer.status})"
        yield bulk_finding(
            case, bulk, "A valid bulk create is refused", "success", said(sent.exchange), [sent.exchange],
            "warning", "contract",
        )  # fmt: skip
        return
    if not sent.exchange.answer.ok and not sent.stored:
        raise Blocked(said(sent.exchange))
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
        title = "Bulk create does not store all rows"
        return [bulk_finding(case, bulk, title, f"{number} rows", f"{len(sent.stored)} rows", evidence)]
    if sent.unlisted:
        return [
            case.finding(
                "warning", "expectation", "A list leaves out rows, and does not say so",
                "all rows, or a word that there are more", f"{sent.unlisted} of {number} new rows are not in it",
                cause="any:cut list", purpose="list", evidence=evidence,
            )
        ]  # fmt: skip
    if told.count is not None and told.count != number:
        title = "A bulk request reports a wrong count"
        return [bulk_finding(case, bulk, title, str(number), str(told.count), evidence)]
    shown_rows = [row for row in told.rows if row is not None]
    if told.refused or (told.rows and len(shown_rows) not in {0, number}):
        title = "The answer to a bulk request does not show all rows"
        seen = f"{len(shown_rows)} rows, {len(told.refused)} called refused"
        return [bulk_finding(case, bulk, title, f"{number} rows", seen, evidence)]
    if not shown_rows:
        return []
    keys = [case.client.key_of(row) for row in shown_rows]
    wrong = next((place for place, key in enumerate(sent.keys) if key is not None and keys[place] != key), None)
    if wrong is not None:
        same_rows = set(keys) == set(sent.keys)
        title = ANOTHER_ORDER if same_rows else "The answer to a bulk request shows other rows"
        weight: Severity = "warning" if same_rows else "error"
        expected = f"the row {key_text(sent.keys[wrong])} at place {wrong + 1}"
        return [bulk_finding(case, bulk, title, expected, f"the row {key_text(keys[wrong])}", evidence, weight)]
    for row, record in zip(shown_rows, sent.records, strict=True):
        unlike = [name for name in differences(case.fields, record, row) if name not in case.state.disputed]
        unlike = [name for name in unlike if not _servers(case.fields[name], record[name], row[name])]
        if unlike:
            name = unlike[0]
            title = "The answer to a bulk request shows other values than were sent"
            expected = f"{name} = {shown(record[name])}"
            return [
                bulk_finding(case, bulk, title, expected, f"{name} = {shown(row[name])}", evidence, subjects=unlike)
            ]
    return []


def _servers(field: Field, sent: Any, told: Any) -> bool:
    return field.read_only or kept_by_server(field, sent, told, datetime.now(UTC))


@check("bulk.bad-item", needs=_NEEDS, creates=True, cost=has_bulk("create", 10))
async def bad_item(case: Case) -> AsyncIterator[Finding]:
    """With one bad row among good ones: is what is answered what is stored?"""
    bulk = bulk_for(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    asked, told = False, "nothing is known that makes a row bad"
    for what, records, bad in await _with_bad(case):
        if not _would_be_known(case, records):
            told = "rows bear no mark of the run's: which of a refused request are stored could not be told"
            continue
        asked = True
        sent = await create_many(case, bulk, records, what)
        if sent.sure:
            for found in _agrees(case, bulk, what, sent, bad):
                yield found
    await _twins(case, bulk)
    if not asked:
        raise Skipped(told)


def _would_be_known(case: Case, records: Sequence[Mapping[str, Any]]) -> bool:
    """Whether each row of some records would be known as the run's, without an answer that gives its key."""
    ledger = case.world.ledger
    return ledger is None or all(ledger.would_bear(Made(case.resource.name, record, None)) for record in records)


async def _with_bad(case: Case) -> list[tuple[str, list[dict[str, Any]], int]]:
    """Three records of which one is bad, in some ways: what is wrong, the records, the place of the bad one."""
    found = []
    schema = case.body_schema("create")
    world = case.world
    record = await new_record(case)
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
            and each.field not in case.resource.moving_others
            and (case.resource.relation(each.field) is None or case.world.markable(case.resource))
            and (each.field, each.kind) not in case.state.unenforced
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
    names = case.resource.key_fields
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
        return [
            bulk_finding(case, bulk, title, expected, observed, evidence, basis=basis, cause=title, subjects=[what])
        ]

    if bad in stored and (sent.exchange.answer.ok or len(stored) == number):
        both_stored = "same" in what
        title = "A bad row among good ones is stored" if not both_stored else "Duplicates in one request are stored"
        return wrong(title, "a refusal of it", f"{status}, and {len(stored)} rows stored", "contract")
    if sent.exchange.answer.status >= 400:
        if stored:
            title = "A refused bulk request stores some rows"
            return wrong(title, "nothing stored", f"{status}, and {len(stored)} of {number} rows stored")
        if bulk.atomic is False and status < 500:
            return [
                bulk_finding(
                    case, bulk, "One bad row stops all others, against the contract",
                    "the others stored, the bad one reported", said(sent.exchange), evidence, "warning", "contract",
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
            observed = f"{len(lost)} reported as stored are not, {len(kept)} reported as refused are"
            title = "Results per row do not match what is stored"
            return wrong(title, f"the rows {in_places(stored)} stored, as they are", observed)
        return (
            []
            if bad in told.refused
            else wrong("A bad row is not reported as refused", f"row {bad + 1}", "no such result")
        )
    if told.count is not None and told.count != len(stored):
        return wrong("A bulk request reports a wrong count", str(len(stored)), str(told.count))
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


def in_places(places: Sequence[int] | frozenset[int]) -> str:
    return ", ".join(str(place + 1) for place in sorted(places)) or "none"


@check("bulk.limits", needs=_NEEDS, creates=True, alone=True, cost=has_bulk("create", 6))
async def limits(case: Case) -> AsyncIterator[Finding]:
    """Are an empty request and one over the documented maximum answered as documented, and nothing stored?"""
    bulk = bulk_for(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    exchange = await send_items(case, bulk, [], "no rows at all", making(case, []))
    if exchange.answer.ok and bulk.least:
        yield bulk_finding(
            case, bulk, "A request without rows is accepted", f"a refusal: at least {bulk.least}",
            str(exchange.answer.status), [exchange], "warning", "contract", f"least {bulk.form}",
        )  # fmt: skip
    if bulk.largest is None or bulk.largest > _MOST or case.state.kept or bulk.largest >= _different(case):
        return
    used = set(case.state.used)
    try:
        sent = await create_many(case, bulk, await _many(case, bulk.largest + 1), "more rows than are allowed")
    finally:  # what came to no row is free for other checks
        case.state.used.intersection_update(used | case.own_keys)
    if sent.exchange.answer.ok or sent.stored:
        yield bulk_finding(
            case, bulk, "More rows than the documented maximum are accepted",
            f"a refusal: at most {bulk.largest}", f"{sent.exchange.answer.status}, and {len(sent.stored)} stored",
            [sent.exchange], "error", "contract",
        )  # fmt: skip
    await _sweep(case, sent)


def _different(case: Case) -> float:
    """How many rows there can be whose keys are those of other rows, of those that are there."""
    relations = [case.resource.relation(name) for name in case.resource.key_fields]
    before = [case.world.state(each.resource).before for each in relations if each is not None]
    numbers = [len(each.by_key) for each in before if each is not None]
    return math.prod(numbers) if relations and len(numbers) == len(relations) else math.inf


async def _many(case: Case, number: int) -> list[dict[str, Any]]:
    """So many records with nothing in them but what they need (what rows show, where the contract says nothing), and
    one text by which a row is known as the run's."""
    full = case.resource.guessed
    first = await new_record(case, full=full)
    first |= await telling_text(case, first)
    keys = case.resource.key_fields
    if any(name in first and case.resource.relation(name) for name in keys):
        return [first, *[await new_record(case, full=full) for _ in range(number - 1)]]
    texts = {name for name in first if case.fields[name].is_text and not case.resource.relation(name)}
    varied = [case.fields[name] for name in first if name in {*keys, *texts} or case.fields[name].unique]
    return [first] + [
        {**first, **{each.name: await new_value(case, each) for each in varied}} for _ in range(number - 1)
    ]


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
            forget(case, key)


@check("bulk.large", needs=_NEEDS, creates=True, alone=True, cost=has_bulk("create", 30))
async def large(case: Case) -> AsyncIterator[Finding]:
    """Is a large number of rows stored whole, and answered in order?"""
    bulk = bulk_for(case, "create")
    if case.state.many_refused:
        raise Skipped(case.state.many_refused)
    if case.state.kept:
        raise Skipped(f"deleted rows are kept, as {case.state.kept} shows: so many would stay")
    # a thousand rows once a run: what serves one table serves the others
    free = not any(each.required and case.resource.relation(each.name) for each in case.resource.fields)
    first, case.world.large_done = free and not case.world.large_done, case.world.large_done or free
    number = min(_LARGE if first else _FEW, bulk.largest or _LARGE, case.world.most_rows // 2)
    sent = await create_many(case, bulk, await _many(case, number), f"{number} rows at once")
    try:
        if sent.exchange.answer.status == 413 or sent.exchange.answer.failure:
            case.remark(f"{number} rows at once: {said(sent.exchange)}")
        elif sent.exchange.answer.ok:
            if sent.exchange.seconds > _LONG:
                case.remark(f"{number} rows at once took {sent.exchange.seconds:.1f} s")
            for found in _all_there(case, bulk, sent):
                yield found
    finally:
        await _sweep(case, sent)
