"""An object in one query parameter, as JSON or spread: each of its members asks for something, as a parameter would."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from checkpost.contract.contract import Operation, Parameter
from checkpost.contract.node import Node
from checkpost.model.media import is_json_type
from checkpost.model.shape import alternatives, shape_of

#: What stands between the name of a parameter and that of a member of its value.
MEMBER = "#/"
#: What a member's name ends with that takes one item of an array at a time.
APPENDED = "/-"


#: Parameters whose object is one condition, unless its members say what else a list may be asked.
CONDITIONS = frozenset({"where", "filter", "filters", "condition", "conditions", "criteria", "predicate"})
_PAGING = frozenset({"limit", "offset", "skip", "take", "first", "page", "size", "cursor", "after"})
#: Parameters whose object says which part of a list is wanted.
_PAGED = frozenset({"page", "paging", "pagination"})
_ARGUMENTS = _PAGING | {"where", "filter", "order", "orderby", "sort", "fields", "select", "include"}

#: Members that only words name, and that are understood without a schema: what the others take is not known.
_UNDERSTOOD = frozenset({"limit", "offset", "skip", "take", "page", "size", "where", "order", "orderby", "sort"})
_LISTED = re.compile(r"(?:\w+\s*,\s*){2,}(?:and\s+|or\s+)?\w+")


def with_members(operation: Operation) -> Operation:
    """An operation whose parameters that hold an object with described members (OpenAPI 3.1, 4.8.12: ``content``) are
    taken apart: each member is a parameter named ``PARAMETER#/MEMBER``, and ``PARAMETER#/MEMBER/-`` where it is an
    array (RFC 6901, 4: what stands behind its last item). The members of an object that is spread (OpenAPI 3.1, 4.8.12:
    ``form`` and ``explode``) are parameters of their own names; an object inside one is written in brackets; of one
    that is named for conditions JSON under its own name is another way."""
    parameters = tuple(each for parameter in operation.parameters for each in _taken_apart(parameter))
    return replace(operation, parameters=parameters) if len(parameters) != len(operation.parameters) else operation


def _taken_apart(parameter: Parameter) -> Iterator[Parameter]:
    shape = shape_of(parameter.schema)
    members = shape.properties
    spread = parameter.style in {"", "form"} and parameter.explode and not parameter.media_type
    paging = parameter.style == "deepObject" and parameter.name.lower() in _PAGED
    if parameter.location == "query" and (spread or paging) and members and not shape.is_array:
        for name, node in members.items():
            yield replace(
                parameter,
                name=f"{parameter.name}[{name}]" if paging else name,
                required=parameter.required and name in shape.required,
                description=str(node.raw("description", "")),
                schema=node,
                style="deepObject" if shape_of(node).properties else "",
                examples=(),
            )
        if spread and parameter.name.lower().lstrip("$_") in CONDITIONS:
            # generators that do not say how it is written mean JSON
            yield replace(parameter, media_type="application/json")
        return
    told = [] if members else _told(parameter)
    if told:
        for name in told:
            # what is said of them all, so that none is taken for a text
            kind = "application/json" if name.lower() in CONDITIONS else ""
            yield replace(
                parameter,
                name=f"{parameter.name}{MEMBER}{name}",
                schema=None,
                description="",
                media_type=kind,
                examples=(),
            )
        return
    conditions = parameter.name.lower().lstrip("$_") in CONDITIONS and not _ARGUMENTS & {
        name.lower().lstrip("$_") for name in members
    }
    if parameter.location != "query" or not is_json_type(parameter.media_type) or len(members) < 2 or conditions:
        yield parameter
        return
    for name, node in members.items():
        schema = _as_array(node)
        object_inside = bool(shape_of(schema).is_object)
        yield replace(
            parameter,
            name=f"{parameter.name}{MEMBER}{name}{APPENDED if shape_of(schema).is_array else ''}",
            required=False,
            description=str(node.raw("description", "")),
            schema=schema,
            media_type="application/json" if object_inside else "",
            examples=(),
        )


def _told(parameter: Parameter) -> list[str]:
    """The members of an object that words describe: "defining where, order, offset and limit, as JSON"."""
    shape = shape_of(parameter.schema)
    said = "\n".join(map(str, (parameter.description, shape.keywords.get("description", ""), *parameter.examples)))
    is_text = shape.types <= {"string", "object"}
    if parameter.location != "query" or not is_text or not re.search(r"\bJSON\b", said, re.I):
        return []
    named = {word for run in _LISTED.findall(said) for word in re.findall(r"\w+", run)} | set(
        re.findall(r"\"(\w+)\"\s*:", said.replace('\\"', '"'))
    )
    known = sorted(word for word in named if word.lower() in _ARGUMENTS)
    return [word for word in known if word.lower() in _UNDERSTOOD] if len(known) > 2 else []


def _as_array(node: Node) -> Node:
    """The schema of a member; of several that it may have, the array."""
    return next((each for each in alternatives(node) if shape_of(each).is_array), node)


def put_together(pairs: Sequence[tuple[str, Any]]) -> list[tuple[str, Any]]:
    """Query parameters as they are sent: members of one object in one value, as JSON."""
    plain: list[tuple[str, Any]] = []
    objects: dict[str, dict[str, Any]] = {}
    for name, value in pairs:
        parameter, apart, member = name.partition(MEMBER)
        if not apart:
            plain.append((name, value))
            continue
        known = objects.setdefault(parameter, {})
        if member.endswith(APPENDED):
            known.setdefault(member.removesuffix(APPENDED), []).append(_as_json(value))
        else:
            put_inside(known, member, _as_json(value))
    return plain + [(name, json.dumps(value, ensure_ascii=False)) for name, value in objects.items()]


def put_inside(known: dict[str, Any], path: str, value: Any) -> None:
    """Put a value into an object; a path with slashes leads to a member of the objects in it."""
    *above, last = path.split("/")
    for name in above:
        known = known.setdefault(name, {})
    known[last] = value


def asked_for(name: str, pairs: Sequence[tuple[str, str]]) -> bool:
    """Whether a query, as it was sent, has a parameter, or the member of an object in one."""
    parameter, _, member = name.partition(MEMBER)
    member = member.removesuffix(APPENDED)
    values = [value for key, value in pairs if key == parameter]
    if not member:
        return bool(values)
    known = [_as_json(value) for value in values]
    return any(isinstance(each, dict) and member in each for each in known)


def _as_json(value: Any) -> Any:
    """A value inside an object: an expression that is JSON itself as what it says."""
    if isinstance(value, str) and value[:1] in {"{", "["}:
        try:
            return json.loads(value)
        except ValueError:
            return value
    return value
