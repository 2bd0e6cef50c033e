"""What an API is asked before a run where its contract leaves it open, and which of a contract's servers is meant."""

from __future__ import annotations

import json
import os
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.demo.server import InProcess
from checkpost.engine.learn import described, names_in, schema_of_rows, where_rows_are
from checkpost.engine.run import Result
from checkpost.engine.target import aim
from checkpost.errors import CheckPostError
from checkpost.model.address import Address
from checkpost.model.infer import infer
from checkpost.model.layout import Layout
from checkpost.model.unfolding import fold_of
from checkpost.profile.profile import read_profile
from checkpost.wire.encoding import as_patch, encoded
from tests.direct import Direct
from tests.foreign import Library, Served, Style
from tests.support import CURATOR, ENVIRONMENT, called, contract_of, fetched, run_against, write_example

Json = dict[str, Any]


class Answers(unittest.TestCase):
    """What answers tell of tables and rows, in the shapes that they come in."""

    def test_names_of_tables(self) -> None:
        for body in (
            ["a", "b-c"],
            {"tables": ["a", "b-c"]},
            [{"name": "a"}, {"name": "b-c", "rows": 3}],
            {"data": [{"table_name": "a"}, {"table_name": "b-c"}]},
            {"a": {"href": "/a"}, "b-c": {"href": "/b-c"}},
        ):
            self.assertEqual(names_in(body), ["a", "b-c"], body)
        self.assertEqual(names_in("nothing"), [])

    def test_columns(self) -> None:
        schema = {"type": "object", "properties": {"id": {"type": "integer"}}}
        self.assertEqual(described({"schema": schema}), schema)
        columns = [
            {"name": "id", "type": "bigint", "primary_key": True},
            {"name": "title", "type": "varchar(80)", "nullable": True},
            {"name": "made", "data_type": "timestamp", "required": True},
        ]
        found = described({"table": "maps", "columns": columns})
        assert found is not None
        self.assertEqual(found["properties"]["id"], {"type": "integer", "description": "Primary key."})
        self.assertEqual(found["properties"]["title"], {"type": ["string", "null"]})
        self.assertEqual(found["properties"]["made"], {"type": "string", "format": "date-time"})
        self.assertEqual(found["required"], ["made"])
        self.assertIsNone(described({"name": "maps"}))

    def test_rows(self) -> None:
        self.assertEqual(where_rows_are({"meta": {"n": 1}, "data": {"items": [{"a": 1}]}}), ("/data/items", [{"a": 1}]))
        self.assertIsNone(where_rows_are({"items": []}))
        rows = [{"a": 1, "b": None, "c": "2024-01-31"}, {"a": 1.5, "b": "x", "c": "2024-02-01"}]
        found = schema_of_rows(rows)["properties"]
        self.assertEqual(found["a"], {"type": "number"})
        self.assertEqual(found["b"], {"type": ["string", "null"]})
        self.assertEqual(found["c"], {"type": "string", "format": "date"})
        shown = [{"crop_id": 2, "crop": {"id": 2, "name": "flax"}, "box": {"id": 5}}, {"crop_id": None, "crop": None}]
        found = schema_of_rows(shown)["properties"]
        self.assertTrue(found["crop"].get("readOnly"), "it shows the row whose key stands beside it")
        self.assertNotIn("readOnly", found["box"])


