"""The stand-in's OpenAPI 3.1 description, generated from its tables: every answer it can give, and no other."""

from __future__ import annotations

from collections.abc import Sequence

from checkpost.demo.bulkpaths import BULK_PATHS, at_once, by_filter, many_of
from checkpost.demo.pieces import (
    TAG,
    created_answer,
    header_parameter,
    if_match,
    key_parameter,
    problems,
    request_body,
    row_answer,
    security_of,
)
from checkpost.demo.relations import Related, depths, is_junction, to_many
from checkpost.demo.schemas import (
    Json,
    child_schema,
    child_title,
    create_schema,
    item_schema,
    nested_schema,
    patch_schema,
    problem_schemas,
    reference_to,
    row_schema,
)
from checkpost.demo.signin import sign_in_paths
from checkpost.demo.spellings import SPELLINGS, USUAL, Spelling
from checkpost.demo.tables import Table


def _expansion(table: Table, tables: Sequence[Table], spelling: Spelling) -> list[Json]:
    names = depths(table, tables)
    if not names:
        return []
    schema = {"type": "array", "items": {"type": "string", "enum": names}}
    said = "What to show inside each row: what it refers to, or the rows that belong to it."
    where = {"name": spelling.expansion, "in": "query", "style": "form", "explode": False}
    return [{**where, "description": said, "schema": schema}]


def _collection(table: Table, tables: Sequence[Table], spelling: Spelling) -> Json:
    refused = {401, 403}
    listing = {
        "operationId": f"list_{table.name}",
        "tags": [table.name],
        "summary": f"List {table.name}",
        "security": security_of(table, "read"),
        "parameters": [*spelling.parameters(table), *_expansion(table, tables, spelling)],
        "responses": {**_pages(table, spelling), **problems({400, *refused})},
    }
    created = created_answer(table, tables)
    body = request_body(table.title + "New", ["application/json"])
    if spelling.bulk == "same path":
        one, rows = reference_to(table.title + "New"), many_of(table.title + "New")
        body["content"]["application/json"]["schema"] = {"oneOf": [one, rows]}
        stored = {"oneOf": [reference_to(table.title), {"type": "array", "items": reference_to(table.title)}]}
        created["content"]["application/json"]["schema"] = stored
        created["description"] = (
            "The row as it was stored; of an array all rows in its order, or none if one is refused."
        )
        for header in created["headers"].values():
            header["required"] = False
    create = {
        "operationId": f"create_{table.name}",
        "tags": [table.name],
        "summary": f"Create a row of {table.name}",
        "security": security_of(table, "create"),
        "parameters": [
            header_parameter("Idempotency-Key", "A create that is sent again with the same key is done once.")
        ],
        "requestBody": body,
        "responses": {"201": created, **problems({400, 401, 403, 409, 413, 415, 422})},
    }
    return {"get": listing, "post": create, **(by_filter(table, spelling) if spelling.bulk == "same path" else {})}


def _children(table: Table, related: Related, spelling: Spelling, tables: Sequence[Table]) -> Json:
    """The rows of another table that belong to one of this."""
    own = [key_parameter(table, name) for name in table.key]
    refused = {401, 403}
    both = {"public" in table.grants, "public" in related.table.grants} == {True}
    found: Json = {
        "parameters": own,
        "get": {
            "operationId": f"list_{related.name}_of_{table.name}",
            "tags": [table.name],
            "summary": f"List {related.name} of a row of {table.name}",
            "security": [{}, {"bearer": []}] if both else [{"bearer": []}],
            "parameters": [*spelling.parameters(related.table), *_expansion(related.table, tables, spelling)],
            "responses": {**_pages(related.table, spelling), **problems({400, 404, *refused})},
        },
    }
    if related.junction is None:
        found["post"] = {
            "operationId": f"create_{related.name}_of_{table.name}",
            "tags": [table.name],
            "summary": f"Create a row of {related.name} under a row of {table.name}",
            "security": [{"bearer": []}],
            "requestBody": request_body(child_title(table, related), ["application/json"]),
            "responses": {
                "201": created_answer(related.table, tables),
                **problems({400, 401, 403, 404, 409, 413, 415, 422}),
            },
        }
    return found


def _link(table: Table, related: Related) -> Json:
    """Bringing a row together with one of another table."""
    far = key_parameter(related.table, related.table.key[0])
    own = [key_parameter(table, name) for name in table.key]
    found: Json = {"parameters": [*own, {**far, "name": related.far}]}
    for method, word, says in (("put", "link", "They belong together"), ("delete", "unlink", "They do not any more")):
        found[method] = {
            "operationId": f"{word}_{table.name}_{related.name}",
            "tags": [table.name],
            "summary": f"{word.capitalize()} a row of {table.name} and one of {related.name}",
            "security": [{"bearer": []}],
            "responses": {"204": {"description": f"{says}."}, **problems({400, 401, 403, 404})},
        }
    return found


