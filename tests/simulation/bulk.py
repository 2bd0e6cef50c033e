"""Writes of many rows at once, as simulated APIs carry them out: ``POST /crops/bulk`` with an array of records,
``PATCH /crops/bulk`` with an array of changes, ``POST /crops/bulk-delete`` with ``{"ids": [1, 2]}``."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from tests.simulation.api import Api, Table

Json = dict[str, Any]


def answer(
    api: Api, table: Table, path: str, method: str, headers: Mapping[str, str], body: bytes | None
) -> tuple[int, Any]:
    """What is answered to a request with many rows. Where the temperament is "whole", a bad one among them undoes all;
    else each is done by itself, and the answer is that of the first bad one; "keyless" ones answer with numbers
    alone, and "lying" ones with a refusal wherever there are more than two."""
    try:
        sent = json.loads(body or b"")
    except ValueError:
        return 400, {"error": "this is no JSON"}
    if path == "bulk-delete" and isinstance(sent, dict):
        sent = sent.get("ids")
    if not isinstance(sent, list):
        return 400, {"error": "this is no list"}
    kept, told = dict(api.rows[table.name]), []
    for each in sent:
        if path == "bulk-delete":
            told.append(api._item(table, (each,), "DELETE", headers, None))
        elif method == "POST":
            told.append(api._create(table, json.dumps(each).encode(), headers))
        elif isinstance(each, dict) and (each.get("id"),) not in api.rows[table.name] and api.temper.bulk == "making":
            told.append(api._create(table, json.dumps({n: v for n, v in each.items() if n != "id"}).encode(), headers))
        else:
            key = (each.pop("id", None),) if isinstance(each, dict) else (None,)
            told.append(api._item(table, key, "PATCH", headers, json.dumps(each).encode()))
    bad = next((status for status, _ in told if status >= 400), 0)
    if bad and api.temper.bulk == "whole":
        api.rows[table.name] = kept
        api.version += 1
    if bad or (api.temper.bulk == "lying" and len(sent) > 2):
        return bad or 422, {"error": "one of them is bad"}
    if api.temper.bulk == "keyless" or path == "bulk-delete":
        return 200, {"count": len(told)}
    return 201 if method == "POST" else 200, [row for _, row in told]


def paths(table: Table, title: str, answers: Json) -> Iterator[tuple[str, Json]]:
    """The paths of a table of which one number is the key."""

    def array(item: Json) -> Json:
        return {"type": "array", "items": item}

    def content(schema: Json) -> Json:
        return {"required": True, "content": {"application/json": {"schema": schema}}}

    rows = array({"$ref": f"#/components/schemas/{title}"})
    done = {"description": "done", "content": {"application/json": {"schema": rows}}}
    some: Json = {"allOf": [{"$ref": f"#/components/schemas/Some{title}"}]}
    some |= {"type": "object", "required": ["id"], "properties": {"id": {"type": "integer"}}}
    new = content(array({"$ref": f"#/components/schemas/New{title}"}))
    ids = {"type": "object", "required": ["ids"], "properties": {"ids": array({"type": "integer"})}}
    yield (
        f"/{table.name}/bulk",
        {
            "post": {"requestBody": new, "responses": {"201": done, **answers}},
            "patch": {"requestBody": content(array(some)), "responses": {"200": done, **answers}},
        },
    )
    removed = {"200": {"description": "gone"}, **answers}
    yield f"/{table.name}/bulk-delete", {"post": {"requestBody": content(ids), "responses": removed}}