class Bodies(unittest.TestCase):
    def test_forms(self) -> None:
        record = {"a": "x & y", "n": 5, "b": True, "list": [1, 2]}
        body, kind = encoded(record, "application/x-www-form-urlencoded")
        self.assertEqual((body, kind), (b"a=x+%26+y&n=5&b=true&list=1&list=2", "application/x-www-form-urlencoded"))
        body, kind = encoded({"a": "é"}, "multipart/form-data")
        boundary = kind.partition("boundary=")[2]
        self.assertEqual(
            body.decode().split(boundary)[1].strip("\r\n-"), 'Content-Disposition: form-data; name="a"\r\n\r\né'
        )

    def test_a_patch_of_operations(self) -> None:
        body, _ = encoded(as_patch({"a/b": 1, "c": None}), "application/json-patch+json")
        expected = [{"op": "replace", "path": "/a~1b", "value": 1}, {"op": "replace", "path": "/c", "value": None}]
        self.assertEqual(json.loads(body), expected)

    def test_rows_inside_documents(self) -> None:
        layout = Layout("attributes", "id", "maps", {"maker": "people"}, names_row=True)
        record = {"title": "x", "maker": 7}
        body = layout.shaped(record, "5")
        self.assertEqual(body["relationships"], {"maker": {"data": {"type": "people", "id": "7"}}})
        self.assertEqual((body["type"], body["id"], body["attributes"]), ("maps", "5", {"title": "x"}))
        self.assertEqual(layout.flat(body), {"id": "5", "title": "x", "maker": "7"})
        without = {**body, "relationships": {"maker": {"data": None}}}
        self.assertEqual(layout.flat(without)["maker"], None)
        self.assertNotIn("id", layout.shaped(record))
        self.assertEqual(Layout("fields", "id").shaped(record, "5"), {"fields": record}, "the path names the row")

    def test_types_are_told_by_rows(self) -> None:
        layout = Layout("attributes", "id", "books", {"maker": "maker"})
        link = {"data": {"type": "people", "id": "7"}}
        shown = layout.kinds_in({"type": "book", "id": "1", "attributes": {}, "relationships": {"maker": link}})
        body = layout.with_kinds(shown).shaped({"title": "x", "maker": "7"})
        self.assertEqual((body["type"], body["relationships"]["maker"]), ("book", link))
        self.assertEqual(Layout("fields", "id").with_kinds(shown).shaped({"a": 1}), {"fields": {"a": 1}})

    def test_a_key_in_the_query(self) -> None:
        address = Address(query=("shelf", "no"))
        self.assertEqual(address.pairs(("a", "b"), ("x", 5), ()), [("shelf", "x"), ("no", "5")])


class Features(unittest.TestCase):
    """Rows as GeoJSON features (RFC 7946, 3.2)."""

    ROWS: ClassVar[list[Json]] = [
        {
            "type": "Feature",
            "id": f"a{number}",
            "geometry": {"type": "Point", "coordinates": [number, 50]},
            "properties": {"label": f"plot {number}", "grams": 5 * number},
        }
        for number in range(1, 4)
    ]

    def test_what_rows_show_tells_of_their_properties(self) -> None:
        told = schema_of_rows(self.ROWS)["properties"]
        self.assertEqual(list(told["properties"]["properties"]), ["label", "grams"])
        self.assertEqual((told["geometry"]["example"], told["id"]), (self.ROWS[0]["geometry"], {"type": "string"}))
        plain = schema_of_rows([*self.ROWS, {"type": "Feature", "id": "x", "properties": {}}])["properties"]
        self.assertEqual(plain["properties"], {"type": "object"}, "one of them is no feature")

    def test_a_table_of_them(self) -> None:
        row = schema_of_rows(self.ROWS)
        key = {"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}
        rows = {"type": "object", "properties": {"features": {"type": "array", "items": row}}}

        def answer(schema: Json) -> Json:
            return {"200": {"description": "", "content": {"application/geo+json": {"schema": schema}}}}

        body = {"content": {"application/geo+json": {"schema": row}}}
        paths = {
            "/plots": {"get": {"responses": answer(rows)}, "post": {"requestBody": body, "responses": answer(row)}},
            "/plots/{id}": {"parameters": [key], "get": {"responses": answer(row)}},
        }
        [plots] = infer(
            contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})
        ).resources
        self.assertEqual([each.name for each in plots.fields], ["id", "label", "grams", "geometry"])
        flat = plots.layout.flat(self.ROWS[0])
        self.assertEqual(flat, {"id": "a1", "label": "plot 1", "grams": 5, "geometry": self.ROWS[0]["geometry"]})
        self.assertEqual(plots.layout.shaped(flat), self.ROWS[0])


