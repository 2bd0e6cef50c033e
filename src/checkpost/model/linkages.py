"""Relationships that have a path of their own, by which two rows are brought together and apart (JSON:API 1.1, 9.5)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.model.field import Reason
from checkpost.model.layout import of_kind
from checkpost.model.media import is_json_type
from checkpost.model.nearby import Nearby
from checkpost.model.paths import PARAMETER, nameless, normal, plain, singular
from checkpost.model.resource import Linkage, Resource
from checkpost.model.shape import Shape, shape_of

_WRITES = ("PATCH", "PUT", "POST", "DELETE")
_HEAD = "relationships/"
#: What an identifier of a row holds (JSON:API 1.1, 7.3), and nothing else.
_IDENTIFIER = {"type", "id", "lid", "meta"}


def linkages_of(resource: Resource, others: Mapping[str, Resource], operations: Nearby) -> Iterator[Linkage]:
    """The relationships of a resource's rows that have a path under a row, each with the resource that it leads to."""
    if resource.item is None or not resource.layout.type_name:
        return
    base = nameless(plain(resource.item)) + "/"
    by_path = operations.beside(resource.item)
    for path, methods in by_path.items():
        writes = {method: methods[method] for method in _WRITES if method in methods}
        if not nameless(plain(path)).startswith(base) or not writes:
            continue
        rest = plain(path).split("/", base.count("/"))[-1]
        data = {method: _data(operation) for method, operation in writes.items()}
        if not rest.startswith(_HEAD) and not any(each and _is_identifier(each) for each in data.values()):
            continue  # the rows themselves, and no more than named
        ending = rest.removeprefix(_HEAD)
        name = "" if PARAMETER.fullmatch(ending) else ending
        if "/" in ending or "{" in name:
            continue
        other = (other_of(resource, name, others) if name else None) or ""
        beside = by_path.get(f"{plain(resource.item)}/{ending}", {}) if rest != ending and not name else {}
        yield _linkage(path, name, other, methods.get("GET"), writes, data, beside.get("GET"))


def _linkage(
    path: str,
    name: str,
    other: str,
    read: Operation | None,
    writes: Mapping[str, Operation],
    data: Mapping[str, Shape | None],
    related: Operation | None,
) -> Linkage:
    said = [each for each in (*data.values(), _data_shown(read)) if each is not None]
    many: bool | None = None
    if any(each.is_array and not each.properties for each in said):
        many = True  # others may take one at a time
    elif said and not any(each.is_array for each in said):
        many = False
    # a body that is described as anything but identifiers is not described
    listed = {method for method, each in data.items() if each is None or each.is_array or not _is_identifier(each)}
    form = {True: "many rows", False: "one row", None: "rows"}[many]
    why = Reason(f"{path} takes {form} of {other or 'what rows show'}", "likely" if many is not None else "guess")
    # a parameter stands for relationships of either kind, whatever is said of bodies
    return Linkage(path, name, other, many if name else None, read, writes, frozenset(listed), why, related)


def _data(operation: Operation) -> Shape | None:
    """What the body of a request holds as ``data``; None where nothing is said of it."""
    bodies = [each.schema for each in (operation.body.content if operation.body else ()) if is_json_type(each.name)]
    return _member(bodies[0]) if bodies else None


def _data_shown(operation: Operation | None) -> Shape | None:
    for response in operation.success() if operation is not None else ():
        for media in response.content:
            if is_json_type(media.name):
                return _member(media.schema)
    return None


def _member(schema: Node | None) -> Shape | None:
    node = shape_of(schema).properties.get("data")
    shape = shape_of(node)
    return shape if node is not None and (shape.is_array or shape.properties) else None


def _is_identifier(data: Shape) -> bool:
    members = set((shape_of(data.item) if data.is_array else data).properties)
    return {"type", "id"} <= members <= _IDENTIFIER


def other_of(resource: Resource, name: str, others: Mapping[str, Resource], kind: str | None = None) -> str | None:
    """The resource that a relationship leads to: by the ``kind`` of row that is named there, else by its name."""
    kind = kind or resource.layout.linked.get(name)
    if kind is not None and (found := of_kind(kind, {each: other.layout for each, other in others.items()})):
        return found
    word = normal(singular(re.sub(r"[_-]?ids?$", "", name)))
    alike = [each for each in others if normal(singular(each.rpartition("/")[2])) == word]
    return alike[0] if len(alike) == 1 else None
