"""Two APIs in styles of their own, with no code of the stand-in's: calls by POST alone, and rows by filter with the
rest of HTTP around them. Sound they give nothing; with a fault it is found, and nobody else's rows are touched.
"""

from __future__ import annotations

import copy
import csv
import gzip
import io
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from tests.foreign import Served
from tests.support import run_against

Json = dict[str, Any]
TEXT = {"type": "string", "minLength": 1, "maxLength": 60}
FIELDS: Json = {"title": TEXT, "year": {"type": "integer", "minimum": 1, "maximum": 3000}, "lent": {"type": "boolean"}}
ROW: Json = {"type": "object", "properties": {"id": {"type": "integer", "description": "Primary key."}, **FIELDS}}
NEW: Json = {"type": "object", "additionalProperties": False, "required": ["title"], "properties": FIELDS}
CHANGE: Json = {**NEW, "required": []}


def content(schema: Json, *others: str) -> Json:
    return {"content": {name: {"schema": schema} for name in ("application/json", *others)}}


def document(paths: Json) -> Json:
    return {"openapi": "3.0.3", "info": {"title": "maps", "version": "1"}, "paths": paths}


class Maps:
    """The rows, and which records are valid; ``fault`` names what is wrong with the API."""

    def __init__(self, fault: str = "") -> None:
        self.fault, self.last = fault, 100
        self.rows: dict[int, Json] = {
            n: {"id": n, "title": f"map {n}", "year": 1500 + 7 * n, "lent": n % 3 == 0} for n in range(1, 21)
        }

    def valid(self, body: Any, partial: bool) -> bool:
        kinds = {"title": str, "year": int, "lent": bool}
        if not isinstance(body, dict) or set(body) - set(kinds) or (not partial and "title" not in body):
            return False
        if any(type(value) is not kinds[name] for name, value in body.items()):
            return False
        return 1 <= len(body.get("title", "x")) <= 60 and 1 <= body.get("year", 1) <= 3000

    def make(self, body: Json) -> Json:
        self.last += 1
        self.rows[self.last] = {"id": self.last, "title": "", "year": 1, "lent": False, **body}
        return self.rows[self.last]

    def contract(self) -> Json:
        raise NotImplementedError

    def app(self) -> Starlette:
        raise NotImplementedError


class Calls(Maps):
    """``/maps/search``, ``/maps/fetch`` and so on, all of them by POST with the key in the body."""

    def contract(self) -> Json:
        key = {"type": "object", "required": ["id"], "properties": {"id": {"type": "integer"}}}
        found = {
            "type": "object",
            "properties": {"hits": {"type": "array", "items": ROW}, "total": {"type": "integer"}},
        }
        pages = {
            "type": "object",
            "properties": {"page": {"type": "integer", "minimum": 1}, "size": {"type": "integer", "maximum": 50}},
        }
        change = {**CHANGE, "required": ["id"], "properties": {"id": {"type": "integer"}, **FIELDS}}
        refused = {code: {"description": "refused"} for code in ("400", "404", "415")}

        def call(body: Json, answer: Json, status: str = "200") -> Json:
            return {
                "post": {
                    "requestBody": {"required": True, **content(body)},
                    "responses": {status: {"description": "", **content(answer)}, **refused},
                }
            }

        done = {"type": "object", "properties": {"changed": {"type": "integer"}}}
        paths = {
            "/maps/search": call(pages, found), "/maps/fetch": call(key, ROW), "/maps/insert": call(NEW, ROW, "201"),
            "/maps/update": call(change, done), "/maps/remove": call(key, done),
        }  # fmt: skip
        return document(paths)

    async def answer(self, request: Request) -> Response:
        word = request.path_params["word"]
        if "json" not in request.headers.get("content-type", ""):
            return Response(status_code=415)
        try:
            body = json.loads(await request.body())
        except ValueError:
            return Response(status_code=400)
        if not isinstance(body, dict):
            return Response(status_code=400)
        if word == "search":
            page, size = body.get("page", 1), body.get("size", 10)
            if type(page) is not int or type(size) is not int or page < 1 or not 1 <= size <= 50:
                return Response(status_code=400)
            rows = list(self.rows.values())
            return JSONResponse({"hits": rows[(page - 1) * size : page * size], "total": len(rows)})
        if word == "insert":
            return JSONResponse(self.make(body), 201) if self.valid(body, False) else Response(status_code=400)
        key = body.pop("id", None)
        row = self.rows.get(key) if type(key) is int else None
        if row is None:
            return Response(status_code=404)
        if word == "fetch":
            return JSONResponse(row)
        if word == "update":
            if not self.valid(body, True):
                return Response(status_code=400)
            row.update({name: value for name, value in body.items() if self.fault != "year lost" or name != "year"})
        elif self.fault != "stays":
            del self.rows[key]
        return JSONResponse({"changed": 1})

    def app(self) -> Starlette:
        return Starlette(routes=[Route("/maps/{word}", self.answer, methods=["POST"])])


