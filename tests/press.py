"""A publisher's books in the ways of several kinds of generated APIs, with no code of the stand-in's: each keeps its
contract, unless a fault is named."""

from __future__ import annotations

import email
import email.policy
import json
import re
from datetime import date
from typing import Any
from urllib.parse import parse_qs, quote, unquote

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

Json = dict[str, Any]
FIELDS: Json = {
    "title": {"type": "string", "minLength": 1, "maxLength": 80},
    "pages": {"type": "integer", "minimum": 1, "maximum": 9000},
    "printed": {"type": "string", "format": "date", "nullable": True},
}
NEW: Json = {"type": "object", "additionalProperties": False, "required": ["title", "pages"], "properties": FIELDS}
CHANGE: Json = {**NEW, "required": []}
KINDS: dict[str, tuple[type, ...]] = {"title": (str,), "pages": (int,), "printed": (str, type(None))}
USUAL: Json = {"title": "", "pages": 1, "printed": None}


class Refused(Exception):
    def __init__(self, status: int) -> None:
        self.status = status


def content(schema: Json, media_type: str = "application/json") -> Json:
    return {"content": {media_type: {"schema": schema}}}


def key_parameter(name: str, kind: str = "integer", where: str = "path") -> Json:
    return {"name": name, "in": where, "required": True, "schema": {"type": kind}}


REFUSED: Json = {code: {"description": "refused"} for code in ("400", "404", "415", "422")}


class Press:
    """The books by their keys. ``fault`` is one of: lost (changes of pages are not stored), stays (removed rows do),
    short (titles are cut)."""

    media_type = "application/json"
    text_keys = False

    def __init__(self, fault: str = "") -> None:
        self.fault, self.last = fault, 400
        self.books: dict[Any, Json] = {}
        for n in range(1, 24):
            printed = None if n % 5 == 0 else date(1990 + n, 1 + n % 12, 1 + n).isoformat()
            self.books[self.key(n)] = {"title": f"book {n}", "pages": 40 * n, "printed": printed}

    def key(self, number: int) -> Any:
        return f"b{number:04d}" if self.text_keys else number

    # -- what every way has in common ------------------------------------------------------------

    def checked(self, body: Any, partial: bool) -> Json:
        if not isinstance(body, dict) or set(body) - set(KINDS):
            raise Refused(422)
        if not partial and not {"title", "pages"} <= set(body):
            raise Refused(422)
        for name, value in body.items():
            if not isinstance(value, KINDS[name]) or isinstance(value, bool):
                raise Refused(422)
        if not 1 <= len(body.get("title", "x")) <= 80 or not 1 <= body.get("pages", 1) <= 9000:
            raise Refused(422)
        if body.get("printed") is not None:
            try:
                date.fromisoformat(body["printed"])
            except ValueError:
                raise Refused(422) from None
        return dict(body)

    def make(self, body: Json, key: Any = None) -> Any:
        if key is None:
            self.last += 1
            key = self.key(self.last)
        self.books[key] = {**USUAL, **body}
        if self.fault == "short":
            self.books[key]["title"] = self.books[key]["title"][:50]
        return key

    def change(self, key: Any, body: Json, whole: bool = False) -> None:
        before = self.find(key)
        if self.fault == "lost":
            body = {name: value for name, value in body.items() if name != "pages"}
        self.books[key] = {**(USUAL if whole else before), **({"pages": before["pages"]} if whole else {}), **body}

    def remove(self, key: Any) -> None:
        self.find(key)
        if self.fault != "stays":
            del self.books[key]

    def find(self, key: Any) -> Json:
        if key not in self.books:
            raise Refused(404)
        return self.books[key]

    def listed(self) -> list[tuple[Any, Json]]:
        return list(self.books.items())

    async def body(self, request: Request) -> Any:
        if request.headers.get("content-type", "").partition(";")[0] != self.media_type:
            raise Refused(415)
        try:
            return json.loads(await request.body())
        except ValueError:
            raise Refused(400) from None

    def number(self, text: str | None, usual: int, least: int, most: int) -> int:
        if text is None:
            return usual
        if not re.fullmatch(r"\d{1,9}", text) or not least <= int(text) <= most:
            raise Refused(400)
        return int(text)

    def document(self, paths: Json, **schemas: Json) -> Json:
        components = {"schemas": {"New": NEW, "Change": CHANGE, **schemas}}
        return {
            "openapi": "3.0.3",
            "info": {"title": "press", "version": "1"},
            "paths": paths,
            "components": components,
        }

    def contract(self) -> Json:
        raise NotImplementedError

    async def answer(self, request: Request) -> Response:
        raise NotImplementedError

    def app(self) -> Starlette:
        async def guarded(request: Request) -> Response:
            try:
                return await self.answer(request)
            except Refused as refused:
                return Response(status_code=refused.status)

        methods = ["GET", "POST", "PUT", "PATCH", "DELETE"]
        return Starlette(routes=[Route("/{path:path}", guarded, methods=methods)])


