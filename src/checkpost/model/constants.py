"""What every request of an operation carries since the contract requires it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.choices import choices_of
from checkpost.model.paths import normal
from checkpost.model.preference import SHOW_THE_ROW, asks_for_the_row
from checkpost.model.resource import Constants
from checkpost.model.shape import shape_of

#: Headers that requests get elsewhere, whatever the contract says of them.
_OWN_HEADERS = {"authorization", "accept", "contenttype", "ifmatch", "ifnonematch", "idempotencykey", "xidempotencykey"}


#: Flags without which a list is not paged, as ``normal`` has them.
_PAGES_ON = {"pagination", "paginate", "paginated", "paging", "paged", "usepagination", "enablepagination", "withpages"}


def _turns_pages_on(parameter: Parameter) -> bool:
    shape = shape_of(parameter.schema)
    flag = "boolean" in shape.types and shape.types <= {"boolean", "null"} and shape.keywords.get("default") is not True
    return flag and parameter.location == "query" and normal(parameter.name) in _PAGES_ON


def constants_of(operation: Operation, stated: Mapping[str, Any]) -> Constants:
    """The required query and header parameters of an operation, with what the profile or the contract's
    default, example or first choice gives them."""
    query: dict[str, Any] = {}
    headers: dict[str, str] = {}
    lacking = []
    for each in operation.parameters:
        own = each.location == "header" and normal(each.name) in _OWN_HEADERS
        wanted = each.required or each.name in stated or asks_for_the_row(each) or _turns_pages_on(each)
        if each.location not in {"query", "header"} or own or not wanted:
            continue
        words = shape_of(each.schema).keywords
        examples = words.get("examples") or choices_of(each)
        flag = True if _turns_pages_on(each) else None
        known = [stated.get(each.name), flag, words.get("default"), words.get("example"), *examples]
        value = next((value for value in known if isinstance(value, str | int | float)), None)
        if asks_for_the_row(each):
            headers[each.name] = SHOW_THE_ROW
            continue
        if value is None:
            lacking.append(each.name)
        elif each.location == "query":
            query[each.name] = str(value).lower() if isinstance(value, bool) else value
        else:
            headers[each.name] = str(value)
    return Constants(query, headers, tuple(lacking))
