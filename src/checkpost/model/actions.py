"""Operations that are named for what they do, as in ``/species/create`` or ``/getSpecies``, by what they are about."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass

import inflection

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.model.address import Address
from checkpost.model.media import is_json_type, record_media
from checkpost.model.members import CONDITIONS, MEMBER
from checkpost.model.paths import Family, normal, parameters, singular
from checkpost.model.shape import shape_of

#: What words that name an action mean; the first of a path counts.
_VERBS: Mapping[str, str] = {
    **dict.fromkeys(("list", "index", "all", "getall", "findall", "browse", "query", "search", "select"), "list"),
    **dict.fromkeys(("get", "read", "fetch", "show", "find", "view", "detail", "details", "load", "retrieve"), "read"),
    **dict.fromkeys(("create", "add", "insert", "new", "post", "save", "register"), "create"),
    **dict.fromkeys(("update", "edit", "modify", "patch", "change"), "update"),
    **dict.fromkeys(("replace", "put", "overwrite"), "replace"),
    **dict.fromkeys(("delete", "remove", "destroy", "del", "erase"), "delete"),
}
#: What a path behind a table's own is called where it lists the rows that its body or its query asks for.
_LISTINGS = frozenset({"filter", "find", *(word for word, purpose in _VERBS.items() if purpose == "list")})
_SMALL = frozenset(
    {"by", "with", "for", "of", "the", "a", "an", "one", "single", "many", "item", "record", "row", "id", "unique"}
)
_SEVERAL = frozenset({"all", "list", "many"})
_KEYS = ("id", "key", "code", "uuid", "pk")


@dataclass(frozen=True)
class _Act:
    operation: Operation
    purpose: str
    noun: str
    #: The path as far as the segment that says so.
    at: str


def action_families(operations: Iterable[Operation]) -> list[Family]:
    """The resources whose operations stand at paths of their own, named for what they do.

    One word of a path has to be an action, and at least two different ones have to be about the same thing, one of
    them reading it: ``/updates`` alone is a list of updates.
    """
    every = list(operations)
    methods: dict[str, set[str]] = {}
    for each in every:
        methods.setdefault(each.path.rstrip("/"), set()).add(each.method)
    named: dict[str, list[_Act]] = {}
    for each in every:
        act = _act(each)
        if act is not None and not (_is_collection(each.path, methods) or _is_collection(act.at, methods)):
            named.setdefault(normal(singular(act.noun)), []).append(act)
    found = []
    for acts in named.values():
        by_purpose: dict[str, _Act] = {}
        for act in acts:
            by_purpose.setdefault(act.purpose, act)
        if len(by_purpose) > 1 and by_purpose.keys() & {"list", "read"}:
            found.append(_family(by_purpose))
    return found


#: What stands for one row in a path that does not name the table with its last word.
_ONE = frozenset({"item", "items", "record", "row", "one", "entity", "object"})
_ITEM_METHODS = {"read": "GET", "replace": "PUT", "update": "PATCH", "delete": "DELETE"}


def with_lists_beside(families: Iterable[Family], by_path: Mapping[str, Mapping[str, Operation]]) -> Iterator[Family]:
    """Families, those without a list of their own with the one beside them: rows stand at ``/species/item/{id}`` and
    the list at ``/species/list`` or ``/species/search``, or rows at ``/species/{id}`` and the list at
    ``/species/search``."""
    behind: dict[str, list[str]] = {}
    for path in by_path:
        if "{" not in path:
            behind.setdefault(path.rstrip("/").rpartition("/")[0], []).append(path)
    for each in families:
        collection = (each.collection or "").rstrip("/")
        head, _, word = collection.rpartition("/")
        if not collection or each.acts or "GET" in by_path.get(each.collection or "", ()):
            yield each
            continue
        one = bool(head) and word.lower() in _ONE
        name = head.rpartition("/")[2] if one else each.name
        beside = behind.get(head if one else collection, [])
        lists = [path for path in beside if path.rstrip("/").rpartition("/")[2].lower() in _LISTINGS]
        asked = [(method, path) for path in lists for method in ("GET", "POST") if method in by_path[path]]
        if not asked:
            yield each
            continue
        acts = {"list": asked[0]}
        if "POST" in by_path.get(each.collection or "", ()):
            acts["create"] = ("POST", str(each.collection))
        methods = by_path.get(each.item or "", {})
        acts |= {purpose: (name, str(each.item)) for purpose, name in _ITEM_METHODS.items() if name in methods}
        yield Family(name, asked[0][1], each.item, acts)


def _is_collection(path: str, methods: Mapping[str, Set[str]]) -> bool:
    """Whether a path is a list's in the usual sense: it is read and added to, or has items behind a slash."""
    return len(methods.get(path.rstrip("/"), set()) & {"GET", "POST", "PUT", "PATCH", "DELETE"}) > 1


def _words(segment: str) -> list[str]:
    return [word for word in re.split(r"[^a-z0-9]+", inflection.underscore(segment.replace("-", "_"))) if word]


