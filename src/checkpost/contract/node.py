"""Points in a contract's documents, and the references between them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import unquote, urldefrag, urljoin

from checkpost.contract import pointer as pointers
from checkpost.contract.errors import Place
from checkpost.contract.mending import Mended
from checkpost.contract.parse import is_json, parse
from checkpost.contract.positions import locate
from checkpost.errors import CheckPostError

Load = Callable[[str], bytes]


class Unresolved(LookupError):
    """A reference that leads to nothing, or only to itself."""

    def __init__(self, reference: str, place: Place, why: str) -> None:
        super().__init__(f"the reference {reference!r} {why}")
        self.reference, self.place, self.why = reference, place, why


@dataclass
class Library:
    """The documents of one contract by location, loaded when first referred to.

    ``load`` gives the bytes at a location (a path or an absolute URL); ``normalise`` brings a document's
    schemas to JSON Schema 2020-12 without moving anything that is reported.
    """

    load: Load
    normalise: Callable[[Any], tuple[Any, list[Mended]]] = lambda document: (document, [])
    #: What was put right in each document on the way.
    mended: dict[str, list[Mended]] = field(default_factory=dict)
    texts: dict[str, str] = field(default_factory=dict)
    #: What has been worked out of a node, by its location and pointer: schemas are looked at over and over.
    shapes: dict[tuple[str, str], Any] = field(default_factory=dict)
    documents: dict[str, Any] = field(default_factory=dict)
    #: What each reference leads to, by the document that it stands in.
    targets: dict[tuple[str, str], Node] = field(default_factory=dict)
    #: Why documents that others refer to cannot be read, so that each is asked for once.
    unreadable: dict[str, str] = field(default_factory=dict)

    def document(self, location: str) -> Any:
        """The normalised document at a location. Raises ContractError, or what ``load`` raises."""
        if location not in self.documents:
            value, self.texts[location] = parse(location, self.load(location))
            self.documents[location], self.mended[location] = self.normalise(value)
        return self.documents[location]

    def root(self, location: str) -> Node:
        return Node(self, location, "", self.document(location))

    def lines(self, places: Iterator[Place] | list[Place]) -> dict[Place, tuple[int, int]]:
        """Line and column of each place; each document's text is gone through once."""
        by_location: dict[str, set[str]] = {}
        for place in places:
            by_location.setdefault(place.location, set()).add(place.pointer)
        found = {}
        for location, wanted in by_location.items():
            text = self.texts.get(location, "")
            for pointer, position in locate(text, is_json(location, text), wanted).items():
                found[Place(location, pointer)] = position
        return found


@dataclass(frozen=True)
class Node:
    """A value in a document, and where it stands."""

    library: Library = field(repr=False, compare=False)
    location: str
    pointer: str
    value: Any = field(repr=False, compare=False)

    @property
    def place(self) -> Place:
        return Place(self.location, self.pointer)

    @property
    def uri(self) -> str:
        return f"{self.location}#{self.pointer}"

    def child(self, key: str | int) -> Node:
        return Node(self.library, self.location, f"{self.pointer}/{pointers.escape(key)}", self.value[key])

    def get(self, key: str) -> Node | None:
        """The child, its references followed; None where there is none."""
        if not isinstance(self.value, dict) or key not in self.value:
            return None
        return self.child(key).resolved()

    def raw(self, key: str, default: Any = None) -> Any:
        return self.value.get(key, default) if isinstance(self.value, dict) else default

    def children(self) -> Iterator[tuple[str, Node]]:
        """The members of an object or array by key, references not followed."""
        if isinstance(self.value, dict):
            for key in self.value:
                yield key, self.child(key)
        elif isinstance(self.value, list):
            for index in range(len(self.value)):
                yield str(index), self.child(index)

    def resolved(self) -> Node:
        """The node that a chain of references ends at; itself where it is no reference. Raises Unresolved."""
        if not (isinstance(self.value, dict) and isinstance(self.value.get("$ref"), str)):
            return self
        node, seen = self, {self.uri}
        while isinstance(node.value, dict) and isinstance(node.value.get("$ref"), str):
            node = node.target()
            if node.uri in seen:
                raise Unresolved(self.value["$ref"], self.place, "leads back to itself")
            seen.add(node.uri)
        return node

    def target(self) -> Node:
        """What this node's ``$ref`` names, one step. Raises Unresolved."""
        reference: str = self.value["$ref"]
        known = self.library.targets.get((self.location, reference))
        if known is not None:
            return known
        address, fragment = urldefrag(reference)
        location = resolve_location(self.location, address) if address else self.location
        unreadable = self.library.unreadable
        try:
            document = self.library.document(location) if location not in unreadable else None
        except OSError as error:
            unreadable[location] = str(error.strerror or error)
        except CheckPostError as error:
            unreadable[location] = str(error).removeprefix(f"{location}: ").rstrip(".")
        if location in unreadable:
            why = f"names a document that cannot be read ({unreadable[location]})"
            raise Unresolved(reference, self.place, why) from None
        pointer = unquote(fragment)
        if pointer and not pointer.startswith("/"):
            raise Unresolved(reference, self.place, "is not a JSON Pointer")
        try:
            target = Node(self.library, location, pointer, pointers.walk(document, pointer))
        except (LookupError, ValueError):
            raise Unresolved(reference, self.place, "leads to nothing") from None
        self.library.targets[self.location, reference] = target
        return target


def resolve_location(base: str, reference: str) -> str:
    """A relative reference (RFC 3986, section 5) against a path or URL."""
    if "://" in base:
        return urljoin(base, reference)
    if "://" in reference:
        return reference
    from pathlib import Path

    return str(Path(base).parent.joinpath(unquote(reference)))
