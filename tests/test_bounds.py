"""What refusals state of the values that a field may have, in the words of many programs; and a table that is opened by
it."""

from __future__ import annotations

import json
import unittest
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.checks.bounds import stated_bounds, within
from checkpost.model.field import Field
from checkpost.wire.exchange import Answer, Exchange
from checkpost.wire.exchange import Request as Sent
from tests.support import described, run_direct


def field(name: str, kind: str = "string", **keywords: Any) -> Field:
    return Field(
        name, keywords, frozenset({kind} if kind else ()), False, True, False, False, True, True, True, True, False
    )


CODE, SIZE, SHARE = field("code"), field("size", "integer"), field("share", "number")
#: An answer's body, a field, and what is stated of it.
STATED: list[tuple[Any, Field, dict[str, Any]]] = [
    ({"code": ["Ensure this field has no more than 12 characters."]}, CODE, {"maxLength": 12}),
    (
        {"detail": [{"loc": ["body", "code"], "msg": "String should have at most 12 characters", "type": "long"}]},
        CODE,
        {"maxLength": 12},
    ),
    ({"message": ["code must be shorter than or equal to 12 characters"]}, CODE, {"maxLength": 12}),
    ({"errors": [{"path": "/code", "message": "must NOT have more than 12 characters"}]}, CODE, {"maxLength": 12}),
    ({"message": "code: value too long for type character varying(12)"}, CODE, {"maxLength": 12}),
    ({"errors": {"json": {"code": ["Longer than maximum length 12."]}}}, CODE, {"maxLength": 12}),
    ({"code": ["Length must be between 3 and 12."]}, CODE, {"minLength": 3, "maxLength": 12}),
    ("Validation failed: code is too long (maximum is 12 characters)", CODE, {"maxLength": 12}),
    ("{'errors': {'code': 'String is too long (maximum 12 characters, got 21)'}}", CODE, {"maxLength": 12}),
    ({"code": ["is too short (minimum is 30 characters)"]}, CODE, {"minLength": 30}),
    ({"code": ["Must be one of: wild, tame."]}, CODE, {"enum": ["wild", "tame"]}),
    ({"detail": [{"loc": ["code"], "msg": "Input should be 'wild' or 'tame'"}]}, CODE, {"enum": ["wild", "tame"]}),
    ({"errors": [{"field": "code", "message": "no", "allowedValues": ["x", "y"]}]}, CODE, {"enum": ["x", "y"]}),
    ({"code": ["Enter a valid email address."]}, CODE, {"format": "email"}),
    ({"code": ["Date has wrong format. Use one of these: YYYY-MM-DD."]}, CODE, {"format": "date"}),
    ({"when": "not a valid date"}, field("when", ""), {"format": "date"}),
    ({"size": ["Ensure this value is less than or equal to 100."]}, SIZE, {"maximum": 100}),
    ({"size": ["Must be greater than or equal to 1 and less than or equal to 5."]}, SIZE, {"minimum": 1, "maximum": 5}),
    ({"detail": [{"loc": ["body", "size"], "msg": "Input should be greater than 0"}]}, SIZE, {"minimum": 1}),
    ({"message": ["share must not be greater than 100"]}, SHARE, {"maximum": 100}),
    ({"message": ["size must be a positive number"]}, SIZE, {"minimum": 1}),
    ({"message": "size must be >= 5; name must be <= 3"}, SIZE, {"minimum": 5}),
    # of other fields, of nothing that is a limit, and of what the contract states as narrowly
    ({"message": ["name must be shorter than 5 characters", "code is taken"]}, CODE, {}),
    ({"code": ['"abc" is not a valid choice.']}, CODE, {}),
    ({"message": "Data too long for column 'code' at row 1"}, CODE, {}),
    ({"code": ["3 rows have it already"]}, CODE, {}),
    ({"size": ["A valid integer is required."]}, SIZE, {}),
    ({"code": ["at most 12 characters"]}, field("code", maxLength=10), {}),
]


def refusal(body: Any) -> Exchange:
    kind = "text/plain" if isinstance(body, str) else "application/json"
    text = body if isinstance(body, str) else json.dumps(body)
    answer = Answer(422, (("content-type", kind),), text.encode())
    return Exchange(1, "create.stored", Sent("POST", "http://x/things", "public"), answer, 0.0)


class Bounds(unittest.TestCase):
    def test_what_refusals_state(self) -> None:
        for body, each, stated in STATED:
            with self.subTest(body):
                self.assertEqual(stated_bounds(refusal(body), each), stated)

    def test_a_field_is_kept_within_them(self) -> None:
        narrow = within(field("code", maxLength=40), {"maxLength": 12, "minLength": 2})
        self.assertEqual(narrow.keywords, {"maxLength": 12, "minLength": 2})
        self.assertEqual(within(narrow, {"maxLength": 20}), narrow)
        self.assertEqual(within(field("when", ""), {"format": "date"}).type, "string")


class Opened(unittest.TestCase):
    def test_a_table_without_rows_is_opened_by_what_a_refusal_says(self) -> None:
        rows: dict[int, dict[str, Any]] = {}

        async def things(request: Request) -> Response:
            if request.method == "GET":
                return JSONResponse(list(rows.values()))
            sent = await request.json()
            if not 3 <= len(sent["code"]) <= 6:
                return JSONResponse({"errors": {"code": "Length must be between 3 and 6."}}, 422)
            if sent["grade"] not in ("wild", "tame"):
                return JSONResponse({"errors": {"grade": "Must be one of: wild, tame."}}, 422)
            number = max(rows, default=0) + 1
            rows[number] = {**sent, "id": number}
            return JSONResponse(rows[number], 201)

        async def thing(request: Request) -> Response:
            row = rows.get(request.path_params["id"])
            if row is None:
                return JSONResponse({"error": "no such thing"}, 404)
            if request.method == "DELETE":
                del rows[row["id"]]
                return Response(status_code=204)
            return JSONResponse(row)

        texts = {"code": {"type": "string"}, "grade": {"type": "string"}, "note": {"type": "string"}}
        record = {"type": "object", "required": [*texts], "properties": texts}
        row = {**record, "properties": {"id": {"type": "integer", "readOnly": True}, **texts}}

        key = [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}]
        paths = {
            "/things": {"get": described({"type": "array", "items": row}), "post": described(row, "201", record)},
            "/things/{id}": {"parameters": key, "get": described(row), "delete": described(None, "204")},
        }
        contract = {"openapi": "3.1.0", "info": {"title": "Things", "version": "1"}, "paths": paths}
        routes = [
            Route("/things", things, methods=["GET", "POST"]),
            Route("/things/{id:int}", thing, methods=["GET", "DELETE"]),
        ]
        result = run_direct(contract, Starlette(routes=routes), resources=("things",), families=("create", "delete"))
        said = {each.check: each for each in result.checks}
        self.assertEqual(said["create.stored"].outcome, "passed", said["create.stored"])
        self.assertEqual(said["delete.gone"].outcome, "passed", said["delete.gone"])
        self.assertEqual(rows, {})


if __name__ == "__main__":
    unittest.main()
