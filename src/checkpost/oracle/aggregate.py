"""What aggregates of rows come to, grouped or not, and whether a number may stand for one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from checkpost.model.query import Measure
from checkpost.oracle.columns import FORMS, Mask, Snapshot, moment, number

#: How far a sum or average may be off: what double precision loses over as many additions as there are rows
#: stays well below this part of the sum of magnitudes.
TOLERANCE = 1e-9
Group = tuple[Any, ...]


def groups_of(snapshot: Snapshot, mask: Mask, names: Sequence[str]) -> dict[Group, Mask]:
    """The rows of each combination of values that there is; one group without names."""
    if not names:
        return {(): mask}
    values = [[row.get(name) for row in snapshot.rows] for name in names]
    found: dict[Group, list[int]] = {}
    for place in np.flatnonzero(mask).tolist():
        found.setdefault(tuple(column[place] for column in values), []).append(place)
    groups = {}
    for group, places in found.items():
        own = np.zeros(len(snapshot), dtype=bool)
        own[places] = True
        groups[group] = own
    return groups


def explains(snapshot: Snapshot, mask: Mask, measure: Measure, told: Any) -> bool:
    """Whether a value may stand for an aggregate of the rows of a mask, nulls left out.

    Admissible: sums and averages within ``TOLERANCE`` or rounded to a few places as shown; a whole average
    of whole numbers (integer division); null or zero for the sum of nothing; texts' extremes and distinct
    values under any collation.
    """
    if measure.function == "count" and not measure.field:
        return number(told) == int(mask.sum())
    column = snapshot.column(measure.field)
    known = mask & ~column.null & ~column.odd
    if bool((mask & column.odd).any()):
        return True
    if measure.function == "count":
        return number(told) == int(known.sum())
    if measure.function == "distinct":
        forms = ("exact", "ascii", "case", "accent") if column.kind == "text" else ("exact",)
        sets = [column.form(form) if column.kind == "text" else column.values for form in forms]
        return number(told) in {len(np.unique(values[known])) for values in sets}
    if not bool(known.any()):
        return told is None or (measure.function == "sum" and number(told) == 0)
    if told is None:
        return False
    if measure.function in {"min", "max"}:
        return _extreme(snapshot, measure, known, told)
    found = number(told)
    if found is None:
        return False
    values = column.values[known].astype(np.float64)
    total, size = float(values.sum()), float(np.abs(values).sum())
    if measure.function == "sum":
        return _close(found, total, size)
    average = total / len(values)
    whole = column.values.dtype == np.int64
    return _close(found, average, size / len(values)) or (whole and found in {np.trunc(average), np.round(average)})


def _close(told: float, exact: float, size: float) -> bool:
    """Whether a number is another one, up to what adding loses and to the places that it is rounded to: at
    least four, or four significant digits."""
    if abs(told - exact) <= TOLERANCE * max(size, 1e-300):
        return True
    places = len(repr(told).partition(".")[2]) if "e" not in repr(told) else 12
    return places >= 4 and abs(told - exact) <= 0.5000001 * 10**-places


def _extreme(snapshot: Snapshot, measure: Measure, known: Mask, told: Any) -> bool:
    column = snapshot.column(measure.field)
    least = measure.function == "min"
    if column.kind == "text":
        if not isinstance(told, str):
            return False
        for form in ("exact", "case", "upper", "loose"):
            texts = sorted(column.form(form)[known].tolist())
            if FORMS[form](told) == texts[0 if least else -1]:
                return True
        return not bool(column.plain()[known].all()) and told in column.values[known].tolist()
    values = column.values[known]
    extreme = values.min() if least else values.max()
    if column.kind == "number":
        found = number(told)
        return found is not None and _close(found, float(extreme), abs(float(extreme)))
    if column.kind in {"date", "date-time"}:
        when = moment(told, column.kind if column.kind == "date-time" or len(str(told)) <= 10 else "date-time")
        return when is not None and abs(when - int(extreme)) < 1_000_000
    return bool(told == extreme) or str(told).lower() == str(extreme).lower()


def shown_value(snapshot: Snapshot, mask: Mask, measure: Measure) -> Any:
    """The plain value of an aggregate, for a person to read."""
    if measure.function == "count" and not measure.field:
        return int(mask.sum())
    column = snapshot.column(measure.field)
    known = mask & ~column.null & ~column.odd
    rows: Mapping[str, Any] = {}
    if measure.function == "count":
        return int(known.sum())
    if measure.function == "distinct":
        return len(np.unique(column.values[known]))
    if not bool(known.any()):
        return None
    if measure.function in {"min", "max"}:
        values = column.values[known]
        place = np.flatnonzero(known)[int(values.argmin() if measure.function == "min" else values.argmax())]
        rows = snapshot.rows[int(place)]
        return rows[measure.field]
    total = column.values[known].astype(np.float64).sum()
    return float(total if measure.function == "sum" else total / int(known.sum()))
