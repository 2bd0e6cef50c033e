"""A list whose filter is an expression with signs, as in languages like C, told in a sentence."""

from __future__ import annotations

import json
import re
import unittest
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from tests.support import described, run_direct

Json = dict[str, Any]
SAID = (
    "Filter expression, e.g. ?filter=(title~'abc' && made>'2022-01-01'). Operators: = equal, != not equal, > , >= , "
    "< , <= , ~ contains. Group with (...), && (AND), || (OR)."
)
_PART = re.compile(r"\s*(\w+)\s*(!=|>=|<=|=|>|<|~)\s*('(?:[^'\\]|\\.)*'|[\w.+-]+)\s*")
_TESTS = {
    "=": lambda one, other: one == other,
    "!=": lambda one, other: one != other,
    ">": lambda one, other: one > other,
    ">=": lambda one, other: one >= other,
    "<": lambda one, other: one < other,
    "<=": lambda one, other: one <= other,
    "~": lambda one, other: str(other).lower() in str(one).lower(),
}


class Shelf:
    """Rows with a name and a number that are set, and a table's name that the server sets; ``wrong`` operators are
    answered as ``>=`` is."""

    def __init__(self, wrong: str = "") -> None:
        self.wrong = wrong
        self.rows = {n: {"name": f"Jar {n % 7}", "grams": n * 3 % 20} for n in range(1, 31)}

    def shown(self, key: int) -> Json:
        return {"id": key, "table": "jars", **self.rows[key]}

    def fits(self, row: Json, text: str) -> bool:
        """Whether a row fits an expression; ValueError for one that cannot be read."""
        for joint, join in (("||", any), ("&&", all)):
            marks = [mark for mark in re.finditer(rf"'(?:[^'\\]|\\.)*'|{re.escape(joint)}", text) if mark[0] == joint]
            if marks:
                ends = [0, *(end for mark in marks for end in mark.span()), len(text)]
                return join([self.fits(row, text[at:to]) for at, to in zip(ends[::2], ends[1::2], strict=True)])
        text = text.strip()
        part = _PART.fullmatch(text[1:-1] if text[:1] == "(" and text[-1:] == ")" else text)
        if part is None or part[1] not in {"id", "name", "grams"}:
            raise ValueError(text)
        value: Any = re.sub(r"\\(.)", r"\1", part[3][1:-1]) if part[3].startswith("'") else float(part[3])
        if isinstance(value, str) != isinstance(row[part[1]], str):
            raise ValueError(text)
        return bool(_TESTS[">=" if part[2] == self.wrong else part[2]](row[part[1]], value))

    async def listed(self, request: Request) -> Response:
        if request.method == "POST":
            return await self.made(request)
        rows = [self.shown(key) for key in self.rows]
        try:
            text = request.query_params.get("filter", "")
            return JSONResponse([row for row in rows if not text or self.fits(row, text)])
        except ValueError:
            return JSONResponse({"error": "not so"}, 400)

    async def made(self, request: Request) -> Response:
        try:
            body = await request.json()
            if body.keys() != {"name", "grams"} or type(body["name"]) is not str or type(body["grams"]) is not int:
                raise ValueError
            json.dumps(body, ensure_ascii=False).encode()
        except (ValueError, AttributeError):
            return JSONResponse({"error": "not so"}, 400)
        key = max(self.rows) + 1
        self.rows[key] = body
        return JSONResponse(self.shown(key), 201)

    async def one(self, request: Request) -> Response:
        key = request.path_params["key"]
        if key not in self.rows:
            return JSONResponse({"error": "none"}, 404)
        if request.method == "DELETE":
            del self.rows[key]
            return Response(status_code=204)
        return JSONResponse(self.shown(key))

    def run(self) -> Result:
        new = {"type": "object", "required": ["name", "grams"], "additionalProperties": False}
        new["properties"] = {"name": {"type": "string"}, "grams": {"type": "integer"}}
        own = {"id": {"type": "integer", "readOnly": True}, "table": {"type": "string", "readOnly": True}}
        row = {**new, "properties": {**own, **new["properties"]}}
        key = [{"name": "key", "in": "path", "required": True, "schema": {"type": "integer"}}]
        listed = [{"name": "filter", "in": "query", "description": SAID, "schema": {"type": "string"}}]
        paths = {
            "/jars": {
                "get": {"parameters": listed, **described({"type": "array", "items": row})},
                "post": described(row, "201", new),
            },
            "/jars/{key}": {"parameters": key, "get": described(row), "delete": described(None, "204")},
        }
        contract = {"openapi": "3.1.0", "info": {"title": "Jars", "version": "1"}, "paths": paths}
        routes = [
            Route("/jars", self.listed, methods=["GET", "POST"]),
            Route("/jars/{key:int}", self.one, methods=["GET", "DELETE"]),
        ]
        return run_direct(contract, Starlette(routes=routes), resources=("jars",), families=("filter",))


class Expressed(unittest.TestCase):
    def test_a_sound_list_is_asked_with_every_sign_and_texts_that_need_care(self) -> None:
        result = Shelf().run()
        told = [(each.severity, each.title) for each in result.findings]
        self.assertEqual(told, [("note", "Rows cannot be filtered by a field that they show")])
        self.assertEqual(result.findings[0].subjects, ("table !=", "table ="))
        outcomes = {each.check: each.outcome for each in result.checks}
        self.assertEqual((outcomes["filter.awkward"], outcomes["filter.combined"]), ("passed", "passed"))
        asked = "\n".join(each.request.url for each in result.exchanges)
        for sign in ("!%3D", "%3E%3D", "%3C", "~", "%26%26", "%7C%7C"):
            self.assertRegex(asked, rf"filter=\S*{sign}")

    def test_a_sign_that_means_another_is_found(self) -> None:
        for sign in (">", "="):
            with self.subTest(sign):
                self.assertIn(
                    "filter.rows", {each.check for each in Shelf(sign).run().findings if each.severity == "error"}
                )


if __name__ == "__main__":
    unittest.main()
