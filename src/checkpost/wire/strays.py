"""Which rows of a list a run has made, where it did not learn their keys."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from checkpost.model.resource import Resource
from checkpost.oracle.same import same
from checkpost.wire.journal import Entry
from checkpost.wire.listing import Key, Listing, Row


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
    by_text: dict[tuple[str, str], list[Key]] = {}
    for key, row in candidates.items():
        for name, value in row.items():
            if isinstance(value, str):
                by_text.setdefault((name, value), []).append(key)
    found: list[tuple[Entry, Key]] = []
    rest: list[Entry] = []
    # rows with a text that no other has first: it is quicker than looking at each row for each record, and a
    # record that was refused may be a little like the row of another
    for entry in entries:
        record = entry.record or {}
        alike = [by_text[each] for each in record.items() if isinstance(each[1], str) and each in by_text]
        few = [keys[0] for keys in alike if len(keys) == 1 and keys[0] in candidates]
        best = _best(resource, record, few, candidates, mark)
        if best is None:
            rest.append(entry)
        else:
            candidates.pop(best)
            found.append((entry, best))
    for entry in rest:
        best = _best(resource, entry.record or {}, candidates, candidates, mark)
        if best is not None:
            candidates.pop(best)
            found.append((entry, best))
    return found


def _best(
    resource: Resource, record: Mapping[str, Any], keys: Iterable[Key], rows: Mapping[Key, Row], mark: str
) -> Key | None:
    """The key of the row that a record explains best; None where it explains none."""
    scored = [(score, key) for key in keys if (score := likeness(resource, record, rows[key], mark)) > 0]
    return max(scored, key=lambda each: each[0])[1] if scored else None
