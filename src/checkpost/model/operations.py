"""Which operation does what in the life of a row, and the schemas that it speaks in."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import cast

from checkpost.contract.contract import Operation, Parameter
from checkpost.contract.node import Node
from checkpost.model.field import Field
from checkpost.model.media import LINES, is_json_type, is_patch, record_media
from checkpost.model.paths import Family
from checkpost.model.purpose import Purpose
from checkpost.model.shape import NOTHING, shape_of

ByPath = Mapping[str, Mapping[str, Operation]]
#: Where each method of an item's path belongs.
_ITEM: tuple[tuple[Purpose, str], ...] = (
    ("read", "GET"),
    ("replace", "PUT"),
    ("update", "PATCH"),
    ("delete", "DELETE"),
)


def answer_schema(operation: Operation | None) -> Node | None:
    """The schema of what a successful answer holds, where it is JSON."""
    for response in operation.success() if operation else ():
        for media in response.content:
            if is_json_type(media.name) and media.schema is not None:
                return media.schema
    return None


def line_schema(operation: Operation | None) -> Node | None:
    """The schema of one line of a successful answer that is a sequence of JSON values, and nothing else."""
    content = [media for response in (operation.success() if operation else ()) for media in response.content]
    lines = [media for media in content if media.name in LINES]
    if not lines or any(is_json_type(media.name) for media in content):
        return None
    shape = shape_of(lines[0].schema)
    return lines[0].item or (shape.item if shape.is_array else lines[0].schema)


def body_schema(operation: Operation | None) -> Node | None:
    """The schema of a record in a request body, its wrapper included."""
    media = record_media(operation)
    return media.schema if media else None


def takes_patch(operation: Operation | None) -> bool:
    """Whether an operation takes a patch of operations (RFC 6902) and no record."""
    content = operation.body.content if operation is not None and operation.body is not None else ()
    return record_media(operation) is None and any(map(is_patch, content))


def takes_list(operation: Operation) -> bool:
    """Whether a body can only be a list of records."""
    shape = shape_of(body_schema(operation))
    return shape.is_array and not shape.is_object


def operations_of(family: Family, by_path: ByPath) -> dict[Purpose, Operation]:
    """The operations of a family by what they are for."""
    if family.acts:
        return {cast(Purpose, purpose): by_path[path][method] for purpose, (method, path) in family.acts.items()}
    collection = by_path.get(family.collection or "", {})
    item = by_path.get(family.item or "", {})
    found: dict[Purpose, Operation] = {}
    if "GET" in collection:
        found["list"] = collection["GET"]
    if "POST" in collection and not _adds_elsewhere(family, by_path):
        found["create"] = collection["POST"]
    for purpose, method in _ITEM:
        if method in item:
            found[purpose] = item[method]
    if "POST" in item and "update" not in found and body_schema(item["POST"]) is not None:
        found["update"] = item["POST"]
    if family.item is None and "GET" in collection:
        for purpose, method in _ITEM[1:]:
            if method in collection:
                found[purpose] = collection[method]
    return found


def _adds_elsewhere(family: Family, by_path: ByPath) -> bool:
    """Whether a POST on the collection takes lists alone, and so is for many rows, while something else makes one."""
    operation = by_path[family.collection or ""]["POST"]
    item = by_path.get(family.item or "", {})
    return takes_list(operation) and ("PUT" in item or "POST" in item)


def unanswerable(operation: Operation) -> bool:
    """Whether a list is asked by a body that needs more than numbers (of a page, and of rows on it): nothing tells
    which value."""
    shape = shape_of(body_schema(operation)) if operation.method != "GET" else NOTHING
    needed = [shape_of(shape.properties.get(name)) for name in shape.required]
    return any("default" not in each.keywords and not each.types & {"integer", "number"} for each in needed)


def asked_by_body(operation: Operation | None) -> tuple[Operation | None, frozenset[str]]:
    """A list that is asked by a request body, with the body's members as its parameters, and their names."""
    if operation is None or operation.method == "GET":
        return operation, frozenset()
    members = shape_of(body_schema(operation)).properties
    known = {each.name for each in operation.parameters}
    added = tuple(
        Parameter(name, "query", False, str(shape_of(node).keywords.get("description", "")), node, node.place)
        for name, node in members.items()
        if name not in known and not shape_of(node).is_object
    )
    asked = replace(operation, parameters=(*operation.parameters, *added))
    return asked, frozenset(each.name for each in added)


#: What an object is called that holds conditions on rows.
_CONDITIONS = re.compile(r"\b(?:filters?|where|conditions?|criteria)\b", re.I)


def asked_by_fields(operation: Operation | None, fields: Sequence[Field]) -> tuple[Operation | None, frozenset[str]]:
    """A list that is asked by an object of any members, which is called a filter: with each field that rows show as a
    parameter of its own; and their names."""
    body = body_schema(operation) if operation is not None and operation.method != "GET" else None
    shape = shape_of(body)
    said = f"{shape.keywords.get('title', '')} {shape.keywords.get('description', '')}"
    if operation is None or body is None or shape.properties or not shape.is_object or not _CONDITIONS.search(said):
        return operation, frozenset()
    known = {each.name for each in operation.parameters}
    shown = [each for each in fields if each.shown and each.type not in {"array", "object", ""}]
    added = tuple(
        Parameter(each.name, "query", False, "", each.node, body.place) for each in shown if each.name not in known
    )
    asked = replace(operation, parameters=(*operation.parameters, *added))
    return asked, frozenset(each.name for each in added)
