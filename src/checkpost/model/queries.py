"""What can be asked of a list, and how it is written: filters, order, fields, totals, aggregates."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.envelopes import rows_pointer
from checkpost.model.field import Field, Reason
from checkpost.model.filters.filtering import filterings_of
from checkpost.model.media import is_json_type
from checkpost.model.members import APPENDED
from checkpost.model.nearby import Nearby
from checkpost.model.paths import normal, plain
from checkpost.model.query import Function
from checkpost.model.resource import Paging
from checkpost.model.said import code_in, said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import (
    ANY,
    AS_JSON,
    AS_MEMBERS,
    Aggregating,
    Counting,
    Filtering,
    Queries,
    Selecting,
    Sorting,
)
from checkpost.model.vocabulary import function_of

_SORTS = (
    "sort",
    "sortby",
    "orderby",
    "order",
    "ordering",
    "sorting",
    "sortfield",
    "sortcolumn",
    "sortkey",
    "ordercolumn",
    "orderfield",
)
_DIRECTIONS = ("direction", "dir", "sortdirection", "sortdir", "sortorder", "orderdir", "orderdirection", "order")
#: Directions that are said by yes or no.
_FLAGS = re.compile(r"(?:sort|order|is|orderby|sortby)?(?:(?P<up>asc|ascending)|desc|descending|reversed?)")
_SELECTS = (
    "select",
    "fields",
    "columns",
    "properties",
    "attributes",
    "only",
    "includefields",
    "projection",
    "projections",
)
_COUNTS = ("count", "includetotal", "withtotal", "includecount", "withcount", "totalcount", "total", "counttotal")
_GROUPS = ("group", "groupby", "by", "groups", "dimensions", "groupfields")
_MEASURES = ("aggregate", "aggregates", "agg", "aggs", "metrics", "measures", "functions", "compute", "calculate")
_AGGREGATIONS = ("aggregate", "aggregates", "aggregation", "aggregations", "stats", "statistics", "summary", "group")


def queries_of(
    collection: str | None,
    operation: Operation | None,
    operations: Nearby,
    fields: Sequence[Field],
    paging: Paging,
    stated: Mapping[str, Any],
    name: str,
) -> Queries:
    """What the list of a resource can be asked. ``stated`` is what the profile says of it, part by part."""
    if operation is None:
        return Queries()
    names = [each.name for each in fields if each.shown]
    by_name = {normal(each.name): _as_said(each) for each in reversed(operation.parameters) if each.location == "query"}
    own = {normal(each) for each in names}
    known = {word: each for word, each in by_name.items() if word not in own}
    taken = {paging.limit, paging.position, paging.cursor} - {None}
    known = {word: each for word, each in known.items() if not _is_number(each)}
    sort = _first(known, _SORTS)
    direction = next((known[word] for word in _DIRECTIONS if word in known and known[word] is not sort), None)
    direction = direction or next(
        (each for word, each in known.items() if _FLAGS.fullmatch(word) and _is_flag(each)), None
    )
    select = _first(known, _SELECTS) or _of_type(operation, name) or _select_in_words(known)
    # what it is for stands first; behind it may be said what it leaves alone
    if select is not None and _OTHER_SELECTION.search(said_of(select).strip().partition("\n")[0]):
        select = None
    count = _first(known, _COUNTS)
    if count is not None and re.search(r"\b(?:only|instead|just)\b", said_of(count), re.I):
        count = None  # asks for a number in the place of rows
    counting = _counting(operation, count if count is None or count.name not in taken else None)
    aggregating = _aggregating(collection, operation, operations, known, names)
    by_field = _sorting_by_parameter(operation, names)
    beside = _other_sort(sort, known) if sort is not None and direction is None else None
    used = [
        sort,
        direction,
        beside,
        select,
        known.get("or"),
        *(known.get(word) for word in (*_GROUPS, *_MEASURES, "apply")),
    ]
    taken |= {each.name for each in used if each is not None}
    taken |= {by_field.parameter.replace("{field}", name) for name in by_field.fields or ()} if by_field else set()
    if counting is not None:
        taken.add(counting.parameter)
    sortings: tuple[Sorting, ...] = ()
    if by_field is not None:
        sortings = (by_field,)
    elif sort is not None:
        sortings = _either(sort, beside, names) if beside is not None else _sortings(sort, direction, names)
    described = Queries(
        filterings_of(operation, fields, {each for each in taken if each and normal(each) != "or"}),
        sortings,
        _selecting(select, names) if select is not None else None,
        counting,
        aggregating,
    )
    return stated_over(described, stated, collection or "")


def _as_said(parameter: Parameter) -> Parameter:
    """A parameter by the name that is said of it where its own has a blank, which no program would put into a URL."""
    if " " not in parameter.name:
        return parameter
    names = re.findall(r"[?&`](\w+)=", parameter.description)
    same = [name for name in names if normal(name) == normal(parameter.name)]
    return replace(parameter, name=same[0]) if same else parameter


#: Parameters that add fields to the usual ones, or leave some out.
_OTHER_SELECTION = re.compile(r"\b(?:additional\w*|extra|in addition|exclud\w+|omit\w*|leave out|expand\w*)\b", re.I)


#: What is said of a parameter that names the fields to be shown.
_SELECTING = re.compile(
    r"\b(?:return|show|include|answer|fetch|give)s? only (?:the )?"
    r"(?:(?!rows|records|items|results|entr|with)[\w`,]+ ){0,5}(?:fields|columns)\b"
    r"|\b(?:fields|columns) to (?:be )?(?:return|show|include|select|fetch)",
    re.I,
)


def _select_in_words(known: Mapping[str, Parameter]) -> Parameter | None:
    """The parameter that is described as the one that names the fields to be shown; None where several are."""
    said = [each for each in known.values() if _SELECTING.search(each.description)]
    return said[0] if len(said) == 1 else None


def _is_number(parameter: Parameter) -> bool:
    types = shape_of(parameter.schema).types
    return bool(types) and types <= {"integer", "number"}


def _first(known: Mapping[str, Parameter], words: Iterable[str]) -> Parameter | None:
    return next((known[word] for word in words if word in known), None)


def _of_type(operation: Operation, name: str) -> Parameter | None:
    """``fields[type]`` (JSON:API 1.1, sparse fieldsets), for the type of the list's own rows."""
    found = [each for each in operation.parameters if re.fullmatch(r"fields\[[^\]]+\]", each.name)]
    own = [each for each in found if normal(each.name[7:-1]) == normal(name)]
    return (own or (found if len(found) == 1 else [None]))[0]  # type: ignore[list-item]


