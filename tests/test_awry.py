"""APIs that answer otherwise than their contract has it, in ways that must neither harm nor mislead."""

from __future__ import annotations

import itertools
import json
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.middleware.base import BaseHTTPMiddleware
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.contract.reader import read_contract
from checkpost.engine.run import Result
from checkpost.model.linkages import other_of
from tests.foreign import Served
from tests.support import run_against

Json = dict[str, Any]
SPECIES = {"name": {"type": "string"}}
LOTS = {"code": {"type": "string"}, "grams": {"type": "number"}, "species_id": {"type": "integer"}}


class Bank:
    """Two tables whose rows have an ``id`` that the contract describes or does not; ``way`` is what is awry."""

    def __init__(self, way: str = "", hidden: str = "") -> None:
        self.way, self.hidden = way, hidden
        self.numbers = itertools.count(101)
        self.rows: dict[str, dict[int, Json]] = {
            "species": {n: {"id": n, "name": f"Species {n}"} for n in range(1, 5)},
            "lots": {
                n: {"id": n, "code": f"L-{n}", "grams": n + 0.5, "species_id": (n - 1) % 4 + 1} for n in range(1, 31)
            },
        }

    def app(self) -> Starlette:
        every = ["GET", "POST", "PUT", "DELETE"]
        return Starlette(
            routes=[Route("/{table}", self.all, methods=every[:2]), Route("/{table}/{key}", self.one, methods=every)]
        )

    def wrong(self, table: str, body: Any) -> bool:
        types = {"name": str, "code": str, "grams": (int, float), "species_id": int}
        names = {"species": {"name"}, "lots": {"code", "grams", "species_id"}}[table]
        return (
            not isinstance(body, dict)
            or body.keys() != names
            or any(not isinstance(body[name], types[name]) or isinstance(body[name], bool) for name in names)
            or any(not value.strip() or "\0" in value for value in body.values() if isinstance(value, str))
        )

    def unshowable(self, table: str, rows: Any) -> bool:
        return (
            self.way == "absent"
            and table == "lots"
            and any(row["species_id"] not in self.rows["species"] for row in rows)
        )

    async def all(self, request: Request) -> Response:
        table = request.path_params["table"]
        if table not in self.rows:
            return Response(status_code=404)
        rows = list(self.rows[table].values())
        if request.method == "POST":
            return self.made(table, await json_of(request))
        if self.unshowable(table, rows):
            return JSONResponse({"error": "cannot be shown"}, 500)
        if self.way == "enveloped":
            return JSONResponse({table: rows, "meta": {"total_results": len(rows)}})
        if self.way == "capped":
            return JSONResponse(rows[:10], headers={"Content-Range": f"items 0-9/{len(rows)}"})
        return JSONResponse(rows)

    def made(self, table: str, body: Any) -> Response:
        if self.wrong(table, body):
            return JSONResponse({"error": "not so"}, 422)
        if table == "lots" and self.way != "absent" and body["species_id"] not in self.rows["species"]:
            return JSONResponse({"error": "no such species"}, 422)
        number = next(self.numbers)
        self.rows[table][number] = row = {"id": number, **body}
        if self.way == "stores" or self.unshowable(table, [row]):
            return JSONResponse({"error": "something went wrong"}, 500)
        return JSONResponse(row, 201)

    async def one(self, request: Request) -> Response:
        table, key = request.path_params["table"], request.path_params["key"]
        if not key.isdigit():
            return JSONResponse({"error": f"id expected a number but got {key!r}"}, 400)
        row = self.rows.get(table, {}).get(int(key))
        if row is None:
            return JSONResponse({"error": "no such row"}, 404)
        if request.method == "DELETE":
            del self.rows[table][int(key)]
            return Response(status_code=204)
        if request.method == "PUT":
            body = await json_of(request)
            if self.wrong(table, body):
                return JSONResponse({"error": "not so"}, 422)
            if table == "lots" and self.way != "absent" and body["species_id"] not in self.rows["species"]:
                return JSONResponse({"error": "no such species"}, 422)
            row.update(body)
        if self.unshowable(table, [row]):
            return JSONResponse({"error": "cannot be shown"}, 500)
        return JSONResponse({table: row} if self.way == "enveloped" else row)

    def contract(self) -> Json:
        paths: Json = {}
        for table, fields in {"species": SPECIES, "lots": LOTS}.items():
            shown = fields if self.hidden == table else {"id": {"type": "integer", "readOnly": True}, **fields}
            row = {"type": "object", "properties": shown, "required": list(shown)}
            new = {"type": "object", "properties": fields, "required": list(fields), "additionalProperties": False}
            refusals = {"422": {"description": "not so"}, "400": {"description": "so"}, "404": {"description": "no"}}
            body = {"requestBody": {"required": True, **_content(new)}}
            key = {"name": "item_id", "in": "path", "required": True, "schema": {"type": "integer"}}
            paths[f"/{table}"] = {
                "get": {"responses": {"200": {"description": "", **_content({"type": "array", "items": row})}}},
                "post": {**body, "responses": {"201": {"description": "", **_content(row)}, **refusals}},
            }
            paths[f"/{table}/{{item_id}}"] = {
                "parameters": [key],
                "get": {"responses": {"200": {"description": "", **_content(row)}, **refusals}},
                "put": {**body, "responses": {"200": {"description": "", **_content(row)}, **refusals}},
                "delete": {"responses": {"204": {"description": ""}, **refusals}},
            }
        return {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "security": [], "paths": paths}


