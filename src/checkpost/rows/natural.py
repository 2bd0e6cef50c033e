"""Rows that a record may be taken for: some APIs change the row that has the same values, and make none."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from checkpost.wire.listing import Row


def _as_text(value: Any) -> str:
    """A value as it may tell a row from others; "" for what never does."""
    if isinstance(value, bool) or not isinstance(value, str | int):
        return ""
    return str(value).strip().casefold()


class Natural:
    """The rows of others in a table, by the values of their fields. ``kinds`` are fields that sort rows by kind, and
    tell none from all others by themselves, however few there are."""

    def __init__(self, rows: Sequence[Row], kinds: Collection[str] = ()) -> None:
        self._kinds = frozenset(kinds)
        self._texts = [{name: text for name, value in row.items() if (text := _as_text(value))} for row in rows]
        self._at: dict[str, defaultdict[str, list[int]]] = {}
        for place, texts in enumerate(self._texts):
            for name, text in texts.items():
                self._at.setdefault(name, defaultdict(list))[text].append(place)
        self._known: dict[frozenset[str], bool] = {}

    def largest(self, name: str) -> int | None:
        """The largest number that a field holds; None where it holds other texts than numbers, or nothing."""
        texts = list(self._at.get(name, ()))
        return max(map(int, texts)) if texts and all(re.fullmatch(r"-?\d{1,15}", text) for text in texts) else None

    def tells_apart(self, names: Iterable[str]) -> bool:
        """Whether no two rows agree in all these fields."""
        fields = frozenset(names)
        if not fields - self._kinds:
            return False
        if fields not in self._known:
            found = [tuple(texts[name] for name in fields) for texts in self._texts if fields <= texts.keys()]
            self._known[fields] = bool(found) and len(found) == len(set(found))
        return self._known[fields]

    def taken_for(self, record: Mapping[str, Any]) -> tuple[str, ...]:
        """The fields in which a record agrees with one row of others, if they tell that from all others; none else."""
        agreed: defaultdict[int, list[str]] = defaultdict(list)
        for name, value in record.items():
            for place in self._at[name].get(_as_text(value), ()) if name in self._at else ():
                agreed[place].append(name)
        return next((tuple(names) for names in agreed.values() if self.tells_apart(names)), ())
