"""Questions to lists: each put once, wrong answers asked again, and not blamed where others are at work."""

from __future__ import annotations

import asyncio
import itertools
import json
import tempfile
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from checkpost.findings import Finding
from tests.foreign import Served
from tests.shop import DIALECTS, Row, Shop, minus, wares
from tests.support import run_against

DIALECT = next(each for each in DIALECTS if each.name == "colon prefix")


def run_on(shop: Shop, contract: dict[str, Any] | None = None, **options: Any) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(shop.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(contract or shop.contract()), "utf-8")
        return run_against(str(file), served.base_url, Path(name), transport=served.direct, **options)


class Once(unittest.TestCase):
    def test_no_list_is_asked_for_twice_where_nothing_is_written(self) -> None:
        for dialect in DIALECTS[:6]:
            with self.subTest(dialect=dialect.name):
                result = run_on(Shop(dialect))
                lists = [each.request for each in result.exchanges if "/wares/" not in each.request.url]
                # the same in another form, or by another method, is another question
                asked = Counter((each.method, each.url, *sorted(each.headers.items())) for each in lists)
                twice = [question for question, number in asked.items() if number > 1]
                self.assertEqual(twice, [])

    def test_families_can_be_chosen(self) -> None:
        for family, checks in {"sort": "sort.", "filter": "filter.", "select": "select."}.items():
            result = run_on(Shop(DIALECT), families=[family])
            ran = {each.check for each in result.checks if each.requests}
            self.assertTrue(all(name.startswith((checks, "read.list")) for name in ran), ran)


class Capped(Shop):
    """Pages of more than 50 are refused, which the contract does not tell."""

    most = 50

    def contract(self) -> dict[str, Any]:
        contract = super().contract()
        for each in contract["paths"]["/wares"]["get"]["parameters"]:
            each["schema"].pop("maximum", None)
        return contract

    async def listed(self, request: Request) -> Response:
        size = request.query_params.get("limit", "20")
        if size.isdigit() and int(size) > self.most:
            return Response(status_code=500)
        return await super().listed(request)


class Unstated(unittest.TestCase):
    def test_sizes_that_a_list_does_not_take_are_left_and_filters_asked_all_the_same(self) -> None:
        for rows in (wares(40), wares(130)):
            result = run_on(Capped(DIALECT, rows), families=["filter", "sort", "page"])
            asked = {each.check: each.outcome for each in result.checks}
            self.assertEqual(asked["filter.rows"], "passed", len(rows))
            self.assertEqual(asked["sort.each-field"], "passed")
            told = {each.check for each in result.findings if each.check != "errors.server-error"}
            self.assertEqual(told - {"page.sizes"}, set())

    def test_where_no_question_is_answered_nothing_passes(self) -> None:
        class Broken(Shop):
            def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
                if any(name not in {"limit", "offset", "page", "sort"} for name, _ in pairs):
                    raise RuntimeError
                return super().found(pairs)

            async def listed(self, request: Request) -> Response:
                try:
                    return await super().listed(request)
                except RuntimeError:
                    return Response(status_code=500)

        [outcome] = [
            each for each in run_on(Broken(DIALECT), families=["filter"]).checks if each.check == "filter.rows"
        ]
        self.assertEqual(outcome.outcome, "blocked", outcome.reason)


class Mixed(Shop):
    """Requests that come at the same time share what they ask for: the last one's page is every one's."""

    async def listed(self, request: Request) -> Response:
        self.query = request.url.query
        await asyncio.sleep(0.005)
        scope = {**request.scope, "query_string": self.query.encode()}
        return await super().listed(Request(scope))


class AtOnce(unittest.TestCase):
    def test_answers_that_are_mixed_up_are_told_as_that_and_lists_are_judged_by_themselves(self) -> None:
        result = run_on(Mixed(DIALECT, wares(24)), families=["read", "page", "filter", "sort"])
        told = {each.check for each in result.findings if each.severity != "note"}
        self.assertIn("read.at-once", told)
        self.assertFalse({each for each in told if each.startswith(("page.", "filter.", "sort.", "select."))}, told)