def _pages(table: Table, spelling: Spelling) -> Json:
    """What a list answers with: a page, or with ranges also a part or none of one (RFC 9110, 14)."""
    page: Json = {
        "description": "A page of rows, by key where no order is asked for.",
        "content": {"application/json": {"schema": reference_to(table.title + "List")}},
    }
    if spelling.headers():
        page["headers"] = spelling.headers()
    if "Content-Range" not in spelling.headers():
        return {"200": page}
    return {"200": page, "206": {**page, "description": "A part of the rows."}, **problems({416})}


def _aggregate(table: Table, spelling: Spelling) -> Json:
    refused = {401, 403}
    answer = {
        "description": "One result for each group.",
        "content": {"application/json": {"schema": spelling.aggregate_schema(table)}},
    }
    return {
        "get": {
            "operationId": f"aggregate_{table.name}",
            "tags": [table.name],
            "summary": f"Aggregates of {table.name}",
            "security": security_of(table, "read"),
            "parameters": spelling.aggregate_parameters(table),
            "responses": {"200": answer, **problems({400, *refused})},
        }
    }


def _item(table: Table, tables: Sequence[Table], spelling: Spelling) -> Json:
    refused = {401, 403}
    path: Json = {
        "parameters": [key_parameter(table, name) for name in table.key],
        "get": {
            "operationId": f"read_{table.name}",
            "tags": [table.name],
            "summary": f"Read a row of {table.name}",
            "security": security_of(table, "read"),
            "parameters": [
                *_expansion(table, tables, spelling),
                header_parameter(
                    "If-None-Match", "The tag of the row that is known; a row that has it still is answered 304."
                ),
            ],
            "responses": {
                "200": _read_row(table, tables),
                "304": {"description": "The row is still the same.", "headers": dict(TAG)},
                **problems({400, 404, *refused}),
            },
        },
    }
    if table.updatable:
        path["put"] = {
            "operationId": f"replace_{table.name}",
            "tags": [table.name],
            "summary": f"Replace a row of {table.name}; what is left out falls back to its default or null",
            "security": security_of(table, "replace"),
            "parameters": [if_match()],
            "requestBody": request_body(table.title + ("Full" if table.nested else "New"), ["application/json"]),
            "responses": {
                "200": row_answer("The row as it is now.", table, tables),
                **problems({400, 401, 403, 404, 409, 412, 413, 415, 422}),
            },
        }
        path["patch"] = {
            "operationId": f"update_{table.name}",
            "tags": [table.name],
            "summary": f"Change some fields of a row of {table.name}",
            "security": security_of(table, "update"),
            "parameters": [if_match()],
            "requestBody": request_body(table.title + "Change", ["application/merge-patch+json", "application/json"]),
            "responses": {
                "200": row_answer("The row as it is now.", table, tables),
                **problems({400, 401, 403, 404, 409, 412, 413, 415, 422}),
            },
        }
    path["delete"] = {
        "operationId": f"delete_{table.name}",
        "tags": [table.name],
        "summary": f"Delete a row of {table.name}",
        "security": security_of(table, "delete"),
        "parameters": [if_match()],
        "responses": {"204": {"description": "The row is gone."}, **problems({400, 401, 403, 404, 409, 412})},
    }
    return path


def _read_row(table: Table, tables: Sequence[Table]) -> Json:
    """The answer to a read: what shows more than the row has no tag."""
    answer = row_answer("The row.", table, tables)
    answer["headers"]["ETag"]["required"] = False
    return answer


def describe(tables: Sequence[Table], base_url: str, spelling: Spelling = SPELLINGS[USUAL]) -> Json:
    """The OpenAPI 3.1 document of the exposed tables, their lists queried in a spelling."""
    exposed = [table for table in tables if table.exposed]
    schemas = problem_schemas()
    paths: Json = {}
    for table in exposed:
        item = table.path + "".join(f"/{{{name}}}" for name in table.key)
        schemas[table.title] = row_schema(table, tables, spelling)
        schemas[table.title + "New"] = nested_schema(table, tables)
        schemas[table.title + "List"] = spelling.schema(table, reference_to(table.title))
        paths[table.path] = _collection(table, tables, spelling)
        if spelling.aggregates:
            paths[table.path + spelling.aggregates] = _aggregate(table, spelling)
        if spelling.bulk in BULK_PATHS:
            paths[table.path + BULK_PATHS[spelling.bulk]] = at_once(table, spelling)
        paths[item] = _item(table, tables, spelling)
        if table.nested:
            schemas[table.title + "Full"] = create_schema(table)
        if table.updatable:
            schemas[table.title + "Change"] = patch_schema(table)
            schemas[table.title + "Item"] = item_schema(table)
        for related in to_many(table, tables) if not is_junction(table) else ():
            under = f"{item}/{related.name.replace('_', '-')}"
            paths[under] = _children(table, related, spelling, tables)
            if related.junction is not None:
                paths[f"{under}/{{{related.far}}}"] = _link(table, related)
            else:
                schemas[child_title(table, related)] = child_schema(related.table, related.column)
    paths |= sign_in_paths()
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
