"""Flaws of real descriptions that can be read past: each is put right in place, and listed."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

from checkpost.contract.pointer import join

#: Keywords that hold values, not schemas; nothing inside them is looked at.
VALUES = frozenset({"example", "examples", "default", "enum", "const"})
#: Members that hold no schemas, though theirs look like some.
_SCHEMES = frozenset({"securityDefinitions", "securitySchemes"})
#: Keywords whose members are schemas by name.
NAMED = frozenset({"properties", "patternProperties", "$defs", "definitions", "schemas"})

_LIMITS = frozenset({"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"})
_COUNTS = frozenset({"minLength", "maxLength", "minItems", "maxItems", "minProperties", "maxProperties"})
_TYPES = frozenset({"array", "boolean", "integer", "null", "number", "object", "string"})
#: What generators write for types, and what they mean.
_WORDS: tuple[tuple[str, dict[str, str]], ...] = (
    ("int long short bigint smallint serial int32 int64", {"type": "integer"}),
    ("float double real decimal numeric money", {"type": "number"}),
    ("bool bit", {"type": "boolean"}),
    ("str text varchar char nvarchar", {"type": "string"}),
    ("datetime timestamp date-time timestamptz", {"type": "string", "format": "date-time"}),
    ("date", {"type": "string", "format": "date"}),
    ("time", {"type": "string", "format": "time"}),
    ("uuid guid", {"type": "string", "format": "uuid"}),
    ("list set", {"type": "array"}),
    ("file", {"type": "string", "format": "binary"}),
)
_MEANT = {word: meant for words, meant in _WORDS for word in words.split()}


@dataclass(frozen=True)
class Mended:
    """What was wrong, in which place, and how it was read."""

    kind: str
    message: str
    pointer: str


def mend(document: Any, nullable: bool) -> list[Mended]:
    """Put right in place what no reader could mean otherwise; ``nullable`` says whether the version has the keyword
    (OpenAPI 3.0.4, 4.7.24; JSON Schema, which 3.1 takes over, has a type list instead)."""
    return list(_mended(document, "", False, nullable, set()))


def _mended(node: Any, pointer: str, names: bool, nullable: bool, seen: set[int]) -> Iterator[Mended]:
    if not isinstance(node, dict | list) or id(node) in seen:
        return
    seen.add(id(node))
    if isinstance(node, list):
        for place, each in enumerate(node):
            yield from _mended(each, join(pointer, str(place)), False, nullable, seen)
        return
    if not names and _is_schema(node):
        yield from _schema(node, pointer, nullable)
    for key, each in list(node.items()):
        if names or key not in VALUES | _SCHEMES:
            yield from _mended(each, join(pointer, key), key in NAMED and not names, nullable, seen)


def _is_schema(node: dict[str, Any]) -> bool:
    scheme = {"in", "flows", "scheme", "openIdConnectUrl", "operationId", "responses", "flow"} & set(node)
    return not scheme and bool(
        {"type", "properties", "items", "allOf", "anyOf", "oneOf", "enum", "nullable"} & set(node)
    )


def _schema(node: dict[str, Any], pointer: str, nullable: bool) -> Iterator[Mended]:
    yield from _type(node, pointer)
    properties = node.get("properties")
    if isinstance(properties, dict):
        marked = [name for name, each in properties.items() if isinstance(each, dict) and each.get("required") is True]
        for name in [name for name, each in properties.items() if isinstance(each, dict)]:
            if isinstance(properties[name].get("required"), bool):
                del properties[name]["required"]
        if marked:
            stated = node.get("required")
            known = stated if isinstance(stated, list) else []
            node["required"] = [*known, *(name for name in marked if name not in known)]
            message = f"'required' is on the properties {', '.join(marked)}; it is read as a list of the object's."
            yield Mended("required-on-property", message, join(join(pointer, "properties"), marked[0]))
        if "type" not in node:
            yield Mended("no-type", "A schema with properties does not say that it is an object.", pointer)
    if node.get("type") == "array" and "items" not in node and "prefixItems" not in node:
        yield Mended("no-items", "An array does not say what its items are.", pointer)
    if not nullable and node.get("nullable") is True:
        del node["nullable"]
        with_null(node)
        message = "'nullable' is no keyword of this version; it is read as \"or null\"."
        yield Mended("nullable", message, pointer)
    elif not nullable:
        node.pop("nullable", None)
    for exclusive in [] if nullable else numeric_limits(node):
        yield Mended("boolean-limit", f"{exclusive!r} is a number in this version; it is read as of old.", pointer)
    yield from _numbers(node, pointer)
    pattern = node.get("pattern")
    if isinstance(pattern, str) and not _is_pattern(pattern):
        del node["pattern"]
        message = f"The pattern {pattern[:60]!r} is no regular expression that can be used; it is not looked at."
        yield Mended("pattern", message, join(pointer, "pattern"))
    if isinstance(node.get("examples"), dict):
        del node["examples"]
        message = "A schema's 'examples' are a list; those by name are not looked at."
        yield Mended("examples", message, pointer)
    if "enum" in node and not isinstance(node["enum"], list):
        del node["enum"]
        yield Mended("enum", "'enum' has to be a list; it is not looked at.", pointer)


def _numbers(node: dict[str, Any], pointer: str) -> Iterator[Mended]:
    """Limits that are no numbers: those in quotes are read as such, the others not at all (JSON Schema validation,
    6.2 to 6.5; JSON has no infinity, RFC 8259, 6)."""
    for name in _LIMITS | _COUNTS:
        stated = node.get(name)
        if stated is None and name in node:
            del node[name]  # many programs write null for what they do not state
        if stated is None or isinstance(stated, bool):
            continue
        number = _number(stated)
        if number is None or (name in _COUNTS and (number < 0 or number != int(number))):
            del node[name]
            yield Mended("limit", f"{name!r} cannot be {stated!r}; it is not looked at.", join(pointer, name))
        elif isinstance(stated, str):
            node[name] = number
            yield Mended("limit", f"{name!r} is a text, {stated!r}; it is read as a number.", join(pointer, name))


def _number(stated: Any) -> int | float | None:
    if isinstance(stated, str):
        try:
            stated = int(stated) if stated.strip().lstrip("+-").isdigit() else float(stated)
        except ValueError:
            return None
    return stated if isinstance(stated, int | float) and math.isfinite(stated) else None


def _type(node: dict[str, Any], pointer: str) -> Iterator[Mended]:
    stated = node.get("type")
    if not isinstance(stated, str) or stated in _TYPES:
        return
    meant = _MEANT.get(stated.lower(), {})
    del node["type"]
    for key, value in meant.items():
        node.setdefault(key, value)
    read = meant.get("type")
    message = f"There is no type {stated!r}; it is read as {read or 'any type'}."
    yield Mended("unknown-type", message, join(pointer, "type"))


def numeric_limits(node: dict[str, Any]) -> list[str]:
    """Write boolean exclusive limits as numbers, in place (they are of OpenAPI 3.0); the names of those."""
    found = []
    for limit, exclusive in (("minimum", "exclusiveMinimum"), ("maximum", "exclusiveMaximum")):
        if isinstance(node.get(exclusive), bool):
            found.append(exclusive)
            if node.pop(exclusive) and limit in node:
                node[exclusive] = node.pop(limit)
    return found


def with_null(node: dict[str, Any]) -> None:
    """Let a schema take null beside what it takes, in place (JSON Schema 2020-12 has no ``nullable``)."""
    if isinstance(node.get("type"), str):
        node["type"] = [node["type"], "null"]
        if isinstance(node.get("enum"), list) and None not in node["enum"]:
            node["enum"] = [*node["enum"], None]
    elif "$ref" in node or "allOf" in node or "oneOf" in node:
        inner = {key: node.pop(key) for key in ("$ref", "allOf", "oneOf") if key in node}
        node["anyOf"] = [*node.get("anyOf", []), inner, {"type": "null"}]
    elif isinstance(node.get("anyOf"), list):
        node["anyOf"] = [*node["anyOf"], {"type": "null"}]


@cache
def _is_pattern(pattern: str) -> bool:
    import jsonschema_rs

    try:
        jsonschema_rs.Draft202012Validator({"pattern": pattern})
    except ValueError:
        return False
    return True
