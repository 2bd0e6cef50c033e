"""Which rows of a list a run has made, where it did not learn their keys."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from checkpost.model.resource import Resource
from checkpost.oracle.same import same
from checkpost.wire.journal import Entry
from checkpost.wire.listing import Key, Listing


def marked(row: Mapping[str, Any], mark: str) -> bool:
    """Whether a text of the row bears the run's mark."""
    return any(mark in value for value in row.values() if isinstance(value, str))


def likeness(resource: Resource, record: Mapping[str, Any], row: Mapping[str, Any], mark: str) -> int:
    """How many fields of a row agree with a record; 0 if the row cannot come from it.

    It can if it bears the mark and agrees in half of the fields, or if it agrees in all of at least three
    (or of as many as such rows have).
    """
    shared = [name for name in record if name in row]
    agreeing = sum(same(resource.field(name), record[name], row[name]) for name in shared)
    if marked(row, mark) and agreeing >= max(1, len(shared) // 2):
        return agreeing
    telling = min(3, len([field for field in resource.writable("create") if field.shown]))
    return agreeing if agreeing == len(shared) >= telling else 0


def match(
    resource: Resource, entries: Sequence[Entry], listing: Listing, taken: Collection[Key], mark: str
) -> list[tuple[Entry, Key]]:
    """The rows that journaled records explain, one for each at the most; never one whose key is ``taken``
    (it was there before the run, or is known to be another of its rows)."""
    candidates = {key: row for key, row in listing.by_key.items() if key not in taken}
    found = []
    for entry in entries:
        scored = [
            (score, key)
            for key, row in candidates.items()
            if (score := likeness(resource, entry.record or {}, row, mark)) > 0
        ]
        if scored:
            _, key = max(scored, key=lambda each: each[0])
            candidates.pop(key)
            found.append((entry, key))
    return found
