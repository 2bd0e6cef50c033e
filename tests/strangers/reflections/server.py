"""A stranger: endpoints for the tables that a database has, by reflection alone. ``server.py PORT DATABASE``."""

from __future__ import annotations

import os
import sqlite3
import sys
from pathlib import Path

PORT, DATABASE = sys.argv[1:3]
SCHEMA = """
CREATE TABLE species (
    id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL UNIQUE, family VARCHAR(40), hardy BOOLEAN NOT NULL
);
CREATE TABLE vault (code VARCHAR(8) PRIMARY KEY, place VARCHAR(40) NOT NULL, kelvin FLOAT);
CREATE TABLE lot (
    id INTEGER PRIMARY KEY, label VARCHAR(40) NOT NULL, species_id INTEGER NOT NULL REFERENCES species (id),
    vault_code VARCHAR(8) REFERENCES vault (code), grams NUMERIC(8, 2) CHECK (grams >= 0), checked_at DATETIME
);
"""


def fill(connection: sqlite3.Connection) -> None:
    connection.executescript(SCHEMA)
    families = ("Poaceae", None, "Rosaceae")
    connection.executemany(
        "INSERT INTO species VALUES (?, ?, ?, ?)",
        [(n, f"Species {n}", families[n % 3], n % 3 > 0) for n in range(1, 13)],
    )
    connection.executemany("INSERT INTO vault VALUES (?, ?, ?)", [("NV-01", "Hall 1", 255.5), ("SB-7", "Hall 7", 254)])
    connection.executemany(
        "INSERT INTO lot VALUES (?, ?, ?, ?, ?, ?)",
        [
            (n, f"Lot {n:03}", 1 + n % 12, (None, "NV-01")[n % 2], n * 3.25, f"2021-01-{1 + n % 28:02} 08:00:00")
            for n in range(1, 48)
        ],
    )


if __name__ == "__main__":
    with sqlite3.connect(DATABASE) as opened:
        fill(opened)
    command = str(Path(sys.executable).with_name("auto-rest"))
    os.execv(command, [command, "--sqlite", "--db-name", DATABASE, "--server-port", PORT, "--log-level", "ERROR"])