def _act(operation: Operation) -> _Act | None:
    """What an operation does and to what, told by its path's own words."""
    segments = [part for part in operation.path.split("/") if part and "{" not in part]
    for place in range(len(segments) - 1, max(-1, len(segments) - 3), -1):
        words = _words(segments[place])
        verb = next((word for word in words[:1] + words[-1:] if word in _VERBS), None)
        if verb is None:
            continue
        rest = [word for word in words if word != verb and word not in _SMALL | _SEVERAL]
        others = segments[:place] if place else segments[1:]
        noun = "_".join(rest) or (others[-1] if others else "")
        if not noun or (not rest and re.fullmatch(r"v\d+|api|rest|data", noun)):
            return None
        purpose = _VERBS[verb]
        writes = purpose in {"create", "update", "replace"}
        if (writes and operation.method == "GET") or (purpose in {"list", "read"} and operation.method == "DELETE"):
            return None
        if purpose in {"read", "list"}:
            purpose = _reading(operation, words)
        ahead = operation.path.split("/")
        return _Act(operation, purpose, noun, "/".join(ahead[: ahead.index(segments[place]) + 1]))
    return None


def _reading(operation: Operation, words: Iterable[str]) -> str:
    """Whether an operation reads one row or lists them."""
    if parameters(operation.path):
        return "read"
    if _SEVERAL & set(words):
        return "list"
    schema = next(
        (m.schema for r in operation.success() for m in r.content if is_json_type(m.name) and m.schema is not None),
        None,
    )
    shape = shape_of(schema)
    arrays = [each for each in shape.properties.values() if shape_of(each).is_array]
    key = _key_parameters(operation) or _key_members(operation)
    many = shape.is_array or bool(arrays) or not shape.properties
    return "list" if many and not [name for name in key if _is_required(operation, name)] else "read"


def _is_required(operation: Operation, name: str) -> bool:
    media = record_media(operation)
    stated = shape_of(media.schema).required if media else frozenset()
    return name in stated or any(each.name == name and each.required for each in operation.parameters)


def _family(acts: Mapping[str, _Act]) -> Family:
    first = next(iter(acts.values()))
    listed, read = acts.get("list"), acts.get("read")
    addresses = {purpose: address for purpose, act in acts.items() if (address := _address(act)) is not None}
    return Family(
        inflection.underscore(first.noun).replace("_", "-") if "_" in first.noun else first.noun,
        listed.operation.path if listed else None,
        read.operation.path if read and parameters(read.operation.path) else _item(acts),
        {purpose: (act.operation.method, act.operation.path) for purpose, act in acts.items()},
        addresses,
    )


def _item(acts: Mapping[str, _Act]) -> str | None:
    """The path of an operation on one row that has the key in it."""
    paths = (acts[purpose].operation.path for purpose in ("update", "delete", "replace") if purpose in acts)
    return next((path for path in paths if parameters(path)), None)


def _address(act: _Act) -> Address | None:
    """How an operation on one row names it, where its path does not."""
    if act.purpose in {"list", "create"} or parameters(act.operation.path):
        return None
    query = tuple(_key_parameters(act.operation, act.noun))[:1] or _required_parameters(act.operation)
    if query:
        return Address(query)
    body = tuple(_key_members(act.operation, act.noun))[:1]
    media = record_media(act.operation)
    stated = shape_of(media.schema) if media else None
    if not body and stated is not None:
        body = tuple(name for name in stated.properties if name in stated.required and _endslike_key(name))
    return Address((), body)


def _required_parameters(operation: Operation) -> tuple[str, ...]:
    """The parameters without which an operation on one row does not work: the parts of a key of several."""
    return tuple(
        each.name
        for each in operation.parameters
        if each.location == "query" and each.required and _endslike_key(each.name)
    )


def _endslike_key(name: str) -> bool:
    return normal(name).endswith(_KEYS)


def _key_parameters(operation: Operation, noun: str = "") -> Iterator[str]:
    for each in operation.parameters:
        if each.location == "query" and like_key(each.name, noun):
            yield each.name
        elif each.location == "query" and is_json_type(each.media_type):
            yield from (f"{each.name}{MEMBER}{path}" for path in _key_paths(each.schema, noun))


def _key_paths(schema: Node | None, noun: str, depth: int = 2) -> Iterator[str]:
    """Where an object takes a key, with slashes: a member of its own, or of the condition that it holds."""
    for name, node in shape_of(schema).properties.items():
        if like_key(name, noun):
            yield name
        elif depth > 1 and normal(name) in CONDITIONS:
            yield from (f"{name}/{inner}" for inner in _key_paths(node, noun, depth - 1))


def _key_members(operation: Operation, noun: str = "") -> Iterator[str]:
    media = record_media(operation)
    yield from _key_paths(media.schema, noun) if media else ()


def undeclared_key(operation: Operation, lacking: Sequence[str]) -> Address | None:
    """How an operation names a row whose path has a parameter that it does not declare, and which requires one of the
    query that has no other value: what was meant to be one has two names. The key goes to both."""
    named = {each.name for each in operation.parameters if each.location == "path"}
    in_path = parameters(operation.path)
    if len(in_path) != 1 or named or len(lacking) != 1:
        return None
    return Address(query=tuple(lacking))


def like_key(name: str, noun: str) -> bool:
    """Whether a parameter's or member's name is that of the key of what a noun stands for."""
    stem = normal(singular(noun)) if noun else ""
    return normal(name) in {*_KEYS, *(stem + key for key in _KEYS if stem), *((stem,) if stem else ())}
