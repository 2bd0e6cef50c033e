"""A run that dies leaves nothing behind once ``checkpost sweep`` has been called."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import tempfile
import time
import unittest
from pathlib import Path

from checkpost.demo.seedbank import TABLES
from checkpost.demo.server import InProcess
from checkpost.rows.journal import journals
from tests.support import COMMAND, ENVIRONMENT, checkpost, write_example


class Crash(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.stand_in = self.enterContext(InProcess())
        write_example(self.folder, self.stand_in.address)

    def start(self) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [str(COMMAND), "run"],
            cwd=self.folder,
            env={**os.environ, **ENVIRONMENT},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def wait_for_rows(self, process: subprocess.Popen[bytes]) -> None:
        """Until the run has begun to write."""
        deadline = time.monotonic() + 120
        while not journals(self.folder) and time.monotonic() < deadline and process.poll() is None:
            time.sleep(0.01)
        self.assertTrue(journals(self.folder), "the run wrote no journal")

    def wait_for_change(self, process: subprocess.Popen[bytes], before: dict[str, list[dict[str, object]]]) -> None:
        """Until the tables differ from what they were, or the run has ended."""
        deadline = time.monotonic() + 120
        while self.stand_in.contents() == before and time.monotonic() < deadline and process.poll() is None:
            time.sleep(0.002)

    def assert_named(self, swept: subprocess.CompletedProcess[str], before: dict[str, list[dict[str, object]]]) -> None:
        """The tables are as they were, or each row that stays is named: one that bears no mark, and whose create or
        removal was cut off from its answer. It is removed here, so that the next run begins as the first one."""
        for table in TABLES:
            for row in [each for each in self.stand_in.contents()[table.name] if each not in before[table.name]]:
                key = tuple(row[name] for name in table.key)
                named = f"{table.name.replace('_', '-')} {'/'.join(map(str, key))}: it is "
                self.assertIn(named, swept.stderr)
                self.stand_in.database.delete(table, key)
        self.assertEqual(self.stand_in.contents(), before)
        named = "these were not:" in swept.stderr
        self.assertEqual(swept.returncode, 3 if named else 0, swept.stderr)
        self.assertEqual(bool(journals(self.folder)), named)
        if named:  # somebody has looked now
            forgot = checkpost("sweep", "--forget", "--timeout", "5", folder=self.folder)
            self.assertEqual(forgot.returncode, 0, forgot.stderr)
            self.assertEqual(journals(self.folder), [])

    def test_sweep_after_kill_leaves_tables_as_they_were(self) -> None:
        before = self.stand_in.contents()
        moments = random.Random(4)
        rows_left = 0
        for longest in (0, 0.2, 2.5):
            process = self.start()
            self.wait_for_change(process, before)
            time.sleep(moments.uniform(0, longest))
            process.send_signal(signal.SIGKILL)
            process.wait()
            rows_left += self.stand_in.contents() != before
            swept = checkpost("sweep", "--timeout", "5", folder=self.folder)
            self.assert_named(swept, before)
        self.assertGreater(rows_left, 0, "no kill came while rows were there, so nothing was tried")

    def test_a_contract_at_a_url_that_a_role_logs_in_to_read(self) -> None:
        before, profile = self.stand_in.contents(), self.folder / "checkpost.yaml"
        url = self.stand_in.address.contract_url
        text = profile.read_text("utf-8").replace("contract: seedbank.yaml", f"contract: {url}")
        profile.write_text(text + "contract_role: auditor\n", "utf-8")
        (self.folder / "seedbank.yaml").unlink()
        process = self.start()
        self.wait_for_rows(process)
        time.sleep(0.7)
        process.send_signal(signal.SIGKILL)
        process.wait()
        listed = checkpost("sweep", "--list", folder=self.folder)
        self.assertRegex(listed.stdout, "rows? may be left at")
        # from another folder, too: the journal knows where profile and contract are
        swept = checkpost("sweep", "--timeout", "5", "--profile", str(profile), folder=self.folder.parent)
        self.assert_named(swept, before)

    def test_interrupt_and_termination_remove_rows_at_once(self) -> None:
        before = self.stand_in.contents()
        for sent in (signal.SIGINT, signal.SIGTERM):
            process = self.start()
            self.wait_for_rows(process)
            time.sleep(0.4)
            process.send_signal(sent)
            self.assertEqual(process.wait(120), 3)
            self.assertEqual(self.stand_in.contents(), before)
            self.assertEqual(journals(self.folder), [])

    def test_sweep_leaves_rows_of_others_and_running_runs_alone(self) -> None:
        process = self.start()
        self.wait_for_rows(process)
        time.sleep(0.5)
        listed = checkpost("sweep", "--timeout", "5", folder=self.folder)
        self.assertIn("still going on", listed.stdout)
        process.send_signal(signal.SIGKILL)
        process.wait()
        table = next(table for table in TABLES if table.name == "tags")
        others = {"label": "made by somebody else meanwhile", "colour": "#123456"}
        key = self.stand_in.database.insert(table, others)
        checkpost("sweep", "--timeout", "5", folder=self.folder)
        self.assertEqual(self.stand_in.database.fetch(table, key), {"id": key[0], **others})


if __name__ == "__main__":
    unittest.main()
