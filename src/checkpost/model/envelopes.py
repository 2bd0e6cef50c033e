"""Where rows, totals and next links stand in a list's body, and what a single row is wrapped in."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node, Unresolved
from checkpost.contract.pointer import join, tokens
from checkpost.model.paths import normal
from checkpost.model.shape import Shape, alternatives, shape_of

_DEEPEST = 3
_ROWS = ("data", "items", "results", "rows", "records", "value", "values", "content", "list", "entries", "resource")
#: The nouns that lists have for their rows, as in "total items".
ROW_NOUNS = (
    "count",
    "items",
    "rows",
    "records",
    "elements",
    "results",
    "docs",
    "documents",
    "entries",
    "objects",
    "hits",
)
#: The number of rows that a filter finds goes before that of all rows, where an answer has both.
_TOTAL = (
    "filtercount",
    "filteredcount",
    "filteredtotal",
    "totalfiltered",
    "recordsfiltered",
    "total",
    *(f"total{noun}" for noun in ROW_NOUNS),
    "odatacount",
    "count",
    "rowcount",
    "recordcount",
)
#: The names of links to the next page.
NEXT_LINKS = ("next", "nextlink", "nexturl", "nextpage", "nextpageurl", "odatanextlink", "nexthref")


def _members(shape: Shape, pointer: str = "", depth: int = 0) -> Iterator[tuple[str, str, Shape]]:
    """The members of an object, and of objects in it: pointer, name, shape; the outer ones first."""
    inner = []
    for name, node in shape.properties.items():
        member = shape_of(node)
        yield join(pointer, name), name, member
        if depth + 1 < _DEEPEST and member.is_object:
            inner.append((join(pointer, name), member))
    for deeper, member in inner:
        yield from _members(member, deeper, depth + 1)


def _rank(name: str, preferred: Iterable[str]) -> int:
    order = [normal(each) for each in preferred]
    return order.index(normal(name)) if normal(name) in order else len(order)


def _has_key(shape: Shape) -> bool:
    """Whether an object has a member that is named as keys are."""
    return any(normal(name) in {"id", "uuid", "guid", "pk"} for name in shape.properties)


def rows_pointer(schema: Node | None, resource: str) -> tuple[str, Node | None] | None:
    """Where a list's rows stand and the schema of one; None where the schema does not say."""
    shape = shape_of(schema)
    if shape.is_array:
        row = shape_of(shape.item)
        return ("", shape.item) if row.is_object or not row.types else None
    names = (resource, *_ROWS)
    members = list(_members(shape))
    # what has a key is a row, and an array in it holds no rows of the list
    rows = [("", shape), *((pointer, member) for pointer, _, member in members)]
    within = tuple(f"{pointer}/" for pointer, member in rows if _has_key(member))
    candidates = [
        (pointer.count("/"), _rank(name, names), pointer, member.item)
        for pointer, name, member in members
        if member.is_array
        and (member.item is None or shape_of(member.item).is_object)
        and not pointer.startswith(within)
    ]
    if not candidates:
        return None
    # an array under a name that lists use, else the only array of objects there is
    known = [each for each in candidates if each[1] < len(names)]
    if not known and len(candidates) > 1:
        return None
    _, _, pointer, item = min(known or candidates, key=lambda each: each[:3])
    return pointer, item if item is not None else _item_of_one(schema, pointer)


def _item_of_one(schema: Node | None, pointer: str) -> Node | None:
    """The schema of a row at a place that holds one row or an array of them."""
    for name in tokens(pointer):
        schema = shape_of(schema).properties.get(name)
    arrays = [shape_of(each) for each in alternatives(schema)]
    return next((each.item for each in arrays if each.item is not None), None)


def most_rows(schema: Node | None, pointer: str) -> int | None:
    """The most rows that an answer may have at a place; None where the schema does not limit them."""
    for name in tokens(pointer):
        schema = shape_of(schema).properties.get(name)
    most = shape_of(schema).keywords.get("maxItems")
    return most if isinstance(most, int) else None


def further_rows(schema: Node | None, resource: str, known: str) -> tuple[str, ...]:
    """The places for rows beside the ``known`` one, where a list answers in one of several shapes: bare where all are
    asked for, say, and in an object where a page is."""
    found = [rows_pointer(each, resource) for each in alternatives(schema)]
    return tuple(dict.fromkeys(each[0] for each in found if each is not None and each[0] != known))


def rows_by_key(schema: Node | None) -> tuple[str, Node | None] | None:
    """Where a list's rows stand as the members of an object, by their keys, and the schema of one; None where the
    schema has no such place."""
    shape = shape_of(schema)
    for pointer, member in [("", shape), *((pointer, member) for pointer, _, member in _members(shape))]:
        further = member.keywords.get("additionalProperties")
        if isinstance(further, dict) and not member.properties and schema is not None:
            row = further_members(schema, pointer)
            if row is not None and shape_of(row).properties:
                return pointer, row
    return None


def further_members(schema: Node, pointer: str = "") -> Node | None:
    """The schema of the members that an object at a place may have beside those that are named."""
    node = schema
    for name in tokens(pointer):
        node = shape_of(node).properties[name]
    try:
        node = node.resolved()
    except Unresolved:
        return None
    return node.child("additionalProperties") if isinstance(node.raw("additionalProperties"), dict) else None


_KEYS = ("ids", "keys", "pks", "uuids")


