"""Reading: lists, rows by their keys, missing keys."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator
from urllib.parse import quote

from checkpost.checks.addressing import found_otherwise
from checkpost.checks.case import Case
from checkpost.checks.readback import other_view
from checkpost.checks.reading import Changed, changed_by_reading
from checkpost.checks.records import new_value
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.checks.vacancy import absent_key
from checkpost.findings import Finding
from checkpost.model.paths import normal, plain
from checkpost.oracle.same import differences
from checkpost.rows.table import Harm
from checkpost.wire.client import Client
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Key, Listing, Row, key_text

_SAMPLE = 12


@check("read.list", needs=("list",), gate=True, cost=lambda resource: 3)
async def lists_rows(case: Case) -> AsyncIterator[Finding]:
    """Does the list answer with rows?"""
    state = case.state
    if state.before is None:
        state.before = await case.client.whole_list(case.world.most_rows, case.check.name)
        case.requests += len(state.before.exchanges)
    if state.before.problem:
        state.unusable = f"its list cannot be used: {state.before.problem}"
        answer = state.before.exchanges[0].answer
        if answer.status in {401, 403}:
            state.may_not_read = f"the role {case.world.role.name} may not read it ({answer.status})"
            raise Skipped(state.may_not_read)
        if answer.refused and case.resource.envelope.rows is not None:
            yield case.finding(
                "error",
                "contract",
                "The list cannot be read",
                "rows, as the contract documents them",
                state.before.problem,
                cause="list refused",
                purpose="list",
                evidence=state.before.exchanges[:1],
            )
        else:
            raise Blocked(state.unusable)
    if not state.before.complete:
        case.remark(f"the list was not read to its end: {state.before.problem or state.before.partial}")


_NO_KEY = "{} does not tell its rows apart; 'key' under 'resources' in the profile states what does"


@check("read.keys-unique", needs=("list",))
async def keys_are_unique(case: Case) -> AsyncIterator[Finding]:
    """Does each key stand once in the list?"""
    before = case.state.before
    if before is None or before.problem:
        raise Blocked(case.state.unusable or "its list was not read")
    if case.resource.key is None:
        raise Skipped("its key is not known")
    if before.rows and not before.by_key:
        yield case.finding(
            "warning",
            "expectation",
            "Rows do not show their key",
            f"rows with {', '.join(case.resource.key.fields)}",
            "rows without it",
            cause="no key in rows",
            purpose="list",
            evidence=before.exchanges[:1],
        )
    twice = [key for key in before.repeated if _same_row_twice(case, before, key)]
    if before.repeated and not twice:
        raise Skipped(_NO_KEY.format(key_text(case.resource.key.fields)))
    if twice:
        listed = ", ".join(map(key_text, twice[:3]))
        yield case.finding(
            "error",
            "expectation",
            "A row appears twice in one answer",
            "each key once",
            f"twice: {listed}",
            cause="repeated",
            purpose="list",
            evidence=before.exchanges[:1],
        )


def _same_row_twice(case: Case, listing: Listing, key: Key) -> bool:
    """Whether a row with a key stands there twice, and not rows that another field tells apart."""
    alike = [row for row in listing.rows if case.client.key_of(row) == key]
    return any(alike.count(each) > 1 for each in alike)


@check("read.total", needs=("list",))
async def total_is_true(case: Case) -> AsyncIterator[Finding]:
    """Is the total that the list gives the number of its rows?"""
    before = case.state.before
    if before is None or before.problem:
        raise Blocked(case.state.unusable or "its list was not read")
    if before.total is None:
        raise Skipped("the list gives no total")
    if _miscounted(before):
        again = await case.listing()
        # the same wrong total twice: rows that come and go meanwhile would change it
        if _miscounted(again) and again.total == before.total and len(again.rows) == len(before.rows):
            yield case.finding(
                "error",
                "contract",
                "The total is not the number of rows",
                f"{len(again.by_key or again.rows)}, as the pages hold",
                str(again.total),
                cause="total",
                purpose="list",
                evidence=again.exchanges[:1],
            )


def _miscounted(listing: Listing) -> bool:
    distinct = len(listing.by_key or listing.rows)
    return listing.complete and not listing.repeated and listing.total is not None and listing.total != distinct


@check("read.item-equals-list", needs=("list", "read"), cost=lambda resource: _SAMPLE)
async def item_equals_list(case: Case) -> AsyncIterator[Finding]:
    """Is a row the same by its key as in the list?"""
    before = case.state.before
    if before is None or before.problem:
        raise Blocked(case.state.unusable or "its list was not read")
    if not before.by_key:
        raise Skipped("the list has no rows whose key is known")
    keys = [key for key in before.by_key if key not in before.repeated]
    if not keys:
        raise Skipped(_NO_KEY.format(key_text(case.resource.key.fields if case.resource.key else None)))
    sample = [keys[index] for index in range(0, len(keys), max(1, len(keys) // _SAMPLE))][:_SAMPLE]
    first = await _read_alone(case, sample[0], before.by_key[sample[0]])
    if isinstance(first, Finding):
        yield first
        return
    answers = [first, *await all_of(case.read(key) for key in sample[1:])]
    untold = case.resource.key is not None and case.resource.key.reason.certainty != "stated"
    if (untold or case.world.ledger is None) and all(case.client.absent(exchange.answer) for exchange, _ in answers):
        found = await found_otherwise(case, before.by_key[sample[0]], before.rows, answers[0][0])
        if found is not None:
            yield found
            return
    for key, (exchange, row) in zip(sample, answers, strict=True):
        listed = before.by_key[key]
        if row is None and exchange.answer.status in {401, 403}:
            raise Skipped(f"the role {case.world.role.name} may not read a row ({exchange.answer.status})")
        if row is None and case.client.absent(exchange.answer):
            # somebody else may have deleted it meanwhile
            if key in (await case.listing()).by_key:
                yield case.finding(
                    "error",
                    "expectation",
                    "A row of the list is not found by its key",
                    "the row",
                    str(exchange.answer.status),
                    cause="listed, not found",
                    purpose="read",
                    evidence=[exchange],
                )
        elif row is not None:
            wrong = [name for name in differences(case.fields, listed, row) if name not in case.state.disputed]
            wrong = [name for name in wrong if not other_view(case, name, row[name], listed[name])]
            if wrong and not await _changes_by_itself(case, key, row, wrong):
                case.learn(case.state.disputed, wrong)
                yield case.finding(
                    "error",
                    "expectation",
                    "A row read by its key differs from the list",
                    f"{wrong[0]} = {listed[wrong[0]]!r}",
                    f"{wrong[0]} = {row[wrong[0]]!r}",
                    cause="any:list differs",
                    purpose="read",
                    subjects=wrong,
                    evidence=[before.exchanges[0], exchange],
                )


async def _read_alone(case: Case, key: Key, listed: Row) -> tuple[Exchange, Row | None] | Finding:
    """The answer to reading a row; a finding where reading changes it. Where no own row has shown that reading does no
    harm, one of others is read twice before any other is, and no more are where it is another one then. Tables of one
    name do so one after another: they may show the same rows."""
    if case.state.read_safely:
        return await case.read(key)
    async with case.world.reading_alone[normal(case.resource.name.rpartition("/")[2])]:
        return await _read_twice(case, key, listed)


async def _read_twice(case: Case, key: Key, listed: Row) -> tuple[Exchange, Row | None] | Finding:
    exchange, row = await case.read(key)
    if row is None:
        return exchange, row
    again, after = await case.read(key, "a row that was read before")
    if after is None and case.client.absent(again.answer):
        case.world.harmful_reads(case.resource.name, "a row was gone after it had been read")
        raise Skipped("a row was gone after it had been read, so that no others are read by their keys")
    known = after or row
    moved = {*differences(case.fields, row, known), *differences(case.fields, listed, known)}
    changed = await changed_by_reading(case, key, moved) if moved else None
    if changed is None:
        return exchange, row
    case.world.harmful_reads(case.resource.name, f"reading a row changes it: {changed.names[0]}")
    if case.world.ledger is None:
        case.world.harmed.append(Harm(case.resource.name, key, f"has another {changed.names[0]}", listed, False))
    return changed.finding(case, [exchange, again])


async def _changes_by_itself(case: Case, key: Key, row: Row, wrong: list[str]) -> bool:
    """Whether somebody has changed the row meanwhile, or its values are made anew at each reading."""
    listed = (await case.listing()).by_key.get(key, {})
    _, again = await case.read(key)
    names = set(wrong)
    return not names & set(differences(case.fields, row, listed)) or names <= set(
        differences(case.fields, row, again or {})
    )


@check("read.missing-key", needs=("read",))
async def missing_key(case: Case) -> AsyncIterator[Finding]:
    """Is a missing key answered with "not found"?"""
    key = absent_key(case)
    exchange = await case.send("read", "a missing key", key=key)
    if exchange.answer.ok and not case.client.absent(exchange.answer):
        last = case.resource.field(case.resource.key_fields[-1])
        if last is not None and last.kind in {"date", "date-time"} and not exchange.answer.json:
            raise Skipped("its key is a day, and nothing is shown for one without a row")
        yield succeeded_on_missing(case, "read", exchange)


def succeeded_on_missing(case: Case, purpose: str, exchange: Exchange) -> Finding:
    """The finding that an operation on a missing key answered with success."""
    operation = case.resource.operations[purpose]  # type: ignore[index]
    documented = next((each for each in operation.responses if each.status in {"404", "410"}), None)
    return case.finding(
        # DELETE is idempotent, and many answer alike whether or not there was a row
        "error" if documented and purpose != "delete" else "warning",
        "contract" if documented else "standard",
        f"{operation.method} of a missing key returns {exchange.answer.status}",
        documented.status if documented else "404 (RFC 9110, 15.5.5)",
        str(exchange.answer.status),
        cause=f"any:missing key succeeds: {purpose}",
        purpose=purpose,  # type: ignore[arg-type]
        place=documented.place if documented else None,
        evidence=[exchange],
    )


@check("read.malformed-key", needs=("read",), cost=lambda resource: 3)
async def malformed_key(case: Case) -> AsyncIterator[Finding]:
    """Is a key that cannot be one refused, without a server error?"""
    key = case.resource.key
    if key is None or not key.parameters:
        raise Skipped("its key is not known")
    first = case.resource.field(key.fields[0])
    kind = first.type if first else ""
    uuid_like = first is not None and first.format == "uuid"
    tries = ["'", "1' OR '1'='1", "9" * 40 if kind == "integer" else "~" * 40]
    if kind == "integer" or uuid_like:
        tries.insert(0, "not-a-key")
    rest = absent_key(case)[1:] if len(key.fields) > 1 else ()
    asked = await all_of(case.send("read", "a malformed key", key=(text, *rest)) for text in tries)
    if all(exchange.answer.status in {401, 403} for exchange in asked):
        raise Skipped("no row of it may be read")
    for text, exchange in zip(tries, asked, strict=True):
        if not exchange.answer.ok:
            continue
        row = case.client.row_in(exchange.answer)
        if row is None and len(case.client.rows_in(exchange.answer.json) or ()) > 1:
            what, seen, cause = "the list", "rows of the list", "malformed key lists"
        elif row is not None and case.client.key_of(row) != (text, *rest):
            shown = case.client.key_of(row)
            seen = f"the row {key_text(shown)}" if shown is not None else "a row that shows no key"
            what, cause = "a row", "malformed key succeeds"
        else:
            continue
        yield case.finding(
            "error",
            "expectation",
            f"A malformed key returns {what}",
            "a refusal (400, 404 or 422)",
            f"{exchange.answer.status} with {seen}",
            cause=cause,
            purpose="read",
            subjects=[text],
            evidence=[exchange],
        )


@check("read.changes-nothing", needs=("create", "read", "delete"), creates=True, cost=lambda resource: 7)
async def reading_changes_nothing(case: Case) -> AsyncIterator[Finding]:
    """Does reading a row leave it as it is, also with values in the query?"""
    own = (await case.own())[0]
    _, before = await case.row_now(own.key)
    operation = case.operation("read")
    declared = {each.name for each in operation.parameters if each.location == "query"}
    address = case.client.url(operation, own.key, purpose="read")
    requests = [Request("HEAD", address, case.world.role.name)]
    for each in case.resource.writable("update" if case.has("update") else "create"):
        value = await new_value(case, each, unlike=before.get(each.name))
        plain = isinstance(value, str | int | float) and each.name not in declared and each.name in before
        if plain and operation.method == "GET":
            url = f"{address}{'&' if '?' in address else '?'}{quote(each.name)}={quote(str(value))}"
            requests.append(Request("GET", url, case.world.role.name))
    sent = await all_of(case.world.session.send(each, case.check.name) for each in requests)
    case.requests += len(sent)
    last, after = await case.row_now(own.key)
    wrong = differences(case.fields, before, after, case.settable)
    if wrong:
        yield Changed(wrong, before, after, last).finding(case, [own.exchange, *_about(sent, wrong[0])])


def _about(sent: list[Exchange], name: str) -> list[Exchange]:
    """The exchange whose query names a field, else the first."""
    named = [exchange for exchange in sent if re.search(rf"[?&]{re.escape(quote(name))}=", exchange.request.url)]
    return (named or sent)[:1]


@check("read.unknown-path", needs=("list",))
async def unknown_path(case: Case) -> AsyncIterator[Finding]:
    """Is a table that is not exposed refused?"""
    operation = case.operation("list")
    if "{" in operation.path:
        raise Skipped("its path has parameters")
    if plain(operation.path).rpartition("/")[0] + "/{}" in case.world.templates:
        raise Skipped("what stands beside its path is the key of a row")
    name = f"{operation.path.rstrip('/')}-{case.values.mark}"
    exchange = await case.client.follow(_base(case.client, operation.path) + name, case.check.name)
    case.requests += 1
    if exchange.answer.ok or exchange.answer.status >= 500:
        yield case.finding(
            "warning" if exchange.answer.ok else "error",
            "standard",
            "A path that does not exist is not refused",
            "404 (RFC 9110, 15.5.5)",
            str(exchange.answer.status),
            cause="unknown path",
            operation=("GET", name.replace(case.values.mark, "x")),
            evidence=[exchange],
        )


def _base(client: Client, path: str) -> str:
    return client.url(client.resource.operations["list"]).removesuffix(path)