def choices_of(parameter: Parameter) -> list[str]:
    """The values that the contract lists for a parameter, or for the items of one that is an array."""
    shape = shape_of(parameter.schema)
    listed = shape.keywords.get("enum") or shape_of(shape.item).keywords.get("enum") or []
    return [str(each) for each in listed]


def joined_by(parameter: Parameter) -> str | None:
    """What joins names: as ``separator_of``, or a list or an object in JSON where words, examples or the default show
    one."""
    default = shape_of(parameter.schema).keywords.get("default")
    if default == "{}" or re.search(r"\{\s*\\?\"\w+\\?\"\s*:\s*(?:1|true)\b", said_of(parameter)):
        return AS_MEMBERS
    if default == "[]" or re.search(r"\[\s*\\?\"\w", said_of(parameter)):
        return AS_JSON
    return separator_of(parameter)


def separator_of(parameter: Parameter) -> str | None:
    """What joins several values; None where the parameter is repeated (OpenAPI 3.1, 4.8.12)."""
    if not shape_of(parameter.schema).is_array:
        return ","
    joins = {"spaceDelimited": " ", "pipeDelimited": "|"}
    return None if parameter.explode else joins.get(parameter.style, ",")


# -- order -----------------------------------------------------------------------------------------

#: Spellings of descending and ascending, and what shows them in choices, examples or words.
_STYLES: tuple[tuple[str, str, str], ...] = (
    ('{"{field}": "asc"}', '{"{field}": "desc"}', r"\{\s*\\?\"(?:FIELD)\\?\"\s*:\s*\\?\"(?:asc|desc)\b"),
    ('["{field}", "asc"]', '["{field}", "desc"]', r"\[\s*\\?\"(?:FIELD)\\?\"\s*,\s*\\?\"(?:asc|desc)\b"),
    (
        "{field}",
        "-{field}",
        r"(?<![\w-])-(?:FIELD)\b|\w,\s?-[a-z]|[`'\"]-[`'\"]|\b(?:minus|hyphen)\b|(?:prefix\w*|leading)\W+(?:\w+\W+)?[`'\"]?-",
    ),
    ("{field}:asc", "{field}:desc", r"(?:FIELD):(?:asc|desc)\b"),
    ("{field}.asc", "{field}.desc", r"(?:FIELD)\.(?:asc|desc)\b"),
    ("{field} asc", "{field} desc", r"(?:FIELD) (?:asc|desc)\b"),
    ("{field},ASC", "{field},DESC", r"(?-i:(?:FIELD),(?:ASC|DESC))\b"),
    ("{field},asc", "{field},desc", r"(?:FIELD),(?:asc|desc)\b"),
    ("{field}|asc", "{field}|desc", r"(?:FIELD)\|(?:asc|desc)\b"),
    ("{field}__asc", "{field}__desc", r"(?:FIELD)__(?:asc|desc)\b"),
    ("{field}_asc", "{field}_desc", r"(?:FIELD)_(?:asc|desc)\b"),
    ("{field}_ASC", "{field}_DESC", r"(?:FIELD)_(?:ASC|DESC)\b"),
    ("asc({field})", "desc({field})", r"\b(?:asc|desc)\((?:FIELD)\)"),
)


