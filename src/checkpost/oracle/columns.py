"""The rows of a list as columns: NumPy arrays with masks for nulls, built once for all questions."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from checkpost.model.field import Field
from checkpost.oracle.same import instant

Mask = NDArray[np.bool_]
Row = Mapping[str, Any]
_TEXT = np.dtypes.StringDType()
_DAY = 86_400_000_000
_WHOLE = re.compile(r"-?\d{1,18}", re.ASCII)


def without_accents(text: str) -> str:
    """A text without combining marks, by canonical decomposition (Unicode, UAX 15)."""
    return "".join(sign for sign in unicodedata.normalize("NFD", text) if not unicodedata.combining(sign))


def _ascii_lowered(text: str) -> str:
    return "".join(sign.lower() if sign.isascii() else sign for sign in text)


def _loose(text: str) -> str:
    return "".join(sign for sign in without_accents(text).casefold() if sign.isalnum())


def _as_number(text: str) -> str:
    """A text that holds a number, so that the order of texts is that of numbers."""
    value = number(text)
    return text if value is None or abs(value) > 1e15 else f"{value + 1e15:032.9f}"


#: What a text becomes under a reading before it is compared.
FORMS: Mapping[str, Callable[[str], str]] = {
    "exact": lambda text: text,
    "ascii": _ascii_lowered,
    "case": lambda text: text.casefold(),
    "accent": lambda text: without_accents(text).casefold(),
    "upper": lambda text: text.upper(),
    "loose": _loose,
    "number": _as_number,
}


def is_plain(text: str) -> bool:
    """Whether every collation in use agrees on a text's letters: ASCII letters, digits, spaces, ``-``; or a number."""
    return text.isascii() and (all(sign.isalnum() or sign in " -" for sign in text) or number(text) is not None)


@dataclass(frozen=True)
class Column:
    """The values of one field. ``kind`` is the field's; numbers are float64 or int64, moments microseconds
    since 1970 (UTC), texts strings; ``odd`` marks values that are not of the kind, which no oracle judges."""

    kind: str
    values: NDArray[Any]
    null: Mask
    odd: Mask
    _forms: dict[str, NDArray[Any]] = field(default_factory=dict, repr=False)

    def form(self, name: str, padded: bool = False) -> NDArray[Any]:
        """The texts as a reading compares them; ``padded`` takes spaces at the end for nothing."""
        known = f"{name} {padded}"
        if known not in self._forms:
            change = FORMS[name]
            texts = [change(text).rstrip(" ") if padded else change(text) for text in self.values.tolist()]
            self._forms[known] = np.array(texts, dtype=_TEXT)
        return self._forms[known]

    def plain(self) -> Mask:
        """Where a text's place in an order does not depend on the language."""
        if "plain" not in self._forms:
            self._forms["plain"] = np.array([is_plain(text) for text in self.values.tolist()], dtype=bool)
        return self._forms["plain"]


def moment(value: Any, kind: str) -> int | None:
    """A date or date-time (RFC 3339) in microseconds since 1970; None where it is none."""
    if not isinstance(value, str):
        return None
    if kind == "date":
        try:
            return (date.fromisoformat(value[:10]) - date(1970, 1, 1)).days * _DAY
        except ValueError:
            return None
    found = instant(value)
    if found is None:
        return None
    since = found - datetime(1970, 1, 1, tzinfo=UTC)
    return (since.days * 86400 + since.seconds) * 1_000_000 + since.microseconds


def sound_text(text: str) -> str:
    """A text without lone surrogates, which no array of texts can hold."""
    return text.encode("utf-8", "replace").decode("utf-8")


def number(value: Any) -> int | float | None:
    """A number, also one that is written as text; None where it is none."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return value
    if isinstance(value, str) and _WHOLE.fullmatch(value):
        return int(value)
    try:
        return float(value)
    except (TypeError, ValueError):
        return None


def column(kind: str, values: Sequence[Any]) -> Column:
    """A column of a kind (``Field.kind``) from JSON values."""
    null = np.array([value is None for value in values], dtype=bool)
    if kind == "number":
        read: list[Any] = [number(value) for value in values]
        whole = all(value is None or (isinstance(value, int) and abs(value) < 2**62) for value in read)
        filled = [0 if value is None else value for value in read]
        array: NDArray[Any] = np.array(filled, dtype=np.int64 if whole else np.float64)
    elif kind in {"date", "date-time"}:
        read = [moment(value, kind) for value in values]
        array = np.array([value or 0 for value in read], dtype=np.int64)
    elif kind == "boolean":
        read = [value if isinstance(value, bool) else None for value in values]
        array = np.array([bool(value) for value in read], dtype=bool)
    else:
        read = [value if isinstance(value, str) else None for value in values]
        texts = [sound_text(value or "") for value in read]
        array = np.array([text.lower() for text in texts] if kind == "uuid" else texts, dtype=_TEXT)
    odd = np.array([value is None for value in read], dtype=bool) & ~null
    return Column(kind, array, null, odd)


@dataclass
class Snapshot:
    """The rows of a list as one role sees them. ``whole`` says whether they are all there are, ``total`` how many rows
    the list had, if it tells."""

    rows: Sequence[Row]
    keys: Sequence[tuple[Any, ...]]
    fields: Mapping[str, Field]
    whole: bool = True
    total: int | None = None
    positions: dict[tuple[Any, ...], int] = field(default_factory=dict)
    _columns: dict[str, Column] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.positions = {key: position for position, key in enumerate(self.keys)}

    def __len__(self) -> int:
        return len(self.rows)

    def unchanged(self, later: Snapshot) -> bool:
        """Whether a later reading shows the same rows, and as many of them."""
        return list(self.keys) == list(later.keys) and self.total == later.total

    @property
    def counted(self) -> bool:
        """Whether rows that came or went meanwhile would be seen."""
        return self.whole or self.total is not None

    def column(self, name: str) -> Column:
        """The column of a field, built when it is first asked for."""
        if name not in self._columns:
            values = [row.get(name) for row in self.rows]
            self._columns[name] = column(self.fields[name].kind, values)
        return self._columns[name]

    def mask(self, keys: Sequence[tuple[Any, ...] | None]) -> tuple[Mask, list[tuple[Any, ...]]]:
        """Where rows with these keys are, and the keys that are none of its rows."""
        found = [self.positions[key] for key in keys if key is not None and key in self.positions]
        mask = np.zeros(len(self.rows), dtype=bool)
        mask[found] = True
        return mask, [key for key in keys if key is not None and key not in self.positions]
