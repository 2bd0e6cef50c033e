"""Nothing is told of sound APIs, whatever habits are drawn for them."""

from __future__ import annotations

import os
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from unittest import mock

from tests.hunt.api import SoundApi
from tests.hunt.faults import FAULTS
from tests.hunt.habits import Table
from tests.hunt.missed import seeds_for, trial_of
from tests.hunt.query import Row, Wanted
from tests.hunt.trial import Trial, tried

_SEEDS = 8
#: One of so many of the faults is tried: ``python -m tests.hunt.missed`` tries all.
_EVERY = 17


class Hunt(unittest.TestCase):
    def test_nothing_is_told_of_sound_apis(self) -> None:
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            trials = list(pool.map(tried, range(_SEEDS)))
        self.assertEqual([(each.seed, each.told) for each in trials if each.told], [])
        passed = {check for each in trials for check in each.passed}
        families = {check.partition(".")[0] for check in passed}
        wanted = {"read", "create", "update", "replace", "delete", "page", "filter", "sort", "select", "bulk", "relate"}
        self.assertEqual(wanted - families, set(), "the habits leave every family something to ask")

    def test_the_hunt_can_find(self) -> None:
        def broken(api: SoundApi, table: Table, rows: list[Row], wanted: Wanted) -> list[Row]:
            return ordered(api, table, rows, wanted)[::-1] if wanted.order else ordered(api, table, rows, wanted)

        ordered = SoundApi._ordered
        with mock.patch.object(SoundApi, "_ordered", broken):
            told = [line for trial in _some() for line in trial.told]
        self.assertTrue(any("sort.each-field" in line for line in told), told)

    def test_something_is_told_of_faults(self) -> None:
        pairs = [(name, seed) for name in list(FAULTS)[::_EVERY] for seed in seeds_for(name, 1)]
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            silent = [pair for pair, trial in zip(pairs, pool.map(trial_of, pairs), strict=True) if not trial.told]
        self.assertEqual(silent, [])
        self.assertGreater(len(pairs), 8)


def _some() -> Iterator[Trial]:
    return map(tried, range(6))


if __name__ == "__main__":
    unittest.main()
