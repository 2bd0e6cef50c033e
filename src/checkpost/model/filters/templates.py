"""Templates of conditions, by field and operator, and what every spelling of them has in common."""

from __future__ import annotations

from checkpost.contract.node import Node
from checkpost.model.query import Operator
from checkpost.model.shape import shape_of

Templates = dict[tuple[str, Operator], str]
#: What names a field in a condition that is put together of parts.
COLUMNS = ("field", "fieldpath", "fieldname", "column", "name", "property", "attribute", "key", "member", "path")
#: Operators whose operand is neither one value nor a list: none, two of them, or an edge of a range.
OTHERWISE: frozenset[Operator] = frozenset({"null", "not_null", "between", "from", "to"})
NEGATED: dict[Operator, Operator] = {"null": "not_null", "not_null": "null"}


def operand(operator: Operator) -> str:
    """What stands for the operand in a template: a value, or a list of them."""
    return "{values}" if operator in {"in", "not_in"} else "{value}"


def is_scalar(node: Node) -> bool:
    shape = shape_of(node)
    return bool(shape.types) and not shape.is_object and not shape.is_array
