"""Fields with the limits that rows suggest: what lies between the values that are there is seldom refused."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from typing import Any

from checkpost.model.field import Field

#: Numbers beyond this are a type's limits, and no row's.
_HUGE = 1_000_000_000
#: How many steps the values of a field are apart at least, so that there are enough of them.
_STEPS = 20


#: Of how many different numbers a common divisor is no chance.
_TENS = 4
#: How far behind the last of the rows a row is put that has a place among them.
_FAR_BEHIND = 10_000
#: Texts as long as this bear a mark of the run.
ROOM = 16


def usual(field: Field, values: Iterable[Any], room: int = ROOM) -> Field:
    """A numeric field with limits between the values of rows, within those that the contract has; where no row tells,
    limits that are a type's alone are drawn in. A text of no stated length as long as rows have it, and of no stated
    format in the one that all rows have; ``room`` is how many signs it has at least."""
    values = list(values)
    # a format that no standard names (Date, Timestamp) tells less than rows do
    unknown = not field.format or (field.format not in _WRITTEN and field.format.lower() in _LOOSELY)
    if field.type == "string" and unknown and not field.keywords.keys() & {"pattern", "enum", "const"}:
        values = [value for value in values if value is not None]
        written = _written_alike(values)
        if not values and not field.format and _COLOURS.search(field.name):
            written = {"format": "color"}  # of no other texts does a name alone say as much
        field = replace(field, keywords={**field.keywords, **written})
        if field.format in _WRITTEN and field.kind != "number":
            return field
    if field.type == "string" and field.kind == "number":
        texts = [value for value in values if isinstance(value, str)]
        field, values = replace(field, keywords={**field.keywords, **({"like": texts[0]} if texts else {})}), texts
    elif field.is_text and (joint := _joint(values)):
        field = replace(field, keywords={**field.keywords, "joint": joint})
    if field.is_text and field.max_length is None:
        longest = max((len(value) for value in values if isinstance(value, str)), default=0)
        short = 1 < room < ROOM  # longer ones were refused
        room = max(longest, room) if longest or short else 0
        return replace(field, keywords={**field.keywords, "maxLength": room}) if room else field
    numeric = field.kind == "number" or bool(field.types & {"integer", "number"})
    if not numeric or field.unique or "enum" in field.keywords or "const" in field.keywords:
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
    if field.places:  # far behind all others, those to come among them, so that none of them is moved
        most = _number(stated["maximum"])
        far = int(high) + _FAR_BEHIND if most is None else min(int(high) + _FAR_BEHIND, int(most))
        return replace(field, keywords={**field.keywords, "minimum": far})
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
    whole = {"multipleOf": 1} if len(known) > 2 and all(each == each.to_integral() for each in known) else {}
    if whole and len(set(known)) >= _TENS and (tens := math.gcd(*map(int, known))) > 1:
        whole = {"multipleOf": tens}  # as where all are tens
    return replace(field, keywords={**field.keywords, **whole, "minimum": _plain(low), "maximum": _plain(high)})


def joined(field: Field, joint: str) -> Field:
    """A text field whose values have no spaces in them, but this in place of each; nothing is for names of small
    letters and digits alone."""
    return replace(field, keywords={**field.keywords, "joint": joint})


def _joint(values: Sequence[Any]) -> str:
    """The sign that stands for a space in the texts of a field, of which several rows have one and none a space: it is
    seldom that any other is taken."""
    texts = [value for value in values if isinstance(value, str) and value]
    if len(set(texts)) < _TELLING or not all(_JOINED.fullmatch(text) for text in texts):
        return ""
    return "_" if any("_" in text for text in texts) and not any("-" in text for text in texts) else "-"


#: How many different texts tell how all are written, and how such are written that have no spaces.
_TELLING, _JOINED = 3, re.compile(r"[\w./-]+", re.ASCII)


#: Formats that all texts of a field may have though its contract does not say so.
_WRITTEN = {
    "date": re.compile(r"\d{4}-\d\d-\d\d"),
    "date-time": re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:?\d\d)?"),
    "uuid": re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.I),
    "decimal": re.compile(r"-?\d{1,9}\.\d+"),
    "int64": re.compile(r"-?(0|[1-9]\d{0,9})"),
    "email": re.compile(r"[^@\s]+@[^@\s]+\.[^@\s]+"),
    "uri": re.compile(r"https?://\S+"),
    "color": re.compile(r"#[0-9a-f]{6}", re.I),
}
#: Names of fields that hold colours.
_COLOURS = re.compile(r"colou?r(?:_?(?:code|hex))?$", re.I)


#: Formats that are written so, or in other letters, for dates and times of any form.
_LOOSELY = frozenset(
    {"date", "datetime", "date_time", "date-time", "time", "timestamp", "timestamptz", "moment", "instant"}
)


def _written_alike(texts: Sequence[Any]) -> dict[str, str]:
    """The format that texts of rows have in common, with one of them after which dates and times are written."""
    if not texts or not all(isinstance(text, str) for text in texts):
        return {}
    for name, form in _WRITTEN.items():
        if all(form.fullmatch(text) for text in texts):
            days = name == "date-time" and all(text[11:19] == "00:00:00" for text in texts)
            return {"format": "date" if days else name, **({"like": texts[0]} if name.startswith("date") else {})}
    return {}


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
