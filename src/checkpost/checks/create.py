"""Creating rows: what is stored, what is refused, and what comes back."""

from __future__ import annotations

import contextlib
import re
from collections.abc import AsyncIterator, Mapping
from typing import Any
from urllib.parse import urljoin, urlsplit

from checkpost.checks.addressing import found_otherwise
from checkpost.checks.blame import blamed, said, wants
from checkpost.checks.case import Case
from checkpost.checks.first import first_row, refers_to_nothing, unsaid_members
from checkpost.checks.own import Own
from checkpost.checks.readback import (
    answer_differs,
    changed_values,
    list_differs,
    missing_from_list,
    overruled,
    rows_left_out,
    stored_rows,
)
from checkpost.checks.reading import Changed, changed_by_reading
from checkpost.checks.records import is_allowed, new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.shown import shown
from checkpost.checks.standing import see_touched
from checkpost.checks.strays import elsewhere
from checkpost.checks.taken import unique_basis, unique_fields
from checkpost.findings import Finding
from checkpost.model.field import MISSING, Field
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Key, Listing, Row, key_text

#: A default that is an expression for the database to evaluate, and no value.
_EXPRESSION = re.compile(r"\w\(.*\)|::|^CURRENT_|^now$|^uuid$|^autoincrement$", re.I)
#: What is said of a create that may change a row that is there.
_UPSERT = re.compile(r"\bupserts?\b|\b(?:create|insert|add)s? or (?:update|replace)s?\b", re.I)


