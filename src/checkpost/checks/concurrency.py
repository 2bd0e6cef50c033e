"""Changes at the same moment: nothing is lost, nothing is made twice, and stale ones are refused."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any

from checkpost.checks.bulk import twice_taken, unique_field
from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_record, new_value, replacement
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.shown import shown
from checkpost.checks.strays import strays
from checkpost.checks.together import all_of
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.field import MISSING, Field
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_AT_ONCE = 20
_PAIRS = 6


@check("concurrency.unique", needs=_NEEDS, creates=True, cost=lambda resource: _AT_ONCE + 4)
async def one_of_many(case: Case) -> AsyncIterator[Finding]:
    """Of many creates of one unique value at the same moment, does exactly one succeed?"""
    field = unique_field(case)
    if field is None:
        raise Skipped("nothing says that one of its fields is unique")
    if twice_taken(case):
        raise Skipped("a second row with the same unique value is taken even alone")
    records = [await new_record(case) for _ in range(_AT_ONCE)]
    value = records[0].get(field.name)
    if value is None:
        raise Skipped(f"no value for {field.name} is known")
    async with case.world.session.pace.together():
        made = await all_of(
            case.create({**record, field.name: value}, "the same unique value at the same moment") for record in records
        )
    taken = [exchange for exchange, _ in made if case.says_made(exchange)]
    if len(taken) != 1:
        stored = len({key for _, key in made if key is not None})
        yield case.finding(
            "error" if taken else "warning",
            "expectation",
            f"Of {_AT_ONCE} creates of one unique value at once, {'several succeed' if taken else 'none succeeds'}",
            "exactly one success",
            f"{len(taken)} successes, {stored} rows",
            cause="unique at once",
            purpose="create",
            subjects=[field.name],
            evidence=(taken or [made[0][0]])[:2],
        )


def _known(case: Case) -> list[Finding]:
    return list(case.world.findings.by_key.values())


def _changeable(case: Case) -> list[Field]:
    """Fields that an update can give another value freely."""
    names = case.resource.key_fields
    return [
        each
        for each in case.resource.writable("update")
        if each.name not in names
        and case.resource.relation(each.name) is None
        and each.shown
        and each.kind
        and each.name not in case.resource.values
        and each.name not in case.state.unchangeable
        and each.name not in case.state.disputed
    ]


async def _other_value(case: Case, row: Row, field: Field) -> Any:
    return await new_value(case, field, unlike=row.get(field.name, MISSING))


@check("concurrency.fields", needs=(*_NEEDS, "update", "read"), creates=True, cost=lambda resource: 4 * _PAIRS)
async def two_fields(case: Case) -> AsyncIterator[Finding]:
    """Do changes of two fields of a row at the same moment both survive?"""
    if case.resource.guards.needs_match or case.resource.guards.needs_version:
        raise Skipped("the contract has every change name the state that it is made on")
    fields = _changeable(case)[:2]
    demanded = shape_of(case.body_schema("update")).required
    if not case.resource.patched and demanded & {each.name for each in fields}:
        raise Skipped("the contract has every change name fields that it does not change")
    if len(fields) < 2:
        raise Skipped("it has no two fields that can be changed freely")
    rows = await case.own(_PAIRS)
    lost: list[tuple[str, list[Exchange]]] = []
    for own in rows:
        _, row = await case.row_now(own.key)
        values = {field.name: await _other_value(case, row, field) for field in fields}
        if MISSING in values.values():
            raise Skipped("it has no two fields that can be changed freely")
        async with case.world.session.pace.together():
            both = await all_of(
                case.send("update", "two fields changed at the same moment", key=own.key, record={name: value})
                for name, value in values.items()
            )
        if not all(exchange.answer.ok for exchange in both):
            continue  # one of them was told so
        _, after = await case.row_now(own.key)
        gone = [field.name for field in fields if not same(field, values[field.name], after.get(field.name))]
        reverted = [name for name in gone if same(case.fields[name], row.get(name), after.get(name))]
        if reverted:
            lost.append((reverted[0], list(both)))
    if lost:
        yield case.finding(
            "note",
            "expectation",
            "One of two updates at the same moment is lost",
            "both changes, or a refusal of one",
            f"{lost[0][0]} has its old value in {len(lost)} of {len(rows)} rows, though both changes succeeded",
            cause="lost update",
            purpose="update",
            subjects=[name for name, _ in lost],
            evidence=lost[0][1],
        )


# -- entity tags ---------------------------------------------------------------------------------


async def _tag(case: Case, own: Own) -> tuple[Exchange, Row, str | None]:
    exchange, row = await case.row_now(own.key)
    return exchange, row, exchange.answer.header("etag")


async def _tagged(case: Case) -> tuple[Own, Exchange, Row, str]:
    """An own row and its tag. Raises Skipped where rows have none."""
    guards = case.resource.guards
    own = (await case.own())[0]
    exchange, row, tag = await _tag(case, own)
    if tag is None:
        if "read" in guards.tagged:
            raise Blocked("the documented ETag is missing")
        raise Skipped("its rows have no ETag")
    return own, exchange, row, tag


def _basis(case: Case) -> Basis:
    return "contract" if case.resource.guards.tagged else "standard"


def _named(purpose: Purpose) -> str:
    return purpose.capitalize()


def another_tag(tag: str) -> str:
    """A tag like another one that the row does not have: the number before it, or one with another sign at its end."""
    inside = tag.removeprefix("W/").strip('"')
    if inside.isdecimal() and int(inside):
        return f'"{int(inside) - 1}"'
    place = max((place for place, sign in enumerate(inside) if sign.isalnum()), default=None)
    if place is None:
        return f'"{inside}0"'
    other = next(each for each in ("01" if inside[place].isdecimal() else "ab") if each != inside[place])
    return f'"{inside[:place]}{other}{inside[place + 1 :]}"'


@check("concurrency.tag", needs=(*_NEEDS, "read"), creates=True, cost=lambda resource: 8)
async def tags(case: Case) -> AsyncIterator[Finding]:
    """Does a row's tag change when the row does, and only then; and is a known one answered 304?"""
    own, exchange, row, tag = await _tagged(case)
    again, _, same_tag = await _tag(case, own)
    if same_tag != tag:
        yield case.finding(
            "warning",
            _basis(case),
            "ETag changes although the row did not",
            f"{tag}, as before (RFC 9110, 8.8.3)",
            str(same_tag),
            cause="tag changes",
            purpose="read",
            evidence=[exchange, again],
        )
        return
    if case.resource.guards.rereads:
        known = await case.send("read", "a row whose tag is known", key=own.key, headers={"If-None-Match": tag})
        if known.answer.ok:
            yield case.finding(
                "warning",
                "contract",
                "If-None-Match with the current ETag is ignored",
                "304 (RFC 9110, 13.1.2)",
                str(known.answer.status),
                cause="not modified",
                purpose="read",
                evidence=[exchange, known],
            )
        other = await case.send(
            "read", "a row with another tag", key=own.key, headers={"If-None-Match": another_tag(tag)}
        )
        if other.answer.status == 304:
            yield case.finding(
                "error",
                "standard",
                "Any ETag is answered 304",
                "the row (RFC 9110, 13.1.2)",
                "304",
                cause="always 304",
                purpose="read",
                evidence=[exchange, other],
            )
            return
    async for finding in _tag_after_change(case, own, row, tag):
        yield finding