class Filtered(Maps):
    """``/maps`` alone: rows are changed by ``?id=eq.5``, answers are JSON, XML or CSV, and shown as preferred."""

    def contract(self) -> Json:
        said = "An operator and a value: `eq.5`, `gt.5`, `lt.5`."
        filters = [
            {"name": name, "in": "query", "description": said, "schema": {"type": "string"}}
            for name in ROW["properties"]
        ]
        prefer = {
            "name": "Prefer",
            "in": "header",
            "schema": {"type": "string", "enum": ["return=representation", "return=minimal"]},
        }
        refused = {code: {"description": "refused"} for code in ("400", "406", "415")}
        rows = {"type": "array", "items": ROW}
        none = {"204": {"description": "done"}, **refused}
        listed = {"200": {"description": "", **content(rows, "application/xml", "text/csv")}, **refused}
        made = {"201": {"description": "", **content(rows)}, **refused}
        operations = {
            "get": {"parameters": filters, "responses": listed},
            "post": {"parameters": [prefer], "requestBody": {"required": True, **content(NEW)}, "responses": made},
            "patch": {"parameters": filters, "requestBody": {"required": True, **content(CHANGE)}, "responses": none},
            "delete": {"parameters": filters, "responses": none},
        }
        return document({"/maps": operations})

    def left(self, request: Request) -> list[Json] | None:
        """The rows that the filters leave; None where one cannot be read."""
        rows = list(self.rows.values())
        for name, text in request.query_params.multi_items():
            operator, _, wanted = text.partition(".")
            if name not in ROW["properties"] or operator not in {"eq", "gt", "lt"}:
                return None
            kind = type(rows[0][name]) if rows else str
            try:
                value: Any = {"true": True, "false": False}[wanted] if kind is bool else kind(wanted)
            except (ValueError, KeyError):
                return None
            ways = {"eq": lambda a, b: a == b, "gt": lambda a, b: a > b, "lt": lambda a, b: a < b}
            if not (self.fault == "id ignored" and name == "id"):
                rows = [row for row in rows if ways[operator](row[name], value)]
        return rows

    def written(self, request: Request, rows: list[Json]) -> Response:
        accept = request.headers.get("accept", "*/*")
        if "xml" in accept:
            shown = rows[1:] if self.fault == "xml" else rows
            inside = "".join(
                "<map>"
                + "".join(f"<{n}>{json.dumps(v) if isinstance(v, bool) else _escaped(v)}</{n}>" for n, v in row.items())
                + "</map>"
                for row in shown
            )
            return Response(
                f"<maps>{inside}</maps>".encode(), media_type="application/xml", headers={"Vary": "Accept-Encoding"}
            )
        if accept == "text/csv":
            text = io.StringIO()
            writer = csv.DictWriter(text, list(ROW["properties"]))
            writer.writeheader()
            writer.writerows(({**row, "year": row["year"] + 1} if self.fault == "csv" else row) for row in rows)
            return Response(text.getvalue().encode(), media_type="text/csv", headers={"Vary": "Accept-Encoding"})
        if "json" not in accept and "*" not in accept:
            return JSONResponse(rows) if self.fault == "406" else Response(status_code=406)
        body, headers = json.dumps(rows).encode(), {} if self.fault == "vary" else {"Vary": "Accept-Encoding"}
        if request.headers.get("accept-encoding", "") == "gzip" or self.fault == "unasked":
            body, headers = gzip.compress(body), {**headers, "Content-Encoding": "gzip"}
        return Response(body, media_type="application/json", headers=headers)

    async def answer(self, request: Request) -> Response:
        if request.method == "OPTIONS":
            allowed = "GET, POST" if self.fault == "allow" else "GET, HEAD, POST, PATCH, DELETE, OPTIONS"
            return Response(status_code=200, headers={"Allow": allowed})
        if request.method == "HEAD" and self.fault == "head":
            return Response(status_code=204)
        body: Any = None
        if request.method in {"POST", "PATCH"}:
            if "json" not in request.headers.get("content-type", ""):
                return Response(status_code=415)
            try:
                body = json.loads(await request.body())
            except ValueError:
                return Response(status_code=400)
            if not self.valid(body, request.method == "PATCH"):
                return Response(status_code=400)
        if request.method == "POST":
            row = self.make(body)
            shown = "representation" in request.headers.get("prefer", "") or self.fault == "prefer"
            return JSONResponse([row], 201) if shown else Response(status_code=201)
        rows = self.left(request)
        if rows is None or (request.method in {"PATCH", "DELETE"} and not request.query_params):
            return Response(status_code=400)
        if request.method in {"GET", "HEAD"}:
            return self.written(request, rows)
        for row in rows:
            if request.method == "DELETE":
                del self.rows[row["id"]]
            else:
                row.update({} if self.fault == "title lost" and "title" in body else body)
        return Response(status_code=204)

    def app(self) -> Starlette:
        methods = ["GET", "HEAD", "POST", "PATCH", "DELETE", "OPTIONS"]
        return Starlette(routes=[Route("/maps", self.answer, methods=methods)])


