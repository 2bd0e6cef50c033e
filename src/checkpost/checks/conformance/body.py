"""The body of an answer against its media type and schema."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import replace
from typing import Any

from checkpost.checks.conformance.observation import Observation, cause_of, check_of, excerpt
from checkpost.checks.shown import shown
from checkpost.contract.contract import BODILESS, Response
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.contract.validators import Validators, Violation
from checkpost.findings import Finding, Severity
from checkpost.model.media import LINES, is_json_type
from checkpost.model.preference import SHOW_THE_ROW, preferences
from checkpost.model.shape import shape_of
from checkpost.wire.exchange import Answer


def media_and_body(observation: Observation, documented: Response, validators: Validators) -> Iterator[Finding]:
    operation, answer = observation.operation, observation.exchange.answer
    if not documented.content or observation.exchange.request.method == "HEAD":
        if answer.status == 204 and answer.body:
            yield observation.finding(
                "shape.body",
                "error",
                "standard",
                "A 204 answer has a body",
                "no body (RFC 9110, 15.3.5)",
                excerpt(answer),
                f"body with 204 at {operation}",
                documented.place,
            )
        return
    names = [media.name for media in documented.content]
    asked = observation.exchange.request.headers.get("Prefer", "")
    if not answer.body and answer.ok and SHOW_THE_ROW not in asked and preferences(operation):
        return  # it is shown to those alone who prefer it
    if not answer.body and str(answer.status) in BODILESS:
        return  # whatever the contract says, HTTP allows it none
    if not answer.body:
        yield observation.finding(
            check_of(answer, "shape.body"),
            "error",
            "contract",
            f"The documented body of {answer.status} is missing",
            f"a body of type {' or '.join(names)}",
            "no body",
            cause_of(answer, f"no body {answer.status}", operation),
            documented.place,
        )
        return
    media = next((each for each in documented.content if _covers(each.name, answer.media_type)), None)
    if media is None:
        yield observation.finding(
            check_of(answer, "shape.media-type"),
            "error",
            "contract",
            "The media type is not the documented one",
            " or ".join(names),
            f"{answer.media_type or 'no Content-Type'} with {answer.status}",
            # what writes answers does it for all of them
            f"everywhere:media type {answer.media_type}",
            documented.place,
        )
        if not is_json_type(answer.media_type) and not answer.parsed[0]:
            return
        media = documented.content[0]
    if media.name in LINES and media.item is not None and answer.parsed[0]:
        for line in answer.json:
            broken = next(iter(validators.violations(media.item, line, "response")), None)
            if broken is not None:
                yield body_finding(observation, broken, validators)
                return
    if not is_json_type(media.name):
        return
    is_json, body = answer.parsed
    if not is_json:
        yield observation.finding(
            check_of(answer, "shape.body"),
            "error",
            "standard",
            "The body is not JSON",
            "JSON (RFC 8259)",
            excerpt(answer),
            cause_of(answer, "no JSON", operation),
            media.place,
        )
        return
    if answer.no_numbers:
        yield observation.finding(
            "shape.body",
            "error",
            "standard",
            "The body is not JSON: it holds NaN or Infinity",
            "JSON, whose numbers are finite (RFC 8259, 6)",
            ", ".join(answer.no_numbers),
            "everywhere:no numbers",
            media.place,
        )
        return
    if media.schema is None or (answer.ok and observation.exchange.check.endswith(_BREAKING)):
        return  # that a broken record or parameter is shown as it was taken is no fault of the answer
    bodies = [body]
    wrapped = _wrapped(media.schema, body) if answer.ok else None
    array = _list_of_records(media.schema, body) if answer.ok and wrapped is None else ""
    if array:
        yield observation.finding(
            "shape.body",
            "error",
            "contract",
            "A list is answered where the contract describes one record",
            "an object, as the schema describes it",
            array,
            "everywhere:list for a record",
            media.place,
        )
        return
    if wrapped is not None:
        member, bodies = wrapped
        listed = shape_of(media.schema).is_array
        # where a key that cannot be one is answered with the list, that is told (read.malformed-key)
        if listed or len(bodies) < 2:
            what = "list" if listed else "record"
            yield observation.finding(
                "shape.body",
                "error",
                "contract",
                "Rows come inside an object that the contract does not describe",
                f"the {what} that the schema describes",
                f"an object of {', '.join(list(body)[:8])}, with the {what} in {member}",
                "everywhere:wrapped",
                media.place,
            )
    reported: set[tuple[Place, str]] = set()
    for violation in (each for one in bodies for each in validators.violations(media.schema, one, "response")):
        if _excused(observation, violation):
            continue
        if (violation.place, violation.field_name) not in reported:
            reported.add((violation.place, violation.field_name))
            yield body_finding(observation, violation, validators)


#: Members that hold the record in a wrapper, also where there is none to show.
_WRAPPERS = frozenset({"data", "value", "result", "results", "items", "record", "row", "rows", "item", "content"})


def _wrapped(schema: Node, body: Any) -> tuple[str, list[Any]] | None:
    """Where an answer is an object with what is documented in one of its members, a record or a list of them: that
    member, and what is to be held against the schema."""
    shape = shape_of(schema)
    if not isinstance(body, dict) or shape.properties.keys() & body.keys():
        return None
    row = shape_of(shape.item) if shape.is_array else shape
    names = row.required or row.properties.keys()
    for name, value in body.items():
        rows = value if isinstance(value, list) else [value]
        shown = isinstance(value, list) or (isinstance(value, dict) and not shape.is_array)
        if names and value and shown and all(_is_like(each, names) for each in rows):
            return name, [value] if shape.is_array else rows
    empty: Any = [] if shape.is_array else None
    return next(((name, []) for name, value in body.items() if value == empty and name in _WRAPPERS), None)


def _list_of_records(schema: Node, body: Any) -> str:
    """What an answer is that lists where one record is described: an array, or an object of no member that the schema
    has, with one for rows; "" where it is something else."""
    shape = shape_of(schema)
    if not shape.properties or shape.is_array or not shape.is_object:
        return ""
    if isinstance(body, list) and all(isinstance(each, dict) for each in body):
        return "an array"
    if not isinstance(body, dict) or shape.properties.keys() & body.keys():
        return ""
    rows = next((name for name, value in body.items() if isinstance(value, list) and name in _LISTS), "")
    return f"an object of {', '.join(list(body)[:8])}, with a list in {rows}" if rows else ""


#: Members that hold a list, whatever is in it.
_LISTS = frozenset({"data", "results", "items", "rows", "records", "content"})


def _is_like(value: Any, names: Collection[str]) -> bool:
    """Whether a value has half of some members at least."""
    return isinstance(value, dict) and 2 * len(value.keys() & names) >= len(names)


def _excused(observation: Observation, violation: Violation) -> bool:
    """Whether a rule is broken by what was asked for, and not by the answer: fewer fields, or a broken value. Where
    none of several schemas fits, one that would fit otherwise is enough."""
    if violation.alternatives:
        return any(all(_excused(observation, each) for each in branch) for branch in violation.alternatives)
    if observation.reshaped and violation.keyword in {"required", "additionalProperties", "unevaluatedProperties"}:
        return True
    return observation.exchange.answer.ok and observation.broken(violation.field_name, violation.value)


def _covers(documented: str, media_type: str) -> bool:
    kind, _, rest = documented.partition("/")
    return documented in {media_type, "*/*"} or (rest == "*" and media_type.startswith(kind + "/"))


#: How checks are called that send what breaks the contract.
_BREAKING = (".rules", ".as-shown", ".bad-parameter", ".odd-sizes")
#: How values are called by their types (JSON Schema core, 4.2.1).
_TYPES = {bool: "boolean", int: "integer", float: "number", str: "string", list: "array", type(None): "null"}
#: Keywords that rule null out where a schema does not name it.
_NO_NULL = frozenset({"type", "oneOf", "anyOf", "enum", "const"})


def body_finding(observation: Observation, violation: Violation, validators: Validators) -> Finding:
    answer = observation.exchange.answer
    stated, inner = violation, _only_one(violation, observation)
    rule = f"{violation.keyword}: {shown(validators.rule(violation.place))}"
    if inner is not stated:
        # as the message ends: is not of type "null", is not a "date"
        violation, rule = inner, f"{inner.keyword}: {re.split(' of type | is not an? ', inner.message)[-1]}"
    if violation.keyword == "falseSchema":
        ruled_out = f"{'/'.join(map(str, violation.path))}: {shown(violation.value)}"
        violation = replace(violation, keyword="additionalProperties", message=ruled_out)
    where = "/".join("*" if isinstance(part, int) else part for part in violation.path) or "the body"
    expected = {
        "writeOnly": "an answer without it (JSON Schema validation, 9.4)",
        "additionalProperties": "only the fields that its schema has",
    }
    titles = {
        "writeOnly": f"The write-only field {where} is shown",
        "additionalProperties": "An answer holds a field that its schema rules out",
        "required": "A required field is missing from an answer",
    }
    # what a generator does not know of null, or of a format, it does not know for any field
    everywhere: tuple[Severity, str, str] | None = None
    if violation.value is None and violation.keyword in _NO_NULL and answer.ok and where != "the body":
        everywhere = "error", "A value is null where the contract allows no null", "null"
    elif violation.keyword == "type" and where == "the body" and answer.ok and _says_type_alone(violation, validators):
        # written for every operation by what does not know what they answer
        title = f"Bodies are not what the contract says of all alike: {violation.message.rpartition('of type ')[2]}"
        everywhere = "error", title, f"body {rule}"
    elif violation.keyword == "type" and isinstance(violation.value, dict) and observation.expanded and answer.ok:
        everywhere = "warning", "Rows that are asked for inside others are not described", "expanded"
    elif violation.keyword == "type" and answer.ok and where != "the body":
        wanted = " or ".join(sorted(set(re.findall(r"[a-z]+", rule.partition(": ")[2])) - {"null"}))
        got = _TYPES.get(type(violation.value), "object")
        everywhere = "error", f"A value is {_one(got)} where the contract has {_one(wanted)}", f"{got} for {wanted}"
    elif violation.keyword == "format" and answer.ok:
        name = rule.partition(": ")[2].strip('"')
        everywhere = "warning", f"Values are not in their documented format {name}", f"format {name}"
    if everywhere is not None:
        severity, title, what = everywhere
        observed, cause = f"{where} = {shown(violation.value)}", f"everywhere:{what}"
        found = observation.finding("shape.body", severity, "contract", title, rule, observed, cause, violation.place)
        return replace(found, subjects=(where.removeprefix("*/"),))
    return observation.finding(
        check_of(answer, "shape.body"),
        "error",
        "contract",
        "The body of refusals is not the documented one"
        if answer.status >= 400
        else titles.get(violation.keyword, f"A value breaks its schema: {where}"),
        expected.get(violation.keyword, rule),
        _shortened(violation.message),
        _body_cause(answer, violation, rule, where if inner is not stated else ""),
        violation.place,
    )


def _one(kind: str) -> str:
    return f"{'an' if kind[:1] in set('aeiou') else 'a'} {kind}"


def _shortened(message: str, most: int = 200) -> str:
    """What a violation says, the value cut that it begins with, so that what is wrong with it stays."""
    value, between, wrong = message.rpartition(" is not ")
    if len(message) <= most or not between:
        return message if len(message) <= most else message[: most - 1] + "…"
    return f"{value[: max(40, most - len(between + wrong) - 1)]}…{between}{wrong}"


def _body_cause(answer: Answer, violation: Violation, rule: str, inside: str) -> str:
    """``inside`` is where in the answer the rule of one of several schemas is broken."""
    if answer.status >= 400:
        return "body"
    if violation.keyword == "type" and violation.field_name:
        # a number in quotes, or without: what writes a field does it wherever the field is shown
        return f"everywhere:{violation.field_name} {rule} {type(violation.value).__name__}"
    if violation.keyword == "required":
        return f"required {violation.message}"  # by whichever operation rows are shown
    if inside:
        return f"everywhere:{violation.keyword} {inside.replace('*/', '')}"
    return f"{violation.place.location.rpartition('/')[2]}#{violation.place.pointer}"


def _says_type_alone(violation: Violation, validators: Validators) -> bool:
    """Whether the schema of a broken rule says nothing of a value but its type."""
    schema = validators.rule(replace(violation.place, pointer=violation.place.pointer.rpartition("/")[0]))
    return isinstance(schema, dict) and schema.keys() <= {"type", "title", "description", "nullable"}


def _only_one(violation: Violation, observation: Observation) -> Violation:
    """Of a value that fits none of several schemas, what is wrong, where that is all that one of them lacks (one type
    inside it, or the formats of its texts, of which JSON Schema leaves open whether they are asserted), or where only
    one of them is for values of its type."""
    single = [branch[0] for branch in violation.alternatives if len(branch) == 1]
    inside = [each for each in single if each.keyword == "type" and len(each.path) > len(violation.path)]
    if len(inside) == 1 and inside[0].value is not None:
        return inside[0]
    for branch in violation.alternatives:
        found = [_only_one(each, observation) for each in branch]
        if found and all(each.keyword == "format" for each in found):
            return found[0]
    if len(violation.alternatives) == 1:
        left = [each for each in violation.alternatives[0] if not _excused(observation, each)]
        return _only_one(left[0], observation) if left else violation
    # a list fits none of the schemas of objects: what is wrong is what the one of lists says
    meant = [
        [each for each in branch if not _excused(observation, each)]
        for branch in violation.alternatives
        if branch and not any(each.keyword == "type" and each.path == violation.path for each in branch)
    ]
    return _only_one(meant[0][0], observation) if len(meant) == 1 and meant[0] else violation
