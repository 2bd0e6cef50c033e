"""The stand-in's OpenAPI 3.1 description, generated from its tables: every answer it can give, and no other."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from checkpost.demo.spellings import SPELLINGS, USUAL, Spelling
from checkpost.demo.tables import Column, Table

Json = dict[str, Any]

LARGEST_BODY = 1_000_000

_REASONS = {
    400: "The request cannot be read.",
    401: "No credentials, or credentials that are not valid.",
    403: "The role may not do this.",
    404: "No row has this key.",
    409: "The change conflicts with other rows.",
    413: "The body is too large.",
    416: "The list has no such rows.",
    415: "The body's media type is not supported.",
    422: "A value breaks a rule of its field.",
}


def row_schema(table: Table) -> Json:
    """A row as answers show it: every visible field is always there."""
    return {
        "type": "object",
        "additionalProperties": False,
        "required": [column.name for column in table.visible],
        "properties": {column.name: column.schema() for column in table.visible},
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
    """The body of update: any of the fields but the key."""
    return {
        "type": "object",
        "additionalProperties": False,
        "properties": {
            column.name: _directed(column)
            for column in table.columns
            if column.name not in table.key or column.read_only
        },
    }


def _directed(column: Column) -> Json:
    schema = column.schema()
    if column.read_only:
        schema["readOnly"] = True
    if column.write_only:
        schema["writeOnly"] = True
    return schema


def _reference(name: str) -> Json:
    return {"$ref": f"#/components/schemas/{name}"}


def _problems(statuses: Iterable[int]) -> Json:
    answers: Json = {}
    for status in sorted(statuses):
        schema = "Violations" if status == 422 else "Problem"
        answers[str(status)] = {
            "description": _REASONS[status],
            "content": {"application/problem+json": {"schema": _reference(schema)}},
        }
        if status == 401:
            answers["401"]["headers"] = {"WWW-Authenticate": {"required": True, "schema": {"type": "string"}}}
    return answers


def _row(description: str, table: Table) -> Json:
    return {"description": description, "content": {"application/json": {"schema": _reference(table.title)}}}


def _body(schema: str, media_types: Sequence[str]) -> Json:
    return {"required": True, "content": {media_type: {"schema": _reference(schema)} for media_type in media_types}}


def _security(table: Table, action: str) -> list[Json]:
    if action == "read" and "public" in table.grants:
        return [{}, {"bearer": []}]
    return [{"bearer": []}]


def _collection(table: Table, spelling: Spelling) -> Json:
    refused = {401} | ({403} if action_may_be_refused(table, "read") else set())
    listing = {
        "operationId": f"list_{table.name}",
        "tags": [table.name],
        "summary": f"List {table.name}",
        "security": _security(table, "read"),
        "parameters": spelling.parameters(table),
        "responses": {**_pages(table, spelling), **_problems({400, *refused})},
    }
    created = _row("The row as it was stored.", table)
    created["headers"] = {"Location": {"required": True, "schema": {"type": "string", "format": "uri-reference"}}}
    create = {
        "operationId": f"create_{table.name}",
        "tags": [table.name],
        "summary": f"Create a row of {table.name}",
        "security": _security(table, "create"),
        "requestBody": _body(table.title + "New", ["application/json"]),
        "responses": {"201": created, **_problems({400, 401, 403, 409, 413, 415, 422})},
    }
    return {"get": listing, "post": create}


def _pages(table: Table, spelling: Spelling) -> Json:
    """What a list answers with: a page, or with ranges also a part or none of one (RFC 9110, 14)."""
    page: Json = {
        "description": "A page of rows, by key where no order is asked for.",
        "content": {"application/json": {"schema": _reference(table.title + "List")}},
    }
    if spelling.headers():
        page["headers"] = spelling.headers()
    if "Content-Range" not in spelling.headers():
        return {"200": page}
    return {"200": page, "206": {**page, "description": "A part of the rows."}, **_problems({416})}


def _aggregate(table: Table, spelling: Spelling) -> Json:
    refused = {401} | ({403} if action_may_be_refused(table, "read") else set())
    answer = {
        "description": "One result for each group.",
        "content": {"application/json": {"schema": spelling.aggregate_schema(table)}},
    }
    return {
        "get": {
            "operationId": f"aggregate_{table.name}",
            "tags": [table.name],
            "summary": f"Aggregates of {table.name}",
            "security": _security(table, "read"),
            "parameters": spelling.aggregate_parameters(table),
            "responses": {"200": answer, **_problems({400, *refused})},
        }
    }


def action_may_be_refused(table: Table, action: str) -> bool:
    """Whether some role with valid credentials is refused this action (403)."""
    staff = {"technician", "curator", "auditor"}
    if action == "read":
        return not staff <= set(table.grants)
    return True


def _item(table: Table) -> Json:
    refused = {401} | ({403} if action_may_be_refused(table, "read") else set())
    path: Json = {
        "parameters": [
            {"name": name, "in": "path", "required": True, "schema": _key_schema(table.column(name))}
            for name in table.key
        ],
        "get": {
            "operationId": f"read_{table.name}",
            "tags": [table.name],
            "summary": f"Read a row of {table.name}",
            "security": _security(table, "read"),
            "responses": {"200": _row("The row.", table), **_problems({400, 404, *refused})},
        },
    }
    if table.updatable:
        path["put"] = {
            "operationId": f"replace_{table.name}",
            "tags": [table.name],
            "summary": f"Replace a row of {table.name}; what is left out falls back to its default or null",
            "security": _security(table, "replace"),
            "requestBody": _body(table.title + "New", ["application/json"]),
            "responses": {
                "200": _row("The row as it is now.", table),
                **_problems({400, 401, 403, 404, 409, 413, 415, 422}),
            },
        }
        path["patch"] = {
            "operationId": f"update_{table.name}",
            "tags": [table.name],
            "summary": f"Change some fields of a row of {table.name}",
            "security": _security(table, "update"),
            "requestBody": _body(table.title + "Change", ["application/merge-patch+json", "application/json"]),
            "responses": {
                "200": _row("The row as it is now.", table),
                **_problems({400, 401, 403, 404, 409, 413, 415, 422}),
            },
        }
    path["delete"] = {
        "operationId": f"delete_{table.name}",
        "tags": [table.name],
        "summary": f"Delete a row of {table.name}",
        "security": _security(table, "delete"),
        "responses": {"204": {"description": "The row is gone."}, **_problems({400, 401, 403, 404, 409})},
    }
    return path


def _key_schema(column: Column) -> Json:
    schema = column.schema()
    return {key: schema[key] for key in ("type", "format", "pattern", "maxLength") if key in schema}


def _problem_schemas() -> Json:
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


def describe(tables: Sequence[Table], base_url: str, spelling: Spelling = SPELLINGS[USUAL]) -> Json:
    """The OpenAPI 3.1 document of the exposed tables, their lists queried in a spelling."""
    exposed = [table for table in tables if table.exposed]
    schemas = _problem_schemas()
    paths: Json = {}
    for table in exposed:
        schemas[table.title] = row_schema(table)
        schemas[table.title + "New"] = create_schema(table)
        schemas[table.title + "List"] = spelling.schema(table, _reference(table.title))
        paths[table.path] = _collection(table, spelling)
        if spelling.aggregates:
            paths[table.path + spelling.aggregates] = _aggregate(table, spelling)
        paths[table.path + "".join(f"/{{{name}}}" for name in table.key)] = _item(table)
        if table.updatable:
            schemas[table.title + "Change"] = patch_schema(table)
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Seed bank",
            "version": "1.0.0",
            "description": "Made-up data: species, accessions, vaults, germination tests, loans and collectors.",
        },
        "servers": [{"url": base_url, "description": "test instance on this machine"}],
        "paths": paths,
        "components": {"schemas": schemas, "securitySchemes": {"bearer": {"type": "http", "scheme": "bearer"}}},
    }
