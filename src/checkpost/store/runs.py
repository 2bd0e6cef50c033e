"""The store of runs: one SQLite file, ``.checkpost/runs.sqlite`` in the profile's folder."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from checkpost.errors import CheckPostError
from checkpost.rows.journal import FOLDER

Json = dict[str, Any]

_TABLES = """
CREATE TABLE IF NOT EXISTS run (name TEXT PRIMARY KEY, started TEXT NOT NULL, document TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS exchange (
    run TEXT NOT NULL REFERENCES run (name) ON DELETE CASCADE,
    number INTEGER NOT NULL,
    document TEXT NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
"""


def store_path(folder: Path) -> Path:
    return folder / FOLDER / "runs.sqlite"


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    try:
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.executescript(_TABLES)
            yield connection
    except sqlite3.DatabaseError as error:
        raise CheckPostError(
            f"{path}: the store of runs cannot be used ({error}); move it away to start anew."
        ) from None


def save(folder: Path, document: Json, exchanges: Iterable[Json]) -> None:
    """Keep a run's document and its exchanges, both masked already."""
    path = store_path(folder)
    path.parent.mkdir(parents=True, exist_ok=True)
    name = document["run"]["id"]
    with _opened(path) as connection:
        connection.execute(
            "INSERT INTO run VALUES (?, ?, ?)",
            (name, document["run"]["started"], json.dumps(document, ensure_ascii=True)),
        )
        connection.executemany(
            "INSERT INTO exchange VALUES (?, ?, ?)",
            ((name, each["number"], json.dumps(each, ensure_ascii=True)) for each in exchanges),
        )


def names(folder: Path) -> list[str]:
    """The names of the stored runs, the latest first."""
    if not store_path(folder).exists():
        return []
    with _opened(store_path(folder)) as connection:
        return [row[0] for row in connection.execute("SELECT name FROM run ORDER BY name DESC")]


def load(folder: Path, name: str) -> Json:
    """The document of a run. Raises CheckPostError if there is none of that name."""
    with _opened(store_path(folder)) as connection:
        row = connection.execute("SELECT document FROM run WHERE name = ?", (name,)).fetchone()
    if row is None:
        raise CheckPostError(f"There is no run {name!r} in {store_path(folder)}; checkpost show --list names them.")
    document: Json = json.loads(row[0])
    return document


def load_exchange(folder: Path, name: str, number: int) -> Json:
    """One exchange of a run. Raises CheckPostError if there is none of that number."""
    with _opened(store_path(folder)) as connection:
        row = connection.execute(
            "SELECT document FROM exchange WHERE run = ? AND number = ?", (name, number)
        ).fetchone()
    if row is None:
        raise CheckPostError(f"The run {name} has no exchange {number}.")
    exchange: Json = json.loads(row[0])
    return exchange


def load_exchanges(folder: Path, name: str) -> Iterator[Json]:
    """Every exchange of a run, in the order in which they were sent."""
    with _opened(store_path(folder)) as connection:
        for row in connection.execute("SELECT document FROM exchange WHERE run = ? ORDER BY number", (name,)):
            yield json.loads(row[0])
