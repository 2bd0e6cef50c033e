"""What a run learns from refusals: which field they are of, what they want, and what is better not sent again."""

from __future__ import annotations

import json
import re
import unittest
import unittest.mock
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from checkpost.checks.blame import blamed, wants
from checkpost.wire.exchange import Answer, Exchange, Request
from tests.simulation.api import CROPS, LOTS, Api, Column, Key, Table, Temper
from tests.simulation.tempers import BY_NAME
from tests.simulation.trial import Trial, try_temper

FLAGS = Table("flags", ("id",), (Column("name", required=True), Column("draft", "boolean")))
CODES = Table("codes", ("id",), (Column("code", required=True, form="sb-{:04}"), Column("note")), rows=12)
BADGES = Table("badges", ("id",), (Column("name", required=True), Column("slug"), Column("note")), rows=0)


class Locking(Api):
    """A lot of the fifth crop or a later one cannot be removed, whoever made it."""

    def _delete(self, table: str, key: Key) -> bool:
        row = self.rows[table].get(key, {})
        of_people = (row.get("crop_id"),) in self.foreign["crops"]
        held = table == "lots" and of_people and row["crop_id"] > 4
        return not held and super()._delete(table, key)


class Repeating(Api):
    """Slugs are of small letters and digits, and refusals repeat the request."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"null")
        slug = record.get("slug") if isinstance(record, dict) else None
        if (isinstance(slug, str) and not slug.isalnum()) or slug != (slug and slug.lower()):
            return 422, {"errors": [{"loc": ["body", "slug"], "msg": "only small letters"}], "request": record}
        return super()._create(table, body, headers)


class Coded(Api):
    """Codes are written as those that are there (``sb-1004``), which only refusals and rows tell."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"null")
        code = record.get("code") if isinstance(record, dict) else None
        if not (isinstance(code, str) and re.fullmatch(r"sb-\d{4}", code)):
            return 422, {"errors": {"code": "Invalid expression"}}
        return super()._create(table, body, headers)


class Spaced(Api):
    """Moments are taken as a database writes them, and shown as JSON has them."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"null")
        moment = record.get("at") if isinstance(record, dict) else None
        if moment is not None and not re.fullmatch(r"[\d-]{10} [\d:]{8}", str(moment)):
            return 400, {"error": {"message": f"Incorrect datetime value: {moment!r} for column `at` at row 1"}}
        status, row = super()._create(table, body, headers)
        return status, self._written(row) if status == 201 else row

    def _shown(self, name: str, role: str | None = None) -> dict[Key, Any]:
        return {key: self._written(row) for key, row in super()._shown(name, role).items()}

    def _item(self, *asked: Any) -> tuple[int, Any]:
        status, row = super()._item(*asked)
        return status, self._written(row) if status < 300 and isinstance(row, dict) else row

    def _written(self, row: Any) -> Any:
        moment = row.get("at")
        return {**row, "at": moment.replace(" ", "T") + ".000Z"} if moment and "T" not in moment else row


class Broken(Api):
    """A record with grams fails, whatever they are, and one that refers to no crop is refused, which is not said."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"null")
        if table.name == "batches" and isinstance(record, dict):
            if record.get("grams") is not None:
                return 500, {"error": "unexpected"}
            if record.get("crop_id") is None:
                return 409, {"error": "not so"}
        return super()._create(table, body, headers)


BATCHES = Table(
    "batches",
    ("id",),
    (Column("label", required=True), Column("crop_id", "integer", refers="crops"), Column("grams", "number")),
)


class Moment(Column):
    """A column of moments: people write them to the day, and any other is taken too."""

    def takes(self, value: Any) -> bool:
        return True


MOMENTS = Table(
    "moments", ("id",), (Moment("at", required=True, form="2024-01-{:02} 10:00:00"), Column("seeds", "integer")), rows=9
)


class Whole(Api):
    """A change that lacks the name is refused, though the contract does not demand it."""

    def _item(self, table: Table, key: Key, method: str, headers: Any, body: bytes | None) -> tuple[int, Any]:
        record = self._read_body(body) if method == "PATCH" else None
        if record is not None and "name" not in record:
            return 422, {"detail": [{"type": "missing", "loc": ["name"], "msg": "Field required"}]}
        return super()._item(table, key, method, headers, body)


class Hiding(Api):
    """The list has no drafts of those that were made since, though each can be read by its key."""

    def _shown(self, name: str, role: str | None = None) -> dict[Key, Any]:
        rows = super()._shown(name, role)
        return {key: row for key, row in rows.items() if not row.get("draft") or key in self.foreign[name]}


def tried(api: type[Api], *tables: Table, seed: int = 3) -> Trial:
    with unittest.mock.patch("tests.simulation.trial.Api", api):
        trial = try_temper(Temper("any", tables), seed, ("create", "update", "replace", "delete"), 1)
    assert trial.result is not None
    return trial


def outcomes(trial: Trial, check: str) -> set[str]:
    assert trial.result is not None
    return {each.outcome for each in trial.result.checks if each.check == check}


