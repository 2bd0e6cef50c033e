"""Rows that a record may be taken for: some APIs change the row that has the same values, and make none."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np

from checkpost.wire.listing import Row

#: How many fields are looked at together.
_MOST = 60
#: The code of a value that tells nothing, and of one that no row has.
_NOTHING, _NOWHERE = -1, -2


def _as_text(value: Any) -> str:
    """A value as it may tell a row from others; "" for what never does."""
    if isinstance(value, bool) or not isinstance(value, str | int):
        return ""
    return str(value).strip().casefold()


class Natural:
    """The rows of others in a table, by the values of their fields. ``kinds`` are fields that sort rows by kind, and
    tell none from all others by themselves, however few there are."""

    def __init__(self, rows: Sequence[Row], kinds: Collection[str] = ()) -> None:
        self._rows, self._kinds = rows, frozenset(kinds)
        self._known: dict[frozenset[str], bool] = {}

    @cached_property
    def _texts(self) -> dict[str, dict[str, int]]:
        """The values of each field, numbered as they come; made when first asked for."""
        found: dict[str, dict[str, int]] = {}
        for row in self._rows:
            for name, value in row.items():
                if text := _as_text(value):
                    found.setdefault(name, {}).setdefault(text, len(found[name]))
        return found

    @cached_property
    def _codes(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The numbers of the values, a row for each row and a column for each field."""
        columns = [
            [known.get(_as_text(row.get(name)), _NOTHING) for row in self._rows] for name, known in self._texts.items()
        ]
        return np.array(columns, dtype=np.int64).reshape(len(columns), len(self._rows)).T

    @cached_property
    def _places(self) -> dict[str, int]:
        return {name: place for place, name in enumerate(self._texts)}

    def largest(self, name: str) -> int | None:
        """The largest number that a field holds; None where it holds other texts than numbers, or nothing."""
        texts = self._texts.get(name, {})
        return max(map(int, texts)) if texts and all(re.fullmatch(r"-?\d{1,15}", text) for text in texts) else None

    def tells_apart(self, names: Iterable[str]) -> bool:
        """Whether no two rows agree in all these fields."""
        fields = frozenset(names)
        if not fields - self._kinds or not fields <= self._places.keys():
            return False
        if fields not in self._known:
            codes = self._codes[:, [self._places[name] for name in fields]]
            whole = codes[(codes != _NOTHING).all(axis=1)]
            self._known[fields] = bool(len(whole)) and len(np.unique(whole, axis=0)) == len(whole)
        return self._known[fields]

    def taken_for(self, record: Mapping[str, Any]) -> tuple[str, ...]:
        """The fields in which a record agrees with one row of others, if they tell that from all others; none else."""
        wanted = {
            name: self._texts[name].get(_as_text(value), _NOWHERE)
            for name, value in record.items()
            if name in self._texts
        }
        names = [name for name, code in wanted.items() if code != _NOWHERE]
        names = names[:_MOST]
        if len(names) < 2:  # most that is asked is of one value, which costs no more than to look it up
            return tuple(names) if self.tells_apart(names) else ()
        agreed = self._codes[:, [self._places[name] for name in names]] == [wanted[name] for name in names]
        # few of the combinations that there may be are there
        for each in np.unique(agreed @ (1 << np.arange(len(names)))):
            same = tuple(name for place, name in enumerate(names) if each >> place & 1)
            if self.tells_apart(same):
                return same
        return ()
