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

    def test_sweep_after_kill_leaves_tables_as_they_were(self) -> None:
        before = self.stand_in.contents()
        moments = random.Random(4)
        rows_left = 0
        for _ in range(6):
            process = self.start()
            self.wait_for_rows(process)
            time.sleep(moments.uniform(0.05, 2.5))
            process.send_signal(signal.SIGKILL)
            process.wait()
            rows_left += self.stand_in.contents() != before
            swept = checkpost("sweep", folder=self.folder)
            self.assertEqual(swept.returncode, 0, swept.stderr)
            self.assertEqual(self.stand_in.contents(), before)
            self.assertEqual(journals(self.folder), [])
        self.assertGreater(rows_left, 0, "no kill came while rows were there, so nothing was tried")

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
        listed = checkpost("sweep", folder=self.folder)
        self.assertIn("still going on", listed.stdout)
        process.send_signal(signal.SIGKILL)
        process.wait()
        table = next(table for table in self.stand_in_tables() if table.name == "tags")
        others = {"label": "made by somebody else meanwhile", "colour": "#123456"}
        key = self.stand_in.database.insert(table, others)
        checkpost("sweep", folder=self.folder)
        self.assertEqual(self.stand_in.database.fetch(table, key), {"id": key[0], **others})

    def stand_in_tables(self) -> tuple:
        from checkpost.demo.seedbank import TABLES

        return TABLES


if __name__ == "__main__":
    unittest.main()
