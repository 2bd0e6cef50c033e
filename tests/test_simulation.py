"""Ten thousand crashes: whatever an API is like, no row of others changes, and none of the run's stays unnamed."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import unittest
from dataclasses import replace
from pathlib import Path

from tests.simulation.tempers import BY_NAME, TEMPERS
from tests.simulation.trial import try_temper

#: Moments that are swept of each temperament, by seed; benchmarks/crashes.py sweeps them all.
MOST, PARTS = {1: 16, 6: 8}, 2


class ManyAtOnce(unittest.TestCase):
    def test_no_row_is_left_of_requests_with_many(self) -> None:
        for name, most in (
            ("many at once, all or none", 0),
            ("many at once, as far as it goes", 0),
            ("many at once, and changes make rows", 0),
            ("many at once, no key answered", 1),  # the one that showed it
            ("many at once, refused but done", 3),  # one request, of rows that bear nothing
        ):
            with self.subTest(name):
                trial = try_temper(replace(BY_NAME[name], others=0.0), 1, ("create", "bulk"), 1)
                assert trial.result is not None
                self.assertEqual(trial.amiss, [])
                self.assertLessEqual(len(trial.result.left), most)
                asked = {each.check for each in trial.result.checks if each.outcome == "passed"}
                self.assertTrue(asked & {"bulk.create", "bulk.delete", "bulk.update"} or most == 3)


class Simulation(unittest.TestCase):
    def test_ten_thousand_crash_points(self) -> None:
        command = [sys.executable, "-m", "tests.simulation"]
        running = [
            subprocess.Popen(
                [*command, "--part", f"{part}/{PARTS}", "--seed", str(seed), "--most", str(most)],
                cwd=Path(__file__).parent.parent,
                env={**os.environ, "PYTHONHASHSEED": "0"},
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                text=True,
            )
            for seed, most in MOST.items()
            for part in range(PARTS)
        ]
        told = [each.communicate()[0] for each in running]
        for each, text in zip(running, told, strict=True):
            self.assertEqual(each.returncode, 0, text)
        points = sum(int(found) for found in re.findall(r"^(\d+) crash points", "\n".join(told), re.M))
        print(f"{points} crash points, none with anything amiss")
        self.assertGreaterEqual(points, 10_000)
        self.assertEqual(sum(text.count(" requests, ") for text in told), len(TEMPERS) * len(MOST))
        self.assertGreaterEqual(len(TEMPERS), 15)

    def test_a_fault_of_the_ledger_is_found(self) -> None:
        """The simulation can fail: without the journal's sync, or with rows that are not proved, it does."""
        from unittest import mock

        from checkpost.rows.journal import Journal
        from checkpost.rows.ledger import Ledger

        synced, asked = Journal.synced, []

        async def seldom(journal: Journal) -> None:
            asked.append(1)
            if len(asked) % 25 == 1:
                await synced(journal)

        with mock.patch.object(Journal, "synced", seldom):
            self.assertTrue(any(try_temper(BY_NAME["sound"], seed, ["create"], 40).amiss for seed in range(1, 6)))

        async def anything(ledger: Ledger, name: str, key: object) -> None:
            return None

        def own(ledger: Ledger, name: str, key: object, row: object = None) -> bool:
            return True

        with mock.patch.multiple(Ledger, _permit_touching=anything, is_own=own, is_still=own):
            busy = replace(BY_NAME["largest key given again"], others=0.4)
            self.assertTrue(any(try_temper(busy, seed, ["delete"], 1).amiss for seed in range(1, 21)))


if __name__ == "__main__":
    unittest.main()
