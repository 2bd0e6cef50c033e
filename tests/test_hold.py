"""Rows that are held over a new start of the API: found again, or told as lost, and removed."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

from checkpost.demo.defects import DEFECTS
from checkpost.demo.server import Address, own_process
from tests.support import called, checkpost, write_example


class HeldRows(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.database = str(self.folder / "seedbank.db")

    def run_on(self, address: Address, *words: str) -> tuple[int, dict[str, object], str]:
        """One run on two tables; the profile is the one of the first start, whatever the port is now."""
        asked = ("run", "--resource", "tags", "--resource", "vaults", "--out", "report.json", *words)
        done = checkpost(*asked, "--base-url", self.base_url, folder=self.folder)
        report = self.folder / "report.json"
        return done.returncode, json.loads(report.read_text("utf-8")) if report.is_file() else {}, done.stdout

    def held_then(self, *defects: str) -> tuple[int, dict[str, object], str]:
        """Hold rows on the sound stand-in, start it anew with defects, and look at the rows."""
        with own_process(database=self.database) as address:
            write_example(self.folder, address)
            self.base_url, port = address.base_url, int(address.base_url.rpartition(":")[2].partition("/")[0])
            status, report, out = self.run_on(address, "--only", "read", "--hold")
            self.assertEqual(status, 0, out)
            self.assertEqual(report["summary"]["held"], 6)  # type: ignore[index]
            self.assertIn("6 rows are held", out)
            swept = checkpost("sweep", folder=self.folder)
            self.assertIn("6 rows are held", swept.stdout)
        with own_process(defects, self.database, port=port) as address:
            return self.run_on(address, "--verify-held")

    def test_sound_rows_are_found_again_and_removed(self) -> None:
        status, report, out = self.held_then()
        self.assertEqual((status, report["findings"]), (0, []), out)
        outcomes = {(each["check"], each["outcome"]) for each in report["checks"]}  # type: ignore[attr-defined]
        self.assertIn(("hold.kept", "passed"), outcomes)
        self.assertEqual(list((self.folder / ".checkpost").glob("journal-*")), [], "the rows are gone, and so is it")
        with own_process(database=self.database) as address:
            self.assertEqual(address.base_url[:17], "http://127.0.0.1:")
            again = checkpost("run", "--verify-held", "--base-url", self.base_url, folder=self.folder)
        self.assertEqual(again.returncode, 2)
        self.assertIn("No rows are held", again.stderr)

    def test_what_a_new_start_has_lost_is_told(self) -> None:
        names = [name for name, defect in DEFECTS.items() if defect.family == "hold"]
        self.assertEqual(len(names), 2)
        status, report, out = self.held_then(*names)
        self.assertEqual(status, 1, out)
        told = {
            (each["resource"], each["operation"]["method"]): each["title"]
            for each in report["findings"]  # type: ignore[attr-defined]
        }
        self.assertEqual(told["tags", "POST"], "Rows that were stored are gone")
        self.assertEqual(told["vaults", "GET"], "A row that was stored has changed by itself")
        self.assertEqual(list((self.folder / ".checkpost").glob("journal-*")), [])

    def test_hold_and_verify_are_two_runs(self) -> None:
        done = called("run", "nothing.yaml", "--hold", "--verify-held", folder=self.folder)
        self.assertEqual(done.returncode, 2)


if __name__ == "__main__":
    unittest.main()