#: Those that are tried where nothing is said.
_USUAL = _STYLES[2:7]


def _sortings(parameter: Parameter, direction: Parameter | None, names: Sequence[str]) -> tuple[Sorting, ...]:
    """The ways in which the list may take an order: one that is described, or several to be tried."""
    by_member = _sorting_by_member(parameter, names)
    if by_member is not None:
        return (by_member,)
    separator = separator_of(parameter)
    choices = choices_of(parameter)
    plain_choices = tuple(each for each in choices if each in names)
    several = (
        shape_of(parameter.schema).is_array
        or parameter.name == "$orderby"
        or bool(
            not choices
            and re.search(r"\b(?:commas?|several|multiple|fields|columns|keys)\b|\w,\s?-?\w", said_of(parameter), re.I)
        )
    )
    said = "\n".join([said_of(parameter), *choices])
    # an example may be of another table, where one description serves all
    another = rf"(?<={re.escape(parameter.name)}=)\w+?"
    general = ["field", "FIELD", "column", "name", "property", r"\{\w+\}", r"<\w+>", another]
    pattern = "|".join([*map(re.escape, names), *general])
    if direction is not None:
        words = _direction_words(direction)
        why = Reason(f"the list takes {parameter.name}, and {direction.name} for the direction", "stated")
        return (
            Sorting(
                parameter.name,
                "{field}",
                "{field}",
                why,
                separator,
                direction.name,
                words,
                plain_choices or None,
                several,
                parameter.place,
            ),
        )

    def made(style: tuple[str, str, str], why: Reason) -> Sorting:
        ascending, descending, _ = style
        among = tuple(name for name in names if descending.replace("{field}", name) in choices) if choices else ()
        joined = None if separator == "," and "," in descending else separator
        joined = AS_JSON if descending.startswith('{"') else joined
        return Sorting(
            parameter.name,
            ascending,
            descending,
            why,
            joined,
            fields=among or plain_choices or None,
            several=several and not descending.startswith("["),
            place=parameter.place,
        )

    if parameter.name == "$orderby":
        why = Reason("the list takes $orderby, as OData has it", "stated")
        return (made(("{field} asc", "{field} desc", ""), why),)
    for style in _STYLES if said else ():
        found = re.search(style[2].replace("FIELD", pattern), said, re.I if "_" not in style[1] else 0)
        if found and re.search(r"(?<![a-z])(?:ASC|DESC)\b", found[0]):
            # the words are written as they are shown
            style = tuple(re.sub(r"\b(?:asc|desc)(?=\"?[}\]]?$)", lambda word: word[0].upper(), each) for each in style)  # type: ignore[assignment]
        if found:
            return (made(style, Reason(f"the description of {parameter.name} shows {style[1]}", "likely")),)
    why = Reason(f"the list takes {parameter.name}, whose form the contract does not describe", "guess")
    return tuple(made(style, why) for style in _USUAL)


def _other_sort(sort: Parameter, known: Mapping[str, Parameter]) -> Parameter | None:
    """Another parameter that is named as one for an order, where nothing says which of the two takes the field."""
    both = [known[word] for word in ("sort", "sortby", "orderby") if word in known]
    others = [each for each in both if each is not sort]
    silent = sort in both and len(both) == 2 and not any(said_of(each) or choices_of(each) for each in both)
    return others[0] if silent else None