class Untold:
    """One path for all tables, of which the contract says nothing at all."""

    paths: ClassVar[tuple[str, ...]] = ("/", "/{table}", "/{table}/{key}")

    def __init__(self) -> None:
        self.rows: dict[str, list[Json]] = {
            "maps": [{"id": n, "title": f"map {n}", "scale": 1000 * n} for n in range(1, 8)],
            "shelves": [{"code": f"S{n}", "room": "north"} for n in range(1, 5)],
        }

    def contract(self) -> Json:
        name = {"name": "table", "in": "path", "required": True, "schema": {"type": "string"}}
        anything = {
            "200": {"description": "", "content": {"application/json": {"schema": {}}}},
            "404": {"description": ""},
        }
        paths = {
            "/": {"get": {"responses": anything}},
            "/{table}": {"parameters": [name], "get": {"responses": anything}},
            "/{table}/{key}": {"parameters": [name, {**name, "name": "key"}], "get": {"responses": anything}},
        }
        return {"openapi": "3.0.3", "info": {"title": "t", "version": "1"}, "paths": paths}

    async def answer(self, request: Request) -> Response:
        table, key = request.path_params.get("table"), request.path_params.get("key")
        if table is None:
            return JSONResponse({"tables": list(self.rows)})
        rows = self.rows.get(table)
        if rows is None:
            return Response(status_code=404)
        if key is None:
            return JSONResponse({"page": 1, "rows": rows})
        row = next((row for row in rows if str(next(iter(row.values()))) == key), None)
        return JSONResponse(row) if row else Response(status_code=404)

    def app(self) -> Starlette:
        return Starlette(routes=[Route(path, self.answer, methods=["GET"]) for path in self.paths])


class Housed(Untold):
    """Tables belong to houses, and the path for all has a parameter for each; beside it is one for things to do. A list
    goes on by a link that nothing describes."""

    paths = ("/tables", "/{app}/{table}", "/{app}/{table}/{key}")

    def contract(self) -> Json:
        contract = super().contract()
        house, deed = (
            {"name": each, "in": "path", "required": True, "schema": {"type": "string"}} for each in ("app", "action")
        )
        plain, listed, one = contract["paths"].values()
        for each in (listed, one):
            each["parameters"] = [house, *each["parameters"]]
        act = {**one, "parameters": [*listed["parameters"], deed], "post": one["get"], "put": one["get"]}
        paths = {
            "/tables": plain,
            "/{app}/{table}": listed,
            "/{app}/{table}/{action}": act,
            "/{app}/{table}/{key}": one,
        }
        return {**contract, "paths": paths}

    async def answer(self, request: Request) -> Response:
        if request.url.path == "/tables":
            return JSONResponse({"models": [{"app": "house", "table": each, "fields": []} for each in self.rows]})
        answer = await super().answer(request)
        if request.path_params.get("key") is None and answer.status_code == 200:
            rows, behind = self.rows[request.path_params["table"]], "page=2" in request.url.query
            more = None if behind else f"{request.url.path}?page=2"
            return JSONResponse({"count": len(rows), "next": more, "results": rows[2:] if behind else rows[:2]})
        return answer


class Storeyed(Housed):
    """Only the levels themselves say what there is, and a key stands for a table: its rows are not described."""

    listed = "/apps/{app}/tables/{collection_id}/records"
    paths = ("/apps", "/apps/{app}/tables", listed, listed + "/{key}")
    described: ClassVar[Json] = {}

    def contract(self) -> Json:
        contract = Untold.contract(self)
        house, table, key = (
            {"name": each, "in": "path", "required": True, "schema": {"type": "string"}}
            for each in ("app", "collection_id", "key")
        )
        plain, _, one = contract["paths"].values()
        row = {"type": "object", "properties": self.described}
        rows = {"type": "object", "properties": {"results": {"type": "array", "items": row}}}
        answer = {"200": {"description": "", "content": {"application/json": {"schema": rows}}}}
        listed = {"parameters": [house, table], "get": {"responses": answer}}
        paths = {
            "/apps": plain,
            "/apps/{app}/tables": {**plain, "parameters": [house]},
            self.listed: listed,
            self.listed + "/{key}": {**one, "parameters": [house, table, key]},
        }
        return {**contract, "paths": paths}

    async def answer(self, request: Request) -> Response:
        if request.url.path == "/apps":
            return JSONResponse({"data": [{"id": "house"}]})
        if request.url.path == "/apps/house/tables":
            return JSONResponse([{"id": each} for each in self.rows])
        request.path_params["table"] = request.path_params.pop("collection_id")
        return await super().answer(request)


