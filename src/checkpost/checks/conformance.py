"""Every answer against the contract: is it documented, and is it what the contract says it is?"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from checkpost.contract.contract import Header, Operation, Response
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.contract.validators import Validators, Violation
from checkpost.findings import FAILED, Basis, Finding, Severity
from checkpost.model.field import UNDESCRIBED
from checkpost.model.media import LINES, is_json_type
from checkpost.model.preference import SHOW_THE_ROW, preferences
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.wire.exchange import Answer, Exchange, texts_in
from checkpost.wire.listing import Row

#: The checks that every answer goes through, with what each asks.
CONFORMANCE = {
    "shape.answer": "Does the API answer at all, in time and whole?",
    "shape.status": "Is the status one that the contract documents?",
    "shape.media-type": "Is the media type one that the contract documents?",
    "shape.headers": "Are the documented headers there, and valid?",
    "shape.body": "Is the body what its schema says?",
    "shape.fields": "Do rows hold documented fields only?",
    "errors.server-error": "Does the API never fail with a 5xx?",
    "errors.status": "Do refusals have a status of their own?",
    "errors.documented": "Are refusals documented?",
    "errors.body": "Are bodies and headers of refusals what the contract says?",
    "errors.load": "Does the API answer several requests at once as it does one at a time?",
    "errors.leak": "Do errors keep stack traces and statements to themselves?",
}

#: What tells of failures that come of many requests alone.
LOAD = "errors.load"

_LEAKS = (
    (
        "a stack trace",
        re.compile(
            r"Traceback \(most recent call last\)|^\s+at [\w$.<>]+\(.*\)\s*$|\bat [\w$.]+\([\w$]+\.java:\d+\)"
            r"|goroutine \d+ \[|\.(?:py|js|ts|php|rb|cs|go)\"?,? ?(?:line |:)\d+|\bSystem\.\w+Exception\b",
            re.M,
        ),
    ),
    (
        "an SQL statement",
        re.compile(
            r"\bSELECT\b.{1,300}\bFROM\b|\bINSERT\s+INTO\b|\bUPDATE\b.{1,100}\bSET\b.{1,100}="
            r"|\bDELETE\s+FROM\b",
            re.S,
        ),
    ),
    (
        "a database's own message",
        re.compile(
            r"SQLSTATE\[|\bORA-\d{5}\b|constraint failed: \w+\.\w+"
            r"|violates (?:unique|foreign key|not-null|check) constraint"
            r"|syntax error at or near",
            re.I,
        ),
    ),
)


#: What an API does that does not answer.
_FAILED = {
    "unreachable": "The API takes no connections any more",
    "closed": "The connection is closed without an answer",
    "dropped": "The connection is closed without an answer",
    "timeout": "No whole answer comes in time",
    "truncated": "The answer ends before its body does",
    "not-http": "The answer is not HTTP",
}


@dataclass(frozen=True)
class Observation:
    """An answer to a documented operation, and the situation in which it was asked for, in words."""

    resource: str
    operation: Operation
    exchange: Exchange
    situation: str
    #: Whether its rows need not hold every field.
    reshaped: bool = False
    #: Whether the run has sent a value for a field that breaks its rules: that it is shown as it was taken is no fault
    #: of the answer.
    broken: Callable[[str, Any], bool] = lambda name, value: False
    #: Whether rows were asked for inside its rows.
    expanded: bool = False

    def finding(
        self,
        check: str,
        severity: Severity,
        basis: Basis,
        title: str,
        expected: str,
        observed: str,
        cause: str,
        place: Place | None = None,
    ) -> Finding:
        whole_run = cause.startswith("all:")
        return Finding(
            check=check,
            family=check.partition(".")[0],
            resource=None if whole_run else self.resource,
            role=self.exchange.request.role,
            severity=severity,
            basis=basis,
            title=title,
            expected=expected,
            observed=observed,
            cause=cause,
            operations=((self.operation.method, self.operation.path),),
            place=place,
            subjects=(self.situation,) if self.situation else (),
            exchanges=(self.exchange.number,),
            source=self.exchange.check,
        )


def shown(value: Any, most: int = 120) -> str:
    """A value as text short enough for a sentence."""
    if isinstance(value, str) and len(value) > most // 3:
        return f'{json.dumps(value[: most // 3], ensure_ascii=False)[:-1]}…" ({len(value)} characters)'
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= most else text[: most - 1] + "…"


def conform(observation: Observation, validators: Validators) -> Iterator[Finding]:
    """The departures of one answer from the contract."""
    operation, answer = observation.operation, observation.exchange.answer
    if answer.failure:
        yield observation.finding(
            "shape.answer",
            "error",
            "standard",
            _FAILED.get(answer.failure, "No whole answer"),
            "an HTTP answer (RFC 9112)",
            answer.detail,
            f"failure {answer.failure} at {operation}",
        )
        return
    if answer.status >= 400:
        yield from _leaks(observation)
    documented = operation.response(answer.status)
    if answer.status >= 500:
        yield observation.finding(
            "errors.server-error",
            "error",
            "contract" if documented is None else "expectation",
            f"A request fails with {answer.status}" + (f": {_said(answer)[:70]}" if _in_words(answer) else ""),
            "an answer that is no server error",
            f"{answer.status} {_said(answer) or _excerpt(answer)}",
            f"{FAILED}{_in_words(answer)} at {operation}",
            operation.place,
        )
        return
    if answer.on_the_wire is not None:
        if answer.refused:
            yield observation.finding(
                "errors.status",
                "warning",
                "standard",
                f"Refusals are answered {answer.on_the_wire}, and only their bodies say so",
                "a status of the class 4xx (RFC 9110, 15.5)",
                f"{answer.on_the_wire} with {_excerpt(answer)}",
                "everywhere:coded",
                operation.place,
            )
        # the contract speaks of what is on the wire
        observation = replace(observation, exchange=replace(observation.exchange, answer=answer.as_sent()))
        documented = operation.response(answer.on_the_wire)
    if documented is None:
        yield _undocumented(observation)
        return
    yield from _media_and_body(observation, documented, validators)
    yield from _headers(observation, documented, validators)


#: Members of rows that are links or notes of the format, and no fields.
_NO_FIELD = re.compile(r"^[@$_]|^(?:links|meta|relationships|type|href|self)$")
_SECRET = re.compile(r"pass(?:word|wd|_?hash)|secret|token|salt|api_?key|ssn|pin_?hash", re.I)


def _says_nothing(documented: Response | None) -> bool:
    """Whether the contract leaves open what an answer holds."""
    schemas = [media.schema for media in documented.content] if documented is not None else []
    return bool(schemas) and all(not shape_of(each).keywords and not shape_of(each).types for each in schemas)


def undocumented_fields(observation: Observation, resource: Resource, rows: Sequence[Row]) -> Iterator[Finding]:
    """Fields of rows that the contract does not name, where it says nothing of further ones. Of an answer that it does
    not describe, those alone that look like secrets."""
    if not resource.fields_unstated:
        return
    silent = _says_nothing(observation.operation.response(observation.exchange.answer.status))
    known = {each.name for each in resource.fields if UNDESCRIBED not in each.keywords}
    known |= {each.name for each in (*resource.embedded, *resource.nested)}
    names = {
        name
        for row in rows
        for name, value in row.items()
        if name not in known and not _NO_FIELD.search(name) and not observation.broken(name, value)
    }
    for name in sorted(names):
        leaks = bool(_SECRET.search(name))
        if silent and not leaks:
            continue
        yield replace(
            observation.finding(
                "shape.fields",
                "error" if leaks else "warning",
                "expectation",
                "Rows hold a field that looks like a secret" if leaks else "Rows hold fields that are not documented",
                "the fields that the contract names",
                f"also {name}",
                "secret fields" if leaks else "further fields",
                observation.operation.place,
            ),
            subjects=(name,),
        )


def rows_as_told(
    observation: Observation, told: Node, rows: Sequence[Row], validators: Validators
) -> Iterator[Finding]:
    """The departures of rows from the schema that the API itself gives for them, where the contract has none."""
    reported: set[tuple[Place, str]] = set()
    for row in rows:
        for violation in validators.violations(told, row, "response"):
            lacking = violation.keyword == "required" and observation.reshaped
            lacking = lacking or observation.broken(violation.field_name, violation.value)
            if not lacking and (violation.place, violation.field_name) not in reported:
                reported.add((violation.place, violation.field_name))
                found = _body_finding(observation, violation, validators)
                yield replace(
                    found, basis="expectation", place=None, expected=f"{found.expected}, as the API describes it"
                )


def _excerpt(answer: Answer) -> str:
    text = " ".join(answer.text.split())
    if text[:100].lower().startswith(("<!doctype html", "<html")):
        text = " ".join(re.sub(r"<(script|style|title)\b.*?</\1>|<[^>]*>", " ", text, flags=re.S | re.I).split())
    return text if len(text) <= 160 else text[:159] + "…"


#: Members of errors that say what went wrong.
_SAYS = re.compile(r"message|msg|detail|error|title|description|reason|cause", re.I)
#: What stands in such a sentence for a name or a value, and words that say no more than that it is an error.
_OF = re.compile(r"\"[^\"]*\"|'[^']*'|`[^`]*`|\([^()]*\)|\b\w*\d\w*\b|\w+(?:[./_]\w+)+")
_STATEMENT = re.compile(r"^(?:select|insert|update|delete)\b.* - (?=\w)", re.I)
_EMPTY = frozenset(
    re.findall(r"\w+", "an the internal server error errors unexpected unknown exception occurred something went wrong")
)


def _in_words(answer: Answer) -> str:
    """What an error says, behind a colon: without the names and values that it says it of, and nothing where it says no
    more than that it is one."""
    words = re.findall(r"[A-Za-z][A-Za-z-]+", _OF.sub(" ", _said(answer)))[:20]
    return ": " + " ".join(words) if {word.lower() for word in words} - _EMPTY else ""


def _said(answer: Answer) -> str:
    """The longest sentence of an error; of one with a statement before it, what stands behind that."""
    is_json, body = answer.parsed
    texts = list(_sayings(body)) if is_json else ([] if "<" in answer.text[:200] else [answer.text])
    said = " ".join(max(texts, key=len, default="").split())
    return _STATEMENT.sub("", said)[:300]


def _sayings(value: Any, named: bool = False) -> Iterator[str]:
    if isinstance(value, dict):
        for key, each in value.items():
            yield from _sayings(each, bool(_SAYS.search(key)))
    elif isinstance(value, list):
        for each in value:
            yield from _sayings(each, named)
    elif isinstance(value, str) and named:
        yield value


def _undocumented(observation: Observation) -> Finding:
    operation, status = observation.operation, observation.exchange.answer.status
    known = ", ".join(response.status for response in operation.responses) or "none"
    if 400 <= status < 500:
        return observation.finding(
            "errors.documented",
            "warning",
            "contract",
            f"The refusal {status} is not documented",
            f"a status of those documented ({known})",
            f"{status}",
            f"all:undocumented {status}",
            operation.place,
        )
    return observation.finding(
        "shape.status",
        "error",
        "contract",
        f"The status {status} is not documented",
        f"a status of those documented ({known})",
        f"{status}",
        f"everywhere:undocumented {status}",
        operation.place,
    )


def _check_of(answer: Answer, check: str) -> str:
    return check if answer.status < 400 else "errors.body"


def _media_and_body(observation: Observation, documented: Response, validators: Validators) -> Iterator[Finding]:
    operation, answer = observation.operation, observation.exchange.answer
    if not documented.content or observation.exchange.request.method == "HEAD":
        if answer.status == 204 and answer.body:
            yield observation.finding(
                "shape.body",
                "error",
                "standard",
                "A 204 answer has a body",
                "no body (RFC 9110, 15.3.5)",
                _excerpt(answer),
                f"body with 204 at {operation}",
                documented.place,
            )
        return
    names = [media.name for media in documented.content]
    asked = observation.exchange.request.headers.get("Prefer", "")
    if not answer.body and answer.ok and SHOW_THE_ROW not in asked and preferences(operation):
        return  # it is shown to those alone who prefer it
    if not answer.body:
        yield observation.finding(
            _check_of(answer, "shape.body"),
            "error",
            "contract",
            f"The documented body of {answer.status} is missing",
            f"a body of type {' or '.join(names)}",
            "no body",
            _cause(answer, f"no body {answer.status}", operation),
            documented.place,
        )
        return
    media = next((each for each in documented.content if _covers(each.name, answer.media_type)), None)
    if media is None:
        yield observation.finding(
            _check_of(answer, "shape.media-type"),
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
                yield _body_finding(observation, broken, validators)
                return
    if not is_json_type(media.name):
        return
    is_json, body = answer.parsed
    if not is_json:
        yield observation.finding(
            _check_of(answer, "shape.body"),
            "error",
            "standard",
            "The body is not JSON",
            "JSON (RFC 8259)",
            _excerpt(answer),
            _cause(answer, "no JSON", operation),
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
    if media.schema is None or (answer.ok and observation.exchange.check.endswith(".rules")):
        return  # that a broken record is shown as it was taken is no fault of the answer
    bodies = [body]
    wrapped = _wrapped(media.schema, body) if answer.ok else None
    if wrapped is not None:
        member, bodies = wrapped
        what = "list" if shape_of(media.schema).is_array else "record"
        yield observation.finding(
            "shape.body",
            "error",
            "contract",
            "Rows come inside an object that the contract does not describe",
            f"the {what} that the schema describes",
            f"an object of {', '.join(list(body)[:8])}, with the {what} in {member}",
            f"everywhere:{what} wrapped",
            media.place,
        )
    reported: set[tuple[Place, str]] = set()
    for violation in (each for one in bodies for each in validators.violations(media.schema, one, "response")):
        if _excused(observation, violation):
            continue
        if (violation.place, violation.field_name) not in reported:
            reported.add((violation.place, violation.field_name))
            yield _body_finding(observation, violation, validators)


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
    empty = [] if shape.is_array else None
    return next(((name, []) for name, value in body.items() if value == empty and name in _WRAPPERS), None)


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


def _cause(answer: Answer, kind: str, operation: Operation) -> str:
    """Refusals come from one place in an API, so what is wrong with them is one cause for a resource."""
    return kind if answer.status >= 400 else f"{kind} at {operation}"


def _covers(documented: str, media_type: str) -> bool:
    kind, _, rest = documented.partition("/")
    return documented in {media_type, "*/*"} or (rest == "*" and media_type.startswith(kind + "/"))


#: Keywords that rule null out where a schema does not name it.
_NO_NULL = frozenset({"type", "oneOf", "anyOf", "enum", "const"})


def _body_finding(observation: Observation, violation: Violation, validators: Validators) -> Finding:
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
    elif violation.keyword == "format" and answer.ok:
        name = rule.partition(": ")[2].strip('"')
        everywhere = "warning", f"Values are not in their documented format {name}", f"format {name}"
    if everywhere is not None:
        severity, title, what = everywhere
        observed, cause = f"{where} = {shown(violation.value)}", f"everywhere:{what}"
        found = observation.finding("shape.body", severity, "contract", title, rule, observed, cause, violation.place)
        return replace(found, subjects=(where.removeprefix("*/"),))
    return observation.finding(
        _check_of(answer, "shape.body"),
        "error",
        "contract",
        "The body of refusals is not the documented one"
        if answer.status >= 400
        else titles.get(violation.keyword, f"A value breaks its schema: {where}"),
        expected.get(violation.keyword, rule),
        violation.message if len(violation.message) <= 200 else violation.message[:199] + "…",
        _body_cause(answer, violation, rule, where if inner is not stated else ""),
        violation.place,
    )


def _body_cause(answer: Answer, violation: Violation, rule: str, inside: str) -> str:
    """``inside`` is where in the answer the rule of one of several schemas is broken."""
    if answer.status >= 400:
        return "body"
    if violation.keyword == "type" and violation.field_name:
        # a number in quotes, or without: what writes a field does it wherever the field is shown
        return f"everywhere:{violation.field_name} {rule} {type(violation.value).__name__}"
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


def _headers(observation: Observation, documented: Response, validators: Validators) -> Iterator[Finding]:
    answer, operation = observation.exchange.answer, observation.operation
    for header in documented.headers:
        value = answer.header(header.name)
        if value is None and header.required:
            yield observation.finding(
                _check_of(answer, "shape.headers"),
                "error",
                "contract",
                f"The documented header {header.name} is missing",
                f"{header.name} with {answer.status}",
                "no such header",
                _cause(answer, f"no header {header.name}", operation),
                header.place,
            )
        elif value is not None and header.schema is not None and not _header_valid(header, value, validators):
            yield observation.finding(
                _check_of(answer, "shape.headers"),
                "error",
                "contract",
                f"The header {header.name} is not as documented",
                f"a value that fits {shown(header.schema.value)}",
                shown(value),
                _cause(answer, f"header {header.name}", operation),
                header.place,
            )


def _header_valid(header: Header, value: str, validators: Validators) -> bool:
    assert header.schema is not None
    types = shape_of(header.schema).types
    readings: list[Any] = [value]
    try:
        if types & {"integer", "number"}:
            readings.append(float(value) if "." in value else int(value))
    except ValueError:
        return False
    if "boolean" in types and value in {"true", "false"}:
        readings.append(value == "true")
    if types & {"array", "object"}:
        return True
    return any(validators.is_valid(header.schema, reading, "response") for reading in readings)


def _leaks(observation: Observation) -> Iterator[Finding]:
    answer = observation.exchange.answer
    # an answer may quote what was sent; only what the API adds itself is a leak
    sent = set(texts_in(observation.exchange.request.json))
    is_json, body = answer.parsed
    said = "\n".join(text for text in texts_in(body) if text not in sent) if is_json else answer.text
    for what, pattern in _LEAKS:
        match = pattern.search(said)
        if match:
            yield observation.finding(
                "errors.leak",
                "error",
                "expectation",
                f"An error shows {what}",
                "an error that keeps the API's inside to itself",
                shown(match.group()[:160], 180),
                f"everywhere:leak {what}",
                observation.operation.place,
            )
            return
