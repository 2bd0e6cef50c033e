"""Which rows of a snapshot a condition of the profile leaves; it may look at rows that are referred to."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from checkpost.model.field import Field
from checkpost.model.query import Compare, Condition, Either, Every, Not
from checkpost.oracle.columns import moment, number
from checkpost.oracle.same import same

Row = Mapping[str, Any]
#: The value of a field of a row, or of one that it refers to (``a.b``), and the field.
Look = Callable[[Row, str], tuple[Any, Field | None]]


def holds(condition: Condition | None, row: Row, look: Look) -> bool:
    """Whether a row satisfies a condition; a comparison with null does not, as in SQL."""
    if condition is None:
        return True
    if isinstance(condition, Every):
        return all(holds(part, row, look) for part in condition.parts)
    if isinstance(condition, Either):
        return any(holds(part, row, look) for part in condition.parts)
    if isinstance(condition, Not):
        return not holds(condition.inner, row, look)
    return _compared(condition, *look(row, condition.field))


def _compared(compare: Compare, value: Any, field: Field | None) -> bool:
    operator, wanted = compare.operator, compare.value
    if operator in {"null", "not_null"}:
        return (value is None) == (operator == "null")
    if value is None:
        return False
    if operator == "in":
        return any(same(field, each, value) for each in wanted)
    if operator in {"eq", "ne"}:
        return same(field, wanted, value) == (operator == "eq")
    if operator in {"contains", "starts"}:
        text, part = str(value), str(wanted)
        return part in text if operator == "contains" else text.startswith(part)
    own, other = _ordered(value, field), _ordered(wanted, field)
    if own is None or other is None or type(own) is not type(other):
        return False
    return bool({"lt": own < other, "le": own <= other, "gt": own > other, "ge": own >= other}[operator])


def _ordered(value: Any, field: Field | None) -> Any:
    kind = field.kind if field is not None else ""
    if kind in {"date", "date-time"}:
        return moment(value, kind)
    found = number(value) if kind != "text" else None
    return float(found) if found is not None else (value if isinstance(value, str) else None)
