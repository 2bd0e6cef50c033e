"""A row at a path under the one that it belongs to: what is wrong there is found, and what is not is not."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections.abc import Sequence
from pathlib import Path

from checkpost.engine.run import Result
from tests.direct import Direct
from tests.shelves import FIELDS, Shelves
from tests.support import run_against

ELSEWHERE = "A row is reached under a row that it does not belong to"
#: What each fault is found as: the title, and the method of the path that it is told of.
FAULTS = {
    "not found": ("A row is not found by its path under the row that it belongs to", "GET"),
    "elsewhere GET": (ELSEWHERE, "GET"),
    "elsewhere PATCH": (ELSEWHERE, "PATCH"),
    "elsewhere DELETE": (ELSEWHERE, "DELETE"),
    "not stored": ("A change by a path under another row is not stored", "PATCH"),
    "kept": ("A removal by a path under another row removes nothing", "DELETE"),
    "takes the shelf": ("A removal by a path under another row removes that one too", "DELETE"),
}


def run(api: Shelves, families: Sequence[str] = ()) -> Result:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "contract.json").write_text(json.dumps(api.contract()), "utf-8")
        contract, direct = str(folder / "contract.json"), Direct(api.app())
        return run_against(contract, "http://127.0.0.1:1", folder, tuple(FIELDS), families, transport=direct)


class RowsUnder(unittest.TestCase):
    def test_a_sound_api_is_tried_whole_and_nothing_is_told(self) -> None:
        api = Shelves()
        before = api.contents()
        result = run(api)
        self.assertEqual([(each.check, each.title, each.observed) for each in result.findings], [])
        self.assertEqual((api.contents(), result.left, result.harmed), (before, (), ()))
        self.assertEqual(result.not_exercised, ())

    def test_each_fault_is_found_as_what_it_is(self) -> None:
        for fault, (title, method) in FAULTS.items():
            with self.subTest(fault=fault):
                api = Shelves(fault)
                before = api.contents()
                result = run(api, ("create", "delete", "relate"))
                self.assertEqual([each.title for each in result.findings], [title])
                [one] = result.findings
                self.assertEqual(one.operations, ((method, "/shelves/{id}/bags/{bag_id}"),))
                self.assertEqual((api.contents(), result.left, result.harmed), (before, (), ()))


if __name__ == "__main__":
    unittest.main()
