"""Rows that a record may be taken for: by one value, or by several that tell a row from all others."""

from __future__ import annotations

import unittest

from checkpost.rows.natural import Natural

READINGS = [
    {"id": 1, "slug": "North", "station": 1, "day": "2020-01-01", "unit": "mm", "seen": True, "depth": 1.5},
    {"id": 2, "slug": "south", "station": 1, "day": "2020-01-02", "unit": "cm", "seen": False, "depth": 2.5},
    {"id": 3, "slug": None, "station": 2, "day": "2020-01-02", "unit": "mm", "seen": True, "depth": 3.5},
]


class TakenFor(unittest.TestCase):
    def test_a_value_that_each_row_has_for_itself(self) -> None:
        natural = Natural(READINGS)
        self.assertEqual(natural.taken_for({"slug": " NORTH ", "station": 9}), ("slug",))
        self.assertEqual(natural.taken_for({"slug": "east", "station": 1}), ())
        self.assertEqual(natural.taken_for({"slug": None}), (), "nothing is no value")

    def test_values_that_tell_a_row_apart_together(self) -> None:
        natural = Natural(READINGS)
        self.assertEqual(natural.taken_for({"station": 1, "day": "2020-01-02"}), ("station", "day"))
        self.assertEqual(natural.taken_for({"station": 1, "day": "2020-01-03"}), ())
        self.assertEqual(natural.taken_for({"station": "2", "day": "2020-01-01"}), (), "two rows have one station")

    def test_truths_and_measures_tell_nothing(self) -> None:
        self.assertEqual(Natural(READINGS).taken_for({"seen": False, "depth": 1.5}), ())

    def test_a_kind_tells_nothing_by_itself(self) -> None:
        self.assertEqual(Natural(READINGS[:2]).taken_for({"unit": "mm"}), ("unit",))
        natural = Natural(READINGS[:2], {"unit"})
        self.assertEqual(natural.taken_for({"unit": "mm"}), ())
        self.assertEqual(natural.taken_for({"unit": "mm", "station": 1}), ("station", "unit")[::-1])

    def test_a_table_without_rows_tells_nothing(self) -> None:
        self.assertFalse(Natural(()).tells_apart(["slug"]))

    def test_the_largest_number(self) -> None:
        self.assertEqual(Natural(READINGS).largest("id"), 3)
        self.assertIsNone(Natural(READINGS).largest("slug"))


if __name__ == "__main__":
    unittest.main()
