"""A POST beside a list that lists the same rows as its body asks for them, as ``POST /lots/search``."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.model.envelopes import rows_pointer
from checkpost.model.operations import answer_schema, asked_by_body, body_schema
from checkpost.model.paths import plain
from checkpost.model.resource import Paging
from checkpost.model.shape import same_place, shape_of
from checkpost.model.spelling import Queries

#: What its path is called behind the list's own.
_SEARCHES = frozenset({"search", "query", "filter", "find", "list", "select", "lookup", "advancedsearch"})


@dataclass(frozen=True)
class Posted:
    """The operation, the members of its body that ask for rows, and what those can ask."""

    operation: Operation
    members: frozenset[str]
    queries: Queries


def posted_search(
    name: str,
    collection: str,
    rows: tuple[str, Node | None],
    paging: Paging,
    beside: Iterable[Operation],
    understand: Callable[[Operation | None], Queries],
) -> Posted | None:
    """The first of the operations ``beside`` a list that is a search of it: its answer has the same rows at the same
    place (``rows``: a JSON Pointer and their schema), it takes the list's own parameters for pages, and a condition or
    an order as ``understand`` reads its parameters. None where there is none."""
    for operation in _named_so(collection, beside):
        asking, members = asked_by_body(operation)
        shown = rows_pointer(answer_schema(operation), name)
        if shown is None or shown[0] != rows[0] or not _alike(shown[1], rows[1]) or not _pages_as(asking, paging):
            continue
        queries = understand(asking)
        if queries.filterings or queries.sortings:
            return Posted(operation, members, queries)
    return None


def _named_so(collection: str, operations: Iterable[Operation]) -> Iterator[Operation]:
    """POSTs at a path that is called a search, whose bodies need hold nothing, and that do not begin work (202)."""
    for operation in operations:
        head, _, word = plain(operation.path).rpartition("/")
        named = head == plain(collection) and re.sub(r"[^a-z]", "", word.lower()) in _SEARCHES
        later = any(each.status == "202" for each in operation.responses)
        body = body_schema(operation) if operation.method == "POST" and named and not later else None
        if body is not None and not shape_of(body).required:
            yield operation


def _alike(one: Node | None, other: Node | None) -> bool:
    """Whether the rows of two lists have the same fields."""
    return same_place(one, other) or shape_of(one).properties.keys() == shape_of(other).properties.keys()


def _pages_as(operation: Operation | None, paging: Paging) -> bool:
    """Whether an operation takes the parameters by which a list is read page by page."""
    names = {each.name for each in operation.parameters} if operation is not None else set()
    return {paging.limit, paging.position, paging.cursor} - {None} <= names