class Hypermedia(Press):
    """Rows in ``_embedded``, with links; a page has a number from 0; a create answers with nothing but where."""

    def contract(self) -> Json:
        link = {"type": "object", "properties": {"href": {"type": "string"}}}
        links = {"type": "object", "properties": {"self": link, "next": link}}
        row = {"type": "object", "properties": {"id": {"type": "integer"}, **FIELDS, "_links": links}}
        counts = {name: {"type": "integer"} for name in ("size", "totalElements", "number")}
        page = {
            "_embedded": {"type": "object", "properties": {"books": {"type": "array", "items": row}}},
            "_links": links,
            "page": {"type": "object", "properties": counts},
        }
        asked = [
            {"name": "page", "in": "query", "schema": {"type": "integer", "default": 0, "minimum": 0}},
            {"name": "size", "in": "query", "schema": {"type": "integer", "maximum": 50, "minimum": 1}},
            {
                "name": "sort",
                "in": "query",
                "description": "A field and a direction: `title,desc`.",
                "schema": {"type": "string"},
            },
        ]
        listed = {"200": {"description": "", **content({"type": "object", "properties": page}, "application/hal+json")}}
        shown = {"200": {"description": "", **content(row, "application/hal+json")}}
        made = {"201": {"description": "", "headers": {"Location": {"schema": {"type": "string"}}}}}
        done = {"204": {"description": ""}}
        return self.document(
            {
                "/api/books": {
                    "get": {"parameters": asked, "responses": {**listed, **REFUSED}},
                    "post": {"requestBody": {"required": True, **content(NEW)}, "responses": {**made, **REFUSED}},
                },
                "/api/books/{id}": {
                    "parameters": [key_parameter("id")],
                    "get": {"responses": {**shown, **REFUSED}},
                    "put": {"requestBody": {"required": True, **content(NEW)}, "responses": {**done, **REFUSED}},
                    "patch": {
                        "requestBody": {"required": True, **content(CHANGE, "application/merge-patch+json")},
                        "responses": {**done, **REFUSED},
                    },
                    "delete": {"responses": {**done, **REFUSED}},
                },
            }
        )

    def shown(self, key: int, row: Json) -> Json:
        return {"id": key, **row, "_links": {"self": {"href": f"/api/books/{key}"}}}

    async def answer(self, request: Request) -> Response:
        parts = request.path_params["path"].split("/")
        if parts[:2] != ["api", "books"] or len(parts) > 3:
            return Response(status_code=404)
        hal = "application/hal+json"
        if len(parts) == 2:
            if request.method == "POST":
                key = self.make(self.checked(await self.body(request), False))
                return Response(status_code=201, headers={"Location": f"/api/books/{key}"})
            if request.method not in {"GET", "HEAD"}:
                return Response(status_code=405)
            return self.page(request)
        key = int(parts[2]) if re.fullmatch(r"\d{1,12}", parts[2]) else None
        if request.method in {"GET", "HEAD"}:
            return JSONResponse(self.shown(key or 0, self.find(key)), media_type=hal)
        if request.method == "DELETE":
            self.remove(key)
        elif request.method in {"PUT", "PATCH"}:
            self.find(key)
            self.media_type = "application/json" if request.method == "PUT" else "application/merge-patch+json"
            body = await self.body(request)
            self.media_type = "application/json"
            self.change(key, self.checked(body, request.method == "PATCH"), request.method == "PUT")
        else:
            return Response(status_code=405)
        return Response(status_code=204)

    def page(self, request: Request) -> Response:
        page = self.number(request.query_params.get("page"), 0, 0, 10**6)
        size = self.number(request.query_params.get("size"), 10, 1, 50)
        rows = self.listed()
        name, _, way = request.query_params.get("sort", "").partition(",")
        if name:
            if name not in {"id", *FIELDS} or way not in {"", "asc", "desc"}:
                raise Refused(400)
            known = [each for each in rows if name == "id" or each[1][name] is not None]
            nulls = [each for each in rows if each not in known]
            known.sort(key=lambda each: each[0] if name == "id" else each[1][name], reverse=way == "desc")
            rows = [*known, *nulls]
        shown = [self.shown(*each) for each in rows[page * size : (page + 1) * size]]
        links = {"self": {"href": f"/api/books?page={page}&size={size}"}}
        if (page + 1) * size < len(rows):
            order = f"&sort={quote(request.query_params['sort'])}" if name else ""
            links["next"] = {"href": f"/api/books?page={page + 1}&size={size}{order}"}
        counts = {"size": size, "totalElements": len(rows), "number": page}
        return JSONResponse(
            {"_embedded": {"books": shown}, "_links": links, "page": counts}, media_type="application/hal+json"
        )


