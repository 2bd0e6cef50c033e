"""A list that takes paging alone, with a search beside it: a POST whose body says which rows are wanted and in which
order, or a GET with a text."""

from __future__ import annotations

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
from tests.direct import Direct
from tests.shop import NAMES, TEXT, Bad, Dialect, Shop, compare, typed, wares
from tests.support import contract_of, run_against

WORDS = {"gt": "gt", "lt": "lt", "eq": "eq", "ne": "ne", "in": "in", "contains": "contains"}
PLAIN = Dialect("posted", list, lambda pairs: iter(()), lambda query: [])


class Searching(Shop):
    """``POST /wares/search`` with lists of conditions and of keys of an order; ``fault`` says what is wrong with it."""

    fault = ""

    def __init__(self) -> None:
        super().__init__(PLAIN, wares(40))

    def contract(self) -> dict[str, Any]:
        contract = super().contract()
        listed = contract["paths"]["/wares"]["get"]

        def many(**members: Any) -> dict[str, Any]:
            item = {"type": "object", "required": list(members), "properties": members}
            return {"type": "array", "items": item}

        asked = {
            "filters": many(field=TEXT, operator={"type": "string", "enum": list(WORDS)}, value={}),
            "sorting": many(field=TEXT, direction={"type": "string", "enum": ["asc", "desc"]}),
        }
        body = {"content": {"application/json": {"schema": {"type": "object", "properties": asked}}}}
        contract["paths"]["/wares/search"] = {"post": {**listed, "requestBody": {"required": True, **body}}}
        return contract

    async def searched(self, request: Request) -> Response:
        if request.headers.get("content-type") != "application/json":
            return Response(status_code=400)
        query = request.query_params
        try:
            body = json.loads(await request.body())
            size, start = int(query.get("limit", 20)), int(query.get("offset", 0))
            if not isinstance(body, dict) or not 1 <= size <= 100 or start < 0:
                raise Bad
            tests = [self.test(each) for each in body.get("filters") or ()]
            keys = [(each["field"], each["direction"] == "desc") for each in body.get("sorting") or ()]
        except (Bad, ValueError, TypeError, KeyError):
            return Response(status_code=400)
        found = [row for row in self.wares if all(test(row) for test in tests)]
        try:
            found = self.ordered(found, [] if self.fault == "unsorted" else keys)
        except Bad:
            return Response(status_code=400)
        return JSONResponse({"data": found[start : start + size], "total": len(found)})

    def test(self, condition: dict[str, Any]) -> Any:
        name, word, value = condition["field"], WORDS[condition["operator"]], condition["value"]
        if name not in NAMES or isinstance(value, list) != (word == "in"):
            raise Bad
        for each in value if isinstance(value, list) else [value]:
            typed(name, json.dumps(each) if not isinstance(each, str) else each)
        if word == "contains" and not isinstance(wares(1)[0][name], str):
            raise Bad
        return compare(str, name, "ge" if (word, self.fault) == ("gt", "equal too") else word, value)

    def app(self) -> Starlette:
        routes = [Route("/wares/search", self.searched, methods=["POST"])]
        return Starlette(routes=[*routes, *super().app().routes])


class Finding(Shop):
    """``GET /wares/search?q=…`` with pages of 30 at the most; ``fault`` says what is wrong with it."""

    fault = ""

    def __init__(self) -> None:
        super().__init__(PLAIN, wares(80))

    def contract(self) -> dict[str, Any]:
        contract = super().contract()
        listed = contract["paths"]["/wares"]["get"]
        limit, offset = listed["parameters"]
        fewer = {**limit, "schema": {**limit["schema"], "maximum": 30}}
        text = {"name": "q", "in": "query", "required": True, "schema": TEXT}
        contract["paths"]["/wares/search"] = {"get": {**listed, "parameters": [text, fewer, offset]}}
        return contract

    async def searched(self, request: Request) -> Response:
        query = request.query_params
        size, start, text = int(query.get("limit", 20)), int(query.get("offset", 0)), query.get("q", "").lower()
        if not text or not 1 <= size <= 30 or start < 0:
            return Response(status_code=400)
        found = [row for row in self.wares if text in row["label"].lower() or self.fault == "ignored"]
        return JSONResponse({"data": found[start : start + size], "total": len(found)})

    def app(self) -> Starlette:
        return Starlette(routes=[Route("/wares/search", self.searched), *super().app().routes])