class Growing(Shop):
    """Others add a row at every request."""

    numbers = itertools.count(100_000)

    async def listed(self, request: Request) -> Response:
        self.wares = [*self.wares, {**wares(3)[1], "id": next(self.numbers)}]
        return await super().listed(request)


class Shrinking(Shop):
    """Others remove a row at every other request."""

    asked = 0

    async def listed(self, request: Request) -> Response:
        self.asked += 1
        if self.asked % 2 and len(self.wares) > 10:
            self.wares = self.wares[1:]
        return await super().listed(request)


class Restless(Shop):
    """Others change a value at every request."""

    async def listed(self, request: Request) -> Response:
        self.wares = [{**row, "stock": (row["stock"] + 7) % 130} for row in self.wares]
        return await super().listed(request)


class Flaky(Shop):
    """One answer in forty has lost its last row; asked again, it is there."""

    asked = 0

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        self.asked += 1
        found = super().found(pairs)
        return found[:-1] if self.asked == 40 else found


class OthersAtWork(unittest.TestCase):
    def errors(self, kind: type[Shop]) -> list[tuple[str, str, str]]:
        result = run_on(kind(DIALECT, wares(40)))
        broken = [each for each in result.checks if "itself failed" in each.reason]
        self.assertEqual(broken, [])
        return [(each.check, each.title, each.observed) for each in result.findings if each.severity == "error"]

    def test_rows_that_come_and_go_are_nobodys_fault(self) -> None:
        for kind in (Growing, Shrinking):
            with self.subTest(kind=kind.__name__):
                filters = [
                    each for each in self.errors(kind) if each[0].partition(".")[0] in {"filter", "sort", "select"}
                ]
                self.assertEqual(filters, [])

    def test_an_answer_that_is_right_the_second_time_is_no_finding(self) -> None:
        self.assertEqual(self.errors(Flaky), [])

    def test_values_that_never_rest_end_in_no_crash(self) -> None:
        self.errors(Restless)