class Boxed(Press):
    """A row's fields stand in ``fields`` beside its key, a text; lists go on by a token."""

    text_keys = True

    def contract(self) -> Json:
        box = {
            "type": "object",
            "properties": {"id": {"type": "string"}, "fields": {"type": "object", "properties": FIELDS}},
        }
        sent = {"type": "object", "additionalProperties": False, "required": ["fields"], "properties": {"fields": NEW}}
        changed = {**sent, "properties": {"fields": CHANGE}}
        page = {"records": {"type": "array", "items": box}, "offset": {"type": "string"}}
        asked = [
            {"name": "pageSize", "in": "query", "schema": {"type": "integer", "maximum": 20}},
            {
                "name": "offset",
                "in": "query",
                "description": "The token that the page before gave.",
                "schema": {"type": "string"},
            },
        ]
        shown = {"200": {"description": "", **content(box)}, **REFUSED}
        gone = {"deleted": {"type": "boolean"}, "id": {"type": "string"}}
        return self.document(
            {
                "/v0/books": {
                    "get": {
                        "parameters": asked,
                        "responses": {
                            "200": {"description": "", **content({"type": "object", "properties": page})},
                            **REFUSED,
                        },
                    },
                    "post": {"requestBody": {"required": True, **content(sent)}, "responses": shown},
                },
                "/v0/books/{recordId}": {
                    "parameters": [key_parameter("recordId", "string")],
                    "get": {"responses": shown},
                    "patch": {"requestBody": {"required": True, **content(changed)}, "responses": shown},
                    "delete": {
                        "responses": {
                            "200": {"description": "", **content({"type": "object", "properties": gone})},
                            **REFUSED,
                        }
                    },
                },
            }
        )

    async def answer(self, request: Request) -> Response:
        parts = request.path_params["path"].split("/")
        if parts[:2] != ["v0", "books"] or len(parts) > 3:
            return Response(status_code=404)
        if len(parts) == 2 and request.method in {"GET", "HEAD"}:
            size = self.number(request.query_params.get("pageSize"), 10, 1, 20)
            rows, token = self.listed(), request.query_params.get("offset")
            keys = [key for key, _ in rows]
            if token is not None and token not in keys:
                raise Refused(422)
            start = keys.index(token) if token is not None else 0
            page: Json = {"records": [{"id": key, "fields": row} for key, row in rows[start : start + size]]}
            return JSONResponse({**page, "offset": keys[start + size]} if start + size < len(keys) else page)
        key = unquote(parts[2]) if len(parts) == 3 else None
        if request.method in {"POST", "PATCH"} and (key is None) == (request.method == "POST"):
            if key is not None:
                self.find(key)
            body = await self.body(request)
            if not isinstance(body, dict) or set(body) != {"fields"}:
                raise Refused(422)
            if key is None:
                key = self.make(self.checked(body["fields"], False))
            else:
                self.change(key, self.checked(body["fields"], True))
            return JSONResponse({"id": key, "fields": self.find(key)})
        if key is None:
            return Response(status_code=405)
        if request.method == "DELETE":
            self.remove(key)
            return JSONResponse({"deleted": True, "id": key})
        return (
            JSONResponse({"id": key, "fields": self.find(key)})
            if request.method in {"GET", "HEAD"}
            else Response(status_code=405)
        )


