"""A depot's API in dialects of its own, with no code of the stand-in's: customers, their orders, and labels on them.

The dialects differ in how rows are shown inside others, listed under them and linked, how many are written at
once, and how changes at the same time are kept apart. Each keeps its contract.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

Json = dict[str, Any]


@dataclass(frozen=True)
class Dialect:
    """``embed`` is the parameter that shows rows inside rows ("" for none, "always"), ``inside`` the member that
    holds them ("" for the row itself); ``link`` says how labels are put on orders; ``many`` how many rows are
    written at once; ``guard`` what a change has to name."""

    name: str
    embed: str = ""
    listed: bool = True
    inside: str = ""
    rows: str = ""
    link: str = ""
    many: str = ""
    guard: str = ""
    once: str = ""
    href: str = ""


DIALECTS = (
    Dialect(
        "embedded, array or row", "_embed", inside="_embedded", rows="items", link="path", many="array", guard="tag"
    ),
    Dialect("always there, results each", "always", rows="data", link="body", many="results", guard="version"),
    Dialect("open text, lines", "with", listed=False, many="lines", guard="needs tag", once="X-Idempotency-Key"),
    Dialect("links, keys in the body", href="links", many="keys", guard="needs version", once="needs"),
)

TEXT = {"type": "string", "minLength": 1, "maxLength": 60}
FIELDS: dict[str, Json] = {
    "customers": {"id": {"type": "integer", "readOnly": True}, "name": TEXT, "city": {"type": ["string", "null"]}},
    "orders": {
        "id": {"type": "integer", "readOnly": True},
        "number": {**TEXT, "description": "Unique."},
        "customer_id": {"type": "integer", "description": "Foreign key to customers."},
        "pieces": {"type": "integer", "minimum": 0, "maximum": 9999},
        "remark": {"type": ["string", "null"], "maxLength": 200},
    },
    "labels": {"code": TEXT, "text": {"type": ["string", "null"], "maxLength": 80}},
}
REQUIRED = {"customers": ["name"], "orders": ["number", "customer_id", "pieces"], "labels": ["code"]}
KEYS = {"customers": "id", "orders": "id", "labels": "code"}
ENDS = {"customers": "customer", "orders": "order", "labels": "label"}


class Refused(Exception):
    def __init__(self, status: int) -> None:
        super().__init__(status)
        self.status = status


class Depot:
    """The rows, and what becomes of requests. A wrong depot overrides one method."""

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.tables: dict[str, dict[Any, Json]] = {
            "customers": {
                n: {"id": n, "name": f"Customer {n}", "city": "Ghent" if n % 2 else None} for n in range(1, 6)
            },
            "orders": {
                n: {"id": n, "number": f"O-{n}", "customer_id": 1 + n % 4, "pieces": n * 3, "remark": None}
                for n in range(1, 21)
            },
            "labels": {code: {"code": code, "text": code.title()} for code in ("fragile", "this side up", "50%")},
        }
        self.labelled: set[tuple[int, str]] = {(1, "fragile"), (1, "50%"), (2, "fragile")}
        self.versions: dict[tuple[str, Any], int] = {}
        self.done: dict[str, Json] = {}
        self.last = 100

    # -- the contract ------------------------------------------------------------------------------

    def contract(self) -> Json:
        return Description(self.dialect).document()

    # -- rules -------------------------------------------------------------------------------------

    def check(self, table: str, body: Any, partial: bool = False) -> None:
        fields = {name: schema for name, schema in FIELDS[table].items() if not schema.get("readOnly")}
        if not isinstance(body, dict) or set(body) - set(fields):
            raise Refused(422)
        if not partial and set(REQUIRED[table]) - set(body):
            raise Refused(422)
        for name, value in body.items():
            kinds = fields[name]["type"] if isinstance(fields[name]["type"], list) else [fields[name]["type"]]
            kind = {str: "string", int: "integer", type(None): "null"}.get(type(value), "")
            if kind not in kinds or not fields[name].get("minLength", 0) <= len(str(value)) <= fields[name].get(
                "maxLength", 999
            ):
                raise Refused(422)
            if isinstance(value, int) and not fields[name].get("minimum", -(2**31)) <= value <= fields[name].get(
                "maximum", 2**31
            ):
                raise Refused(422)

    def store(self, table: str, body: Any) -> Any:
        self.check(table, body)
        key = body.get("code")
        if table == "labels" and key in self.tables[table]:
            raise Refused(409)
        self.bound(table, body, None)
        if table != "labels":
            self.last += 1
            key = self.last
        empty = dict.fromkeys(FIELDS[table])
        self.tables[table][key] = {**empty, **body, KEYS[table]: key}
        return key

    def bound(self, table: str, body: Json, own: Any) -> None:
        if table != "orders":
            return
        if "customer_id" in body and body["customer_id"] not in self.tables["customers"]:
            raise Refused(409)
        numbers = {row["number"] for key, row in self.tables["orders"].items() if key != own}
        if body.get("number") in numbers:
            raise Refused(409)

    def change(self, table: str, key: Any, body: Any) -> None:
        self.check(table, body, True)
        self.bound(table, body, key)
        self.tables[table][key] = {**self.tables[table][key], **body}
        self.versions[table, key] = self.version(table, key) + 1

    def remove(self, table: str, key: Any) -> None:
        if table == "customers" and any(row["customer_id"] == key for row in self.tables["orders"].values()):
            raise Refused(409)
        del self.tables[table][key]
        self.labelled = {pair for pair in self.labelled if key != pair[0 if table == "orders" else 1]}

    def there(self, table: str, key: str) -> Any:
        known: Any = int(key) if table != "labels" and key.isdigit() else key
        if known not in self.tables[table]:
            raise Refused(404)
        return known

    # -- guards ------------------------------------------------------------------------------------

    def version(self, table: str, key: Any) -> int:
        return self.versions.get((table, key), 1)

    def tag(self, row: Json) -> str:
        return 'W/"' + hashlib.md5(json.dumps(row, sort_keys=True).encode()).hexdigest()[:8] + '"'

    def guarded(self, request: Request, table: str, key: Any, body: Json) -> Json:
        """A change's body without what it names of the row as it is. Raises Refused."""
        if "tag" in self.dialect.guard:
            stated = request.headers.get("if-match")
            if stated is None and self.dialect.guard.startswith("needs"):
                raise Refused(428)
            if stated not in (None, "*", self.tag(self.shown(table, key))):
                raise Refused(412)
        if "version" in self.dialect.guard and request.method in {"PUT", "PATCH"}:
            stated = body.pop("version", None)
            if stated is None and self.dialect.guard.startswith("needs"):
                raise Refused(422)
            if stated not in (None, self.version(table, key)):
                raise Refused(409)
        return body

    # -- showing -----------------------------------------------------------------------------------

    def shown(self, table: str, key: Any) -> Json:
        row = dict(self.tables[table][key])
        if "version" in self.dialect.guard:
            row["version"] = self.version(table, key)
        if self.dialect.href:
            row[self.dialect.href] = self.links(table, row)
        return row

    def links(self, table: str, row: Json) -> Json:
        found: Json = {"self": f"/api/{table}/{quote(str(row[KEYS[table]]), safe='')}"}
        if table == "orders":
            found["customer"] = f"/api/customers/{row['customer_id']}"
        return found

    def with_related(self, table: str, row: Json, names: list[str]) -> Json:
        inside: Json = {}
        for name in names:
            if (table, name) == ("orders", "customer"):
                inside[name] = self.shown("customers", self.customer_of(row))
            elif (table, name) == ("customers", "orders"):
                inside[name] = [self.shown("orders", key) for key in self.orders_of(row["id"])]
            else:
                raise Refused(400)
        if not inside or not self.dialect.inside:
            return {**row, **inside}
        return {**row, self.dialect.inside: inside}

    def customer_of(self, row: Json) -> int:
        return int(row["customer_id"])

    def orders_of(self, customer: int) -> list[int]:
        return [key for key, row in self.tables["orders"].items() if row["customer_id"] == customer]

    def wanted(self, request: Request, table: str) -> list[str]:
        if self.dialect.embed == "always":
            return {"orders": ["customer"], "customers": []}.get(table, [])
        text = request.query_params.get(self.dialect.embed, "") if self.dialect.embed else ""
        return [name for name in text.split(",") if name]

    def page(self, rows: list[Json]) -> Response:
        return JSONResponse({self.dialect.rows: rows} if self.dialect.rows else rows)

    # -- requests ----------------------------------------------------------------------------------

    async def body(self, request: Request) -> Any:
        if "json" not in request.headers.get("content-type", ""):
            raise Refused(415)
        try:
            return json.loads(await request.body())
        except ValueError:
            raise Refused(400) from None

    async def collection(self, request: Request, table: str) -> Response:
        if request.method == "GET":
            names = self.wanted(request, table)
            rows = [self.with_related(table, self.shown(table, key), names) for key in self.tables[table]]
            return self.page(rows)
        once = request.headers.get(self.once_header) if self.once_header else None
        if self.dialect.once == "needs" and once is None:
            raise Refused(400)
        body = await self.body(request)
        if isinstance(body, list) and self.dialect.many == "array":
            return JSONResponse(self.all_or_none(table, body), 201)
        if once is None or once not in self.done:
            key = self.store(table, body)
            shown = self.shown(table, key)
            if once is not None:
                self.done[once] = shown
        else:
            shown = self.done[once]
        return JSONResponse(shown, 201)

    @property
    def once_header(self) -> str:
        return "Idempotency-Key" if self.dialect.once == "needs" else self.dialect.once

    async def item(self, request: Request, table: str) -> Response:
        key = self.there(table, request.path_params["key"])
        if request.method == "GET":
            row = self.with_related(table, self.shown(table, key), self.wanted(request, table))
            headers = {"ETag": self.tag(self.shown(table, key))} if "tag" in self.dialect.guard else {}
            if headers and request.headers.get("if-none-match") == headers["ETag"]:
                return Response(status_code=304, headers=headers)
            return JSONResponse(row, headers=headers)
        body = await self.body(request) if request.method == "PATCH" else {}
        if not isinstance(body, dict):
            raise Refused(422)
        body = self.guarded(request, table, key, body)
        if request.method == "DELETE":
            self.remove(table, key)
            return Response(status_code=204)
        self.change(table, key, body)
        return JSONResponse(self.shown(table, key))

    async def under(self, request: Request) -> Response:
        customer = self.there("customers", request.path_params["key"])
        if request.method == "GET":
            return self.page([self.shown("orders", key) for key in self.orders_of(customer)])
        body = await self.body(request)
        if not isinstance(body, dict) or "customer_id" in body:
            raise Refused(422)
        return JSONResponse(self.shown("orders", self.store("orders", {**body, "customer_id": customer})), 201)

    async def order_labels(self, request: Request) -> Response:
        order = self.there("orders", request.path_params["key"])
        if request.method == "GET":
            return self.page([self.shown("labels", code) for number, code in sorted(self.labelled) if number == order])
        body = await self.body(request)
        if not isinstance(body, dict) or set(body) != {"label_code"}:
            raise Refused(422)
        self.put_on(order, self.there("labels", str(body["label_code"])))
        return Response(status_code=204)

    async def order_label(self, request: Request) -> Response:
        order = self.there("orders", request.path_params["key"])
        code = self.there("labels", request.path_params["code"])
        if request.method == "PUT":
            self.put_on(order, code)
        else:
            self.take_off(order, code)
        return Response(status_code=204)

    def put_on(self, order: int, code: str) -> None:
        self.labelled.add((order, code))

    def take_off(self, order: int, code: str) -> None:
        self.labelled.discard((order, code))

    # -- many at once ------------------------------------------------------------------------------

    def all_or_none(self, table: str, items: list[Any]) -> list[Json]:
        before, last = dict(self.tables[table]), self.last
        try:
            return [self.shown(table, self.store(table, item)) for item in items]
        except Refused:
            self.tables[table], self.last = before, last
            raise

    def each_result(self, table: str, items: list[Any]) -> list[Json]:
        results: list[Json] = []
        for item in items:
            try:
                results.append({"success": True, "row": self.shown(table, self.store(table, item))})
            except Refused as refused:
                results.append({"success": False, "error": f"refused ({refused.status})"})
        return results

    async def bulk(self, request: Request, table: str) -> Response:
        if self.dialect.many == "lines":
            if "ndjson" not in request.headers.get("content-type", ""):
                raise Refused(415)
            try:
                items = [json.loads(line) for line in (await request.body()).splitlines() if line.strip()]
            except ValueError:
                raise Refused(400) from None
            results = self.each_result(table, items)
            failed = [{"line": place + 1} for place, each in enumerate(results) if not each["success"]]
            return JSONResponse({"created": len(results) - len(failed), "errors": failed})
        body = await self.body(request)
        items = body.get("records") if isinstance(body, dict) else None
        if self.dialect.many == "keys":
            items = body.get("keys") if isinstance(body, dict) else None
        if not isinstance(items, list) or not items:
            raise Refused(422)
        if self.dialect.many == "results":
            return JSONResponse({"results": self.each_result(table, items)}, 207)
        known = [self.there(table, str(each)) for each in items]
        self.remove_all(table, known)
        return JSONResponse({"deleted": len(known)})

    def remove_all(self, table: str, keys: list[Any]) -> None:
        for key in keys:
            self.remove(table, key)

    def app(self) -> Starlette:
        def route(path: str, method: Any, methods: list[str], *more: Any) -> Route:
            async def answer(request: Request) -> Response:
                try:
                    if request.method not in methods:
                        raise Refused(405)
                    return await method(request, *more)  # type: ignore[no-any-return]
                except Refused as refused:
                    return JSONResponse({"message": "refused"}, refused.status)

            return Route("/api" + path, answer, methods=["GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"])

        routes = []
        for table in FIELDS:
            routes.append(route(f"/{table}", self.collection, ["GET", "POST"], table))
            if self.dialect.many in {"results", "lines", "keys"}:
                name = {"results": "_bulk", "lines": "bulk-create", "keys": "batch-delete"}[self.dialect.many]
                routes.append(route(f"/{table}/{name}", self.bulk, ["POST"], table))
            routes.append(route(f"/{table}/{{key}}", self.item, ["GET", "PATCH", "DELETE"], table))
        routes.append(route("/customers/{key}/orders", self.under, ["GET", "POST"]))
        if self.dialect.link:
            routes.append(route("/orders/{key}/labels", self.order_labels, ["GET", "POST"]))
            routes.append(route("/orders/{key}/labels/{code}", self.order_label, ["PUT", "DELETE"]))
        return Starlette(routes=routes)