@check("create.stored", needs=("create", "delete"), creates=True, alone=True, gate=True, cost=lambda resource: 6)
async def create_is_stored(case: Case) -> AsyncIterator[Finding]:
    """Is a created row there afterwards, by key and in the list, as it was sent?"""
    try:
        exchange, key, record = await first_row(case)
    except Blocked as block:
        case.state.not_creatable = str(block)
        raise
    except Skipped as skip:
        case.state.may_not_create = str(skip)
        raise
    if case.is_open(exchange):
        case.state.may_not_create = "creates are answered 202: they are carried out later, and cannot be followed"
        raise Skipped(case.state.may_not_create)
    if key is None:
        case.state.not_creatable = f"no row can be made: {said(exchange)}"
        if exchange.answer.status in {401, 403} and not wants(exchange, {**record, **unsaid_members(case, record)}):
            case.state.may_not_create = f"the role {case.world.role.name} may not create ({exchange.answer.status})"
            raise Skipped(case.state.may_not_create)
        if case.resource.under and exchange.answer.status == 404:
            raise Blocked(f"{case.state.not_creatable}: the parent row is not found")
        if exchange.answer.refused and _for_what_nothing_tells(case, record, exchange):
            raise Blocked(case.state.not_creatable)
        if exchange.answer.refused and is_allowed(case, "create", exchange):
            yield case.finding(
                "warning",
                "contract",
                "No record that the contract allows is accepted",
                "success for a valid record",
                said(exchange),
                cause="valid refused",
                purpose="create",
                evidence=[exchange],
            )
            return
        if exchange.answer.ok:
            case.state.not_creatable = "a create answers with success, but its row cannot be found again"
            yield _not_there(case, f"{exchange.answer.status}, and no such row", [exchange])
            return
        raise Blocked(case.state.not_creatable)
    if case.state.left_out and case.resource.guessed:
        case.remark(f"records are made without {', '.join(sorted(case.state.left_out))}, which were refused")
    elif case.state.left_out:
        yield case.finding(
            "warning",
            "contract",
            "Documented fields are refused",
            "a record with any of its documented fields accepted",
            "a refusal that names them; without them a record is accepted",
            cause="fields refused",
            purpose="create",
            subjects=sorted(case.state.left_out),
            evidence=[each for each in (case.state.refused_with, exchange) if each is not None],
        )
    if case.state.stores_failing:
        case.forget_failure("create", exchange)
        yield case.finding(
            "error",
            "expectation",
            "A create that is answered with a server error stores its row",
            "success, or no row",
            f"{exchange.answer.status}, and the row {key_text(key)} is there",
            cause="any:stored in spite of an error",
            purpose="create",
            evidence=[exchange],
        )
    own = await _referring(case, Own(key, record, exchange))
    exchange = own.exchange
    await see_touched(case)
    listing = await case.listing() if case.has("list") else None
    reads, read, listed = await stored_rows(case, own, listing)
    true = elsewhere(case, own, listing) if listing is not None and listed is None else None
    if true is not None:
        own = true
        reads, read, listed = await stored_rows(case, own, listing)
    if case.misnamed is not None:
        yield case.finding(
            "error",
            "expectation",
            "A create is answered with another key than its row has",
            f"the key {key_text(own.key)}, under which the list shows it",
            key_text(case.misnamed),
            cause="any:wrong key answered",
            purpose="create",
            evidence=[exchange, *(listing.exchanges[-1:] if listing is not None else ())],
        )
    gone_from_list = bool(listing and await missing_from_list(case, [own], listing))
    evidence = [exchange, *reads]
    if listing is not None and case.resource.name in case.world.session.cut:
        yield rows_left_out(
            case, f"{len(listing.rows)} rows, and others can be read by their keys", listing.exchanges[-1]
        )
    if read is None and case.has("read") and (gone_from_list or listing is None or not listing.complete):
        case.state.not_creatable = "rows just created are not there"
        yield case.finding(
            "error",
            "expectation",
            "Create returns success but stores nothing",
            "the row, by its key and in the list",
            f"{reads[0].answer.status} by key, and it is not in the list",
            cause="not stored",
            purpose="create",
            evidence=evidence,
        )
        return
    if read is None and case.has("read"):
        case.state.not_creatable = "rows just created cannot be read by their key"
        if listed is not None and listing is not None:
            found = await found_otherwise(case, listed, listing.rows, reads[0])
            if found is not None:
                yield found
                return
        yield case.finding(
            "error",
            "expectation",
            "A created row is listed but not found by its key",
            "the row",
            str(reads[0].answer.status),
            cause="created, not readable",
            purpose="read",
            evidence=evidence,
        )
        return
    if gone_from_list and listing is not None and not case.has("read"):
        # what neither shows could not be removed: no more are made
        case.state.not_creatable = "a row just created is not in the list, and nothing else shows it"
        observed = f"{exchange.answer.status} with the key {key_text(own.key)}, and no such row in the list"
        yield _not_there(case, observed, [exchange, listing.exchanges[-1]])
        return
    if gone_from_list and listing is not None:
        hidden = await _hidden_by_its_owner(case, own, listing) or await _hidden_by_a_flag(case, own, listing)
        yield hidden or _not_listed(case, [exchange, listing.exchanges[-1]])
    for found in stored_as_sent(case, own, reads, read or listed, listed):
        yield found
    if read is not None:
        async for found in _reading_is_harmless(case, own, read, reads):
            yield found


def _for_what_nothing_tells(case: Case, record: dict[str, Any], refused: Exchange) -> bool:
    """Whether a record is refused for rows that nobody knows of, or for fields whose types the contract leaves open."""
    named = blamed(refused, record.keys() & case.fields.keys())
    return refers_to_nothing(refused) or (bool(named) and not any(case.fields[each].types for each in named))


async def _referring(case: Case, own: Own) -> Own:
    """Where rows refer to others of their table: one that refers to an own row, or that itself where none is made."""
    name = case.resource.name
    if case.above is None or not any(each.resource == name for each in case.resource.relations):
        return own
    with contextlib.suppress(Blocked, Skipped):  # what comes of the first one is told
        case.above[name] = case, own.key, (await case.row_now(own.key))[1]
        return (await case.own())[0]
    return own