class Keyed(Press):
    """All rows as members of one object, by keys that the client chooses with PUT or is given with POST."""

    text_keys = True

    def contract(self) -> Json:
        row = {"type": "object", "properties": FIELDS}
        every = {"type": "object", "additionalProperties": row}
        name = {"type": "object", "properties": {"key": {"type": "string"}}}
        shown = {"200": {"description": "", **content(row)}, **REFUSED}
        return self.document(
            {
                "/books": {
                    "get": {"responses": {"200": {"description": "", **content(every)}, **REFUSED}},
                    "post": {
                        "requestBody": {"required": True, **content(NEW)},
                        "responses": {"200": {"description": "", **content(name)}, **REFUSED},
                    },
                },
                "/books/{key}": {
                    "parameters": [key_parameter("key", "string")],
                    "get": {"responses": shown},
                    "patch": {"requestBody": {"required": True, **content(CHANGE)}, "responses": shown},
                    "delete": {"responses": {"204": {"description": ""}, **REFUSED}},
                },
            }
        )

    async def answer(self, request: Request) -> Response:
        parts = request.path_params["path"].split("/")
        if parts[0] != "books" or len(parts) > 2:
            return Response(status_code=404)
        key = unquote(parts[1]) if len(parts) == 2 else None
        if key is None:
            if request.method == "POST":
                return JSONResponse({"key": self.make(self.checked(await self.body(request), False))})
            return JSONResponse(dict(self.listed())) if request.method in {"GET", "HEAD"} else Response(status_code=405)
        if request.method == "DELETE":
            self.remove(key)
            return Response(status_code=204)
        self.find(key)
        if request.method == "PATCH":
            self.change(key, self.checked(await self.body(request), True))
        elif request.method not in {"GET", "HEAD"}:
            return Response(status_code=405)
        return JSONResponse(self.find(key))


