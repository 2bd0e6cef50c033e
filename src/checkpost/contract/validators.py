"""Compiled validators: one registry per contract and direction, formats asserted, nothing fetched."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import unquote

import jsonschema_rs

from checkpost.contract import pointer as pointers
from checkpost.contract.contract import Contract
from checkpost.contract.errors import Place
from checkpost.contract.mending import NAMED, VALUES
from checkpost.contract.node import Node, Unresolved

Direction = Literal["request", "response"]


@dataclass(frozen=True)
class Violation:
    """One rule that a value breaks: JSON Schema keyword, place of the rule, and where in the value."""

    keyword: str
    message: str
    place: Place
    path: tuple[str | int, ...]
    value: Any = field(compare=False)
    #: Where none of several schemas fits: what the value breaks of each.
    alternatives: tuple[tuple[Violation, ...], ...] = ()

    @property
    def field_name(self) -> str:
        """The innermost named member that the violation is about; empty for the value as a whole."""
        names = [part for part in self.path if isinstance(part, str)]
        return names[-1] if names else ""


def _alternatives(error: Any, place: Place) -> tuple[tuple[Violation, ...], ...]:
    """What a value breaks of each schema of a ``oneOf`` or ``anyOf``, all told of the place of the rule itself."""
    return tuple(
        tuple(
            Violation(
                each.kind.name,
                each.message,
                place,
                tuple(each.instance_path),
                each.instance,
                _alternatives(each, place),
            )
            for each in branch
        )
        for branch in getattr(error.kind, "context", ())
    )


def _in_direction(node: Node, direction: Direction) -> bool:
    """Whether a property belongs in this direction (JSON Schema validation, 9.4)."""
    marker = "writeOnly" if direction == "response" else "readOnly"
    try:
        return not (node.raw(marker) is True or node.resolved().raw(marker) is True)
    except Unresolved:
        return True


class Validators:
    """The validators of a contract's schemas, compiled when first asked for."""

    def __init__(self, contract: Contract) -> None:
        self._library = contract.library
        self._registries: dict[Direction, Any] = {}
        self._compiled: dict[tuple[Direction, str], Any] = {}
        self.uncompilable: dict[str, str] = {}

    def violations(self, schema: Node, value: Any, direction: Direction) -> Iterator[Violation]:
        """The rules of a schema that a value breaks. Text that is not Unicode breaks none."""
        validator = self._validator(schema, direction)
        if validator is None:
            return
        try:
            errors = list(validator.iter_errors(value))
        except UnicodeEncodeError:
            return
        for error in errors:
            location, _, pointer = (error.absolute_keyword_location or schema.uri).partition("#")
            location = self._locations.get(location, location)
            tail = pointers.tokens(pointer)[-1:] or [""]
            keyword = "writeOnly" if error.kind.name == "falseSchema" else tail[0]
            message = error.message
            path = tuple(error.instance_path)
            if keyword == "writeOnly":
                message = "a write-only field is shown"
            place = Place(location, unquote(pointer))  # in a URI's fragment it is percent-encoded (RFC 6901, 6)
            yield Violation(keyword, message, place, path, error.instance, _alternatives(error, place))

    def is_valid(self, schema: Node, value: Any, direction: Direction) -> bool:
        validator = self._validator(schema, direction)
        try:
            return validator is None or bool(validator.is_valid(value))
        except UnicodeEncodeError:
            return False

    def rule(self, place: Place) -> Any:
        """What stands in the contract at a place; None if nothing does."""
        try:
            return pointers.walk(self._library.document(place.location), place.pointer)
        except LookupError:
            return None

    def _validator(self, schema: Node, direction: Direction) -> Any:
        name = (direction, schema.uri)
        if name not in self._compiled:
            self._compiled[name] = self._compile(schema, direction)
        return self._compiled[name]

    def _compile(self, schema: Node, direction: Direction) -> Any:
        reference = f"{_address(schema.location)}#{_fragment(schema.pointer)}"
        try:
            return jsonschema_rs.Draft202012Validator(
                {"$ref": reference}, registry=self._registry(direction), validate_formats=True, offline=True
            )
        except (ValueError, jsonschema_rs.ReferencingError) as error:
            self.uncompilable[schema.uri] = str(error).splitlines()[0]
            return None

    def _registry(self, direction: Direction) -> Any:
        if direction not in self._registries:
            documents = [
                (_address(location), self._directed(self._library.root(location), direction, False))
                for location in list(self._library.documents)
            ]
            self._registries[direction] = jsonschema_rs.Registry(documents, draft=jsonschema_rs.Draft202012)
            self._locations = {_address(location): location for location in self._library.documents}
        return self._registries[direction]

    def _directed(self, node: Node, direction: Direction, names: bool) -> Any:
        """A copy of a document in which schemas speak for one direction; nothing that is reported moves."""
        if isinstance(node.value, list):
            return [
                self._directed(node.child(place), direction, False) if isinstance(each, dict | list) else each
                for place, each in enumerate(node.value)
            ]
        if not isinstance(node.value, dict):
            return node.value
        copy = {
            key: each
            if not isinstance(each, dict | list) or (key in VALUES and not names)
            else self._directed(node.child(key), direction, key in NAMED and not names)
            for key, each in node.value.items()
        }
        if names:
            return copy
        if isinstance(copy.get("$ref"), str):
            copy["$ref"] = self._absolute(node)
        hidden = self._hidden(node, direction)
        if hidden and isinstance(copy.get("required"), list):
            copy["required"] = [name for name in copy["required"] if name not in hidden]
        if hidden and direction == "response" and isinstance(copy.get("properties"), dict):
            for name in hidden & set(copy["properties"]):
                copy["properties"][name] = False
        if isinstance(copy.get("discriminator"), dict):
            self._discriminate(node, copy)
        return copy

    def _absolute(self, node: Node) -> str:
        try:
            target = node.target()
        except Unresolved:
            return _address(node.location) + "#/x-nothing"
        return f"{_address(target.location)}#{_fragment(target.pointer)}"

    def _hidden(self, node: Node, direction: Direction) -> set[str]:
        """The names of properties that do not belong in this direction, those of ``allOf`` included."""
        hidden: set[str] = set()
        properties = node.value.get("properties")
        if isinstance(properties, dict):
            for name, child in node.child("properties").children():
                if isinstance(child.value, dict) and not _in_direction(child, direction):
                    hidden.add(name)
        if isinstance(node.value.get("allOf"), list):
            for _, branch in node.child("allOf").children():
                try:
                    if isinstance(branch.resolved().value, dict):
                        hidden |= self._hidden(branch.resolved(), direction)
                except (Unresolved, RecursionError):
                    continue
        return hidden

    def _discriminate(self, node: Node, copy: dict[str, Any]) -> None:
        """``oneOf`` with a discriminator: the named schema decides (OpenAPI 3.1, 4.8.25), so that schemas
        that overlap do not count as two matches."""
        name = copy["discriminator"].get("propertyName")
        key = "oneOf" if "oneOf" in copy else "anyOf"
        if not isinstance(name, str) or not isinstance(copy.get(key), list):
            return
        mapping = copy["discriminator"].get("mapping") or {}
        named = dict(mapping) if isinstance(mapping, dict) else {}
        for _, child in node.child(key).children():
            if isinstance(child.value, dict) and "$ref" in child.value:
                reference = child.value["$ref"]
                if reference not in named.values():
                    named.setdefault(reference.rpartition("/")[2], reference)
        rules = []
        for value, reference in named.items():
            if "/" not in reference and "#" not in reference:
                reference = f"#/components/schemas/{reference}"
            then = Node(node.library, node.location, node.pointer, {"$ref": reference})
            rules.append(
                {
                    "if": {"properties": {name: {"const": value}}, "required": [name]},
                    "then": {"$ref": self._absolute(then)},
                }
            )
        copy["anyOf"] = copy.pop(key)
        copy["allOf"] = [*copy.get("allOf", []), *rules]


def _address(location: str) -> str:
    """A location as an absolute URI, as the registry wants it: a path is one segment, so that ``..`` stays in it."""
    from urllib.parse import quote

    return location if "://" in location else "contract:///" + quote(location, safe="")


def _fragment(pointer: str) -> str:
    from urllib.parse import quote

    return quote(pointer, safe="/~")
