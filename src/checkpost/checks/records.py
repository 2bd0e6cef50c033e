"""Valid records with new values, for rows that the run makes and changes."""

from __future__ import annotations

import itertools
import json
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from checkpost.checks.bounds import within
from checkpost.checks.parents import MOST_PARENTS, parents, reference, touches
from checkpost.checks.registry import Blocked, Skipped
from checkpost.model.field import MISSING, Field
from checkpost.model.media import is_form, is_json_type, request_media_type
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.oracle.same import same
from checkpost.rows.natural import Natural
from checkpost.values.coined import has_mark
from checkpost.values.plain import example_of
from checkpost.values.usual import joined, usual
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key

if TYPE_CHECKING:
    from checkpost.checks.case import Case

#: How often other values are tried where an API might take a record for a row of others; and how far above its numbers
#: those of the run begin and end, where there is no room between.
_TRIES, _FAR, _ROOM = 12, 50, 1_000
#: A moment as databases write it (ISO/IEC 9075-2, 5.3).
_AS_STORED = "2000-01-01 00:00:00"
#: The shortest text that is an object of JSON (RFC 8259).
_NO_MEMBERS = "{}"


def may_be_shown(case: Case, field: Field, value: Any) -> bool:
    """Whether the schema of rows allows a value too, where a change is tried with one that it does not
    (``update.as-shown``)."""
    node = shape_of(case.resource.row).properties.get(field.name)
    tried = case.has("update") or case.has("replace")
    return value is None or node is None or not tried or case.world.validators.is_valid(node, value, "response")


async def new_record(case: Case, purpose: Purpose = "create", full: bool = True) -> dict[str, Any]:
    """A valid record with new values: every field that may be set, or only the required ones.

    Raises Blocked where a required field can have no value.
    """
    chosen: dict[str, Any] = {}
    recipe = case.state.recipe
    full = full and not recipe.startswith("least")
    referring = recipe == "least, referring" and purpose != "update"
    wanted = "update" if purpose == "update" else ("replace" if purpose == "replace" else "create")
    key_fields = case.resource.key_fields
    chosen.update(await _related_key(case) if purpose == "create" else {})
    above = dict(zip(key_fields, case.world.within(case.resource), strict=False))
    chosen.update({name: value for name, value in above.items() if purpose == "create" and case.fields[name].created})
    for each in case.resource.writable(wanted):  # type: ignore[arg-type]
        required = each.required if purpose != "update" else False
        needed = required or (referring and case.resource.relation(each.name) is not None)
        if each.name in chosen or (not full and not needed and each.name not in key_fields):
            continue
        if each.name in case.state.withheld and not required:
            continue
        if each.name in key_fields and (purpose != "create" or not case.client_keys):
            continue
        value = await new_value(case, each)
        if value is MISSING and required:
            raise Blocked(f"no value for the required field {each.name} is known; the profile can give one")
        if value is not MISSING:
            chosen[each.name] = value
    if case.state.recipe.startswith("copy") or case.state.copied:
        chosen = _copied(case, chosen)
    chosen |= case.state.wanting if purpose == "create" else {}
    ledger = case.world.ledger
    if purpose == "create" and not full and ledger is not None and ledger.table(case.resource.name).keyless:
        chosen |= await telling_text(case, chosen)
    chosen = await _unlike_others(case, chosen) if purpose == "create" and not case.client_keys else chosen
    return {name: value for name, value in chosen.items() if sayable(case, purpose, value)}


def natural_rows(case: Case) -> Natural:
    """The rows of others in a table, by their values."""
    ledger = case.world.ledger
    return ledger.table(case.resource.name).natural if ledger is not None else Natural(())


async def _unlike_others(case: Case, record: dict[str, Any]) -> dict[str, Any]:
    """A record that is not taken for a row of others: with other values where it might be, or left out where they need
    not be."""
    for _ in range(_TRIES):
        same = natural_rows(case).taken_for(record)
        if not same:
            break
        for name in same:
            each = case.fields[name]
            value = await new_value(case, each, unlike=record[name])
            if value is not MISSING:
                record = {**record, name: value}
            elif not each.required:
                record = {other: kept for other, kept in record.items() if other != name}
    return record