class Wrapping(Untold):
    """Records stand in a member that only a refusal names; a create answers with the number that a driver gives."""

    def __init__(self, change: Json) -> None:
        super().__init__()
        #: The schema of the body of a change.
        self.change = change

    def contract(self) -> Json:
        contract = super().contract()
        done = {status: {"description": ""} for status in ("200", "201", "400", "404")}

        def takes(schema: Json) -> Json:
            body = {"required": True, "content": {"application/json": {"schema": schema}}}
            return {"requestBody": body, "responses": done}

        contract["paths"]["/{table}"]["post"] = takes({"type": "object"})
        contract["paths"]["/{table}/{key}"] |= {"put": takes(self.change), "delete": {"responses": done}}
        return contract

    async def answer(self, request: Request) -> Response:
        if request.method == "GET":
            return await super().answer(request)
        rows, key = self.rows[request.path_params["table"]], request.path_params.get("key")
        row = next((row for row in rows if str(next(iter(row.values()))) == key), None)
        if key is not None and row is None:
            return Response(status_code=404)
        if request.method == "DELETE":
            rows.remove(row or {})
            return JSONResponse({"changes": 1, "lastInsertRowid": 1})
        try:
            body = json.loads(await request.body())
        except ValueError:
            body = None
        fields = body.get("values") if isinstance(body, dict) else None
        if not isinstance(fields, dict):
            return JSONResponse({"message": '"body.values" is required'}, 400)
        fields = {name: value for name, value in fields.items() if row is None or row.get(name) != value}
        known = {"title": str, "scale": int} if "id" in rows[0] else {"code": str, "room": str}
        wrong = [name for name, value in fields.items() if type(value) is not known.get(name)]
        wrong += [name for name in {"code", "id"} & fields.keys() if row is not None]
        if wrong or (row is None and known.keys() - fields.keys()):
            return JSONResponse({"message": f"no good: {wrong}"}, 400)
        if row is not None:
            row.update(fields)
            return JSONResponse({"changes": 1})
        if "id" in rows[0]:
            fields = {"id": max(each["id"] for each in rows) + 1, **fields}
        elif any(each["code"] == fields["code"] for each in rows):
            return JSONResponse({"message": "there is one"}, 400)
        rows.append(fields)
        return JSONResponse(
            {"message": "made", "data": {"changes": 1, "lastInsertRowid": fields.get("id", len(rows))}}, 201
        )

    def app(self) -> Starlette:
        ways = {"/": ["GET"], "/{table}": ["GET", "POST"], "/{table}/{key}": ["GET", "PUT", "DELETE"]}
        return Starlette(routes=[Route(path, self.answer, methods=each) for path, each in ways.items()])


class PagedUntold(Library):
    """A list that is paged, of which the contract says nothing; its answer may name its size and position."""

    says = False

    def contract(self) -> Json:
        contract = super().contract()
        contract["paths"][self.path]["get"].pop("parameters")
        return contract

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        if not self.says or answer.status_code != 200:
            return answer
        query = request.query_params
        named = {"skip": int(query.get("skip", 0)), "take": min(10, int(query.get("take", 10)))}
        return JSONResponse({**json.loads(bytes(answer.body)), **named})


class FailingAndPaged(PagedUntold):
    """No create is answered with anything but an error."""

    asked = 0

    async def create(self, request: Request) -> Response:
        self.asked += 1
        return Response(status_code=500)


