"""Removing rows by a journal: which are taken for the run's own, and which never are."""

from __future__ import annotations

import asyncio
import tempfile
import unittest
from pathlib import Path
from typing import Any

from checkpost.wire.journal import Entry
from checkpost.wire.strays import likeness, marked, match
from checkpost.wire.sweep import sweep

from checkpost.errors import CheckPostError
from checkpost.model.infer import infer
from checkpost.store.runs import load, load_exchange, names, save, store_path
from checkpost.wire.client import Client
from checkpost.wire.listing import Listing
from checkpost.wire.session import Limits, Session
from tests.foreign import STYLES, Library, Served
from tests.support import contract_of

MARK = "cpmark001"
BOOKS = Library(STYLES[0])
RESOURCE = infer(contract_of(BOOKS.contract())).resources[0]


def record(number: int, **changes: Any) -> dict[str, Any]:
    return {
        "title": f"Sample {number} {MARK}",
        "author_id": 1,
        "pages": 7,
        "price": 2.5,
        "printed_at": "2020-01-01T00:00:00Z",
        **changes,
    }


class Strays(unittest.TestCase):
    def test_a_row_with_the_mark_that_agrees_in_half(self) -> None:
        row = {"id": 9, **record(1, pages=8, price=9)}
        self.assertTrue(marked(row, MARK))
        self.assertEqual(likeness(RESOURCE, record(1), row, MARK), 3)
        self.assertEqual(likeness(RESOURCE, record(1), row, "cpother"), 0)

    def test_without_the_mark_every_field_has_to_agree(self) -> None:
        plain = {**record(1), "title": "no mark"}
        self.assertEqual(likeness(RESOURCE, plain, {"id": 9, **plain}, MARK), 5)
        self.assertEqual(likeness(RESOURCE, plain, {"id": 9, **plain, "pages": 8}, MARK), 0)
        self.assertEqual(likeness(RESOURCE, {"author_id": 1}, {"id": 9, **plain}, MARK), 0)

    def test_each_row_explains_one_entry_and_taken_keys_none(self) -> None:
        rows = {(key,): {"id": key, **record(key)} for key in (1, 2, 3)}
        listing = Listing(tuple(rows.values()), rows, True)
        entries = [Entry(number, "books", record(2), None) for number in (5, 6)]
        found = match(RESOURCE, entries, listing, {(1,)}, MARK)
        self.assertEqual([(entry.number, key) for entry, key in found], [(5, (2,)), (6, (3,))])


class ManyStrays(unittest.TestCase):
    """Rows of one request with many, of which some were refused."""

    def test_a_refused_record_takes_no_row_of_another(self) -> None:
        resource = RESOURCE
        rows = {(n,): {"id": n, **record(n)} for n in (1, 3)}
        listing = Listing(tuple(rows.values()), rows, True)
        refused = {name: value for name, value in record(2).items() if name != "title"}
        entries = [
            Entry(1, "books", record(1), None),
            Entry(2, "books", refused, None),
            Entry(3, "books", record(3), None),
        ]
        found = {entry.number: key for entry, key in match(resource, entries, listing, set(), "cpmark001")}
        self.assertEqual(found, {1: (1,), 3: (3,)})


class Sweeps(unittest.TestCase):
    def swept(self, library: Library, entries: list[Entry], known: set[int]) -> tuple[list[Entry], list[int]]:
        gone: list[int] = []

        async def work(base_url: str) -> list[Entry]:
            async with Session({}, {}, Limits()) as session:
                client = Client(session, base_url, RESOURCE, "public")
                keys = {"books": [(key,) for key in known]}
                return await sweep(
                    {"books": client}, entries, keys, MARK, 1000, lambda entry: gone.append(entry.number)
                )

        with Served(library.app()) as served:
            return asyncio.run(work(served.base_url)), gone

    def setUp(self) -> None:
        self.library = Library(STYLES[0], 5)

    def add(self, key: int, **changes: Any) -> None:
        self.library.books[key] = {"id": key, "in_print": True, "subtitle": None, **record(key, **changes)}

    def test_own_rows_go_and_others_stay(self) -> None:
        self.add(50)
        self.add(51)
        self.add(52, title="made by somebody else")
        entries = [
            Entry(1, "books", record(50), (50,), True),  # the API said so
            Entry(2, "books", record(51), None),  # its answer never came
            Entry(3, "books", record(53), None),  # never made
            Entry(4, "books", record(60), (3,), True),  # a key that was there before
            Entry(5, "books", record(61), (52,), False),  # a key that somebody else's row has now
        ]
        left, gone = self.swept(self.library, entries, set(range(1, 6)))
        self.assertEqual(left, [])
        self.assertEqual(sorted(gone), [1, 2, 3, 4, 5])
        self.assertEqual(sorted(self.library.books), [1, 2, 3, 4, 5, 52])

    def test_a_row_that_was_changed_since_goes_by_its_confirmed_key(self) -> None:
        self.add(50, title="changed", pages=99, price=1)
        self.swept(self.library, [Entry(1, "books", record(50), (50,), True)], set())
        self.assertNotIn(50, self.library.books)

    def test_what_cannot_be_removed_is_named(self) -> None:
        left, gone = self.swept(self.library, [Entry(1, "films", record(1), (1,), True)], set())
        self.assertEqual(([entry.number for entry in left], gone), ([1], []))


class Store(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_runs_and_exchanges_are_kept_and_found(self) -> None:
        self.assertEqual(names(self.folder), [])
        for name in ("20260101-a", "20260102-b"):
            document = {"run": {"id": name, "started": "2026"}, "text": "é 🌱 \ud83d"}
            save(self.folder, document, [{"number": 1, "body": "x"}, {"number": 2, "body": "y"}])
            self.assertEqual(load(self.folder, name), document)
        self.assertEqual(names(self.folder), ["20260102-b", "20260101-a"])
        self.assertEqual(load_exchange(self.folder, "20260101-a", 2)["body"], "y")
        with self.assertRaises(CheckPostError):
            load_exchange(self.folder, "20260101-a", 3)
        with self.assertRaises(CheckPostError):
            load(self.folder, "none")

    def test_a_store_that_is_no_database_is_named(self) -> None:
        store_path(self.folder).parent.mkdir()
        store_path(self.folder).write_text("not a database, by far" * 100)
        with self.assertRaises(CheckPostError) as caught:
            names(self.folder)
        self.assertIn("runs.sqlite", str(caught.exception))


if __name__ == "__main__":
    unittest.main()
