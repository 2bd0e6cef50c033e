"""What can be asked of a list, and how it is written: filters, order, fields, totals, aggregates."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.aggregating import GROUPS, MEASURES, aggregating_of
from checkpost.model.choices import SELECTS, choices_of, joined_by
from checkpost.model.field import Field, Reason
from checkpost.model.filters.filtering import filterings_of
from checkpost.model.nearby import Nearby
from checkpost.model.ordering import (
    FLAGS,
    either_order,
    is_flag,
    other_sort,
    says_direction,
    sorting_by_parameter,
    sortings_of,
)
from checkpost.model.paths import normal
from checkpost.model.resource import Paging
from checkpost.model.said import said_of
from checkpost.model.searching import searching_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import ANY, Aggregating, Counting, Filtering, Queries, Selecting, Sorting

_SORTS = (
    "sort",
    "sortby",
    "orderby",
    "order",
    "ordering",
    "sorting",
    "sorts",
    "sortfield",
    "sortcolumn",
    "sortkey",
    "ordercolumn",
    "orderfield",
)
_DIRECTIONS = ("direction", "dir", "sortdirection", "sortdir", "sortorder", "orderdir", "orderdirection", "order")
_COUNTS = ("count", "includetotal", "withtotal", "includecount", "withcount", "totalcount", "total", "counttotal")


def queries_of(
    collection: str | None,
    operation: Operation | None,
    operations: Nearby,
    fields: Sequence[Field],
    paging: Paging,
    stated: Mapping[str, Any],
    name: str,
    total: str | None = None,
) -> Queries:
    """What the list of a resource can be asked. ``stated`` is what the profile says of it, part by part; ``total`` is
    where the list's answer holds the number of rows (a JSON Pointer)."""
    if operation is None:
        return Queries()
    names = [each.name for each in fields if each.shown]
    by_name = {normal(each.name): _as_said(each) for each in reversed(operation.parameters) if each.location == "query"}
    own = {normal(each) for each in names}
    known = {word: each for word, each in by_name.items() if word not in own}
    taken = {paging.limit, paging.position, paging.cursor} - {None}
    known = {word: each for word, each in known.items() if not _is_number(each)}
    sort = _first(known, _SORTS)
    # a column may be called as the direction is
    named = [(word, by_name[word]) for word in _DIRECTIONS if word in by_name]
    ways = [each for word, each in named if word in known or says_direction(each)]
    direction = next((each for each in ways if each is not sort), None)
    direction = direction or next(
        (each for word, each in known.items() if FLAGS.fullmatch(word) and is_flag(each)), None
    )
    select = _first(known, SELECTS) or _of_type(operation, name) or _select_in_words(known)
    # what it is for stands first; behind it may be said what it leaves alone
    if select is not None and _OTHER_SELECTION.search(said_of(select).strip().partition("\n")[0]):
        select = None
    count = _first(known, _COUNTS)
    if count is not None and re.search(r"\b(?:only|instead|just)\b", said_of(count), re.I):
        count = None  # asks for a number in the place of rows
    counting = _counting(operation, count if count is None or count.name not in taken else None)
    counting = counting or _counting_by_member(known, total)
    aggregating = aggregating_of(collection, operation, operations, known, names)
    by_field = sorting_by_parameter(operation, names)
    beside = other_sort(sort, known) if sort is not None and direction is None else None
    used = [
        sort,
        direction,
        beside,
        select,
        known.get("or"),
        *(known.get(word) for word in (*GROUPS, *MEASURES, "apply")),
    ]
    taken |= {each.name for each in used if each is not None}
    taken |= {by_field.parameter.replace("{field}", name) for name in by_field.fields or ()} if by_field else set()
    if counting is not None:
        taken.add(counting.parameter)
    sortings: tuple[Sorting, ...] = ()
    if by_field is not None:
        sortings = (by_field,)
    elif sort is not None:
        sortings = either_order(sort, beside, names) if beside is not None else sortings_of(sort, direction, names)
    filterings = filterings_of(operation, fields, {each for each in taken if each and normal(each) != "or"})
    described = Queries(
        filterings,
        sortings,
        _selecting(select, names) if select is not None else None,
        counting,
        aggregating,
        searching_of(known, taken | {each.parameter for each in filterings}),
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


def _counting_by_member(known: Mapping[str, Parameter], total: str | None) -> Counting | None:
    """A parameter that is named like the object which holds the number of rows, and asks for members of it."""
    within, _, member = (total or "").rpartition("/")
    parameter = known.get(normal(within)) if within.count("/") == 1 else None
    if parameter is None or shape_of(parameter.schema).types - {"string", "array"}:
        return None
    choices = choices_of(parameter)
    if choices and member not in choices:
        return None
    why = Reason(f"{parameter.name} is named like the object that holds {member}", "likely")
    return Counting(parameter.name, member, why, place=parameter.place)


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
    return Queries(filterings, sortings, selecting, counting, aggregating, described.searching)
