"""Relationships with a path of their own: what is wrong with them is found, and what is not is not."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections.abc import Sequence
from pathlib import Path

from checkpost.contract.reader import read_contract
from checkpost.engine.run import Result
from checkpost.engine.target import understood
from checkpost.profile.profile import Profile
from tests.foreign import Served
from tests.linkages import ATTRIBUTES, Bank
from tests.support import run_against, run_direct

#: What each fault is found as: the title, and whether it is told of the path of one relationship.
FAULTS = {
    "lost": "Setting a relationship returns success but does not store it",
    "null kept": "Setting a relationship to nothing returns success but keeps the row",
    "missing species": "A relationship with a missing row is accepted",
    "missing tags": "A relationship with a missing row is accepted",
    "add lost": "A row that is added to a relationship is missing there",
    "twice": "A row that is added to a relationship twice is there twice",
    "replace lost": "Replacing the rows of a relationship returns success but does not store them",
    "kept": "Replacing the rows of a relationship keeps those of before",
    "stays": "A row that is taken from a relationship stays there",
    "removes": "Taking a row from a relationship removes the row",
    "refused": "Rows cannot be brought together by the path of their relationship",
}


BASE = "http://127.0.0.1:1"


def run(bank: Bank, families: Sequence[str] = ()) -> Result:
    return run_direct(bank.contract(), bank.app(), BASE, resources=tuple(ATTRIBUTES), families=families)


class Linkages(unittest.TestCase):
    def test_sound_ones_are_tried_whole_and_nothing_is_told(self) -> None:
        for named in (True, False):
            with self.subTest(named=named):
                bank = Bank(named=named)
                before = bank.contents()
                result = run(bank)
                self.assertEqual([str(each) for each in result.findings], [])
                self.assertEqual(before, bank.contents())
                self.assertEqual(result.not_exercised, ())

    def test_rows_show_to_what_they_refer_where_the_contract_does_not_say_it(self) -> None:
        for fault, told in (("", []), ("needs species", ["A record of the required fields alone is refused"])):
            bank = Bank(fault, named=False, told=False)
            before = bank.contents()
            with Served(bank.app()) as served, tempfile.TemporaryDirectory() as name:
                file = Path(name, "contract.json")
                file.write_text(json.dumps(bank.contract()), "utf-8")
                result = run_against(str(file), served.base_url, Path(name), tuple(ATTRIBUTES))
            with self.subTest(fault=fault):
                self.assertEqual([each.title for each in result.findings], told)
                self.assertEqual(before, bank.contents())
                self.assertEqual(result.not_exercised, ())

    def test_each_fault_is_found_as_what_it_is(self) -> None:
        for fault, title in FAULTS.items():
            with self.subTest(fault=fault):
                bank = Bank(fault)
                before = bank.contents()
                found = [
                    each
                    for each in run(bank, ("create", "delete", "relate")).findings
                    if each.check == "relate.linkage"
                ]
                self.assertEqual([each.title for each in found], [title])
                if fault not in {"null kept", "lost"}:
                    self.assertEqual(before, bank.contents())

    def test_rows_that_are_shown_otherwise_by_the_path_of_related_rows(self) -> None:
        found = [
            each.title
            for each in run(Bank("related", named=False), ("create", "delete", "relate")).findings
            if each.check == "relate.linkage"
        ]
        self.assertEqual(found, ["The path of related rows does not show a row of the relationship"])

    def test_what_the_contract_says_of_them(self) -> None:
        for named, told in ((True, {("species", False), ("tags", True)}), (False, {("", None)})):
            with self.subTest(named=named), tempfile.TemporaryDirectory() as name:
                file = Path(name, "contract.json")
                file.write_text(json.dumps(Bank(named=named).contract()), "utf-8")
                _, model = understood(read_contract(str(file)), Profile(Path(name)))
                lots = model.resource("lots")
                assert lots is not None
                self.assertEqual({(each.name, each.many) for each in lots.linkages}, told)
                self.assertEqual(model.others, ())


if __name__ == "__main__":
    unittest.main()
