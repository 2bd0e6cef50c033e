"""The first row of a run in a table: which record the API takes, and in which shape."""

from __future__ import annotations

import re
from typing import Any

from checkpost.checks.blame import blamed, members_in, said, wants
from checkpost.checks.bounds import stated_bounds, within
from checkpost.checks.case import Case
from checkpost.checks.parents import one_of_many
from checkpost.checks.records import new_record
from checkpost.model.envelopes import RECORD_MEMBERS
from checkpost.model.field import MISSING, Field
from checkpost.model.paths import singular
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.values.coined import SHORTEST
from checkpost.values.form import form_of
from checkpost.values.plain import example_of
from checkpost.values.usual import ROOM
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key

_CHANGES: tuple[Purpose, ...] = ("update", "replace")
_RECIPES = {
    "copy": "a record like a row that is there",
    "copy all": "a record like a row that is there, its texts too",
    "least": "a record of the required fields",
    "least, referring": "a record of the required fields and of references",
}
#: Room for texts where longer ones were refused: such as can just bear the run's mark first.
_SHORTER = ((SHORTEST, "short texts"), (1, "texts no longer than those of rows"))


async def first_row(case: Case) -> tuple[Exchange, Key | None, dict[str, Any]]:
    """The first row: of generated values, else of the values of a row that is there, else of the required
    fields alone. What was accepted is how later rows are made."""
    full = await new_record(case)
    exchange, key = await case.create(full)
    if key is None and exchange.answer.refused and case.above:
        # a row made to be referred to may be in another state than those that are there
        above, case.above = case.above, None
        other = await new_record(case)
        taken, key = await case.create(other, "a record that refers to rows that are there")
        if key is not None:
            case.world.spared |= {(case.resource.name, name) for name in above}
            case.remark(f"rows refer to those that are there: {said(exchange)} for one made to be referred to")
            return taken, key, other
        case.above = above
    either = case.resource.key is not None and case.resource.key.assigned_by == "either"
    if key is not None or exchange.answer.status < 400:
        return exchange, key, full
    # 403 is also how a key of the client's is refused (JSON:API 1.1, 9.1.1), and how some refuse a field's value
    unsaid = unsaid_members(case, full)
    # and 404 how a row that a field names is not found
    of_values = exchange.answer.status in {403, 404} and (blamed(exchange, full) or wants(exchange, unsaid))
    final = {401, 405} if of_values else {401, 404, 405} if either and case.client_keys else {401, 403, 404, 405}
    # a server error may come from a rule that the contract does not tell as well as a refusal may
    if exchange.answer.status in final:
        return exchange, key, full
    stored = await case.stored_all_the_same(exchange)
    if stored is not None:
        return exchange, stored, full
    if exchange.answer.status >= 500:  # for others that were under way, perhaps
        again = await new_record(case)
        exchange, key = await case.create(again)
        if key is not None:
            return exchange, key, again
    exchange, key = await _wrapped(case, full, exchange)
    if key is not None:
        return exchange, key, full
    for member in sorted(wants(exchange, unsaid)):
        case.state.wanting = {member: unsaid[member]}
        record = await new_record(case)
        taken, key = await case.create(record, f"a record with {member}, which rows have and the refusal names")
        if key is not None:
            case.remark(f"records are sent with {member}, as a refusal asks; the contract does not say so")
            return taken, key, record
    case.state.wanting = {}
    if either:
        chosen = case.client_keys
        case.state.chooses_key = not chosen
        record = await new_record(case)
        how = ("without a key", "with a key of its own")
        taken, key = await case.create(record, f"a record {how[not chosen]}")
        if key is not None:
            case.remark(f"a record {how[chosen]} was refused ({said(exchange)}); one {how[not chosen]} was taken")
            return taken, key, record
        case.state.chooses_key = None
    made = await _mended(case, exchange, full)
    if made is not None:
        _tell_remedies(case, exchange)
        return made
    last = full
    for room, texts in _SHORTER:
        case.state.room = room
        case.state.usual.clear()
        record = await new_record(case)
        if record.keys() == last.keys() and any(len(str(record[name])) < len(str(last[name])) for name in last):
            taken, key = await _tried(case, record, f"a record with {texts}")
            if key is not None:
                case.remark(f"generated values were refused ({said(exchange)}); {texts} were taken")
                return taken, key, record
            last = record
    case.state.room = ROOM
    case.state.usual.clear()
    for recipe in _RECIPES:
        if recipe == "least, referring" and not _may_refer(case):
            continue  # it would be the record before
        case.state.recipe = recipe
        record = await new_record(case)
        try:
            taken, key = await _tried(case, record, _RECIPES[recipe])
        except Unsafe:  # such a row could not be told from others
            continue
        if key is not None:
            case.remark(f"generated values were refused ({said(exchange)}); {_RECIPES[recipe]} was taken")
            return taken, key, record
    case.state.recipe = ""
    return exchange, None, full


