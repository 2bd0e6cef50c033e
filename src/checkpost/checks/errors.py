"""Requests that are wrong in themselves: bodies, media types, methods, parameters."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Collection

from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.media import is_form, request_media_type
from checkpost.model.paths import nameless, plain
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.wire.door import Act, Made, Unsafe
from checkpost.wire.exchange import Request
from checkpost.wire.listing import Key

#: Of what makes rows that cannot be told: a body that is no record.
_BODY = "body"
#: Bodies that are valid JSON and no objects: what has taken another body may fail only after it has stored these.
_FAILING_LATE = {b'["no record"]', b'"record"'}
_NEEDS: tuple[Purpose, ...] = ("create", "delete")


@check("errors.broken-body", needs=_NEEDS, creates=True, alone=True, cost=lambda resource: 10)
async def broken_body(case: Case) -> AsyncIterator[Finding]:
    """Is a body that is not JSON, empty, or of the wrong kind refused?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    if is_form(request_media_type(case.operation("create"))):
        raise Skipped("rows are made by a form, of which any text is one")
    bodies = [
        ("a body that is not JSON", b'{"broken": '),
        ("an empty body", b""),
        ("null in place of a record", b"null"),
    ]
    if not shape_of(case.resource.body_schema("create")).is_array:
        bodies.append(("a list in place of a record", b'["no record"]'))  # a number might be taken for a key
    bodies.append(("a text in place of a record", b'"record"'))
    purposes: list[Purpose] = ["create"]
    others: tuple[Purpose, ...] = ("update", "replace")
    purposes += [purpose for purpose in others if case.has(purpose)]
    own = (await case.own())[0]
    known = (await case.listing()).by_key.keys() if case.has("list") else frozenset[Key]()
    taken = False
    for purpose in purposes:
        for situation, raw in bodies:
            if purpose == "create":
                if taken and raw in _FAILING_LATE:
                    continue
                if _BODY in case.world.spoiling:
                    case.remark(
                        "a body that is not a record was stored, and its row cannot be identified: no more are sent"
                    )
                    break
                try:
                    exchange, _ = await case.create({}, situation, raw=raw)
                except Unsafe as why:
                    case.remark(str(why))
                    continue
                if raw in _FAILING_LATE and exchange.answer.status >= 500 and await _has_grown(case, known):
                    case.world.spoiling.add(_BODY)
            else:
                exchange = await case.send(purpose, situation, key=own.key, raw=raw)
            operation = case.operation(purpose)
            optional = operation.body is None or not operation.body.required
            if exchange.answer.ok and not (raw == b"" and (optional or purpose == "update")):
                yield case.finding(
                    "error",
                    "contract",
                    "A body that is not a record is accepted",
                    "a refusal, such as 400",
                    f"{exchange.answer.status} for {situation}",
                    cause="any:takes broken body",
                    purpose=purpose,
                    place=operation.body.place if operation.body else None,
                    subjects=[situation],
                    evidence=[exchange],
                )
                taken |= purpose == "create"


async def _has_grown(case: Case, known: Collection[Key]) -> bool:
    """Whether the list holds rows that were not there and that no answer has told of."""
    if not case.has("list"):
        return True
    return bool((await case.listing()).by_key.keys() - known - case.made_keys)


@check("errors.media-type", needs=_NEEDS, creates=True, cost=lambda resource: 2)
async def undocumented_media_type(case: Case) -> AsyncIterator[Finding]:
    """Is a body of a media type that the contract does not have refused?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    operation = case.operation("create")
    offered = {media.name for media in operation.body.content} if operation.body else set()
    if not offered or {"*/*", "text/*", "text/plain"} & offered:
        raise Skipped("the contract has no media types for the body, or every one")
    record = await new_record(case)
    exchange, _ = await case.create(record, "an undocumented media type", media_type="text/plain")
    if exchange.answer.ok:
        yield case.finding(
            "warning",
            "contract",
            "A body of an undocumented media type is accepted",
            "415 (RFC 9110, 15.5.16)",
            f"{exchange.answer.status} for text/plain",
            cause="media type taken",
            purpose="create",
            place=operation.body.place if operation.body else None,
            evidence=[exchange],
        )


@check("errors.method-not-offered", needs=_NEEDS, creates=True, cost=lambda resource: 3)
async def method_not_offered(case: Case) -> AsyncIterator[Finding]:
    """Is a method that the contract does not have for a row refused?

    Only ever asked of the path of an own row: on the path of a list, such a request could change every row.
    """
    item = case.resource.item
    if item is None:
        raise Skipped("its rows have no path of their own")
    path = nameless(plain(item))
    operations = case.world.contract.operations
    known = {operation.method for operation in operations if nameless(plain(operation.path)) == path}
    own = (await case.own())[0]
    record = await new_record(case)
    raw = json.dumps(case.client.body_of(record, "create")).encode()
    purpose: Purpose = "read" if case.has("read") else "delete"
    url = case.client.url(case.operation(purpose), own.key)
    for method in ("POST", "PUT", "PATCH"):
        if method in known:
            continue
        name = case.resource.name
        act = Act("change", (Made(name, record),), ((name, own.key),))
        request = Request(method, url, case.world.role.name, {"Content-Type": "application/json"}, raw)
        exchange = await case.client.write(request, act, case.check.name)
        case.requests += 1
        case.state.writes += 1
        answer = exchange.answer
        if answer.ok or (answer.status >= 500 and answer.status != 501):
            yield case.finding(
                "error" if answer.status >= 500 else "warning",
                "standard",
                f"{method} on a row, which the contract does not have, answers {answer.status}",
                "405 (RFC 9110, 15.5.6)",
                str(answer.status),
                cause=f"method {method}",
                operation=(method, item),
                evidence=[own.exchange, exchange],
            )


@check("errors.bad-parameter", needs=("list",), cost=lambda resource: 2)
async def bad_parameter(case: Case) -> AsyncIterator[Finding]:
    """Is a badly typed query parameter of the list answered without a server error?"""
    names = [
        each.name
        for each in case.operation("list").parameters
        if each.location == "query" and shape_of(each.schema).types & {"integer", "number", "boolean"}
    ]
    if not names:
        raise Skipped("the list has no typed query parameters")
    sent = await all_of(case.send("list", f"{name} that is not a number", query={name: "abc"}) for name in names)
    for name, exchange in zip(names, sent, strict=True):
        rows = case.client.rows_in(exchange.answer.json) if exchange.answer.ok else None
        before = case.state.before
        if rows and name in {case.resource.paging.limit, case.resource.paging.position}:
            yield case.finding(
                "warning",
                "contract",
                "A badly typed parameter is ignored",
                "a refusal, such as 400: the contract says that it is a number",
                f"{exchange.answer.status} with {len(rows)} rows for {name}=abc",
                cause="bad parameter ignored",
                purpose="list",
                subjects=[name],
                evidence=[exchange],
            )
        more = rows is not None and before is not None and before.total is not None and len(rows) > before.total
        if more and len(rows or ()) > len((await case.listing()).rows):
            yield case.finding(
                "error",
                "expectation",
                "A badly typed parameter yields more rows than there are",
                "a refusal",
                f"{len(rows or ())} rows for {name}=abc",
                cause="more rows",
                purpose="list",
                subjects=[name],
                evidence=[exchange],
            )
