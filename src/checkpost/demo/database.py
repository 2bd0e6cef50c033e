"""SQLite behind the stand-in: tables made from their definitions, rows in and out as JSON values."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from checkpost.demo.tables import Column, Table

Row = dict[str, Any]

_STORED_AS = {"integer": "INTEGER", "boolean": "INTEGER"}


def _declare(table: Table, column: Column) -> str:
    words = [f'"{column.name}"', _STORED_AS.get(column.type, "TEXT")]
    if table.key == (column.name,) and column.type == "integer":
        # Without AUTOINCREMENT, SQLite hands the highest key out again after a delete.
        words.append("PRIMARY KEY AUTOINCREMENT")
    if not column.nullable and not column.write_only:
        words.append("NOT NULL")
    if column.unique:
        words.append("UNIQUE")
    return " ".join(words)


def create_tables(connection: sqlite3.Connection, tables: Sequence[Table]) -> None:
    """Create every table, with its key, unique and foreign-key constraints."""
    by_name = {table.name: table for table in tables}
    connection.execute("PRAGMA foreign_keys = ON")
    for table in tables:
        parts = [_declare(table, column) for column in table.columns]
        if not any("PRIMARY KEY" in part for part in parts):
            parts.append("PRIMARY KEY (" + ", ".join(f'"{name}"' for name in table.key) + ")")
        parts.extend(
            f'FOREIGN KEY ("{column.name}") REFERENCES "{column.references}" '
            f'("{by_name[column.references].key[0]}") ON DELETE {column.on_delete.upper()}'
            for column in table.columns
            if column.references
        )
        connection.execute(f'CREATE TABLE "{table.name}" ({", ".join(parts)})')


def encode(column: Column, value: Any) -> Any:
    """A JSON value as it is stored."""
    if value is None:
        return None
    if column.type == "boolean":
        return int(value)
    if column.type == "integer":
        return int(value)
    if column.type == "decimal":
        return str(Decimal(str(value)).quantize(Decimal(1).scaleb(-(column.scale or 0))))
    return value


def decode(column: Column, stored: Any) -> Any:
    """A stored value as it is sent."""
    if stored is None:
        return None
    if column.type == "boolean":
        return bool(stored)
    if column.type == "decimal":
        return float(stored)
    return stored


class Database:
    """Statements on the tables; one connection, used from one thread at a time. Writes go to the tables themselves,
    reads to a view of the same name where a planted defect has put one before a table."""

    def __init__(self, path: str, tables: Sequence[Table], rows: Mapping[str, Sequence[Row]]) -> None:
        self.connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self.connection.execute("PRAGMA journal_mode = WAL")
        self.connection.execute("PRAGMA synchronous = OFF")
        present = self.connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
        if present:
            self.connection.execute("PRAGMA foreign_keys = ON")
            return
        create_tables(self.connection, tables)
        self.connection.execute("BEGIN")
        for table in tables:
            for row in rows[table.name]:
                self.insert(table, row)
        self.connection.execute("COMMIT")

    def _where(self, table: Table, key: Sequence[Any]) -> tuple[str, list[Any]]:
        return " AND ".join(f'"{name}" = ?' for name in table.key), list(key)

    def fetch(self, table: Table, key: Sequence[Any]) -> Row | None:
        condition, values = self._where(table, key)
        rows = self.select(table, f"WHERE {condition}", values)
        return rows[0] if rows else None

    def select(self, table: Table, rest: str = "", values: Sequence[Any] = ()) -> list[Row]:
        names = [column.name for column in table.columns]
        # most columns are sent as they are stored
        translated = [column for column in table.columns if column.type in {"boolean", "decimal"}]
        listed = ", ".join(f'"{name}"' for name in names)
        rows = []
        for line in self.connection.execute(f'SELECT {listed} FROM "{table.name}" {rest}', values):
            row = dict(zip(names, line, strict=True))
            for column in translated:
                row[column.name] = decode(column, row[column.name])
            rows.append(row)
        return rows

    def count(self, table: Table, rest: str = "", values: Sequence[Any] = ()) -> int:
        return int(self.connection.execute(f'SELECT count(*) FROM "{table.name}" {rest}', values).fetchone()[0])

    def insert(self, table: Table, row: Row) -> tuple[Any, ...]:
        """Store a row; the key that it has now. Raises sqlite3.IntegrityError."""
        names = list(row)
        cursor = self.connection.execute(
            f'INSERT INTO main."{table.name}" ({", ".join(chr(34) + name + chr(34) for name in names)}) '
            f"VALUES ({', '.join('?' * len(names))})",
            [encode(table.column(name), row[name]) for name in names],
        )
        return tuple(row.get(name, cursor.lastrowid) for name in table.key)

    def update(self, table: Table, key: Sequence[Any], values: Row) -> None:
        """Change the given columns of one row. Raises sqlite3.IntegrityError."""
        if not values:
            return
        condition, key_values = self._where(table, key)
        self.connection.execute(
            f'UPDATE main."{table.name}" SET {", ".join(f"{chr(34)}{name}{chr(34)} = ?" for name in values)} '
            f"WHERE {condition}",
            [*(encode(table.column(name), value) for name, value in values.items()), *key_values],
        )

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Statements of which all are kept, or none."""
        self.connection.execute("SAVEPOINT together")
        try:
            yield
        except BaseException:
            self.connection.execute("ROLLBACK TO together")
            raise
        finally:
            self.connection.execute("RELEASE together")

    def delete(self, table: Table, key: Sequence[Any]) -> None:
        condition, values = self._where(table, key)
        self.connection.execute(f'DELETE FROM main."{table.name}" WHERE {condition}', values)
