"""``field__operator=value``, ``sort=field:desc`` repeated, pages by number; a bare array, with ``Link`` and
``X-Total-Count`` headers."""

from __future__ import annotations

import re
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import (
    LARGEST_PAGE,
    Group,
    Measure,
    Operator,
    Test,
    Wanted,
    groupable,
    numeric,
    operators,
    sortable,
)
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
from checkpost.demo.spellings.brackets import plain_schema
from checkpost.demo.tables import Table

_WORDS: dict[str, Operator] = {
    "ne": "ne", "lt": "lt", "lte": "le", "gt": "gt", "gte": "ge", "in": "in", "isnull": "null",
    "contains": "contains", "startswith": "starts",
}  # fmt: skip
_USUAL = 30


class Suffix(Spelling):
    name = "suffix"
    says = "field__gte=5, sort=field:desc, pages by number, Link and X-Total-Count headers"
    expansion = "include"
    bulk = "same path"
    aggregates = "/stats"

    def _filters(self, table: Table) -> list[Json]:
        found = []
        for column in table.visible:
            found.append(parameter(column.name, plain_schema(column), f"Rows where {column.name} is this."))
            for word, operator in _WORDS.items():
                if operator in operators(column):
                    schemas: Json = {
                        "in": {"type": "array", "items": plain_schema(column)},
                        "null": {"type": "boolean"},
                    }
                    schema = schemas.get(operator, plain_schema(column))
                    more = {"explode": False} if operator == "in" else {}
                    found.append(parameter(f"{column.name}__{word}", schema, f"{column.name}, {word}.", **more))
        return found

    def conditions(self, table: Table) -> list[Json]:
        return self._filters(table)

    def parameters(self, table: Table) -> list[Json]:
        both = [f"{name}:{way}" for name in sortable(table) for way in ("asc", "desc")]
        names = [column.name for column in table.visible]
        return [
            parameter("page", {"type": "integer", "minimum": 1, "default": 1}, "The number of the page."),
            parameter(
                "per_page",
                {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": _USUAL},
                "How many rows a page has.",
            ),
            *self._filters(table),
            parameter(
                "sort",
                {"type": "array", "items": {"type": "string", "enum": both}},
                "Fields to sort by, the first first.",
            ),
            parameter("only", {"type": "array", "items": {"type": "string", "enum": names}}, "The fields to show."),
        ]

    def aggregate_parameters(self, table: Table) -> list[Json]:
        measures = ["count(*)"]
        measures += [f"{word}({each.name})" for word in ("sum", "avg", "min", "max") for each in numeric(table)]
        measures += [f"distinct({each.name})" for each in table.visible]
        groups = list(groupable(table))
        by = parameter("by", {"type": "array", "items": {"type": "string", "enum": groups}}, "Fields to group by.")
        return [
            *self._filters(table),
            parameter("metrics", {"type": "array", "items": {"type": "string", "enum": measures}}, "What to compute."),
            *([by] if groups else []),
        ]

    def headers(self) -> Json:
        return {
            "X-Total-Count": {"required": True, "schema": {"type": "integer", "minimum": 0}},
            "Link": {
                "schema": {"type": "string"},
                "description": "Where the next and the previous page are (RFC 8288).",
            },
        }

    def schema(self, table: Table, row: Json) -> Json:
        return {"type": "array", "maxItems": LARGEST_PAGE, "items": row}

    def aggregate_schema(self, table: Table) -> Json:
        return {"type": "array", "items": {"type": "object"}}

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for text in query.getlist("sort"):
            name, _, way = text.partition(":")
            columns_of(table, [name], sortable(table))
            if way not in {"asc", "desc"}:
                raise Refusal(400, "Not readable", "A sort is a field, a colon, and asc or desc.")
            order.append((name, way == "desc"))
        size = whole_number(query.get("per_page"), "per_page", 1, LARGEST_PAGE, _USUAL)
        page = whole_number(query.get("page"), "page", 1, 2**40, 1)
        select = columns_of(table, query.getlist("only"))
        return Wanted(
            self._where(request, table), tuple(order), select, size, (page - 1) * size, sized="per_page" in query
        )

    def _where(self, request: Request, table: Table) -> Group | None:
        tests: list[Test] = []
        names = {column.name for column in table.visible}
        for name, text in request.query_params.multi_items():
            field, _, word = name.rpartition("__")
            if name in names:
                tests.append(test_of(column_of(table, name), "eq", text))
            elif field in names:
                column, operator = column_of(table, field), _WORDS.get(word)
                if operator is None or operator not in operators(column):
                    raise Refusal(400, "Not readable", f"{field} has no operator {word}.")
                tests.append(test_of(column, operator, text.split(",") if operator == "in" else text))
        return Group("and", tuple(tests)) if tests else None

    def aggregates_wanted(self, request: Request, table: Table) -> Wanted:
        measures = []
        for text in request.query_params.getlist("metrics"):
            found = re.fullmatch(r"(count|sum|avg|min|max|distinct)\((\*|\w+)\)", text)
            if found is None:
                raise Refusal(400, "Not readable", f"{text} is no metric.")
            column = None if found[2] == "*" else column_of(table, found[2])
            measures.append(Measure(found[1], column, text))  # type: ignore[arg-type]
        groups = columns_of(table, request.query_params.getlist("by"), groupable(table))
        return Wanted(self._where(request, table), measures=tuple(measures), groups=groups)

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        headers = {"X-Total-Count": str(total)}
        if following is not None:
            url = following_url(request, table, page=following // wanted.limit + 1, per_page=wanted.limit)
            headers["Link"] = f'<{url}>; rel="next"'
        return json_answer(rows, 200, headers)

    def aggregated(self, rows: list[Row], wanted: Wanted) -> Any:
        return rows
