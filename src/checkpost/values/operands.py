"""Values to filter by, chosen from what a column holds so that a wrong comparison shows."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import date, timedelta
from typing import Any

import numpy as np

from checkpost.model.field import Field
from checkpost.model.query import PATTERNS, Compare, Operator
from checkpost.oracle.columns import Snapshot, is_plain, number

_RANGES: frozenset[Operator] = frozenset({"lt", "le", "gt", "ge", "from", "to"})
#: Identifiers of version 4 that no table holds, and one for a table that holds them all the same.
_UUIDS = [f"{0x7FFFFFF0 + number:08x}-0000-4000-8000-000000000000" for number in range(8)]
_AWKWARD = "'\"%_+&,\\;#?= "


def conditions(field: Field, operators: Sequence[Operator], snapshot: Snapshot, absent_text: str) -> Iterator[Compare]:
    """Comparisons of a field with values that are there, that are not, at a boundary, null and awkward.
    ``absent_text`` is a text that no row has."""
    known = _known(field, snapshot)
    if not known:
        return
    for operator in operators:
        if operator in {"null", "not_null"}:
            if field.nullable:
                yield Compare(field.name, operator)
            continue
        for value in _values(field, operator, known, absent_text):
            yield Compare(field.name, operator, value)


def _known(field: Field, snapshot: Snapshot) -> list[Any]:
    """The distinct values of a field, in order."""
    column = snapshot.column(field.name)
    values = {
        row[field.name]
        for row, odd in zip(snapshot.rows, column.odd, strict=True)
        if not odd and _usable(row.get(field.name))
    }
    if field.kind == "number":
        return sorted({read for value in values if (read := number(value)) is not None})
    return sorted(values, key=str)


def _usable(value: Any) -> bool:
    return isinstance(value, str | int | float) and not (isinstance(value, str) and "\x00" in value)


def _values(field: Field, operator: Operator, known: Sequence[Any], absent_text: str) -> list[Any]:
    if field.kind == "boolean":
        return [True, False] if operator == "eq" else ([True] if operator == "ne" else [])
    middle = _middle(field, known)
    absent = _absent(field, known, absent_text)
    if operator in PATTERNS:
        return _patterns(operator, known) if field.kind == "text" and "enum" not in field.keywords else []
    if operator in {"in", "not_in"}:
        plain = [value for value in known if value != "" and not set(str(value)) & set(_AWKWARD)] or [middle]
        chosen = [(plain[0], plain[-1]), (plain[len(plain) // 2], *([absent] if absent is not None else []))]
        return [each for each in chosen if len(each) > 1] or [(plain[0],)]
    if operator == "between":
        if field.kind == "text":
            return []
        return [(known[len(known) // 4], known[(3 * len(known)) // 4])]
    if operator in _RANGES:
        if field.kind in {"uuid"} or "enum" in field.keywords:
            return []
        return list(dict.fromkeys([middle, *_telling(field, operator, known)]))
    several = [middle, *([absent] if absent is not None else [])]
    if operator in {"eq", "match"}:
        several += _striking(field, known)
    if operator == "eq" and field.kind == "text" and not {"enum", "pattern"} & field.keywords.keys():
        several += _nearly(known)
    return list(dict.fromkeys(several))


def _middle(field: Field, known: Sequence[Any]) -> Any:
    """A value from the middle; of numbers one that single precision keeps, of texts one without signs that
    need care."""
    order = sorted(range(len(known)), key=lambda index: abs(index - len(known) // 2))
    easy: Callable[[Any], bool] = lambda value: True  # noqa: E731
    if field.kind == "number":
        easy = lambda value: float(np.float32(value)) == value and value  # noqa: E731
    elif field.kind == "text":
        easy = lambda value: bool(value) and is_plain(value) and value == value.strip()  # noqa: E731
    return next((known[index] for index in order if easy(known[index])), known[order[0]])


def _absent(field: Field, known: Sequence[Any], absent_text: str) -> Any:
    """A value of the field's kind that no row has; None where there is none to be had."""
    if field.kind == "number":
        largest = field.keywords.get("maximum")
        value = int(max(known)) + 1
        return value if largest is None or value <= largest else None
    if field.kind == "date":
        return (date.fromisoformat(max(known)[:10]) + timedelta(days=1)).isoformat()
    if field.kind == "date-time":
        return "1901-01-01T00:00:00Z"
    if field.kind == "uuid":
        return next((value for value in _UUIDS if value not in known), None)
    if "enum" in field.keywords or "pattern" in field.keywords:
        rest = [value for value in field.keywords.get("enum") or () if value is not None and value not in known]
        return rest[0] if rest else None
    return absent_text


