"""How a list is read whole, told from its parameters, headers and body."""

from __future__ import annotations

import re
from collections.abc import Container, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.field import Reason
from checkpost.model.paths import normal
from checkpost.model.resource import Paging
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of

_LIMITS = ("limit", "size", "pagesize", "perpage", "take", "top", "first", "count", "max", "maxresults", "pagelimit")
#: Those of them that say how large a page is.
_SIZES = ("size", "pagesize", "perpage")
_OFFSETS = ("offset", "skip", "start", "pageoffset", "startindex", "from")
_PAGES = ("page", "pagenumber", "pageno", "pageindex", "currentpage", "pagenum", "p")
_CURSORS = (
    "cursor",
    "pagetoken",
    "pagecursor",
    "continuationtoken",
    "continuation",
    "nexttoken",
    "pageafter",
    "after",
    "startingafter",
    "token",
)
#: Names that mean paging even where the contract makes their values texts; ``from`` might be a date.
_SURE = {*_LIMITS[:5], *_OFFSETS[:2], *_PAGES[:2]}


#: From how many parameters named as fields on they are taken for filters, whatever their names say of pages.
_FILTERS = 3
#: Words of a parameter that has to do with pages.
_PAGED = re.compile(
    r"\b(?:pages?|paginat\w*|per page|limit|maximum number|number of (?:rows|items|results|records))\b", re.I
)
#: A maximum from here on is that of a type, and no page's.
_OF_A_TYPE = 2**31 - 1


def infer_paging(
    operation: Operation | None,
    next_pointer: str | None,
    cursor_pointer: str | None,
    stated: Mapping[str, Any],
    most_items: int | None = None,
    shown: Mapping[str, Any] | None = None,
    fields: Container[str] = (),
) -> Paging:
    """How the list is read whole: as the profile states, else as the contract suggests. ``most_items`` is the most rows
    that its answer may have, ``shown`` what was seen to page it where the contract describes nothing. Where several
    parameters are named as ``fields`` of rows are, those filter, be one named ``count`` or ``page``."""
    if stated:
        return _as_stated(stated, Reason("the profile says so", "stated"))
    if shown:
        why = Reason("the list was seen to heed it, though the contract does not describe it", "likely")
        return replace(_as_stated(shown, why), untold=True)
    queries = [each for each in operation.parameters if each.location == "query"] if operation else []
    filters = [each for each in queries if each.name in fields and not _PAGED.search(said_of(each))]
    if len(filters) >= _FILTERS:
        queries = [each for each in queries if each not in filters]
    limit, position, page = _find(queries, _LIMITS), _find(queries, _OFFSETS), _find(queries, _PAGES)
    if page is not None:
        # several ways on one list: a size goes with a page's number, a limit with an offset, or is one in all
        size = _find(queries, _SIZES)
        limit = size or limit
        if position is not None:
            position, page = (None, page) if size is not None else (position, None)
    largest = _most(limit, most_items) if limit else None
    named = limit.name if limit else None
    # a position that is a text, and that the body gives under its own name, is a token
    given = normal(cursor_pointer.rpartition("/")[2]) if cursor_pointer is not None else ""
    token = next((each for each in queries if normal(each.name) == given and given in tokens_of(operation)), None)
    if position is not None and limit is not None and token is None:
        why = Reason(f"the list takes {limit.name} and {position.name}", "likely")
        return Paging("offset", named, position.name, largest, 0, reason=why)
    if page is not None:
        keywords = shape_of(page.schema).keywords
        start = keywords.get("default", keywords.get("minimum", 1))
        why = Reason(f"the list takes {page.name}", "likely")
        return Paging("page", named, page.name, largest, start if isinstance(start, int) else 1, reason=why)
    cursor = token or next((each for name in _CURSORS for each in queries if normal(each.name) == name), None)
    ambiguous = cursor_pointer is not None and normal(cursor_pointer.rpartition("/")[2]) == "next"
    if cursor is not None and cursor_pointer is not None and not ambiguous:
        why = Reason(f"the list takes {cursor.name}, which its body gives at {cursor_pointer}", "likely")
        return Paging("cursor", named, None, largest, 1, cursor.name, cursor_pointer, "", why)
    if next_pointer is not None:
        why = Reason(f"the list's body links on at {next_pointer}", "likely")
        return Paging("next", named, None, largest, 1, cursor.name if cursor else None, "", "", why)
    headers = {
        header.name.lower() for response in (operation.success() if operation else ()) for header in response.headers
    }
    if "link" in headers:
        why = Reason("the list's answer has a Link header (RFC 8288)", "likely")
        return Paging("link", named, None, largest, 1, cursor.name if cursor else None, "", "", why)
    asked = next((each for each in (operation.parameters if operation else ()) if each.name.lower() == "range"), None)
    if asked is not None and asked.location == "header":
        unit = re.search(r"\b([a-z][\w-]*)=(?:\d|\\d|\[0-9\]|\(|<|\{)", said_of(asked))
        why = Reason("the list takes a Range header (RFC 9110, 14.2)", "stated")
        return Paging("range", None, None, _most_said(asked), 0, unit=unit[1] if unit else "", reason=why)
    return Paging("none", named, None, largest)


def _as_stated(stated: Mapping[str, Any], why: Reason) -> Paging:
    style: Literal["offset", "page", "none"] = "none"
    if "offset" in stated or "page" in stated:
        style = "offset" if "offset" in stated else "page"
    position = stated.get("offset", stated.get("page"))
    return Paging(style, stated.get("limit"), position, stated.get("largest"), int(stated.get("start", 1)), reason=why)


def tokens_of(operation: Operation | None) -> frozenset[str]:
    """The names of a list's positions that are texts, and so may be tokens that the page before gives."""
    queries = [each for each in operation.parameters if each.location == "query"] if operation else []
    texts = (normal(each.name) for each in queries if shape_of(each.schema).types == {"string"})
    return frozenset(name for name in texts if name in _OFFSETS)


def _most(limit: Parameter, most_items: int | None) -> int | None:
    """The largest size of a page: by the schema, by words, or by the most rows that an answer may have."""
    stated = shape_of(limit.schema).keywords.get("maximum")
    if isinstance(stated, int | float) and stated < _OF_A_TYPE:
        return int(stated)
    return _most_said(limit) or most_items


def _most_said(parameter: Parameter) -> int | None:
    """The largest number that words allow."""
    said = re.search(
        r"\b(?:at (?:the )?most|max(?:imum)?(?: (?:value|limit|size))?(?: (?:of|is))?|up to|no more than|cannot exceed)"
        r"[\s:=`.]*(\d+)\b",
        said_of(parameter),
        re.I,
    )
    return int(said[1]) if said else None


def _find(queries: Sequence[Parameter], names: Sequence[str]) -> Parameter | None:
    """The parameter with the likeliest of the names that takes a number, or may take one."""
    for name in names:
        for parameter in queries:
            shape = shape_of(parameter.schema)
            either = "string" in shape.types and shape.types & {"integer", "number"}
            text = shape.types == {"string"} and name in _SURE
            counts = shape.types <= {"integer", "number"} or either or text
            if normal(parameter.name) == name and counts:
                return parameter
    return None
