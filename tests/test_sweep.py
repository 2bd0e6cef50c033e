"""Which rows are taken for the run's own, and which never are; the store of runs."""

from __future__ import annotations

import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from checkpost.errors import CheckPostError
from checkpost.model.infer import infer
from checkpost.rows.journal import Entry
from checkpost.rows.resemblance import Bears, likeness, marked, match, may_be, shows, stamps
from checkpost.rows.table import Table
from checkpost.rows.witness import Look, made_anew
from checkpost.store.runs import load, load_exchange, names, save, store_path
from tests.foreign import STYLES, Library
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


bears = Bears(MARK, lambda row, records: marked(row, MARK))


class Resemblance(unittest.TestCase):
    def test_a_row_with_the_mark_that_agrees_in_half(self) -> None:
        row = {"id": 9, **record(1, pages=8, price=9)}
        self.assertTrue(bears(row, None))
        self.assertTrue(marked({"title": MARK.upper()}, MARK), "some APIs store other letters")
        self.assertEqual(likeness(RESOURCE, record(1), row, bears), 3)
        self.assertEqual(likeness(RESOURCE, record(1), row, Bears(MARK, lambda row, records: False)), 0)
        copied = {"id": 1, "title": f"by others, copied {MARK}", "author_id": 2, "pages": 9, "price": 1}
        self.assertEqual(likeness(RESOURCE, record(1), copied, bears), 0)

    def test_a_row_that_only_refers_to_one_of_the_runs_has_to_agree_in_all(self) -> None:
        refers = Bears(MARK, lambda row, records: records is not None and row["author_id"] == 7)
        sent = {**record(1), "title": "no mark", "author_id": 7}
        self.assertEqual(likeness(RESOURCE, sent, {"id": 9, **sent}, refers), len(sent))
        self.assertEqual(likeness(RESOURCE, sent, {"id": 9, **sent, "pages": 8}, refers), 0, "others refer to it too")
        self.assertFalse(shows(RESOURCE, [sent], {"id": 9, **sent, "title": "theirs", "pages": 8}, refers))

    def test_without_the_mark_a_row_of_an_answered_key_shows_what_was_sent(self) -> None:
        plain = {**record(1), "title": "no mark"}
        row = {"id": 9, **plain}
        self.assertTrue(shows(RESOURCE, [plain], row, bears))
        self.assertTrue(shows(RESOURCE, [plain], {**row, "pages": 8}, bears), "APIs change a value now and then")
        self.assertFalse(shows(RESOURCE, [plain], {**row, "pages": 8, "price": 1}, bears))
        self.assertTrue(shows(RESOURCE, [plain, {"pages": 8}, {"price": 1}], {**row, "pages": 8, "price": 1}, bears))
        self.assertEqual(likeness(RESOURCE, plain, row, bears), 0, "nothing but an answer makes it the run's")
        self.assertTrue(may_be(RESOURCE, plain, row))

    def test_what_a_server_sets_tells_a_row_from_one_that_is_made_anew(self) -> None:
        row = {"id": 9, **record(1), "created": "2026-01-01T10:11:12Z", "status": "in the vault", "count": 3}
        self.assertEqual(stamps(RESOURCE, record(1), row), {"created": "2026-01-01T10:11:12Z"})
        self.assertEqual(stamps(RESOURCE, {**record(1), "created": None}, row), {}, "what was sent is no stamp")

    def test_what_nothing_was_sent_of_is_the_runs_only_if_it_is_blank(self) -> None:
        blank = {"id": 9, "title": None, "author_id": None, "pages": 0, "price": None, "printed_at": None}
        self.assertTrue(shows(RESOURCE, [{}], blank, bears))
        self.assertFalse(shows(RESOURCE, [{}], {**blank, "title": "somebody's"}, bears))
        self.assertFalse(shows(RESOURCE, [{}], {"id": 9, **record(1), "title": "somebody's"}, bears))

    def test_a_row_that_was_not_there_before_may_be_blank_or_the_one_that_the_answer_showed(self) -> None:
        sent = {**record(1), "title": "no mark"}
        blank = {"id": 9, "title": None, "author_id": None, "pages": 0, "price": None, "printed_at": None}
        self.assertFalse(shows(RESOURCE, [sent], blank, bears))
        self.assertTrue(shows(RESOURCE, [sent], blank, bears, new=True), "the body was not read")
        now, long_ago = datetime.now(UTC).isoformat(), "2020-01-01T00:00:00Z"
        defaults = {**blank, "price": "0.00", "printed_at": now}
        self.assertTrue(shows(RESOURCE, [sent], defaults, bears, new=True), "what a database sets")
        self.assertFalse(shows(RESOURCE, [sent], {**defaults, "printed_at": long_ago}, bears, new=True))
        self.assertFalse(shows(RESOURCE, [sent], {**defaults, "price": "0.50"}, bears, new=True))
        stored = {"id": 9, **sent, "pages": 8, "price": 3.5}
        self.assertFalse(shows(RESOURCE, [sent], stored, bears, new=True))
        self.assertTrue(shows(RESOURCE, [sent], stored, bears, new=True, shown=stored))
        self.assertFalse(shows(RESOURCE, [sent], {**stored, "pages": 5}, bears, new=True, shown=stored))
        self.assertFalse(shows(RESOURCE, [sent], stored, bears, shown=stored), "it may have been there before")
        others = {"id": 9, "title": "theirs", "author_id": 2, "pages": 1, "price": 9.0, "printed_at": None}
        self.assertFalse(shows(RESOURCE, [sent], others, bears, new=True, shown=others), "nothing of it was sent")

    def test_the_mark_inside_a_value_that_was_sent_tells_a_row(self) -> None:
        sent = {"attributes": {"title": f"Sample {MARK}"}, "type": "books"}
        row = {"id": 9, "attributes": {"title": f"Sample {MARK}", "pages": 1}, "type": "BOOKS"}
        self.assertTrue(shows(RESOURCE, [sent], row, bears))
        self.assertFalse(shows(RESOURCE, [sent], {**row, "attributes": {"title": f"Other {MARK}"}}, bears))
        self.assertFalse(shows(RESOURCE, [sent], {"id": 9, "book": sent["attributes"], "type": "x"}, bears))

    def test_each_row_explains_one_entry_and_taken_keys_none(self) -> None:
        rows = {(key,): {"id": key, **record(key)} for key in (1, 2, 3)}
        entries = [Entry(number, "books", record(2)) for number in (5, 6)]
        found = match(RESOURCE, entries, rows, {(1,)}, bears)
        self.assertEqual([(entry.number, key) for entry, key in found], [(5, (2,)), (6, (3,))])

    def test_a_refused_record_takes_no_row_of_another(self) -> None:
        rows = {(n,): {"id": n, **record(n)} for n in (1, 3)}
        refused = {name: value for name, value in record(2).items() if name != "title"}
        entries = [Entry(1, "books", record(1)), Entry(2, "books", refused), Entry(3, "books", record(3))]
        found = {entry.number: key for entry, key in match(RESOURCE, entries, rows, set(), bears)}
        self.assertEqual(found, {1: (1,), 3: (3,)})


class MadeAnew(unittest.TestCase):
    def test_a_row_that_a_change_made_of_a_removed_one_is_the_runs_if_no_server_gives_its_key_again(self) -> None:
        lasting, number = ("5f0c8f0e-7a51-4c53-9d0e-0d9c3f0a1b2c",), (7,)
        for key, status, removed, own, like in (
            (lasting, 201, 3, True, False),
            (lasting, 404, 3, False, False),
            (lasting, 201, 9, False, False),
            (lasting, 201, 0, False, False),
            (number, 201, 3, False, True),
            (number, 0, 3, False, False),
        ):
            entry = Entry(5, "books", {}, key, "change", status=status, sure=status > 0)
            found = Look(rows={key: {"id": key[0]}})
            made_anew(Table(ever={key}), [entry], {key: removed} if removed else {}, found)
            self.assertEqual((key in found.own, key in found.like), (own, like), (key, status, removed))
            made_anew(Table(), [entry], {key: 3}, other := Look(rows={key: {"id": key[0]}}))
            self.assertEqual((other.own, other.like), ({}, {}), "a key that was never the run's")


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