async def _reading_is_harmless(case: Case, own: Own, row: Row, reads: list[Exchange]) -> AsyncIterator[Finding]:
    """Whether safe methods leave an own row alone, before they are sent to anybody else's (RFC 9110, 9.2.1)."""
    operation = case.operation("read")
    address = case.client.url(operation, own.key, purpose="read")
    sent = list(reads)
    for method in ("HEAD", "OPTIONS") if operation.method == "GET" else ():
        sent.append(await case.world.session.send(Request(method, address, case.world.role.name), case.check.name))
        case.requests += 1
    again, after = await case.read(own.key, "a row that was read before")
    moved = differences(case.fields, row, after) if after is not None else []
    settable = [name for name in moved if name in case.settable]
    if settable:
        changed: Changed | None = Changed(settable, row, after or {}, again)
    else:
        changed = await changed_by_reading(case, own.key, moved) if moved and case.has("list") else None
    gone = after is None and case.client.absent(again.answer)
    if not changed and not gone:
        case.state.read_safely = True
        return
    did = f"changes it: {changed.names[0]}" if changed else "removes it"
    case.world.harmful_reads(case.resource.name, f"reading a row {did}")
    if changed is None or settable:
        case.state.not_creatable = f"reading a row {did}, so that no more is tried"
    evidence = [own.exchange, *sent]
    if changed is not None:
        yield changed.finding(case, evidence)
        return
    forget(case, own.key)
    methods = ", ".join(dict.fromkeys(each.request.method for each in sent))
    yield case.finding(
        "error",
        "standard",
        "Reading a row removes it",
        f"the row as before: {methods} are safe (RFC 9110, 9.2.1)",
        f"{again.answer.status} when it is read again",
        cause="any:read writes",
        purpose="read",
        evidence=[*evidence, again],
    )


def stored_as_sent(
    case: Case, own: Own, reads: list[Exchange], row: dict[str, Any] | None, listed: dict[str, Any] | None
) -> list[Finding]:
    """The findings about one created row: answer, stored values and list against each other."""
    if row is None:
        return []
    evidence = [own.exchange, *reads]
    # what the list shows as it was sent is stored so: reading by key is at fault then
    disputed = list(list_differs(case, row, listed, evidence))
    found = list(changed_values(case, "create", own.record, row, evidence))
    # what rows show of something else is no value that can be set: told once
    unlike = differences(case.fields, own.record, row)
    case.learn(case.state.disputed, [name for name in unlike if overruled(case.fields[name], own.record, row)])
    if not found:
        found += answer_differs(case, "create", own.exchange, row, own.record)
    return found + disputed


#: How many flags are tried, where a row with them is not in the list.
_MOST_FLAGS = 4


async def _listed_otherwise(case: Case, situation: str) -> list[Exchange]:
    """The create of another record and the list with its row; none where it is not made, or not in the list either."""
    exchange, key = await case.create(await new_record(case), situation)
    listing = await case.listing() if key is not None else None
    if key is None or listing is None or await missing_from_list(case, [Own(key, {}, exchange)], listing):
        return []
    return [exchange, listing.exchanges[-1]]


async def _hidden_by_its_owner(case: Case, own: Own, listing: Listing) -> Finding | None:
    """What is found where a row that refers to new rows of the run's is not in the list, and one that refers to those
    that are there is: the list may be of one owner's rows. Later rows refer to those that are there then."""
    above, case.above = case.above, None
    names = sorted(above or ())
    if names:
        seen = await _listed_otherwise(case, "a record that refers to rows that are there")
        if seen:
            case.world.spared |= {(case.resource.name, name) for name in names}
            return case.finding(
                "note",
                "expectation",
                "The list leaves out rows by what they refer to, and the contract does not say so",
                "every row",
                f"a row that refers to a new row of {', '.join(names)} can be read by its key alone; one that"
                " refers to a row that was there is in the list",
                cause="all:hidden by its owner",
                purpose="list",
                evidence=[own.exchange, listing.exchanges[-1], *seen],
            )
    case.above = above
    return None


def _flags(case: Case, own: Own) -> dict[str, bool]:
    """The flags that a row was made with, but for those that the profile states, or that are known to hide rows."""
    stated = {**case.resource.values, **case.state.flagged}
    flags = [(name, value) for name, value in own.record.items() if isinstance(value, bool) and name not in stated]
    return dict(flags[:_MOST_FLAGS])


