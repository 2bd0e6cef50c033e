"""A small API of documents (JSON:API 1.1) whose relationships have paths of their own, and what may be wrong there."""

from __future__ import annotations

import itertools
import json
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

Json = dict[str, Any]
MEDIA = "application/vnd.api+json"
ATTRIBUTES = {"lots": "code", "species": "name", "tags": "label"}
#: The relationships of lots: what they lead to, and whether to many.
LINKS = {"species": ("species", False), "tags": ("tags", True)}


def refused(status: int, detail: str) -> Response:
    errors = [{"status": str(status), "title": "Not so", "detail": detail}]
    return JSONResponse({"errors": errors}, status, media_type=MEDIA)


async def json_of(request: Request) -> Any:
    """The body of a request; None where it is no JSON."""
    try:
        return json.loads(await request.body())
    except ValueError:
        return None


class Bank:
    """Lots that belong to a species and bear tags. ``fault`` names what is wrong; ``named`` says whether the contract
    names the relationships or has a parameter for them, ``told`` whether it says which ones rows have."""

    def __init__(self, fault: str = "", named: bool = True, told: bool = True) -> None:
        self.fault, self.named, self.told = fault, named, told
        self.numbers = itertools.count(100)
        self.rows: dict[str, dict[str, str]] = {
            "lots": {str(n): f"L-{n}" for n in range(1, 8)},
            "species": {str(n): f"Species {n}" for n in range(1, 5)},
            "tags": {str(n): f"tag {n}" for n in range(1, 4)},
        }
        self.species: dict[str, str | None] = {key: str(int(key) % 4 + 1) for key in self.rows["lots"]}
        self.tags: dict[str, list[str]] = {key: ["1"] if int(key) % 2 else [] for key in self.rows["lots"]}

    def contents(self) -> Any:
        """Everything that is stored."""
        return repr((self.rows, self.species, self.tags))

    # -- rows --------------------------------------------------------------------------------------

    def shown(self, table: str, key: str) -> Json:
        row: Json = {"type": table, "id": key, "attributes": {ATTRIBUTES[table]: self.rows[table][key]}}
        if table == "lots":
            row["relationships"] = {name: {"data": self.linked(key, name)} for name in LINKS}
        return row

    def linked(self, key: str, name: str) -> Any:
        if name == "tags":
            return [{"type": "tags", "id": each} for each in self.tags[key]]
        one = self.species[key]
        return {"type": "species", "id": one} if one is not None else None

    async def listed(self, request: Request) -> Response:
        table = request.path_params["table"]
        if table not in self.rows:
            return refused(404, "no such table")
        if request.method == "POST" and request.headers.get("content-type", "").partition(";")[0] != MEDIA:
            return refused(415, f"a body has to be {MEDIA}")
        if request.method == "POST":
            return self.made(table, await json_of(request))
        rows = [self.shown(table, key) for key in self.rows[table]]
        return JSONResponse({"data": rows}, media_type=MEDIA)

    def made(self, table: str, body: Any) -> Response:
        data = body.get("data") if isinstance(body, dict) else None
        attributes = data.get("attributes") if isinstance(data, dict) else None
        text = attributes.get(ATTRIBUTES[table]) if isinstance(attributes, dict) else None
        if not isinstance(text, str) or set(attributes or ()) != {ATTRIBUTES[table]}:
            return refused(422, f"{ATTRIBUTES[table]} has to be a text")
        links = data.get("relationships") or {}
        one = (links.get("species") or {}).get("data") if isinstance(links, dict) else None
        if one is None and table == "lots" and self.fault == "needs species":
            return refused(422, "a lot has to be of a species")
        if one is not None and one.get("id") not in self.rows["species"]:
            return refused(422, "no such species")
        key = str(next(self.numbers))
        self.rows[table][key] = text
        if table == "lots":
            self.species[key], self.tags[key] = (one or {}).get("id"), []
        return JSONResponse({"data": self.shown(table, key)}, 201, media_type=MEDIA)

    async def one(self, request: Request) -> Response:
        table, key = request.path_params["table"], request.path_params["key"]
        if key not in self.rows.get(table, {}):
            return refused(404, "no such row")
        if request.method in {"GET", "HEAD"}:
            return JSONResponse({"data": self.shown(table, key)}, media_type=MEDIA)
        self.gone(table, key)
        return Response(status_code=204)

    def gone(self, table: str, key: str) -> None:
        del self.rows[table][key]
        self.species.pop(key, None) if table == "lots" else None
        self.tags.pop(key, None) if table == "lots" else None
        for lot in self.tags:
            self.tags[lot] = [each for each in self.tags[lot] if table != "tags" or each != key]
            self.species[lot] = None if table == "species" and self.species[lot] == key else self.species[lot]

    # -- relationships -----------------------------------------------------------------------------

    async def related(self, request: Request) -> Response:
        key, name = request.path_params["key"], request.path_params["name"]
        if key not in self.rows["lots"] or name not in LINKS:
            return refused(404, "no such row")
        data = self.linked(key, name)
        kept = [] if isinstance(data, list) else None
        if self.fault != "related" and data:
            rows = [self.shown(each["type"], each["id"]) for each in (data if isinstance(data, list) else [data])]
            kept = rows if isinstance(data, list) else rows[0]  # type: ignore[assignment]
        return JSONResponse({"data": kept}, media_type=MEDIA)

    async def link(self, request: Request) -> Response:
        key, name, method = request.path_params["key"], request.path_params["name"], request.method
        if key not in self.rows["lots"] or name not in LINKS:
            return refused(404, "no such row")
        if method in {"GET", "HEAD"}:
            return JSONResponse({"data": self.linked(key, name)}, media_type=MEDIA)
        body = await json_of(request)
        data = body.get("data") if isinstance(body, dict) else None
        target, many = LINKS[name]
        if self.fault == "refused" or (many != isinstance(data, list)) or (not many and method != "PATCH"):
            return refused(400 if self.fault == "refused" else 403, "not so")
        keys = [str(each.get("id")) for each in (data if isinstance(data, list) else [data] if data else [])]
        if any(each not in self.rows[target] for each in keys) and self.fault != f"missing {name}":
            return refused(404, "no such row")
        if many:
            self.change_tags(key, method, keys)
        elif not (self.fault == "lost" or (self.fault == "null kept" and not keys)):
            self.species[key] = keys[0] if keys else None
        return Response(status_code=204)

    def change_tags(self, key: str, method: str, keys: list[str]) -> None:
        known, fault = self.tags[key], self.fault
        if method == "POST":
            new = keys if fault == "twice" else [each for each in keys if each not in known]
            self.tags[key] = known if fault == "add lost" else [*known, *new]
        elif method == "PATCH":
            before = [each for each in known if each not in keys] if fault == "kept" else []
            self.tags[key] = known if fault == "replace lost" and keys else [*before, *keys]
        elif fault == "takes all":
            self.tags[key] = []
        elif fault != "stays":
            self.tags[key] = [each for each in known if each not in keys]
        if method == "DELETE" and fault == "removes":
            for each in keys:
                self.gone("tags", each)

    # -- as served ---------------------------------------------------------------------------------

    def app(self) -> Starlette:
        return Starlette(
            routes=[
                Route("/lots/{key}/relationships/{name}", self.link, methods=["GET", "PATCH", "POST", "DELETE"]),
                Route("/lots/{key}/{name}", self.related),
                Route("/{table}", self.listed, methods=["GET", "POST"]),
                Route("/{table}/{key}", self.one, methods=["GET", "DELETE"]),
            ]
        )

    def contract(self) -> Json:
        paths: Json = {}
        schemas: Json = {"Errors": _object({"errors": {"type": "array"}}, "errors")}
        for table in ATTRIBUTES:
            schemas[table] = _row(table, told=self.told)
            row = {"$ref": f"#/components/schemas/{table}"}
            new = _object({"data": {**_row(table, new=True, told=self.told)}}, "data")
            paths[f"/{table}"] = {
                "get": _answers({"200": _object({"data": {"type": "array", "items": row}}, "data")}),
                "post": {**_answers({"201": _object({"data": row}, "data"), **_refusals("415", "422")}), **_body(new)},
            }
            paths[f"/{table}/{{id}}"] = {
                "parameters": [_parameter("id")],
                "get": _answers({"200": _object({"data": row}, "data"), **_refusals("404")}),
                "delete": _answers({"204": None, **_refusals("404")}),
            }
        for name in LINKS if self.named else ("{relationship}",):
            more = [_parameter("relationship")] if not self.named else []
            known = _identifiers(LINKS[name][1] if self.named else None)
            shown, sent = _object({"data": known}, "data"), _body(_object({"data": known}, "data"))
            writes = {"204": None, **_refusals("400", "403", "404")}
            paths[f"/lots/{{id}}/relationships/{name}"] = {
                "parameters": [_parameter("id"), *more],
                "get": _answers({"200": shown, **_refusals("404")}),
                **{
                    method: {**_answers(writes), **sent}
                    for method in ("patch", "post", "delete")
                    if method == "patch" or not self.named or LINKS[name][1]
                },
            }
            if not self.named:
                paths[f"/lots/{{id}}/{name}"] = {
                    "parameters": [_parameter("id"), *more],
                    "get": _answers({"200": _object({"data": {}}, "data"), **_refusals("404")}),
                }
        return {
            "openapi": "3.1.0",
            "info": {"title": "Linked", "version": "1"},
            "security": [],
            "paths": paths,
            "components": {"schemas": schemas},
        }


