"""What can be asked of a list, whatever its spelling: conditions, order, fields, aggregates."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

#: ``from`` and ``to`` are bounds of which nothing says whether they belong to the range; those with an ``i``
#: do not mind the case of letters. ``match`` is what a parameter with a field's name alone does with a text or
#: a moment: equal, or part of it, or the same day. ``like`` takes a pattern with wildcards.
Operator = Literal[
    "eq", "ne", "lt", "le", "gt", "ge", "from", "to", "in", "not_in", "between", "null", "not_null",
    "match", "contains", "starts", "ends", "like", "icontains", "istarts", "iends", "ilike",
]  # fmt: skip
_SIGNS: dict[str, str] = {"eq": "=", "ne": "!=", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}
Function = Literal["count", "distinct", "sum", "avg", "min", "max"]
PATTERNS: frozenset[Operator] = frozenset(
    {"contains", "starts", "ends", "like", "icontains", "istarts", "iends", "ilike"}
)


def in_words(operator: Operator) -> str:
    """An operator as a person reads it."""
    return _SIGNS.get(operator, operator.replace("_", " "))


@dataclass(frozen=True)
class Compare:
    """A field against a value: a tuple of values for ``in``, ``not_in`` and ``between``, None for the nulls."""

    field: str
    operator: Operator
    value: Any = None

    def __str__(self) -> str:
        return f"{self.field} {in_words(self.operator)}" + ("" if self.value is None else f" {self.value!r}")


@dataclass(frozen=True)
class Every:
    """All of several conditions. ``bare`` says that they are written without brackets inside others: ``and`` binds
    closer than ``or`` (OData 4.01, part 2, 5.1.1.15; SQL)."""

    parts: tuple[Condition, ...]
    bare: bool = False

    def __str__(self) -> str:
        return " and ".join(f"({part})" if isinstance(part, Either) else str(part) for part in self.parts)


@dataclass(frozen=True)
class Either:
    """At least one of several conditions."""

    parts: tuple[Condition, ...]

    def __str__(self) -> str:
        return " or ".join(
            f"({part})" if isinstance(part, Every) and not part.bare else str(part) for part in self.parts
        )


@dataclass(frozen=True)
class Not:
    inner: Condition

    def __str__(self) -> str:
        return f"not ({self.inner})"


Condition = Compare | Every | Either | Not


@dataclass(frozen=True)
class Order:
    field: str
    descending: bool = False

    def __str__(self) -> str:
        return f"{self.field} {'descending' if self.descending else 'ascending'}"


@dataclass(frozen=True)
class Measure:
    """One aggregate: a function of a field; ``count`` without a field counts rows."""

    function: Function
    field: str = ""

    def __str__(self) -> str:
        return f"{self.function}({self.field or '*'})"


@dataclass(frozen=True)
class Query:
    """One question to a list. ``position`` is the number of rows left out first."""

    condition: Condition | None = None
    order: tuple[Order, ...] = ()
    select: tuple[str, ...] = ()
    limit: int | None = None
    position: int | None = None
    count: bool = False

    def __str__(self) -> str:
        said = [
            f"where {self.condition}" if self.condition else "",
            f"by {', '.join(map(str, self.order))}" if self.order else "",
            f"only {', '.join(self.select)}" if self.select else "",
            f"{self.limit} rows from {self.position or 0}" if self.limit is not None else "",
        ]
        return "; ".join(word for word in said if word) or "the whole list"


def compares(condition: Condition | None) -> list[Compare]:
    """Every comparison inside a condition, from left to right."""
    if condition is None:
        return []
    if isinstance(condition, Compare):
        return [condition]
    if isinstance(condition, Not):
        return compares(condition.inner)
    return [each for part in condition.parts for each in compares(part)]
