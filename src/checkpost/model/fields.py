"""The fields of a resource, from what its rows show and what its request bodies may set."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

from checkpost.contract.node import Node
from checkpost.contract.pointer import tokens
from checkpost.model.field import Field, Reason
from checkpost.model.shape import Shape, shape_of

#: That a field is unique, and not that it holds "the unique identifier of" something.
_UNIQUE = re.compile(
    r"\b(?:is|are|be|has to be|must be)\s+(?:globally\s+)?unique\b"
    r"|^\W*unique\b(?!\s+(?:id|identifier|key|number|name)\b)"
    r"|[.;(]\s*unique\b(?!\s+(?:id|identifier|key)\b)|\bunique\s+(?:constraint|index)\b|\balternate key\b",
    re.I,
)
_NOT_UNIQUE = re.compile(r"\b(?:not|need not be|isn't|aren't|non)[\s-]+(?:\w+\s+)?unique\b", re.I)

#: Names of keys that no record chooses where rows call them read-only; a code may as well be the record's own.
_KEYS = frozenset({"id", "pk", "key", "uuid", "guid", "oid"})


def inside(schema: Node | None, pointer: str) -> Node | None:
    """The schema of what a JSON Pointer leads to in bodies of a schema; arrays are gone through."""
    for name in tokens(pointer):
        shape = shape_of(schema)
        if name not in shape.properties:
            return None
        schema = shape.properties[name]
    shape = shape_of(schema)
    return shape.item if shape.is_array and not shape.properties and shape.item is not None else schema


def _unique(keywords: dict[str, object], stated: bool) -> Reason | None:
    if stated:
        return Reason("the profile says so", "stated")
    if keywords.get("x-unique") is True:
        return Reason("the contract marks it x-unique", "stated")
    said = str(keywords.get("description", ""))
    if _UNIQUE.search(said) and not _NOT_UNIQUE.search(said):
        return Reason("its description calls it unique", "likely")
    return None


def field_of(name: str, node: Node) -> Field:
    """A field of a request body by its schema alone."""
    shape = shape_of(node)
    return Field(
        name=name,
        keywords=shape.keywords,
        types=shape.types or (frozenset({"object"}) if shape.properties else frozenset()),
        nullable=shape.nullable,
        required=False,
        read_only=shape.keywords.get("readOnly") is True,
        write_only=False,
        shown=False,
        created=True,
        updated=True,
        replaced=True,
        unique=False,
        node=node,
    )


def fields_of(
    shapes: Mapping[str, Shape], unique: Collection[str], read_only: Collection[str] = ()
) -> tuple[Field, ...]:
    """The fields in the order in which the row, then the bodies, name them.

    ``shapes`` holds those of a row, and of the unwrapped records of create, replace and update where there are such
    operations; ``unique`` and ``read_only`` name fields that the profile calls so.
    """
    names = list(dict.fromkeys(name for shape in shapes.values() for name in shape.properties))
    required = shapes["create"].required if "create" in shapes else frozenset()
    fields = []
    for name in names:
        nodes = {place: shape.properties[name] for place, shape in shapes.items() if name in shape.properties}
        # what may be sent is ruled by the body's schema, what is only shown by the row's
        node = next(nodes[place] for place in ("create", "replace", "update", "row") if place in nodes)
        shape = shape_of(node)
        shown = shape_of(nodes["row"]) if "row" in nodes else None
        keywords = {**(shown.keywords if shown else {}), **shape.keywords}
        if shown and "description" in shown.keywords and not _UNIQUE.search(str(keywords["description"])):
            keywords["description"] = shown.keywords["description"]
        shut = {place for place, node in nodes.items() if shape_of(node).keywords.get("readOnly") is True}
        if "create" in nodes.keys() - shut and name.strip("_").lower() not in _KEYS:
            # a record says itself what it may hold (OpenAPI 3.0, 4.7.24: readOnly); a version goes with changes alone
            keywords.pop("readOnly", None)
        server_sets = keywords.get("readOnly") is True or name in read_only
        sent = () if server_sets else nodes.keys() - shut
        write_only = shape.keywords.get("writeOnly") is True
        unique_reason = _unique(keywords, name in unique)
        fields.append(
            Field(
                name=name,
                keywords=keywords,
                types=shape.types or (shown.types if shown else frozenset()),
                nullable=shape.nullable,
                required=name in required and "create" in sent,
                read_only=server_sets,
                write_only=write_only,
                shown="row" in nodes and not write_only,
                created="create" in sent,
                updated="update" in sent,
                replaced="replace" in sent,
                unique=unique_reason is not None,
                node=node,
                unique_reason=unique_reason,
            )
        )
    return tuple(fields)