def _object(properties: Json, *required: str) -> Json:
    return {"type": "object", "properties": properties, "required": list(required), "additionalProperties": False}


def _identifier(kind: str = "") -> Json:
    return _object(
        {"type": {"type": "string", **({"const": kind} if kind else {})}, "id": {"type": "string"}}, "type", "id"
    )


def _identifiers(many: bool | None) -> Json:
    one, several = _identifier(), {"type": "array", "items": _identifier()}
    if many is None:
        return {"oneOf": [one, several, {"type": "null"}]}
    return several if many else {"oneOf": [one, {"type": "null"}]}


def _row(table: str, new: bool = False, told: bool = True) -> Json:
    inside = _object({ATTRIBUTES[table]: {"type": "string"}}, ATTRIBUTES[table])
    members: Json = {"type": {"const": table}, "attributes": inside}
    if not new:
        members["id"] = {"type": "string"}
    if table == "lots":
        species = _object({"data": {"oneOf": [_identifier("species"), {"type": "null"}]}}, "data")
        tags = _object({"data": {"type": "array", "items": _identifier("tags")}}, "data")
        links = {"species": species} if new else {"species": species, "tags": tags}
        members["relationships"] = _object(links, *(() if new else links)) if told else {"type": "object"}
    return _object(members, *(name for name in members if name != "relationships" or not new))


def _content(schema: Json) -> Json:
    return {"content": {MEDIA: {"schema": schema}}}


def _body(schema: Json) -> Json:
    return {"requestBody": {"required": True, **_content(schema)}}


def _answers(schemas: dict[str, Json | None]) -> Json:
    answers = {
        status: {"description": "so", **(_content(schema) if schema is not None else {})}
        for status, schema in schemas.items()
    }
    return {"responses": answers}


def _refusals(*statuses: str) -> dict[str, Json | None]:
    return {each: {"$ref": "#/components/schemas/Errors"} for each in statuses}


def _parameter(name: str) -> Json:
    return {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