def keys_pointer(schema: Node | None) -> str:
    """Where the keys of rows stand in an array beside them; "" where they do not."""
    for pointer, name, member in _members(shape_of(schema)):
        types = shape_of(member.item).types - {"array"} if member.is_array else frozenset()  # arrays: of several parts
        if normal(name) in _KEYS and types and types <= {"string", "integer", "number"}:
            return pointer
    return ""


def total_pointer(schema: Node | None, rows: str = "") -> str | None:
    """Where the number of all rows stands; it may be named after the member with the ``rows`` (a JSON Pointer)."""
    noun = normal(rows.rpartition("/")[2])
    known = (*_TOTAL, *((f"total{noun}", f"{noun}total", f"{noun}count") if noun else ()))
    candidates = [
        (_rank(name, known), pointer)
        for pointer, name, member in _members(shape_of(schema))
        if normal(name) in known and member.types & {"integer", "number", "string"}
    ]
    return min(candidates, default=(0, _beside_pages(shape_of(schema))))[1]


def _beside_pages(shape: Shape) -> str | None:
    """Where a bare noun for rows counts all of them, as ``pages`` beside it counts all pages."""
    counts = {pointer: name for pointer, name, member in _members(shape) if member.types == {"integer"}}
    nouns = (each for each, name in counts.items() if normal(name) in ROW_NOUNS)
    return next((each for each in nouns if f"{each.rpartition('/')[0]}/pages" in counts), None)


def next_pointer(schema: Node | None) -> str | None:
    """Where the link to the next page stands."""
    candidates = [
        (_rank(name, NEXT_LINKS), pointer)
        for pointer, name, member in _members(shape_of(schema))
        if normal(name) in NEXT_LINKS and "string" in member.types
    ]
    return min(candidates, default=(0, None))[1]


_CURSORS = ("nextcursor", "nexttoken", "nextpagetoken", "cursor", "continuationtoken", "endcursor", "next", "after")
#: Headers that give the number of all rows.
TOTAL_HEADERS = ("x-total-count", "x-total", "total-count", "x-pagination-total", "x-total-results", "content-range")


def cursor_pointer(schema: Node | None, tokens: Collection[str] = ()) -> str | None:
    """Where the token for the next page stands: under a name that tokens have, or one of ``tokens``."""
    names = (*_CURSORS, *tokens)
    candidates = [
        (_rank(name, names), pointer)
        for pointer, name, member in _members(shape_of(schema))
        if normal(name) in names and "string" in member.types
    ]
    return min(candidates, default=(0, None))[1]


def total_header(operation: Operation | None) -> str:
    """The documented header of a list's answer that gives the number of all rows; "" where there is none."""
    names = [header.name for response in (operation.success() if operation else ()) for header in response.headers]
    known = [name for name in names if name.lower() in TOTAL_HEADERS]
    return min(known, key=lambda name: TOTAL_HEADERS.index(name.lower()), default="")


def has_links(operation: Operation | None) -> bool:
    """Whether a list's answer has a documented Link header."""
    answers = operation.success() if operation else ()
    return any(header.name.lower() == "link" for response in answers for header in response.headers)


#: Members that a record in a request may have to stand in.
RECORD_MEMBERS = ("data", "record", "item", "row", "values", "fields", "attributes", "object", "entity", "input")


def lone_member(schema: Node | None, names: frozenset[str]) -> str | None:
    """The one member of a request's body that is for a record whose fields, ``names``, it does not describe: a JSON
    Pointer; None where there is none. Beside it may stand what is no field."""
    shape = shape_of(schema)
    holding = [each for each in shape.properties if each in set(RECORD_MEMBERS) - names]
    if len(holding) != 1 or shape.properties.keys() & names:
        return None
    inside = shape_of(shape.properties[holding[0]])
    if len(shape.properties) > 1 and (inside.properties or shape.required - set(holding)):
        return None
    return join("", holding[0]) if not inside.types or inside.types & {"object", "array"} else None


#: Members that hold the row in an answer about one, and what may stand beside it there.
_WRAPPED = frozenset({"data", "result", "record", "item", "value"})
_ABOUT = frozenset(
    {"jsonapi", "meta", "links", "included", "success", "status", "message", "msg", "code", "error", "errors"}
)


#: Members that look like a row and choose rows.
_CHOOSING = frozenset(
    {"filter", "where", "query", "search", "match", "criteria", "condition", "conditions", "selector"}
)


def row_pointer(schema: Node | None, names: frozenset[str], in_lists: bool = False) -> str | None:
    """Where one row with fields of these names stands in a body; None where there is none. ``in_lists`` takes a list
    of rows for one too.

    A place counts if at least half of its members, and two or all of the names, agree.
    """
    shape = shape_of(schema)
    if not names:
        wrapped = _WRAPPED & shape.properties.keys()
        if len(wrapped) == 1 and not shape.properties.keys() - _WRAPPED - _ABOUT:
            name = next(iter(wrapped))
            if shape_of(shape.properties[name]).properties:
                return f"/{name}"
        return "" if shape.properties else None
    best: tuple[float, bool, int, str] | None = None
    for pointer, name, member in [("", "", shape), *_members(shape)]:
        members = set(member.properties)
        if in_lists and not members and member.is_array:
            members = set(shape_of(member.item).properties)
        common = len(names & members)
        if not common or common < min(2, len(names)):
            continue
        score = common / max(1, min(len(names), len(members)))
        candidate = (-score, normal(name) in _CHOOSING, pointer.count("/"), pointer)
        if score >= 0.5 and (best is None or candidate < best):
            best = candidate
    if best is None and not in_lists:
        return None
    return best[3] if best else lone_member(schema, names)
