"""An API of shelves and the bags on them, each bag also at a path under its shelf, in memory."""

from __future__ import annotations

import copy
import itertools
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from tests.support import described

Json = dict[str, Any]
FIELDS = {
    "shelves": {"label": {"type": "string"}},
    "bags": {"name": {"type": "string"}, "grams": {"type": "integer"}, "shelf_id": {"type": "integer"}},
}
ONE = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
UNDER = {"name": "bag_id", "in": "path", "required": True, "schema": {"type": "integer"}}


class Shelves:
    """``fault`` names what is wrong with the path of a bag under a shelf; nothing where it is ""."""

    def __init__(self, fault: str = "") -> None:
        self.fault, self.numbers = fault, itertools.count(100)
        self.rows: dict[str, dict[int, Json]] = {
            "shelves": {n: {"id": n, "label": f"Shelf {n}"} for n in range(1, 4)},
            "bags": {n: {"id": n, "name": f"Bag {n}", "grams": n * 5, "shelf_id": 1 + n % 3} for n in range(1, 10)},
        }

    def contents(self) -> dict[str, dict[int, Json]]:
        return copy.deepcopy(self.rows)

    def contract(self) -> Json:
        paths: Json = {}
        for table, fields in FIELDS.items():
            new = {"type": "object", "required": list(fields), "properties": fields, "additionalProperties": False}
            row = {**new, "required": ["id", *fields], "properties": {"id": {"type": "integer"}, **fields}}
            some = {**new, "required": []}
            paths[f"/{table}"] = {"get": described({"type": "array", "items": row}), "post": described(row, "201", new)}
            paths[f"/{table}/{{id}}"] = {"parameters": [ONE], **self._item(row, some)}
        under = {"parameters": [ONE], "get": described({"type": "array", "items": row})}
        paths["/shelves/{id}/bags"] = under
        paths["/shelves/{id}/bags/{bag_id}"] = {"parameters": [ONE, UNDER], **self._item(row, some)}
        return {"openapi": "3.1.0", "info": {"title": "Shelves", "version": "1"}, "paths": paths}

    def _item(self, row: Json, some: Json) -> Json:
        return {"get": described(row), "patch": described(row, "200", some), "delete": described(None, "204")}

    def app(self) -> Starlette:
        routes = [Route(f"/{table}", self.listed, methods=["GET", "POST"]) for table in FIELDS]
        routes += [Route(f"/{table}/{{id:int}}", self.one, methods=["GET", "PATCH", "DELETE"]) for table in FIELDS]
        routes.append(Route("/shelves/{id:int}/bags", self.under, methods=["GET"]))
        routes.append(Route("/shelves/{id:int}/bags/{bag_id:int}", self.one_under, methods=["GET", "PATCH", "DELETE"]))
        return Starlette(routes=routes)

    async def listed(self, request: Request) -> Response:
        table = request.url.path.strip("/")
        if request.method == "GET":
            return JSONResponse(list(self.rows[table].values()))
        body = await self._body(request, table)
        if body is None or set(body) != set(FIELDS[table]):
            return refused(422)
        key = next(self.numbers)
        self.rows[table][key] = {"id": key, **body}
        return JSONResponse(self.rows[table][key], 201)

    async def one(self, request: Request) -> Response:
        return await self._one(request, request.url.path.split("/")[1], request.path_params["id"], "")

    async def under(self, request: Request) -> Response:
        own = [row for row in self.rows["bags"].values() if row["shelf_id"] == request.path_params["id"]]
        return JSONResponse(own) if request.path_params["id"] in self.rows["shelves"] else refused(404)

    async def one_under(self, request: Request) -> Response:
        shelf, bag = request.path_params["id"], request.path_params["bag_id"]
        row, fault = self.rows["bags"].get(bag), self.fault
        elsewhere = row is None or row["shelf_id"] != shelf
        if fault == "not found" or (elsewhere and fault != f"elsewhere {request.method}"):
            return refused(404)
        if fault == "takes the shelf" and request.method == "DELETE":
            self.rows["shelves"].pop(shelf)
        return await self._one(request, "bags", bag, fault)

    async def _one(self, request: Request, table: str, key: int, fault: str) -> Response:
        row = self.rows[table].get(key)
        if row is None:
            return refused(404)
        if request.method == "GET":
            return JSONResponse(row)
        if request.method == "DELETE":
            if table == "shelves" and any(bag["shelf_id"] == key for bag in self.rows["bags"].values()):
                return refused(409)
            if fault != "kept":
                del self.rows[table][key]
            return Response(status_code=204)
        body = await self._body(request, table)
        if body is None:
            return refused(422)
        if fault != "not stored":
            self.rows[table][key] = {**row, **body}
        return JSONResponse(self.rows[table][key])

    async def _body(self, request: Request, table: str) -> Json | None:
        """A record whose members are of their types and refer to what is there; None for anything else."""
        if not request.headers.get("content-type", "").startswith("application/json"):
            return None
        try:
            body = await request.json()
        except ValueError:
            return None
        kinds = {"string": str, "integer": int}
        if not isinstance(body, dict) or not body.keys() <= FIELDS[table].keys() or not body:
            return None
        for name, value in body.items():
            kind = kinds[FIELDS[table][name]["type"]]
            if not isinstance(value, kind) or isinstance(value, bool) or (kind is int and abs(value) >= 2**63):
                return None
            if kind is str and any("\ud800" <= sign <= "\udfff" for sign in value):
                return None
        missing = "shelf_id" in body and body["shelf_id"] not in self.rows["shelves"]
        return None if missing else body


def refused(status: int) -> Response:
    return JSONResponse({"error": "refused"}, status)
