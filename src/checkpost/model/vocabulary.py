"""The words and signs that APIs use for operators and aggregate functions."""

from __future__ import annotations

from checkpost.model.paths import normal
from checkpost.model.query import Function, Operator

_OPERATORS: dict[Operator, str] = {
    "eq": "eq equal equals equalto is exact iexact = ==",
    "ne": "ne neq not noteq notequal notequals notequalto isnot != <>",
    "lt": "lt less lessthan below <",
    "le": "le lte lessorequal lessthanorequal lessthanorequalto atmost <=",
    "gt": "gt greater greaterthan above morethan >",
    "ge": "ge gte greaterorequal greaterthanorequal greaterthanorequalto atleast >=",
    "from": "from since after min minimum start",
    "to": "to until before max maximum upto end",
    "in": "in anyof oneof",
    "not_in": "nin notin noneof out",
    "between": "between range bt",
    "null": "null isnull",
    "not_null": "notnull isnotnull",
    "contains": "contains has includes substring",
    "starts": "starts startswith beginswith prefix sw",
    "ends": "ends endswith suffix ew",
    "like": "like",
    "icontains": "icontains",
    "istarts": "istarts istartswith",
    "iends": "iends iendswith",
    "ilike": "ilike",
}
_FUNCTIONS: dict[Function, str] = {
    "count": "count",
    "distinct": "distinct countdistinct distinctcount uniquecount",
    "sum": "sum total",
    "avg": "avg average mean",
    "min": "min minimum",
    "max": "max maximum",
}
_SIGNS = set("=<>!")
OPERATORS: dict[str, Operator] = {word: operator for operator, words in _OPERATORS.items() for word in words.split()}
FUNCTIONS: dict[str, Function] = {word: function for function, words in _FUNCTIONS.items() for word in words.split()}


def operator_of(word: str) -> Operator | None:
    """The operator that a word or sign means; None if it means none."""
    return OPERATORS.get(word if set(word) <= _SIGNS else normal(word))


def function_of(word: str) -> Function | None:
    return FUNCTIONS.get(normal(word))


def names_of(function: Function) -> tuple[str, ...]:
    return tuple(_FUNCTIONS[function].split())
