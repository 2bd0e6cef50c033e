"""Values to filter by: chosen so that a wrong comparison shows."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from checkpost.contract.node import Library, Node
from checkpost.model.fields import fields_of
from checkpost.model.query import Compare, Either, Every, Not, Operator, Order, Query, compares, in_words
from checkpost.model.shape import shape_of
from checkpost.model.vocabulary import function_of, names_of, operator_of
from checkpost.oracle.columns import Snapshot, column, is_plain, moment, sound_text, without_accents
from checkpost.values.operands import conditions

FIELDS: dict[str, Any] = {
    "id": {"type": "integer"},
    "count": {"type": "integer", "minimum": 0},
    "mass": {"type": ["number", "null"]},
    "name": {"type": ["string", "null"]},
    "code": {"type": "string", "pattern": "^[0-9]+$"},
    "kind": {"type": "string", "enum": ["a", "b", "c"]},
    "open": {"type": "boolean"},
    "day": {"type": "string", "format": "date"},
    "at": {"type": "string", "format": "date-time"},
    "uid": {"type": "string", "format": "uuid"},
    "tags": {"type": "array", "items": {"type": "string"}},
}
NAMES = ["O'Hara", "50% off", "a_b", "x, y", "plain words", "Ärger", "0042", "", None, "tail ", "a+b", "back\\slash"]


def snapshot() -> Snapshot:
    rows = [
        {
            "id": number,
            "count": number * 3 % 40,
            "mass": None if number == 5 else number / 2,
            "name": name,
            "code": f"{number:04d}",
            "kind": "ab"[number % 2],
            "open": number % 3 == 0,
            "day": f"2024-01-{number + 1:02d}",
            "at": f"2024-01-01T{number:02d}:00:00Z",
            "uid": f"{number:08d}-0000-4000-8000-000000000000",
            "tags": [],
        }
        for number, name in enumerate(NAMES)
    ]
    node = Node(Library(lambda location: b"{}"), "rows", "", {"type": "object", "properties": FIELDS})
    fields = {each.name: each for each in fields_of({"row": shape_of(node)}, ())}
    return Snapshot(rows, [(row["id"],) for row in rows], fields)


class Operands(unittest.TestCase):
    def setUp(self) -> None:
        self.rows = snapshot()

    def values(self, name: str, operator: Operator) -> list[Any]:
        field = self.rows.fields[name]
        return [each.value for each in conditions(field, [operator], self.rows, "absent-text")]

    def known(self, name: str) -> set[Any]:
        return {row[name] for row in self.rows.rows}

    def test_values_that_are_there_and_that_are_not(self) -> None:
        for name in ("count", "mass", "name", "day", "at", "uid"):
            with self.subTest(field=name):
                values = self.values(name, "eq")
                self.assertTrue(set(values) & self.known(name))
                self.assertTrue(set(values) - self.known(name))
        self.assertIn("c", self.values("kind", "eq"), "a choice that no row has")

    def test_bounds_are_values_that_rows_have(self) -> None:
        for name in ("count", "mass", "day", "at"):
            for operator in ("lt", "le", "gt", "ge"):
                values = self.values(name, operator)  # type: ignore[arg-type]
                self.assertTrue(values)
                self.assertLessEqual(set(values), self.known(name), (name, operator))

    def test_a_bound_tells_numbers_from_texts(self) -> None:
        wrong = 0
        for bound in self.values("count", "gt"):
            as_numbers = [row["count"] > bound for row in self.rows.rows]
            as_texts = [str(row["count"]) > str(bound) for row in self.rows.rows]
            wrong += as_numbers != as_texts
        self.assertGreater(wrong, 0)

    def test_numbers_that_single_precision_keeps(self) -> None:
        for value in self.values("mass", "ge"):
            self.assertEqual(float(np.float32(value)), value)
        self.assertTrue(any(value % 1 for value in self.values("mass", "eq")), "one with a fraction")
        self.assertIn(0, self.values("count", "eq"), "zero is often taken for nothing")

    def test_texts_that_need_care(self) -> None:
        values = self.values("name", "eq")
        for sign in "'%_+,\\":
            self.assertTrue(any(sign in value for value in values), sign)
        self.assertTrue(any(not value.isascii() for value in values))
        self.assertIn("", values)
        self.assertIn("0042", values)
        self.assertNotIn("tail ", values, "spaces at the ends are a matter of the database")

    def test_lists_hold_values_without_separators(self) -> None:
        for several in self.values("name", "in"):
            self.assertGreater(len(several), 1)
            for value in several:
                self.assertFalse(set(value) & set(",'\"%"))
        self.assertEqual(len(self.values("uid", "in")[0]), 2)

    def test_patterns_are_parts_of_texts_that_are_there(self) -> None:
        texts = [name for name in NAMES if name]
        for part in self.values("name", "contains"):
            self.assertTrue(any(part in text for text in texts), part)
        for part in self.values("name", "starts"):
            self.assertTrue(any(text.startswith(part) for text in texts), part)
        for part in self.values("name", "ends"):
            self.assertTrue(any(text.endswith(part) for text in texts), part)
        for pattern in self.values("name", "like"):
            self.assertTrue(pattern.startswith("%") and pattern.endswith("%"))
        self.assertEqual(self.values("count", "contains"), [], "no pattern for numbers")

    def test_nulls_where_they_are_allowed_alone(self) -> None:
        nullable = list(conditions(self.rows.fields["mass"], ["null", "not_null"], self.rows, "x"))
        self.assertEqual([each.operator for each in nullable], ["null", "not_null"])
        self.assertEqual(list(conditions(self.rows.fields["count"], ["null"], self.rows, "x")), [])

    def test_a_column_without_values_has_none(self) -> None:
        empty = Snapshot([{"name": None}] * 3, [(1,), (2,), (3,)], self.rows.fields)
        self.assertEqual(list(conditions(self.rows.fields["name"], ["eq", "null"], empty, "x")), [])


class Columns(unittest.TestCase):
    def test_kinds_and_what_does_not_belong_to_them(self) -> None:
        numbers = column("number", [1, None, "2.5", "many", True])
        self.assertEqual(numbers.null.tolist(), [False, True, False, False, False])
        self.assertEqual(numbers.odd.tolist(), [False, False, False, True, True])
        self.assertEqual(numbers.values[:3].tolist(), [1.0, 0.0, 2.5])
        self.assertEqual(column("number", [1, 2**60]).values.dtype, np.int64)
        self.assertEqual(column("boolean", [True, "true", None]).odd.tolist(), [False, True, False])
        self.assertEqual(column("date", ["2024-02-30", "2024-02-29"]).odd.tolist(), [True, False])

    def test_moments(self) -> None:
        self.assertEqual(moment("2024-01-01T00:00:00Z", "date-time"), moment("2024-01-01T02:00:00+02:00", "date-time"))
        self.assertEqual(moment("1970-01-02", "date"), 86_400_000_000)
        self.assertIsNone(moment("yesterday", "date-time"))
        self.assertIsNone(moment(5, "date"))

    def test_forms_of_texts(self) -> None:
        texts = column("text", ["Ärger ", "arger", None])
        self.assertEqual(texts.form("exact").tolist(), ["Ärger ", "arger", ""])
        self.assertEqual(texts.form("case", True).tolist(), ["ärger", "arger", ""])
        self.assertEqual(texts.form("accent", True).tolist(), ["arger", "arger", ""])
        self.assertEqual(without_accents("çédille"), "cedille")
        self.assertEqual(sound_text("a\ud800b"), "a?b")
        self.assertTrue(is_plain("Abc-1 23"))
        self.assertTrue(is_plain("10.50"), "a number")
        self.assertFalse(is_plain("a.b"))
        self.assertFalse(is_plain("a_b"), "where it stands is a matter of the language")

    def test_masks(self) -> None:
        rows = snapshot()
        mask, strange = rows.mask([(1,), (3,), (99,), None])
        self.assertEqual(np.flatnonzero(mask).tolist(), [1, 3])
        self.assertEqual(strange, [(99,)])


class Words(unittest.TestCase):
    def test_operators(self) -> None:
        words = {
            "gte": "ge", "GTE": "ge", ">=": "ge", "greaterThanOrEqual": "ge", "starts_with": "starts", "nin": "not_in",
            "isnull": "null", "not-null": "not_null", "neq": "ne", "<>": "ne", "after": "from", "max": "to",
        }  # fmt: skip
        for word, operator in words.items():
            self.assertEqual(operator_of(word), operator, word)
        for word in ("", "name", "=>", "page", "foo"):
            self.assertIsNone(operator_of(word), word)

    def test_functions(self) -> None:
        self.assertEqual(function_of("average"), "avg")
        self.assertEqual(function_of("count_distinct"), "distinct")
        self.assertIsNone(function_of("median"))
        self.assertIn("mean", names_of("avg"))

    def test_questions_in_words(self) -> None:
        one, two = Compare("a", "ge", 1), Compare("b", "eq", "x")
        self.assertEqual(str(Every((one, Either((one, two))))), "a >= 1 and (a >= 1 or b = 'x')")
        self.assertEqual(str(Not(two)), "not (b = 'x')")
        self.assertEqual(in_words("not_null"), "not null")
        self.assertEqual(compares(Not(Either((one, two)))), [one, two])
        query = Query(one, (Order("b", True),), ("a",), 5, 10)
        self.assertEqual(str(query), "where a >= 1; by b descending; only a; 5 rows from 10")
        self.assertEqual(str(Query()), "the whole list")


if __name__ == "__main__":
    unittest.main()
