"""Defects that the API itself hides: only the table shows them. What the API answers comes from a view that stands
before the table, as from a cache."""

from __future__ import annotations

import sqlite3
from typing import Any

from checkpost.demo.api import Key, TableApi
from checkpost.demo.database import Row, encode
from checkpost.demo.defects.registry import defect


class Veiled(TableApi):
    """A table before which a view stands: ``cache`` holds rows as the API shows them, ``veil`` the keys of rows that it
    does not show."""

    #: What the view makes of the table's own rows, where it is not the columns themselves.
    shown_as: dict[str, str] = {}  # noqa: RUF012 - a constant of each defect

    def __init__(self, *arguments: Any) -> None:
        super().__init__(*arguments)
        name, key = self.table.name, self.table.key[0]
        columns = ", ".join(
            f'{self.shown_as.get(each.name, chr(34) + each.name + chr(34))} AS "{each.name}"'
            for each in self.table.columns
        )
        self.connection.executescript(
            f'CREATE TEMP TABLE "{name}_cache" AS SELECT * FROM main."{name}" WHERE false;'
            f'CREATE TEMP TABLE "{name}_veil" ("{key}");'
            f'CREATE TEMP VIEW "{name}" AS SELECT * FROM "{name}_cache" UNION ALL SELECT {columns} FROM main."{name}" '
            f'WHERE "{key}" NOT IN (SELECT "{key}" FROM "{name}_veil" UNION SELECT "{key}" FROM "{name}_cache")'
        )

    @property
    def connection(self) -> sqlite3.Connection:
        return self.database.connection

    def hide(self, key: Key) -> None:
        """Let the API no longer show a row."""
        name = self.table.name
        self.connection.execute(f'DELETE FROM "{name}_cache" WHERE "{self.table.key[0]}" = ?', key)
        self.connection.execute(f'INSERT INTO "{name}_veil" VALUES (?)', key)

    def show(self, row: Row) -> None:
        """Let the API show a row so, whatever the table holds."""
        name, key = self.table.name, self.table.key[0]
        self.connection.execute(f'DELETE FROM "{name}_cache" WHERE "{key}" = ?', [row[key]])
        names = ", ".join(f'"{each}"' for each in row)
        values = [encode(self.table.column(each), value) for each, value in row.items()]
        places = ", ".join("?" * len(row))
        self.connection.execute(f'INSERT INTO "{name}_cache" ({names}) VALUES ({places})', values)

    def drop(self, key: Key) -> None:
        """Remove a row from the table, and from the cache."""
        super().remove(key)
        self.connection.execute(f'DELETE FROM "{self.table.name}_cache" WHERE "{self.table.key[0]}" = ?', key)

    def remove(self, key: Key) -> None:
        self.drop(key)


@defect("delete-not-in-table", "loans", "DELETE", "database", "A deleted row stays in the table as it was.", item=True)
class DeleteNotInTable(Veiled):
    def remove(self, key: Key) -> None:
        self.hide(key)


@defect(
    "update-not-in-table", "vaults", "PATCH", "database", "A change reaches the cache and not the table.", item=True
)
class UpdateNotInTable(Veiled):
    def change(self, key: Key, values: Row) -> None:
        self.show((self.fetch(key) or {}) | values)


@defect("create-not-in-table", "tags", "POST", "database", "A created row is in the cache and not in the table.")
class CreateNotInTable(Veiled):
    def insert(self, values: Row) -> Key:
        last = self.connection.execute('SELECT max(id) FROM "tags"').fetchone()[0]
        self.show({**values, "id": last + 1})
        return (last + 1,)

    def change(self, key: Key, values: Row) -> None:
        self.show((self.fetch(key) or {}) | values)


@defect(
    "value-cut-in-table", "accessions", "POST", "database", "The table holds a text cut short, the cache all of it."
)
class ValueCutInTable(Veiled):
    def insert(self, values: Row) -> Key:
        text = values.get("remark")
        key = super().insert({**values, "remark": text[:5] if isinstance(text, str) else text})
        stored = self.database.select(self.table, f'WHERE "{self.table.key[0]}" = ?', list(key))[0]
        self.show({**stored, "remark": text})
        return key

    def change(self, key: Key, values: Row) -> None:
        row = (self.fetch(key) or {}) | values
        super().change(key, values)
        self.show(row)


@defect("row-hidden-everywhere", "species", "GET", "database", "A row of the table is nowhere to be found in the API.")
class RowHiddenEverywhere(Veiled):
    def __init__(self, *arguments: Any) -> None:
        super().__init__(*arguments)
        self.hide((3,))


@defect("value-stale-everywhere", "collectors", "GET", "database", "One row shows an old value wherever it is read.")
class ValueStaleEverywhere(Veiled):
    shown_as = {"name": "CASE WHEN rowid = 2 THEN 'Ada Old' ELSE name END"}  # noqa: RUF012


@defect(
    "neighbour-changed-in-table",
    "tags",
    "PATCH",
    "database",
    "A change reaches another row, which a cache hides.",
    item=True,
)
class NeighbourChangedInTable(Veiled):
    def change(self, key: Key, values: Row) -> None:
        other = self.fetch((2,))
        super().change(key, values)
        if other is not None and key != (2,):
            self.show(other)
            super().change((2,), {"colour": "#000000"})
