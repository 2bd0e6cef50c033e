"""Rows as members of an object, by their keys; changes as patches of operations (RFC 6902)."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from checkpost.demo.schemas import reference_to
from checkpost.demo.styles.base import (
    TABLE_AT,
    Call,
    Inner,
    Json,
    Reply,
    Style,
    dropped,
    only_lists_and_rows,
    own_paths,
    problem,
)

_PATCH = "application/json-patch+json"


class RowsByKey(Style):
    name = "by-key"
    says = 'lists as {"items": {"5": {…}}}, creates answered with the key alone, JSON Patch (RFC 6902)'
    tables = tuple(table for table in TABLE_AT.values() if len(table.key) == 1)

    def described(self, document: Json) -> Json:
        document = dropped(only_lists_and_rows(document, self.tables), ["expand"])
        schemas = dict(document["components"]["schemas"])
        paths = dict(document["paths"])
        for table in self.tables:
            key = table.key[0]
            row, page = schemas[table.title], schemas[table.title + "List"]
            inner = {
                name: each
                for name, each in row["properties"].items()
                if name in {c.name for c in table.visible} - {key}
            }
            schemas[table.title] = {
                **row, "properties": inner, "required": [name for name in row["required"] if name != key],
            }  # fmt: skip
            rows = {"type": "object", "additionalProperties": reference_to(table.title)}
            schemas[table.title + "List"] = {**page, "properties": {**page["properties"], "items": rows}}
            told = {"type": "object", "required": [key], "properties": {key: table.column(key).schema()}}
            path, item = own_paths(table)
            made = paths[path]["post"]
            answer = {**made["responses"]["201"], "content": {"application/json": {"schema": told}}}
            answer = {name: each for name, each in answer.items() if name != "links"}
            paths[path] = {**paths[path], "post": {**made, "responses": {**made["responses"], "201": answer}}}
            own = {name: each for name, each in paths[item].items() if name != "put"}
            if "patch" in own:
                body = {"required": True, "content": {_PATCH: {"schema": reference_to("Patch")}}}
                own["patch"] = {**own["patch"], "requestBody": body}
            paths[item] = own
        step = {
            "type": "object",
            "required": ["op", "path"],
            "properties": {
                "op": {"enum": ["add", "remove", "replace", "test"]},
                "path": {"type": "string", "pattern": "^/"},
                "value": {},
            },
        }
        schemas["Patch"] = {"type": "array", "items": step}
        return {**document, "paths": paths, "components": {**document["components"], "schemas": schemas}}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        table = call.table
        if table is None or len(table.key) != 1 or len(call.path) > 2 or call.method == "PUT":
            return await inner(call) if table is None else problem(404, "Not found", "There is nothing here.")
        if call.method == "PATCH":
            kind = call.headers.get("content-type", "").partition(";")[0]
            changes = _changes(call.json) if kind == _PATCH else None
            if kind != _PATCH:
                call = replace(call, headers={**call.headers, "content-type": "text/plain"})
            elif changes is None:
                call = replace(call, body=b"", headers={**call.headers, "content-type": "application/json"})
            else:
                call = call.with_json(changes)
        reply = await inner(call)
        if not reply.ok or not reply.body:
            return reply
        body, key = reply.json, table.key[0]
        if call.method == "POST":
            return reply.with_json({key: body[key]})
        if len(call.path) == 1:
            rows = {str(row[key]): _without(row, key) for row in body["items"]}
            return reply.with_json({**body, "items": rows})
        return reply.with_json(_without(body, key))


def _without(row: Json, key: str) -> Json:
    return {name: value for name, value in row.items() if name != key}


def _changes(patch: Any) -> Json | None:
    """What a patch changes, as a merge patch; None for one that is none."""
    found: Json = {}
    for step in patch if isinstance(patch, list) else [{}]:
        path = step.get("path") if isinstance(step, dict) else None
        if (
            not isinstance(step, dict)
            or not isinstance(path, str)
            or not path.startswith("/")
            or step.get("op") not in {"add", "remove", "replace"}
        ):
            return None
        found[path[1:].replace("~1", "/").replace("~0", "~")] = None if step["op"] == "remove" else step.get("value")
    return found