async def _tag_after_change(case: Case, own: Own, row: Row, tag: str) -> AsyncIterator[Finding]:
    purpose: Purpose = "update" if case.has("update") else "replace"
    fields = _changeable(case) if case.has(purpose) else []
    if not fields:
        return
    if purpose == "update":
        values = {fields[0].name: await _other_value(case, row, fields[0])}
    else:
        values = await replacement(case, own.key)
    if MISSING in values.values():
        return
    change = await case.send(purpose, "changing a row", key=own.key, record=values)
    after, now, new_tag = await _tag(case, own)
    if not change.answer.ok or not differences(case.fields, row, now):
        return
    if new_tag == tag:
        yield case.finding(
            "error",
            _basis(case),
            "ETag does not change although the row did",
            "another tag (RFC 9110, 8.8.3)",
            str(new_tag),
            cause="tag stays",
            purpose="read",
            evidence=[change, after],
        )
        return
    if case.resource.guards.rereads:
        seen = await case.send("read", "a changed row", key=own.key, headers={"If-None-Match": tag})
        if seen.answer.status == 304:
            yield case.finding(
                "error",
                "standard",
                "A changed row is answered 304",
                "the row as it is (RFC 9110, 13.1.2)",
                "304",
                cause="304 after change",
                purpose="read",
                evidence=[change, seen],
            )
    told, shown = change.answer.header("etag"), case.client.row_in(change.answer) or {}
    # of an answer that does not show the row the tag may be its own
    if told is not None and new_tag is not None and told != new_tag and shown.keys() >= values.keys():
        yield case.finding(
            "warning",
            _basis(case),
            "Update returns another ETag than the row then has",
            str(new_tag),
            told,
            cause="tag of change",
            purpose=purpose,
            evidence=[change, after],
        )


