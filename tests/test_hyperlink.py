"""Rows that hold addresses in place of keys: understood, tried whole, and no false word about a sound one."""

from __future__ import annotations

import copy
import itertools
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
from checkpost.model.infer import infer
from tests.foreign import Served
from tests.support import contract_of, described, run_against, run_direct

Json = dict[str, Any]
HOST = "http://seeds.example"
FIELDS: dict[str, Json] = {
    "species": {"name": {"type": "string", "maxLength": 60}},
    "lots": {"species": {"type": "string", "format": "uri"}, "name": {"type": "string", "maxLength": 60}},
}


class Addressed:
    """Two tables whose rows have ``url`` for a key; lots refer to species by theirs. ``fault`` is what is wrong."""

    def __init__(self, fault: str = "") -> None:
        self.fault, self.numbers = fault, itertools.count(100)
        self.rows: dict[str, dict[int, Json]] = {
            "species": {n: {"name": f"Species {n}"} for n in range(1, 6)},
            "lots": {n: {"species": 1 + n % 5, "name": f"Lot {n}"} for n in range(1, 9)},
        }

    def contract(self, words: Json | None = None) -> Json:
        """``words`` is said of references in place of their format."""
        paths: Json = {}
        key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
        for table, usual in FIELDS.items():
            fields = {**usual, "species": words} if words and "species" in usual else usual
            new = {"type": "object", "required": list(fields), "properties": fields, "additionalProperties": False}
            url = {"type": "string", "format": "uri", "readOnly": True}
            row = {**new, "required": ["url", *fields], "properties": {"url": url, **fields}}
            paths[f"/{table}/"] = {
                "get": described({"type": "array", "items": row}),
                "post": described(row, "201", new),
            }
            item = {
                "get": described(row),
                "patch": described(row, "200", {**new, "required": []}),
                "delete": described(None, "204"),
            }
            paths[f"/{table}/{{id}}/"] = {"parameters": [key], **item}
        above = {**key, "name": "species_id"}
        paths["/species/{species_id}/lots/"] = {"parameters": [above], **paths["/lots/"]}
        return {"openapi": "3.1.0", "info": {"title": "Seeds", "version": "1"}, "paths": paths}

    def app(self) -> Starlette:
        routes = [Route(f"/{table}/", self.listed, methods=["GET", "POST"]) for table in FIELDS]
        routes += [Route(f"/{table}/{{id:int}}/", self.one, methods=["GET", "PATCH", "DELETE"]) for table in FIELDS]
        routes.append(Route("/species/{above:int}/lots/", self.under, methods=["GET", "POST"]))
        return Starlette(routes=routes)

    def shown(self, table: str, key: int) -> Json:
        row = {"url": f"{HOST}/{table}/{key}/", **self.rows[table][key]}
        other = 1 + row["species"] % 5 if "species" in row and self.fault == "wrong species" else row.get("species")
        return {**row, "species": f"{HOST}/species/{other}/"} if "species" in row else row

    def read(self, table: str, body: Any, whole: bool) -> Json | None:
        """A record as it is stored; None for what is no record, or refers to nothing."""
        names = FIELDS[table].keys()
        if not isinstance(body, dict) or not body or not body.keys() <= names or (whole and body.keys() != names):
            return None
        name, species = body.get("name", ""), body.get("species", "species/1")
        if not isinstance(name, str) or len(name) > 60 or any("\ud800" <= sign <= "\udfff" for sign in name):
            return None
        head, _, last = species.rstrip("/").rpartition("/") if isinstance(species, str) else ("", "", "")
        if not head.endswith("species") or not last.isdigit() or int(last) not in self.rows["species"]:
            return None
        return {**body, "species": int(last)} if "species" in body else dict(body)

    async def listed(self, request: Request) -> Response:
        table = request.url.path.strip("/")
        if request.method == "GET":
            return JSONResponse([self.shown(table, key) for key in self.rows[table]])
        row = self.read(table, await body_of(request), True)
        if row is None:
            return refused(422)
        key = next(self.numbers)
        self.rows[table][key] = row
        return JSONResponse(self.shown(table, key), 201, {"Location": f"{HOST}/{table}/{key}/"})

    async def under(self, request: Request) -> Response:
        above = request.path_params["above"]
        if above not in self.rows["species"]:
            return refused(404)
        if request.method == "GET":
            mine = [key for key, row in self.rows["lots"].items() if row["species"] == above]
            return JSONResponse([self.shown("lots", key) for key in mine])
        row = self.read("lots", await body_of(request), True)
        if row is None or row["species"] != above:
            return refused(422)
        key = next(self.numbers)
        self.rows["lots"][key] = row
        return JSONResponse(self.shown("lots", key), 201, {"Location": f"{HOST}/lots/{key}/"})

    async def one(self, request: Request) -> Response:
        table, key = request.url.path.split("/")[1], request.path_params["id"]
        if key not in self.rows[table]:
            return refused(404)
        if request.method == "DELETE":
            if table == "species" and any(lot["species"] == key for lot in self.rows["lots"].values()):
                return refused(409)
            del self.rows[table][key]
            return Response(status_code=204)
        if request.method == "PATCH":
            row = self.read(table, await body_of(request), False)
            if row is None:
                return refused(422)
            if self.fault != "species kept" or "species" not in row:
                self.rows[table][key] |= row
        return JSONResponse(self.shown(table, key))