async def telling_text(case: Case, record: Mapping[str, Any]) -> dict[str, Any]:
    """A text that bears the run's mark, for a record that bears none: by it a row is found whose key nobody
    tells."""
    mark = case.world.mark
    if any(has_mark(str(value), mark) for value in record.values()):
        return {}
    for each in case.resource.writable("create"):
        value = await new_value(case, each) if each.is_text and not case.resource.relation(each.name) else MISSING
        if isinstance(value, str) and has_mark(value, mark):
            return {each.name: value}
    return {}


def sayable(case: Case, purpose: Purpose, value: Any) -> bool:
    """Whether a body for a purpose can hold a value: a form has no null, and an empty text may stand for it."""
    operation = case.resource.operations.get(purpose)
    return operation is None or value not in (None, "") or not is_form(request_media_type(operation))


def is_allowed(case: Case, purpose: Purpose, exchange: Exchange) -> bool:
    """Whether the contract allows the body that was sent for a purpose, as far as it describes one: what its rules say
    of several fields at once is not always met by values that each may have."""
    schema, sent = case.resource.body_schema(purpose), exchange.request
    if case.resource.guessed or schema is None or not sent.body or not is_json_type(sent.media_type):
        return not case.resource.guessed
    try:
        body = json.loads(sent.body)
    except ValueError:
        return False
    return case.world.validators.is_valid(schema, body, "request")


async def replacement(case: Case, key: Key, full: bool = True) -> dict[str, Any]:
    """A valid body for a replace of the row with this key; a key that it carries is the row's own."""
    record = await new_record(case, "replace", full=full)
    names = case.resource.key_fields
    own = {name: value for name, value in zip(names, key, strict=True) if case.fields[name].replaced}
    return {**record, **own}


async def new_value(case: Case, each: Field, unlike: Any = MISSING) -> Any:
    """A new valid value for a field, different from ``unlike`` if its rules allow; MISSING if none is
    known."""
    fixed = {**case.state.flagged, **case.resource.values}
    if each.name in fixed:
        stated = fixed[each.name]
        return MISSING if unlike is not MISSING and same(each, unlike, stated) else stated
    relation = case.resource.relation(each.name)
    if relation is not None:
        return await reference(case, each, relation, unlike)
    if each.name in case.state.copied and not each.unique:
        values = [row.get(each.name) for row in case.state.rows_before]
        others = [value for value in values if value is not None and (unlike is MISSING or value != unlike)]
        if others:
            return others[case.values.number() % len(others)]
    if each.name in case.state.filled:
        return MISSING if unlike == case.state.filled[each.name] else list(case.state.filled[each.name])
    if each.name in case.state.encoded:
        return MISSING if unlike == _NO_MEMBERS else _NO_MEMBERS
    if each.name in case.state.exemplary and not each.unique:
        return example_of(each)
    joint = case.state.joined.get(each.name)
    each = joined(_usual(case, each), joint) if joint is not None else _usual(case, each)
    natural, drawn, met = natural_rows(case), each, MISSING
    for turn in range(_TRIES):
        if turn == _TRIES // 2:
            drawn = _above(natural, case.fields[each.name], each) or each
        value = case.values.plain(drawn)
        if natural.taken_for({each.name: value}):
            met = value
            continue
        if each.unique and isinstance(value, str | int) and not case.state.reserve(each, value):
            continue
        if unlike is MISSING or value is MISSING or not same(each, unlike, value):
            return value
    if met is not MISSING:
        return met  # no record is made with it: why, is told then
    if each.type == "boolean":
        return not unlike
    if each.type == "array":
        held = [row.get(each.name) for row in case.state.rows_before]
        texts = [value for value in held if value and all(isinstance(one, str) for one in value)]
        return next((value for value in texts if not same(each, unlike, value)), MISSING)
    return MISSING


