"""Books in the ways of several kinds of generated APIs: sound ones give nothing, and faults are found."""

from __future__ import annotations

import copy
import json
import subprocess
import tempfile
import unittest
from pathlib import Path

from checkpost.engine.run import Result
from tests.foreign import Served
from tests.press import WAYS, Boxed, Hypermedia, Lines, Press
from tests.support import run_against


def run_on(press: Press, *families: str) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(press.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(press.contract()), "utf-8")
        url, direct = served.base_url, served.direct
        return run_against(str(file), url, Path(name), families=families, role=None, transport=direct)


class Sound(unittest.TestCase):
    def test_nothing_is_found_and_nothing_changed(self) -> None:
        for way in WAYS:
            with self.subTest(way=way.__name__):
                press = way()
                before = copy.deepcopy(press.books)
                result = run_on(press)
                severe = [each for each in result.findings if each.severity != "note"]
                self.assertEqual([(each.check, each.title, each.expected, each.observed) for each in severe], [])
                self.assertEqual((press.books, result.left), (before, ()))
                [resource] = result.target.model.resources
                self.assertEqual({"list", "read", "create", "update", "delete"} - set(resource.operations), set())
                passed = {each.check for each in result.checks if each.outcome == "passed"}
                asked = {"create.stored", "create.awkward-values", "create.rules", "update.each-field", "delete.gone"}
                self.assertEqual({*asked, "read.missing-key", "read.item-equals-list"} - passed, set())

    def test_pages_are_gone_through(self) -> None:
        for way, style in ((Hypermedia, "page"), (Boxed, "cursor")):
            result = run_on(way(), "read", "page", "sort")
            [resource] = result.target.model.resources
            self.assertEqual(resource.paging.style, style)
            passed = {each.check for each in result.checks if each.outcome == "passed"}
            self.assertIn("page.next-link" if way is Boxed else "page.joined", passed, way.__name__)
            self.assertEqual("sort.each-field" in passed, way is Hypermedia)


class DaysLater(unittest.TestCase):
    """The commands of a finding are run when the keys of the run have become somebody else's."""

    def test_commands_make_their_own_row_and_leave_the_keys_of_today_alone(self) -> None:
        for way, fault in ((Hypermedia, "lost"), (Hypermedia, "stays"), (Lines, "lost"), (Boxed, "lost")):
            with self.subTest(way=way.__name__, fault=fault):
                press = way(fault)
                with tempfile.TemporaryDirectory() as name, Served(press.app()) as served:
                    file = Path(name) / "contract.json"
                    file.write_text(json.dumps(press.contract()), "utf-8")
                    families = ("update", "delete")
                    result = run_against(str(file), served.base_url, Path(name), families=families)
                    for number in range(401, press.last + 1):
                        press.books[press.key(number)] = {"title": "somebody's", "pages": 3, "printed": None}
                    before = copy.deepcopy(press.books)
                    commands = [each.reproduce for each in result.findings if each.severity == "error"]
                    self.assertTrue(commands and all(commands))
                    for command in commands:
                        done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, timeout=30)
                        self.assertEqual(done.returncode, 0, f"{command}\n{done.stderr}")
                self.assertEqual({key: press.books.get(key) for key in before}, before)
                self.assertGreater(len(press.books), len(before), "each makes a row of its own")


class Wrong(unittest.TestCase):
    def test_each_fault_is_found_in_each_way(self) -> None:
        for way in WAYS:
            for fault, check in (
                ("lost", "update.each-field"),
                ("stays", "delete.gone"),
                ("short", "create.awkward-values"),
            ):
                with self.subTest(way=way.__name__, fault=fault):
                    result = run_on(way(fault), check.partition(".")[0])
                    found = [each for each in result.findings if each.severity == "error"]
                    self.assertIn(check, {each.check for each in found})
                    self.assertTrue(all(each.reproduce and each.expected and each.observed for each in found))


if __name__ == "__main__":
    unittest.main()