def _either(sort: Parameter, other: Parameter, names: Sequence[str]) -> tuple[Sorting, ...]:
    """The field in one of two parameters and the direction in the other, to be tried; and each alone."""
    found = []
    for field, direction in ((sort, other), (other, sort)):
        why = Reason(f"the list takes {field.name} and {direction.name}, which the contract does not describe", "guess")
        for words in (("asc", "desc"), ("ASC", "DESC")):
            by = (direction.name, words, None, False, field.place)
            found.append(Sorting(field.name, "{field}", "{field}", why, None, *by))
    return (*found, *_sortings(sort, None, names), *_sortings(other, None, names))


def _sorting_by_member(parameter: Parameter, names: Sequence[str]) -> Sorting | None:
    """An object of fields with a direction each, in brackets: ``sort[field]=desc`` (OpenAPI 3.1, 4.8.12:
    ``deepObject``), or as JSON."""
    whole = shape_of(parameter.schema)
    members = shape_of(whole.item).properties if whole.is_array else whole.properties
    among = tuple(name for name in names if name in members)
    as_json = is_json_type(parameter.media_type)
    if not among or not (parameter.style == "deepObject" or as_json):
        return None
    shape = shape_of(members[among[0]])
    numbers = bool(shape.types) and shape.types <= {"integer", "number"}
    choices = [str(each) for each in shape.keywords.get("enum") or (["1", "-1"] if numbers else [])]
    ascending, descending = _words_among(choices)
    why = Reason(f"{parameter.name} has a member for each field", "stated")
    if as_json:
        up, down = (json.dumps({"{field}": word}) for word in (ascending, descending))
        several = parameter.name.endswith(APPENDED)
        return Sorting(parameter.name, up, down, why, None, fields=among, several=several, place=parameter.place)
    name = f"{parameter.name}[{{field}}]"
    return Sorting(name, ascending, descending, why, None, fields=among, several=True, place=parameter.place)


def _sorting_by_parameter(operation: Operation, names: Sequence[str]) -> Sorting | None:
    """A parameter for each field that takes a direction: ``orderby.field=desc``, ``sort[field]=desc``."""
    found: dict[str, dict[str, Parameter]] = {}
    for parameter in operation.parameters:
        if parameter.location != "query" or not _is_direction(choices_of(parameter)):
            continue
        for name in names:
            at = re.search(rf"(?<=[._\[:-]){re.escape(name)}(?=\]?$)", parameter.name)
            if at is not None:
                written = parameter.name[: at.start()] + "{field}" + parameter.name[at.end() :]
                found.setdefault(written, {})[name] = parameter
    if not found:
        return None
    written, by_name = max(found.items(), key=lambda each: len(each[1]))
    first = next(iter(by_name.values()))
    ascending, descending = _words_among(choices_of(first))
    why = Reason(f"the list takes {written.replace('{field}', 'FIELD')} with a direction", "stated")
    return Sorting(written, ascending, descending, why, None, fields=tuple(by_name), place=first.place)


def _is_direction(choices: Sequence[str]) -> bool:
    """Whether a parameter takes an ascending and a descending direction, and little else."""
    words = {normal(each) for each in choices}
    return (
        len(words) <= 4
        and any(each.startswith("asc") for each in words)
        and any(each.startswith("desc") for each in words)
    )


def _direction_words(direction: Parameter) -> tuple[str, str]:
    """The words for an ascending and a descending order."""
    flag = _FLAGS.fullmatch(normal(direction.name)) if _is_flag(direction) else None
    if flag is not None:
        return ("true", "false") if flag["up"] else ("false", "true")
    return _words_among(choices_of(direction))


def _is_flag(parameter: Parameter) -> bool:
    return shape_of(parameter.schema).types == {"boolean"}


def _words_among(choices: Sequence[str]) -> tuple[str, str]:
    ascending = next((each for each in choices if normal(each).startswith("asc") or each == "1"), "asc")
    descending = next((each for each in choices if normal(each).startswith("desc") or each == "-1"), "desc")
    return ascending, descending


# -- fields and totals -----------------------------------------------------------------------------


def _selecting(parameter: Parameter, names: Sequence[str]) -> Selecting:
    choices = tuple(each for each in choices_of(parameter) if each in names)
    why = Reason(f"the list takes {parameter.name}", "likely")
    return Selecting(parameter.name, why, joined_by(parameter), choices or None, parameter.place)