@check(
    "create.other-flags",
    needs=("create", "delete", "list", "read"),
    creates=True,
    gate=True,
    cost=lambda resource: 4 if any(each.type == "boolean" and each.created for each in resource.fields) else 0,
)
async def other_flags(case: Case) -> AsyncIterator[Finding]:
    """Is a row in the list whatever flags it has?

    It is asked once rows are known to go, since it makes a second one.
    """
    own = (await case.own())[0]
    flags, known = _flags(case, own), case.state.flagged
    if not flags:
        raise Skipped("no flag of its rows can be set")
    listing, other = await case.listing(), own
    if not await missing_from_list(case, [own], listing):
        case.state.flagged = {**known, **{name: not value for name, value in flags.items()}}
        record = await new_record(case)
        exchange, key = await case.create(record, "a record with other flags")
        case.state.flagged = known
        if key is None:
            return
        other, listing = Own(key, record, exchange), await case.listing()
        if not await missing_from_list(case, [other], listing):
            return
    _, row = await case.read(other.key, "a row that is not in the list")
    found = await _hidden_by_a_flag(case, other, listing) if row is not None else None
    if found is not None:
        yield found


async def _hidden_by_a_flag(case: Case, own: Own, listing: Listing) -> Finding | None:
    """What is found where a row is not in the list for a flag that it has, and one without it is; later rows are made
    without it then."""
    flags, known = _flags(case, own), case.state.flagged
    for name, value in flags.items():
        case.state.flagged = {**known, **flags, name: not value}
        seen = await _listed_otherwise(case, f"a record with {name} = {shown(not value)}")
        case.state.flagged = {**known, name: not value} if seen else known
        if seen:
            return case.finding(
                "warning",
                "expectation",
                "The list leaves out rows by a flag, and the contract does not say so",
                "every row",
                f"a row with {name} = {shown(value)} can be read by its key alone; one with {shown(not value)}"
                " is in the list",
                cause="any:hidden by a flag",
                purpose="list",
                subjects=[name],
                evidence=[own.exchange, listing.exchanges[-1], *seen],
            )
    return None


def _not_there(case: Case, observed: str, evidence: list[Exchange]) -> Finding:
    return case.finding(
        "error",
        "expectation",
        "A created row is not there",
        "the row in the list",
        observed,
        cause="not stored",
        purpose="create",
        evidence=evidence,
    )


def _not_listed(case: Case, evidence: list[Exchange]) -> Finding:
    return case.finding(
        "error",
        "expectation",
        "A created row is missing from the list",
        "the row among the others",
        "it can be read by its key, but the list does not hold it",
        cause="any:not listed",
        purpose="list",
        evidence=evidence,
    )


@check("create.required-only", needs=("create", "delete"), creates=True, cost=lambda resource: 5)
async def required_only(case: Case) -> AsyncIterator[Finding]:
    """Is a record of nothing but the required fields stored, with the documented defaults?"""
    record = await new_record(case, full=False)
    exchange, key = await case.create(record, "a record of the required fields")
    if key is None:
        if (
            exchange.answer.refused
            and exchange.answer.status not in {401, 403}
            and is_allowed(case, "create", exchange)
        ):
            yield case.finding(
                "warning",
                "contract",
                "A record of the required fields alone is refused",
                f"success for {shown(record)}",
                said(exchange),
                cause="everywhere:required alone refused",
                purpose="create",
                subjects=sorted(blamed(exchange, set(case.fields) - set(record))),
                evidence=[exchange],
            )
            return
        raise Blocked(f"no row to work with could be made ({exchange.answer.status or exchange.answer.detail})")
    own = Own(key, record, exchange)
    listing = await case.listing() if case.has("list") else None
    reads, read, listed = await stored_rows(case, own, listing)
    row = read or listed
    if listing is not None and read is not None and await missing_from_list(case, [own], listing):
        yield _not_listed(case, [own.exchange, listing.exchanges[-1]])
    if row is None:
        raise Blocked("the row could not be read again")
    for found in stored_as_sent(case, own, reads, row, listed):
        yield found
    for field in case.resource.fields:
        if not field.created or field.name in own.record or field.name not in row or not _is_value(case, field):
            continue
        if not same(field, field.default, row[field.name]):
            yield case.finding(
                "error",
                "contract",
                "A field left out does not get its documented default",
                f"{field.name} = {shown(field.default)}",
                f"{field.name} = {shown(row[field.name])}",
                cause="default",
                purpose="create",
                place=field.node.place if field.node else None,
                subjects=[field.name],
                evidence=[own.exchange, *reads],
            )


