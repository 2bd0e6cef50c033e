"""``filter={"field": {"$gte": 5}}``, ``sort_by`` and ``direction``, a cursor; rows under ``data``, the rest under
``meta``."""

from __future__ import annotations

import base64
import json
import zlib
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
    Wanted,
    Where,
    compared,
    groupable,
    numeric,
    sortable,
)
from checkpost.demo.spellings.base import Json, Row, Spelling, column_of, columns_of, parameter, test_of, whole_number
from checkpost.demo.tables import Table

_WORDS: dict[str, Operator] = {
    "$eq": "eq", "$ne": "ne", "$lt": "lt", "$lte": "le", "$gt": "gt", "$gte": "ge", "$in": "in",
    "$contains": "contains", "$startsWith": "starts", "$null": "null",
}  # fmt: skip


def cursor(offset: int) -> str:
    """A token for a position, with a sum against tampering."""
    raw = f"{offset}:{zlib.crc32(str(offset).encode())}".encode()
    return base64.urlsafe_b64encode(raw).decode().rstrip("=")


def offset_of(token: str) -> int:
    """The position of a token. Raises Refusal."""
    try:
        text = base64.urlsafe_b64decode(token + "=" * (-len(token) % 4)).decode("ascii")
        offset, _, checksum = text.partition(":")
        if zlib.crc32(offset.encode()) == int(checksum):
            return int(offset)
    except ValueError:
        pass
    raise Refusal(400, "Not readable", "The cursor is none of this list's.")


