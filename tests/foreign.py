"""Small data APIs in other styles than the stand-in's, and with no code of its own: a library's books.

Each keeps its contract, so that a run on it must find nothing; a style is a set of choices that generators
make differently.
"""

from __future__ import annotations

import json
import threading
import time
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.demo.server import listen
from tests.direct import Direct

Json = dict[str, Any]


@dataclass(frozen=True)
class Style:
    """``rows`` and ``wrap`` name envelope members ("" for none); ``paging`` the query parameters; ``create``
    and ``change`` what writes answer with; ``refusals`` whether the contract documents them."""

    name: str
    openapi: str = "3.0.3"
    rows: str = ""
    wrap: str = ""
    total: str = ""
    paging: str = ""
    key: str = "id"
    key_type: str = "integer"
    parameter: str = "id"
    item: str = "/{}"
    create: str = "row"
    create_status: int = 201
    change: str = "row"
    delete_status: int = 204
    partial_put: bool = False
    patch: bool = True
    refusals: bool = True
    camel: bool = False
    extra_field: bool = False
    zone: str = "Z"
    slash: str = ""
    documented: tuple[str, ...] = ("400", "404", "409", "415", "422")


STYLES = (
    Style(
        "bare arrays, key only, success documented alone",
        create="key",
        create_status=200,
        change="message",
        delete_status=200,
        patch=False,
        partial_put=True,
        refusals=False,
        parameter="bookId",
    ),
    Style(
        "data and meta, pages, wrapped bodies",
        openapi="3.1.0",
        rows="data",
        wrap="data",
        total="meta",
        paging="page",
        create_status=200,
        change="row",
        key_type="uuid",
        parameter="uuid",
        key="uuid",
    ),
    Style(
        "value, no content, key named in the path",
        rows="value",
        paging="skip",
        create="none",
        change="none",
        key="isbn",
        key_type="text",
        parameter="isbn",
        item="/isbn/{}",
    ),
    Style(
        "results, next link, camel case, no PATCH",
        openapi="3.1.0",
        rows="results",
        total="count",
        paging="next",
        patch=False,
        camel=True,
        extra_field=True,
        zone="+00:00",
        parameter="book_id",
    ),
    Style(
        "slashes at the ends, errors documented by a range",
        rows="results",
        total="count",
        paging="skip",
        item="{}/",
        slash="/",
        key_type="uuid",
        key="id",
        documented=("4XX",),
    ),
)


def camel(name: str) -> str:
    head, *rest = name.split("_")
    return head + "".join(word.capitalize() for word in rest)


