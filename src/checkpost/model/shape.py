"""The effective shape of a schema: references followed, ``allOf`` merged, "this or null" seen through."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from checkpost.contract.node import Node, Unresolved

_DEEPEST = 12


@dataclass(frozen=True)
class Shape:
    """``keywords`` without composition; ``properties`` by name; ``item`` the schema of array items."""

    keywords: dict[str, Any]
    types: frozenset[str]
    nullable: bool
    properties: dict[str, Node]
    required: frozenset[str]
    item: Node | None

    @property
    def is_object(self) -> bool:
        return "object" in self.types or bool(self.properties)

    @property
    def is_array(self) -> bool:
        return "array" in self.types or self.item is not None


#: The shape of what nothing is said of.
NOTHING = Shape({}, frozenset(), False, {}, frozenset(), None)


def alternatives(node: Node | None) -> list[Node]:
    """The schemas of a ``oneOf`` or ``anyOf``; none where a schema has neither."""
    if node is None:
        return []
    try:
        schema = node.resolved()
    except Unresolved:
        return []
    words = [word for word in ("oneOf", "anyOf") if isinstance(schema.raw(word), list)]
    return [each for word in words for _, each in schema.child(word).children()]


#: Keywords that say more of a value than its type.
_TELLING = frozenset({"$ref", "allOf", "anyOf", "oneOf", "properties", "items", "enum", "const", "format", "pattern"})


def _tells(node: Node) -> bool:
    return isinstance(node.value, dict) and not _TELLING.isdisjoint(node.value)


class _Merger:
    def __init__(self) -> None:
        self.keywords: dict[str, Any] = {}
        self.properties: dict[str, Node] = {}
        self.required: set[str] = set()
        self.item: Node | None = None
        self.nullable = False

    def add(self, node: Node, depth: int) -> None:
        if depth > _DEEPEST or not isinstance(node.value, dict):
            return
        if isinstance(node.value.get("$ref"), str):
            try:
                self.add(node.target(), depth + 1)
            except Unresolved:
                return
        for _, branch in self._branches(node, "allOf"):
            self.add(branch, depth + 1)
        for key in ("oneOf", "anyOf"):
            self._alternatives(node, key, depth)
        for key, value in node.value.items():
            if key == "properties" and isinstance(value, dict):
                for name, child in node.child("properties").children():
                    # of two that hold at once the one that says more: a bare object takes nothing away
                    if name not in self.properties or _tells(child) or not _tells(self.properties[name]):
                        self.properties[name] = child
            elif key == "required" and isinstance(value, list):
                self.required.update(map(str, value))
            elif key == "items" and isinstance(value, dict):
                self.item = node.child("items")
            elif key not in {"$ref", "allOf", "oneOf", "anyOf"}:
                self.keywords[key] = value

    def _branches(self, node: Node, key: str) -> list[tuple[str, Node]]:
        return list(node.child(key).children()) if isinstance(node.value.get(key), list) else []

    def _alternatives(self, node: Node, key: str, depth: int) -> None:
        """One alternative beside null is that alternative; of several objects the members are joined."""
        shapes = []
        for _, branch in self._branches(node, key):
            if branch.raw("type") == "null":
                self.nullable = True
            else:
                shapes.append((branch, _merged(branch, depth + 1)))
        if len(shapes) == 1:
            self.add(shapes[0][0], depth + 1)
        elif shapes:
            objects = [merger for _, merger in shapes if merger.properties]
            for merger in objects:
                for name, child in merger.properties.items():
                    self.properties.setdefault(name, child)
            # "a row, or an array of rows" is the row, where one row is looked at
            many = [merger for _, merger in shapes if merger.item is not None and not merger.properties]
            if objects and len(objects) + len(many) == len(shapes):
                self.required |= set.intersection(*(merger.required for merger in objects))
            else:
                arrays = [merger.item for _, merger in shapes if merger.item is not None]
                self.item = arrays[0] if arrays and not objects else self.item
            types = {each for _, merger in shapes for each in _types(merger.keywords)}
            if types:
                self.keywords.setdefault("type", sorted(types))


def _types(keywords: dict[str, Any]) -> set[str]:
    stated = keywords.get("type", [])
    return {stated} if isinstance(stated, str) else {str(each) for each in stated}


def _merged(node: Node, depth: int = 0) -> _Merger:
    merger = _Merger()
    merger.add(node, depth)
    return merger


def shape_of(node: Node | None) -> Shape:
    """The shape of a schema; an empty one for None."""
    if node is None:
        return NOTHING
    known: Shape | None = node.library.shapes.get((node.location, node.pointer))
    if known is None:
        known = node.library.shapes[node.location, node.pointer] = _shape_of(node)
    return known


def _shape_of(node: Node) -> Shape:
    merged = _merged(node)
    types = _types(merged.keywords)
    nullable = merged.nullable or "null" in types
    if not types - {"null"} and isinstance(merged.keywords.get("enum"), list):
        names = {str: "string", bool: "boolean", int: "integer", float: "number"}
        types = {names[type(each)] for each in merged.keywords["enum"] if type(each) in names}
    return Shape(
        merged.keywords,
        frozenset(types - {"null"}),
        nullable,
        merged.properties,
        frozenset(merged.required),
        merged.item,
    )


def same_place(one: Node | None, other: Node | None) -> bool:
    """Whether two schemas stand at the same place."""
    try:
        at, beside = (each.resolved() if each is not None else None for each in (one, other))
    except Unresolved:
        return False
    return at is not None and beside is not None and (at.uri, at.pointer) == (beside.uri, beside.pointer)
