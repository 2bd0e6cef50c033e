"""The stand-in's OpenAPI 3.1 description, generated from its tables: every answer it can give, and no other."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from checkpost.demo.relations import Related, depths, expandable, is_junction, to_many, to_one
from checkpost.demo.spellings import SPELLINGS, USUAL, Spelling
from checkpost.demo.tables import Column, Table

Json = dict[str, Any]

LARGEST_BODY = 1_000_000
#: How many rows one request may write, and where it is sent, by the shape that a spelling has for it.
MOST_AT_ONCE = 1000
BULK_PATHS = {"array": "/bulk", "wrapped": "/batch", "lines": "/import"}

_REASONS = {
    400: "The request cannot be read.",
    401: "No credentials, or credentials that are not valid.",
    403: "The role may not do this.",
    404: "No row has this key.",
    409: "The change conflicts with other rows.",
    412: "The row was changed meanwhile, and no longer has the tag that If-Match names.",
    413: "The body is too large.",
    416: "The list has no such rows.",
    415: "The body's media type is not supported.",
    422: "A value breaks a rule of its field.",
}


def row_schema(table: Table, tables: Sequence[Table] = (), spelling: Spelling | None = None) -> Json:
    """A row as answers show it: every field that is not hidden from some is always there, what is expanded only
    on request."""
    hidden = {name for names in table.hides.values() for name in names}
    names = [column.name for column in table.visible if column.name not in hidden]
    properties: Json = {column.name: column.schema() for column in table.visible}
    for name, related in expandable(table, tables).items():
        inside = _reference(related.table.title)
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


def _child_title(table: Table, related: Related) -> str:
    return f"{related.table.title}Of{table.title}"


def _nested_schema(table: Table, tables: Sequence[Table]) -> Json:
    """The body of create where rows of other tables can come along."""
    schema = create_schema(table)
    inside = {
        related.name: {"type": "array", "maxItems": 20, "items": _reference(_child_title(table, related))}
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


_TAG = {"ETag": {"required": True, "schema": {"type": "string"}, "description": "The tag of the row as it is."}}


def _row(description: str, table: Table, tables: Sequence[Table] = ()) -> Json:
    """An answer with one row, its tag, and where what belongs to it is (OpenAPI 3.1, 4.8.20)."""
    answer: Json = {
        "description": description,
        "headers": {name: dict(header) for name, header in _TAG.items()},
        "content": {"application/json": {"schema": _reference(table.title)}},
    }
    links: Json = {}
    if not is_junction(table):
        own = f"$response.body#/{table.key[0]}"
        for related in to_one(table, tables):
            value = f"$response.body#/{related.column}"
            links[related.name] = {
                "operationId": f"read_{related.table.name}",
                "parameters": {related.table.key[0]: value},
            }
        for related in to_many(table, tables):
            operation = f"list_{related.name}_of_{table.name}"
            links[related.name] = {"operationId": operation, "parameters": {table.key[0]: own}}
    if links:
        answer["links"] = links
    return answer


def _header(name: str, description: str) -> Json:
    return {"name": name, "in": "header", "description": description, "schema": {"type": "string", "minLength": 1}}


def _if_match() -> Json:
    return _header("If-Match", "The tag that the row is to have still; another one is answered 412.")


def _body(schema: str, media_types: Sequence[str]) -> Json:
    return {"required": True, "content": {media_type: {"schema": _reference(schema)} for media_type in media_types}}


def _security(table: Table, action: str) -> list[Json]:
    if action == "read" and "public" in table.grants:
        return [{}, {"bearer": []}]
    return [{"bearer": []}]


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
        "security": _security(table, "read"),
        "parameters": [*spelling.parameters(table), *_expansion(table, tables, spelling)],
        "responses": {**_pages(table, spelling), **_problems({400, *refused})},
    }
    created = _created(table, tables)
    body = _body(table.title + "New", ["application/json"])
    if spelling.bulk == "same path":
        one, rows = _reference(table.title + "New"), _many(table.title + "New")
        body["content"]["application/json"]["schema"] = {"oneOf": [one, rows]}
        stored = {"oneOf": [_reference(table.title), {"type": "array", "items": _reference(table.title)}]}
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
        "security": _security(table, "create"),
        "parameters": [_header("Idempotency-Key", "A create that is sent again with the same key is done once.")],
        "requestBody": body,
        "responses": {"201": created, **_problems({400, 401, 403, 409, 413, 415, 422})},
    }
    return {"get": listing, "post": create, **(_filtered(table, spelling) if spelling.bulk == "same path" else {})}


def _created(table: Table, tables: Sequence[Table]) -> Json:
    created = _row("The row as it was stored.", table, tables)
    created["headers"]["Location"] = {"required": True, "schema": {"type": "string", "format": "uri-reference"}}
    return created


def _many(schema: str) -> Json:
    return {"type": "array", "minItems": 1, "maxItems": MOST_AT_ONCE, "items": _reference(schema)}


def _filtered(table: Table, spelling: Spelling) -> Json:
    """Changes of all rows that satisfy a condition."""
    found: Json = {}
    for method, word, name in (("patch", "Change", "changed"), ("delete", "Delete", "deleted")):
        if method == "patch" and not table.updatable:
            continue
        answer = {
            "type": "object",
            "additionalProperties": False,
            "required": [name],
            "properties": {name: {"type": "integer", "minimum": 0}},
        }
        found[method] = {
            "operationId": f"{word.lower()}_filtered_{table.name}",
            "tags": [table.name],
            "summary": f"{word} every row of {table.name} that satisfies the condition; without one nothing is done",
            "security": _security(table, word),
            "parameters": spelling.conditions(table),
            "responses": {
                "200": {"description": "How many.", "content": {"application/json": {"schema": answer}}},
                **_problems({400, 401, 403, 409, *({413, 415, 422} if method == "patch" else ())}),
            },
        }
    if "patch" in found:
        found["patch"]["requestBody"] = _body(
            table.title + "Change", ["application/merge-patch+json", "application/json"]
        )
    return found


def _bulk(table: Table, spelling: Spelling) -> Json:
    """Many rows at once, at a path of their own."""
    if spelling.bulk == "lines":
        return {"post": _lines(table)}
    found: Json = {}
    bodies = {"post": table.title + "New", "patch": table.title + "Item", "delete": ""}
    for method, schema in bodies.items():
        if method != "post" and (len(table.key) > 1 or (method == "patch" and not table.updatable)):
            continue
        word = {"post": "Create", "patch": "Change", "delete": "Delete"}[method]
        operation: Json = {
            "operationId": f"{word.lower()}_many_{table.name}",
            "tags": [table.name],
            "security": _security(table, word),
        }
        refused = {400, 401, 403, 413, 415, 422}
        if spelling.bulk == "wrapped":
            name = "keys" if method == "delete" else "rows"
            key = _key_schema(table.column(table.key[0]))
            items = (
                {"type": "array", "minItems": 1, "maxItems": MOST_AT_ONCE, "items": key}
                if not schema
                else _many(schema)
            )
            body = {"type": "object", "additionalProperties": False, "required": [name], "properties": {name: items}}
            operation["summary"] = (
                f"{word} many rows of {table.name}; each has its own result, whatever becomes of the others"
            )
            operation["requestBody"] = {"required": True, "content": {"application/json": {"schema": body}}}
            answers = {
                "207": {
                    "description": "A result for each, in order.",
                    "content": {"application/json": {"schema": _operation_results(table)}},
                }
            }
        else:
            operation["summary"] = f"{word} many rows of {table.name}, all or none"
            rows = {"type": "array", "items": _reference(table.title)}
            count = {
                "type": "object",
                "additionalProperties": False,
                "required": ["deleted"],
                "properties": {"deleted": {"type": "integer", "minimum": 0}},
            }
            status = "201" if method == "post" else "200"
            said = "How many." if method == "delete" else "The rows, in order."
            answers = {
                status: {
                    "description": said,
                    "content": {"application/json": {"schema": count if method == "delete" else rows}},
                }
            }
            refused |= {409} | ({404} if method != "post" else set())
            if method == "delete":
                refused -= {413, 415}
                ids = {
                    "type": "array",
                    "minItems": 1,
                    "maxItems": MOST_AT_ONCE,
                    "items": _key_schema(table.column(table.key[0])),
                }
                operation["parameters"] = [
                    {
                        "name": "ids",
                        "in": "query",
                        "required": True,
                        "style": "form",
                        "explode": False,
                        "description": "Keys of rows.",
                        "schema": ids,
                    }
                ]
            else:
                operation["requestBody"] = {
                    "required": True,
                    "content": {"application/json": {"schema": _many(schema)}},
                }
        operation["responses"] = {**answers, **_problems(refused)}
        found[method] = operation
    return found


def _lines(table: Table) -> Json:
    refused = {
        "type": "array",
        "items": {
            "type": "object",
            "additionalProperties": False,
            "required": ["line", "detail"],
            "properties": {"line": {"type": "integer", "minimum": 1}, "detail": {"type": "string"}},
        },
    }
    answer = {
        "type": "object",
        "additionalProperties": False,
        "required": ["stored", "refused"],
        "properties": {"stored": {"type": "integer", "minimum": 0}, "refused": refused},
    }
    return {
        "operationId": f"import_{table.name}",
        "tags": [table.name],
        "summary": f"Create many rows of {table.name}, one a line; a line that is refused does not stop the others",
        "security": _security(table, "create"),
        "requestBody": _body(table.title + "New", ["application/x-ndjson"]),
        "responses": {
            "200": {
                "description": "How many rows are stored, and which lines are not.",
                "content": {"application/json": {"schema": answer}},
            },
            **_problems({400, 401, 403, 413, 415}),
        },
    }


def _operation_results(table: Table) -> Json:
    """A result for each item of a request."""
    each = {
        "type": "object",
        "additionalProperties": False,
        "required": ["index", "status"],
        "properties": {
            "index": {"type": "integer", "minimum": 0, "description": "The item's place in the request."},
            "status": {"type": "integer", "description": "What it would have been answered alone."},
            "row": _reference(table.title),
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


def _item_schema(table: Table) -> Json:
    """One row of a bulk update: its key and its changes."""
    schema = patch_schema(table)
    keys = {name: _key_schema(table.column(name)) for name in table.key}
    return {**schema, "required": list(table.key), "properties": {**schema["properties"], **keys}}


def _children(table: Table, related: Related, spelling: Spelling, tables: Sequence[Table]) -> Json:
    """The rows of another table that belong to one of this."""
    own = [_key_parameter(table, name) for name in table.key]
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
            "responses": {**_pages(related.table, spelling), **_problems({400, 404, *refused})},
        },
    }
    if related.junction is None:
        found["post"] = {
            "operationId": f"create_{related.name}_of_{table.name}",
            "tags": [table.name],
            "summary": f"Create a row of {related.name} under a row of {table.name}",
            "security": [{"bearer": []}],
            "requestBody": _body(_child_title(table, related), ["application/json"]),
            "responses": {
                "201": _created(related.table, tables),
                **_problems({400, 401, 403, 404, 409, 413, 415, 422}),
            },
        }
    return found


def _link(table: Table, related: Related) -> Json:
    """Bringing a row together with one of another table."""
    far = _key_parameter(related.table, related.table.key[0])
    own = [_key_parameter(table, name) for name in table.key]
    found: Json = {"parameters": [*own, {**far, "name": related.far}]}
    for method, word, says in (("put", "link", "They belong together"), ("delete", "unlink", "They do not any more")):
        found[method] = {
            "operationId": f"{word}_{table.name}_{related.name}",
            "tags": [table.name],
            "summary": f"{word.capitalize()} a row of {table.name} and one of {related.name}",
            "security": [{"bearer": []}],
            "responses": {"204": {"description": f"{says}."}, **_problems({400, 401, 403, 404})},
        }
    return found


def _key_parameter(table: Table, name: str) -> Json:
    return {"name": name, "in": "path", "required": True, "schema": _key_schema(table.column(name))}


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
            "security": _security(table, "read"),
            "parameters": spelling.aggregate_parameters(table),
            "responses": {"200": answer, **_problems({400, *refused})},
        }
    }


def _item(table: Table, tables: Sequence[Table], spelling: Spelling) -> Json:
    refused = {401, 403}
    path: Json = {
        "parameters": [_key_parameter(table, name) for name in table.key],
        "get": {
            "operationId": f"read_{table.name}",
            "tags": [table.name],
            "summary": f"Read a row of {table.name}",
            "security": _security(table, "read"),
            "parameters": [
                *_expansion(table, tables, spelling),
                _header("If-None-Match", "The tag of the row that is known; a row that has it still is answered 304."),
            ],
            "responses": {
                "200": _read_row(table, tables),
                "304": {"description": "The row is still the same.", "headers": dict(_TAG)},
                **_problems({400, 404, *refused}),
            },
        },
    }
    if table.updatable:
        path["put"] = {
            "operationId": f"replace_{table.name}",
            "tags": [table.name],
            "summary": f"Replace a row of {table.name}; what is left out falls back to its default or null",
            "security": _security(table, "replace"),
            "parameters": [_if_match()],
            "requestBody": _body(table.title + ("Full" if table.nested else "New"), ["application/json"]),
            "responses": {
                "200": _row("The row as it is now.", table, tables),
                **_problems({400, 401, 403, 404, 409, 412, 413, 415, 422}),
            },
        }
        path["patch"] = {
            "operationId": f"update_{table.name}",
            "tags": [table.name],
            "summary": f"Change some fields of a row of {table.name}",
            "security": _security(table, "update"),
            "parameters": [_if_match()],
            "requestBody": _body(table.title + "Change", ["application/merge-patch+json", "application/json"]),
            "responses": {
                "200": _row("The row as it is now.", table, tables),
                **_problems({400, 401, 403, 404, 409, 412, 413, 415, 422}),
            },
        }
    path["delete"] = {
        "operationId": f"delete_{table.name}",
        "tags": [table.name],
        "summary": f"Delete a row of {table.name}",
        "security": _security(table, "delete"),
        "parameters": [_if_match()],
        "responses": {"204": {"description": "The row is gone."}, **_problems({400, 401, 403, 404, 409, 412})},
    }
    return path


def _read_row(table: Table, tables: Sequence[Table]) -> Json:
    """The answer to a read: what shows more than the row has no tag."""
    answer = _row("The row.", table, tables)
    answer["headers"]["ETag"]["required"] = False
    return answer


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
        item = table.path + "".join(f"/{{{name}}}" for name in table.key)
        schemas[table.title] = row_schema(table, tables, spelling)
        schemas[table.title + "New"] = _nested_schema(table, tables)
        schemas[table.title + "List"] = spelling.schema(table, _reference(table.title))
        paths[table.path] = _collection(table, tables, spelling)
        if spelling.aggregates:
            paths[table.path + spelling.aggregates] = _aggregate(table, spelling)
        if spelling.bulk in BULK_PATHS:
            paths[table.path + BULK_PATHS[spelling.bulk]] = _bulk(table, spelling)
        paths[item] = _item(table, tables, spelling)
        if table.nested:
            schemas[table.title + "Full"] = create_schema(table)
        if table.updatable:
            schemas[table.title + "Change"] = patch_schema(table)
            schemas[table.title + "Item"] = _item_schema(table)
        for related in to_many(table, tables) if not is_junction(table) else ():
            under = f"{item}/{related.name.replace('_', '-')}"
            paths[under] = _children(table, related, spelling, tables)
            if related.junction is not None:
                paths[f"{under}/{{{related.far}}}"] = _link(table, related)
            else:
                schemas[_child_title(table, related)] = child_schema(related.table, related.column)
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
