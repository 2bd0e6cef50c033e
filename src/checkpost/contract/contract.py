"""The internal form of a contract: what an OpenAPI description of any version comes down to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from checkpost.contract.errors import Place
from checkpost.contract.node import Library, Node
from checkpost.contract.pointer import join

ParameterLocation = Literal["path", "query", "header", "cookie"]


@dataclass(frozen=True)
class MediaType:
    """What one media type of a body holds."""

    name: str
    schema: Node | None
    place: Place
    #: What each item of a sequence is, such as a line of application/x-ndjson (OpenAPI 3.2, 4.14.1).
    item: Node | None = None


@dataclass(frozen=True)
class Header:
    name: str
    required: bool
    schema: Node | None
    place: Place


@dataclass(frozen=True)
class Link:
    """What an answer says can be asked next (OpenAPI 3.1, 4.8.20): an operation, by its id or as a reference,
    and its parameters as runtime expressions or constants."""

    name: str
    operation: str
    parameters: Mapping[str, Any] = field(hash=False)
    place: Place


#: Statuses whose answers have no content (RFC 9110, 15.3.5, 15.3.6, 15.4.5).
BODILESS = frozenset({"204", "205", "304"})


@dataclass(frozen=True)
class Response:
    """A documented answer; ``status`` is a code, a range such as ``4XX``, or ``default``."""

    status: str
    description: str
    content: tuple[MediaType, ...]
    headers: tuple[Header, ...]
    place: Place
    links: tuple[Link, ...] = ()


@dataclass(frozen=True)
class Parameter:
    name: str
    location: ParameterLocation
    required: bool
    description: str
    schema: Node | None
    place: Place
    #: How arrays and objects are written (OpenAPI 3.1, 4.8.12): "" for the default of the location, which is
    #: ``form`` in a query; ``explode`` gives each item a pair of its own.
    style: str = ""
    explode: bool = True
    #: The media type of a value that is written as a body would be; "" for a plain one.
    media_type: str = ""
    #: An example may be an object, which has no hash.
    examples: tuple[object, ...] = field(default=(), hash=False)
    #: What the contract says of it in the words of its introduction and of operations.
    elsewhere: str = field(default="", compare=False, repr=False)


@dataclass(frozen=True)
class Body:
    required: bool
    content: tuple[MediaType, ...]
    place: Place


@dataclass(frozen=True)
class Operation:
    """One method on one path. ``security`` holds alternatives, each a set of scheme names; an empty set
    means that no credentials are needed, and None that the contract says nothing."""

    method: str
    path: str
    operation_id: str
    summary: str
    description: str
    tags: tuple[str, ...]
    parameters: tuple[Parameter, ...]
    body: Body | None
    responses: tuple[Response, ...]
    security: tuple[frozenset[str], ...] | None
    place: Place

    def __str__(self) -> str:
        return f"{self.method} {self.path}"

    def response(self, status: int) -> Response | None:
        """The documented answer that a status falls under, the most particular one first (OpenAPI 3.1,
        4.8.16)."""
        by_status = {response.status.upper(): response for response in self.responses}
        for key in (str(status), f"{status // 100}XX", "DEFAULT"):
            if key in by_status:
                return by_status[key]
        return None

    def query_parameter(self, name: str | None) -> Parameter | None:
        return next((each for each in self.parameters if each.location == "query" and each.name == name), None)

    def success(self) -> tuple[Response, ...]:
        return tuple(response for response in self.responses if response.status.startswith("2"))

    @property
    def open(self) -> bool:
        """Whether the contract says that no credentials are needed."""
        return self.security is None or not self.security or frozenset() in self.security


@dataclass(frozen=True)
class SecurityScheme:
    """``type`` and the rest as OpenAPI has them; ``parameter`` and ``where`` are those of an API key."""

    name: str
    type: str
    scheme: str = ""
    parameter: str = ""
    where: str = ""


@dataclass(frozen=True)
class Server:
    """``url`` may have ``{variables}``, of which each has its default, and be relative to the contract's."""

    url: str
    description: str
    name: str = ""
    variables: Mapping[str, str] = field(default_factory=dict, hash=False)

    def filled(self, values: Mapping[str, str]) -> str:
        """The URL with its variables filled, each by the value given or its default (OpenAPI 3.1, 4.8.5)."""
        url = self.url
        for name, usual in self.variables.items():
            url = url.replace("{" + name + "}", values.get(name, usual))
        return url


@dataclass(frozen=True)
class Flaw:
    """Something wrong with the contract itself."""

    severity: Literal["error", "warning", "note"]
    kind: str
    message: str
    place: Place


@dataclass(frozen=True)
class Contract:
    location: str
    version: str
    title: str
    operations: tuple[Operation, ...]
    servers: tuple[Server, ...]
    schemes: tuple[SecurityScheme, ...]
    flaws: tuple[Flaw, ...]
    library: Library = field(repr=False, compare=False)

    def operation(self, method: str, path: str) -> Operation | None:
        return next((each for each in self.operations if (each.method, each.path) == (method, path)), None)

    def named(self, reference: str) -> Operation | None:
        """The operation with an id, or that a reference such as ``#/paths/~1species/get`` leads to."""
        path, _, method = reference.rpartition("/")
        for each in self.operations:
            pointed = path.endswith("/paths" + join("", each.path)) and method.upper() == each.method
            if each.operation_id == reference or pointed:
                return each
        return None

    def line(self, place: Place) -> int:
        return self.library.lines([place])[place][0]
