"""A table whose rows stand under those of another, and nowhere else."""

from __future__ import annotations

from dataclasses import replace

from checkpost.demo.core import BASE
from checkpost.demo.styles.base import (
    TABLE_AT,
    Call,
    Inner,
    Json,
    Reply,
    Style,
    only_lists_and_rows,
    own_paths,
    problem,
)

_ABOVE, _BELOW, _BY = TABLE_AT["vaults"], TABLE_AT["accessions"], "vault_code"


class OnlyNested(Style):
    name = "nested"
    says = "accessions only as /vaults/{vault_code}/accessions/{id}"

    def described(self, document: Json) -> Json:
        document = only_lists_and_rows(document, self.tables)
        paths = dict(document["paths"])
        path, item = own_paths(_BELOW)
        above = {**paths["/vaults/{code}"]["parameters"][0], "name": _BY}
        under = f"/vaults/{{{_BY}}}/accessions"
        listed, own = paths.pop(path), paths.pop(item)
        missing = own["get"]["responses"]["404"]
        for method in ("get", "post"):
            listed[method] = {**listed[method], "responses": {**listed[method]["responses"], "404": missing}}
        schemas = dict(document["components"]["schemas"])
        for title in ("New", "Full", "Change"):
            schema = schemas["Accessions" + title]
            schemas["Accessions" + title] = {
                **schema,
                "properties": {name: each for name, each in schema["properties"].items() if name != _BY},
                "required": [name for name in schema.get("required", ()) if name != _BY],
            }
        paths[under] = {"parameters": [above], **listed}
        paths[under + "/{id}"] = {**own, "parameters": [above, *own["parameters"]]}
        return {**document, "paths": paths, "components": {**document["components"], "schemas": schemas}}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        if call.path[:1] == ("accessions",) or (call.path[:1] == ("vaults",) and len(call.path) > 4):
            return problem(404, "Not found", "There is nothing here.")
        if call.path[:1] != ("vaults",) or len(call.path) < 3 or call.path[2] != "accessions":
            return await inner(call)
        vault, rest = call.path[1], call.path[3:]
        asked = {name: each for name, each in call.headers.items() if name in {"authorization", "host"}}
        known = await inner(Call("GET", ("vaults", vault), headers=asked))
        if not known.ok:
            return known
        inside = replace(call, path=("accessions", *rest))
        if rest:
            there = await inner(Call("GET", inside.path, headers=asked))
            if there.ok and there.json.get(_BY) != vault:
                return problem(404, "Not found", "No row has this key.")
        elif call.method == "GET":
            inside = replace(inside, query=(*inside.query, (f"{_BY}[eq]", vault)))
        body = call.json
        if call.method in {"POST", "PUT", "PATCH"} and isinstance(body, dict):
            if _BY in body:
                wrong = problem(422, "Not valid", "The body breaks rules of its fields.")
                rule = {"field": _BY, "rule": "additionalProperties", "detail": "The path says it."}
                return wrong.with_json({**wrong.json, "errors": [rule]})
            kind = call.headers.get("content-type", "")
            inside = inside if call.method == "PATCH" else inside.with_json({**body, _BY: vault}, kind)
        reply = await inner(inside)
        under = f"/vaults/{vault}/accessions"
        return reply.with_next(under).with_location(lambda at: at.replace(f"{BASE}/accessions", BASE + under))