class Asked(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def run_on(self, app: Any, contract: Json) -> Result:
        with Served(app) as served:
            file = self.folder / "c.json"
            file.write_text(json.dumps(contract), "utf-8")
            return run_against(str(file), served.base_url, self.folder, role=None)

    def test_tables_fields_and_rows_are_found_by_reading(self) -> None:
        untold = Untold()
        result = self.run_on(untold.app(), untold.contract())
        found = {each.name: [field.name for field in each.fields] for each in result.target.model.resources}
        self.assertEqual(found, {"maps": ["id", "title", "scale"], "shelves": ["code", "room"]})
        self.assertEqual([each for each in result.findings if each.severity != "note"], [])
        passed = {(each.check, each.resource) for each in result.checks if each.outcome == "passed"}
        self.assertIn(("read.item-equals-list", "maps"), passed)

    def test_the_key_of_one_row_is_told_by_reading_it(self) -> None:
        row = {"name": "Seeds", "slug": "seeds"}
        schema = {"type": "object", "properties": {name: {} for name in row}}
        answer, listed = (
            {"content": {"application/json": {"schema": each}}} for each in (schema, {"type": "array", "items": schema})
        )
        contract = {
            "openapi": "3.1.0",
            "info": {"title": "t", "version": "1"},
            "paths": {
                "/events": {"get": {"responses": {"200": {"description": "rows", **listed}}}},
                "/events/{event}": {"get": {"responses": {"200": {"description": "row", **answer}}}},
            },
        }
        for strict, expected in ((True, ("slug",)), (False, None)):

            async def read(request: Request, strict: bool = strict) -> Response:
                found = not strict or request.path_params["event"] == row["slug"]
                return JSONResponse(row if found else {"error": "not found"}, 200 if found else 404)

            async def rows(request: Request) -> Response:
                return JSONResponse([row])

            app = Starlette(routes=[Route("/events", rows), Route("/events/{event}", read)])
            with self.subTest(strict=strict):
                [resource] = self.run_on(app, contract).target.model.resources
                self.assertEqual(resource.key.fields if resource.key else None, expected)

    def test_tables_that_belong_to_something(self) -> None:
        housed = Housed()
        contract = contract_of(housed.contract())
        fold = fold_of(contract)
        assert fold is not None
        self.assertEqual((fold.parameters, fold.form), (("app", "table"), "APP/TABLE"))
        self.assertEqual(
            [fold.of(each) for each in ("house/maps", "house.maps", "maps", "a/b/c")], ["house/maps"] * 2 + [None] * 2
        )
        result = self.run_on(housed.app(), housed.contract())
        found = {
            each.name: (each.item, [field.name for field in each.fields]) for each in result.target.model.resources
        }
        maps = ("/house/maps/{key}", ["id", "title", "scale"])
        self.assertEqual(found, {"maps": maps, "shelves": ("/house/shelves/{key}", ["code", "room"])})
        read = next(each for each in result.checks if (each.check, each.resource) == ("read.list", "maps"))
        self.assertEqual(read.outcome, "passed")
        linked = [each for each in result.exchanges if each.request.url.endswith("/house/maps?page=2")]
        self.assertTrue(linked, "the list is read on by its link")
        profile = self.folder / "checkpost.yaml"
        profile.write_text("contract: c.json\nbase_url: http://127.0.0.1:1\ntables: [maps]\n", "utf-8")
        with self.assertRaisesRegex(CheckPostError, "line 3.*written APP/TABLE, not maps"):
            aim(read_profile(profile), False, 1.0)

    def test_tables_that_each_level_names(self) -> None:
        storeyed = Storeyed()
        result = self.run_on(storeyed.app(), storeyed.contract())
        found = {each.name: [field.name for field in each.fields] for each in result.target.model.resources}
        self.assertEqual(found, {"maps": ["id", "title", "scale"], "shelves": ["code", "room"]})
        self.assertEqual([each for each in result.findings if each.severity != "note"], [])
        with mock.patch.object(Storeyed, "described", {"title": {"type": "string"}}):
            self.assertIsNone(fold_of(contract_of(Storeyed().contract())), "what has such rows may be a row itself")

    def test_a_member_for_records_that_only_a_refusal_or_the_change_names(self) -> None:
        misdescribed = {"type": "object", "properties": {"values": {"type": "array", "items": {"type": "object"}}}}
        for change in ({"type": "object"}, misdescribed):
            wrapping = Wrapping(change)
            before = {name: list(rows) for name, rows in wrapping.rows.items()}
            with self.subTest(change=change):
                result = self.run_on(wrapping.app(), wrapping.contract())
                outcomes = {(each.check, each.resource): each.outcome for each in result.checks}
                for check in ("create.stored", "replace.stored", "delete.gone"):
                    for name in ("maps", "shelves"):
                        self.assertEqual(outcomes[check, name], "passed", (check, name))
                self.assertEqual((wrapping.rows, result.left), (before, ()))
                self.assertEqual([each.title for each in result.findings if each.severity == "error"], [])

    def test_a_key_that_rows_show_and_the_contract_does_not_describe(self) -> None:
        row = {"type": "object", "properties": {"title": {"type": "string"}, "scale": {"type": "integer"}}}

        def answer(schema: Json) -> Json:
            return {"200": {"description": "", "content": {"application/json": {"schema": schema}}}}

        key = {"name": "map_id", "in": "path", "required": True, "schema": {"type": "integer"}}
        paths: Json = {
            "/maps": {"get": {"responses": answer({"type": "array", "items": row})}},
            "/maps/{map_id}": {"parameters": [key], "get": {"responses": {**answer(row), "404": {"description": ""}}}},
        }
        contract = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
        maps = [{"id": 10 * n, "title": f"map {n}", "scale": n} for n in range(1, 6)]
        for reads, wanted in ((lambda n: maps[n // 10 - 1], ["id"]), (lambda n: maps[0 if n > 10 else 1], [])):

            async def one(request: Request, reads: Any = reads) -> Response:
                number = request.path_params["number"]
                return JSONResponse(reads(number)) if 10 <= number <= 50 else Response(status_code=404)

            async def listed(request: Request) -> Response:
                return JSONResponse(maps)

            app = Starlette(routes=[Route("/maps", listed), Route("/maps/{number:int}", one)])
            with self.subTest(key=wanted):
                result = self.run_on(app, contract)
                [resource] = result.target.model.resources
                self.assertEqual(list(resource.key.fields) if resource.key else [], wanted)
                told = {each.check: each.subjects for each in result.findings if each.severity != "note"}
                self.assertEqual(told["shape.fields"], ("id",), "that it is not described is told all the same")
                outcomes = {each.check: each.outcome for each in result.checks}
                self.assertEqual(outcomes["read.item-equals-list"], "passed" if wanted else "skipped")

    def paged_untold(self, paging: str, says: bool) -> tuple[Result, PagedUntold]:
        style = Style("paged untold", rows="results", total="total", paging=paging)
        library = PagedUntold(style)
        library.says = says
        return self.run_on(library.app(), library.contract()), library

    def test_parameters_that_page_a_list_and_are_not_described(self) -> None:
        for paging, says, names in (("page", False, ("per_page", "page")), ("skip", True, ("take", "skip"))):
            with self.subTest(paging=paging):
                result, library = self.paged_untold(paging, says)
                resource = result.target.model.resource("books")
                assert resource is not None
                self.assertEqual((resource.paging.limit, resource.paging.position), names)
                [finding] = [each for each in result.findings if each.check != "errors.documented"]
                self.assertEqual(finding.check, "page.described")
                self.assertEqual(finding.observed, f"10 of 23 rows; {names[0]} and {names[1]} give the rest")
                self.assertEqual((len(library.books), result.left), (23, ()))
                joined = [
                    each.outcome for each in result.checks if (each.check, each.resource) == ("page.joined", "books")
                ]
                self.assertEqual(joined, ["passed"])

    def test_a_list_whose_rest_is_out_of_reach(self) -> None:
        result, library = self.paged_untold("skip", False)
        [finding] = [each for each in result.findings if each.check != "errors.documented"]
        self.assertEqual((finding.check, finding.observed), ("page.described", "10 of 23 rows"))
        self.assertEqual((len(library.books), result.left), (23, ()))

    def test_no_more_is_made_where_a_failed_create_may_have_made_what_is_never_shown(self) -> None:
        style = Style("paged untold", rows="results", total="total", paging="skip")
        library = FailingAndPaged(style)
        result = self.run_on(library.app(), library.contract())
        reasons = " ".join(each.reason for each in result.checks)
        self.assertIn("creates in books failed and may have made rows", reasons)
        self.assertLess(library.asked, 20, "those that were under way, and no more")

    def test_a_key_of_any_name_is_found_by_reading_with_it(self) -> None:
        row = {"type": "object", "properties": {each: {"type": "string"} for each in ("town", "email", "name")}}
        answer = {"200": {"description": "", "content": {"application/json": {"schema": row}}}}
        listed = {"200": {"description": "", "content": {"application/json": {"schema": {"items": row}}}}}
        key = {"name": "item_id", "in": "path", "required": True, "schema": {"type": "string"}}
        paths = {"/people": {"get": {"responses": listed}}, "/people/{item_id}": {"get": {"responses": answer}}}
        paths["/people/{item_id}"]["parameters"] = [key]
        contract = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
        people = [{"town": "here", "name": f"name {n}", "email": f"p{n}@bank.example"} for n in range(4)]

        async def every(request: Request) -> Response:
            return JSONResponse(people)

        async def one(request: Request) -> Response:
            found = [each for each in people if each["email"] == request.path_params["email"]]
            return JSONResponse(found[0]) if found else Response(status_code=404)

        app = Starlette(routes=[Route("/people", every), Route("/people/{email}", one)])
        result = self.run_on(app, contract)
        [resource] = result.target.model.resources
        assert resource.key is not None
        self.assertEqual((resource.key.fields, resource.key.reason.certainty), (("email",), "stated"))
        outcomes = {each.check: each.outcome for each in result.checks}
        self.assertEqual(outcomes["read.item-equals-list"], "passed")

    def test_rows_without_a_key_are_told_apart_by_what_differs_and_not_written_to(self) -> None:
        sheets = [{"colour": "red", "_row_id": n, "scale": n % 2, "note": None} for n in range(5)]
        links = [{"map_id": n // 2, "shelf_id": n % 2, "place": f"place {n}"} for n in range(4)]
        alike = [{"colour": "red", "scale": 1.5}, {"colour": "red", "scale": 2.5}]
        every = {"sheets": sheets, "links": links, "alike": alike, "maps": [{"id": 0}, {"id": 1}], "shelves": []}
        posted: list[str] = []

        async def asked(request: Request) -> Response:
            name = request.path_params["name"]
            posted.extend([name] if request.method == "POST" else [])
            return JSONResponse(every.get(name), 200 if name in every else 404)

        def listed(name: str) -> Json:
            properties = {each: {} for row in every[name][:1] or [{"id": 1}] for each in row}
            answer = {"type": "array", "items": {"type": "object", "properties": properties}}
            content = {"application/json": {"schema": answer}}
            body = {"content": {"application/json": {"schema": answer["items"]}}}
            return {
                "get": {"responses": {"200": {"description": "", "content": content}}},
                "post": {"requestBody": body, "responses": {"201": {"description": ""}}},
            }

        contract = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}}
        app = Starlette(routes=[Route("/{name}", asked, methods=["GET", "POST"])])
        result = self.run_on(app, {**contract, "paths": {f"/{name}": listed(name) for name in every}})
        keys = {each.name: each.key and list(each.key.fields) for each in result.target.model.resources}
        self.assertEqual(
            (keys["sheets"], keys["links"], keys["alike"]), (["_row_id"], ["map_id", "shelf_id"], None), keys
        )
        self.assertEqual(posted, [])

    def test_bodies_that_are_not_described_are_sent_as_rows_are_shown_and_nothing_is_held_against_refusals(
        self,
    ) -> None:
        with InProcess() as stand_in, fetched(stand_in) as (folder, contract):
            document = json.loads(Path(contract).read_text("utf-8"))
            for path, item in document["paths"].items():
                if path.split("/")[1] in {"tags", "vaults"}:
                    for method in {"post", "put", "patch"} & item.keys():
                        item[method].pop("requestBody", None)
            Path(contract).write_text(json.dumps(document), "utf-8")
            before, families = stand_in.contents(), ("read", "create", "update", "replace", "delete")
            transport = Direct(stand_in.app)
            result = run_against(contract, None, folder, ("tags", "vaults"), families, CURATOR, transport=transport)
            self.assertEqual((stand_in.contents(), result.left), (before, ()))
        self.assertEqual([(each.title, each.observed) for each in result.findings], [])
        outcomes = {(each.check, each.resource): each.outcome for each in result.checks}
        for name in ("create.stored", "update.each-field", "delete.gone"):
            self.assertEqual({outcomes[name, "tags"], outcomes[name, "vaults"]}, {"passed"}, name)
        self.assertEqual(outcomes["create.rules", "tags"], "skipped")

    def test_survey_shows_what_was_settled(self) -> None:
        with InProcess(spelling="infix", style="one-path") as stand_in:
            write_example(self.folder, stand_in.address)
            profile = self.folder / "checkpost.yaml"
            text = profile.read_text("utf-8")
            profile.write_text(text[: text.index("# What each may do")] + "run_as: curator\n", "utf-8")
            plain = called("survey", folder=self.folder)
            probed = called("survey", "--probe", folder=self.folder)
            planned = called("plan", folder=self.folder)
        self.assertEqual((plain.returncode, probed.returncode), (0, 0), plain.stderr + probed.stderr)
        self.assertIn("tables: [NAME, …]", plain.stdout)
        self.assertIn("GET /tables names the tables accessions, collectors", probed.stdout)
        self.assertIn("species: its fields are id, scientific_name", " ".join(probed.stdout.split()))
        self.assertEqual(planned.returncode, 2)
        self.assertIn("checkpost survey --probe", planned.stderr)

    def test_descriptions_that_differ_by_role(self) -> None:
        untold = Untold()
        whole = untold.contract()

        async def described(request: Request) -> Response:
            who = request.headers.get("authorization", "")
            if not who:
                return Response(status_code=401)
            paths = {path: each for path, each in whole["paths"].items() if "key" not in path or "keeper" in who}
            return JSONResponse({**whole, "paths": paths})

        app = untold.app()
        app.routes.insert(0, Route("/openapi.json", described))
        with Served(app) as served:
            (self.folder / "checkpost.yaml").write_text(
                f"contract: {served.base_url}/openapi.json\nbase_url: {served.base_url}\ncontract_role: keeper\n"
                "roles:\n"
                '  keeper: {bearer: "${KEEPER}"}\n  clerk: {bearer: "${CLERK}"}\n  public: none\n',
                "utf-8",
            )
            words = ("survey", "--probe")
            done = called(*words, folder=self.folder, KEEPER="keeper-token-1", CLERK="clerk-token-2")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("described to clerk: without GET /{table}/{key}", done.stdout)
        self.assertIn("described to public: without GET /, GET /{table}, GET /{table}/{key}", done.stdout)
        self.assertNotIn("described to keeper", done.stdout)

    def test_a_server_is_named(self) -> None:
        answer = {"get": {"responses": {"200": {"description": ""}}}}
        with InProcess() as stand_in:
            url = stand_in.address.base_url
            write_example(self.folder, stand_in.address)
            contract = self.folder / "many.json"
            servers = [
                {
                    "url": "https://{region}.example.org/v1",
                    "description": "production",
                    "variables": {"region": {"default": "eu"}},
                },
                {"url": url, "description": "test instance"},
                {"url": "https://staging.example.org/v1", "description": "staging"},
            ]
            text = {
                "openapi": "3.1.0",
                "info": {"title": "t", "version": "1"},
                "servers": servers,
                "paths": {"/species": answer},
            }
            contract.write_text(json.dumps(text), "utf-8")
            os.environ.update(ENVIRONMENT)
            profile = self.folder / "servers.yaml"
            profile.write_text("contract: many.json\nresources: {species: {collection: /species}}\n", "utf-8")
            words = ("plan", "--profile", "servers.yaml", "--server")
            named = called(*words, "test", folder=self.folder)
            self.assertIn(url, named.stdout + named.stderr)
            untold = called(*words, "example.org", folder=self.folder)
            self.assertEqual(untold.returncode, 2)
            self.assertIn("2 servers of the contract are meant by 'example.org'", untold.stderr)
            production = called(*words, "production", folder=self.folder)
            self.assertIn("https://eu.example.org/v1", production.stdout)
            self.assertIn("is not this machine", production.stdout)
            unasked = called("plan", "--profile", "servers.yaml", folder=self.folder)
            self.assertIn(url, unasked.stdout, "of several, the one on this machine")


if __name__ == "__main__":
    unittest.main()
