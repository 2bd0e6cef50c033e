"""How conditions are written, told from a list's query parameters and what is said of them."""

from __future__ import annotations

from collections.abc import Sequence

from checkpost.contract.contract import Operation
from checkpost.model.field import Field
from checkpost.model.filters.expressions import expression, in_brackets, in_json_list, odata, untold
from checkpost.model.filters.objects import listed_conditions
from checkpost.model.filters.parameters import by_parameters
from checkpost.model.paths import normal
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Filtering

#: Parameters that hold an expression, by name; the second set only where what is said of them shows one.
_EXPRESSIONS = ("filter", "where", "filters", "condition", "conditions", "criteria", "predicate")
_PERHAPS = ("q", "query", "search", "s")


def filterings_of(operation: Operation, fields: Sequence[Field], taken: set[str]) -> tuple[Filtering, ...]:
    """The ways in which the list may take conditions: none, one that is described, or several to be tried.

    ``taken`` names the parameters that are known to be for something else.
    """
    queries = [each for each in operation.parameters if each.location == "query" and each.name not in taken]
    names = [each.name for each in fields if each.shown]
    compared = by_parameters(operation, queries, fields)
    found: list[Filtering] = [compared] if compared is not None else []
    alternatives: dict[str, tuple[Filtering, ...]] = {}
    loose: tuple[Filtering, ...] = ()
    for parameter in queries:
        word = normal(parameter.name)
        described: tuple[Filtering, ...] = ()
        if word in _EXPRESSIONS and parameter.style == "deepObject" and not shape_of(parameter.schema).properties:
            loose = in_brackets(parameter)
        if parameter.name == "$filter":
            described = (odata(parameter, said_of(parameter)),)
        elif word in (*_EXPRESSIONS, *_PERHAPS) and parameter.style != "deepObject" and parameter.name not in names:
            described = expression(parameter, names)
        elif word.endswith(_EXPRESSIONS) and parameter.name not in names and in_json_list(parameter):
            listed = listed_conditions(parameter, f"{said_of(parameter)}\n{parameter.elsewhere}", names)
            described = (listed,) if listed is not None else ()
        if (
            described
            and compared is not None
            and any(each.place == parameter.place for each in queries if each.name in names)
        ):
            return (compared, *described)  # its members are spread, as the contract has it, or it is JSON
        if described:
            alternatives[described[0].parameter] = described
            found.append(described[0])
        elif word in _EXPRESSIONS and parameter.style != "deepObject" and not found and parameter.name not in names:
            return untold(parameter)
    best = max(found, key=lambda each: len(each.templates), default=None)
    if loose and (best is None or len(best.templates) < 2):
        return loose
    return alternatives.get(best.parameter, (best,)) if best is not None else ()
