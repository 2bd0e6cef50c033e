"""The rows of all tables at two moments, and how they differ."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from checkpost.database.agreement import as_texts, plain

if TYPE_CHECKING:
    from checkpost.database.connection import Table

Rows = Sequence[Mapping[str, Any]]


@dataclass(frozen=True)
class Changed:
    """How a table is not what it was: the keys of rows that are gone, are there anew, or changed (each with the columns
    that did)."""

    table: str
    gone: tuple[tuple[Any, ...], ...] = ()
    new: tuple[tuple[Any, ...], ...] = ()
    changed: Mapping[tuple[Any, ...], tuple[str, ...]] | None = None

    def __str__(self) -> str:
        parts = [
            f"{len(keys)} {word}"
            for keys, word in ((self.gone, "gone"), (self.new, "more"), (tuple(self.changed or ()), "changed"))
            if keys
        ]
        return f"{self.table}: {', '.join(parts)}"


@dataclass(frozen=True)
class Compared:
    """All tables of a database before and after: how many ``tables`` and ``rows`` were compared, and those that
    ``differ``; ``skipped`` names tables that were too long. ``kept`` counts rows of the run's that were deleted and are
    still there, ``beside`` are tables that differ and that no resource shows: an audit log, say. ``problem`` says why
    nothing was compared."""

    database: str
    tables: int
    rows: int
    differ: tuple[Changed, ...] = ()
    skipped: tuple[str, ...] = ()
    kept: Mapping[str, int] = field(default_factory=dict)
    beside: tuple[Changed, ...] = ()
    problem: str = ""


def compared(
    database: str, tables: Sequence[Table], before: Mapping[str, Rows | None], after: Mapping[str, Rows | None]
) -> Compared:
    """Hold the rows of two moments against each other, table by table."""
    differ, rows, skipped, counted = [], 0, [], 0
    for table in tables:
        then, now = before.get(table.name), after.get(table.name)
        if table.is_view:
            continue
        if then is None or now is None:
            skipped.append(table.name)
            continue
        counted += 1
        rows += len(then)
        changed = _changed(table, then, now)
        if changed is not None:
            differ.append(changed)
    return Compared(database, counted, rows, tuple(differ), tuple(skipped))


def without_kept(
    found: Compared, made: Mapping[str, Collection[tuple[str, ...]]], told: Collection[tuple[str, tuple[str, ...]]] = ()
) -> Compared:
    """The same, with rows that the run has ``made`` (by table, their keys as texts) counted as kept, but for those of
    which it is ``told`` that they stay; and what no resource shows, the tables that are not in ``made``, set aside."""
    differ, beside, kept = [], [], {}
    for each in found.differ:
        if each.table not in made:
            beside.append(each)
            continue
        texts = {key: as_texts(key) for key in each.new}
        own = [key for key, text in texts.items() if text in made[each.table]]
        number = len([key for key in own if (each.table, texts[key]) not in told])
        if number:
            kept[each.table] = number
        rest = replace(each, new=tuple(key for key in each.new if key not in own))
        if rest.gone or rest.new or rest.changed:
            differ.append(rest)
    return replace(found, differ=tuple(differ), beside=tuple(beside), kept=kept)


def _changed(table: Table, before: Rows, after: Rows) -> Changed | None:
    names = table.key or tuple(each.name for each in table.columns)
    then, now = ({tuple(_hashable(row[name]) for name in names): row for row in rows} for rows in (before, after))
    if len(then) < len(before) or len(now) < len(after):  # rows that are alike: no key tells them apart
        counts = [
            Counter(tuple(_hashable(value) for value in row.values()) for row in rows) for rows in (before, after)
        ]
        gone, new = counts[0] - counts[1], counts[1] - counts[0]
        return Changed(table.name, tuple(gone.elements()), tuple(new.elements())) if gone or new else None
    changed = {
        key: columns
        for key, row in then.items()
        if key in now and (columns := tuple(name for name in row if row[name] != now[key][name]))
    }
    gone_keys = tuple(key for key in then if key not in now)
    new_keys = tuple(key for key in now if key not in then)
    return Changed(table.name, gone_keys, new_keys, changed) if gone_keys or new_keys or changed else None


def _hashable(value: Any) -> Any:
    value = plain(value)
    return str(value) if isinstance(value, list | dict) else value
