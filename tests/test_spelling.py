"""How queries are spelled: told from contracts, stated in profiles, and written on the wire."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from checkpost.checks.filtering import is_split
from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from checkpost.demo.spellings import SPELLINGS
from checkpost.errors import CheckPostError
from checkpost.model.infer import infer
from checkpost.model.query import Compare, Condition, Either, Every, Measure, Not, Order
from checkpost.model.resource import Resource
from checkpost.model.spelling import Inexpressible
from checkpost.profile.profile import read_profile
from tests.support import contract_of

ROW = {
    "type": "object",
    "properties": {
        "id": {"type": "integer"},
        "name": {"type": "string"},
        "price": {"type": "number"},
        "seenAt": {"type": "string", "format": "date-time"},
        "sold": {"type": "boolean"},
    },
}
TEXT = {"type": "string"}


def query(name: str, schema: Any = None, description: str = "", **more: Any) -> dict[str, Any]:
    return {"name": name, "in": "query", "schema": schema or TEXT, "description": description, **more}


def resource_of(
    *parameters: dict[str, Any],
    queries: dict[str, Any] | None = None,
    beside: dict[str, Any] | None = None,
    answer: dict[str, Any] | None = None,
) -> Resource:
    """A resource whose list takes these parameters; ``beside`` is another path's GET, ``answer`` the schema of what the
    list answers, an array of rows if it is not given."""
    content = {"application/json": {"schema": answer or {"type": "array", "items": ROW}}}
    listed = {"parameters": list(parameters), "responses": {"200": {"description": "", "content": content}}}
    key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
    paths: dict[str, Any] = {"/things": {"get": listed}}
    for path, operation in (beside or {}).items():
        paths[path] = {"get": operation}
    paths["/things/{id}"] = {"parameters": [key], "get": {"responses": {"200": {"description": ""}}}}
    document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
    model = infer(contract_of(document), queries=queries)
    assert [each.name for each in model.resources] == ["things"], [each.name for each in model.resources]
    return model.resources[0]


class Filters(unittest.TestCase):
    def written(self, resource: Resource, condition: Condition, candidate: int = 0) -> list[tuple[str, str]]:
        fields = {each.name: each for each in resource.fields}
        return resource.queries.filterings[candidate].pairs(condition, fields)

    def one(self, condition: Condition, *parameters: dict[str, Any]) -> list[tuple[str, str]]:
        return self.written(resource_of(*parameters), condition)

    def test_a_field_and_an_operator_in_a_name(self) -> None:
        at_least = Compare("price", "ge", 2.5)
        for name in ("price[gte]", "price__gte", "price_gte", "price.ge", "priceGte", "filter[price][gte]"):
            with self.subTest(name=name):
                self.assertEqual(self.one(at_least, query(name)), [(name, "2.5")])
        for name, operator in (("minPrice", "from"), ("max_price", "to"), ("seenAt_before", "to"), ("name_like", None)):
            found = resource_of(query(name)).queries.filterings
            operators = [each for _, each in found[0].templates] if found else []
            self.assertEqual(operators, [operator] if operator else [], name)

    def test_parameters_that_are_no_filters(self) -> None:
        for name in ("q", "search", "locale", "include", "page", "apikey", "named", "pricelist"):
            self.assertEqual(resource_of(query(name)).queries.filterings, (), name)

    def test_lists_and_nulls(self) -> None:
        several = Compare("name", "in", ("a", "b"))
        self.assertEqual(self.one(several, query("name__in")), [("name__in", "a,b")])
        repeated = query("name", {"type": "array", "items": TEXT})
        self.assertEqual(self.one(several, repeated), [("name", "a"), ("name", "b")])
        self.assertEqual(self.one(Compare("name", "null"), query("name[isnull]")), [("name[isnull]", "true")])
        self.assertEqual(self.one(Compare("name", "not_null"), query("name[isnull]")), [("name[isnull]", "false")])

    def test_an_operator_before_the_value(self) -> None:
        said = "`eq.5`, `gte.5`, `in.(1,2)`, `is.null`, `like.*x*`, `not.` before"
        parameters = [query("price", TEXT, said), query("name", TEXT, said), query("or", TEXT, "`(a.eq.1,b.eq.2)`")]
        written = {
            Compare("price", "ge", 2): [("price", "gte.2")],
            Compare("price", "in", (1, 2)): [("price", "in.(1,2)")],
            Compare("name", "in", ("a,b", "c")): [("name", 'in.("a,b",c)')],
            Compare("name", "like", "*x*"): [("name", "like.*x*")],
            Compare("name", "null"): [("name", "is.null")],
            Not(Compare("price", "eq", 5)): [("price", "not.eq.5")],
            Either((Compare("price", "eq", 5), Compare("name", "eq", "x"))): [("or", "(price.eq.5,name.eq.x)")],
            Every((Compare("price", "eq", 5), Compare("name", "eq", "x"))): [("price", "eq.5"), ("name", "eq.x")],
        }
        resource = resource_of(*parameters)
        for condition, pairs in written.items():
            self.assertEqual(self.written(resource, condition), pairs, condition)
        self.assertEqual(resource.queries.filterings[0].wildcard, "*")

    def test_an_operator_by_a_form_in_words(self) -> None:
        said = "<p>Format: price={$not}:OPERATION:VALUE</p><ul><li>$eq</li><li>$gte</li><li>$in</li><li>$null</li></ul>"
        resource = resource_of(query("filter.price", {"type": "array", "items": TEXT}, said))
        self.assertEqual(self.written(resource, Compare("price", "ge", 2)), [("filter.price", "$gte:2")])
        self.assertEqual(self.written(resource, Compare("price", "in", (1, 2))), [("filter.price", "$in:1,2")])
        with self.assertRaises(Inexpressible):
            self.written(resource, Compare("price", "null"))

    def test_an_object_that_is_spread_over_the_query(self) -> None:
        bounds = {name: {"type": "number"} for name in ("$gt", "$ne")}
        bounds["$in"] = {"type": "array", "items": {"type": "number"}}
        price = {"anyOf": [{"type": "number"}, {"type": "object", "properties": bounds}]}
        whole = {"type": "object", "properties": {"price": price}}
        ends = {name: {"type": "integer", "minimum": -1, "maximum": 1} for name in ("name", "price")}
        members = {
            "price": price,
            "$or": {"type": "array", "items": whole},
            "$sort": {"type": "object", "properties": ends},
            "$select": {"type": "array", "items": {"enum": ["name", "price"]}},
        }
        resource = resource_of(query("filter", {"type": "object", "properties": members}, style="form", explode=True))
        either = Either((Compare("price", "eq", 5), Compare("price", "gt", 9)))
        for condition, pairs in {
            Compare("price", "eq", 5): [("price", "5")],
            Compare("price", "ne", 5): [("price[$ne]", "5")],
            Compare("price", "in", (1, 2)): [("price[$in][]", "1"), ("price[$in][]", "2")],
            either: [("$or[0][price]", "5"), ("$or[1][price][$gt]", "9")],
        }.items():
            self.assertEqual(self.written(resource, condition), pairs, condition)
        [sorting] = resource.queries.sortings
        order = [Order("name"), Order("price", True)]
        self.assertEqual(sorting.pairs(order), [("$sort[name]", "1"), ("$sort[price]", "-1")])
        assert resource.queries.selecting is not None
        self.assertEqual(resource.queries.selecting.pairs(["name"]), [("$select", "name")])

    def test_groups_inside_the_parameter_of_the_fields(self) -> None:
        bounds = {"type": "object", "properties": {"eq": {"type": "number"}}}
        part = {"type": "object", "properties": {"price": bounds}}
        members = {"price": bounds, "or": {"type": "array", "items": part}}
        where = query("where", {"type": "object", "properties": members}, style="deepObject", explode=True)
        either = Either((Compare("price", "eq", 5), Compare("price", "eq", 9)))
        pairs = [("where[or][0][price][eq]", "5"), ("where[or][1][price][eq]", "9")]
        self.assertEqual(self.one(either, where), pairs)

    def test_expressions(self) -> None:
        both = Every((Compare("price", "ge", 2), Not(Compare("name", "eq", "O'Hara"))))
        either = Either((Compare("sold", "eq", True), both))
        said = "Such as `price >= 2 AND name = 'x'`; `=`, `>=`, `OR`, `NOT (…)`; a quote is doubled."
        written = "sold = true OR (price >= 2 AND NOT (name = 'O''Hara'))"
        self.assertEqual(self.one(either, query("where", TEXT, said)), [("where", written)])
        calls = query("where", TEXT, "`and(ge(price,2),eq(name,'x'))`, `or(…)`, `not(…)`")
        simple = Either((Compare("price", "ge", 2), Compare("name", "eq", "x")))
        self.assertEqual(self.one(simple, calls), [("where", "or(ge(price,2),eq(name,'x'))")])
        odata = query("$filter", TEXT, "eq, ne, ge; `in`; contains; and, or, not")
        for condition, written in {
            Compare("name", "contains", "it's"): "contains(name,'it''s')",
            Compare("seenAt", "ge", "2020-01-01T00:00:00Z"): "seenAt ge 2020-01-01T00:00:00Z",
            Compare("name", "null"): "name eq null",
            Compare("price", "in", (1, 2)): "price in (1,2)",
            Not(Compare("price", "eq", 1)): "not (price eq 1)",
        }.items():
            self.assertEqual(self.one(condition, odata), [("$filter", written)])

    def test_pairs_whose_example_is_of_another_table(self) -> None:
        told = query("_filters", TEXT, "e.g. ?_filters=city:Rome,age:20 will return rows where city is Rome.")
        both = Every((Compare("name", "eq", "x y"), Compare("price", "eq", 5)))
        self.assertEqual(self.one(both, told), [("_filters", "name:x y,price:5")])
        with self.assertRaises(Inexpressible):
            self.one(Compare("price", "gt", 5), told)
        [filtering] = resource_of(told).queries.filterings
        self.assertTrue(is_split(filtering, Compare("name", "eq", "x, y")), "nothing tells such a text from two")
        self.assertFalse(is_split(filtering, Compare("name", "eq", "x y")))

    def test_json(self) -> None:
        said = '`{"price": {"$gte": 5}, "name": "x"}`, `$in`, `$or`, `$not`'
        resource = resource_of(query("filter", TEXT, said))
        condition = Either((Compare("price", "ge", 2), Not(Compare("name", "in", ("a", "b")))))
        [(name, text)] = self.written(resource, condition)
        self.assertEqual(name, "filter")
        self.assertEqual(text, '{"$or": [{"price": {"$gte": 2}}, {"$not": {"name": {"$in": ["a", "b"]}}}]}')
        self.assertEqual(self.written(resource, Compare("name", "eq", "x")), [("filter", '{"name": "x"}')])
        of_another_table = query("where", TEXT, 'conditions (ex.: {"number": 10})')
        self.assertEqual(self.one(Compare("name", "eq", "x"), of_another_table), [("where", '{"name": "x"}')])

    def test_an_operator_in_a_parameter_of_its_own(self) -> None:
        operators = {"type": "string", "enum": ["eq", "gt", "in", "odd"]}
        beside = [query("price", {"type": "number"}), query("price_op", operators)]
        self.assertEqual(self.one(Compare("price", "gt", 5), *beside), [("price", "5"), ("price_op", "gt")])
        apart = [query("filterField"), query("filterOperator", operators), query("filterValue")]
        asked = self.one(Compare("name", "in", ("a", "b")), *apart)
        self.assertEqual(asked, [("filterField", "name"), ("filterOperator", "in"), ("filterValue", "a,b")])

    def test_a_list_of_conditions(self) -> None:
        members = {"column": {"enum": ["name", "price"]}, "op": {"enum": [">", "contains"]}, "value": {}}
        schema = {"type": "array", "items": {"type": "object", "properties": members}}
        listed = {"name": "conditions", "in": "query", "content": {"application/json": {"schema": schema}}}
        parts = (Compare("price", "gt", 5), Compare("name", "contains", "a"))
        [(name, text)] = self.one(Every(parts), listed)
        wanted = [{"column": "price", "op": ">", "value": 5}, {"column": "name", "op": "contains", "value": "a"}]
        self.assertEqual((name, json.loads(text)), ("conditions", wanted))
        for condition in (Either(parts), Compare("sold", "gt", True)):
            with self.assertRaises(Inexpressible):
                self.one(condition, listed)
        [(_, text)] = self.one(
            parts[0], query("filters", description='As in [{"field": "price", "op": ">", "value": 1}]')
        )
        self.assertEqual(json.loads(text), [{"field": "price", "op": ">", "value": 5}])
        as_in = 'As in [{"of": "stock", "operator": "gt", "value": 1}]'
        asked = self.one(parts[0], query("row_conditions", description=as_in))
        self.assertEqual(asked, [("row_conditions", '[{"of": "price", "operator": "gt", "value": 5}]')])
        for no_field in ('[{"operator": "gt", "value": 1}]', '[{"of": "a", "at": 2, "operator": "gt", "value": 1}]'):
            self.assertEqual(resource_of(query("row_conditions", description=no_field)).queries.filterings, ())

    def test_what_is_left_open_has_several_candidates(self) -> None:
        untold = resource_of(query("filter"), query("sort"))
        self.assertGreater(len(untold.queries.filterings), 5)
        self.assertGreater(len(untold.queries.sortings), 2)
        quotes = resource_of(query("filter", TEXT, "`price:gte:5`; operators: eq, gte")).queries.filterings
        self.assertEqual([each.quote for each in quotes], ["", "'"])
        quoted = [each for each in untold.queries.filterings if each.form == "expression" and each.quote]
        self.assertEqual({each.escape for each in quoted}, {""}, "how a quote is escaped is not known either")

    def test_no_words_for_a_condition(self) -> None:
        resource = resource_of(query("price"))
        for condition in (Compare("price", "gt", 1), Compare("name", "eq", "x"), Not(Compare("price", "eq", 1))):
            with self.assertRaises(Inexpressible):
                self.written(resource, condition)


class OrdersAndFields(unittest.TestCase):
    def test_orders(self) -> None:
        both = [Order("name"), Order("price", True)]
        listed = {"type": "array", "items": TEXT}
        cases: list[tuple[list[dict[str, Any]], list[tuple[str, str]]]] = [
            ([query("sort", TEXT, "`-name` for descending, joined by commas")], [("sort", "name,-price")]),
            ([query("sort", TEXT, "name:asc or name:desc")], [("sort", "name:asc,price:desc")]),
            ([query("sort", TEXT, 'sort by (ex.: "city,-age")')], [("sort", "name,-price")]),
            ([query("$orderby")], [("$orderby", "name asc,price desc")]),
            ([query("order", TEXT, "`name.desc`")], [("order", "name.asc,price.desc")]),
            ([query("sort", TEXT, "name,ASC")], [("sort", "name,ASC"), ("sort", "price,DESC")]),
            ([query("sort", {**listed, "description": "name:desc"})], [("sort", "name:asc"), ("sort", "price:desc")]),
            (
                [query("sort_by"), query("order", {"type": "string", "enum": ["ASC", "DESC"]})],
                [("sort_by", "name,price"), ("order", "ASC,DESC")],
            ),
        ]
        for parameters, pairs in cases:
            with self.subTest(pairs=pairs):
                [sorting] = resource_of(*parameters).queries.sortings
                self.assertEqual(sorting.pairs(both), pairs)

    def test_a_comma_before_a_direction_joins_no_fields(self) -> None:
        for said, several in (
            ("`title,desc`", False),
            ("name, ASC", False),
            ("-title,name", True),
            ("by commas", True),
        ):
            [sorting, *_] = resource_of(query("sort", TEXT, said)).queries.sortings
            self.assertEqual(sorting.several, several, said)

    def test_orders_and_names_as_json(self) -> None:
        order = query("order", description="Sort as JSON: `column` and `ASC` or `DESC`", example='{"price":"DESC"}')
        fields = query("select", description='A list in JSON, such as ["name","price"]')
        pair = query("sort", description='For example `["price","ASC"]`')
        resource = resource_of(order, fields)
        [sorting] = resource.queries.sortings
        both = sorting.pairs([Order("price", True), Order("name")])
        self.assertEqual(both, [("order", '{"price": "DESC", "name": "ASC"}')])
        assert resource.queries.selecting is not None
        self.assertEqual(resource.queries.selecting.pairs(["name", "id"]), [("select", '["name", "id"]')])
        [sorting] = resource_of(pair).queries.sortings
        self.assertEqual(sorting.pairs([Order("name", True)]), [("sort", '["name", "DESC"]')])

    def test_directions_are_written_as_they_are_shown(self) -> None:
        sort = query("sortBy", {"type": "array", "items": {"type": "string", "enum": ["name:ASC", "name:DESC"]}})
        [sorting] = resource_of(sort).queries.sortings
        self.assertEqual(sorting.fields, ("name",))
        self.assertEqual(sorting.pairs([Order("name", True)]), [("sortBy", "name:DESC")])

    def test_choices_name_the_fields(self) -> None:
        sort = query("sort", {"type": "string", "enum": ["name", "-name", "price", "-price"]})
        [sorting] = resource_of(sort).queries.sortings
        self.assertEqual(sorting.fields, ("name", "price"))
        self.assertFalse(sorting.several)

    def test_choices_that_no_template_tells(self) -> None:
        sort = query("sort", {"type": "string", "enum": ["ID_DESC", "NAME_ASC", "NAME_DESC", "priceAsc", "priceDesc"]})
        [sorting] = resource_of(sort).queries.sortings
        self.assertEqual(sorting.fields, ("name", "price"), "of id there is one direction alone")
        self.assertEqual(sorting.pairs([Order("name", True)]), [("sort", "NAME_DESC")])
        self.assertEqual(sorting.pairs([Order("price", False)]), [("sort", "priceAsc")])
        self.assertEqual(sorting.pairs([Order("other", False)]), [("sort", "other")])

    def test_selections_and_counts(self) -> None:
        cases: list[tuple[dict[str, Any], list[tuple[str, str]]]] = [
            (query("fields"), [("fields", "id,name")]),
            (query("$select"), [("$select", "id,name")]),
            (query("fields[things]"), [("fields[things]", "id,name")]),
            (query("columns", {"type": "array", "items": TEXT}), [("columns", "id"), ("columns", "name")]),
            (
                query("columns", {"type": "array", "items": TEXT}, style="pipeDelimited", explode=False),
                [("columns", "id|name")],
            ),
        ]
        cases.append((query("projection", TEXT, 'ex.: {"city": 1}'), [("projection", '{"id": 1, "name": 1}')]))
        for no_selection in ("Show only rows with these fields set.", "Return only records whose columns match."):
            self.assertIsNone(resource_of(query("_mine", TEXT, no_selection)).queries.selecting)
        told = "Schema of rows. e.g. ?_schema=name,age will return only name and age fields."
        cases.append((query("_schema", TEXT, told), [("_schema", "id,name")]))
        for parameter, pairs in cases:
            selecting = resource_of(parameter).queries.selecting
            assert selecting is not None
            self.assertEqual(selecting.pairs(["id", "name"]), pairs)
        counting = resource_of(query("include_total", {"type": "boolean"})).queries.counting
        assert counting is not None
        self.assertEqual((counting.parameter, counting.value, counting.header), ("include_total", "true", False))

    def test_a_total_that_the_name_of_its_object_asks_for(self) -> None:
        counts = {each: {"type": "integer"} for each in ("total_count", "filter_count")}
        page = {"data": {"type": "array", "items": ROW}, "meta": {"type": "object", "properties": counts}}
        for parameter, value in (
            (query("meta"), "filter_count"),
            (query("meta", {"type": "array", "items": {"enum": ["filter_count"]}}), "filter_count"),
            (query("meta", {"enum": ["links"]}), None),
            (query("meta", {"type": "integer"}), None),
            (query("about"), None),
        ):
            resource = resource_of(parameter, answer={"type": "object", "properties": page})
            self.assertEqual(resource.envelope.total, "/meta/filter_count")
            counting = resource.queries.counting
            self.assertEqual(counting.value if counting else None, value, parameter)

    def test_an_object_of_conditions_that_is_spread_may_as_well_be_json(self) -> None:
        inside = {"type": "object", "properties": {"name": {}, "price": {"type": "number"}}}
        spread, as_json = resource_of(query("where", inside)).queries.filterings
        self.assertEqual((spread.form, as_json.form, as_json.parameter), ("parameters", "json", "where"))
        fields = {each.name: each for each in resource_of().fields}
        self.assertEqual(spread.pairs(Compare("price", "eq", 2), fields), [("price", "2")])
        self.assertEqual(as_json.pairs(Compare("price", "eq", 2), fields), [("where", '{"price": 2}')])
        [alone] = resource_of(query("shown", inside)).queries.filterings
        self.assertEqual(alone.form, "parameters", "its name is none for conditions")

    def test_words_about_commas_go_before_the_style(self) -> None:
        for said, separator in (("Several are separated by commas.", ","), ("Names of fields.", None)):
            several = {"type": "array", "items": {"type": "string", "enum": ["id", "-id", "name", "-name"]}}
            self.assertEqual(resource_of(query("sort_by", several, said)).queries.sortings[0].separator, separator)

    def test_aggregates(self) -> None:
        answer = {"responses": {"200": {"description": ""}}}
        measures = [Measure("count"), Measure("sum", "price")]
        choices = {"type": "array", "items": {"type": "string", "enum": ["count(*)", "sum(price)", "avg(price)"]}}
        group = query("group_by", {"type": "string", "enum": ["name", "sold"]})
        stats = {**answer, "parameters": [query("metrics", choices), group]}
        aggregating = resource_of(beside={"/things/stats": stats}).queries.aggregating
        assert aggregating is not None
        self.assertEqual(
            aggregating.pairs(measures, ["sold"]),
            [("metrics", "count(*)"), ("metrics", "sum(price)"), ("group_by", "sold")],
        )
        self.assertEqual(aggregating.fields["sum"], ("price",))
        counted = resource_of(beside={"/things/count": answer}).queries.aggregating
        assert counted is not None
        self.assertEqual((counted.path, dict(counted.functions)), ("/things/count", {"count": ""}))
        applied = resource_of(query("$apply")).queries.aggregating
        assert applied is not None
        self.assertEqual(
            applied.pairs(measures, ["sold"]),
            [("$apply", "groupby((sold),aggregate($count as count_all,price with sum as sum_price))")],
        )


class Paging(unittest.TestCase):
    def listed(self, *parameters: dict[str, Any], headers: Any = None, members: Any = None) -> Resource:
        rows: dict[str, Any] = {"type": "array", "items": ROW}
        schema = rows if members is None else {"type": "object", "properties": {"rows": rows, **members}}
        answer = {"description": "", "content": {"application/json": {"schema": schema}}, "headers": headers or {}}
        key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
        paths = {
            "/things": {"get": {"parameters": list(parameters), "responses": {"200": answer}}},
            "/things/{id}": {"parameters": [key], "get": {"responses": {"200": {"description": ""}}}},
        }
        document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
        return infer(contract_of(document)).resources[0]

    def test_styles(self) -> None:
        number = {"type": "integer"}
        limit = query("limit", {**number, "maximum": 70})
        text: dict[str, Any] = {"type": ["string", "null"]}
        asked_range = {"name": "Range", "in": "header", "schema": TEXT, "description": "`items=0-24`, at most 50"}
        cases: list[tuple[str, Resource]] = [
            ("offset", self.listed(limit, query("offset", number))),
            ("page", self.listed(limit, query("page", number))),
            ("cursor", self.listed(limit, query("page_token"), members={"nextPageToken": text})),
            (
                "cursor",
                self.listed(
                    limit, query("after"), members={"paging": {"type": "object", "properties": {"cursor": text}}}
                ),
            ),
            ("next", self.listed(limit, query("cursor"), members={"next": {**text, "format": "uri"}})),
            ("link", self.listed(limit, headers={"Link": {"schema": TEXT}})),
            ("range", self.listed(asked_range, headers={"Content-Range": {"schema": TEXT}})),
            ("none", self.listed()),
        ]
        for style, resource in cases:
            self.assertEqual(resource.paging.style, style)
        self.assertEqual(cases[0][1].paging.largest, 70)
        self.assertEqual((cases[2][1].paging.cursor, cases[2][1].paging.cursor_at), ("page_token", "/nextPageToken"))
        self.assertEqual(cases[3][1].paging.cursor_at, "/paging/cursor")
        ranged = cases[6][1]
        self.assertEqual((ranged.paging.unit, ranged.paging.largest), ("items", 50))
        self.assertEqual(ranged.envelope.total_header, "Content-Range")

    def test_totals_and_links_in_headers(self) -> None:
        headers = {"X-Total-Count": {"schema": {"type": "integer"}}, "link": {"schema": TEXT}}
        resource = self.listed(
            query("page", {"type": "integer"}), query("per_page", {"type": "integer"}), headers=headers
        )
        self.assertEqual(resource.envelope.total_header, "X-Total-Count")
        self.assertTrue(resource.envelope.links)
        self.assertEqual(self.listed().envelope.total_header, "")


class StandIn(unittest.TestCase):
    def test_every_spelling_is_understood_from_its_contract_alone(self) -> None:
        styles = {"suffix": "page", "prefix": "range", "json": "cursor", "odata": "offset", "nested": "page"}
        for name, spelling in SPELLINGS.items():
            with self.subTest(spelling=name):
                model = infer(contract_of(describe(TABLES, "http://127.0.0.1/v1", spelling)))
                self.assertEqual(len(model.resources), 8)
                for resource in model.resources:
                    queries = resource.queries
                    self.assertEqual(len(queries.filterings), 1)
                    self.assertEqual(len(queries.sortings), 1)
                    self.assertIsNotNone(queries.selecting)
                    self.assertEqual(queries.aggregating is not None, name not in {"prefix", "nested"})
                    self.assertEqual(resource.paging.style, styles.get(name, resource.paging.style))
                self.assertEqual([str(each) for each, _ in model.others], ["POST /login", "POST /logout"])
                self.assertEqual(model.doubts, ())


class Profiles(unittest.TestCase):
    def read(self, text: str) -> Any:
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "checkpost.yaml"
            file.write_text(text, "utf-8")
            return read_profile(file)

    def test_a_spelling_that_nobody_has_thought_of(self) -> None:
        profile = self.read(
            "queries:\n"
            "  filter: {operators: {eq: 'with-{field}={value}', ge: 'with-{field}=from~{value}'}, fields: [price]}\n"
            "  sort: {parameter: by, ascending: 'up/{field}', descending: 'down/{field}', separator: ';'}\n"
            "  select: {parameter: show, separator: ' '}\n"
            "  aggregate: {path: '{collection}/sums', functions: {sum: 'of={field}'}}\n"
        )
        resource = resource_of(query("whatever"), queries=profile.queries)
        queries = resource.queries
        fields = {each.name: each for each in resource.fields}
        self.assertEqual(queries.filterings[0].pairs(Compare("price", "ge", 2), fields), [("with-price", "from~2")])
        with self.assertRaises(Inexpressible):
            queries.filterings[0].pairs(Compare("name", "eq", "x"), fields)
        self.assertEqual(queries.sortings[0].pairs([Order("a"), Order("b", True)]), [("by", "up/a;down/b")])
        assert queries.selecting is not None and queries.aggregating is not None
        self.assertEqual(queries.selecting.pairs(["a", "b"]), [("show", "a b")])
        self.assertEqual(queries.aggregating.path, "/things/sums")
        self.assertEqual(queries.aggregating.pairs([Measure("sum", "price")]), [("of", "price")])

    def test_an_ability_can_be_left_untested(self) -> None:
        resource = resource_of(query("filter"), query("sort"), queries={"filter": None, "sort": None})
        self.assertEqual((resource.queries.filterings, resource.queries.sortings), ((), ()))

    def test_errors_name_the_line_and_the_nearest_name(self) -> None:
        cases = {
            "queries:\n  filters: {}\n": ("line 2", "did you mean 'filter'?"),
            "queries:\n  filter:\n    operators:\n      gte: '{field}={value}'\n": ("line 4", "did you mean"),
            "queries:\n  filter:\n    operators:\n      ge: '{field} > {value}'\n": ("line 4", "NAME=VALUE"),
            "queries:\n  filter: {form: sql}\n": ("line 2", "parameters, expression or json"),
            "queries:\n  filter: {form: json}\n": ("line 2", "the name of its parameter"),
            "resources:\n  a:\n    queries: {sort: {by: x}}\n": ("line 3", "there is no key 'by' here"),
        }
        for text, words in cases.items():
            with self.subTest(text=text), self.assertRaises(CheckPostError) as caught:
                self.read(text)
            for word in words:
                self.assertIn(word, str(caught.exception))


class OnTheWire(unittest.TestCase):
    def test_signs_that_need_care_survive_a_url(self) -> None:
        from checkpost.wire.client import Client

        resource = resource_of(query("name"))
        texts = ["a+b", "a&b=c", "50%", "#1?", "x, y", 'O\'Hara "q"', "é ü 日本 🌱", "a;b", "back\\slash", " "]
        for text in texts:
            url = Client(None, "http://x", resource, "p").url(resource.operations["list"], None, [("name", text)])  # type: ignore[arg-type]
            self.assertTrue(url.isascii(), url)
            self.assertEqual(parse_qsl(urlsplit(url).query, keep_blank_values=True), [("name", text)])
            self.assertNotIn("+", url, "a space is never written as a plus")


if __name__ == "__main__":
    unittest.main()