class Numbered(Addressed):
    """References are the keys of species, numbers, and the contract has texts there."""

    def shown(self, table: str, key: int) -> Json:
        return {"url": f"{HOST}/{table}/{key}/", **self.rows[table][key]}

    def read(self, table: str, body: Any, whole: bool) -> Json | None:
        number = body.get("species") if isinstance(body, dict) else None
        if number is not None and (type(number) is not int or number not in self.rows["species"]):
            return None
        return super().read(table, {**body, "species": f"species/{number}"} if number is not None else body, whole)


async def body_of(request: Request) -> Any:
    try:
        return await request.json() if "json" in request.headers.get("content-type", "") else None
    except ValueError:
        return None


def refused(status: int) -> Response:
    return JSONResponse({"error": "refused"}, status)


def run(api: Addressed) -> Result:
    return run_direct(api.contract(), api.app(), resources=tuple(FIELDS))


class Hyperlinks(unittest.TestCase):
    def test_keys_and_references_are_understood(self) -> None:
        lots = infer(contract_of(Addressed().contract())).resource("lots")
        assert lots is not None and lots.key is not None
        self.assertEqual((lots.key.fields, lots.key.reason.text), (("id",), "url is the address of the row"))
        [relation] = lots.relations
        self.assertEqual((relation.field, relation.resource, relation.target), ("species", "species", "id"))
        shown = {"url": f"{HOST}/lots/7/", "species": f"{HOST}/species/3/"}
        self.assertEqual(lots.layout.flat(shown), {**shown, "id": 7, "species": 3})

    def test_a_sound_api_is_tried_whole_and_nothing_is_described(self) -> None:
        api = Addressed()
        before = copy.deepcopy(api.rows)
        result = run(api)
        self.assertEqual([(each.check, each.title, each.observed) for each in result.findings], [])
        self.assertEqual((api.rows, result.left, result.harmed), (before, (), ()))
        self.assertEqual(result.not_exercised, ())
        passed = {each.check for each in result.checks if each.resource == "lots" and each.outcome == "passed"}
        self.assertLessEqual({"create.stored", "update.each-field", "relate.absent", "relate.resolves"}, passed)

    def learnt(self, api: Addressed) -> tuple[Result, list[str]]:
        """A run with a contract in which references are texts and no more, and the titles of what it finds."""
        before = copy.deepcopy(api.rows)
        with tempfile.TemporaryDirectory() as name, Served(api.app()) as served:
            folder, families = Path(name), ("create", "relate", "update")
            (folder / "contract.json").write_text(json.dumps(api.contract({"type": "string"})), "utf-8")
            result = run_against(str(folder / "contract.json"), served.base_url, folder, ("lots",), families)
        self.assertEqual((api.rows, result.left), (before, ()))
        return result, [each.title for each in result.findings]

    def test_references_that_rows_show_as_numbers_are_asked_as_such(self) -> None:
        result, titles = self.learnt(Numbered())
        self.assertEqual(titles, ["A value is an integer where the contract has a string"])
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertLessEqual({"create.stored", "update.each-field", "relate.absent", "relate.resolves"}, passed)

    def test_what_the_contract_does_not_tell_is_seen_of_rows(self) -> None:
        result, titles = self.learnt(Addressed())
        self.assertEqual(titles, [])
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertLessEqual({"create.stored", "update.each-field", "relate.absent", "relate.resolves"}, passed)

    def test_faults_of_references_are_found(self) -> None:
        for fault in ("wrong species", "species kept"):
            with self.subTest(fault):
                found = [each for each in run(Addressed(fault)).findings if each.family in {"create", "update"}]
                self.assertEqual([each.subjects for each in found], [("species",)])


if __name__ == "__main__":
    unittest.main()