class Forms(Press):
    """Everything by GET and by forms at paths named for what they do, described in OpenAPI 2.0."""

    media_type = "application/x-www-form-urlencoded"

    def contract(self) -> Json:
        row = {"type": "object", "properties": {"id": {"type": "integer"}, **_older(FIELDS)}}
        fields = [
            {
                "name": name,
                "in": "formData",
                "required": name != "printed",
                **{k: v for k, v in each.items() if k != "nullable"},
            }
            for name, each in FIELDS.items()
        ]
        optional = [{**each, "required": False} for each in fields]
        key = [{"name": "id", "in": "query", "required": True, "type": "integer"}]
        refused = {code: {"description": "refused"} for code in ("400", "404", "415", "422")}

        def call(method: str, parameters: list[Json], schema: Json | None = None) -> Json:
            answer: Json = {"description": "", **({"schema": schema} if schema else {})}
            return {method: {"parameters": parameters, "responses": {"200": answer, **refused}}}

        one = {"type": "object", "properties": {"book": row}}
        told = {"type": "object", "properties": {"id": {"type": "integer"}}}
        return {
            "swagger": "2.0",
            "info": {"title": "press", "version": "1"},
            "consumes": [self.media_type],
            "produces": ["application/json"],
            "paths": {
                "/book/all": call(
                    "get", [], {"type": "object", "properties": {"books": {"type": "array", "items": row}}}
                ),
                "/book/show": call("get", key, one),
                "/book/add": call("post", fields, told),
                "/book/edit": call("post", [*key, *optional]),
                "/book/erase": call("get", key),
            },
        }

    async def form(self, request: Request) -> Json:
        if request.headers.get("content-type", "").partition(";")[0] != self.media_type:
            raise Refused(415)
        found: Json = {
            name: each[0] for name, each in parse_qs((await request.body()).decode(), keep_blank_values=True).items()
        }
        if re.fullmatch(r"-?\d+", found.get("pages", "x")):
            found["pages"] = int(found["pages"])
        return found

    async def answer(self, request: Request) -> Response:
        word = request.path_params["path"].removeprefix("book/")
        expected = "POST" if word in {"add", "edit"} else "GET"
        if word not in {"all", "show", "add", "edit", "erase"} or request.method != expected:
            return Response(status_code=404 if request.method != "HEAD" else 405)
        if word == "all":
            return JSONResponse({"books": [{"id": key, **row} for key, row in self.listed()]})
        if word == "add":
            return JSONResponse({"id": self.make(self.checked(await self.form(request), False))})
        key = self.number(request.query_params.get("id"), -1, 0, 10**10)
        self.find(key)
        if word == "show":
            return JSONResponse({"book": {"id": key, **self.find(key)}})
        if word == "edit":
            self.change(key, self.checked(await self.form(request), True))
        else:
            self.remove(key)
        return Response(status_code=200)


def _older(fields: Json) -> Json:
    return {
        name: {("x-nullable" if key == "nullable" else key): value for key, value in each.items()}
        for name, each in fields.items()
    }