def _above(natural: Natural, field: Field, like: Field) -> Field | None:
    """A field with numbers above those of others, and not the next ones, for where these leave no room, in such steps
    as ``like`` has; None where the contract has no room either."""
    largest = natural.largest(field.name)
    if largest is None or field.kind != "number":
        return None
    most = field.keywords.get("maximum", largest + _ROOM)
    low, high = largest + min(_FAR, max(1, (most - largest) // 2)), min(most, largest + _ROOM)
    tens = {name: value for name, value in like.keywords.items() if name == "multipleOf"}
    known = {**field.keywords, **tens, "minimum": low, "maximum": high}
    return replace(field, keywords=known) if low <= high else None


def _usual(case: Case, each: Field) -> Field:
    """A field with limits between the values that rows have."""
    if each.name not in case.state.usual:
        values = (row.get(each.name) for row in case.state.rows_before)
        known = usual(each, values, case.state.room)
        if each.name in case.state.spaced:
            known = replace(known, keywords={**known.keywords, "like": _AS_STORED})
        case.state.usual[each.name] = within(known, case.state.bounds.get(each.name, {}))
    return case.state.usual[each.name]


def written_alike(case: Case, each: Field) -> bool:
    """Whether all rows have a field in one format of which the contract says nothing, or in another type."""
    return _no_text(case, each) or _usual(case, each).format != each.format


def _no_text(case: Case, each: Field) -> bool:
    """Whether rows hold no texts where the contract has them."""
    values = [row.get(each.name) for row in case.state.rows_before]
    known = [value for value in values if value is not None]
    return each.is_text and bool(known) and not any(isinstance(value, str) for value in known)


async def _related_key(case: Case) -> dict[str, Any]:
    """For a table whose key is made of references: a combination that no row has."""
    key = case.resource.key
    if key is None or case.resource.under or not all(case.resource.relation(name) for name in key.fields):
        return {}
    relations = [relation for name in key.fields if (relation := case.resource.relation(name))]
    before: list[list[Any]] = []
    for turn in range(MOST_PARENTS):
        choices = [await parents(case, each, turn > 0 and each is relations[0]) for each in relations]
        if choices == before:
            break
        before = choices
        taken = set(case.state.before.by_key if case.state.before else ()) | case.state.used
        for combination in itertools.product(*choices):
            if combination not in taken:
                case.state.used.add(combination)
                return dict(zip(key.fields, combination, strict=True))
    raise Skipped("every combination of the rows it refers to is taken")


def _copied(case: Case, record: dict[str, Any]) -> dict[str, Any]:
    """The record with the values of a row that is there, where they need not be its own: of all fields, of all but
    free texts, or of those whose own values were refused."""
    rows = case.state.rows_before
    source = rows[case.values.number() % len(rows)] if rows else {}
    keys = case.resource.key_fields
    recipe, copied = case.state.recipe, case.state.copied
    keep = {
        each.name
        for each in case.resource.fields
        if each.unique
        or each.name in keys
        or each.name in case.resource.values
        or each.places
        or (recipe != "copy all" and _refers_to_own(case, each))
        or (recipe != "copy all" and each.name not in copied and (recipe != "copy" or _is_free(case, each)))
    }
    needed = {each.name for each in case.resource.writable("create") if each.required} | set(keys)
    # where that row has nothing, a record like it has nothing either
    empty = {name for name, value in source.items() if value is None and recipe.startswith("copy")} - needed
    own = {name: value for name, value in record.items() if name not in empty}
    natural = natural_rows(case)
    for turn in range(_TRIES):
        found = dict(own)
        for name in (each for each in own if each not in keep):
            source = rows[case.values.number() % len(rows)] if rows and turn else source
            # a value that no other row has may be what an API knows the row by
            if source.get(name) is not None and not natural.taken_for({name: source[name]}):
                found[name] = source[name]
        if not natural.taken_for(found):
            break
    return found


def _refers_to_own(case: Case, each: Field) -> bool:
    """Whether a field refers to rows of the run's own alone."""
    relation = case.resource.relation(each.name)
    return relation is not None and touches(case.world, case.resource.name, relation.resource)


def _is_free(case: Case, each: Field) -> bool:
    return each.is_text and not _no_text(case, each)
