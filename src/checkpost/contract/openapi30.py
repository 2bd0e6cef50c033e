"""OpenAPI 3.0: its schema dialect brought to JSON Schema 2020-12, each rule left where it stands."""

from __future__ import annotations

from typing import Any

from checkpost.contract.mending import VALUES, numeric_limits, with_null
from checkpost.contract.openapi31 import read as read

#: What may stand beside a reference without changing what is valid.
_HARMLESS = {"$ref", "description", "title", "readOnly", "writeOnly", "default", "example", "nullable"}


def normalise(document: Any) -> Any:
    """A copy with ``nullable``, boolean exclusive limits and siblings of ``$ref`` (OpenAPI 3.0.4, 4.7.24 and
    4.7.23) rewritten."""
    return _rewritten(document, names=False)


def _rewritten(value: Any, names: bool) -> Any:
    if isinstance(value, list):
        return [_rewritten(each, False) for each in value]
    if not isinstance(value, dict):
        return value
    copy = {
        key: each if key in VALUES and not names else _rewritten(each, key == "properties" and not names)
        for key, each in value.items()
    }
    return copy if names else _schema(copy)


def _schema(node: dict[str, Any]) -> dict[str, Any]:
    nullable = node.get("nullable") is True
    if isinstance(node.get("$ref"), str):
        if not nullable:
            return {key: each for key, each in node.items() if key in _HARMLESS or key.startswith("x-")}
        kept = {key: each for key, each in node.items() if key in _HARMLESS - {"$ref", "nullable"}}
        return {**kept, "anyOf": [{"$ref": node["$ref"]}, {"type": "null"}]}
    if nullable:
        with_null(node)
    numeric_limits(node)
    return node
