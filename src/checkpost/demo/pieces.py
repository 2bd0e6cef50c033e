"""The pieces of which the description's operations are made: answers, parameters, bodies, security."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from checkpost.demo.relations import is_junction, to_many, to_one
from checkpost.demo.schemas import Json, key_schema, reference_to
from checkpost.demo.tables import Table

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


def problems(statuses: Iterable[int]) -> Json:
    answers: Json = {}
    for status in sorted(statuses):
        schema = "Violations" if status == 422 else "Problem"
        answers[str(status)] = {
            "description": _REASONS[status],
            "content": {"application/problem+json": {"schema": reference_to(schema)}},
        }
        if status == 401:
            answers["401"]["headers"] = {"WWW-Authenticate": {"required": True, "schema": {"type": "string"}}}
    return answers


TAG = {"ETag": {"required": True, "schema": {"type": "string"}, "description": "The tag of the row as it is."}}


def row_answer(description: str, table: Table, tables: Sequence[Table] = ()) -> Json:
    """An answer with one row, its tag, and where what belongs to it is (OpenAPI 3.1, 4.8.20)."""
    answer: Json = {
        "description": description,
        "headers": {name: dict(header) for name, header in TAG.items()},
        "content": {"application/json": {"schema": reference_to(table.title)}},
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


def created_answer(table: Table, tables: Sequence[Table]) -> Json:
    created = row_answer("The row as it was stored.", table, tables)
    created["headers"]["Location"] = {"required": True, "schema": {"type": "string", "format": "uri-reference"}}
    return created


def header_parameter(name: str, description: str) -> Json:
    return {"name": name, "in": "header", "description": description, "schema": {"type": "string", "minLength": 1}}


def if_match() -> Json:
    return header_parameter("If-Match", "The tag that the row is to have still; another one is answered 412.")


def request_body(schema: str, media_types: Sequence[str]) -> Json:
    return {"required": True, "content": {media_type: {"schema": reference_to(schema)} for media_type in media_types}}


def security_of(table: Table, action: str) -> list[Json]:
    if action == "read" and "public" in table.grants:
        return [{}, {"bearer": []}]
    return [{"bearer": []}]


def key_parameter(table: Table, name: str) -> Json:
    return {"name": name, "in": "path", "required": True, "schema": key_schema(table.column(name))}
