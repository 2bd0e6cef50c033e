"""The primary key of a resource and how its list is read whole."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.paths import normal, parameters, singular
from checkpost.model.resource import Field, Key, Paging, Reason
from checkpost.model.shape import shape_of

_KEY_NAMES = ("id", "_id", "key", "uuid", "guid", "pk", "code")
_SAID = re.compile(r"\bprimary key\b", re.I)

_LIMITS = ("limit", "size", "pagesize", "perpage", "take", "top", "first", "count", "max", "maxresults", "pagelimit")
_OFFSETS = ("offset", "skip", "start", "pageoffset", "startindex", "from")
_PAGES = ("page", "pagenumber", "pageno", "pageindex", "p")


#: Names that mean paging even where the contract makes their values texts; ``from`` might be a date.
_SURE = {*_LIMITS[:5], *_OFFSETS[:2], *_PAGES[:2]}


def infer_key(resource: str, item: str | None, fields: Sequence[Field], stated: Sequence[str]) -> Key | None:
    """The fields of the key in the order of the item path's parameters; None where nothing fits."""
    names = parameters(item)
    by_name = {field.name: field for field in fields}
    if stated:
        known = [name for name in stated if name in by_name]
        if len(known) == len(stated):
            return Key(tuple(stated), names, _assigned(known, by_name), Reason("the profile says so", "stated"))
    if not names:
        marked = [field for field in fields if _SAID.search(str(field.keywords.get("description", "")))]
        usual = [field for field in fields if normal(field.name) in {"id", normal(singular(resource)) + "id"}]
        chosen = marked or usual[:1]
        if not chosen:
            return None
        why = "its description says primary key" if marked else "a field of that name is usually the key"
        key = [field.name for field in chosen]
        return Key(tuple(key), (), _assigned(key, by_name), Reason(why, "likely" if marked else "guess"))
    key = []
    reasons = []
    for parameter in names:
        field, reason = _field_for(parameter, resource, fields, len(names))
        if field is None:
            return None
        key.append(field.name)
        reasons.append(reason)
    weakest = min(reasons, key=lambda reason: ("guess", "likely", "stated").index(reason.certainty))
    return Key(tuple(key), names, _assigned(key, by_name), weakest)


def _field_for(parameter: str, resource: str, fields: Sequence[Field], count: int) -> tuple[Field | None, Reason]:
    wanted = normal(parameter)
    for field in fields:
        if normal(field.name) == wanted:
            return field, Reason(f"the item path's parameter {{{parameter}}} has the name of the field", "stated")
    marked = [field for field in fields if _SAID.search(str(field.keywords.get("description", "")))]
    if count == 1 and len(marked) == 1:
        return marked[0], Reason("its description says primary key", "stated")
    stem = normal(singular(resource))
    for name in (*_KEY_NAMES, f"{stem}id", f"{stem}key", f"{stem}code"):
        for field in fields:
            if count == 1 and normal(field.name) == normal(name) and field.name.lower().strip("_") == name.strip("_"):
                return field, Reason(
                    f"the item path takes {{{parameter}}}, and {field.name} is usually a key", "likely"
                )
    for field in fields:
        if count == 1 and wanted and (wanted.endswith(normal(field.name)) or normal(field.name).endswith(wanted)):
            return field, Reason(f"the names of {{{parameter}}} and {field.name} end alike", "guess")
    return None, Reason("", "guess")


def _assigned(key: Sequence[str], fields: dict[str, Field]) -> Literal["server", "client", "either"]:
    chosen = [fields[name] for name in key]
    if all(field.created and field.required for field in chosen):
        return "client"
    return (
        "either"
        if any(field.created for field in chosen) and len(chosen) == 1
        else ("client" if all(field.created for field in chosen) else "server")
    )


def infer_paging(
    operation: Operation | None, next_pointer: str | None, stated: Mapping[str, Any] | None = None
) -> Paging:
    """How the list is read whole: as the profile states, else from its query parameters and its body."""
    if stated:
        style: Literal["offset", "page", "none"] = "none"
        if "offset" in stated or "page" in stated:
            style = "offset" if "offset" in stated else "page"
        position = stated.get("offset", stated.get("page"))
        why = Reason("the profile says so", "stated")
        return Paging(style, stated.get("limit"), position, stated.get("largest"), int(stated.get("start", 1)), why)
    queries = [each for each in operation.parameters if each.location == "query"] if operation else []
    limit, position = _find(queries, _LIMITS), _find(queries, _OFFSETS)
    page = _find(queries, _PAGES)
    most = shape_of(limit.schema).keywords.get("maximum") if limit else None
    largest = int(most) if isinstance(most, int | float) else None
    named = limit.name if limit else None
    if position is not None and limit is not None:
        why = Reason(f"the list takes {limit.name} and {position.name}", "likely")
        return Paging("offset", named, position.name, largest, 0, why)
    if page is not None:
        keywords = shape_of(page.schema).keywords
        start = keywords.get("default", keywords.get("minimum", 1))
        why = Reason(f"the list takes {page.name}", "likely")
        return Paging("page", named, page.name, largest, start if isinstance(start, int) else 1, why)
    if next_pointer is not None:
        return Paging("next", named, None, largest, 1, Reason(f"the list's body links on at {next_pointer}", "likely"))
    return Paging("none", named, None, largest)


def _find(queries: Sequence[Parameter], names: Sequence[str]) -> Parameter | None:
    """The parameter with the likeliest of the names that takes a number, or may take one."""
    for name in names:
        for parameter in queries:
            shape = shape_of(parameter.schema)
            counts = shape.types <= {"integer", "number"} or (shape.types == {"string"} and name in _SURE)
            if normal(parameter.name) == name and counts:
                return parameter
    return None
