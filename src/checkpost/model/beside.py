"""A search beside a list that lists the same rows: ``POST /lots/search`` as its body asks for them, or
``GET /lots/search?q=…`` by a text."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.model.envelopes import rows_pointer
from checkpost.model.field import Reason
from checkpost.model.operations import answer_schema, asked_by_body, body_schema
from checkpost.model.paths import plain
from checkpost.model.resource import Paging
from checkpost.model.shape import same_place, shape_of
from checkpost.model.spelling import Queries, Searching

#: What its path is called behind the list's own.
_SEARCHES = frozenset({"search", "query", "filter", "find", "list", "select", "lookup", "advancedsearch"})


@dataclass(frozen=True)
class Beside:
    """The operation, the parameters of its own that ask for rows, which of them stand in its body, and what the list
    and it can be asked together."""

    operation: Operation
    parameters: frozenset[str]
    in_body: frozenset[str]
    queries: Queries


def search_beside(
    name: str,
    listing: Operation,
    queries: Queries,
    rows: tuple[str, Node | None],
    paging: Paging,
    operations: Iterable[Operation],
    understand: Callable[[Operation | None], Queries],
) -> Beside | None:
    """The first of the operations behind a list's path that is a search of it: its answer has the same rows at the same
    place (``rows``: a JSON Pointer and their schema), it takes the list's own parameters for pages, and what the list
    itself does not: a condition or an order in its body, as ``understand`` reads that, or a text. None where there is
    none."""
    own = {each.name for each in listing.parameters}
    for operation in _named_so(listing.path, operations):
        asking, members = asked_by_body(operation)
        shown = rows_pointer(answer_schema(operation), name)
        if shown is None or shown[0] != rows[0] or not _alike(shown[1], rows[1]) or not _pages_as(asking, paging):
            continue
        if operation.method == "GET" and queries.searching is None and (text := _text_of(operation)):
            found = Searching(text, Reason(f"{operation} takes {text}", "likely"))
            return Beside(operation, frozenset({text}) - own, frozenset(), replace(queries, searching=found))
        if operation.method == "POST" and not (queries.filterings or queries.sortings):
            wider = understand(asking)
            if wider.filterings or wider.sortings:
                return Beside(operation, members - own, members, wider)
    return None


def _named_so(collection: str, operations: Iterable[Operation]) -> Iterator[Operation]:
    """GETs at a path that is called a search, and POSTs whose bodies need hold nothing, and that do not begin work
    (202)."""
    for operation in operations:
        head, _, word = plain(operation.path).rpartition("/")
        if head != plain(collection) or re.sub(r"[^a-z]", "", word.lower()) not in _SEARCHES:
            continue
        later = any(each.status == "202" for each in operation.responses)
        body = body_schema(operation) if operation.method == "POST" and not later else None
        if operation.method == "GET" or (body is not None and not shape_of(body).required):
            yield operation


def _text_of(operation: Operation) -> str:
    """The one parameter that an operation needs, where it is a text; "" where there is none."""
    needed = [each for each in operation.parameters if each.required and each.location != "path"]
    shape = shape_of(needed[0].schema) if len(needed) == 1 and needed[0].location == "query" else None
    plain_text = shape is not None and shape.types == {"string"} and not {"enum", "format"} & shape.keywords.keys()
    return needed[0].name if plain_text else ""


def _alike(one: Node | None, other: Node | None) -> bool:
    """Whether the rows of two lists have the same fields."""
    return same_place(one, other) or shape_of(one).properties.keys() == shape_of(other).properties.keys()


def _pages_as(operation: Operation | None, paging: Paging) -> bool:
    """Whether an operation takes the parameters by which a list is read page by page."""
    names = {each.name for each in operation.parameters} if operation is not None else set()
    return {paging.limit, paging.position, paging.cursor} - {None} <= names