class Clamped(unittest.TestCase):
    def test_a_page_number_that_is_too_high_may_mean_the_last_page(self) -> None:
        dialect = next(each for each in DIALECTS if each.name == "ends of ranges")

        class Clamping(Shop):
            async def listed(self, request: Request) -> Response:
                query = dict(request.query_params)
                size, page = query.get("per_page", "20"), query.get("page", "1")
                most = -(-len(self.wares) // int(size)) if size.isdigit() and int(size) else 1
                if page.isdigit() and int(page) > most:
                    scope = {**request.scope, "query_string": f"per_page={size}&page={most}".encode()}
                    request = Request(scope, request.receive)
                return await super().listed(request)

        findings = run_on(Clamping(dialect), families=["page"]).findings
        self.assertEqual(
            [(each.title, each.severity) for each in findings], [("A page past the end repeats the last one", "note")]
        )


class Refusing(Shop):
    """Every documented filter is refused."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        if any(name in wares(1)[0] for name, _ in pairs):
            raise ValueError
        return self.wares


class Capital(Shop):
    """What the contract calls a text takes True and False alone."""

    def contract(self) -> dict[str, Any]:
        contract = super().contract()
        for each in contract["paths"]["/wares"]["get"]["parameters"]:
            each["schema"] = {"type": "string"} if each["name"] == "sold" else each["schema"]
        return contract

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        if any(name == "sold" and value not in {"True", "False"} for name, value in pairs):
            raise ValueError
        return super().found(pairs)


class Crashing(Shop):
    """Filters by a number are answered 500."""

    async def listed(self, request: Request) -> Response:
        if "stock" in request.query_params:
            return Response(status_code=500)
        return await super().listed(request)


class Doubling(Shop):
    """A filter answers with every row twice."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        found = super().found(pairs)
        return [row for row in found for _ in range(2)] if len(found) < len(self.wares) else found


class Strict(Shop):
    """Refuses texts in ranges, which no contract has promised for texts."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        if any(name in {"label", "kind", "sold"} and value[:2] in {"gt", "lt"} for name, value in pairs):
            raise ValueError
        return super().found(pairs)


#: How its order is written is said nowhere: ``ordering=field`` or ``-field``.
UNTOLD = replace(
    DIALECT,
    name="order untold",
    parameters=lambda: [{"name": "ordering", "in": "query", "schema": {"type": "string"}}],
    condition=lambda pairs: iter(()),
    order=lambda query: minus(query.get("ordering", "")),
    select="",
)


class EndsSwapped(Shop):
    """Of a list in an order asked for, the first and the last row have changed places."""

    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        rows = super().ordered(rows, keys)
        return [rows[-1], *rows[1:-1], rows[0]] if keys and len(rows) > 2 else rows


class Unmoved(Shop):
    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        return rows


class UntoldOrders(unittest.TestCase):
    """A parameter that orders rows in a way that nothing describes."""

    def found(self, kind: type[Shop]) -> list[tuple[str, str]]:
        result = run_on(kind(UNTOLD), families=["read", "sort"])
        return [(each.severity, each.title) for each in result.findings]

    def test_the_way_that_orders_them_is_taken(self) -> None:
        self.assertEqual(self.found(Shop), [])

    def test_it_is_known_by_rows_that_are_nearly_in_order(self) -> None:
        self.assertEqual([each[0] for each in self.found(EndsSwapped)], ["error"])

    def test_where_none_moves_a_row_that_is_noted(self) -> None:
        self.assertEqual(self.found(Unmoved), [("note", "No usual way of writing an order has any effect")])


class Symptoms(unittest.TestCase):
    def found(self, kind: type[Shop]) -> list[Finding]:
        return [each for each in run_on(kind(DIALECT)).findings if each.severity != "note"]

    def test_refused(self) -> None:
        [finding] = self.found(Refusing)
        self.assertEqual(finding.title, "A documented filter is refused")
        self.assertEqual(finding.observed, "400")
        self.assertIn("stock >=", finding.subjects)

    def test_booleans_that_are_written_otherwise(self) -> None:
        dialect = next(each for each in DIALECTS if each.name == "ends of ranges")
        found = [each for each in run_on(Capital(dialect)).findings if each.severity != "note"]
        [finding] = [each for each in found if each.family == "filter"]
        self.assertEqual((finding.title, finding.severity), ("A filter by a boolean refuses true and false", "warning"))

    def test_a_server_error_is_told_once(self) -> None:
        [finding] = self.found(Crashing)
        self.assertEqual((finding.check, finding.title), ("errors.server-error", "A request fails with 500: a filter"))

    def test_rows_twice(self) -> None:
        findings = self.found(Doubling)
        self.assertIn("Filter returns a row twice", [each.title for each in findings])
        self.assertLessEqual(len(findings), 2)

    def test_a_finding_names_the_rule_of_the_contract_and_how_to_see_it_again(self) -> None:
        [finding] = self.found(Refusing)
        assert finding.place is not None
        self.assertTrue(finding.place.pointer.startswith("/paths/~1wares/get/parameters/"))
        self.assertIn("curl", finding.reproduce)

    def test_what_operators_refuse_for_texts_is_no_departure_where_none_is_promised(self) -> None:
        from tests.shop import calls

        dialect = calls()

        def condition(pairs: list[tuple[str, str]]) -> Any:
            text = dict(pairs).get("where", "")
            if any(
                f"{word}({name}," in text for word in ("lt", "le", "gt", "ge") for name in ("label", "kind", "sold")
            ):
                raise ValueError
            yield from dialect.condition(pairs)

        result = run_on(Shop(replace(dialect, condition=condition)))
        self.assertEqual([each.title for each in result.findings if each.severity != "note"], [])


class Summed(Shop):
    """A shop with aggregates beside its list, in a form of its own: ``{"total": {"stock": 5}}``."""

    def contract(self) -> dict[str, Any]:
        contract = super().contract()
        fields = {"type": "string", "enum": ["stock", "price", "id"]}
        parameters = [
            {"name": name, "in": "query", "schema": {"type": "array", "items": fields}, "explode": False}
            for name in ("sum", "average", "min", "max")
        ]
        parameters.append({"name": "count", "in": "query", "schema": {"type": "boolean"}})
        parameters.append({"name": "groupBy", "in": "query", "schema": {"type": "string", "enum": ["kind", "sold"]}})
        said = "Operator and value: `eq:5`, `gt:5`."
        parameters += [
            {"name": name, "in": "query", "schema": {"type": "string"}, "description": said}
            for name in ("stock", "kind")
        ]
        answer = {
            "description": "",
            "content": {"application/json": {"schema": {"type": "array", "items": {"type": "object"}}}},
        }
        operation = {"parameters": parameters, "responses": {"200": answer, "400": {"description": ""}}}
        contract["paths"]["/wares/summary"] = {"get": operation}
        return contract

    def measure(self, function: str, values: list[Any]) -> Any:
        if not values:
            return None
        return {
            "sum": lambda: sum(values),
            "average": lambda: round(sum(values) / len(values), 4),
            "min": lambda: min(values),
            "max": lambda: max(values),
        }[function]()

    def filtered(self, pairs: list[tuple[str, str]]) -> list[Row]:
        return self.found([pair for pair in pairs if pair[0] in wares(1)[0]])

    async def summary(self, request: Request) -> Response:
        query = request.query_params
        try:
            rows = self.filtered(list(query.multi_items()))
        except ValueError:
            return Response(status_code=400)
        group = query.get("groupBy")
        groups = sorted({row[group] for row in rows}, key=str) if group else [None]
        results = []
        for value in groups:
            own = [row for row in rows if group is None or row[group] == value]
            result: dict[str, Any] = {group: value} if group else {}
            for function in ("sum", "average", "min", "max"):
                for name in filter(None, query.get(function, "").split(",")):
                    if name not in {"stock", "price", "id"}:
                        return Response(status_code=400)
                    known = [row[name] for row in own if row[name] is not None]
                    result.setdefault(function, {})[name] = self.measure(function, known)
            if query.get("count") == "true":
                result["count"] = self.number(own)
            results.append(result)
        return JSONResponse(results)

    def number(self, rows: list[Row]) -> int:
        return len(rows)

    def app(self) -> Any:
        app = super().app()
        app.router.routes.insert(0, Route("/wares/summary", self.summary))
        return app


class Deaf(Summed):
    def filtered(self, pairs: list[tuple[str, str]]) -> list[Row]:
        return self.wares


class Truncating(Summed):
    def measure(self, function: str, values: list[Any]) -> Any:
        value = super().measure(function, values)
        return int(value) if function == "sum" and value is not None else value


class Flooring(Summed):
    """An average of whole numbers is a whole number, as some databases have it: no departure."""

    def measure(self, function: str, values: list[Any]) -> Any:
        value = super().measure(function, values)
        whole = function == "average" and all(isinstance(each, int) for each in values)
        return int(value) if whole and value is not None else value


class OffByOne(Summed):
    def number(self, rows: list[Row]) -> int:
        return len(rows) + 1


class Aggregates(unittest.TestCase):
    def run_on(self, kind: type[Summed]) -> tuple[list[Finding], dict[str, str]]:
        result = run_on(kind(DIALECT))
        findings = [each for each in result.findings if each.severity != "note"]
        return findings, {each.check: each.outcome for each in result.checks}

    def test_a_sound_one_is_understood_and_gives_no_finding(self) -> None:
        for kind in (Summed, Flooring):
            with self.subTest(kind=kind.__name__):
                findings, outcomes = self.run_on(kind)
                self.assertEqual([(each.title, each.expected, each.observed) for each in findings], [])
                self.assertEqual(outcomes["aggregate.values"], "passed")
                self.assertEqual(outcomes["aggregate.refused"], "passed")

    def test_wrong_ones_are_found(self) -> None:
        titles = {
            Deaf: "Aggregates ignore the filter",
            Truncating: "The sum is not that of the rows",
            OffByOne: "The count is not that of the rows",
        }
        for kind, title in titles.items():
            with self.subTest(kind=kind.__name__):
                findings, _ = self.run_on(kind)
                self.assertEqual([each.title for each in findings], [title])
                [finding] = findings
                self.assertEqual(finding.operations, (("GET", "/wares/summary"),))
                self.assertTrue(finding.rows)


if __name__ == "__main__":
    unittest.main()