def _escaped(value: Any) -> str:
    text = "".join(sign for sign in str(value) if sign >= " " or sign in "\t\n\r")
    return text.replace("&", "&amp;").replace("<", "&lt;")


def run_on(maps: Maps, *families: str) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(maps.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(maps.contract()), "utf-8")
        url, direct = served.base_url, served.direct
        return run_against(str(file), url, Path(name), families=families, role=None, transport=direct)


class Sound(unittest.TestCase):
    def test_nothing_is_found_and_nothing_changed(self) -> None:
        for kind in (Calls, Filtered):
            with self.subTest(kind=kind.__name__):
                maps = kind()
                before = copy.deepcopy(maps.rows)
                result = run_on(maps)
                severe = [each for each in result.findings if each.severity != "note"]
                self.assertEqual([(each.check, each.title, each.observed) for each in severe], [])
                self.assertEqual((maps.rows, result.left), (before, ()))
                passed = {each.check for each in result.checks if each.outcome == "passed"}
                asked = {"create.stored", "create.awkward-values", "update.each-field", "delete.gone", "page.joined"}
                asked -= {"page.joined"} if kind is Filtered else set()
                self.assertEqual(asked - passed, set())

    def test_the_rest_of_http_was_asked(self) -> None:
        passed = {
            each.check for each in run_on(Filtered(), "shape", "errors", "create").checks if each.outcome == "passed"
        }
        asked = {"shape.head", "shape.options", "shape.encodings", "shape.charset", "shape.other-formats"}
        self.assertEqual({*asked, "errors.not-acceptable", "create.preference"} - passed, set())


class Wrong(unittest.TestCase):
    def found(self, maps: Maps, *families: str) -> set[tuple[str, str]]:
        return {(each.severity, each.check) for each in run_on(maps, *families).findings}

    def test_writes(self) -> None:
        self.assertIn(("error", "update.each-field"), self.found(Calls("year lost"), "update"))
        self.assertIn(("error", "delete.gone"), self.found(Calls("stays"), "delete"))
        self.assertIn(("error", "update.each-field"), self.found(Filtered("title lost"), "update"))

    def test_what_http_says(self) -> None:
        for fault, severity, check in (
            ("head", "note", "shape.head"),
            ("allow", "note", "shape.options"),
            ("unasked", "warning", "shape.encodings"),
            ("vary", "note", "shape.encodings"),
            ("xml", "error", "shape.other-formats"),
            ("csv", "error", "shape.other-formats"),
            ("406", "warning", "errors.not-acceptable"),
            ("prefer", "warning", "create.preference"),
        ):
            with self.subTest(fault=fault):
                self.assertIn((severity, check), self.found(Filtered(fault), "shape", "errors", "create"))

    def test_a_filter_that_is_not_kept_changes_nobody_s_rows(self) -> None:
        maps = Filtered("id ignored")
        before = copy.deepcopy(maps.rows)
        result = run_on(maps)
        self.assertEqual({key: maps.rows.get(key) for key in before}, before)
        self.assertTrue([each for each in result.findings if each.severity == "error"])
        own = {each for each in maps.rows if each not in before}
        self.assertEqual(len(result.left), len(own), "what could not be removed safely is told")


if __name__ == "__main__":
    unittest.main()
