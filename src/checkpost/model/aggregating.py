"""How aggregates are asked for, told from the operations beside a list and its parameters."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.choices import SELECTS, choices_of, separator_of
from checkpost.model.envelopes import further_members, rows_pointer
from checkpost.model.field import Reason
from checkpost.model.media import is_json_type
from checkpost.model.nearby import Nearby
from checkpost.model.paths import normal, plain
from checkpost.model.query import Function
from checkpost.model.said import code_in, said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import ANY, Aggregating
from checkpost.model.vocabulary import function_of

GROUPS = ("group", "groupby", "by", "groups", "dimensions", "groupfields")
MEASURES = ("aggregate", "aggregates", "agg", "aggs", "metrics", "measures", "functions", "compute", "calculate")
_AGGREGATIONS = ("aggregate", "aggregates", "aggregation", "aggregations", "stats", "statistics", "summary", "group")
#: Of how many functions an answer tells that has them beside each other.
_SEVERAL = 2
_OData: dict[Function, str] = {
    "count": "$count as {alias}",
    "distinct": "{field} with countdistinct as {alias}",
    "sum": "{field} with sum as {alias}",
    "avg": "{field} with average as {alias}",
    "min": "{field} with min as {alias}",
    "max": "{field} with max as {alias}",
}


def aggregating_of(
    collection: str | None, listing: Operation, operations: Nearby, known: Mapping[str, Parameter], names: Sequence[str]
) -> Aggregating | None:
    """Aggregates of a path beside the list's items, or of the list itself."""
    if "apply" in known and known["apply"].name == "$apply":
        rows = rows_pointer(_answer(listing), "")
        why = Reason("the list takes $apply, as OData has it", "stated")
        return Aggregating(
            listing.path,
            {each: text for each, text in _OData.items() if _named(each, text, said_of(known["apply"]))},
            why,
            "$apply",
            "groupby(({fields}),aggregate({measures}))",
            rows=rows[0] if rows else "",
            filters=False,
            alias="{alias}",
            place=known["apply"].place,
        )
    base = plain(collection or "")
    for operation in (*operations.beginning(base if base != "/" else ""), listing):
        rest = operation.path[len(base) :].strip("/_").lower() if operation.path.startswith(base) else ""
        if operation.method != "GET" or (operation is not listing and normal(rest) not in (*_AGGREGATIONS, "count")):
            continue
        found = _functions(operation, names) or _of_fields(operation, names)
        if found is not None:
            return found
        if normal(rest) == "count" and not any(
            each.required for each in operation.parameters if each.location == "query"
        ):
            why = Reason(f"{operation.path} counts", "likely")
            return Aggregating(operation.path, {"count": ""}, why, rows=None, place=operation.place)
    return None


def _joint(group: Parameter | None) -> str | None:
    """What joins several fields to group by; "" where the contract lists single fields."""
    if group is None or (choices_of(group) and not shape_of(group.schema).is_array):
        return ""
    return separator_of(group)


def _named(function: Function, template: str, said: str) -> bool:
    words = {"count": r"\$count", "distinct": "countdistinct", "avg": "average"}
    return not said or bool(re.search(words.get(function, rf"\b{function}\b"), said))


def _answer(operation: Operation) -> Any:
    for response in operation.success():
        for media in response.content:
            if is_json_type(media.name) and media.schema is not None:
                return media.schema
    return None


def _functions(operation: Operation, names: Sequence[str]) -> Aggregating | None:
    """The aggregate functions that an operation's parameters name."""
    queries = [each for each in operation.parameters if each.location == "query"]
    group = next((each for each in queries if normal(each.name) in GROUPS and each.name not in names), None)
    functions: dict[Function, str] = {}
    parameter = ""
    separator: str | None = ","
    fields: dict[Function, tuple[str, ...]] = {}
    for each in queries:
        function = function_of(each.name)
        if each.name in names:
            continue
        shows = normal(each.name) in SELECTS and re.search(r"\b(?:sum|avg|min|max)\(\w+\)", said_of(each))
        if normal(each.name) in MEASURES or (shows and group is not None):
            functions, parameter, separator = (
                _listed(said_of(each), choices_of(each), names),
                each.name,
                separator_of(each),
            )
            fields = _fields_listed(functions, choices_of(each), names)
        elif function is not None and not parameter:
            choices = choices_of(each)
            flag = function == "count" and (shape_of(each.schema).types == {"boolean"})
            functions[function] = f"{each.name}=" + ("true" if flag else "{field}" + ANY * (function == "count"))
            separator = separator_of(each)
            if choices:
                fields[function] = tuple(name for name in choices if name in names)
    if not functions or (operation.path and group is None and not parameter and len(functions) < 2):
        return None
    functions = {key: text.replace("{field}*", "{field}") for key, text in functions.items()}
    rows = rows_pointer(_answer(operation), "")
    said = " ".join(f"{said_of(each)} {choices_of(each)}" for each in queries if function_of(each.name) == "count")
    if "count" in functions and "{field}" in functions["count"] and not parameter and ANY in said:
        functions["count"] = functions["count"].replace("{field}", ANY)
    joined = "{fields}"
    return Aggregating(
        operation.path,
        functions,
        Reason(f"{operation.path} takes {', '.join(sorted(functions))}", "likely"),
        parameter,
        f"{group.name}={joined}" if group else "",
        separator,
        _joint(group),
        rows[0] if rows else None,
        fields,
        tuple(each for each in choices_of(group) if each in names) or None if group else None,
        place=(group or queries[0]).place,
    )


