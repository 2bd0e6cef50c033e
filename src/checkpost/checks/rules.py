"""Sending records that break one rule each, and judging what the API makes of them."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.shown import shown
from checkpost.findings import Finding, Severity
from checkpost.model.field import MISSING
from checkpost.model.media import is_form, request_media_type
from checkpost.model.purpose import Purpose
from checkpost.oracle.same import differences
from checkpost.values.broken import Break, breaks
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row


def broken_by(case: Case, purpose: Purpose, record: Mapping[str, Any]) -> list[Break]:
    """Every rule of the body's schema, broken once. Raises Skipped if the body has no schema or rules."""
    schema = case.body_schema(purpose)
    if schema is None or purpose in case.resource.bodies_untold:
        raise Skipped(f"the contract has no schema for the body of {case.operation(purpose)}")
    world = case.world
    found = breaks(case.resource, purpose, record, schema, world.contract, world.validators, case.values)
    found = [each for each in found if each.field not in case.resource.moving_others]
    if is_form(request_media_type(case.operation(purpose))):
        # a form holds texts alone: it cannot say null, and an empty text may stand for it
        sayable = (str, int, float)
        found = [e for e in found if e.value is MISSING or (isinstance(e.value, sayable) and e.value != "")]
        found = [e for e in found if not e.spelled]
    if not found:
        raise Skipped("its schema has no rules that can be broken")
    return found


async def refused_and_unchanged(
    case: Case,
    purpose: Purpose,
    own: Own,
    row: Row,
    broken: list[Break],
    send: Callable[[Break], Awaitable[Exchange]],
    mend: Callable[[Break], Awaitable[Exchange]],
) -> AsyncIterator[Finding]:
    """Send broken bodies to an own row, one after the other: the findings that they were accepted, or refused and yet
    left their mark on the row. ``mend`` makes the row again what it was."""
    any_accepted = False
    refused: list[Exchange] = []
    taken: list[Break] = []
    for each in broken:
        world, kind, still = case.world, (purpose, each.kind), None
        # the first of its kind goes while no other of it does, and its row is looked at
        async with contextlib.nullcontext() if kind in world.harmless_changes else world.first_changes[kind]:
            if world.unmendable:
                case.remark(f"{situation(each)} was not sent: elsewhere it left a row that could not be mended")
                continue
            exchange = await send(each)
            looked = kind not in world.harmless_changes or exchange.answer.status >= 500
            unread = await _unread(case, own) if looked else None
            if unread is None:
                world.harmless_changes.add(kind)
            else:
                # a create might make a row of it that cannot even be removed
                case.learn(case.state.unshown, [(each.field, repr(each.value))])
                world.spoiling_changes.add(each.kind)
                await mend(each)
                still = await _unread(case, own)
                world.unmendable |= still is not None
        found = accepted(case, purpose, each, exchange) if exchange.answer.ok else None
        if exchange.answer.ok or exchange.answer.status >= 500:
            taken.append(each)
        if unread is not None:
            yield _left_unreadable(case, purpose, each, exchange, unread)
        if still is not None:  # it goes at once, since lists may fail with it
            raise Blocked(f"a row could not be made readable again ({still.answer.status})")
        any_accepted |= exchange.answer.ok
        if found is not None:
            yield found
        elif exchange.answer.refused:
            refused.append(exchange)
    try:
        read, after = await case.row_now(own.key)
    except Blocked:
        # one of them has made a row that cannot be shown: in a create it might make one that cannot even be removed
        case.learn(case.state.unshown, [(each.field, repr(each.value)) for each in taken])
        raise
    touched = differences(case.fields, row, after, case.settable)
    if touched and refused and not any_accepted:
        name = touched[0]
        yield case.finding(
            "error",
            "expectation",
            f"A refused {purpose} changes the row",
            f"{name} = {shown(row[name])}, as before",
            f"{name} = {shown(after[name])}",
            cause="refused but changed",
            purpose=purpose,
            subjects=touched,
            evidence=[refused[0], read],
        )


async def _unread(case: Case, own: Own) -> Exchange | None:
    """The answer that the API fails to show an own row with; None where it shows it."""
    exchange = (await case.read(own.key))[0] if case.has("read") else None
    unread = exchange is not None and (exchange.answer.status >= 500 or exchange.answer.status in {400, 409, 422})
    return exchange if unread else None


def _left_unreadable(case: Case, purpose: Purpose, each: Break, sent: Exchange, unread: Exchange) -> Finding:
    how = "fails" if sent.answer.status >= 500 else "is refused" if sent.answer.refused else "succeeds"
    return case.finding(
        "error",
        "expectation",
        f"A{'n' if purpose == 'update' else ''} {purpose} that {how} leaves a row that cannot be read",
        "nothing is stored, and the row is read as before",
        f"{sent.answer.status}, and {unread.answer.status} for the row since",
        cause="any:failed but stored",
        purpose=purpose,
        subjects=[situation(each)],
        evidence=[sent, unread],
    )


def situation(each: Break) -> str:
    """What is wrong with a record, in words."""
    if each.value is MISSING:
        return f"without {each.field}"
    if each.keyword == "additionalProperties":
        return "an unknown field"
    if each.value is None:
        return f"null for {each.field}"
    return f"{each.field} breaking {each.keyword}"


def accepted(case: Case, purpose: Purpose, each: Break, exchange: Exchange) -> Finding | None:
    """The finding that a record which breaks a rule was accepted; None where it says nothing new."""
    set_by_server = not case.client_keys and each.field in case.resource.key_fields
    if set_by_server or each.field in case.state.disputed:
        return None  # it is not taken from bodies, whatever it is
    if each.spelled and (each.field, "type") in case.state.unenforced:
        return None  # whatever is sent for the field is taken
    if each.spelled:
        return case.finding(
            "warning",
            "contract",
            "A value of another type is accepted and converted",
            f"a refusal: {each.rule[:160]}",
            f"{exchange.answer.status} for {each.field} = {shown(each.value, 80)}",
            cause="any:converts",
            purpose=purpose,
            place=each.place,
            subjects=[each.field],
            evidence=[exchange],
        )
    case.learn(case.state.unenforced, [(each.field, each.kind)])
    titles = {
        "required": "A record without a required field is accepted",
        "null": "Null is accepted where the schema rules it out",
        "type": "A value of the wrong type is accepted",
        "enum": "A value outside the enum is accepted",
        "additionalProperties": "A field that the schema rules out is accepted",
        "pattern": "A text that does not match its pattern is accepted",
        "format": "A text that is not in its format is accepted",
        "maxLength": "A text longer than maxLength is accepted",
        "minLength": "A text shorter than minLength is accepted",
    }
    # JSON Schema leaves the assertion of formats open, so that this alone is no error
    severity: Severity = "warning" if each.keyword == "format" else "error"
    sent = "nothing" if each.value is MISSING else shown(each.value, 80)
    return case.finding(
        severity,
        "contract",
        titles.get(each.kind, f"A number that breaks {each.keyword} is accepted"),
        f"a refusal: {each.rule[:160]}",
        f"{exchange.answer.status} for {each.field} = {sent}",
        cause=f"any:accepts broken {each.kind}",
        purpose=purpose,
        place=each.place,
        subjects=[each.field],
        evidence=[exchange],
    )
