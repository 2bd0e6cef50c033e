"""Rows that have no path of their own: changes go to what a filter leaves of the list."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from checkpost.demo.core import BASE
from checkpost.demo.styles.base import (
    Call,
    Inner,
    Json,
    Reply,
    Style,
    key_texts,
    only_lists_and_rows,
    own_paths,
    problem,
)

_ASKED = "return=representation"
_PREFER = {
    "name": "Prefer",
    "in": "header",
    "description": "What the answer shows (RFC 7240, 4.2).",
    "schema": {"type": "string", "enum": ["return=representation", "return=minimal"]},
}


class ByFilter(Style):
    name = "by-filter"
    says = "rows without paths: PATCH and DELETE on the list with a filter; answers as Prefer: return= asks"
    spelling = "prefix"

    def described(self, document: Json) -> Json:
        document = only_lists_and_rows(document, self.tables)
        paths = dict(document["paths"])
        schemas = dict(document["components"]["schemas"])
        for table in self.tables:
            path, item = own_paths(table)
            own = paths.pop(item)
            listed = dict(paths[path])
            columns = {column.name for column in table.visible}
            filters = [each for each in listed["get"]["parameters"] if each["name"] in columns]
            rows = {"content": listed["get"]["responses"]["200"]["content"]}
            for method in ("patch", "delete"):
                if method not in own:
                    continue
                refused = {
                    code: each
                    for code, each in own[method]["responses"].items()
                    if code not in {"200", "204", "404", "412"}
                }
                parameters = [*filters, *([_PREFER] if method == "patch" else [])]
                body = {"requestBody": own[method]["requestBody"]} if "requestBody" in own[method] else {}
                done: Json = {"204": {"description": "It is done."}}
                if method == "patch":
                    done["200"] = {"description": "The rows as they are now.", **rows}
                listed[method] = {
                    **{key: each for key, each in own[method].items() if key not in {"responses", "parameters"}},
                    **body,
                    "parameters": parameters,
                    "responses": {**done, **refused},
                }
            made = dict(listed["post"])
            location = {"Location": {"required": True, "schema": {"type": "string"}}}
            made["responses"] = {
                **made["responses"],
                "201": {"description": "It is stored.", "headers": location, **rows},
            }
            made["parameters"] = [*made["parameters"], _PREFER]
            paths[path] = {**listed, "post": made}
            row = schemas[table.title]
            marked = {name: {**row["properties"][name], "description": "Primary key."} for name in table.key}
            schemas[table.title] = {**row, "properties": {**row["properties"], **marked}}
        return {**document, "paths": paths, "components": {**document["components"], "schemas": schemas}}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        if call.table is None:
            return await inner(call)
        if len(call.path) > 1:
            return problem(404, "Not found", "There is nothing here.")
        shown = _ASKED in call.headers.get("prefer", "")
        if call.method == "OPTIONS":
            reply = await inner(call)
            more = ", PATCH, DELETE" if call.table.updatable else ", DELETE"
            return replace(reply, headers={**reply.headers, "allow": reply.headers.get("allow", "") + more})
        if call.method == "POST":
            reply = await inner(call)
            if reply.status != 201 or "location" not in reply.headers:
                return reply
            pairs = zip(call.table.key, key_texts(reply.headers["location"]), strict=True)
            where = "&".join(f"{name}=eq.{text}" for name, text in pairs)
            headers = {"location": f"{BASE}{call.table.path}?{where}"}
            made = Reply(201, headers)
            return made.with_json([reply.json], "application/json") if shown else made
        if call.method in {"PATCH", "DELETE"}:
            return await self._change(call, inner, shown)
        return await inner(call)

    async def _change(self, call: Call, inner: Inner, shown: bool) -> Reply:
        assert call.table is not None
        columns = {column.name for column in call.table.visible}
        if not any(name in columns for name, _ in call.query):
            return problem(400, "Not readable", "A condition is wanted.")
        asked = {name: each for name, each in call.headers.items() if name in {"authorization", "host"}}
        rows: list[Json] = []
        while True:
            window = {"range": f"{len(rows)}-{len(rows) + 99}"}
            listed = await inner(replace(call, method="GET", body=b"", headers={**asked, **window}))
            if not listed.ok:
                if listed.status == 416:
                    break
                return listed
            rows += listed.json
            if len(listed.json) < 100:
                break
        if not rows:
            # whether the role may do it at all, and whether the body is valid, is told as for a row
            absent = await inner(replace(call, path=(*call.path, *("2000000000" for _ in call.table.key)), query=()))
            return absent if absent.status not in {404, 400, 204} else _done([], shown)
        changed: list[Any] = []
        for row in rows:
            key = tuple(str(row[name]) for name in call.table.key)
            reply = await inner(replace(call, path=(*call.path, *key), query=()))
            if not reply.ok:
                return reply
            changed.append(reply.json)
        return _done(changed, shown and call.method == "PATCH")


def _done(rows: list[Any], shown: bool) -> Reply:
    return Reply(200).with_json(rows, "application/json") if shown else Reply(204)
