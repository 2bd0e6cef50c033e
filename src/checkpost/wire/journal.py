"""What a run has created, written to disk before the request that creates it is sent.

One JSON object a line. A run that ends well removes its rows and then its journal; a journal that is still
there names what a run may have left behind.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

FOLDER = ".checkpost"
Key = tuple[Any, ...]
#: Not every system has fdatasync.
_to_disk = getattr(os, "fdatasync", os.fsync)


@dataclass(frozen=True)
class Entry:
    """A row that a run meant to create: its resource, the record sent, and its key once known.
    ``confirmed`` says that the API answered that it made the row, ``held`` is the row as it is to be found
    again, where it was left there on purpose."""

    number: int
    resource: str
    record: Mapping[str, Any] | None
    key: Key | None
    confirmed: bool = False
    held: Mapping[str, Any] | None = None


class Journal:
    """The journal of one run. Lines outlive this process as soon as they are written, and the machine once
    they are synced."""

    def __init__(self, path: Path, heading: Mapping[str, Any]) -> None:
        """``heading`` is what ``sweep`` needs to reach the API again; it must hold no secret."""
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self._file = path.open("x", encoding="utf-8")
        self._entries: dict[int, Entry] = {}
        self._count = 0
        self._write({"begin": dict(heading)})

    def _write(self, line: Mapping[str, Any]) -> None:
        self._file.write(json.dumps(line, ensure_ascii=True) + "\n")
        self._file.flush()

    def sync(self) -> None:
        """Return when all that was written is on the disk, which may take as long as the disk likes."""
        _to_disk(self._file.fileno())

    def known(self, resource: str, keys: Iterable[Key], complete: bool) -> None:
        """Record the keys that a resource had before the run wrote anything."""
        self._write({"known": resource, "keys": [list(key) for key in keys], "complete": complete})

    def above(self, resource: str, key: Key) -> None:
        """Record the row that a resource's rows are made under, where its paths stand under another's."""
        self._write({"above": resource, "key": list(key)})

    def intend(self, resource: str, record: Mapping[str, Any] | None, key: Key | None = None) -> int:
        """Record that a row is about to be created; the number to tell of it later. It is to be synced before
        the request goes out."""
        self._count += 1
        self._entries[self._count] = Entry(self._count, resource, record, key)
        self._write({"intend": self._count, "resource": resource, "record": record, "key": list(key) if key else None})
        return self._count

    def created(self, number: int, key: Key) -> None:
        """Record the key of a row that was created."""
        entry = self._entries[number]
        self._entries[number] = Entry(number, entry.resource, entry.record, key, True)
        self._write({"created": number, "key": list(key)})

    def hold(self, number: int, row: Mapping[str, Any]) -> None:
        """Record that a row is left there on purpose, as it is."""
        self._entries[number] = replace(self._entries[number], held=dict(row))
        self._write({"held": number, "row": dict(row)})

    def gone(self, number: int) -> None:
        """Record that a row was not created after all, or is removed again."""
        if self._entries.pop(number, None) is not None:
            self._write({"gone": number})

    def entries(self, resource: str | None = None) -> list[Entry]:
        """The rows that may still be there, in the order of their making."""
        return [each for each in self._entries.values() if resource in (None, each.resource)]

    def close(self) -> None:
        """Close the file; what it says stays."""
        self._file.close()

    def finish(self) -> None:
        """Close the journal; without rows left it is removed."""
        self.close()
        if not self._entries:
            self.path.unlink(missing_ok=True)


@dataclass(frozen=True)
class Leftover:
    """A journal read back: the heading, the rows that may still be there, the keys known before."""

    path: Path
    heading: Mapping[str, Any]
    entries: Sequence[Entry]
    known: Mapping[str, frozenset[Key]]
    above: Mapping[str, Key] = field(default_factory=dict)

    @property
    def running(self) -> bool:
        """Whether the process that keeps this journal is still alive on this machine."""
        try:
            os.kill(int(self.heading.get("process", 0)) or -(2**30), 0)
        except ProcessLookupError:
            return False
        except (PermissionError, OSError):
            return True
        return True


def read_journal(path: Path) -> Leftover:
    """Read a journal, a last line cut off by a crash included. Raises OSError."""
    heading: dict[str, Any] = {}
    entries: dict[int, Entry] = {}
    known: dict[str, frozenset[Key]] = {}
    above: dict[str, Key] = {}
    for text in path.read_text("utf-8").splitlines():
        try:
            line = json.loads(text)
        except ValueError:
            continue
        if "begin" in line:
            heading = line["begin"]
        elif "above" in line:
            above[line["above"]] = tuple(line["key"])
        elif "known" in line:
            known[line["known"]] = frozenset(tuple(key) for key in line["keys"])
        elif "intend" in line:
            key = tuple(line["key"]) if line["key"] else None
            entries[line["intend"]] = Entry(line["intend"], line["resource"], line["record"], key)
        elif "created" in line:
            entry = entries[line["created"]]
            entries[entry.number] = Entry(entry.number, entry.resource, entry.record, tuple(line["key"]), True)
        elif "held" in line:
            entries[line["held"]] = replace(entries[line["held"]], held=line["row"])
        elif "gone" in line:
            entries.pop(line["gone"], None)
    return Leftover(path, heading, list(entries.values()), known, above)


def journals(folder: Path) -> list[Path]:
    """The journals that runs have left in a folder, oldest first."""
    return sorted((folder / FOLDER).glob("journal-*.jsonl"))