def _is_value(case: Case, field: Field) -> bool:
    """Whether a documented default is a value, and not an expression."""
    default = field.default
    if default is MISSING or not case.world.valid(field, default):
        return False
    return not (isinstance(default, str) and _EXPRESSION.search(default))


@check("create.read-only", needs=("create", "delete"), creates=True, cost=lambda resource: 3)
async def read_only_is_kept(case: Case) -> AsyncIterator[Finding]:
    """Does a value sent for a read-only field leave what the server sets?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    sent = read_only_values(case, None)
    if not sent:
        raise Skipped("it has no read-only fields that rows show")
    record = {**await new_record(case), **sent}
    exchange, key = await case.create(record, "values for read-only fields")
    if key is None:
        return
    _, row = await case.row_now(key)
    # nothing, nought and empty lists are what a server sets as well
    told = [name for name, value in sent.items() if value not in ("", 0, [], {}) and name in row]
    taken = [name for name in told if same(case.fields[name], sent[name], row[name])]
    if taken:
        yield case.finding(
            "error",
            "contract",
            "A read-only field accepts the value that was sent",
            "the server's own value",
            f"{taken[0]} = {shown(row[taken[0]])}",
            cause="any:read-only taken",
            purpose="create",
            place=_place(case.fields[taken[0]]),
            subjects=taken,
            evidence=[exchange],
        )


def read_only_values(case: Case, row: Mapping[str, Any] | None) -> dict[str, Any]:
    """A value for each read-only field that bodies name; unlike what a row has, if one is given."""
    chosen = {}
    key = case.resource.key_fields
    for field in case.resource.fields:
        guard = field.name == case.resource.guards.version
        if not field.read_only or not field.shown or field.name in key or field.node is None or guard:
            continue
        if field.type == "boolean" and row is None:
            continue  # one of two values may be the server's own
        for _ in range(4):
            value = case.values.plain(field)
            if (
                value is not MISSING
                and value is not None
                and (row is None or not same(field, value, row.get(field.name)))
            ):
                chosen[field.name] = value
                break
    return chosen


def _place(field: Field) -> Any:
    return field.node.place if field.node is not None else None


@check("create.unique", needs=("create", "delete"), creates=True, cost=lambda resource: 4)
async def unique_is_enforced(case: Case) -> AsyncIterator[Finding]:
    """Is a second row with the same unique value refused, and the first one left alone?"""
    key, fields = case.resource.key, unique_fields(case, "create")
    by_client = case.client_keys
    if not fields and not by_client:
        if not case.world.markable(case.resource):
            raise Skipped("nothing says that one of its fields is unique, and its rows cannot be told apart")
        # an API may have such fields and not say so: what it answers then is judged as every answer is
        await case.create((await case.own())[0].record, "a record sent again")
    for field in fields:
        first = (await case.own())[0]
        if first.record.get(field.name) is None:
            continue
        record = {**await new_record(case), field.name: first.record[field.name]}
        async for found in _duplicate(case, first, record, field.name, field):
            yield found
    if by_client and key is not None:
        first = (await case.own())[0]
        record = await new_record(case) if all(not case.resource.relation(name) for name in key.fields) else {}
        record = {**record, **{name: first.record[name] for name in key.fields}}
        async for found in _duplicate(case, first, record, "/".join(key.fields), None):
            yield found


async def _duplicate(
    case: Case, first: Own, record: dict[str, Any], name: str, field: Field | None
) -> AsyncIterator[Finding]:
    exchange, overwritten, evidence = await _beside(case, first, record, f"a duplicate of {name}")
    case.state.in_columns |= field is not None and exchange.answer.refused
    if overwritten or case.says_made(exchange):
        outcome = (
            f"{exchange.answer.status}, and {overwritten[0]} of the first row changed"
            if overwritten
            else str(exchange.answer.status)
        )
        yield case.finding(
            "error",
            unique_basis(field),
            f"A second row with the same {name} is accepted",
            "a refusal, such as 409",
            outcome,
            cause=f"duplicate {name}",
            purpose="create",
            place=_place(field) if field else None,
            subjects=[name],
            evidence=evidence,
        )


async def _beside(
    case: Case, first: Own, record: dict[str, Any], situation: str, over: Key | None = None
) -> tuple[Exchange, list[str], list[Exchange]]:
    """Send a record that has something in common with an own row: its answer, the fields of that row which it has
    changed, and what shows it."""
    _, before = await case.row_now(first.key)
    exchange, _ = await case.create(record, situation, over=over)
    read, after = await case.row_now(first.key)
    return exchange, differences(case.fields, before, after, case.settable), [first.exchange, exchange, read]


@check("create.taken-key", needs=("create", "delete", "read"), creates=True, cost=lambda resource: 4)
async def taken_key_is_left_alone(case: Case) -> AsyncIterator[Finding]:
    """Is a row left alone when a create carries its key, where the server gives keys?"""
    key = case.resource.key
    if key is None or case.client_keys or not case.resource.layout.plain:
        raise Skipped("its keys are chosen by clients, or are in no member of a record")
    if not case.world.markable(case.resource):
        raise Skipped("its rows have no text by which one that is changed under a create would be known again")
    creating = case.resource.operations["create"]
    if _UPSERT.search(f"{creating.summary} {creating.description}"):
        raise Skipped("the contract says that a create may change a row that is there")
    if not all(name in case.fields and case.fields[name].shown for name in key.fields):
        raise Skipped("its rows do not show their key")
    first = (await case.own())[0]
    record = {**await new_record(case), **dict(zip(key.fields, first.key, strict=True))}
    situation = "a record with the key of another row"
    exchange, overwritten, evidence = await _beside(case, first, record, situation, first.key)
    if overwritten:
        yield case.finding(
            "error",
            "expectation",
            "A create changes the row whose key it carries",
            "a refusal, such as 409, or a new row with a key of its own",
            f"{exchange.answer.status}, and {overwritten[0]} of the row that was there changed",
            cause="taken key",
            purpose="create",
            evidence=evidence,
        )


@check("create.location", needs=("create", "delete"), creates=True, cost=lambda resource: 3)
async def location_leads_to_row(case: Case) -> AsyncIterator[Finding]:
    """Does the Location of a created row lead to it?"""
    own = (await case.own())[0]
    location = own.exchange.answer.header("location")
    if location is None:
        raise Skipped("the answer to a create has no Location")
    url = urljoin(own.exchange.request.url, location)
    here, there = urlsplit(own.exchange.request.url), urlsplit(url)
    if here[:2] != there[:2]:
        # credentials are never sent to another host
        key = case.client.key_in_location(url)
        if key is not None and list(map(str, key)) != list(map(str, own.key)):
            yield _wrong_location(case, own, own.exchange, location, f"it names the key {key}")
        else:
            case.remark("the Location names another host, and was not followed")
        return
    exchange = await case.client.follow(url, case.check.name)
    case.requests += 1
    row = case.client.row_in(exchange.answer) if exchange.answer.ok else None
    if not exchange.answer.ok:
        yield _wrong_location(case, own, exchange, location, str(exchange.answer.status or exchange.answer.detail))
    elif row is not None and case.client.key_of(row) not in (None, own.key):
        yield _wrong_location(case, own, exchange, location, f"the row {case.client.key_of(row)}")


def _wrong_location(case: Case, own: Own, exchange: Exchange, location: str, seen: str) -> Finding:
    return case.finding(
        "error",
        "standard",
        "The Location of a created row does not lead to it",
        f"the row {key_text(own.key)} (RFC 9110, 10.2.2)",
        f"{location}: {seen}",
        cause="location",
        purpose="create",
        evidence=[own.exchange, exchange],
    )
