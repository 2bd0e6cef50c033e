"""Records that break exactly one rule of the contract."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from checkpost.contract.contract import Contract
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.contract.validators import Validators
from checkpost.model.field import MISSING, Field
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.values.plain import Values, as_number, limits

_NO_FIELD = "checkpost_unknown_field"


@dataclass(frozen=True)
class Break:
    """One rule broken: the field, the JSON Schema keyword, the value (MISSING: left out), where it says so.

    ``spelled`` says that the value is one of the right type in another's clothes, such as "12" for an integer: lenient
    APIs convert it.
    """

    field: str
    keyword: str
    value: Any
    place: Place
    rule: str
    spelled: bool = False

    @property
    def kind(self) -> str:
        """What is broken: the keyword, but for null, which is another matter than a value of another type."""
        return "null" if self.value is None else self.keyword

    def apply(self, record: Mapping[str, Any]) -> dict[str, Any]:
        broken = {name: value for name, value in record.items() if name != self.field}
        if self.value is not MISSING:
            broken[self.field] = self.value
        return broken


def breaks(
    resource: Resource,
    purpose: Purpose,
    record: Mapping[str, Any],
    schema: Node,
    contract: Contract,
    validators: Validators,
    values: Values,
) -> list[Break]:
    """Each rule of a body's (unwrapped) schema, broken once; ``record`` is a valid one to start from.

    Only what the contract's own validator refuses, for this one field alone, is kept.
    """
    found: dict[tuple[str, str, str], Break] = {}
    if not resource.layout.plain:
        record = {name: value for name, value in record.items() if name in shape_of(schema).properties}
    if links := resource.layout.hyperlinks:
        record = {name: "http://localhost/1" if name in links else value for name, value in record.items()}
    fields = [each for each in resource.fields if each.name in shape_of(schema).properties and not each.read_only]
    for field in fields:
        for value, keyword in _candidates(field, purpose, values):
            if isinstance(value, dict) and resource.relation(field.name) is not None:
                value = ["no reference"]  # of an object, a row of the other table might be made
            candidate = Break(field.name, keyword, value, schema.place, "")
            confirmed = _confirmed(candidate, record, schema, validators)
            if confirmed is not None:
                found.setdefault((field.name, confirmed.kind, ""), confirmed)
        key = resource.key_fields
        for value, spelled in _of_other_types(field):
            referred = record.get(field.name)
            if value == 1.7 and (field.name in key or resource.relation(field.name) is not None):
                if type(referred) is not int:
                    continue
                value = referred + 0.7  # cut off, it is what it was, and no other row's key
            if spelled and (resource.relation(field.name) is not None or field.name in key):
                if field.name in key or type(referred) is not int or value is True:
                    continue  # what it spells is the key of no row
                value = str(referred)
            candidate = Break(field.name, "type", value, schema.place, "", spelled)
            confirmed = _confirmed(candidate, record, schema, validators)
            if confirmed is not None:
                found.setdefault((field.name, "type", repr(value)), confirmed)
    if shape_of(schema).keywords.get("additionalProperties") is False:
        extra = Break(_NO_FIELD, "additionalProperties", "unknown", schema.place, "")
        confirmed = _confirmed(extra, record, schema, validators)
        if confirmed is not None:
            found[_NO_FIELD, "additionalProperties", ""] = confirmed
    return list(found.values())


#: Rules of a value that a body's schema may lack where the schema of rows has them.
_OF_VALUES = ("enum", "maxLength", "minLength", "pattern", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum")


def rules_of_rows_alone(resource: Resource, schema: Node | None) -> dict[str, list[str]]:
    """The rules (JSON Schema keywords) that the schema of rows has for a value, and a body's (unwrapped) has not, by
    field; none for keys and references."""
    if schema is None or not resource.layout.plain:
        return {}
    sent, rows = shape_of(schema).properties, shape_of(resource.row).properties
    left = {*resource.key_fields, *(each.field for each in resource.relations)}
    found = {}
    for name in [each.name for each in resource.fields if each.name in sent and each.name in rows]:
        known = shape_of(sent[name]).keywords
        words = [word for word in _OF_VALUES if word in shape_of(rows[name]).keywords and word not in known]
        if words and name not in left:
            found[name] = words
    return found


def ruled_where_shown(
    resource: Resource, record: Mapping[str, Any], schema: Node, validators: Validators, values: Values
) -> Iterator[Break]:
    """A value for each field of a record that a body's (unwrapped) schema allows, and the schema of rows rules out: an
    API that takes it shows what its contract says that it never does."""
    sent, rows = shape_of(schema).properties, shape_of(resource.row).properties
    for name, words in rules_of_rows_alone(resource, schema).items():
        field, rules = resource.field(name), shape_of(rows[name]).keywords
        if field is None or name not in record:
            continue
        stricter = replace(field, keywords=rules, nullable=True, required=False)
        for value, keyword in _candidates(stricter, "update", values):
            taken = keyword in words and validators.is_valid(sent[name], value, "request")
            if taken and not validators.is_valid(rows[name], value, "response"):
                yield Break(name, keyword, value, rows[name].place, json.dumps(rules[keyword])[:80])
                break


def _confirmed(candidate: Break, record: Mapping[str, Any], schema: Node, validators: Validators) -> Break | None:
    violations = list(validators.violations(schema, candidate.apply(record), "request"))
    about = {each.path[0] if each.path else candidate.field for each in violations}
    # of a field that may be null as well, no more is said than that none of its schemas fits
    chosen = next((each for each in violations if each.keyword in {candidate.keyword, "anyOf", "oneOf"}), None)
    if chosen is None or about != {candidate.field} or len(violations) > 2:
        return None
    said = chosen.message
    if not chosen.path and chosen.keyword in {"anyOf", "oneOf"}:
        # of a body that may be one of several things, the whole would be quoted
        said = f"{json.dumps(candidate.value, default=str)} fits {candidate.field} in none of the body's schemas"
    return replace(candidate, place=chosen.place, rule=said)


def _candidates(field: Field, purpose: Purpose, values: Values) -> Iterator[tuple[Any, str]]:
    words = field.keywords
    if field.required and purpose != "update":
        yield MISSING, "required"
    wrong = {
        "integer": "not a number",
        "number": "not a number",
        "boolean": "perhaps",
        "string": {"not": "text"},
        "array": "no list",
        "object": "no object",
    }
    if field.type in wrong:
        yield wrong[field.type], "type"
    if not field.nullable and field.types:
        yield None, "type"
    if "enum" in words:
        yield "no-such-choice" if field.type == "string" else 987654, "enum"
    if field.type == "string":
        yield from _broken_text(field, values)
    if field.type in {"integer", "number"}:
        least, most, step = limits(field)
        for limit, outwards, names in (
            (least, -step, ("minimum", "exclusiveMinimum")),
            (most, step, ("maximum", "exclusiveMaximum")),
        ):
            if limit is not None:
                value = as_number(field, limit + outwards)
                yield from ((value, name) for name in names if name in words)
        if "multipleOf" in words:
            middle = (least or 0) + step / 2 if least is None or least >= 0 else step / 2
            yield float(middle), "multipleOf"


#: Values that are not of a type though they look like it: whether they spell one that is.
_OTHERS: dict[str, tuple[tuple[Any, bool], ...]] = {
    "integer": ((1.7, False), ("", False), ("12", True), (True, True)),
    "number": (("", False), ("12.5", True), (True, True)),
    "boolean": (("", False), ("true", True), (1, True)),
    "string": ((12, True), (True, True)),
}


def _of_other_types(field: Field) -> Iterator[tuple[Any, bool]]:
    if field.types and field.types <= _OTHERS.keys():
        for kind in sorted(field.types):
            yield from _OTHERS[kind]


def _broken_text(field: Field, values: Values) -> Iterator[tuple[Any, str]]:
    words, limit = field.keywords, field.max_length
    if limit is not None and limit <= 100000:
        usual = values.plain(field)
        start = usual if isinstance(usual, str) else ""
        # no blank at its end: what an API cuts off would make it short enough
        yield (start + f"-{values.mark}" * (limit // 4 + 2))[:limit] + "x", "maxLength"
    least = int(words.get("minLength") or 0)
    if least > 0:
        yield "x" * (least - 1), "minLength"
    if "pattern" in words:
        usual = values.plain(field)
        text = usual if isinstance(usual, str) else "x"
        for candidate in ("!" + text[1:], text[:-1] + "!", text.swapcase(), "", "~~"):
            if limit is None or len(candidate) <= limit:
                yield candidate, "pattern"
    formats = {
        "date": "2023-02-30",
        "date-time": "2023-02-30T25:00:00Z",
        "time": "25:61:00Z",
        "uuid": "not-a-uuid",
        "email": "no at sign",
        "uri": "not a uri",
        "ipv4": "999.1.1.1",
    }
    if field.format in formats:
        yield formats[field.format], "format"
