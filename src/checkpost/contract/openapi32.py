"""OpenAPI 3.2 to the internal form: what it has beyond 3.1."""

from __future__ import annotations

from collections.abc import Iterator

from checkpost.contract.contract import Contract
from checkpost.contract.node import Node
from checkpost.contract.openapi31 import METHODS, Reader
from checkpost.contract.openapi31 import normalise as normalise


class Reader32(Reader):
    """The method QUERY, methods of other names, and media types that are sequences (OpenAPI 3.2, 4.9, 4.14)."""

    methods = (*METHODS, "query")

    def operations_of(self, item: Node) -> Iterator[tuple[str, Node]]:
        yield from super().operations_of(item)
        for method, node in self.members(self.follow(item, "additionalOperations")):
            if isinstance(node.value, dict):
                yield method, node


def read(root: Node) -> Contract:
    """The contract that an OpenAPI 3.2 document describes."""
    return Reader32(root).read()
