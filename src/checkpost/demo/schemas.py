"""The JSON Schemas of the stand-in's rows, records and answers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from checkpost.demo.relations import Related, expandable, to_many, to_one
from checkpost.demo.spellings import Spelling
from checkpost.demo.tables import Column, Table

Json = dict[str, Any]


def row_schema(table: Table, tables: Sequence[Table] = (), spelling: Spelling | None = None) -> Json:
    """A row as answers show it: every field that is not hidden from some is always there, what is expanded only
    on request."""
    hidden = {name for names in table.hides.values() for name in names}
    names = [column.name for column in table.visible if column.name not in hidden]
    properties: Json = {column.name: column.schema() for column in table.visible}
    for name, related in expandable(table, tables).items():
        inside = reference_to(related.table.title)
        properties[name] = {"type": "array", "items": inside} if related.many else {"oneOf": [inside, {"type": "null"}]}
    if spelling is not None and spelling.links:
        names.append("_links")
        properties["_links"] = _links_schema(table, tables)
    return {"type": "object", "additionalProperties": False, "required": names, "properties": properties}


def _links_schema(table: Table, tables: Sequence[Table]) -> Json:
    """Where the row is, and what it refers to."""
    link: Json = {
        "type": "object",
        "additionalProperties": False,
        "required": ["href"],
        "properties": {"href": {"type": "string", "format": "uri-reference"}},
    }
    targets = [related.name for related in to_one(table, tables)]
    return {
        "type": "object",
        "additionalProperties": False,
        "required": ["self", *targets],
        "properties": {"self": link, **{name: {"oneOf": [link, {"type": "null"}]} for name in targets}},
    }


def create_schema(table: Table) -> Json:
    """The body of create and replace; fields that the server sets are allowed and ignored."""
    return {
        "type": "object",
        "additionalProperties": False,
        "required": [column.name for column in table.columns if column.required],
        "properties": {column.name: _directed(column) for column in table.columns},
    }


def patch_schema(table: Table) -> Json:
    """The body of update: any of the fields but the key, and the version that the row is to have."""
    properties = {
        column.name: _directed(column) for column in table.columns if column.name not in table.key or column.read_only
    }
    if table.version:
        said = "Counts the changes of the row. Where it is sent, an update of a row with another version is refused."
        properties[table.version] = {"type": "integer", "description": said}
    return {"type": "object", "additionalProperties": False, "properties": properties}


def child_schema(table: Table, column: str) -> Json:
    """The body that creates a row under the one that its column refers to: without that column."""
    schema = create_schema(table)
    return {
        **schema,
        "required": [name for name in schema["required"] if name != column],
        "properties": {name: each for name, each in schema["properties"].items() if name != column},
    }


def child_title(table: Table, related: Related) -> str:
    return f"{related.table.title}Of{table.title}"


def nested_schema(table: Table, tables: Sequence[Table]) -> Json:
    """The body of create where rows of other tables can come along."""
    schema = create_schema(table)
    inside = {
        related.name: {"type": "array", "maxItems": 20, "items": reference_to(child_title(table, related))}
        for related in to_many(table, tables)
        if related.name in table.nested
    }
    return {**schema, "properties": {**schema["properties"], **inside}}


def _directed(column: Column) -> Json:
    schema = column.schema()
    if column.read_only:
        schema["readOnly"] = True
    if column.write_only:
        schema["writeOnly"] = True
    return schema


def item_schema(table: Table) -> Json:
    """One row of a bulk update: its key and its changes."""
    schema = patch_schema(table)
    keys = {name: key_schema(table.column(name)) for name in table.key}
    return {**schema, "required": list(table.key), "properties": {**schema["properties"], **keys}}


def operation_results(table: Table) -> Json:
    """A result for each item of a request."""
    each = {
        "type": "object",
        "additionalProperties": False,
        "required": ["index", "status"],
        "properties": {
            "index": {"type": "integer", "minimum": 0, "description": "The item's place in the request."},
            "status": {"type": "integer", "description": "What it would have been answered alone."},
            "row": reference_to(table.title),
            "error": {"type": "string"},
        },
    }
    results = {"type": "array", "items": each}
    return {
        "type": "object",
        "additionalProperties": False,
        "required": ["results"],
        "properties": {"results": results},
    }


def key_schema(column: Column) -> Json:
    schema = column.schema()
    return {key: schema[key] for key in ("type", "format", "pattern", "maxLength") if key in schema}


def problem_schemas() -> Json:
    members: Json = {
        "type": {"type": "string", "format": "uri-reference"},
        "title": {"type": "string"},
        "status": {"type": "integer", "minimum": 400, "maximum": 499},
        "detail": {"type": "string"},
    }
    violation = {
        "type": "object",
        "additionalProperties": False,
        "required": ["field", "rule", "detail"],
        "properties": {name: {"type": "string"} for name in ("field", "rule", "detail")},
    }
    return {
        "Problem": {"type": "object", "additionalProperties": False, "required": list(members), "properties": members},
        "Violations": {
            "type": "object",
            "additionalProperties": False,
            "required": [*members, "errors"],
            "properties": {**members, "errors": {"type": "array", "minItems": 1, "items": violation}},
        },
    }


def reference_to(name: str) -> Json:
    return {"$ref": f"#/components/schemas/{name}"}
