"""What the stand-in's lists can be asked, whatever the spelling, and the SQL that it becomes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from checkpost.demo.database import encode
from checkpost.demo.tables import Column, Table

LARGEST_PAGE = 200
USUAL_PAGE = 50
Operator = Literal["eq", "ne", "lt", "le", "gt", "ge", "in", "between", "null", "contains", "starts", "like"]
Function = Literal["count", "distinct", "sum", "avg", "min", "max"]
Sql = tuple[str, list[Any]]

_SIGNS = {"eq": "=", "ne": "<>", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}


@dataclass(frozen=True)
class Test:
    """A column against a value, or several; ``null`` takes whether there is to be none."""

    column: Column
    operator: Operator
    value: Any


@dataclass(frozen=True)
class Group:
    word: Literal["and", "or", "not"]
    parts: tuple[Where, ...]


Where = Test | Group


@dataclass(frozen=True)
class Measure:
    """An aggregate and the name of its result; ``count`` without a column counts rows."""

    function: Function
    column: Column | None
    name: str


@dataclass(frozen=True)
class Wanted:
    """One question to a list: conditions, order by column, columns to show (empty for all), page."""

    where: Where | None = None
    order: tuple[tuple[str, bool], ...] = ()
    select: tuple[str, ...] = ()
    limit: int = USUAL_PAGE
    offset: int = 0
    measures: tuple[Measure, ...] = ()
    groups: tuple[str, ...] = ()
    sized: bool = False


def operators(column: Column) -> tuple[Operator, ...]:
    """What a column can be filtered by."""
    found: tuple[Operator, ...]
    if column.type == "boolean":
        found = ("eq", "ne")
    elif column.type == "uuid":
        found = ("eq", "ne", "in")
    elif column.type == "text":
        found = ("eq", "ne", "in") if column.enum else ("eq", "ne", "in", "contains", "starts")
    else:
        found = ("eq", "ne", "lt", "le", "gt", "ge", "in")
    return (*found, "null") if column.nullable else found


def compared(column: Column) -> tuple[Operator, ...]:
    """What an expression may compare a column with: ranges of texts too."""
    return (*operators(column), "lt", "le", "gt", "ge") if column.type == "text" else operators(column)


def sortable(table: Table) -> tuple[str, ...]:
    return tuple(column.name for column in table.visible if column.type != "uuid")


def numeric(table: Table) -> tuple[Column, ...]:
    return tuple(column for column in table.visible if column.type in {"integer", "decimal"})


def groupable(table: Table) -> tuple[str, ...]:
    return tuple(
        column.name for column in table.visible if column.enum or column.type == "boolean" or column.references
    )


def expression(column: Column) -> str:
    """A column in SQL, as it compares."""
    return f'CAST("{column.name}" AS REAL)' if column.type == "decimal" else f'"{column.name}"'


def operand(column: Column, value: Any) -> Any:
    return float(value) if column.type == "decimal" else encode(column, value)


def test_sql(test: Test) -> Sql:
    """One comparison as SQL with its values."""
    column, value = expression(test.column), test.value
    if test.operator == "null":
        return f"{column} IS {'' if value else 'NOT '}NULL", []
    if test.operator == "in":
        return f"{column} IN ({', '.join('?' * len(value))})", [operand(test.column, each) for each in value]
    if test.operator == "between":
        return f"{column} BETWEEN ? AND ?", [operand(test.column, each) for each in value]
    if test.operator == "contains":
        return f"instr({column}, ?) > 0", [value]
    if test.operator == "starts":
        return f"substr({column}, 1, length(?)) = ?", [value, value]
    if test.operator == "like":
        return f"{column} LIKE ? ESCAPE '\\'", [value]
    return f"{column} {_SIGNS[test.operator]} ?", [operand(test.column, value)]


def measure_sql(measure: Measure) -> str:
    if measure.column is None:
        return "count(*)"
    column = expression(measure.column)
    if measure.function == "distinct":
        return f"count(DISTINCT {column})"
    return f"{measure.function}({column})"