@check("concurrency.stale", needs=(*_NEEDS, "read"), creates=True, cost=lambda resource: 12)
async def stale_changes(case: Case) -> AsyncIterator[Finding]:
    """Is a change refused that names a tag which the row no longer has, and nothing changed?"""
    guards = case.resource.guards
    matching = [purpose for purpose in guards.matching if case.has(purpose)]
    if not matching:
        raise Skipped("the contract has no If-Match")
    if any(each.resource == case.resource.name and each.cause == "tag changes" for each in _known(case)):
        raise Skipped("tags change by themselves")
    for purpose in matching:
        own, exchange, row, tag = await _tagged(case)
        body: dict[str, Any] = {}
        if purpose in {"update", "replace"}:
            fields = _changeable(case)
            if not fields:
                continue
            values = {fields[0].name: await _other_value(case, row, fields[0])}
            body = {"record": values if purpose == "update" else {**await replacement(case, own.key), **values}}
            if MISSING in values.values():
                continue
        asked = {"key": own.key, **body}
        stale = await case.send(purpose, f"a stale tag on {purpose}", headers={"If-Match": another_tag(tag)}, **asked)
        there, after = await case.read(own.key, "the row then")
        gone = after is None and case.client.absent(there.answer)
        changed = gone or bool(after is not None and differences(case.fields, row, after, case.settable))
        if gone:
            forget(case, own.key)
        if stale.answer.ok or (stale.answer.refused and changed):
            yield _stale_taken(case, purpose, stale, changed, [exchange, stale, there])
            continue
        if stale.answer.status not in {409, 412, 428} and stale.answer.refused:
            yield case.finding(
                "warning",
                "standard",
                f"{_named(purpose)} with a stale ETag is not answered 412",
                "412 (RFC 9110, 13.1.1)",
                str(stale.answer.status),
                cause=f"stale status {purpose}",
                purpose=purpose,
                evidence=[exchange, stale],
            )
        if tag.startswith("W/"):
            continue  # a weak tag never satisfies If-Match (RFC 9110, 13.1.1)
        now = await case.send(purpose, f"the row's own tag on {purpose}", headers={"If-Match": tag}, **asked)
        if now.answer.ok and purpose == "delete":
            forget(case, own.key)
        if now.answer.status in {409, 412}:
            yield case.finding(
                "error",
                "standard",
                "Update with the current ETag is refused",
                "success (RFC 9110, 13.1.1)",
                str(now.answer.status),
                cause="own tag refused",
                purpose=purpose,
                evidence=[exchange, now],
            )


def _stale_taken(case: Case, purpose: Purpose, stale: Exchange, changed: bool, evidence: list[Exchange]) -> Finding:
    done = "and the row is changed" if changed else "and the row is as before"
    title = f"{_named(purpose)} with a stale ETag is {'applied' if stale.answer.ok else 'refused but applied'}"
    return case.finding(
        "error",
        "contract" if stale.answer.ok else "expectation",
        title,
        "412, and the row as before (RFC 9110, 13.1.1)",
        f"{stale.answer.status}, {done}",
        cause=f"stale {purpose}",
        purpose=purpose,
        evidence=evidence,
    )