def _content(schema: Json) -> Json:
    return {"content": {"application/json": {"schema": schema}}}


async def json_of(request: Request) -> Any:
    try:
        return json.loads(await request.body())
    except ValueError:
        return None


class Coded(Bank):
    """Every answer is 200, and what came of the request stands in its body."""

    def app(self) -> Starlette:
        async def coded(request: Request, call_next: Any) -> Response:
            answer = await call_next(request)
            body = b"".join([part async for part in answer.body_iterator])
            if answer.status_code == 405:
                return Response(status_code=405, headers={"allow": answer.headers.get("allow", "")})
            fine, data = answer.status_code < 400, json.loads(body) if body.startswith((b"{", b"[")) else None
            if self.way == "flag":
                return JSONResponse(
                    {"success": fine, "message": "done" if fine else "no", "data": data if fine else None}
                )
            code = answer.status_code if self.way == "http" else 0 if fine else 100 * answer.status_code + 1
            return JSONResponse({"code": code, "message": "done" if fine else "no", "data": data if fine else None})

        app = super().app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=coded)
        return app

    def contract(self) -> Json:
        contract = super().contract()
        for path in contract["paths"].values():
            for operation in (each for each in path.values() if isinstance(each, dict)):
                status = next(each for each in operation["responses"] if each[0] == "2")
                content = operation["responses"][status].get("content", {})
                known = content.get("application/json", {}).get("schema", {})
                code = {"success": {"type": "boolean"}} if self.way == "flag" else {"code": {"type": "integer"}}
                data = {"anyOf": [known, {"type": "null"}]}
                body = {**code, "message": {"type": "string"}, "data": data}
                answer = {"description": "", **_content({"type": "object", "properties": body, "required": list(body)})}
                operation["responses"] = {"200": answer}
        return contract


FAMILIES = ("read", "page", "create", "replace", "delete", "relate")


def run(bank: Bank, change: Callable[[Json], None] = lambda _: None) -> Result:
    contract = bank.contract()
    change(contract)
    with tempfile.TemporaryDirectory() as name, Served(bank.app()) as served:
        folder = Path(name)
        (folder / "contract.json").write_text(json.dumps(contract), "utf-8")
        contract_file, direct = str(folder / "contract.json"), served.direct
        return run_against(contract_file, served.base_url, folder, families=FAMILIES, transport=direct)