def titles(trial: Trial) -> list[str]:
    assert trial.result is not None
    return [each.title for each in trial.result.findings]


class Refusals(unittest.TestCase):
    def test_what_an_answer_repeats_of_the_request_blames_nothing(self) -> None:
        record = {"name": "x y", "note": "z", "slug": "Slug of mine", "tags": {}}

        def refused(answer: Any) -> Exchange:
            request = Request("POST", "http://a/", "", {}, json.dumps({"item": record}).encode())
            return Exchange(1, "", request, Answer(422, (), json.dumps(answer).encode()), 0)

        echoed = {"errors": [{"loc": ["body", "name"], "msg": "too short"}], "request": {"item": record}}
        self.assertEqual(blamed(refused(echoed), record), {"name"})
        self.assertEqual(blamed(refused({"detail": "There is no 'Slug of mine' here"}), record), {"slug"})
        self.assertEqual(blamed(refused({"detail": "no"}), record), set())
        wanting = refused({"detail": [{"loc": ["crop"], "msg": "Field required"}], "request": record})
        self.assertEqual(wants(wanting, {"crop_id", "name"}), {"crop_id"})

    def test_a_text_is_written_as_a_name_where_no_other_is_taken(self) -> None:
        trial = tried(Repeating, BADGES)
        self.assertEqual((trial.amiss, outcomes(trial, "create.stored")), ([], {"passed"}))
        assert trial.result is not None
        self.assertNotIn("Documented fields are refused", titles(trial))
        made = [json.loads(each.request.body or b"{}") for each in trial.result.exchanges if each.answer.status == 201]
        self.assertTrue(any("note" in each and str(each.get("slug", "-")).isalnum() for each in made))

    def test_a_code_is_written_as_those_of_rows_where_no_other_is_taken(self) -> None:
        trial = tried(Coded, CODES)
        self.assertEqual((trial.amiss, outcomes(trial, "create.stored")), ([], {"passed"}))
        self.assertNotIn("No record that the contract allows is accepted", titles(trial))
        self.assertNotIn("A text is refused for a length that the contract does not limit", titles(trial))
        assert trial.result is not None
        found = [each for each in trial.result.findings if each.title == "Values that the contract allows are refused"]
        self.assertEqual([each.subjects[0].split()[0] for each in found], ["code"], "it is told, and once")

    def test_moments_are_written_as_databases_have_them_where_no_others_are_taken(self) -> None:
        trial = tried(Spaced, MOMENTS)
        self.assertEqual((trial.amiss, outcomes(trial, "create.stored")), ([], {"passed"}))
        assert trial.result is not None
        self.assertEqual(trial.result.left, ())
        self.assertNotIn("A value changed silently: the text changed", titles(trial))

    def test_references_are_sent_where_records_need_them_and_others_fail(self) -> None:
        trial = tried(Broken, CROPS, BATCHES)
        self.assertEqual((trial.amiss, outcomes(trial, "create.stored")), ([], {"passed"}))
        assert trial.result is not None
        self.assertEqual(trial.result.left, ())
        self.assertIn("A request fails with 500: a valid record", titles(trial))

    def test_changes_are_sent_with_what_refusals_ask_for(self) -> None:
        trial = tried(Whole, CROPS)
        self.assertEqual(trial.amiss, [])
        self.assertIn("A change is refused without fields that the contract does not demand", titles(trial))
        self.assertNotIn("No change that the contract allows is accepted", titles(trial))
        self.assertEqual(outcomes(trial, "update.other-rows"), {"passed"}, "the rest is asked all the same")

    def test_rows_that_are_held_by_what_they_refer_to_are_few(self) -> None:
        trial = tried(Locking, replace(CROPS, rows=6), LOTS)
        self.assertEqual(trial.amiss, [], "each that stays is named")
        assert trial.result is not None
        self.assertLessEqual(len(trial.result.left), 2)
        self.assertEqual(outcomes(trial, "delete.gone"), {"passed"})

    def test_a_flag_that_keeps_rows_out_of_the_list_is_told_and_not_set(self) -> None:
        trial = tried(Hiding, FLAGS)
        self.assertEqual(trial.amiss, [])
        found = [each for each in titles(trial) if "list" in each]
        self.assertEqual(found, ["The list leaves out rows by a flag, and the contract does not say so"])

    def test_a_change_that_leaves_a_row_nobody_can_mend_is_tried_in_one_table(self) -> None:
        temper = BY_NAME["stores a change that it refuses, and shows and removes the row no more"]
        trial = try_temper(temper, 1, ("update", "replace"), 1)
        assert trial.result is not None
        self.assertEqual(trial.amiss, [])
        self.assertLessEqual(len(trial.result.left), 4)
        self.assertIn("An update that is refused leaves a row that cannot be read", titles(trial))
        self.assertTrue(any("elsewhere it left a row" in each.reason for each in trial.result.checks))


if __name__ == "__main__":
    unittest.main()
