"""``field=operator.value``, ``order=field.desc``, ``select``; a bare array, paged by the Range header."""

from __future__ import annotations

import re

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.question import LARGEST_PAGE, Group, Operator, Test, Wanted, Where, operators, sortable
from checkpost.demo.spellings.base import Json, Row, Spelling, column_of, columns_of, parameter, test_of
from checkpost.demo.tables import Column, Table

_WORDS: dict[str, Operator] = {
    "eq": "eq", "neq": "ne", "lt": "lt", "lte": "le", "gt": "gt", "gte": "ge", "in": "in", "is": "null", "like": "like",
}  # fmt: skip
_ITEM = re.compile(r'"(?:[^"]|"")*"|[^,()]+')


def _unquoted(text: str) -> str:
    return text[1:-1].replace('""', '"') if text[:1] == '"' and text[-1:] == '"' and len(text) > 1 else text


class Prefix(Spelling):
    name = "prefix"
    says = "field=gte.5, order=field.desc, select=a,b, paged by the Range header"
    expansion = "embed"
    bulk = "wrapped"

    def parameters(self, table: Table) -> list[Json]:
        found = []
        for column in table.visible:
            known = operators(column)
            plain = [word for word, each in _WORDS.items() if each in known and each not in {"in", "null", "like"}]
            words = [f"`{word}.`" for word in plain]
            words.append("`in.(a,b)`, where a value with a comma stands in double quotes" if "in" in known else "")
            words.append("`like.*text*`, where `*` stands for anything" if "contains" in known else "")
            words.append("`is.null`, `not.is.null`" if column.nullable else "")
            said = ", ".join(word for word in words if word)
            found.append(
                parameter(
                    column.name, {"type": "string"}, f"An operator and a value: {said}; `not.` before turns it round."
                )
            )
        some = table.visible[0].name
        return [
            *found,
            parameter("or", {"type": "string"}, f"At least one of several conditions: `({some}.eq.1,{some}.eq.2)`."),
            parameter(
                "order",
                {"type": "string"},
                f"Fields to sort by, joined by commas: `{sortable(table)[0]}.desc`, or `.asc`.",
            ),
            parameter("select", {"type": "string"}, "The fields to show, joined by commas."),
            {
                "name": "Range",
                "in": "header",
                "description": f"Which rows, at most {LARGEST_PAGE}: `0-24`.",
                "schema": {"type": "string", "pattern": "^[0-9]+-[0-9]+$"},
            },
            {
                "name": "Prefer",
                "in": "header",
                "description": "`count=exact` gives the number of all rows in Content-Range.",
                "schema": {"type": "string", "enum": ["count=exact"]},
            },
        ]

    def headers(self) -> Json:
        return {
            "Content-Range": {
                "required": True,
                "schema": {"type": "string", "pattern": r"^([0-9]+-[0-9]+|\*)/([0-9]+|\*)$"},
            }
        }

    def schema(self, table: Table, row: Json) -> Json:
        return {"type": "array", "maxItems": LARGEST_PAGE, "items": row}

    def wanted(self, request: Request, table: Table) -> Wanted:
        query = request.query_params
        order = []
        for text in filter(None, query.get("order", "").split(",")):
            name, _, way = text.partition(".")
            columns_of(table, [name], sortable(table))
            if way not in {"asc", "desc"}:
                raise Refusal(400, "Not readable", "An order is a field, a dot, and asc or desc.")
            order.append((name, way == "desc"))
        select = columns_of(table, [name for name in query.get("select", "").split(",") if name])
        asked = request.headers.get("range")
        found = re.fullmatch(r"([0-9]{1,12})-([0-9]{1,12})", asked or f"0-{LARGEST_PAGE - 1}")
        if found is None or int(found[2]) < int(found[1]):
            raise Refusal(400, "Not readable", "A range is two numbers with a minus between.")
        size = min(int(found[2]) - int(found[1]) + 1, LARGEST_PAGE)
        return Wanted(self._where(request, table), tuple(order), select, size, int(found[1]), sized=asked is not None)

    def _where(self, request: Request, table: Table) -> Where | None:
        names = {column.name for column in table.visible}
        tests: list[Where] = []
        for name, text in request.query_params.multi_items():
            if name in names:
                tests.append(self._condition(column_of(table, name), text))
            elif name == "or":
                if not (text.startswith("(") and text.endswith(")")):
                    raise Refusal(400, "Not readable", "Conditions stand in brackets.")
                tests.append(Group("or", tuple(self._members(table, text[1:-1]))))
        return Group("and", tuple(tests)) if tests else None

    def _members(self, table: Table, text: str) -> list[Where]:
        pieces = re.findall(r'(?:"(?:[^"]|"")*"|\([^()]*\)|[^,"()])+', text)
        found: list[Where] = []
        for piece in pieces:
            name, _, rest = piece.partition(".")
            found.append(self._condition(column_of(table, name), rest, quoted=True))
        return found

    def _condition(self, column: Column, text: str, quoted: bool = False) -> Where:
        if text.startswith("not."):
            return Group("not", (self._condition(column, text[4:], quoted),))
        word, dot, value = text.partition(".")
        operator = _WORDS.get(word)
        allowed = {*operators(column), *(("like",) if "contains" in operators(column) else ())}
        if not dot or operator is None or operator not in allowed:
            raise Refusal(400, "Not readable", f"{column.name} has no operator {word}.")
        if operator == "null":
            if value != "null":
                raise Refusal(400, "Not readable", "is. takes null.")
            return Test(column, "null", True)
        if operator == "in":
            if not (value.startswith("(") and value.endswith(")")):
                raise Refusal(400, "Not readable", "in. takes values in brackets.")
            return test_of(column, "in", [_unquoted(each) for each in _ITEM.findall(value[1:-1])])
        if operator == "like":
            escaped = value.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
            return Test(column, "like", escaped.replace("*", "%"))
        return test_of(column, operator, _unquoted(value) if quoted else value)

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        counted = "count=exact" in request.headers.get("prefer", "")
        told = str(total) if counted else "*"
        if wanted.offset and wanted.offset >= total:
            raise Refusal(416, "Not there", "The list has no such rows.", headers={"Content-Range": f"*/{told}"})
        where = f"{wanted.offset}-{wanted.offset + len(rows) - 1}" if rows else "*"
        return json_answer(rows, 206 if len(rows) < total else 200, {"Content-Range": f"{where}/{told}"})