class Awry(unittest.TestCase):
    def held(self, bank: Bank, change: Callable[[Json], None] = lambda _: None) -> tuple[Result, list[str]]:
        """A run that leaves all rows as they were, and the titles of its errors."""
        before = repr(bank.rows)
        result = run(bank, change)
        self.assertEqual((repr(bank.rows), result.left), (before, ()))
        return result, sorted(each.title for each in result.findings if each.severity == "error")

    def test_a_sound_one_gives_nothing(self) -> None:
        self.assertEqual(self.held(Bank())[1], [])

    def test_a_code_is_no_key_where_an_id_is_asked_for(self) -> None:
        result, titles = self.held(Bank(hidden="lots"))
        lots = result.target.model.resource("lots")
        assert lots is not None and lots.key is not None
        self.assertEqual((lots.key.fields, titles), (("id",), []))
        outcomes = {each.check: each.outcome for each in result.checks if each.resource == "lots"}
        self.assertEqual(outcomes["delete.gone"], "passed")

    def test_a_likely_key_that_reads_no_row_is_not_written_by(self) -> None:
        def rename(contract: Json) -> None:
            # the rows' own id is not described, and another field is named like a key
            paths = contract["paths"]
            item = paths["/species/{row}"] = paths.pop("/species/{item_id}")
            item["parameters"][0]["name"] = "row"
            row = item["get"]["responses"]["200"]["content"]["application/json"]["schema"]
            row["properties"]["pk"] = row["properties"].pop("id")
            row["required"] = ["name", "pk"]

        bank = Bank()
        for row in bank.rows["species"].values():
            row["pk"] = row["id"] + 50
        result, _ = self.held(bank, rename)
        outcomes = {each.check: each for each in result.checks if each.resource == "species"}
        self.assertEqual(outcomes["create.stored"].outcome, "blocked")
        self.assertIn("not found by pk", outcomes["create.stored"].reason)

    def test_rows_that_a_failing_create_stores_are_found_told_and_removed(self) -> None:
        result, titles = self.held(Bank("stores"))
        told = [each for each in result.findings if "server error stores" in each.title]
        self.assertEqual([set(each.resources) for each in told], [{"species", "lots"}])
        self.assertEqual(len(titles), 1, "that it fails is told with it")
        outcomes = {each.check: each.outcome for each in result.checks if each.resource == "lots"}
        self.assertEqual((outcomes["delete.gone"], outcomes["replace.stored"]), ("passed", "passed"))

    def test_a_row_that_cannot_be_shown_any_more_is_one_whose_key_is_known(self) -> None:
        result, titles = self.held(Bank("absent"))
        self.assertIn("A reference to a missing row makes a row unreadable", titles)
        sent = [each for each in result.exchanges if each.request.method == "POST" and each.check == "relate.absent"]
        self.assertEqual({each.answer.status for each in sent}, {201}, "none is made with one")

    def test_rows_in_an_envelope_that_the_contract_does_not_have(self) -> None:
        result, titles = self.held(Bank("enveloped"))
        self.assertEqual(len([each for each in titles if "inside an object" in each]), 1, titles)
        outcomes = {(each.check, each.resource): each.outcome for each in result.checks}
        self.assertEqual(outcomes["replace.stored", "lots"], "passed")

    def test_a_list_of_which_only_a_header_says_that_there_is_more(self) -> None:
        self.assertEqual(self.held(Bank("capped"))[1], [])

    def test_answers_that_say_in_their_bodies_what_came_of_a_request(self) -> None:
        for way in ("http", "own", "flag"):
            with self.subTest(way=way):
                result, titles = self.held(Coded(way))
                self.assertEqual(titles, [])
                told = [each for each in result.findings if each.check == "errors.status"]
                self.assertEqual(
                    [(each.title, each.severity) for each in told],
                    [("Refusals are answered 200, and only their bodies say so", "warning")],
                )
                stored = [each for each in result.exchanges if each.answer.on_the_wire is not None]
                self.assertEqual({each.answer.as_sent().status for each in stored}, {200})
                missing = {each.answer.status for each in stored if each.check == "read.missing-key"}
                self.assertEqual(missing, {400} if way == "flag" else {404})

    def test_a_document_that_cannot_be_read_is_a_flaw(self) -> None:
        def refer(contract: Json) -> None:
            for path in contract["paths"].values():
                path["get"]["responses"]["500"] = {"$ref": "https://nowhere.invalid/common.yaml#/Failed"}

        contract = Bank().contract()
        refer(contract)
        with tempfile.TemporaryDirectory() as name:
            file = Path(name, "c.json")
            file.write_text(json.dumps(contract), "utf-8")
            flaws = [each.message for each in read_contract(str(file)).flaws if each.kind == "unreadable-document"]
        self.assertEqual(len(flaws), 1, flaws)
        self.assertIn("https://nowhere.invalid/common.yaml", flaws[0])

    def test_what_a_relationship_leads_to(self) -> None:
        model = run(Bank()).target.model
        others = {each.name: each for each in model.resources}
        lots = others["lots"]
        for name, wanted in {"species": "species", "lot": "lots", "species_id": "species", "vaults": None}.items():
            self.assertEqual(other_of(lots, name, others), wanted, name)


if __name__ == "__main__":
    unittest.main()
