"""OpenAPI 3.1 to the internal form; 3.0 shares all but its schemas."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, cast

from checkpost.contract.contract import (
    Body,
    Contract,
    Flaw,
    Header,
    Link,
    MediaType,
    Operation,
    Parameter,
    ParameterLocation,
    Response,
    SecurityScheme,
    Server,
)
from checkpost.contract.node import Node, Unresolved
from checkpost.contract.prose import with_prose
from checkpost.contract.templating import in_braces

METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")


class Reader:
    """Reads one document; what cannot be followed becomes a flaw, and the rest is read on."""

    #: The methods that a path item may have, and where the security schemes are declared.
    methods: tuple[str, ...] = METHODS
    schemes_at: tuple[str, ...] = ("components", "securitySchemes")

    def __init__(self, root: Node) -> None:
        self.root = root
        self.flaws: list[Flaw] = []

    def read(self) -> Contract:
        root, info = self.root, self.follow(self.root, "info")
        operations = with_prose(str(info.raw("description", "") or "") if info else "", tuple(self.operations()))
        schemes: Node | None = root
        for key in self.schemes_at:
            schemes = self.follow(schemes, key) if schemes is not None else None
        return Contract(
            location=root.location,
            version=str(root.raw("openapi", root.raw("swagger"))),
            title=str(info.raw("title", "")) if info else "",
            operations=operations,
            servers=tuple(self.servers()),
            schemes=tuple(self.schemes(schemes)),
            flaws=tuple(self.flaws),
            library=root.library,
        )

    def follow(self, node: Node, key: str) -> Node | None:
        try:
            return node.get(key)
        except Unresolved as error:
            self.unresolved(error)
            return None

    def members(self, node: Node | None) -> Iterator[tuple[str, Node]]:
        """The members of an object or array, references followed."""
        if node is None:
            return
        for key, child in node.children():
            try:
                yield key, child.resolved()
            except Unresolved as error:
                self.unresolved(error)

    def unresolved(self, error: Unresolved) -> None:
        kind = "cyclic-reference" if "itself" in error.why else "dangling-reference"
        flaw = Flaw("error", kind, f"{error}.", error.place)
        if flaw not in self.flaws:
            self.flaws.append(flaw)

    # -- parts ---------------------------------------------------------------------------------

    def servers(self) -> Iterator[Server]:
        for _, node in self.members(self.follow(self.root, "servers")):
            variables = {
                name: str(variable.raw("default", ""))
                for name, variable in self.members(self.follow(node, "variables"))
            }
            yield Server(
                str(node.raw("url", "")), str(node.raw("description", "")), str(node.raw("name", "")), variables
            )

    def schemes(self, node: Node | None) -> Iterator[SecurityScheme]:
        for name, scheme in self.members(node):
            yield self.scheme(name, scheme)

    def scheme(self, name: str, node: Node) -> SecurityScheme:
        return SecurityScheme(
            name,
            str(node.raw("type", "")),
            str(node.raw("scheme", "")).lower(),
            str(node.raw("name", "")),
            str(node.raw("in", "")),
        )

    def operations(self) -> Iterator[Operation]:
        paths = self.follow(self.root, "paths")
        usual = self.security(self.root)
        for stated, item in self.members(paths):
            if not isinstance(item.value, dict) or stated.startswith("x-"):
                continue
            path = stated if stated.startswith("/") else self._with_slash(stated, item)
            if not path:
                continue
            shared = list(self.parameters(item))
            for method, node in self.operations_of(item):
                yield self._in_braces(self.operation(method.upper(), path, node, item, shared, usual))

    def _with_slash(self, path: str, item: Node) -> str:
        """A path that lacks its first slash with it (OpenAPI 3.1.1, 4.8.8.1); "" where a parameter stands for all of
        its beginning, so that no request can be made of it. Either is a flaw, told of the first such path."""
        whole = path.startswith("{")
        read = "such are not asked, since rows alone tell how they begin" if whole else f"it is read as /{path}"
        kind = "path-of-a-parameter" if whole else "path-without-slash"
        if not any(each.kind == kind for each in self.flaws):
            self.flaws.append(Flaw("error", kind, f"A path does not begin with a slash: {path}; {read}.", item.place))
        return "" if whole else f"/{path}"

    def _in_braces(self, operation: Operation) -> Operation:
        """An operation whose path has its parameters in braces; that it had not is a flaw."""
        declared = {each.name for each in operation.parameters if each.location == "path"}
        path = in_braces(operation.path, declared)
        if path == operation.path:
            return operation
        if not any(each.kind == "path-template" for each in self.flaws):
            message = f"Parameters stand in paths without braces: {operation.path} is read as {path}."
            self.flaws.append(Flaw("error", "path-template", message, operation.place))
        return replace(operation, path=path)

    def operations_of(self, item: Node) -> Iterator[tuple[str, Node]]:
        for method in self.methods:
            node = self.follow(item, method)
            if node is not None and isinstance(node.value, dict):
                yield method, node

    def operation(
        self,
        method: str,
        path: str,
        node: Node,
        item: Node,
        shared: list[Parameter],
        usual: tuple[frozenset[str], ...] | None,
    ) -> Operation:
        own = list(self.parameters(node))
        named = {(each.name, each.location) for each in own}
        return Operation(
            method=method,
            path=path,
            operation_id=str(node.raw("operationId", "")),
            summary=str(node.raw("summary", "")),
            description=str(node.raw("description", "")),
            tags=tuple(map(str, node.raw("tags") or ())),
            parameters=tuple([each for each in shared if (each.name, each.location) not in named] + own),
            body=self.body_of(node, item),
            responses=tuple(self.responses(node)),
            security=self.security(node) if "security" in node.value else usual,
            place=node.place,
        )

    def security(self, node: Node) -> tuple[frozenset[str], ...] | None:
        stated = node.raw("security")
        if not isinstance(stated, list):
            return None
        return tuple(frozenset(each) for each in stated if isinstance(each, dict))

    def parameters(self, node: Node) -> Iterator[Parameter]:
        for _, each in self.members(self.follow(node, "parameters")):
            parameter = self.parameter(each) if isinstance(each.value, dict) and "name" in each.value else None
            if parameter is not None:
                yield parameter

    def parameter(self, node: Node) -> Parameter | None:
        return Parameter(
            str(node.value["name"]),
            cast(ParameterLocation, node.raw("in", "query")),
            bool(node.raw("required", False)),
            str(node.raw("description", "")),
            self.schema(node),
            node.place,
            str(node.raw("style", "")),
            bool(node.raw("explode", node.raw("style", "form") in {"form", "deepObject"})),
            next((str(name) for name in node.raw("content", None) or {}), ""),
            self.examples(node),
        )

    def examples(self, node: Node) -> tuple[object, ...]:
        """The examples of a parameter: its own, and those given by name."""
        found = [node.raw("example")] if node.raw("example") is not None else []
        named = self.follow(node, "examples")
        for _, each in self.members(named):
            if isinstance(each.value, dict) and "value" in each.value:
                found.append(each.value["value"])
        return tuple(found)

    def schema(self, node: Node) -> Node | None:
        if isinstance(node.value, dict) and "schema" in node.value:
            return node.child("schema")
        content = self.follow(node, "content")
        for _, media in self.members(content):
            return self.schema(media)
        return None

    def content(self, node: Node) -> tuple[MediaType, ...]:
        return tuple(
            MediaType(
                name.partition(";")[0].strip().lower(),
                self.schema(media),
                media.place,
                media.child("itemSchema") if "itemSchema" in media.value else None,
            )
            for name, media in self.members(self.follow(node, "content"))
            if isinstance(media.value, dict)
        )

    def body_of(self, operation: Node, item: Node) -> Body | None:
        """The request body of an operation, whose path item is given too."""
        node = self.follow(operation, "requestBody")
        return Body(bool(node.raw("required", False)), self.content(node), node.place) if node is not None else None

    def responses(self, node: Node) -> Iterator[Response]:
        responses = self.follow(node, "responses")
        for status, stated in responses.children() if responses is not None else ():
            if status.startswith("x-"):
                continue
            try:
                response = stated.resolved()
            except Unresolved as error:  # it is documented, though what it holds cannot be read
                self.unresolved(error)
                yield Response(status, "", (MediaType("*/*", None, stated.place),), (), stated.place)
                continue
            if isinstance(response.value, dict):
                yield self.response(status, response, node)

    def response(self, status: str, node: Node, operation: Node) -> Response:
        headers = tuple(
            Header(name, bool(header.raw("required", False)), self.schema(header), header.place)
            for name, header in self.members(self.follow(node, "headers"))
        )
        said = str(node.raw("description", ""))
        return Response(status, said, self.content(node), headers, node.place, tuple(self.links(node)))

    def links(self, response: Node) -> Iterator[Link]:
        for name, link in self.members(self.follow(response, "links")):
            operation = link.raw("operationId") or link.raw("operationRef")
            parameters = link.raw("parameters", {})
            if isinstance(operation, str) and isinstance(parameters, dict):
                yield Link(name, operation, parameters, link.place)


def read(root: Node) -> Contract:
    """The contract that an OpenAPI 3.1 (or normalised 3.0) document describes."""
    return Reader(root).read()


def normalise(document: Any) -> Any:
    """OpenAPI 3.1 schemas are JSON Schema 2020-12 as they stand."""
    return document