class Bracketed(Press):
    """Keys in brackets, texts in quotes, ``$filter`` and its like."""

    text_keys = True

    def contract(self) -> Json:
        row = {"type": "object", "properties": {"Code": {"type": "string"}, **FIELDS}}
        new = {
            **NEW,
            "required": ["Code", "title", "pages"],
            "properties": {"Code": {"type": "string", "pattern": "^b[0-9]{4}$"}, **FIELDS},
        }
        page = {
            "type": "object",
            "properties": {"value": {"type": "array", "items": row}, "@odata.count": {"type": "integer"}},
        }
        texts = ("$filter", "$orderby")
        asked = [{"name": name, "in": "query", "schema": {"type": "string"}} for name in texts]
        asked += [
            {"name": name, "in": "query", "schema": {"type": "integer", "minimum": 0}} for name in ("$top", "$skip")
        ]
        asked.append({"name": "$count", "in": "query", "schema": {"type": "boolean"}})
        shown = {"200": {"description": "", **content(row)}, **REFUSED}
        done = {"204": {"description": ""}, **REFUSED}
        return self.document(
            {
                "/Books": {
                    "get": {"parameters": asked, "responses": {"200": {"description": "", **content(page)}, **REFUSED}},
                    "post": {
                        "requestBody": {"required": True, **content(new)},
                        "responses": {
                            "201": {"description": "", **content(row)},
                            "409": {"description": ""},
                            **REFUSED,
                        },
                    },
                },
                "/Books({Code})": {
                    "parameters": [key_parameter("Code", "string")],
                    "get": {"responses": shown},
                    "patch": {"requestBody": {"required": True, **content(CHANGE)}, "responses": done},
                    "delete": {"responses": done},
                },
            }
        )

    async def answer(self, request: Request) -> Response:
        found = re.fullmatch(r"Books(?:\('((?:[^']|'')*)'\))?", request.path_params["path"])
        if found is None:
            return Response(status_code=404)
        if found[1] is None:
            if request.method == "POST":
                body = await self.body(request)
                code = body.pop("Code", None) if isinstance(body, dict) else None
                if not isinstance(code, str) or not re.fullmatch(r"b[0-9]{4}", code):
                    raise Refused(422)
                record = self.checked(body, False)
                if code in self.books:
                    raise Refused(409)
                self.make(record, code)
                return JSONResponse({"Code": code, **self.find(code)}, 201)
            return self.page(request) if request.method in {"GET", "HEAD"} else Response(status_code=405)
        key = found[1].replace("''", "'")
        if request.method in {"GET", "HEAD"}:
            return JSONResponse({"Code": key, **self.find(key)})
        if request.method == "DELETE":
            self.remove(key)
        elif request.method == "PATCH":
            self.find(key)
            self.change(key, self.checked(await self.body(request), True))
        else:
            return Response(status_code=405)
        return Response(status_code=204)

    def page(self, request: Request) -> Response:
        rows: list[Json] = [{"Code": key, **row} for key, row in self.listed()]
        asked = request.query_params
        rows = [row for row in rows if self.holds(row, asked["$filter"])] if asked.get("$filter") else rows
        for part in reversed([each.strip() for each in asked.get("$orderby", "").split(",") if each.strip()]):
            name, _, way = part.partition(" ")
            if name not in {"Code", *FIELDS} or way not in {"", "asc", "desc"}:
                raise Refused(400)
            rows.sort(key=lambda row: (row[name] is not None, row[name] or ""), reverse=way == "desc")
        top, skip = self.number(asked.get("$top"), 100, 0, 10**6), self.number(asked.get("$skip"), 0, 0, 10**6)
        answer: Json = {"value": rows[skip : skip + top]}
        return JSONResponse({**answer, "@odata.count": len(rows)} if asked.get("$count") == "true" else answer)

    def holds(self, row: Json, text: str) -> bool:
        """A condition of comparisons, ``and``, ``or``, ``not`` and brackets; anything else is refused."""
        parts = re.findall(r"\(|\)|\w+ (?:eq|ne|lt|le|gt|ge) (?:'(?:[^']|'')*'|[\w.:+-]+)|\w+|\S", text)

        def either() -> bool:
            found = both()
            while parts and parts[0] == "or":
                parts.pop(0)
                found = both() or found
            return found

        def both() -> bool:
            found = single()
            while parts and parts[0] == "and":
                parts.pop(0)
                found = single() and found
            return found

        def single() -> bool:
            part = parts.pop(0) if parts else ""
            if part == "not":
                return not single()
            if part != "(":
                return self.one(row, part)
            found = either()
            if not parts or parts.pop(0) != ")":
                raise Refused(400)
            return found

        found = either()
        if parts:
            raise Refused(400)
        return found

    def one(self, row: Json, text: str) -> bool:
        found = re.fullmatch(r"(\w+) (eq|ne|lt|le|gt|ge) ('(?:[^']|'')*'|[\w.:+-]+)", text)
        if found is None or found[1] not in row:
            raise Refused(400)
        name, sign, written = found.groups()
        value: Any = (
            None if written == "null" else written.strip("'").replace("''", "'") if written[0] == "'" else written
        )
        if name == "pages" and value is not None:
            try:
                value = float(value)
            except ValueError:
                raise Refused(400) from None
        own = row[name]
        if sign in {"eq", "ne"}:
            return (own == value) == (sign == "eq")
        if own is None or value is None:
            return False
        return {"lt": own < value, "le": own <= value, "gt": own > value, "ge": own >= value}[sign]


