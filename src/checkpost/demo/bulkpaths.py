"""The description of operations on many rows, in each shape that a spelling has for them."""

from __future__ import annotations

from checkpost.demo.pieces import problems, request_body, security_of
from checkpost.demo.schemas import Json, key_schema, operation_results, reference_to
from checkpost.demo.spellings import Spelling
from checkpost.demo.tables import Table

LARGEST_BODY = 1_000_000
#: How many rows one request may write, and where it is sent, by the shape that a spelling has for it.
MOST_AT_ONCE = 1000
BULK_PATHS = {"array": "/bulk", "wrapped": "/batch", "lines": "/import"}


def many_of(schema: str) -> Json:
    return {"type": "array", "minItems": 1, "maxItems": MOST_AT_ONCE, "items": reference_to(schema)}


def by_filter(table: Table, spelling: Spelling) -> Json:
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
            "security": security_of(table, word),
            "parameters": spelling.conditions(table),
            "responses": {
                "200": {"description": "How many.", "content": {"application/json": {"schema": answer}}},
                **problems({400, 401, 403, 409, *({413, 415, 422} if method == "patch" else ())}),
            },
        }
    if "patch" in found:
        found["patch"]["requestBody"] = request_body(
            table.title + "Change", ["application/merge-patch+json", "application/json"]
        )
    return found


def at_once(table: Table, spelling: Spelling) -> Json:
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
            "security": security_of(table, word),
        }
        refused = {400, 401, 403, 413, 415, 422}
        if spelling.bulk == "wrapped":
            name = "keys" if method == "delete" else "rows"
            key = key_schema(table.column(table.key[0]))
            items = (
                {"type": "array", "minItems": 1, "maxItems": MOST_AT_ONCE, "items": key}
                if not schema
                else many_of(schema)
            )
            body = {"type": "object", "additionalProperties": False, "required": [name], "properties": {name: items}}
            operation["summary"] = (
                f"{word} many rows of {table.name}; each has its own result, whatever becomes of the others"
            )
            operation["requestBody"] = {"required": True, "content": {"application/json": {"schema": body}}}
            answers = {
                "207": {
                    "description": "A result for each, in order.",
                    "content": {"application/json": {"schema": operation_results(table)}},
                }
            }
        else:
            operation["summary"] = f"{word} many rows of {table.name}, all or none"
            rows = {"type": "array", "items": reference_to(table.title)}
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
                    "items": key_schema(table.column(table.key[0])),
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
                    "content": {"application/json": {"schema": many_of(schema)}},
                }
        operation["responses"] = {**answers, **problems(refused)}
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
        "security": security_of(table, "create"),
        "requestBody": request_body(table.title + "New", ["application/x-ndjson"]),
        "responses": {
            "200": {
                "description": "How many rows are stored, and which lines are not.",
                "content": {"application/json": {"schema": answer}},
            },
            **problems({400, 401, 403, 413, 415}),
        },
    }