def _telling(field: Field, operator: Operator, known: Sequence[Any]) -> list[Any]:
    """Numbers at which comparing digits as text gives another answer."""
    if field.kind != "number":
        return []
    sample = known[:: max(1, len(known) // 60)]
    above = operator in {"gt", "ge", "from"}

    texts = [str(value) for value in sample]

    def wrong(bound: Any) -> int:
        text = str(bound)
        if above:
            return sum((value > bound) != (other > text) for value, other in zip(sample, texts, strict=True))
        return sum((value < bound) != (other < text) for value, other in zip(sample, texts, strict=True))

    usable = [value for value in sample if float(np.float32(value)) == value]
    return [max(usable, key=wrong)] if usable else []


def _striking(field: Field, known: Sequence[Any]) -> list[Any]:
    """Values that are often mishandled: zero, the empty text, texts with signs of the query's own."""
    if field.kind == "number":
        fractions = [value for value in known if float(value) % 1 and float(np.float32(value)) == value]
        return [0, *fractions[len(fractions) // 2 :][:1]]
    if field.kind != "text":
        return list(known[:2]) if "enum" in field.keywords else []
    if "enum" in field.keywords:
        return list(known[:4])
    found = []
    for sign in _AWKWARD:
        value = next(
            (value for value in known if sign in value and value == value.strip() and value not in found), None
        )
        if value is not None:
            found.append(value)
    beyond = next((value for value in known if not value.isascii()), None)
    leading = next((value for value in known if value.isdigit() and value.startswith("0") and len(value) > 1), None)
    return [*found, *(value for value in (beyond, leading) if value is not None), *([""] if "" in known else [])]


def _nearly(known: Sequence[str]) -> list[str]:
    """Texts that no row has, and that are found where equality is taken for something looser: with which one begins,
    and one with a wildcard in place of a letter and of the end (SQL, LIKE)."""
    taken = {value.casefold() for value in known}
    usable = [value for value in known if len(value) > 3 and is_plain(value) and value == value.strip()]
    for value in usable:
        begins, like = value[: len(value) // 2 + 1].strip(), f"{value[0]}_{value[2:-1]}%"
        # of digits alone it may be another notation of a number that is there
        if begins.casefold() not in taken and sum(map(str.isalpha, begins)) > 1:
            return [begins, like]
    return []


def _patterns(operator: Operator, known: Sequence[str]) -> list[str]:
    """Parts of texts that are there: letters only, and one with a wildcard's or quote's sign in it."""
    texts = [value for value in known if len(value) >= 3 and value == value.strip()]
    simple = [value for value in texts if is_plain(value) and "_" not in value]
    if not simple:
        return []
    chosen = [_part(operator, simple[len(simple) // 2])]
    for sign in "'%_":
        value = next((value for value in texts if sign in value), None)
        if value is not None and operator not in {"like", "ilike"}:
            place = value.index(sign)
            around = value[max(0, place - 1) : place + 2]
            part = {"starts": value[: place + 1], "ends": value[place:]}.get(operator.removeprefix("i"), around)
            chosen.append(part)
    return [part for part in chosen if part.strip() == part and part]


def _part(operator: Operator, text: str) -> str:
    kind = operator.removeprefix("i") if operator not in {"in"} else operator
    if kind == "starts":
        return text[:3].strip()
    if kind == "ends":
        return text[-3:].strip()
    middle = text[1:4].strip()
    return middle if kind == "contains" else f"%{middle}%"