class JsonFilter(Spelling):
    name = "json"
    says = 'filter={"field": {"$gte": 5}}, sort_by and direction, a cursor'
    expansion = "populate"
    bulk = "lines"
    aggregates = "/aggregate"

    def _filter(self, table: Table) -> Json:
        some = table.visible[0]
        value = "10" if some.type == "integer" else '"x"'
        return {
            "name": "filter",
            "in": "query",
            "description": f'A JSON object: `{{"{some.name}": {value}}}` or `{{"{some.name}": {{"$in": [{value}]}}}}`. '
            + "Operators: "
            + ", ".join(f"`{word}`" for word in _WORDS)
            + ". `$and` and `$or` hold lists of such objects, `$not` holds one.",
            "content": {"application/json": {"schema": {"type": "object"}}},
        }

    def parameters(self, table: Table) -> list[Json]:
        names = [column.name for column in table.visible]
        return [
            self._filter(table),
            parameter("sort_by", {"type": "string", "enum": list(sortable(table))}, "The field to sort by."),
            parameter("direction", {"type": "string", "enum": ["asc", "desc"], "default": "asc"}, "The direction."),
            parameter("cursor", {"type": "string"}, "Where to go on, as an answer gave it."),
            parameter(
                "limit",
                {"type": "integer", "minimum": 1, "maximum": LARGEST_PAGE, "default": USUAL_PAGE},
                "Rows at the most.",
            ),
            parameter(
                "fields",
                {"type": "array", "items": {"type": "string", "enum": names}},
                "The fields to show.",
                style="pipeDelimited",
                explode=False,
            ),
        ]

    def aggregate_parameters(self, table: Table) -> list[Json]:
        measures = ["count:*"]
        measures += [f"{word}:{each.name}" for word in ("sum", "avg", "min", "max") for each in numeric(table)]
        measures += [f"distinct:{each.name}" for each in table.visible]
        some = {"type": "array", "items": {"type": "string", "enum": measures}}
        groups = list(groupable(table))
        return [
            self._filter(table),
            parameter("aggregate", some, "What to compute.", explode=False),
            *([parameter("group_by", {"type": "string", "enum": groups}, "The field to group by.")] if groups else []),
        ]  # fmt: skip

    def schema(self, table: Table, row: Json) -> Json:
        meta = {
            "type": "object",
            "required": ["total", "next_cursor"],
            "properties": {"total": {"type": "integer"}, "next_cursor": {"type": ["string", "null"]}},
        }
        rows = {"type": "array", "maxItems": LARGEST_PAGE, "items": row}
        return {"type": "object", "required": ["data", "meta"], "properties": {"data": rows, "meta": meta}}

    def aggregate_schema(self, table: Table) -> Json:
        return {
            "type": "object",
            "required": ["data"],
            "properties": {"data": {"type": "array", "items": {"type": "object"}}},
        }

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order: tuple[tuple[str, bool], ...] = ()
        if query.get("direction", "asc") not in {"asc", "desc"}:
            raise Refusal(400, "Not readable", "A direction is asc or desc.")
        if query.get("sort_by"):
            columns_of(table, [query["sort_by"]], sortable(table))
            order = ((query["sort_by"], query.get("direction") == "desc"),)
        return Wanted(
            self._where(request, table),
            order,
            columns_of(table, [name for name in query.get("fields", "").split("|") if name]),
            whole_number(query.get("limit"), "limit", 1, LARGEST_PAGE, USUAL_PAGE),
            offset_of(query["cursor"]) if query.get("cursor") else 0,
            sized="limit" in query,
        )

    def _where(self, request: Request, table: Table) -> Where | None:
        text = request.query_params.get("filter")
        if not text:
            return None
        try:
            value = json.loads(text)
        except (ValueError, RecursionError):
            raise Refusal(400, "Not readable", "filter is no JSON.") from None
        return self._condition(value, table)

    def _condition(self, value: Any, table: Table) -> Where:
        if not isinstance(value, dict):
            raise Refusal(400, "Not readable", "A condition is a JSON object.")
        parts: list[Where] = []
        for name, inner in value.items():
            if name in {"$and", "$or"}:
                if not isinstance(inner, list) or not inner:
                    raise Refusal(400, "Not readable", f"{name} holds a list.")
                parts.append(Group(name[1:], tuple(self._condition(each, table) for each in inner)))
            elif name == "$not":
                parts.append(Group("not", (self._condition(inner, table),)))
            else:
                parts += self._of_field(name, inner, table)
        return parts[0] if len(parts) == 1 else Group("and", tuple(parts))

    def _of_field(self, name: str, inner: Any, table: Table) -> list[Where]:
        column = column_of(table, name)
        if inner is None:
            return [test_of(column, "null", True)]
        if not isinstance(inner, dict):
            return [test_of(column, "eq", inner)]
        found: list[Where] = []
        for word, value in inner.items():
            operator = _WORDS.get(word)
            if (
                operator is None
                or operator not in compared(column)
                or (operator == "in" and not isinstance(value, list))
            ):
                raise Refusal(400, "Not readable", f"{name} has no operator {word}.")
            found.append(test_of(column, operator, value))
        return found

    def aggregates_wanted(self, request: Request, table: Table) -> Wanted:
        measures = []
        for text in filter(None, request.query_params.get("aggregate", "").split(",")):
            function, _, name = text.partition(":")
            if function not in {"count", "distinct", "sum", "avg", "min", "max"}:
                raise Refusal(400, "Not readable", f"{text} is no aggregate.")
            column = None if name == "*" else column_of(table, name)
            measures.append(Measure(function, column, text))  # type: ignore[arg-type]
        group = request.query_params.get("group_by")
        groups = columns_of(table, [group] if group else [], groupable(table))
        return Wanted(self._where(request, table), measures=tuple(measures), groups=groups)

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        token = None if following is None else cursor(following)
        return json_answer({"data": rows, "meta": {"total": total, "next_cursor": token}})

    def aggregated(self, rows: list[Row], wanted: Wanted) -> Any:
        shown = []
        for row in rows:
            body: Json = {name: row[name] for name in wanted.groups}
            for measure in wanted.measures:
                if measure.column is None:
                    body["count"] = row[measure.name]
                else:
                    body.setdefault(measure.function, {})[measure.column.name] = row[measure.name]
            shown.append(body)
        return {"data": shown}
