"""Fields with the limits that rows suggest: what lies between the values that are there is seldom refused."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from typing import Any

from checkpost.model.field import Field

#: Numbers beyond this are a type's limits, and no row's.
_HUGE = 1_000_000_000
#: How many steps the values of a field are apart at least, so that there are enough of them.
_STEPS = 20


#: Texts as long as this bear a mark of the run.
_SHORT = 16


def usual(field: Field, values: Iterable[Any]) -> Field:
    """A numeric field with limits between the values of rows, within those that the contract has; where no row tells,
    limits that are a type's alone are drawn in. A text of no stated length as long as rows have it."""
    if field.is_text and field.max_length is None:
        longest = max((len(value) for value in values if isinstance(value, str)), default=0)
        return replace(field, keywords={**field.keywords, "maxLength": max(longest, _SHORT)}) if longest else field
    if not field.types & {"integer", "number"} or field.unique or "enum" in field.keywords or "const" in field.keywords:
        return field
    known = [number for value in values if (number := _number(value)) is not None]
    stated = {name: field.keywords.get(name) for name in ("minimum", "maximum")}
    low = min(known, default=None)
    high = max(known, default=None)
    if low is None or high is None:
        least = _number(stated["minimum"])
        if least is None or least > -_HUGE:
            return field
        return replace(field, keywords={**field.keywords, "minimum": 1})
    if "multipleOf" in field.keywords or "exclusiveMinimum" in field.keywords or "exclusiveMaximum" in field.keywords:
        return field
    step = Decimal(1) if field.types <= {"integer"} else Decimal("0.01")
    high = max(high, low + _STEPS * step)
    least, most = _number(stated["minimum"]), _number(stated["maximum"])
    if most is not None and high > most:
        high = most
        low = min(low, high - _STEPS * step)
    low = max(low, least) if least is not None else low
    if low > high:
        return field
    return replace(field, keywords={**field.keywords, "minimum": _plain(low), "maximum": _plain(high)})


def _number(value: Any) -> Decimal | None:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return None
    try:
        number = Decimal(str(value))
    except InvalidOperation:
        return None
    return number if number.is_finite() else None


def _plain(number: Decimal) -> int | float:
    return int(number) if number == number.to_integral() else float(number)