def _counting(operation: Operation, parameter: Parameter | None) -> Counting | None:
    if parameter is not None:
        shape = shape_of(parameter.schema)
        choices = choices_of(parameter)
        if "boolean" in shape.types or (not choices and shape.types <= {"string"}):
            return Counting(
                parameter.name, "true", Reason(f"the list takes {parameter.name}", "likely"), place=parameter.place
            )
        for word in ("exact", "true", "total", "1"):
            if word in choices:
                why = Reason(f"the list takes {parameter.name}={word}", "likely")
                return Counting(parameter.name, word, why, place=parameter.place)
    for each in operation.parameters:
        if (
            each.location == "header"
            and each.name.lower() == "prefer"
            and "count=exact" in said_of(each) + " ".join(choices_of(each))
        ):
            why = Reason("the list takes a preference (RFC 7240) for the count", "stated")
            return Counting("Prefer", "count=exact", why, True, each.place)
    return None


# -- aggregates ------------------------------------------------------------------------------------

_OData: dict[Function, str] = {
    "count": "$count as {alias}",
    "distinct": "{field} with countdistinct as {alias}",
    "sum": "{field} with sum as {alias}",
    "avg": "{field} with average as {alias}",
    "min": "{field} with min as {alias}",
    "max": "{field} with max as {alias}",
}


def _aggregating(
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
        found = _functions(operation, names)
        if found is not None:
            return found
        if normal(rest) == "count":
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
    group = next((each for each in queries if normal(each.name) in _GROUPS and each.name not in names), None)
    functions: dict[Function, str] = {}
    parameter = ""
    separator: str | None = ","
    fields: dict[Function, tuple[str, ...]] = {}
    for each in queries:
        function = function_of(each.name)
        if each.name in names:
            continue
        shows = normal(each.name) in _SELECTS and re.search(r"\b(?:sum|avg|min|max)\(\w+\)", said_of(each))
        if normal(each.name) in _MEASURES or (shows and group is not None):
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
    for expression, template in forms:
        found = [each for each in re.finditer(expression, text) if function_of(each["fn"])]
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


# -- what the profile says -------------------------------------------------------------------------


def _frozen(said: Mapping[str, Any]) -> dict[str, Any]:
    return {key: tuple(each) if isinstance(each, list) else each for key, each in said.items()}


def stated_over(described: Queries, stated: Mapping[str, Any], collection: str) -> Queries:
    """The profile's spellings in the place of those that the contract suggests."""
    why = Reason("the profile says so", "stated")
    filterings, sortings = described.filterings, described.sortings
    selecting, counting, aggregating = described.selecting, described.counting, described.aggregating
    if "filter" in stated:
        said: dict[str, Any] = dict(stated["filter"] or {})
        operators = said.pop("operators", {})
        parameter = said.pop("parameter", "")
        form = said.pop("form", "expression" if parameter else "parameters")
        renamed = {"and": "conjunction", "or": "disjunction", "not": "negation"}
        more: dict[str, Any] = {
            str(renamed.get(key, key)): tuple(each) if isinstance(each, list) else each for key, each in said.items()
        }
        if "bare" in more:
            more["bare"] = frozenset(more["bare"])
        templates = {(ANY, operator): text for operator, text in operators.items()}
        filterings = (Filtering(form, templates, why, parameter, **more),) if operators else ()
    if "sort" in stated:
        said = dict(stated["sort"] or {})
        parameter = said.pop("parameter", "sort")
        ascending, descending = said.pop("ascending", "{field}"), said.pop("descending", "{field}")
        more = _frozen(said)
        sortings = (Sorting(parameter, ascending, descending, why, **more),) if stated["sort"] else ()
    if "select" in stated:
        said = dict(stated["select"] or {})
        selecting = Selecting(said.pop("parameter", "fields"), why, **said) if stated["select"] else None
    if "count" in stated:
        said = dict(stated["count"] or {})
        parameter = said.get("header") or said.get("parameter", "count")
        value = str(said.get("value", "true"))
        counting = Counting(parameter, value, why, "header" in said) if stated["count"] else None
    if "aggregate" in stated:
        said = dict(stated["aggregate"] or {})
        path = said.pop("path", collection).replace("{collection}", collection)
        more = _frozen(said)
        functions = more.pop("functions", {})
        aggregating = Aggregating(path, functions, why, **more) if functions else None
    return Queries(filterings, sortings, selecting, counting, aggregating)