@check("concurrency.version", needs=(*_NEEDS, "read"), creates=True, cost=lambda resource: 8)
async def versions(case: Case) -> AsyncIterator[Finding]:
    """Is an update refused that names a version which the row no longer has, and does each change count?"""
    name = case.resource.guards.version
    purpose: Purpose = "update" if case.has("update") else "replace"
    if not name or not case.has(purpose):
        raise Skipped("the contract has no version that an update sends back")
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    version, fields = row.get(name), _changeable(case)
    if version is None or not fields:
        raise Skipped(f"rows do not show {name}, or none of their fields can be changed")

    async def change(sent: Any) -> tuple[Exchange, dict[str, Any]]:
        value = await _other_value(case, (await case.row_now(own.key))[1], fields[0])
        values = {fields[0].name: value}
        body = values if purpose == "update" else {**await replacement(case, own.key), **values}
        return await case.send(purpose, "a change with a version", key=own.key, record={**body, name: sent}), values

    first, _ = await change(version)
    _, now = await case.row_now(own.key)
    if first.answer.status in {409, 412}:
        yield _version_finding(
            case, purpose, "Update with the current version is refused", "success", str(first.answer.status), [first]
        )
        return
    if not first.answer.ok:
        raise Blocked(f"a change with a version answers {first.answer.status}")
    if same(case.fields.get(name), version, now.get(name)):
        yield _version_finding(
            case, purpose, "Update leaves the version as it was", "another version", shown(now.get(name)), [first]
        )
        return
    stale, _ = await change(version)
    _, after = await case.row_now(own.key)
    changed = differences(case.fields, now, after, [each.name for each in fields])
    if stale.answer.ok or changed:
        title = "Update with a stale version is applied" if changed else "Update with a stale version is not refused"
        yield _version_finding(
            case, purpose, title, "409 or 412, and the row as before", str(stale.answer.status), [first, stale], "error"
        )


def _version_finding(
    case: Case, purpose: Purpose, title: str, expected: str, observed: str, evidence: list[Exchange],
    severity: Severity = "error",
) -> Finding:  # fmt: skip
    return case.finding(
        severity, "contract", title, expected, observed, cause=title, purpose=purpose,
        subjects=[case.resource.guards.version], evidence=evidence,
    )  # fmt: skip


@check("concurrency.retry", needs=_NEEDS, creates=True, cost=lambda resource: 6 if resource.guards.once else 0)
async def sent_again(case: Case) -> AsyncIterator[Finding]:
    """Does a create that is sent again with the same idempotency key make one row?"""
    header = case.resource.guards.once
    if not header:
        raise Skipped("the contract has no idempotency key")
    record = await new_record(case)
    headers = {header: f"{case.world.mark}-{case.resource.name}-{case.values.number()}"}
    first, key = await case.create(record, "a create with an idempotency key", headers=headers)
    if key is None:
        raise Blocked(f"a create with an idempotency key answers {first.answer.status}")
    again, second = await case.create(record, "the same create again", headers=headers)
    found = [own.key for _, own in await strays(case)]
    doubled = [each for each in (*found, second) if each is not None and each != key]
    # a table whose rows cannot be twice refuses the second one by itself
    conflict = again.answer.status == 409 and unique_field(case) is not None
    if doubled or conflict:
        yield case.finding(
            "error" if doubled else "warning",
            "contract",
            "Create sent again with the same idempotency key makes a second row",
            "one row, and the first answer again",
            f"{again.answer.status}" + (f", and the row {key_text(doubled[0])}" if doubled else ""),
            cause="done again",
            purpose="create",
            evidence=[first, again],
        )
    elif second is None and not again.answer.ok and not again.answer.refused:
        raise Blocked(f"the same create again answers {again.answer.status or again.answer.detail}")
