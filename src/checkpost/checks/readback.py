"""Looking again: what a write said against what is stored, by key and in the list."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.shown import shown
from checkpost.checks.strays import list_is_cut
from checkpost.findings import CHANGED, Finding, Severity
from checkpost.model.field import Field
from checkpost.model.fields import inside
from checkpost.model.operations import answer_schema
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.oracle.same import OTHER_TEXT, change, differences, kept_by_server, same
from checkpost.rows.table import as_number
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row

#: Changes to a value that some APIs make on purpose; they lose little.
_DEFAULTED = "null became a default"
_MILD = {"space at the ends was cut off", _DEFAULTED}
#: Cause and title of what is found of nulls that have no effect.
NULL_UNSENT, UNSENT_TITLE = f"{CHANGED}{_DEFAULTED}", "Null is taken as if nothing had been sent"
#: How many keys behind a list's last are read.
_BETWEEN = 3
#: Awkward values that some APIs clean on purpose.
_OFTEN_CLEANED = {"markup", "a line break"}


def changed_values(
    case: Case,
    purpose: Purpose,
    sent: Mapping[str, Any],
    stored: Row,
    evidence: Sequence[Exchange],
    labels: Mapping[str, str] | None = None,
) -> Iterator[Finding]:
    """A finding for each kind of change between what was sent and what is stored."""
    for name in differences(case.fields, sent, stored):
        field = case.fields[name]
        if field.read_only or field.write_only or name in case.state.disputed:
            continue
        if purpose in case.resource.bodies_untold and overruled(field, sent, stored):
            case.remark(f"{name} seems to be made by the server, and the contract does not say what bodies hold")
            continue
        if kept_by_server(field, sent[name], stored[name], datetime.now(UTC)):
            case.remark(f"{name} seems to be set by the server, though the contract does not mark it read-only")
            continue
        kind = change(field, sent[name], stored[name])
        mild = kind in _MILD or (labels is not None and labels.get(name) in _OFTEN_CLEANED)
        lowered = kind == "capital and small letters changed" and field.format == "email"
        severity: Severity = "warning" if mild or lowered else "error"
        subject = f"{name} ({labels[name]})" if labels and name in labels else name
        unsent = kind == _DEFAULTED and purpose != "update"
        yield case.finding(
            severity,
            "expectation",
            UNSENT_TITLE if unsent else f"A value changed silently: {kind}",
            f"{name} = {shown(sent[name])}",
            f"{name} = {shown(stored[name])}",
            cause=f"{CHANGED}{kind}",
            purpose=purpose,
            subjects=[subject],
            evidence=evidence,
        )


def overruled(field: Field, sent: Mapping[str, Any], stored: Row) -> bool:
    """Whether a row shows nothing of the value that was sent: none at all, or a text that has no part of it."""
    pair = sent[field.name], stored[field.name]
    return pair[1] is None or (all(isinstance(each, str) for each in pair) and change(field, *pair) == OTHER_TEXT)


def answer_differs(
    case: Case, purpose: Purpose, exchange: Exchange, stored: Row, sent: Mapping[str, Any]
) -> Iterator[Finding]:
    """A finding if the row in a write's answer is not the one that is stored then.

    Only what was sent is looked at: fields that the server computes may still be on their way.
    """
    answered = case.client.row_in(exchange.answer)
    if answered is None:
        return
    names = [name for name in sent if name in case.fields and name not in case.state.disputed]
    wrong = [
        name
        for name in differences(case.fields, answered, stored, names)
        if not same(case.fields[name], stored[name], answered[name])  # in another notation, either way
    ]
    if wrong:
        name = wrong[0]
        saved = same(case.fields[name], sent[name], stored[name])
        title = (
            "The answer to a write does not show the row as it is stored"
            if saved
            else "Write returns success but stores another value"
        )
        yield case.finding(
            "error",
            "expectation",
            title,
            f"{name} = {shown(stored[name])}, as stored" if saved else f"{name} = {shown(answered[name])}, as answered",
            f"{name} = {shown(answered[name])}" if saved else f"{name} = {shown(stored[name])}",
            cause="any:answer differs",
            purpose=purpose,
            subjects=wrong,
            evidence=[exchange],
        )


async def missing_from_list(case: Case, rows: Sequence[Own], listing: Listing) -> list[Own]:
    """The rows that a complete list does not hold, looked for twice."""
    if (
        not listing.complete
        or listing.repeated
        or (not any(case.client.key_of(row) for row in listing.rows) and listing.rows)
    ):
        return []
    missing = [own for own in rows if own.key not in listing.by_key]
    if missing:
        again = await case.listing()
        missing = [own for own in missing if again.complete and own.key not in again.by_key]
    if missing and await _is_cut(case, listing, missing[0].key):
        list_is_cut(case, listing)
        return []
    return missing


def rows_left_out(case: Case, seen: str, exchange: Exchange) -> Finding:
    """The finding that a list does not show all rows, and nothing says how the others are asked for."""
    return case.finding(
        "warning",
        "expectation",
        "A list leaves rows out, and the contract does not say how they are asked for",
        "all rows, or parameters that lead to the others",
        seen,
        cause="any:paging not described",
        purpose="list",
        evidence=[exchange],
    )


async def _is_cut(case: Case, listing: Listing, key: Key) -> bool:
    """Whether a list that is not said to be paged ends before rows which were there: those whose numbers are between
    its last and that of a row just made can be read."""
    paging, last = case.resource.paging, max((as_number(each[-1]) or 0 for each in listing.by_key), default=0)
    number = as_number(key[-1])
    paged = paging.style != "none" or paging.limit or listing.total is not None
    if paged or number is None or len(key) != 1 or not case.has("read") or not last:
        return False
    between = [(type(key[-1])(each),) for each in range(last + 1, min(number, last + 1 + _BETWEEN))]
    for each in between:
        row = (await case.read(each, "a row behind the list's last"))[1]
        if row is not None and case.client.key_of(row) in (None, each):
            return True
    return False


async def stored_rows(case: Case, own: Own, listing: Listing | None) -> tuple[list[Exchange], Row | None, Row | None]:
    """A row as read by key and as listed, each None where it is not there or cannot be asked for."""
    exchanges: list[Exchange] = []
    read = None
    if case.has("read"):
        exchange, read = await case.read(own.key, "reading a row just written")
        exchanges.append(exchange)
    listed = listing.by_key.get(own.key) if listing is not None else None
    return exchanges, read, listed


def other_view(case: Case, name: str, value: Any, listed: Any) -> bool:
    """Whether a list and reading by key have two views of a field: each row of the list has null in place of an object
    or a list, or a part of the object; or the contract describes what the list shows for it alone."""
    if isinstance(value, dict) and isinstance(listed, dict) and listed.items() <= value.items():
        return True
    rows = case.state.rows_before
    left_out = isinstance(value, dict | list) and bool(rows) and all(row.get(name) is None for row in rows)
    if left_out or not case.has("list", "read"):
        return left_out
    envelope, valid = case.resource.envelope, case.world.validators.is_valid
    in_list = shape_of(inside(answer_schema(case.operation("list")), envelope.rows or "")).properties.get(name)
    by_key = shape_of(inside(answer_schema(case.operation("read")), envelope.row or "")).properties.get(name)
    if in_list is None or by_key is None:
        return False
    return valid(in_list, listed, "response") and not valid(by_key, listed, "response")


def list_differs(case: Case, read: Row | None, listed: Row | None, evidence: Sequence[Exchange]) -> Iterator[Finding]:
    """A finding if the list shows an own row otherwise than reading it by key does."""
    if read is None or listed is None:
        return
    wrong = [name for name in differences(case.fields, read, listed, case.settable) if name not in case.state.disputed]
    wrong = [name for name in wrong if not other_view(case, name, read[name], listed[name])]
    if wrong:
        name = wrong[0]
        case.learn(case.state.disputed, wrong)
        yield case.finding(
            "error",
            "expectation",
            "The list shows other values than reading by key",
            f"{name} = {shown(read[name])}, as by key",
            f"{name} = {shown(listed[name])} in the list",
            cause="any:list differs",
            purpose="read",
            subjects=wrong,
            evidence=evidence,
        )
