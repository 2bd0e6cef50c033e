"""OData system query options: ``$filter``, ``$orderby``, ``$top``, ``$skip``, ``$select``, ``$count``, ``$apply``."""

from __future__ import annotations

import re

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import LARGEST_PAGE, USUAL_PAGE, Measure, Wanted, numeric, sortable
from checkpost.demo.spellings.base import (
    Json,
    Row,
    Spelling,
    column_of,
    columns_of,
    following_url,
    parameter,
    whole_number,
)
from checkpost.demo.spellings.grammar import Grammar, read
from checkpost.demo.tables import Table

_GRAMMAR = Grammar(
    {"eq": "eq", "ne": "ne", "lt": "lt", "le": "le", "gt": "gt", "ge": "ge"},
    {"contains": "contains", "startswith": "starts"},
    False,
)
_FUNCTIONS = {"sum": "sum", "average": "avg", "min": "min", "max": "max", "countdistinct": "distinct"}


class OData(Spelling):
    name = "odata"
    says = "OData: $filter, $orderby, $top, $skip, $select, $count, $apply"
    expansion = "$expand"

    def parameters(self, table: Table) -> list[Json]:
        said = "Comparisons with eq, ne, lt, le, gt, ge and `in`; contains, startswith; and, or, not, brackets."
        return [
            parameter("$filter", {"type": "string"}, said),
            parameter("$orderby", {"type": "string"}, "Fields with asc or desc, joined by commas."),
            parameter("$select", {"type": "string"}, "The fields to show, joined by commas."),
            parameter(
                "$top",
                {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": USUAL_PAGE},
                "Rows at the most.",
            ),
            parameter("$skip", {"type": "integer", "minimum": 0, "default": 0}, "Rows to leave out first."),
            parameter("$count", {"type": "boolean", "default": False}, "Whether to tell the number of all rows."),
            parameter(
                "$apply",
                {"type": "string"},
                "`aggregate(…)` or `groupby((field),aggregate(…))` with `$count as name` and "
                "`field with sum as name`, also average, min, max, countdistinct.",
            ),
        ]

    def schema(self, table: Table, row: Json) -> Json:
        return {
            "type": "object",
            "required": ["value"],
            "properties": {
                "value": {"type": "array", "maxItems": LARGEST_PAGE, "items": row},
                "@odata.count": {"type": "integer"},
                "@odata.nextLink": {"type": "string", "format": "uri-reference"},
            },
        }

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for text in filter(None, query.get("$orderby", "").split(",")):
            name, _, way = text.strip().partition(" ")
            columns_of(table, [name], sortable(table))
            if way not in {"", "asc", "desc"}:
                raise Refusal(400, "Not readable", "A direction is asc or desc.")
            order.append((name, way == "desc"))
        if query.get("$count", "false") not in {"true", "false"}:
            raise Refusal(400, "Not readable", "$count is true or false.")
        measures, groups = self._applied(query["$apply"], table) if "$apply" in query else ((), ())
        return Wanted(
            read(_GRAMMAR, table, query["$filter"]) if query.get("$filter") else None,
            tuple(order),
            columns_of(table, [name for name in query.get("$select", "").split(",") if name]),
            whole_number(query.get("$top"), "$top", 1, LARGEST_PAGE, USUAL_PAGE),
            whole_number(query.get("$skip"), "$skip", 0, 2**62, 0),
            measures,
            groups,
            "$top" in query,
        )

    def _applied(self, text: str, table: Table) -> tuple[tuple[Measure, ...], tuple[str, ...]]:
        found = re.fullmatch(r"groupby\(\(([\w,]+)\),aggregate\((.*)\)\)|aggregate\((.*)\)", text)
        if found is None:
            raise Refusal(400, "Not readable", "$apply cannot be read.")
        groups = columns_of(table, found[1].split(",")) if found[1] else ()
        measures = []
        for item in (found[2] or found[3] or "").split(","):
            counted = re.fullmatch(r"\$count as (\w+)", item.strip())
            with_function = re.fullmatch(r"(\w+) with (\w+) as (\w+)", item.strip())
            if counted:
                measures.append(Measure("count", None, counted[1]))
            elif with_function and with_function[2] in _FUNCTIONS:
                column = column_of(table, with_function[1])
                function = _FUNCTIONS[with_function[2]]
                if function in {"sum", "avg"}:
                    columns_of(table, [column.name], [each.name for each in numeric(table)])
                measures.append(Measure(function, column, with_function[3]))  # type: ignore[arg-type]
            else:
                raise Refusal(400, "Not readable", "$apply cannot be read.")
        return tuple(measures), groups

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        body: Json = {"value": rows}
        if request.query_params.get("$count") == "true":
            body["@odata.count"] = total
        if following is not None:
            after = {"$skip": following, "$top": wanted.limit}
            body["@odata.nextLink"] = following_url(request, table, **after)
        return json_answer(body)