class Library:
    """The API of one style."""

    def __init__(self, style: Style, count: int = 23) -> None:
        self.style = style
        self.authors: dict[Any, Json] = {n: {"id": n, "name": f"Author {n}"} for n in range(1, 4)}
        self.books: dict[Any, Json] = {}
        for number in range(1, count + 1):
            key = {
                "integer": number,
                "uuid": str(uuid.uuid5(uuid.NAMESPACE_URL, str(number))),
                "text": f"978-{number:09d}",
            }[style.key_type]
            self.books[key] = {
                style.key: key,
                "title": f"Book {number}",
                "author_id": 1 + number % 3,
                "pages": 10 * (number % 400 + 1),
                "price": number / 4,
                "in_print": number % 2 == 0,
                "printed_at": self.zoned("2020-02-01T10:00:00"),
                "subtitle": None,
            }
        self.last = count

    @property
    def path(self) -> str:
        return "/api/books" + self.style.slash

    def zoned(self, moment: str) -> str:
        return moment + self.style.zone

    # -- contract ----------------------------------------------------------------------------------

    def name(self, field: str) -> str:
        return camel(field) if self.style.camel else field

    def book_schema(self, writable: bool, required: bool) -> Json:
        style = self.style
        nullable: Json = (
            {"type": "string", "maxLength": 60, "nullable": True}
            if style.openapi.startswith("3.0")
            else {"anyOf": [{"type": "string", "maxLength": 60}, {"type": "null"}]}
        )
        key_type = {
            "integer": {"type": "integer", "format": "int64"},
            "uuid": {"type": "string", "format": "uuid"},
            "text": {"type": "string", "maxLength": 20, "minLength": 3},
        }[style.key_type]
        fields: Json = {
            "title": {"type": "string", "maxLength": 80, "minLength": 1},
            "author_id": {"type": "integer"},
            "pages": {"type": "integer", "minimum": 1, "maximum": 5000},
            "price": {"type": "number", "minimum": 0},
            "in_print": {"type": "boolean", "default": True},
            "printed_at": {"type": "string", "format": "date-time"},
            "subtitle": nullable,
        }
        properties = {self.name(field): schema for field, schema in fields.items()}
        if not writable or style.key_type == "text":
            properties = {style.key: key_type, **properties}
        if not writable and style.extra_field:
            properties["shelf_mark"] = {"type": "string"}
        schema: Json = {"type": "object", "properties": properties}
        if required:
            wanted = ["title", "author_id", "pages", "price", "printed_at"]
            schema["required"] = ([style.key] if style.key_type == "text" else []) + [
                self.name(each) for each in wanted
            ]
        return schema

    def contract(self) -> Json:
        style = self.style
        row, new = {"$ref": "#/components/schemas/Book"}, {"$ref": "#/components/schemas/NewBook"}
        change = {"$ref": "#/components/schemas/BookChange"}

        def wrapped(schema: Json) -> Json:
            return {"type": "object", "properties": {style.wrap: schema}} if style.wrap else schema

        def content(schema: Json) -> Json:
            return {"content": {"application/json": {"schema": schema}}}

        def answers(kind: str, status: int) -> Json:
            bodies = {
                "row": content(wrapped(row)),
                "key": content(_object(id={"type": "integer"})),
                "message": content(_object(message={"type": "string"})),
                "none": {},
            }
            documented: Json = {str(status if kind != "none" else 204): {"description": "done", **bodies[kind]}}
            if style.refusals:
                error = content(_object(error={"type": "string"}))
                documented |= {code: {"description": "refused", **error} for code in style.documented}
            return documented

        listed: Json = {"type": "array", "items": row}
        if style.rows:
            listed = _object(**{style.rows: listed})
            if style.total == "meta":
                listed["properties"]["meta"] = _object(total={"type": "integer"})
            elif style.total:
                listed["properties"][style.total] = {"type": "integer"}
            if style.paging == "next":
                listed["properties"]["next"] = (
                    {"type": "string", "nullable": True} if style.openapi < "3.1" else {"type": ["string", "null"]}
                )
        names = {"page": ("page", "per_page"), "skip": ("skip", "take"), "next": ("cursor", "size"), "": ()}[
            style.paging
        ]
        queries = [
            {"name": name, "in": "query", "schema": {"type": "string" if name == "cursor" else "integer"}}
            for name in names
        ]
        key = {"name": style.parameter, "in": "path", "required": True, "schema": {"type": "string"}}
        item: Json = {
            "parameters": [key],
            "get": {"responses": answers("row", 200)},
            "put": {
                "requestBody": content(wrapped(change if style.partial_put else new)),
                "responses": answers(style.change, 200),
            },
            "delete": {"responses": answers("message" if style.delete_status == 200 else "none", 200)},
        }
        if style.patch:
            item["patch"] = {"requestBody": content(wrapped(change)), "responses": answers(style.change, 200)}
        paths: Json = {
            self.path: {
                "get": {"parameters": queries, "responses": {"200": {"description": "books", **content(listed)}}},
                "post": {"requestBody": content(wrapped(new)), "responses": answers(style.create, style.create_status)},
            },
            self.path + style.item.format("{" + style.parameter + "}"): item,
            "/api/authors": {
                "get": {
                    "responses": {
                        "200": {
                            "description": "authors",
                            **content(
                                {"type": "array", "items": _object(id={"type": "integer"}, name={"type": "string"})}
                            ),
                        }
                    }
                }
            },
            "/api/authors/{id}": {
                "get": {
                    "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}],
                    "responses": {
                        "200": {
                            "description": "author",
                            **content(_object(id={"type": "integer"}, name={"type": "string"})),
                        }
                    },
                }
            },
        }
        if style.create == "none":
            post = paths[self.path]["post"]["responses"]
            post["201"] = {"description": "made", "headers": {"Location": {"schema": {"type": "string"}}}}
            post.pop("204", None)
        return {
            "openapi": style.openapi,
            "info": {"title": style.name, "version": "1"},
            "paths": paths,
            "components": {
                "schemas": {
                    "Book": self.book_schema(False, False),
                    "NewBook": self.book_schema(True, True),
                    "BookChange": self.book_schema(True, False),
                }
            },
        }

    # -- answers -----------------------------------------------------------------------------------

    def shown(self, book: Json) -> Json:
        row = {key if key == self.style.key else self.name(key): value for key, value in book.items()}
        if self.style.extra_field:
            row["shelf_mark"] = f"S{book[self.style.key]}"
        return {self.style.wrap: row} if self.style.wrap else row

    def done(self, kind: str, book: Json, status: int, made: bool = False) -> Response:
        headers = {"Location": self.path + self.style.item.format(quote(str(book[self.style.key])))} if made else {}
        if kind == "none":
            return Response(status_code=201 if made else 204, headers=headers)
        body = {"row": self.shown(book), "key": {"id": book[self.style.key]}, "message": {"message": "done"}}[kind]
        return JSONResponse(body, status)

    def refused(self, status: int) -> Response:
        return JSONResponse({"error": f"refused with {status}"}, status)

    async def listed(self, request: Request) -> Response:
        style, books = self.style, list(self.books.values())
        query = request.query_params
        try:
            size = min(
                10, int(query.get({"page": "per_page", "skip": "take", "next": "size"}.get(style.paging, ""), 10))
            )
            start = {
                "page": (int(query.get("page", 1)) - 1) * size,
                "skip": int(query.get("skip", 0)),
                "next": int(query.get("cursor", 0)),
            }.get(style.paging, 0)
        except ValueError:
            return self.refused(400)
        if size < 0 or start < 0:
            return self.refused(400)
        size = size if style.paging else len(books)
        page = [self.shown(book) for book in books[start : start + size]]
        page = [row[style.wrap] for row in page] if style.wrap else page
        if not style.rows:
            return JSONResponse(page)
        body: Json = {style.rows: page}
        if style.total == "meta":
            body["meta"] = {"total": len(books)}
        elif style.total:
            body[style.total] = len(books)
        if style.paging == "next":
            after = start + size
            body["next"] = f"{self.path}?cursor={after}&size={size}" if after < len(books) else None
        return JSONResponse(body)

    def broken(self, body: Any, partial: bool) -> bool:
        """Whether a body breaks a rule of its schema (checked by hand, so as not to share code)."""
        if not isinstance(body, dict):
            return True
        checks = {
            "title": lambda v: isinstance(v, str) and 1 <= len(v) <= 80,
            "author_id": lambda v: type(v) is int,
            "pages": lambda v: type(v) is int and 1 <= v <= 5000,
            "price": lambda v: type(v) in (int, float) and v >= 0,
            "in_print": lambda v: isinstance(v, bool),
            "printed_at": lambda v: isinstance(v, str) and _moment(v) is not None,
            "subtitle": lambda v: v is None or (isinstance(v, str) and len(v) <= 60),
        }
        needed = ["title", "author_id", "pages", "price", "printed_at"]
        if self.style.key_type == "text":
            checks[self.style.key] = lambda v: isinstance(v, str) and 3 <= len(v) <= 20
            needed.append(self.style.key)
        if not partial and any(self.outer(name) not in body for name in needed):
            return True
        return any(self.outer(name) in body and not check(body[self.outer(name)]) for name, check in checks.items())

    def outer(self, name: str) -> str:
        return name if name == self.style.key else self.name(name)

    async def body(self, request: Request) -> Any:
        if "json" not in request.headers.get("content-type", ""):
            return self.refused(415)
        try:
            body = json.loads(await request.body())
        except ValueError:
            return self.refused(400)
        if self.style.wrap:
            body = body.get(self.style.wrap) if isinstance(body, dict) else None
        return body

    def taken(self, body: Json) -> Json:
        names = ["title", "author_id", "pages", "price", "in_print", "printed_at", "subtitle"]
        values = {name: body[self.outer(name)] for name in names if self.outer(name) in body}
        if "printed_at" in values:
            moment = _moment(values["printed_at"])
            assert moment is not None
            values["printed_at"] = self.zoned(moment.strftime("%Y-%m-%dT%H:%M:%S"))
        return values

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, Response):
            return body
        if self.broken(body, False):
            return self.refused(422)
        if body[self.outer("author_id")] not in self.authors:
            return self.refused(409)
        self.last += 1
        key = {"integer": self.last, "uuid": str(uuid.uuid4()), "text": body.get(self.style.key)}[self.style.key_type]
        if key in self.books:
            return self.refused(409)
        book = {self.style.key: key, "in_print": True, "subtitle": None, **self.taken(body)}
        self.books[key] = book
        return self.done(self.style.create, book, self.style.create_status, made=True)

    def key_of(self, request: Request) -> Any:
        text = request.path_params["key"]
        if self.style.key_type == "integer":
            return int(text) if text.isascii() and text.isdigit() else None
        return text

    async def item(self, request: Request) -> Response:
        key = self.key_of(request)
        if key is None or key not in self.books:
            return self.refused(404)
        book = self.books[key]
        if request.method in ("GET", "HEAD"):
            return JSONResponse(self.shown(book))
        if request.method == "DELETE":
            del self.books[key]
            return Response(status_code=204) if self.style.delete_status == 204 else JSONResponse({"message": "gone"})
        if (request.method == "PATCH" and not self.style.patch) or request.method == "POST":
            return Response(status_code=405)
        body = await self.body(request)
        if isinstance(body, Response):
            return body
        partial = request.method == "PATCH" or self.style.partial_put
        if self.broken(body, partial):
            return self.refused(422)
        author = body.get(self.outer("author_id"))
        if author is not None and author not in self.authors:
            return self.refused(409)
        values = self.taken(body)
        if not partial:
            values = {"in_print": True, "subtitle": None, **values}
        book.update(values)
        return self.done(self.style.change, book, 200)

    async def author_list(self, request: Request) -> Response:
        return JSONResponse(list(self.authors.values()))

    async def author(self, request: Request) -> Response:
        author = self.authors.get(int(text) if (text := request.path_params["key"]).isdigit() else None)
        return JSONResponse(author) if author else Response(status_code=404)

    def app(self) -> Starlette:
        return Starlette(
            routes=[
                Route(self.path, self.listed, methods=["GET"]),
                Route(self.path, self.create, methods=["POST"]),
                Route(
                    self.path + self.style.item.format("{key}"),
                    self.item,
                    methods=["GET", "PUT", "PATCH", "DELETE", "POST"],
                ),
                Route("/api/authors", self.author_list),
                Route("/api/authors/{key}", self.author),
            ]
        )