def _of_fields(operation: Operation, names: Sequence[str]) -> Aggregating | None:
    """Every function of the fields that a parameter names: ``stats?fields=seeds`` answered with
    ``{"seeds": {"min": 1, "max": 9}}``."""
    answer = _answer(operation)
    if answer is None:
        return None
    members = [further_members(answer), *shape_of(answer).properties.values()]
    told = [word for each in members for word in shape_of(each).properties if function_of(word)]
    functions: dict[Function, str] = {function: "{field}" for word in told if (function := function_of(word))}
    parameter = next((each for each in operation.parameters if normal(each.name) in SELECTS), None)
    if parameter is None or parameter.location != "query" or parameter.name in names or len(functions) < _SEVERAL:
        return None
    among = choices_of(parameter)
    listed = tuple(name for name in names if name in among)
    return Aggregating(
        operation.path,
        functions,
        Reason(
            f"{operation.path} answers with {', '.join(sorted(functions))} of each of its {parameter.name}", "likely"
        ),
        parameter.name,
        separator=separator_of(parameter),
        fields=dict.fromkeys(functions, listed) if among else {},
        place=parameter.place,
    )


def _fields_listed(
    functions: Mapping[Function, str], choices: Sequence[str], names: Sequence[str]
) -> dict[Function, tuple[str, ...]]:
    """The fields that each function takes, where the contract lists every choice."""
    if not choices:
        return {}
    return {
        function: tuple(name for name in names if template.replace("{field}", name) in choices)
        for function, template in functions.items()
        if "{field}" in template
    }


def _listed(said: str, choices: Sequence[str], names: Sequence[str]) -> dict[Function, str]:
    """Functions in one parameter: ``sum(field)``, ``sum:field``, ``field:sum``, ``field.sum()``."""
    text = "\n".join([code_in(said), *choices])
    pattern = "|".join([*map(re.escape, names), "field", "FIELD", "column", r"\{\w+\}", r"\*"])
    functions: dict[Function, str] = {}
    forms = (
        (rf"\b(?P<fn>\w+)\((?:{pattern})\)", "{fn}({field})"),
        (rf"\b(?P<fn>\w+)(?P<sep>[:.])(?:{pattern})(?!\w)", "{fn}{sep}{field}"),
        (rf"(?:{pattern})\.(?P<fn>\w+)\(\)", "{field}.{fn}()"),
        (rf"(?:{pattern})(?P<sep>[:.])(?P<fn>\w+)\b", "{field}{sep}{fn}"),
    )
    # joined so a word of a text is seldom meant; of what can be chosen it is
    joined = (
        (rf"(?<!\w)(?P<fn>[a-z]+)_(?:{pattern})(?!\w)", "{fn}_{field}"),
        (rf"(?<!\w)(?:{pattern})_(?P<fn>[a-z]+)(?!\w)", "{field}_{fn}"),
    )
    chosen = "\n".join(choices)
    for expression, template in (*forms, *joined):
        among = chosen if (expression, template) in joined else text
        found = [each for each in re.finditer(expression, among) if function_of(each["fn"])]
        if not found:
            continue
        made = template.replace("{sep}", found[0].groupdict().get("sep") or "")
        shown = sorted({each["fn"] for each in found})
        # those that prose tells of, where none of their kind is shown
        for word in [*shown, *sorted({word for word in re.findall(r"\w+", said) if function_of(word)})]:
            function = function_of(word)
            if function is not None and word not in {"total", "minimum", "maximum", "unique"}:
                functions.setdefault(function, made.replace("{fn}", word))
        if re.search(r"(?<!\w)count\(\)", text):
            functions["count"] = "count()"
        elif re.search(r"(?<!\w)count(?![\w(:.])", text):
            functions["count"] = "count"
        elif "count" in functions and "*" in text:
            functions["count"] = functions["count"].replace("{field}", ANY)
        return functions
    return functions
