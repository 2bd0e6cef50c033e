"""Operations on many rows at once: which there are, and what their bodies and parameters look like."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from checkpost.contract.contract import Operation, Parameter
from checkpost.contract.node import Node
from checkpost.model.field import Reason
from checkpost.model.media import LINES
from checkpost.model.nearby import Nearby
from checkpost.model.paths import normal, plain
from checkpost.model.shape import Shape, alternatives, shape_of

if TYPE_CHECKING:
    from checkpost.model.resource import Resource

BulkPurpose = Literal["create", "update", "delete", "filtered update", "filtered delete"]
Form = Literal["array", "wrapped", "lines", "query", "filter"]

_WORD = r"bulk|batch|many|multi|multiple|mass|import|collection|items|rows|records"
_ACTION = r"create|insert|add|store|update|patch|change|edit|delete|remove|destroy|upsert"
_PATH = re.compile(rf"[_$]?(?:(?:{_WORD})[-_]?(?P<a>{_ACTION})?|(?P<b>{_ACTION})[-_]?(?:{_WORD}))", re.I)
_LISTS = re.compile(r"lists?|all|index|find|filter|search|query|(?:get|list|find)[-_]?all", re.I)
_ATOMIC = re.compile(
    r"\ball[- ](?:or|and)[- ](?:none|nothing)\b|\batomic|\btransaction|\brolled? back\b|\bnone (?:is|are) \w+ if\b"
    r"|\bor none if\b|\bnothing is (?:stored|created|changed|written)\b|\bwhole (?:batch|request) (?:fails|is refused)",
    re.I,
)
_EACH = re.compile(
    r"\bown (?:result|status)\b|\bcontinu|\bpartial|\b(?:does|do) not (?:stop|prevent|affect)\b|\bbest[- ]effort\b"
    r"|\bindependent|\bindividual|\bper[- ](?:row|item|record|line)\b|\bskipp?(?:s|ed)\b"
    r"|\bthe (?:others|rest) (?:are|is)\b",
    re.I,
)


_ACTIONS: dict[str, Literal["create", "update", "delete"]] = {
    **{word: "create" for said in ("create", "insert", "add") for word in (said, said.upper())},
    **{word: "update" for said in ("update", "patch", "modify") for word in (said, said.upper())},
    **{word: "delete" for said in ("delete", "remove", "destroy") for word in (said, said.upper())},
}
#: Words of actions that are none of these.
_OTHER = {"upsert", "replace", "get", "read", "test", "move", "copy"}


@dataclass(frozen=True)
class Bulk:
    """One operation on many rows.

    ``array`` takes an array as its body, ``wrapped`` one under ``name``, ``lines`` newline-delimited JSON,
    ``query`` keys in the parameter ``name`` (joined by ``separator``, or repeated where that is None),
    ``filter`` the conditions of a list. ``keys`` says that the items are keys and not rows: values of the field ``key``
    where a member ``beside`` them holds one change for all. ``action`` is the member and the word that say what is to
    be done where an array holds actions, ``inner`` the member of one that holds its items. ``atomic`` is whether one
    bad item stops all, None where nothing says so; ``least`` and ``largest`` limit the items.
    """

    purpose: BulkPurpose
    operation: Operation
    form: Form
    name: str = ""
    separator: str | None = ","
    keys: bool = False
    beside: str = ""
    key: str = ""
    action: tuple[str, str] = ("", "")
    inner: str = ""
    atomic: bool | None = None
    least: int = 0
    largest: int | None = None
    media_type: str = "application/json"
    reason: Reason = field(default=Reason("", "likely"))


def bulk_of(resource: Resource, operations: Nearby) -> dict[BulkPurpose, Bulk]:
    """The operations on many rows of a resource, by what they do."""
    found: dict[BulkPurpose, Bulk] = {}
    for operation, action in _candidates(resource, operations):
        for bulk in _understood(resource, operation, action):
            found.setdefault(bulk.purpose, bulk)
    return found


def _candidates(resource: Resource, operations: Nearby) -> Iterator[tuple[Operation, str]]:
    """Writes on the collection's path or one beside it that is named for many rows; with the action that
    the path names."""
    if resource.collection is None:
        return
    base = plain(resource.collection)
    head, _, last = base.rpartition("/")
    if head and resource.collection != resource.item and _LISTS.fullmatch(last):
        base = head  # where each path says what it does, the list's does too
        head, _, last = base.rpartition("/")
    for operation in operations.around(base):
        path = plain(operation.path)
        if operation.method == "GET":
            continue
        if path == base:
            yield operation, ""
            continue
        before, after = path.startswith((base + "/", base + ":")), path.rpartition("/")
        word = path[len(base) + 1 :] if before else after[0].removeprefix(head).strip("/")
        if before or (after[2] == last and path.startswith(head)):
            matched = _PATH.fullmatch(word)
            if matched:
                yield operation, (matched["a"] or matched["b"] or "").lower()


def _purpose(operation: Operation, action: str) -> Literal["create", "update", "delete"]:
    if action in {"delete", "remove", "destroy"} or operation.method == "DELETE":
        return "delete"
    if action in {"update", "patch", "change", "edit"} or operation.method in {"PUT", "PATCH"}:
        return "update"
    return "create"


def _understood(resource: Resource, operation: Operation, action: str) -> Iterator[Bulk]:
    purpose = _purpose(operation, action)
    said = " ".join([operation.summary, operation.description, *(each.description for each in operation.responses)])
    documented = {each.status for each in operation.responses}
    # beside a status for when all is done, 207 may be for what is asked for, or found out later
    each = bool(_EACH.search(said)) or ("207" in documented and not documented & {"200", "201", "202", "204"})
    atomic = True if _ATOMIC.search(said) else (False if each else None)
    for media in operation.body.content if operation.body else ():
        if media.name in LINES and purpose == "create":
            why = Reason(f"{operation} takes newline-delimited JSON", "stated")
            yield Bulk(purpose, operation, "lines", atomic=atomic, media_type=media.name, reason=why)
            return
        if not media.name.endswith("json"):
            continue
        beside = _one_change(media.schema, resource) if purpose == "update" else None
        if beside is not None:
            name, change, least, largest = beside
            why = Reason(f"{operation} takes keys under {name}, and one change for all under {change}", "stated")
            yield Bulk(
                purpose, operation, "wrapped", name, keys=True, beside=change, key=resource.key_fields[0],
                atomic=atomic, least=least, largest=largest, media_type=media.name, reason=why,
            )  # fmt: skip
            return
        actions = list(_actions(media.schema, resource))
        for name, word, member, inner, keys in actions:
            why = Reason(f"{operation} takes actions under {name}, such as {word} of {inner}", "stated")
            yield Bulk(
                _ACTIONS[word], operation, "wrapped", name, keys=keys, action=(member, word), inner=inner,
                atomic=atomic, media_type=media.name, reason=why,
            )  # fmt: skip
        if actions:
            return
        for name, array in _arrays(media.schema, resource):
            shape = shape_of(array)
            words = shape.keywords
            keys = purpose == "delete" and _are_keys(shape_of(shape.item), resource)
            if purpose != "delete" and not shape_of(shape.item).is_object:
                continue
            why = Reason(f"{operation} takes an array" + (f" under {name}" if name else ""), "stated")
            yield Bulk(
                purpose,
                operation,
                "wrapped" if name else "array",
                name,
                keys=keys,
                atomic=atomic,
                least=int(words.get("minItems") or 0),
                largest=int(words["maxItems"]) if isinstance(words.get("maxItems"), int) else None,
                media_type=media.name,
                reason=why,
            )
            return
    filtered = _filters(operation, resource)
    if purpose == "delete" and len(filtered) < 2 and not (operation.body and operation.body.content):
        parameter = _key_list(operation, resource)
        if parameter is not None:
            words = shape_of(parameter.schema).keywords
            joined = parameter.explode if shape_of(parameter.schema).is_array else False
            why = Reason(f"{operation} takes keys in {parameter.name}", "likely")
            most = int(words["maxItems"]) if isinstance(words.get("maxItems"), int) else None
            separator = None if joined else ","
            yield Bulk(
                purpose, operation, "query", parameter.name, separator,
                keys=True, atomic=atomic, least=1, largest=most, reason=why,
            )  # fmt: skip
            return
    if filtered and purpose in {"update", "delete"} and plain(operation.path) == plain(resource.collection or ""):
        why = Reason(f"{operation} takes the list's {filtered[0]}", "likely")
        yield Bulk("filtered update" if purpose == "update" else "filtered delete", operation, "filter", reason=why)


def _arrays(schema: Node | None, resource: Resource) -> Iterator[tuple[str, Node]]:
    """The arrays that a body is, or holds as its only one, with the name of the member."""
    for node in _either(schema):
        shape = shape_of(node)
        if shape.is_array and shape.item is not None and not shape.properties:
            yield "", node
        elif shape.properties:
            members = {name: shape_of(each) for name, each in shape.properties.items()}
            arrays = [name for name, each in members.items() if each.is_array and each.item is not None]
            rows = {each.name for each in resource.fields} & set(shape.properties)
            if len(arrays) == 1 and len(rows) <= len(shape.properties) // 2 and arrays[0] not in rows:
                yield arrays[0], shape.properties[arrays[0]]


def _actions(schema: Node | None, resource: Resource) -> Iterator[tuple[str, str, str, str, bool]]:
    """Where a body holds an array of actions, each with items of its own: the array's name, the word of an action, the
    members of it that hold the word and the items, and whether those are keys."""
    for name, array in _arrays(schema, resource):
        for each in _either(shape_of(array).item):
            members = {member: shape_of(value) for member, value in shape_of(each).properties.items()}
            words = {member: _words(value) for member, value in members.items()}
            saying = [member for member, said in words.items() if said and set(said) <= _ACTIONS.keys() | _OTHER]
            items = {member: _either(value.item) for member, value in members.items() if value.is_array}
            held = [member for member, either in items.items() if _are_records(either, resource)]
            held = held or [
                member for member, either in items.items() if any(_are_keys(shape_of(one), resource) for one in either)
            ]
            if len(saying) == 1 == len(held):
                plain = any(not shape_of(one).properties for one in items[held[0]])
                for word in words[saying[0]]:
                    if word in _ACTIONS:
                        yield name, word, saying[0], held[0], plain and _ACTIONS[word] == "delete"


def _words(shape: Shape) -> list[str]:
    """The texts that a member may be, where they are told."""
    said = [shape.keywords["const"]] if "const" in shape.keywords else shape.keywords.get("enum")
    return [each for each in said or () if isinstance(each, str)]


def _are_records(either: Sequence[Node], resource: Resource) -> bool:
    """Whether the items of an action are records of the resource, by most of their members."""
    rows = {each.name for each in resource.fields}
    members = [set(shape_of(one).properties) for one in either]
    return any(len(rows & each) * 2 > len(each) for each in members)


def _either(node: Node | None) -> list[Node]:
    """What a value may be: each alternative, or the schema itself."""
    return alternatives(node) or ([node] if node is not None else [])


def _one_change(schema: Node | None, resource: Resource) -> tuple[str, str, int, int | None] | None:
    """Where a body holds an array of keys and one change for all of them: their members' names, and the least and the
    largest number of keys."""
    members = {name: shape_of(each) for name, each in shape_of(schema).properties.items()}
    if len(members) != 2 or len(resource.key_fields) != 1:
        return None
    keys = [name for name, each in members.items() if each.is_array and _are_keys(shape_of(each.item), resource)]
    fields = {each.name for each in resource.fields if each.updated or each.replaced}
    changes = [name for name, each in members.items() if not each.is_array and fields & set(each.properties)]
    if len(keys) != 1 or len(changes) != 1 or shape_of(members[keys[0]].item).properties:
        return None
    words = members[keys[0]].keywords
    largest = words.get("maxItems")
    return keys[0], changes[0], int(words.get("minItems") or 0), largest if isinstance(largest, int) else None


def _are_keys(item: Shape, resource: Resource) -> bool:
    """Whether the items of an array that names what to delete are keys: plain values or such of which nothing is said,
    or objects of the key alone."""
    if not item.properties:
        return not item.types or bool(item.types & {"integer", "string"})
    return set(item.properties) == set(resource.key_fields)


def _key_list(operation: Operation, resource: Resource) -> Parameter | None:
    """The query parameter that takes several keys."""
    key = resource.key.fields[0] if resource.key and len(resource.key.fields) == 1 else "id"
    names = {"ids", "keys", normal(key), normal(key) + "s", normal(key) + "in", normal(key) + "list", "idlist"}
    for each in operation.parameters:
        shape = shape_of(each.schema)
        several = shape.is_array or re.search(
            r"\b(?:comma|separated|several|list of|joined|multiple)\b", each.description
        )
        if each.location == "query" and normal(each.name) in names and several:
            return each
    return None


def _filters(operation: Operation, resource: Resource) -> Sequence[str]:
    """The parameters of an operation that a list's filters have too."""
    listing = resource.operations.get("list")
    if listing is None or not resource.queries.filterings:
        return []
    known: Mapping[str, Parameter] = {each.name: each for each in listing.parameters if each.location == "query"}
    paging = {resource.paging.limit, resource.paging.position, resource.paging.cursor}
    return [
        each.name
        for each in operation.parameters
        if each.location == "query" and each.name in known and each.name not in paging
    ]
