"""What a run was about to do to rows, written to disk before the request leaves.

One JSON object a line. A run that ends well removes its rows and then its journal; a journal that is still there names
what a run may have left behind.
"""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, Protocol

FOLDER = ".checkpost"
Key = tuple[Any, ...]
Kind = Literal["create", "change", "remove", "link"]
#: Statuses of a server that has given up on a request: what it did is done, and nothing more comes of it.
FAILED = frozenset({500, 501})
#: Not every system has fdatasync.
_to_disk = getattr(os, "fdatasync", os.fsync)


class Log(Protocol):
    """Where lines go, and when they are safe."""

    def append(self, text: str) -> None: ...
    async def sync(self) -> None: ...
    def close(self) -> None: ...
    def remove(self) -> None: ...


class FileLog:
    """Lines in a file: they outlive this process as soon as they are appended, the machine once they are synced."""

    def __init__(self, path: Path, new: bool = True) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self._file = path.open("x" if new else "a", encoding="utf-8")

    def append(self, text: str) -> None:
        self._file.write(text)
        self._file.flush()

    async def sync(self) -> None:
        # in a thread: a disk that stands still does not stop other requests
        await asyncio.to_thread(_to_disk, self._file.fileno())

    def close(self) -> None:
        self._file.close()

    def remove(self) -> None:
        self.path.unlink(missing_ok=True)


@dataclass(frozen=True)
class Entry:
    """A row that a request may have made: its table, the role that asked, the record sent, and its key where the
    client chose it.

    ``answered`` is the key that the API's answer gave, ``shown`` the row in it, where that bears no mark, ``status``
    what it answered (0 for no answer), ``sure`` whether that tells the request's fate, ``proved`` that reading the row
    showed what was sent, ``stamps`` what the server had set on it then, ``removed`` that its removal was answered,
    ``seen`` that a look at the table has shown it, ``fresh`` that the list did not hold it just before it was made,
    ``vouched`` that the create's answer showed its row with the run's mark, ``unread`` that its body is of a kind that
    the API may pass over, ``counted_up`` that its key is above that of a row which was gone then, and was the largest.
    ``several`` that the request of a removal named other rows too.
    ``held`` is the row as it is to be found again, where it was left on
    purpose. ``disputed`` is the key of a row that the list had before the run, where the answer gave that. The entry of
    a ``change`` stands for the row that a faulty API may make of it; ``key`` is then the row that was meant.
    """

    number: int
    resource: str
    record: Mapping[str, Any]
    key: Key | None = None
    kind: Kind = "create"
    role: str = ""
    above: Key = ()
    answered: Key | None = None
    shown: Mapping[str, Any] | None = None
    status: int = 0
    sure: bool = False
    proved: bool = False
    removed: bool = False
    seen: bool = False
    fresh: bool = False
    vouched: bool = False
    unread: bool = False
    disputed: Key | None = None
    counted_up: bool = False
    several: bool = False
    stamps: Mapping[str, Any] | None = None
    held: Mapping[str, Any] | None = None

    @property
    def named(self) -> Key | None:
        """The key that its row would have, as far as anybody said."""
        return self.answered or (self.key if self.kind == "create" else None)


@dataclass(frozen=True)
class Book:
    """What a journal says: its heading, the entries that are open, the keys that each table had before the run, and
    whether those were all."""

    heading: Mapping[str, Any] = field(default_factory=dict)
    entries: Mapping[int, Entry] = field(default_factory=dict)
    known: Mapping[str, frozenset[Key]] = field(default_factory=dict)
    whole: frozenset[str] = frozenset()
    above: Mapping[str, Key] = field(default_factory=dict)
    #: Fields by which rows are found in place of the documented key, by table.
    keys: Mapping[str, str] = field(default_factory=dict)
    #: Keys that the run has made up, by table.
    picked: Mapping[str, frozenset[Key]] = field(default_factory=dict)