def _may_refer(case: Case) -> bool:
    """Whether a record need not refer to other rows, and may."""
    return any(not each.required and case.resource.relation(each.name) for each in case.resource.writable("create"))


async def _tried(case: Case, record: dict[str, Any], situation: str) -> tuple[Exchange, Key | None]:
    """A create, and the key of its row, be it answered with a server error: no other record is sent then."""
    exchange, key = await case.create(record, situation)
    return exchange, key if key is not None else await case.stored_all_the_same(exchange)


def unsaid_members(case: Case, record: dict[str, Any]) -> dict[str, Any]:
    """What rows hold and the contract has in no record, each with the value of a row."""
    resource = case.resource
    known = {*record, *resource.key_fields, *(each.name for each in resource.fields)}
    found: dict[str, Any] = {}
    for row in case.state.rows_before:
        found |= {
            name: value
            for name, value in row.items()
            if name not in known and isinstance(value, str | int) and value is not True
        }
    return found


async def _wrapped(case: Case, record: dict[str, Any], refused: Exchange) -> tuple[Exchange, Key | None]:
    """A record that was refused, inside a member that the refusal names, where the contract does not describe the body;
    else the refusal itself."""
    described = shape_of(case.resource.body_schema("create")).properties and not case.resource.guessed
    # what names the record's own members has read them, but for those that the refusal has itself
    read = blamed(refused, record.keys() - members_in(refused.answer.json))
    if described or case.client.wrapper("create") or read:
        return refused, None
    usual = {*RECORD_MEMBERS, case.resource.name, singular(case.resource.name)}
    usual -= {each.name for each in case.resource.fields if each.shown}
    for member in sorted(blamed(refused, usual)):
        case.client.wrap_in(member, "create")
        taken, key = await case.create(record, f"a record inside {member!r}, which the refusal names")
        if key is None and member in blamed(taken, {member}):
            case.client.wrap_in("", "create")
            continue
        case.remark(f"records are sent inside {member!r}, as a refusal asks; the contract does not say so")
        for purpose in _CHANGES:
            members = shape_of(case.resource.body_schema(purpose)).properties
            if member in members or not members:
                case.client.wrap_in(member, purpose)
        return taken, key
    return refused, None


#: What a refusal says of a reference to a row that is not there.
_NO_ROW = re.compile(
    r"\b(?:do(?:es)? not|doesn'?t|don'?t) exist|\bnot found\b|\bno such\b|\binvalid (?:pk|key|id|reference)\b"
    r"|\bforeign key\b|\bnot present in\b|\bnon-?existent\b|\bunknown (?:id|key|reference)\b",
    re.I,
)


def refers_to_nothing(refused: Exchange) -> bool:
    """Whether a refusal says that a row is not there which a record refers to."""
    return _NO_ROW.search(refused.answer.text) is not None


#: A moment as JSON has it (RFC 3339).
_MOMENT = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d)?")
#: What a refusal says of a text that has to be JSON.
_WANTS_JSON = re.compile(r"\bjson\b", re.I)


def _untold(case: Case) -> set[str]:
    """Fields that may hold the key of a row nobody knows of, or be written in a way that nothing tells: numbers and
    texts that need not be there, and that no row shows a value of."""
    filled = {name for row in case.state.rows_before for name, value in row.items() if value is not None}
    return {
        each.name
        for each in case.resource.writable("create")
        if not each.required and each.name not in filled and not each.types - {"integer", "string", "number"}
    }


