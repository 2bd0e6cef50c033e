"""How the stand-in's tables hang together, told from the columns that refer to others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from checkpost.demo.tables import Table


@dataclass(frozen=True)
class Related:
    """Rows of another table that belong to a row: ``table`` holds them. ``column`` is the row's own for one,
    the other table's for many; ``junction`` is the table between where both sides have many."""

    name: str
    table: Table
    column: str
    many: bool
    junction: Table | None = None
    #: The junction's column that refers to the other side.
    far: str = ""


def _short(column: str) -> str:
    return column.rsplit("_", 1)[0]


def is_junction(table: Table) -> bool:
    """Whether a table does nothing but bring rows of two others together."""
    return len(table.key) == 2 and all(table.column(name).references for name in table.key)


def to_one(table: Table, tables: Sequence[Table]) -> list[Related]:
    """What the columns of a table refer to, each by the column's name without its ending."""
    by_name = {each.name: each for each in tables}
    return [
        Related(_short(column.name), by_name[column.references], column.name, False)
        for column in table.columns
        if column.references and not is_junction(table)
    ]


def to_many(table: Table, tables: Sequence[Table]) -> list[Related]:
    """The tables whose rows refer to those of a table, also through a junction."""
    by_name = {each.name: each for each in tables}
    found = []
    for other in tables:
        for column in other.columns:
            if column.references != table.name:
                continue
            if not is_junction(other):
                found.append(Related(other.name, other, column.name, True))
                continue
            far = next(name for name in other.key if name != column.name)
            target = by_name[other.column(far).references or ""]
            found.append(Related(target.name, target, column.name, True, other, far))
    return found


def expandable(table: Table, tables: Sequence[Table]) -> dict[str, Related]:
    """What can be shown inside a row, by name; only of tables that some role can read."""
    found = [*to_one(table, tables), *to_many(table, tables)]
    return {each.name: each for each in found if each.table.exposed}


def depths(table: Table, tables: Sequence[Table]) -> list[str]:
    """The names that an expansion takes: relations, and behind a reference those of its target, by dots."""
    names = []
    for name, related in expandable(table, tables).items():
        names.append(name)
        if not related.many:
            names += [f"{name}.{deeper.name}" for deeper in to_one(related.table, tables)]
    return names
