"""OpenAPI 2.0 to the internal form: its schemas to JSON Schema 2020-12, each rule left where it stands."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from checkpost.contract import openapi30
from checkpost.contract.contract import Body, Contract, Header, MediaType, Parameter, Response, SecurityScheme, Server
from checkpost.contract.node import Node
from checkpost.contract.openapi31 import Reader

#: Where the form fields of an operation stand as one schema, beside its parameters.
_FORM = "x-form-fields"
_STYLES = {"ssv": "spaceDelimited", "pipes": "pipeDelimited"}
_ABOUT_PARAMETER = {"name", "in", "required", "collectionFormat", "allowEmptyValue"}


def normalise(document: Any) -> Any:
    """A copy with ``x-nullable`` and boolean exclusive limits rewritten, and the form fields of each operation as a
    schema of an object (OpenAPI 2.0, Parameter Object)."""
    copy = openapi30.normalise(_nullable(document))
    if isinstance(copy, dict):
        for item in (copy.get("paths") or {}).values():
            for operation in item.values() if isinstance(item, dict) else ():
                if isinstance(operation, dict):
                    _form(copy, item, operation)
    return copy


def _nullable(value: Any) -> Any:
    if isinstance(value, list):
        return [_nullable(each) for each in value]
    if not isinstance(value, dict):
        return value
    return {"nullable" if key == "x-nullable" else key: _nullable(each) for key, each in value.items()}


def _form(document: Any, item: Any, operation: dict[str, Any]) -> None:
    stated = [*(item.get("parameters") or []), *(operation.get("parameters") or [])]
    fields: dict[str, Any] = {}
    required = []
    for each in stated:
        if isinstance(each, dict) and str(each.get("$ref", "")).startswith("#/parameters/"):
            each = (document.get("parameters") or {}).get(each["$ref"].rpartition("/")[2])
        if not isinstance(each, dict) or each.get("in") != "formData":
            continue
        fields[each["name"]] = {key: value for key, value in each.items() if key not in _ABOUT_PARAMETER}
        if fields[each["name"]].get("type") == "file":
            fields[each["name"]] |= {"type": "string", "format": "binary"}
        if each.get("required") is True:
            required.append(each["name"])
    if fields:
        operation[_FORM] = {"type": "object", "properties": fields, **({"required": required} if required else {})}


class Reader20(Reader):
    """What 2.0 has in other places than 3.x."""

    schemes_at = ("securityDefinitions",)

    def servers(self) -> Iterator[Server]:
        host, base = self.root.raw("host"), str(self.root.raw("basePath", "") or "").rstrip("/")
        if not host:
            if base:
                yield Server(base, "")
            return
        for scheme in self.root.raw("schemes") or ["http"]:
            yield Server(f"{scheme}://{host}{base}", "")

    def scheme(self, name: str, node: Node) -> SecurityScheme:
        if node.raw("type") == "basic":
            return SecurityScheme(name, "http", "basic")
        return super().scheme(name, node)

    def parameter(self, node: Node) -> Parameter | None:
        if node.raw("in") not in {"query", "header", "path"}:
            return None
        many = node.raw("collectionFormat", "csv")
        return Parameter(
            str(node.value["name"]),
            node.value["in"],
            node.raw("required") is True,
            str(node.raw("description", "")),
            node,
            node.place,
            _STYLES.get(many, ""),
            many == "multi",
            "",
            self.examples(node),
        )

    def body_of(self, operation: Node, item: Node) -> Body | None:
        taken = operation.raw("consumes") or self.root.raw("consumes") or ["application/json"]
        if _FORM in operation.value:
            fields = operation.child(_FORM)
            files = any(each.raw("format") == "binary" for _, each in fields.child("properties").children())
            forms = [each for each in taken if "form" in str(each)]
            names = forms or ["multipart/form-data" if files else "application/x-www-form-urlencoded"]
            place = operation.child("parameters").place if "parameters" in operation.value else operation.place
            return Body(bool(fields.raw("required")), tuple(MediaType(each, fields, place) for each in names), place)
        for holder in (operation, item):
            for _, each in self.members(self.follow(holder, "parameters")):
                if each.raw("in") == "body":
                    content = tuple(MediaType(str(name), self.schema(each), each.place) for name in taken)
                    return Body(each.raw("required") is True, content, each.place)
        return None

    def response(self, status: str, node: Node, operation: Node) -> Response:
        given = operation.raw("produces") or self.root.raw("produces") or ["application/json"]
        schema = self.schema(node)
        content = tuple(MediaType(str(name), schema, node.place) for name in given) if schema is not None else ()
        headers = tuple(
            Header(name, False, header, header.place) for name, header in self.members(self.follow(node, "headers"))
        )
        return Response(status, str(node.raw("description", "")), content, headers, node.place)


def read(root: Node) -> Contract:
    """The contract that a normalised OpenAPI 2.0 document describes."""
    return Reader20(root).read()