class Lines(Press):
    """The list as lines of JSON, records as multipart forms, changes by JSON Patch; described in OpenAPI 3.2."""

    def contract(self) -> Json:
        row = {"type": "object", "properties": {"id": {"type": "integer", "readOnly": True}, **_newer(FIELDS)}}
        lines = {"content": {"application/x-ndjson": {"itemSchema": row}}}
        steps = {"type": "array", "items": {"type": "object", "required": ["op", "path"]}}
        new = {**NEW, "properties": _newer(FIELDS)}
        shown = {"200": {"description": "", **content(row)}, **REFUSED}
        where = {"Location": {"required": True, "schema": {"type": "string"}}}
        paths = {
            "/books": {
                "get": {"responses": {"200": {"description": "", **lines}, **REFUSED}},
                "post": {
                    "requestBody": {"required": True, **content(new, "multipart/form-data")},
                    "responses": {"201": {"description": "", "headers": where}, **REFUSED},
                },
            },
            "/books/{id}": {
                "parameters": [key_parameter("id")],
                "get": {"responses": shown},
                "patch": {
                    "requestBody": {"required": True, **content(steps, "application/json-patch+json")},
                    "responses": shown,
                },
                "delete": {"responses": {"204": {"description": ""}, **REFUSED}},
            },
        }
        return {"openapi": "3.2.0", "info": {"title": "press", "version": "1"}, "paths": paths}

    async def parts(self, request: Request) -> Json:
        kind = request.headers.get("content-type", "")
        if not kind.startswith("multipart/form-data"):
            raise Refused(415)
        raw = b"Content-Type: " + kind.encode() + b"\r\n\r\n" + await request.body()
        found: Json = {}
        for part in email.message_from_bytes(raw, policy=email.policy.HTTP).walk():
            name, text = part.get_param("name", header="content-disposition"), part.get_payload(decode=True)
            if name is not None and isinstance(text, bytes):
                found[str(name)] = text.decode()
        if re.fullmatch(r"-?\d+", found.get("pages", "x")):
            found["pages"] = int(found["pages"])
        return found

    async def steps(self, request: Request) -> Json:
        if request.headers.get("content-type") != "application/json-patch+json":
            raise Refused(415)
        try:
            steps = json.loads(await request.body())
        except ValueError:
            raise Refused(400) from None
        known = isinstance(steps, list) and all(
            isinstance(each, dict) and each.get("op") == "replace" for each in steps
        )
        if not known or any(not str(each.get("path")).startswith("/") for each in steps):
            raise Refused(400)
        return {each["path"][1:]: each.get("value") for each in steps}

    async def answer(self, request: Request) -> Response:
        parts = request.path_params["path"].split("/")
        if parts[0] != "books" or len(parts) > 2:
            return Response(status_code=404)
        if len(parts) == 1:
            if request.method == "POST":
                key = self.make(self.checked(await self.parts(request), False))
                return Response(status_code=201, headers={"Location": f"/books/{key}"})
            lines = "".join(json.dumps({"id": key, **row}) + "\n" for key, row in self.listed())
            listed = Response(lines.encode(), media_type="application/x-ndjson")
            return listed if request.method in {"GET", "HEAD"} else Response(status_code=405)
        key = int(parts[1]) if re.fullmatch(r"\d{1,12}", parts[1]) else None
        if request.method == "DELETE":
            self.remove(key)
            return Response(status_code=204)
        self.find(key)
        if request.method == "PATCH":
            self.change(key, self.checked(await self.steps(request), True))
        elif request.method not in {"GET", "HEAD"}:
            return Response(status_code=405)
        return JSONResponse({"id": key, **self.find(key)})


def _newer(fields: Json) -> Json:
    """Fields as OpenAPI 3.1 and later have them: a type list in place of ``nullable``."""
    return {
        name: {
            **{k: v for k, v in each.items() if k != "nullable"},
            **({"type": [each["type"], "null"]} if each.get("nullable") else {}),
        }
        for name, each in fields.items()
    }


WAYS: tuple[type[Press], ...] = (Hypermedia, Boxed, Keyed, Forms, Bracketed, Lines)