class Description:
    """The OpenAPI description of a dialect."""

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        codes = ("400", "404", "409", "412", "415", "422", "428", "405")
        problem = {"application/json": {"schema": {"type": "object"}}}
        self.refusals = {code: {"description": "refused", "content": problem} for code in codes}

    def content(self, schema: Json, kind: str = "application/json") -> Json:
        return {"content": {kind: {"schema": schema}}}

    def ref(self, name: str) -> Json:
        return {"$ref": f"#/components/schemas/{name}"}

    def row(self, table: str) -> Json:
        properties = dict(FIELDS[table])
        if "version" in self.dialect.guard:
            properties["version"] = {"type": "integer", "readOnly": True}
        related: Json = {}
        if self.dialect.embed and table == "orders":
            related = {"customer": self.ref("customers")}
        if self.dialect.embed not in {"", "always"} and table == "customers":
            related = {"orders": {"type": "array", "items": self.ref("orders")}}
        if self.dialect.href:
            properties[self.dialect.href] = {"type": "object", "additionalProperties": {"type": "string"}}
        if related and self.dialect.inside:
            related = {self.dialect.inside: {"type": "object", "properties": related}}
        return {"type": "object", "properties": {**properties, **related}, "required": list(FIELDS[table])}

    def record(self, table: str, partial: bool) -> Json:
        properties = {name: each for name, each in FIELDS[table].items() if not each.get("readOnly")}
        required = [] if partial else REQUIRED[table]
        if partial and "version" in self.dialect.guard:
            properties["version"] = {
                "type": "integer",
                "description": "Optimistic locking: the version that is changed.",
            }
            required = ["version"] if self.dialect.guard.startswith("needs") else []
        return {"type": "object", "additionalProperties": False, "properties": properties, "required": required}

    def rows(self, table: str) -> Json:
        rows = {"type": "array", "items": self.ref(table)}
        return {"type": "object", "properties": {self.dialect.rows: rows}} if self.dialect.rows else rows

    def embed(self, table: str) -> list[Json]:
        names = {"orders": ["customer"], "customers": ["orders"]}.get(table)
        if self.dialect.embed in {"", "always"} or not names:
            return []
        schema: Json = {"type": "string", "enum": names} if self.dialect.listed else {"type": "string"}
        return [{"name": self.dialect.embed, "in": "query", "schema": schema, "description": "Related rows to show."}]

    def guards(self) -> list[Json]:
        if "tag" not in self.dialect.guard:
            return []
        needed = self.dialect.guard.startswith("needs")
        return [{"name": "If-Match", "in": "header", "required": needed, "schema": {"type": "string"}}]

    def table(self, name: str) -> Json:
        answer = {"description": "", **self.content(self.ref(name))}
        tagged = {**answer, "headers": {"ETag": {"schema": {"type": "string"}}}} if self.guards() else answer
        new, created = self.ref(name + "-new"), answer
        if self.dialect.many == "array":
            new = {"oneOf": [new, {"type": "array", "items": new}]}
            rows = {"type": "array", "items": self.ref(name)}
            created = {"description": "", **self.content({"oneOf": [self.ref(name), rows]})}
        post: Json = {"requestBody": self.content(new), "responses": {"201": created, **self.refusals}}
        if self.dialect.many == "array":
            post["description"] = "A row, or an array of rows that is stored in one transaction."
        if self.dialect.once:
            header = "Idempotency-Key" if self.dialect.once == "needs" else self.dialect.once
            schema = {"type": "string"}
            post["parameters"] = [
                {"name": header, "in": "header", "required": self.dialect.once == "needs", "schema": schema}
            ]
        listed = {"description": "", **self.content(self.rows(name))}
        change = self.content(self.ref(name + "-change"))
        key = {"name": "key", "in": "path", "required": True, "schema": FIELDS[name][KEYS[name]]}
        kept = {"304": {"description": "unchanged"}} if self.guards() else {}
        return {
            f"/{name}": {
                "get": {"parameters": self.embed(name), "responses": {"200": listed, **self.refusals}},
                "post": post,
            },
            f"/{name}/{{key}}": {
                "parameters": [key],
                "get": {"parameters": self.embed(name), "responses": {"200": tagged, **kept, **self.refusals}},
                "patch": {
                    "parameters": self.guards(),
                    "requestBody": change,
                    "responses": {"200": answer, **self.refusals},
                },
                "delete": {"parameters": self.guards(), "responses": {"204": {"description": ""}, **self.refusals}},
            },
        }

    def bulk(self, name: str) -> Json:
        new = {"type": "array", "minItems": 1, "items": self.ref(name + "-new")}
        answer: Json = {"type": "object"}
        if self.dialect.many == "results":
            body = self.content({"type": "object", "properties": {"records": new}, "required": ["records"]})
            post = {"requestBody": body, "responses": {"207": {"description": "", **self.content(answer)}}}
            return {f"/{name}/_bulk": {"post": {**post, "responses": {**post["responses"], **self.refusals}}}}
        if self.dialect.many == "lines":
            body = self.content(self.ref(name + "-new"), "application/x-ndjson")
            said = "One record a line; a bad line does not stop the others."
            responses = {"200": {"description": "", **self.content(answer)}, **self.refusals}
            return {f"/{name}/bulk-create": {"post": {"summary": said, "requestBody": body, "responses": responses}}}
        if self.dialect.many == "keys":
            keys = {"type": "array", "minItems": 1, "items": FIELDS[name][KEYS[name]]}
            body = self.content({"type": "object", "properties": {"keys": keys}, "required": ["keys"]})
            responses = {"200": {"description": "", **self.content(answer)}, **self.refusals}
            return {f"/{name}/batch-delete": {"post": {"requestBody": body, "responses": responses}}}
        return {}

    def document(self) -> Json:
        paths: Json = {}
        schemas: Json = {}
        for name in FIELDS:
            schemas[name], schemas[name + "-new"] = self.row(name), self.record(name, False)
            schemas[name + "-change"] = self.record(name, True)
            paths |= {**self.table(name), **self.bulk(name)}
        new = self.record("orders", False)
        inner = {name: each for name, each in new["properties"].items() if name != "customer_id"}
        new = {**new, "properties": inner, "required": ["number", "pieces"]}
        key = {"name": "key", "in": "path", "required": True, "schema": {"type": "integer"}}
        created = {"description": "", **self.content(self.ref("orders"))}
        listed = {"description": "", **self.content(self.rows("orders"))}
        paths["/customers/{key}/orders"] = {
            "parameters": [key],
            "get": {"responses": {"200": listed, **self.refusals}},
            "post": {"requestBody": self.content(new), "responses": {"201": created, **self.refusals}},
        }
        if self.dialect.link:
            labels = {"description": "", **self.content(self.rows("labels"))}
            code = {"name": "code", "in": "path", "required": True, "schema": TEXT}
            done = {"responses": {"204": {"description": ""}, **self.refusals}}
            under: Json = {"parameters": [key], "get": {"responses": {"200": labels, **self.refusals}}}
            one: Json = {"parameters": [key, code], "delete": done}
            if self.dialect.link == "path":
                one["put"] = done
            else:
                body = {"type": "object", "properties": {"label_code": TEXT}, "required": ["label_code"]}
                under["post"] = {"requestBody": self.content(body), **done}
            paths |= {"/orders/{key}/labels": under, "/orders/{key}/labels/{code}": one}
        return {
            "openapi": "3.1.0",
            "info": {"title": "depot", "version": "1"},
            "paths": paths,
            "components": {"schemas": schemas},
        }