def run_on(shop: Shop) -> Result:
    with tempfile.TemporaryDirectory() as name:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(shop.contract()), "utf-8")
        return run_against(str(file), "http://127.0.0.1:1", Path(name), transport=Direct(shop.app()))


class PostedSearch(unittest.TestCase):
    def test_it_belongs_to_the_list_beside_it(self) -> None:
        model = infer(contract_of(Searching().contract()))
        [resource] = model.resources
        self.assertEqual((str(resource.operations["list"]), str(resource.search)), ("GET /wares", "POST /wares/search"))
        self.assertEqual(resource.in_body, {"filters", "sorting"})
        self.assertEqual(model.others, ())

    def test_it_is_left_alone_where_it_lists_other_rows_or_pages_otherwise_or_may_work_later(self) -> None:
        for change in ("rows", "paging", "status"):
            with self.subTest(change=change):
                contract = Searching().contract()
                post = contract["paths"]["/wares/search"]["post"]
                if change == "rows":
                    other: dict[str, Any] = {"type": "array", "items": {"properties": {"hits": {"type": "integer"}}}}
                    shown = {"type": "object", "properties": {"data": other}}
                    post["responses"] = {"200": {"description": "", "content": {"application/json": {"schema": shown}}}}
                elif change == "paging":
                    post["parameters"] = []
                else:
                    post["responses"] = {**post["responses"], "202": {"description": "later"}}
                model = infer(contract_of(contract))
                self.assertEqual([each.search for each in model.resources], [None])
                self.assertEqual([str(operation) for operation, _ in model.others], ["POST /wares/search"])

    def test_a_sound_one_is_asked_and_nothing_is_told(self) -> None:
        result = run_on(Searching())
        self.assertEqual([each.title for each in result.findings], [])
        outcomes = {each.check: each.outcome for each in result.checks}
        asked = ("filter.rows", "filter.combined", "filter.refused", "sort.each-field", "sort.several-keys")
        self.assertEqual({outcomes[each] for each in asked}, {"passed"})
        posts = [each.request for each in result.exchanges if each.request.method == "POST"]
        self.assertTrue(all(each.url.partition("?")[0].endswith("/wares/search") for each in posts))
        self.assertGreater(len(posts), 20)
        plain = [each for each in result.exchanges if each.request.url.endswith("/wares?limit=100")]
        self.assertEqual({each.request.method for each in plain if each.check != "shape.head"}, {"GET"})
        self.assertEqual([each.request.body for each in plain if each.request.body], [], "it asks for nothing")

    def test_what_is_wrong_with_it_is_told_of_its_own_operation(self) -> None:
        for fault, check in (("equal too", "filter.rows"), ("unsorted", "sort.each-field")):
            with self.subTest(fault=fault):
                shop = Searching()
                shop.fault = fault
                findings = run_on(shop).findings
                self.assertEqual({each.check for each in findings}, {check})
                self.assertEqual({each.operations for each in findings}, {(("POST", "/wares/search"),)})
                self.assertIn("-X POST", findings[0].reproduce.replace("--request", "-X"))


class SearchOfATextBeside(unittest.TestCase):
    def test_it_belongs_to_the_list_beside_it(self) -> None:
        model = infer(contract_of(Finding().contract()))
        [resource] = model.resources
        searching = resource.queries.searching
        self.assertEqual((str(resource.search), searching and searching.parameter), ("GET /wares/search", "q"))
        self.assertEqual((resource.in_body, model.others), (frozenset(), ()))

    def test_a_sound_one_is_asked_within_its_own_limits_and_one_that_is_ignored_is_told(self) -> None:
        for fault, titles in (("", []), ("ignored", ["A search is ignored"])):
            with self.subTest(fault=fault):
                shop = Finding()
                shop.fault = fault
                result = run_on(shop)
                self.assertEqual([each.title for each in result.findings], titles)
                self.assertTrue(all(each.operations == (("GET", "/wares/search"),) for each in result.findings))
                [outcome] = [each.outcome for each in result.checks if each.check == "filter.search"]
                self.assertEqual(outcome, "failed" if fault else "passed")
                asked = [each.request.url for each in result.exchanges if "/wares/search?" in each.request.url]
                self.assertTrue(asked)
                self.assertTrue(all("limit=30" in each and "q=" in each for each in asked), asked)
