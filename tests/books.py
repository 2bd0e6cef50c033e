"""Runs against libraries of books: a plain one, and some that keep, bring back or lose what they are given."""

from __future__ import annotations

import copy
import json
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from checkpost.findings import Finding
from checkpost.profile.credentials import Role
from tests.foreign import STYLES, Json, Library, Served, Style
from tests.support import run_against

PLAIN = replace(STYLES[1], name="plain", wrap="", total="total", key="id", key_type="integer", parameter="id")


def run_on(
    library: Library,
    contract: Json | None = None,
    role: Role | None = None,
    app: Any = None,
    resources: Sequence[str] = ("books",),
    timeout: float = 60,
) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(app or library.app()) as served:
        folder = Path(name)
        (folder / "contract.json").write_text(json.dumps(contract or library.contract()), "utf-8")
        return run_against(
            str(folder / "contract.json"),
            served.base_url,
            folder,
            resources,
            role=role,
            timeout=timeout,
            transport=served.direct,
        )


def told(result: Result) -> list[Finding]:
    """The findings but for refusals that the contract leaves undocumented."""
    return [finding for finding in result.findings if finding.check != "errors.documented"]


class Kept(Library):
    """The server keeps a moment and a version itself, though its contract lets clients set them."""

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"] |= {
            "updated_at": {"type": "string", "format": "date-time"},
            "version": {"type": "integer"},
        }
        return schema

    def shown(self, book: Json) -> Json:
        kept = {"updated_at": book.get("updated_at", "2020-01-01T00:00:00Z"), "version": book.get("version", 1)}
        return {**super().shown(book), **kept}

    def taken(self, body: Json) -> Json:
        return {**super().taken(body), "updated_at": datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")}

    async def item(self, request: Request) -> Response:
        key = self.key_of(request)
        before = copy.deepcopy(self.books.get(key))
        answer = await super().item(request)
        if request.method in {"PUT", "PATCH"} and answer.status_code == 200:
            book = self.books[key]
            book["version"] = (before or {}).get("version", 1) + 1
            return JSONResponse(self.shown(book))
        return answer

    def broken(self, body: Any, partial: bool) -> bool:
        if isinstance(body, dict):
            checks = {"updated_at": str, "version": int}
            if any(name in body and type(body[name]) is not kind for name, kind in checks.items()):
                return True
            if "updated_at" in body and "T25" in body["updated_at"]:
                return True
        return super().broken(body, partial)


class Archiving(Library):
    """Deleted rows are kept, and shown where the list is asked for them; a size of 0, the default, is none at all."""

    def __init__(self, style: Style) -> None:
        super().__init__(style)
        self.archived: dict[Any, Json] = {}

    def contract(self) -> Json:
        contract = super().contract()
        parameters = contract["paths"][self.path]["get"]["parameters"]
        parameters.append({"name": "with_deleted", "in": "query", "schema": {"type": "boolean", "default": False}})
        for each in parameters:
            if each["name"] == "take":
                each["schema"]["default"] = 0
        return contract

    async def listed(self, request: Request) -> Response:
        books = self.books
        try:
            if request.query_params.get("with_deleted") == "true":
                self.books = {**books, **self.archived}
            return await super().listed(request)
        finally:
            self.books = books

    async def item(self, request: Request) -> Response:
        before = dict(self.books)
        answer = await super().item(request)
        if request.method == "DELETE":
            self.archived |= {key: book for key, book in before.items() if key not in self.books}
        return answer


class Restoring(Archiving):
    """Deleted rows are kept, and come back when that is asked for; ``fault`` says what is wrong with it."""

    fault = ""

    def contract(self) -> Json:
        contract = Library.contract(self)
        item = self.path + "/{id}"
        key = contract["paths"][item]["parameters"]
        answers = contract["paths"][item]["get"]["responses"]
        contract["paths"][item + "/restore"] = {"parameters": key, "post": {"responses": answers}}
        return contract

    async def listed(self, request: Request) -> Response:
        books = self.books
        self.books = {key: book for key, book in books.items() if "hidden" not in book}
        answer = await Library.listed(self, request)
        self.books = books
        return answer

    def shown(self, book: Json) -> Json:
        return super().shown({name: value for name, value in book.items() if name != "hidden"})

    async def restore(self, request: Request) -> Response:
        key = self.key_of(request)
        if key not in self.archived or self.fault == "refused":
            return self.refused(404)
        book = self.archived.pop(key)
        if self.fault == "forgets":
            book["subtitle"] = None
        if self.fault == "hides":
            book["hidden"] = True
        if self.fault != "nothing":
            self.books[key] = book
        return JSONResponse(self.shown(book))

    def app(self) -> Starlette:
        app = super().app()
        app.router.routes.append(Route(self.path + "/{key}/restore", self.restore, methods=["POST"]))
        return app


class Together(Library):
    """One change for the rows of several keys; ``reached`` says how many of them it is carried out on."""

    reached = 1000

    def contract(self) -> Json:
        contract = super().contract()
        body = {
            "type": "object",
            "required": ["ids", "data"],
            "properties": {
                "ids": {"type": "array", "items": {"type": "integer"}},
                "data": {"$ref": "#/components/schemas/BookChange"},
            },
        }
        answers = {code: {"description": ""} for code in ("204", "404", "422")}
        content = {"content": {"application/json": {"schema": body}}}
        contract["paths"][self.path + "/bulk-update"] = {"post": {"requestBody": content, "responses": answers}}
        return contract

    async def change(self, request: Request) -> Response:
        body = await request.json()
        if self.broken(body["data"], True):
            return self.refused(422)
        if any(key not in self.books for key in body["ids"]):
            return self.refused(404)
        for key in body["ids"][: self.reached]:
            self.books[key] |= self.taken(body["data"])
        return Response(status_code=204)

    def app(self) -> Starlette:
        app = super().app()
        app.router.routes.insert(0, Route(self.path + "/bulk-update", self.change, methods=["POST"]))
        return app


class Silent(Library):
    """Create fails without an answer that is HTTP."""

    async def create(self, request: Request) -> Response:
        return JSONResponse({"error": "broken"}, 500)