class Journal:
    """The journal of one run, as it is written."""

    def __init__(self, log: Log, book: Book | None = None) -> None:
        """``book`` is what an earlier process wrote to the same log, where it is taken up again."""
        self.log = log
        self._entries: dict[int, Entry] = dict(book.entries) if book else {}
        self._of: dict[str, dict[int, None]] = {}
        for number, entry in self._entries.items():
            self._of.setdefault(entry.resource, {})[number] = None
        self._count = max(self._entries, default=0)
        self._written = self._safe = 0
        self._syncing: asyncio.Task[None] | None = None

    @classmethod
    def begin(cls, log: Log, heading: Mapping[str, Any]) -> Journal:
        """A new journal. ``heading`` is what ``sweep`` needs to reach the API again; it must hold no secret."""
        journal = cls(log)
        journal._write({"begin": dict(heading)})
        return journal

    def _write(self, line: Mapping[str, Any]) -> None:
        self.log.append(json.dumps(line, ensure_ascii=True) + "\n")
        self._written += 1

    async def synced(self) -> None:
        """Return when all that is written by now is on the disk; intents of one moment share one sync."""
        wanted = self._written
        while self._safe < wanted:
            if self._syncing is None or self._syncing.done():
                self._syncing = asyncio.ensure_future(self._sync())
            await asyncio.shield(self._syncing)

    async def _sync(self) -> None:
        reached = self._written
        await self.log.sync()
        self._safe = max(self._safe, reached)

    def known(self, resource: str, keys: Iterable[Key], complete: bool) -> None:
        """Record the keys that a table had before the run wrote to it."""
        self._write({"known": resource, "keys": [list(key) for key in keys], "complete": complete})

    def above(self, resource: str, key: Key) -> None:
        """Record the row that a table's rows are looked at under, where its paths stand under another's."""
        self._write({"above": resource, "key": list(key)})

    def keyed(self, resource: str, name: str) -> None:
        """Record that a table's rows are found by another field than the contract says."""
        self._write({"keyed": resource, "by": name})

    def picked(self, resource: str, key: Key) -> None:
        """Record a key that the run has made up."""
        self._write({"picked": resource, "key": list(key)})

    def intend(
        self, kind: Kind, resource: str, role: str, record: Mapping[str, Any], key: Key | None = None, above: Key = ()
    ) -> Entry:
        """Record what is about to be sent. It is to be synced before the request leaves."""
        self._count += 1
        entry = Entry(self._count, resource, dict(record), key, kind, role, above)
        self._entries[entry.number] = entry
        self._of.setdefault(resource, {})[entry.number] = None
        line: dict[str, Any] = {"intend": entry.number, "kind": kind, "resource": resource, "role": role}
        line |= {"record": entry.record, "key": list(key) if key else None}
        self._write({**line, "above": list(above)} if above else line)
        return entry

    def tell(self, number: int, **told: Any) -> None:
        """Record what became known of an entry: ``answered``, ``shown``, ``status``, ``sure``, ``proved``,
        ``removed``, ``held``."""
        if number in self._entries:
            self._entries[number] = replace(self._entries[number], **told)
            self._write({"tell": number, **told})

    def settle(self, numbers: Iterable[int], witness: str) -> None:
        """Close entries, since a witness has shown that their rows are gone or were never made."""
        closed = []
        for number in numbers:
            entry = self._entries.pop(number, None)
            if entry is not None:
                del self._of[entry.resource][number]
                closed.append(number)
        if closed:
            self._write({"settled": closed, "by": witness})

    @property
    def count(self) -> int:
        """The number of the last intent."""
        return self._count

    def entries(self, resource: str | None = None) -> list[Entry]:
        """The open entries, in the order of their making."""
        if resource is None:
            return list(self._entries.values())
        return [self._entries[number] for number in self._of.get(resource, ())]

    def entry(self, number: int) -> Entry | None:
        return self._entries.get(number)

    def finish(self) -> None:
        """Close the journal; with no entry open it is removed."""
        self.log.close()
        if not self._entries:
            self.log.remove()


class BookReader:
    """Reads a journal's text, in as many pieces as it comes."""

    def __init__(self) -> None:
        self._heading: dict[str, Any] = {}
        self._entries: dict[int, Entry] = {}
        self._known: dict[str, frozenset[Key]] = {}
        self._whole: set[str] = set()
        self._above: dict[str, Key] = {}
        self._keys: dict[str, str] = {}
        self._picked: dict[str, set[Key]] = {}

    def feed(self, text: str) -> None:
        """Take in whole lines; a last one that a crash cut off is passed over."""
        for each in text.splitlines():
            try:
                self._take(json.loads(each))
            except ValueError:
                continue

    def _take(self, line: Mapping[str, Any]) -> None:
        if "begin" in line:
            self._heading = line["begin"]
        elif "known" in line:
            self._known[line["known"]] = frozenset(tuple(key) for key in line["keys"])
            self._whole |= {line["known"]} if line["complete"] else set()
        elif "intend" in line:
            key = tuple(line["key"]) if line["key"] else None
            above = tuple(line.get("above") or ())
            self._entries[line["intend"]] = Entry(
                line["intend"], line["resource"], line["record"], key, line["kind"], line["role"], above
            )
        elif "above" in line:
            self._above[line["above"]] = tuple(line["key"])
        elif "picked" in line:
            self._picked.setdefault(line["picked"], set()).add(tuple(line["key"]))
        elif "keyed" in line:
            self._keys[line["keyed"]] = line["by"]
        elif "tell" in line and line["tell"] in self._entries:
            told = {name: value for name, value in line.items() if name != "tell"}
            for name in ("answered", "disputed"):
                if told.get(name) is not None:
                    told[name] = tuple(told[name])
            self._entries[line["tell"]] = replace(self._entries[line["tell"]], **told)
        elif "settled" in line:
            for number in line["settled"]:
                self._entries.pop(number, None)

    def book(self) -> Book:
        """What was read so far."""
        whole, above = frozenset(self._whole), dict(self._above)
        picked = {name: frozenset(keys) for name, keys in self._picked.items()}
        return Book(self._heading, dict(self._entries), dict(self._known), whole, above, dict(self._keys), picked)


def read_book(text: str) -> Book:
    """What a journal's text says, a last line cut off by a crash included."""
    reader = BookReader()
    reader.feed(text)
    return reader.book()


@dataclass(frozen=True)
class Leftover:
    """A journal that is still there, and what it says."""

    path: Path
    book: Book

    @property
    def heading(self) -> Mapping[str, Any]:
        return self.book.heading

    @property
    def entries(self) -> list[Entry]:
        return list(self.book.entries.values())

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
    """Read a journal. Raises OSError."""
    return Leftover(path, read_book(path.read_text("utf-8")))


def journals(folder: Path) -> list[Path]:
    """The journals that runs have left in a folder, oldest first."""
    return sorted((folder / FOLDER).glob("journal-*.jsonl"))
