"""``where=a >= 5 AND b = 'x'``, ``sort=field desc``, pages by number; rows under ``results`` with a link to the
next page."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import LARGEST_PAGE, Measure, Wanted, sortable
from checkpost.demo.spellings.base import Json, Row, Spelling, columns_of, following_url, parameter, whole_number
from checkpost.demo.spellings.grammar import Grammar, read
from checkpost.demo.tables import Table

_GRAMMAR = Grammar({"=": "eq", "!=": "ne", "<>": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}, {}, True)
_USUAL = 25


def _example(table: Table) -> str:
    first, second = table.visible[0], table.visible[1]
    written = [f"{each.name} = " + ("10" if each.type in {"integer", "decimal"} else "'x'") for each in (first, second)]
    return f"{written[0]} AND {written[1]}"


class Infix(Spelling):
    name = "infix"
    says = "where=a >= 5 AND b = 'x', sort=field desc, pages from 0, a link to the next"
    expansion = "with"
    bulk = "same path"
    links = True
    aggregates = "/count"

    def _where(self, table: Table) -> Json:
        said = (
            f"A condition: `{_example(table)}`. Signs are `=`, `!=`, `<`, `<=`, `>`, `>=`; words are IN (a, b), "
            "BETWEEN a AND b, LIKE with `%` for anything, IS NULL, IS NOT NULL; conditions are joined by `AND`, `OR`, "
            "`NOT (…)` and brackets. Texts and dates stand in single quotes; a quote in a text is doubled."
        )
        return parameter("where", {"type": "string"}, said)

    def conditions(self, table: Table) -> list[Json]:
        return [self._where(table)]

    def parameters(self, table: Table) -> list[Json]:
        return [
            self._where(table),
            parameter("page", {"type": "integer", "minimum": 0, "default": 0}, "The number of the page, from 0."),
            parameter(
                "size", {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": _USUAL}, "Rows of a page."
            ),
            parameter(
                "sort", {"type": "string"}, f"Fields to sort by, joined by commas, such as `{sortable(table)[0]} desc`."
            ),
            parameter("columns", {"type": "string"}, "The fields to show, joined by commas."),
        ]

    def aggregate_parameters(self, table: Table) -> list[Json]:
        return [self._where(table)]

    def schema(self, table: Table, row: Json) -> Json:
        return {
            "type": "object",
            "required": ["results", "count", "links"],
            "properties": {
                "results": {"type": "array", "maxItems": LARGEST_PAGE, "items": row},
                "count": {"type": "integer", "description": "How many rows there are in all."},
                "links": {
                    "type": "object",
                    "properties": {
                        "next": {"type": "string", "format": "uri", "description": "Absent on the last page."}
                    },
                },
            },
        }

    def aggregate_schema(self, table: Table) -> Json:
        return {"type": "object", "required": ["count"], "properties": {"count": {"type": "integer"}}}

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for text in filter(None, query.get("sort", "").split(",")):
            name, _, way = text.strip().partition(" ")
            columns_of(table, [name], sortable(table))
            if way not in {"", "asc", "desc"}:
                raise Refusal(400, "Not readable", "A direction is asc or desc.")
            order.append((name, way == "desc"))
        size = whole_number(query.get("size"), "size", 1, LARGEST_PAGE, _USUAL)
        page = whole_number(query.get("page"), "page", 0, 2**40, 0)
        select = columns_of(table, [name for name in query.get("columns", "").split(",") if name])
        where = read(_GRAMMAR, table, query["where"]) if query.get("where") else None
        return Wanted(where, tuple(order), select, size, page * size, sized="size" in query)

    def aggregates_wanted(self, request: Request, table: Table) -> Wanted:
        where = read(_GRAMMAR, table, request.query_params["where"]) if request.query_params.get("where") else None
        return Wanted(where, measures=(Measure("count", None, "count"),))

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        links = {}
        if following is not None:
            path = following_url(request, table, page=following // wanted.limit, size=wanted.limit)
            links["next"] = f"{request.url.scheme}://{request.url.netloc}{path}"
        return json_answer({"results": rows, "count": total, "links": links})

    def aggregated(self, rows: list[Row], wanted: Wanted) -> Any:
        return rows[0]
