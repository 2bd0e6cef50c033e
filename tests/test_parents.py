"""Rows of the run's own to refer to, and how a table's first row is made once a refusal has said what is wrong."""

from __future__ import annotations

import json
import tempfile
import unittest
import unittest.mock
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from checkpost.contract.reader import read_contract
from checkpost.engine.target import understood
from checkpost.model.precedence import stands_on
from checkpost.profile.profile import Profile
from checkpost.rows.script import Deeds, script
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.session import Limits, Session
from tests.simulation.api import BASE, BEDS, CROPS, HEADS, LOTS, TEAMS, Api, Column, Table, Temper
from tests.simulation.trial import Trial, target_of, try_temper


class Particular(Api):
    """A crop can be referred to once somebody has seen it, which nothing of the API does."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        crop = json.loads(body or b"{}").get("crop_id") if table is LOTS else None
        if crop is not None and (crop,) not in self.foreign["crops"]:
            return 422, {"error": "crop_id: this crop was not seen yet"}
        return super()._create(table, body, headers)


class Choosy(Api):
    """Labels have no spaces, and a row is kept by somebody that nothing tells."""

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"{}")
        record = record if isinstance(record, dict) else {}
        if record.get("keeper") is not None:
            return 422, {"keeper": [f'Invalid pk "{record["keeper"]}" - object does not exist.']}
        if record.get("settings") not in (None, "{}"):
            return 422, {"settings": ["JSON not valid"]}
        if " " in str(record.get("label")):
            return 422, {"label": ["This value may contain only letters, numbers and hyphens."]}
        return super()._create(table, body, headers)


class Dangling(Api):
    """Crops are removed under the lots that refer to them, which nothing can show then."""

    def _delete(self, name: str, key: Any) -> bool:
        self.version += 1
        return self.rows[name].pop(key, None) is not None

    def _item(self, table: Table, key: Any, method: str, *rest: Any) -> tuple[int, Any]:
        row = self.rows[table.name].get(key, {})
        lost = "crop_id" in row and row["crop_id"] is not None and (row["crop_id"],) not in self.rows["crops"]
        return (500, {"error": "failed"}) if lost and method == "GET" else super()._item(table, key, method, *rest)


CODES = Table("vaults", ("id",), (Column("code", required=True),))


class Terse(Api):
    """Codes are short, of which the contract says nothing, and what is longer is a failure."""

    def __init__(self, temper: Temper, seed: int) -> None:
        super().__init__(temper, seed)
        for rows in (self.rows, self.foreign):
            rows["vaults"] = {key: {**row, "code": f"V{key[0]}"} for key, row in rows["vaults"].items()}

    def _create(self, table: Any, body: bytes | None, headers: Mapping[str, str]) -> tuple[int, Any]:
        record = json.loads(body or b"{}")
        if isinstance(record, dict) and len(str(record.get("code"))) > 12:
            return 500, {"error": "Internal Server Error"}
        return super()._create(table, body, headers)


def tried(temper: Temper, api: type[Api] = Api) -> Trial:
    with unittest.mock.patch("tests.simulation.trial.Api", api):
        return try_temper(temper, 3, ("create", "update"), 1)


class Parents(unittest.TestCase):
    def test_tables_that_refer_to_each_other_have_an_order(self) -> None:
        def order(*tables: Any) -> dict[str, set[str]]:
            with tempfile.TemporaryDirectory() as folder:
                file = Path(folder, "contract.json")
                file.write_text(json.dumps(Api(Temper("any", tables), 0).contract()), "utf-8")
                model = understood(read_contract(str(file)), Profile(Path(folder), base_url=BASE))[1]
            return {name: set(above) for name, above in stands_on(model).items()}

        self.assertEqual(order(CROPS, LOTS, BEDS), {"lots": {"crops"}})
        # a team has to have a head, and a head need not have a team
        self.assertEqual(order(HEADS, TEAMS), {"teams": {"heads"}})

    def test_rows_of_others_are_referred_to_where_writing_spares_them(self) -> None:
        for touches in (False, True):
            trial = tried(Temper("any", (CROPS, LOTS), touches=touches))
            self.assertEqual(trial.amiss, [])
            assert trial.result is not None
            sent = [json.loads(each.request.body or b"null") for each in trial.result.exchanges if _creates_lot(each)]
            keys = [each["crop_id"] for each in sent if isinstance(each, dict) and "crop_id" in each]
            # the rows of people have the keys up to 4
            self.assertEqual(any(isinstance(key, int) and 0 < key <= CROPS.rows for key in keys), not touches)

    def test_rows_of_others_are_referred_to_where_no_other_can_be(self) -> None:
        trial = tried(Temper("any", (replace(CROPS, rows=3), LOTS)), Particular)
        self.assertEqual(trial.amiss, [])
        assert trial.result is not None
        self.assertEqual([each.title for each in trial.result.findings if each.family == "create"], [])
        stored = next(each for each in trial.result.checks if (each.check, each.resource) == ("create.stored", "lots"))
        self.assertEqual(stored.outcome, "passed")
        self.assertIn("rows refer to those that are there: 422", stored.reason)

    def test_rows_whose_key_is_made_of_references_do_not_run_out(self) -> None:
        keys = Column("lot_id", "integer", True, "lots"), Column("crop_id", "integer", True, "crops")
        pairs = Table("pairs", ("lot_id", "crop_id"), keys, True, rows=1)
        trial = tried(Temper("any", (replace(CROPS, rows=1), replace(LOTS, rows=1), pairs)))
        self.assertEqual(trial.amiss, [])
        assert trial.result is not None
        of_pairs = [each for each in trial.result.checks if each.resource == "pairs"]
        self.assertEqual([each.check for each in of_pairs if "every combination" in each.reason], [])
        self.assertIn("passed", {each.outcome for each in of_pairs})

    def test_what_a_refusal_blames_is_written_otherwise_or_left_out(self) -> None:
        columns = Column("label", required=True), Column("keeper", "integer"), Column("settings")
        ties = Table("ties", ("id",), columns, rows=0)
        trial = tried(Temper("any", (ties,)), Choosy)
        self.assertEqual(trial.amiss, [])
        assert trial.result is not None
        stored = next(each for each in trial.result.checks if each.check == "create.stored")
        self.assertEqual(stored.outcome, "passed")
        self.assertRegex(
            stored.reason, "spaces or other signs in label were refused .*without keeper, whose values no row tells"
        )
        self.assertIn("objects written as JSON were taken", stored.reason)
        self.assertNotIn("Documented fields are refused", [each.title for each in trial.result.findings])

    def test_texts_that_just_bear_the_mark_are_tried_before_such_as_rows_have(self) -> None:
        trial = tried(Temper("any", (CODES,)), Terse)
        self.assertEqual(trial.amiss, [])
        assert trial.result is not None
        stored = next(each for each in trial.result.checks if each.check == "create.stored")
        self.assertIn("short texts were taken", stored.reason)
        first = [each for each in trial.result.exchanges if (each.check, each.answer.status) == ("create.stored", 201)]
        self.assertGreater(len(json.loads(first[0].request.body or b"{}")["code"]), len("V1"))

    def test_rows_that_a_delete_makes_unreadable_are_one_finding(self) -> None:
        with unittest.mock.patch("tests.simulation.trial.Api", Dangling):
            trial = try_temper(Temper("any", (CROPS, LOTS)), 3, ("relate",), 1)
        assert trial.result is not None
        found = [each for each in trial.result.findings if each.check == "relate.deleted"]
        self.assertEqual([each.title for each in found], ["Deleting a row makes rows that refer to it unreadable"])
        self.assertEqual(trial.amiss, [])

    def test_commands_make_what_is_referred_to_and_nothing_else_that_has_its_number(self) -> None:
        target = target_of(Temper("any", (CROPS, LOTS)))
        clients = {each.name: Client(Session({}, {}, Limits()), BASE, each, "") for each in target.model.resources}

        def made(number: int, table: str, **record: Any) -> Exchange:
            request = Request("POST", f"{BASE}/{table}", "", {"Content-Type": "application/json"}, json_of(record))
            return Exchange(number, "", request, Answer(201, (), json_of({"id": 7, **record})), 0)

        sent = [made(1, "crops", name="x"), made(2, "lots", label="y", crop_id=7, box_id=7)]
        acts = {each.number: Act("create", (Made(table, {}),)) for each, table in zip(sent, clients, strict=True)}
        rows = {each.number: [(table, (7,))] for each, table in zip(sent, clients, strict=True)}
        command = script(sent[1:], {}, Deeds({each.number: each for each in sent}, acts, rows), clients.get)
        self.assertRegex(command, r"^KEY=.*/crops.* && curl .*/lots")
        self.assertIn(""""crop_id": '"$KEY"', "box_id": 7""", command)


def json_of(value: Any) -> bytes:
    return json.dumps(value).encode()


def _creates_lot(exchange: Any) -> bool:
    return bool(exchange.request.method == "POST" and exchange.request.url.endswith("/lots"))


if __name__ == "__main__":
    unittest.main()
