"""What an answer to a write shows, where a request may say so (RFC 7240, 4.2)."""

from __future__ import annotations

import re

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of

SHOW_THE_ROW = "return=representation"
SHOW_NOTHING = "return=minimal"


def choices(parameter: Parameter) -> frozenset[str]:
    """The preferences that a contract names for the ``return`` of a write; none for another parameter."""
    if parameter.location != "header" or parameter.name.lower() != "prefer":
        return frozenset()
    said = f"{said_of(parameter)} {shape_of(parameter.schema).keywords.get('enum', '')}"
    return frozenset(re.findall(r"return=(?:representation|minimal)", said))


def asks_for_the_row(parameter: Parameter) -> bool:
    return SHOW_THE_ROW in choices(parameter)


def preferences(operation: Operation) -> frozenset[str]:
    """What a request of an operation may prefer to be shown."""
    return frozenset().union(*(choices(each) for each in operation.parameters))
