"""``filter[field][operator]=value``, ``page[number]`` and ``page[size]``, ``sort=-field``, ``fields[type]=…``: the
query parameters of JSON:API, over plain rows."""

from __future__ import annotations

import re

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import LARGEST_PAGE, Group, Test, Wanted, operators, sortable
from checkpost.demo.spellings.base import (
    Json,
    Row,
    Spelling,
    column_of,
    columns_of,
    following_url,
    parameter,
    test_of,
    whole_number,
)
from checkpost.demo.spellings.brackets import WORDS, members
from checkpost.demo.tables import Table

_USUAL = 20


class Nested(Spelling):
    name = "nested"
    says = "the parameters of JSON:API: filter[field][gte]=5, sort=-field, page[number], fields[type]"
    expansion = "include"
    bulk = "wrapped"

    def parameters(self, table: Table) -> list[Json]:
        by_field = {
            column.name: {"type": "object", "additionalProperties": False, "properties": members(column)}
            for column in table.visible
        }
        return [
            parameter(
                "filter",
                {"type": "object", "additionalProperties": False, "properties": by_field},
                "Conditions by field and operator.",
                style="deepObject",
                explode=True,
            ),
            parameter("page[number]", {"type": "integer", "minimum": 1, "default": 1}, "The number of the page."),
            parameter(
                "page[size]",
                {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": _USUAL},
                "Rows of a page.",
            ),
            parameter("sort", {"type": "string"}, f"Fields joined by commas, such as `-{sortable(table)[0]}`."),
            parameter(f"fields[{table.name}]", {"type": "string"}, "The fields to show, joined by commas."),
        ]

    def schema(self, table: Table, row: Json) -> Json:
        number = {"type": "integer", "minimum": 0}
        link = {"type": ["string", "null"], "format": "uri-reference"}
        return {
            "type": "object",
            "required": ["data", "meta", "links"],
            "properties": {
                "data": {"type": "array", "maxItems": LARGEST_PAGE, "items": row},
                "meta": {"type": "object", "required": ["total"], "properties": {"total": number}},
                "links": {"type": "object", "required": ["next"], "properties": {"next": link}},
            },
        }

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for name in filter(None, query.get("sort", "").split(",")):
            columns_of(table, [name.lstrip("-")], sortable(table))
            order.append((name.lstrip("-"), name.startswith("-")))
        size = whole_number(query.get("page[size]"), "page[size]", 1, LARGEST_PAGE, _USUAL)
        page = whole_number(query.get("page[number]"), "page[number]", 1, 2**40, 1)
        select = columns_of(table, [name for name in query.get(f"fields[{table.name}]", "").split(",") if name])
        return Wanted(
            self._where(request, table), tuple(order), select, size, (page - 1) * size, sized="page[size]" in query
        )

    def _where(self, request: Request, table: Table) -> Group | None:
        tests: list[Test] = []
        for name, text in request.query_params.multi_items():
            if not name.startswith("filter"):
                continue
            found = re.fullmatch(r"filter\[([^\[\]]+)\]\[([^\[\]]+)\]", name)
            if found is None:
                raise Refusal(400, "Not readable", f"{name} names no field and operator.")
            column, operator = column_of(table, found[1]), WORDS.get(found[2])
            if operator is None or operator not in operators(column):
                raise Refusal(400, "Not readable", f"{found[1]} has no operator {found[2]}.")
            tests.append(test_of(column, operator, text.split(",") if operator == "in" else text))
        return Group("and", tuple(tests)) if tests else None

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        after = None
        if following is not None:
            after = following_url(
                request, table, **{"page[number]": following // wanted.limit + 1, "page[size]": wanted.limit}
            )
        return json_answer({"data": rows, "meta": {"total": total}, "links": {"next": after}})
