"""Lists under an item: which rows of which resource they hold, and why those."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

from checkpost.contract.contract import Operation
from checkpost.model.expansions import connection
from checkpost.model.field import Field, Reason
from checkpost.model.media import is_json_type
from checkpost.model.nearby import Nearby
from checkpost.model.paths import nameless, normal, plain, singular
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Resource, Subcollection
from checkpost.model.shape import shape_of

#: Builds a resource from what stands at one path, as for a collection of its own.
View = Callable[[str, str], Resource | None]


def subcollections_of(
    resource: Resource, others: Mapping[str, Resource], operations: Nearby, view: View
) -> Iterator[Subcollection]:
    """What the contract lists under an item of a resource."""
    if resource.item is None:
        return
    base = nameless(plain(resource.item))
    by_path = operations.beside(resource.item)
    for path, methods in by_path.items():
        rest = plain(path).rpartition("/")
        if nameless(plain(rest[0])) != base or "{" in rest[2] or "GET" not in methods:
            continue
        seen = view(f"{resource.name}/{rest[2]}", path)
        child = _child(rest[2], seen, others) if seen is not None else None
        if seen is None or child is None:
            continue
        yield _understood(resource, child, rest[2], seen, others, by_path, path)


def _child(word: str, seen: Resource, others: Mapping[str, Resource]) -> Resource | None:
    """The resource whose rows a list shows: by the list's name, else by its fields."""
    names = {each.name for each in seen.fields}
    for other in others.values():
        own = {each.name for each in other.fields}
        if normal(word) in {normal(other.name), normal(singular(other.name))} and (not names or names & own):
            return other
    alike = [other for other in others.values() if names and {each.name for each in other.fields} == names]
    return alike[0] if len(alike) == 1 else None


def _understood(
    resource: Resource,
    child: Resource,
    word: str,
    seen: Resource,
    others: Mapping[str, Resource],
    by_path: Mapping[str, Mapping[str, Operation]],
    path: str,
) -> Subcollection:
    many = seen.envelope.rows is not None
    if many:
        via, through, far = connection(resource, child, others)
    else:
        own = [each.field for each in resource.relations if each.resource == child.name]
        via, through, far = (own[0] if len(own) == 1 else None), None, None
    # references that are addresses of rows are read and written as in the list of all
    links = {name: each for name, each in child.layout.hyperlinks.items() if seen.layout.plain}
    layout = replace(seen.layout, hyperlinks={**seen.layout.hyperlinks, **links})
    view = replace(seen, key=child.key, relations=child.relations, fields=_fields(seen, child), layout=layout)
    if not many:
        view = replace(view, operations={"read": by_path[path]["GET"]}, collection=None, item=path)
    link, unlink, linked_by = _links(path, by_path, view) if many else (None, None, "")
    if linked_by:
        view = replace(view, operations={"list": view.operations["list"]})
    how = f"by {via}" if via and not through else (f"through {through}" if through else "by what is not known")
    why = Reason(f"{path} shows {child.name}, {how}", "stated" if via else "guess")
    rows = _rows(path, by_path, view) if many and link is None else {}
    return Subcollection(path, child.name, many, via, through, far, view, link, unlink, linked_by, why, rows)


def _fields(seen: Resource, child: Resource) -> tuple[Field, ...]:
    """The fields of the list, with what is known of the resource's own."""
    own = {each.name: each for each in child.fields}
    return tuple(own.get(each.name, each) for each in seen.fields) or child.fields


def _takes_record(operation: Operation, view: Resource) -> bool:
    """Whether a request holds a row's own fields: it changes that row, and brings no two together."""
    bodies = [each.schema for each in (operation.body.content if operation.body else ())]
    own = {each.name for each in view.fields}
    return any(len(own & shape_of(schema).properties.keys()) > 1 for schema in bodies)


_ROW: dict[str, Purpose] = {"GET": "read", "PATCH": "update", "PUT": "replace", "DELETE": "delete"}


def _rows(path: str, by_path: Mapping[str, Mapping[str, Operation]], view: Resource) -> dict[Purpose, Operation]:
    """The operations on one row at a path behind the list's, where a GET shows it."""
    one = _one(path, by_path)
    takes = [each for method, each in one.items() if method in {"PATCH", "PUT"} and not _takes_record(each, view)]
    return {_ROW[method]: each for method, each in one.items() if method in _ROW} if "GET" in one and not takes else {}


def _one(path: str, by_path: Mapping[str, Mapping[str, Operation]]) -> Mapping[str, Operation]:
    """What the path behind a list's takes, by method."""
    pattern = re.compile(re.escape(plain(path)) + r"/\{[^}/]+\}/?")
    return next((methods for other, methods in by_path.items() if pattern.fullmatch(other)), {})


def _links(
    path: str, by_path: Mapping[str, Mapping[str, Operation]], view: Resource
) -> tuple[Operation | None, Operation | None, str]:
    """What brings rows together and apart, and the member of link's body that takes the other key."""
    one = _one(path, by_path)
    unlink = one.get("DELETE")
    link = one.get("PUT") or one.get("POST")
    if link is not None and not (link.body is not None and link.body.required) and not _takes_record(link, view):
        return link, unlink, ""
    post = by_path[path].get("POST")
    bodies = [each.schema for each in (post.body.content if post and post.body else ()) if is_json_type(each.name)]
    members = shape_of(bodies[0]).properties if bodies else {}
    keys = [name for name in members if re.search(r"(?:id|key|code|uuid)$", name, re.I)]
    if len(members) == 1 and len(keys) == 1 and len(view.fields) > 1:
        return post, unlink, keys[0]
    return None, None, ""