def _tell_remedies(case: Case, refused: Exchange) -> None:
    state = case.state
    state.refused_with = refused if state.left_out else None
    for names, what in (
        (
            state.bounds,
            "values of {} are such as refusals ask for, or as rows have them ({}); the contract asks for none",
        ),
        (state.spaced, "moments of {} were refused ({}); such with a space and no offset were taken"),
        (state.joined, "texts with spaces or other signs in {} were refused ({}); such without were taken"),
        (state.encoded, "texts of {} were refused ({}); objects written as JSON were taken"),
        (state.filled, "empty lists in {} were refused ({}); keys of rows were taken"),
        (state.exemplary, "generated values of {} were refused ({}); the contract's examples were taken"),
        (state.unfilled, "records are made without {}, whose values no row tells ({})"),
        (state.copied, "generated values of {} were refused ({}); those of rows were taken"),
    ):
        if names:
            case.remark(what.format(", ".join(sorted(names)), said(refused)))


async def _mended(case: Case, refused: Exchange, record: dict[str, Any]) -> tuple[Exchange, Key, dict[str, Any]] | None:
    """The first row, once each field that a refusal blames, and then that of the create behind it, is written in
    another way or left out; None where no row was made so."""
    state, shown = case.state, {name for row in case.state.rows_before for name in row}
    optional, untold = _optional(case, shown), _untold(case)
    while blame := blamed(refused, record):
        mended = False
        for name in blame:
            field, value = case.fields.get(name), record[name]
            bounds = stated_bounds(refused, field) if field is not None else {}
            if field is not None and bounds and within(field, state.bounds.get(name, {})) != within(field, bounds):
                state.bounds[name] = {**state.bounds.get(name, {}), **bounds}
                state.usual.pop(name, None)
            elif name not in state.spaced and isinstance(value, str) and _MOMENT.fullmatch(value):
                state.spaced.add(name)
                state.usual.pop(name, None)
            elif name in untold and _NO_ROW.search(refused.answer.text):
                state.unfilled.add(name)
            elif (
                field is not None and field.is_text and name not in state.encoded and _WANTS_JSON.search(said(refused))
            ):
                state.encoded.add(name)
            elif field is not None and (form := _unused_form(case, field)):
                state.bounds[name] = {**state.bounds.get(name, {}), "pattern": form}
                state.usual.pop(name, None)
            elif field is not None and field.is_text and _is_worded(case, value) and state.joined.get(name) != "":
                # a hyphen in place of spaces first, then small letters and digits alone
                state.joined[name] = "-" if " " in value else ""
            elif field is not None and value == [] and (several := await one_of_many(case, field)):
                state.filled[name] = several
            elif field is not None and name not in state.exemplary and _has_example(case, field):
                state.exemplary.add(name)
            elif name in untold and name in shown:
                state.unfilled.add(name)
            elif name in optional:
                state.left_out.add(name)
            else:
                continue
            mended = True
        if not mended:  # values of rows last of all: a row of them alone bears nothing of the run's
            copied = (blame & shown) - state.copied
            state.copied |= copied
            if not copied:
                break
        record = await new_record(case)
        try:
            refused, key = await _tried(case, record, "a record with other values of fields that were refused")
        except Unsafe:  # texts as short as that bear no mark
            state.bounds.clear()
            break
        if key is not None:
            return refused, key, record
    state.usual.clear()
    for remedy in (
        state.spaced,
        state.filled,
        state.joined,
        state.encoded,
        state.exemplary,
        state.unfilled,
        state.left_out,
        state.copied,
    ):
        remedy.clear()
    return None


def _unused_form(case: Case, field: Field) -> str:
    """The form in which all rows have a text of no stated form, unless it is known already."""
    stated = {**field.keywords, **case.state.bounds.get(field.name, {})}
    if not field.is_text or case.resource.relation(field.name) or stated.keys() & {"pattern", "format", "enum"}:
        return ""
    return form_of(row.get(field.name) for row in case.state.rows_before)


def _has_example(case: Case, field: Field) -> bool:
    """Whether the contract has a valid example of a field, which need not be another in each row."""
    shown = example_of(field)
    return shown is not MISSING and not field.unique and case.world.valid(field, shown)


def _is_worded(case: Case, value: Any) -> bool:
    """Whether a value is a text that was made for this run, with signs between its words."""
    return isinstance(value, str) and case.world.mark in value and not value.isalnum()


def _optional(case: Case, shown: set[str]) -> set[str]:
    """Fields that a record need not have and no row shows."""
    return {each.name for each in case.resource.writable("create") if not each.required and each.name not in shown}
