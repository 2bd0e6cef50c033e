"""Operations at paths named for what they do, with the key in the query or in the body."""

from __future__ import annotations

from dataclasses import replace
from urllib.parse import urlencode

from checkpost.demo.core import BASE
from checkpost.demo.styles.base import (
    TABLE_AT,
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

#: The path's word and method of each operation, and the stand-in's own method.
_ACTS = {
    "list": ("get", "GET"),
    "get": ("get", "GET"),
    "create": ("post", "POST"),
    "update": ("post", "PATCH"),
    "remove": ("post", "DELETE"),
}


class NamedForActions(Style):
    name = "actions"
    says = "/species/list, /species/get?id=5, /species/create, …/update and …/remove with the key in the body"

    def described(self, document: Json) -> Json:
        document = only_lists_and_rows(document, self.tables)
        paths: Json = {path: each for path, each in document["paths"].items() if path in {"/login", "/logout"}}
        schemas = dict(document["components"]["schemas"])
        for table in self.tables:
            path, item = own_paths(table)
            listed, own = document["paths"][path], document["paths"][item]
            keys = own["parameters"]
            asked = [{**each, "in": "query"} for each in keys]
            members = {each["name"]: each["schema"] for each in keys}
            named = {"type": "object", "additionalProperties": False, "required": list(members), "properties": members}
            paths[f"{path}/list"] = {"get": listed["get"]}
            paths[f"{path}/get"] = {"get": {**own["get"], "parameters": [*asked, *own["get"]["parameters"]]}}
            paths[f"{path}/create"] = {"post": listed["post"]}
            if "patch" in own:
                change = schemas[table.title + "Change"]
                whole = {
                    **change,
                    "required": list(members),
                    "properties": {
                        **members,
                        **{name: each for name, each in change["properties"].items() if name not in members},
                    },
                }
                schemas[table.title + "ChangeOf"] = whole
                body = {
                    "required": True,
                    "content": {
                        "application/json": {"schema": {"$ref": f"#/components/schemas/{table.title}ChangeOf"}}
                    },
                }
                paths[f"{path}/update"] = {"post": {**own["patch"], "requestBody": body}}
            removal = {"required": True, "content": {"application/json": {"schema": named}}}
            refused = {
                code: each for code, each in listed["post"]["responses"].items() if code in {"413", "415", "422"}
            }
            answers = {**own["delete"]["responses"], **refused}
            paths[f"{path}/remove"] = {"post": {**own["delete"], "requestBody": removal, "responses": answers}}
        components = {**document["components"], "schemas": schemas}
        return {**document, "paths": paths, "components": components}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        table = call.table
        if table is None:
            return await inner(call)
        word = call.path[1] if len(call.path) == 2 else ""
        if word not in _ACTS:
            return problem(404, "Not found", "There is nothing here.")
        expected, method = _ACTS[word]
        if call.method.lower() not in {expected, "head" if expected == "get" else expected}:
            refused = problem(405, "Method not allowed", f"{call.method} is not offered here.")
            return replace(refused, headers={**refused.headers, "allow": expected.upper()})
        call = replace(call, path=call.path[:1], method=method)
        if word in {"list", "create"}:
            return (await inner(call)).with_location(_location).with_next(f"{table.path}/list")
        if word == "get":
            given = dict(call.query)
            missing = [name for name in table.key if name not in given]
            rest = tuple(each for each in call.query if each[0] not in table.key)
            if missing:
                return problem(400, "Not readable", f"{missing[0]} is wanted.")
            return await inner(replace(call, path=(*call.path, *(given[name] for name in table.key)), query=rest))
        return await self._change(call, inner)

    async def _change(self, call: Call, inner: Inner) -> Reply:
        assert call.table is not None
        if call.headers.get("content-type", "").partition(";")[0] != "application/json":
            # credentials are looked at first, as everywhere
            return await inner(replace(call, path=(*call.path, *("0" for _ in call.table.key)), method="PATCH"))
        body, key = call.json, call.table.key
        if call.body and body is None:
            return problem(400, "Not readable", "The body is not JSON.")
        wrong = not isinstance(body, dict) or any(not isinstance(body.get(name), int | str) for name in key)
        beyond = call.method == "DELETE" and isinstance(body, dict) and set(body) - set(key)
        if wrong or beyond or any(isinstance(body.get(name), bool) for name in key):
            rule = {"field": key[0], "rule": "required", "detail": "The key is missing, or not one."}
            broken = problem(422, "Not valid", "The body breaks rules of its fields.")
            return broken.with_json({**broken.json, "errors": [rule]})
        rest = {name: value for name, value in body.items() if name not in key}
        call = replace(call, path=(*call.path, *(str(body[name]) for name in key)))
        if call.method == "DELETE":
            headers = {name: value for name, value in call.headers.items() if name != "content-type"}
            return await inner(replace(call, body=b"", headers=headers))
        return await inner(call.with_json(rest))


def _location(location: str) -> str:
    name = location.removeprefix(BASE).strip("/").split("/")[0]
    pairs = zip(TABLE_AT[name].key, key_texts(location), strict=True)
    return f"{BASE}/{name}/get?{urlencode(list(pairs))}"
