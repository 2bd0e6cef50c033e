"""What a spelling of the stand-in's queries is, and what all of them share."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, date, datetime
from typing import Any, Literal
from uuid import UUID

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.question import Operator, Test, Wanted
from checkpost.demo.tables import Column, Table

Json = dict[str, Any]
Row = dict[str, Any]


class Spelling:
    """How lists take filters, order, pages, fields and aggregates, and how they answer."""

    name = ""
    #: What it looks like, for a person.
    says = ""
    #: The end of the path that answers with aggregates; "" where there is none, or the list itself does.
    aggregates = ""
    #: The parameter that shows related rows inside a row, and how many rows are written in one request: as an
    #: array or under a name at a path of their own, as lines, or at the list's path, where a condition too
    #: says which rows to change.
    expansion = "expand"
    bulk: Literal["array", "wrapped", "lines", "same path"] = "array"
    #: Whether rows hold links.
    links = False

    def conditions(self, table: Table) -> list[Json]:
        """The documented parameters that choose rows."""
        raise NotImplementedError

    def parameters(self, table: Table) -> list[Json]:
        """The documented parameters of a list."""
        raise NotImplementedError

    def aggregate_parameters(self, table: Table) -> list[Json]:
        raise NotImplementedError

    def headers(self) -> Json:
        """The documented headers of a list's answer."""
        return {}

    def schema(self, table: Table, row: Json) -> Json:
        """The schema of a list's body."""
        raise NotImplementedError

    def aggregate_schema(self, table: Table) -> Json:
        raise NotImplementedError

    def wanted(self, request: Request, table: Table) -> Wanted:
        """What a request asks for. Raises Refusal."""
        raise NotImplementedError

    def aggregates_wanted(self, request: Request, table: Table) -> Wanted:
        raise NotImplementedError

    def answer(
        self, table: Table, request: Request, wanted: Wanted, rows: list[Row], total: int, following: int | None
    ) -> Response:
        """A page of rows; ``following`` is where the next page begins, None on the last one."""
        raise NotImplementedError

    def aggregated(self, rows: list[Row], wanted: Wanted) -> Any:
        """The body that shows aggregates: rows with the groups' columns and each measure by its name."""
        raise NotImplementedError


def parameter(name: str, schema: Json, description: str, **more: Any) -> Json:
    return {"name": name, "in": "query", "description": description, "schema": schema, **more}


def whole_number(text: str | None, name: str, least: int, most: int, default: int) -> int:
    """A whole number among the parameters. Raises Refusal."""
    if text is None:
        return default
    if not re.fullmatch(r"[0-9]{1,18}", text) or not least <= int(text) <= most:
        raise Refusal(400, "Not readable", f"{name} has to be a whole number from {least} to {most}.")
    return int(text)


def column_of(table: Table, name: str) -> Column:
    """A column that answers show. Raises Refusal for a name that there is not."""
    for column in table.visible:
        if column.name == name:
            return column
    raise Refusal(400, "Not readable", f"There is no field {name}.")


def columns_of(table: Table, names: Sequence[str], among: Sequence[str] | None = None) -> tuple[str, ...]:
    for name in names:
        if among is not None and name not in among:
            raise Refusal(400, "Not readable", f"{name} is not among the fields that can be named here.")
        column_of(table, name)
    return tuple(names)


def value_of(column: Column, text: Any) -> Any:
    """A value of a column's type from the text of a query, or from a JSON value. Raises Refusal."""
    try:
        if column.type == "boolean":
            return {"true": True, "false": False, True: True, False: False}[text]
        if isinstance(text, bool):
            raise ValueError
        if column.type == "integer":
            number = int(text) if re.fullmatch(r"[+-]?[0-9]{1,18}", str(text)) else float(text)
            if not abs(number) < 2**63:  # nor what is no number
                raise ValueError
            return number
        if column.type == "decimal":
            return float(text)
        if not isinstance(text, str):
            raise ValueError
        if column.type == "date":
            return date.fromisoformat(text).isoformat()
        if column.type == "date-time":
            moment = datetime.fromisoformat(text.upper().replace("Z", "+00:00"))
            return moment.replace(tzinfo=moment.tzinfo or UTC).astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        if column.type == "uuid":
            return str(UUID(text))
    except (ValueError, KeyError, TypeError):
        raise Refusal(400, "Not readable", f"{column.name} is of type {column.type}.") from None
    return text


def test_of(column: Column, operator: Operator, text: Any) -> Test:
    """A comparison from texts. Raises Refusal."""
    if operator == "null":
        if text not in {"true", "false"} and not isinstance(text, bool):
            raise Refusal(400, "Not readable", "This takes true or false.")
        return Test(column, operator, text in {"true", True})
    if operator in {"in", "between"}:
        return Test(column, operator, tuple(value_of(column, each) for each in text))
    return Test(column, operator, value_of(column, text))


def following_url(request: Request, table: Table, **changed: Any) -> str:
    """The request's own path and query with some parameters changed."""
    from urllib.parse import parse_qsl, urlencode

    pairs = [
        (name, value) for name, value in parse_qsl(request.url.query, keep_blank_values=True) if name not in changed
    ]
    return f"{request.url.path}?{urlencode([*pairs, *changed.items()])}"
