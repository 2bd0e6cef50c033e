"""The journal: what is on disk before a request leaves, and what is read back after a crash."""

from __future__ import annotations

import asyncio
import json
import tempfile
import unittest
from pathlib import Path

from checkpost.rows.journal import BookReader, FileLog, Journal, journals, read_book, read_journal
from tests.simulation.clock import play
from tests.simulation.wire import Disk


class Slow(Disk):
    """A disk that takes its time, and counts how often it is asked to sync."""

    syncs = 0

    async def sync(self) -> None:
        self.syncs += 1
        reached = self._length
        await asyncio.sleep(1)
        self.synced = reached


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / ".checkpost" / "journal-x.jsonl"
        self.log = FileLog(self.path)
        self.journal = Journal.begin(self.log, {"run": "x", "process": 1})
        self.addCleanup(self.log.close)

    def test_what_is_written_is_read_back_after_a_crash(self) -> None:
        self.journal.known("tags", [(1,), (2,)], True)
        self.journal.known("lots", [(1,)], False)
        first = self.journal.intend("create", "tags", "curator", {"label": "a"})
        second = self.journal.intend("create", "tags", "clerk", {"label": "b"}, ("B",), (7,))
        third = self.journal.intend("remove", "tags", "clerk", {}, (1,))
        self.journal.tell(first.number, answered=(7,), status=201, sure=True)
        self.journal.settle([third.number], "list")
        with self.path.open("a") as file:
            file.write('{"intend": 9, "reso')  # the line that a crash cut off
        left = read_journal(self.path)
        told = [(each.number, each.named, each.role, each.sure, each.above) for each in left.entries]
        self.assertEqual(
            told, [(first.number, (7,), "curator", True, ()), (second.number, ("B",), "clerk", False, (7,))]
        )
        self.assertEqual(left.book.known, {"tags": frozenset({(1,), (2,)}), "lots": frozenset({(1,)})})
        self.assertEqual((left.book.whole, left.heading["run"]), (frozenset({"tags"}), "x"))
        self.assertEqual(journals(self.folder), [self.path])

    def test_a_second_process_goes_on_with_it(self) -> None:
        first = self.journal.intend("create", "tags", "clerk", {"label": "a"})
        self.log.close()
        again = Journal(FileLog(self.path, new=False), read_journal(self.path).book)
        second = again.intend("remove", "tags", "clerk", {}, (1,))
        self.assertEqual((again.count, second.number), (2, 2))
        again.settle([first.number, second.number], "list")
        again.finish()
        self.assertFalse(self.path.exists())

    def test_it_stays_while_something_is_left(self) -> None:
        entry = self.journal.intend("create", "tags", "clerk", {"label": "a"})
        self.journal.tell(entry.number, held={"id": 1, "label": "a", "seen": None})
        self.journal.finish()
        (kept,) = read_journal(self.path).entries
        self.assertEqual(kept.held, {"id": 1, "label": "a", "seen": None})

    def test_values_that_travel_badly(self) -> None:
        record = {"text": "\ud83d \u0000 é", "number": 10**40, "float": float("inf"), "list": [None, {"a": True}]}
        self.journal.intend("create", "tags", "clerk", record)
        self.log.close()
        (entry,) = read_journal(self.path).entries
        self.assertEqual(entry.record, record)


class Syncs(unittest.TestCase):
    def test_intents_of_one_moment_share_a_sync_and_each_waits_for_its_own(self) -> None:
        disk = Slow()
        journal = Journal.begin(disk, {})

        async def one(number: int) -> bool:
            await asyncio.sleep(0 if number < 50 else 0.5)  # half of them while the disk is at work
            entry = journal.intend("create", "tags", "clerk", {"number": number})
            await journal.synced()
            return f'"intend": {entry.number},' in disk.upto(disk.synced)

        async def many() -> list[bool]:
            return await asyncio.gather(*(one(number) for number in range(100)))

        self.assertEqual(play(many()), [True] * 100)
        self.assertEqual(disk.syncs, 2)

    def test_a_book_is_the_same_in_pieces_and_at_once(self) -> None:
        disk = Disk()
        journal = Journal.begin(disk, {"run": "x"})
        reader = BookReader()
        for number in range(5):
            journal.intend("create", "tags", "clerk", {"number": number})
        text = disk.upto(10**6)
        for line in text.splitlines():
            reader.feed(line)
            json.loads(line)
        self.assertEqual(reader.book(), read_book(text))


if __name__ == "__main__":
    unittest.main()