def _object(**properties: Json) -> Json:
    return {"type": "object", "properties": properties}


def _moment(text: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        return None
    return moment.astimezone(UTC) if moment.tzinfo and "T" in text else None


class Mended:
    """An app that meets bodies without halves of characters and with numbers that a double holds: to break on those is
    a departure of its own, and none of these is about it."""

    def __init__(self, app: Any) -> None:
        self._app = app

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        async def mended() -> Any:
            message = await receive()
            if message["type"] == "http.request" and (b'\\ud83c"' in message["body"] or b"1e400" in message["body"]):
                message["body"] = message["body"].replace(b'\\ud83c"', b'000000"').replace(b"1e400", b"1.000")
            return message

        await self._app(scope, mended, send)


class Served:
    """An app on a free loopback port, until the block ends; ``direct`` reaches it without a network, in less time."""

    def __init__(self, app: Starlette) -> None:
        self._socket = listen()
        mended = Mended(app)
        self.direct = Direct(mended)
        config = uvicorn.Config(
            mended, log_level="error", access_log=False, lifespan="off", timeout_graceful_shutdown=1
        )
        self._server = uvicorn.Server(config)
        self._thread = threading.Thread(target=self._server.run, args=([self._socket],), daemon=True)
        self.base_url = f"http://127.0.0.1:{self._socket.getsockname()[1]}"

    def __enter__(self) -> Served:
        self._thread.start()
        while not self._server.started:
            time.sleep(0.005)
        return self

    def __exit__(self, *_: object) -> None:
        self._server.should_exit = self._server.force_exit = True
        self._thread.join(5)
        self._socket.close()
