"""``field[operator]=value``, ``sort=-field``, ``limit`` and ``offset``, ``fields``; rows under ``items``."""

from __future__ import annotations

import re
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import (
    LARGEST_PAGE,
    USUAL_PAGE,
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
from checkpost.demo.tables import Column, Table

WORDS: dict[str, Operator] = {
    "eq": "eq", "ne": "ne", "lt": "lt", "lte": "le", "gt": "gt", "gte": "ge", "in": "in", "null": "null",
    "contains": "contains", "starts": "starts",
}  # fmt: skip
_FUNCTIONS = ("count", "distinct", "sum", "avg", "min", "max")


def plain_schema(column: Column) -> Json:
    """A value of the column in a query: its type alone."""
    schema = column.schema()
    kind = schema["type"]
    return {
        "type": kind[0] if isinstance(kind, list) else kind,
        **{key: schema[key] for key in ("format",) if key in schema and column.type != "text"},
    }


def members(column: Column) -> Json:
    """The operators of a column with the schemas of their values."""
    known = operators(column)
    found: Json = {}
    for word, operator in WORDS.items():
        if operator in known:
            found[word] = {
                "in": {"type": "string", "description": "Values joined by commas."},
                "null": {"type": "boolean"},
            }.get(operator, plain_schema(column))
    return found


def limit_and_offset() -> list[Json]:
    return [
        parameter(
            "limit",
            {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": USUAL_PAGE},
            "How many rows at the most.",
        ),
        parameter("offset", {"type": "integer", "minimum": 0, "default": 0}, "How many rows to leave out first."),
    ]


def listed(names: Any, description: str, name: str) -> Json:
    """A parameter with several of some names, joined by commas."""
    schema = {"type": "array", "items": {"type": "string", "enum": list(names)}}
    return parameter(name, schema, description, style="form", explode=False)


class Brackets(Spelling):
    name = "brackets"
    says = "field[gte]=5, sort=-field, limit and offset, fields=a,b; aggregates by function"
    aggregates = "/aggregate"

    def _filters(self, table: Table) -> list[Json]:
        return [
            parameter(
                column.name,
                {"type": "object", "additionalProperties": False, "properties": members(column)},
                f"Conditions on {column.name}, by operator.",
                style="deepObject",
                explode=True,
            )
            for column in table.visible
        ]

    def parameters(self, table: Table) -> list[Json]:
        names = [column.name for column in table.visible]
        both = [sign + name for name in sortable(table) for sign in ("", "-")]
        return [
            *limit_and_offset(),
            *self._filters(table),
            listed(both, "Fields to sort by; a minus before one sorts by it descending.", "sort"),
            listed(names, "The fields to show; the key always comes along.", "fields"),
        ]

    def aggregate_parameters(self, table: Table) -> list[Json]:
        names = [column.name for column in table.visible]
        numbers = [column.name for column in numeric(table)]
        choices = {word: {"count": ["*"], "distinct": names}.get(word, numbers) for word in _FUNCTIONS}
        groups = groupable(table)
        return [
            *self._filters(table),
            *(listed(each, f"Fields to take the {word} of.", word) for word, each in choices.items() if each),
            *([listed(groups, "Fields to group by.", "group")] if groups else []),
        ]

    def schema(self, table: Table, row: Json) -> Json:
        return {
            "type": "object",
            "additionalProperties": False,
            "required": ["items", "total", "next"],
            "properties": {
                "items": {"type": "array", "maxItems": LARGEST_PAGE, "items": row},
                "total": {"type": "integer", "minimum": 0, "description": "How many rows there are in all."},
                "next": {
                    "type": ["string", "null"],
                    "format": "uri-reference",
                    "description": "Where the next page is; null on the last one.",
                },
            },
        }

    def aggregate_schema(self, table: Table) -> Json:
        return {
            "type": "object",
            "additionalProperties": False,
            "required": ["results"],
            "properties": {"results": {"type": "array", "items": {"type": "object"}}},
        }

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for name in filter(None, query.get("sort", "").split(",")):
            columns_of(table, [name.lstrip("-")], sortable(table))
            order.append((name.lstrip("-"), name.startswith("-")))
        return Wanted(
            self._where(request, table),
            tuple(order),
            columns_of(table, [name for name in query.get("fields", "").split(",") if name]),
            whole_number(query.get("limit"), "limit", 1, LARGEST_PAGE, USUAL_PAGE),
            whole_number(query.get("offset"), "offset", 0, 2**62, 0),
            sized="limit" in query,
        )

    def _where(self, request: Request, table: Table) -> Group | None:
        tests: list[Test] = []
        for name, text in request.query_params.multi_items():
            found = re.fullmatch(r"([^\[\]]+)\[([^\[\]]*)\]", name)
            if found is None:
                continue
            column = column_of(table, found[1])
            operator = WORDS.get(found[2])
            if operator is None or operator not in operators(column):
                raise Refusal(400, "Not readable", f"{found[1]} has no operator {found[2]}.")
            tests.append(test_of(column, operator, text.split(",") if operator == "in" else text))
        return Group("and", tuple(tests)) if tests else None

    def aggregates_wanted(self, request: Request, table: Table) -> Wanted:
        measures = []
        for word in _FUNCTIONS:
            for name in filter(None, request.query_params.get(word, "").split(",")):
                column = None if word == "count" and name == "*" else column_of(table, name)
                if word in {"sum", "avg", "min", "max"}:
                    columns_of(table, [name], [each.name for each in numeric(table)])
                measures.append(Measure(word, column, f"{word}_{name}" if column else "count"))  # type: ignore[arg-type]
        names = [name for name in request.query_params.get("group", "").split(",") if name]
        groups = columns_of(table, names, groupable(table))
        return Wanted(self._where(request, table), measures=tuple(measures), groups=groups)

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        after = None if following is None else following_url(request, table, limit=wanted.limit, offset=following)
        return json_answer({"items": rows, "total": total, "next": after})

    def aggregated(self, rows: list[Row], wanted: Wanted) -> Any:
        return {"results": rows}
