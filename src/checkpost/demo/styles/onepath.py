"""One path for all tables, which only the API itself names; rows are objects of which the contract says nothing."""

from __future__ import annotations

import json
from dataclasses import replace

from checkpost.demo.core import BASE
from checkpost.demo.schemas import create_schema
from checkpost.demo.styles.base import TABLE_AT, Call, Inner, Json, Reply, Style, dropped, own_paths, problem
from checkpost.demo.tables import Table

_NAME = {"name": "table", "in": "path", "required": True, "schema": {"type": "string"}, "description": "The table."}
_KEY = {"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}
_PAGE = {"application/json": {"schema": {"$ref": "#/components/schemas/Page"}}}
_OBJECT = {"application/json": {"schema": {"type": "object"}}}


def _schema(table: Table) -> Json:
    return create_schema(table)


class OnePath(Style):
    name = "one-path"
    says = "/tables/{table}/rows/{id} for every table; names at /tables, fields at /tables/{table}/schema"
    spelling = "infix"
    tables = tuple(table for table in TABLE_AT.values() if len(table.key) == 1)

    def described(self, document: Json) -> Json:
        document = dropped(document, ["with"])
        usual = TABLE_AT["species"]
        path, item = own_paths(usual)
        listed, own = document["paths"][path], document["paths"][item]
        refused = {code: each for code, each in own["patch"]["responses"].items() if code in {"401", "404"}}
        texts = {"type": "array", "items": {"type": "string"}}
        names = {"application/json": {"schema": {"type": "object", "properties": {"tables": texts}}}}
        page = document["components"]["schemas"]["SpeciesList"]
        page = {**page, "properties": {**page["properties"], "results": {"type": "array", "items": {"type": "object"}}}}

        def opened(operation: Json, title: str) -> Json:
            """An operation that speaks of rows in general, and may be refused for a table that there is not."""
            answers = {}
            for status, answer in operation["responses"].items():
                rows = (
                    {"application/json": {"schema": {"$ref": "#/components/schemas/Page"}}}
                    if title == "list_rows"
                    else _OBJECT
                )
                kept = {key: each for key, each in answer.items() if key != "links"}
                answers[status] = {**kept, "content": rows} if status[0] == "2" and "content" in answer else kept
            body = {"requestBody": {"required": True, "content": _OBJECT}} if "requestBody" in operation else {}
            said = {key: each for key, each in operation.items() if key not in {"security", "tags", "summary"}}
            named = {"operationId": title, "security": [{"bearer": []}, {}]}
            return {**said, **body, **named, "responses": {**answers, **refused}}

        rows = {
            "parameters": [_NAME],
            "get": opened(listed["get"], "list_rows"),
            "post": opened(listed["post"], "create_row"),
        }
        row = {
            "parameters": [_NAME, _KEY],
            **{
                method: opened(own[method], f"{word}_row")
                for method, word in (("get", "read"), ("put", "replace"), ("patch", "update"), ("delete", "delete"))
            },
        }
        kept = {name: document["components"]["schemas"][name] for name in ("Problem", "Violations")}
        open_to_all: Json = {"security": [{}]}
        paths: Json = {
            "/tables": {
                "get": {
                    **open_to_all,
                    "operationId": "tables",
                    "responses": {"200": {"description": "The tables.", "content": names}},
                }
            },
            "/tables/{table}/schema": {
                "parameters": [_NAME],
                "get": {
                    **open_to_all,
                    "operationId": "schema",
                    "responses": {"200": {"description": "A JSON Schema.", "content": _OBJECT}, **refused},
                },
            },
            "/tables/{table}/rows": rows,
            "/tables/{table}/rows/{id}": row,
            **{path: each for path, each in document["paths"].items() if path in {"/login", "/logout"}},
        }
        return {**document, "paths": paths, "components": {**document["components"], "schemas": {**kept, "Page": page}}}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        if call.path[:1] in {("login",), ("logout",)}:
            return await inner(call)
        exposed = {_plain(table): table for table in self.tables}
        if call.path == ("tables",) and call.method == "GET":
            return Reply(200).with_json({"tables": list(exposed)}, "application/json")
        table = exposed.get(call.path[1]) if len(call.path) > 2 and call.path[0] == "tables" else None
        if table is None:
            return problem(404, "Not found", "There is no such table.")
        if call.path[2:] == ("schema",) and call.method == "GET":
            return Reply(200, {"content-type": "application/json"}, json.dumps(_schema(table)).encode())
        if call.path[2] != "rows" or len(call.path) > 4:
            return problem(404, "Not found", "There is nothing here.")
        if len(call.path) == 3 and call.method in {"PATCH", "DELETE"}:
            return problem(405, "Method not allowed", f"{call.method} is not offered here.")
        if call.method in {"POST", "PUT", "PATCH"} and isinstance(call.json, list):
            return problem(400, "Not readable", "The body is no object.")
        reply = await inner(replace(call, path=(table.path.strip("/"), *call.path[3:])))
        return _shown(table, reply).with_location(lambda at: at.replace(f"{BASE}{table.path}", _rows(table)))


def _plain(table: Table) -> str:
    return table.path.strip("/")


def _rows(table: Table) -> str:
    return f"{BASE}/tables/{_plain(table)}/rows"


def _shown(table: Table, reply: Reply) -> Reply:
    """An answer without the links of rows, and with the link to the next page as the style has it."""
    body = reply.json
    if not reply.ok or not isinstance(body, dict):
        return reply
    if "results" in body:
        rows = [{name: each for name, each in row.items() if name != "_links"} for row in body["results"]]
        links = {name: at.replace(f"{BASE}{table.path}?", f"{_rows(table)}?") for name, at in body["links"].items()}
        return reply.with_json({**body, "results": rows, "links": links})
    return reply.with_json({name: each for name, each in body.items() if name != "_links"})
