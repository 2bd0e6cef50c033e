"""The oracles: what a condition, an order or an aggregate admits, and what it does not."""

from __future__ import annotations

import itertools
import random
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import numpy as np

from checkpost.checks.concurrency import another_tag
from checkpost.checks.sort import as_what_they_refer_to, telling
from checkpost.contract.node import Library, Node
from checkpost.model.fields import fields_of
from checkpost.model.query import Compare, Condition, Either, Every, Measure, Not, Order
from checkpost.model.shape import shape_of
from checkpost.oracle.aggregate import explains, groups_of
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Answer, Reading, Verdict, evaluate, judge
from checkpost.oracle.order import out_of_order
from checkpost.oracle.same import kept_by_server, same

FIELDS = {
    "id": {"type": "integer"},
    "name": {"type": ["string", "null"]},
    "price": {"type": ["number", "null"]},
    "on": {"type": ["string", "null"], "format": "date"},
    "at": {"type": "string", "format": "date-time"},
    "open": {"type": ["boolean", "null"]},
    "kind": {"type": "string", "enum": ["small", "large", "huge"]},
}


def snapshot(rows: list[dict[str, Any]]) -> Snapshot:
    row = Node(Library(lambda location: b"{}"), "rows", "", {"type": "object", "properties": FIELDS})
    fields = {each.name: each for each in fields_of({"row": shape_of(row)}, ())}
    usual = {**dict.fromkeys(FIELDS), "at": "2020-01-01T00:00:00Z"}
    filled = [{**usual, **each, "id": place} for place, each in enumerate(rows)]
    return Snapshot(filled, [(each["id"],) for each in filled], fields)


class Telling(unittest.TestCase):
    def test_an_order_in_which_rows_come_by_themselves_shows_nothing(self) -> None:
        falling = snapshot([{"name": name, "price": price} for name, price in (("a", 9), ("b", 5), ("c", 2))])
        self.assertEqual(getattr(telling(falling, False), "name", None), "price")
        self.assertEqual(getattr(telling(falling, True), "name", None), "id")
        gaps = snapshot([{"price": price} for price in (9, None, 5, 2)])
        self.assertIsNone(telling(gaps, False), "where nulls go is another question")

    def test_a_tag_that_is_another_one_has_the_same_form(self) -> None:
        for tag, other in (('"17"', '"16"'), ('W/"a9f"', '"a9a"'), ('"a"', '"b"'), ('"x-0"', '"x-1"'), ('""', '"0"')):
            self.assertEqual(another_tag(tag), other)

    def test_who_made_a_row_is_kept_by_the_server(self) -> None:
        for name, kept in (("created_by", True), ("user_updated", True), ("lastModifiedBy", True), ("owner", False)):
            field = replace(snapshot([{}]).fields["name"], name=name)
            self.assertEqual(kept_by_server(field, "someone", "me", datetime.now(UTC)), kept, name)

    def test_an_address_may_be_shown_with_its_host(self) -> None:
        shown = ["http://seeds.example/lots/7/"]
        self.assertTrue(same(None, ["/lots/7/"], shown))
        self.assertFalse(same(None, ["/lots/8/"], shown))
        self.assertFalse(same(None, ["/7/"], shown))

    def test_rows_may_be_in_the_order_of_those_that_they_refer_to(self) -> None:
        rows = snapshot([{"price": price} for price in (8, 8, 9, 3, 3)])
        for places, descending, may in (
            ((0, 1, 2, 3, 4), False, True),
            ((0, 2, 1, 3, 4), False, False),  # those of one row do not stand together
            ((2, 0, 1, 3, 4), False, False),  # just the other way round
            ((2, 0, 1, 3, 4), True, True),
        ):
            self.assertEqual(as_what_they_refer_to(rows, places, Order("price", descending)), may, places)

    def test_the_row_that_a_reference_shows_is_told_by_its_key(self) -> None:
        reference = replace(snapshot([{}]).fields["price"], types=frozenset({"integer"}))
        before, after = {"id": 3, "lots": 2}, {"id": 3, "lots": 5}
        self.assertTrue(same(reference, before, after), "what else it shows is another row's")
        self.assertFalse(same(reference, before, {**after, "id": 4}))
        self.assertFalse(same(replace(reference, types=frozenset({"object"})), before, after), "an object of its own")
        self.assertFalse(same(reference, {"lots": 2}, {"lots": 5}))

    def test_a_moment_that_the_server_has_set_may_be_a_number(self) -> None:
        field, now = snapshot([{}]).fields["price"], datetime.now(UTC)
        seconds = now.timestamp()
        self.assertTrue(kept_by_server(field, int(seconds * 1000) - 70_000, int(seconds * 1000), now))
        self.assertTrue(kept_by_server(field, seconds - 70, seconds, now))
        self.assertFalse(kept_by_server(field, 12, 13, now))
        before = {"owner": "me", "update_time": "2001-01-01T00:00:00Z", "kind": "a"}
        after = {**before, "update_time": now.isoformat()}
        self.assertTrue(kept_by_server(field, before, after, now), "a moment inside an object")
        self.assertFalse(kept_by_server(field, before, {**after, "kind": "b"}, now))
        self.assertFalse(kept_by_server(field, int(seconds * 1000), int(seconds * 1000) - 7_000_000, now))


def names(*values: Any) -> Snapshot:
    return snapshot([{"name": value} for value in values])


def prices(*values: Any) -> Snapshot:
    return snapshot([{"price": value} for value in values])


def said(rows: Snapshot, condition: Condition, *places: int, total: int | None = None) -> Answer:
    """An answer with the rows at these places."""
    mask = np.zeros(len(rows), dtype=bool)
    mask[list(places)] = True
    return Answer(condition, mask, len(places), True, total)


def verdict(rows: Snapshot, condition: Condition, *places: int) -> Verdict | None:
    return judge(rows, [said(rows, condition, *places)])[0]


class Filters(unittest.TestCase):
    def admits(self, rows: Snapshot, condition: Condition, *places: int) -> None:
        self.assertIsNone(verdict(rows, condition, *places), f"{condition} gives {places}")

    def refutes(self, rows: Snapshot, condition: Condition, *places: int) -> None:
        self.assertIsNotNone(verdict(rows, condition, *places), f"{condition} gives {places}")

    def test_bounds_and_numbers(self) -> None:
        rows = prices(1, 2, 3, None, 10)
        self.admits(rows, Compare("price", "ge", 2), 1, 2, 4)
        self.refutes(rows, Compare("price", "ge", 2), 2, 4)
        self.refutes(rows, Compare("price", "gt", 2), 1, 2, 4)
        self.refutes(rows, Compare("price", "gt", 2), 2)  # by their digits, 10 comes before 2
        self.admits(rows, Compare("price", "between", (2, 3)), 1, 2)
        self.refutes(rows, Compare("price", "between", (2, 3)), 2)
        self.admits(rows, Compare("price", "in", (1, 10)), 0, 4)
        self.refutes(rows, Compare("price", "in", (1, 10)), 0)

    def test_nulls_are_unequal_to_nothing_or_to_everything(self) -> None:
        rows = prices(1, 2, None)
        self.admits(rows, Compare("price", "ne", 1), 1)
        self.admits(rows, Compare("price", "ne", 1), 1, 2)
        self.admits(rows, Not(Compare("price", "eq", 1)), 1)
        self.admits(rows, Not(Compare("price", "eq", 1)), 1, 2)
        self.refutes(rows, Compare("price", "ne", 1), 0, 1)
        self.admits(rows, Compare("price", "null"), 2)
        self.refutes(rows, Compare("price", "null"), 0, 1)
        self.admits(rows, Compare("price", "not_null"), 0, 1)

    def test_texts_under_collations(self) -> None:
        rows = names("Blue", "blue", "blüe", "blue ", "red")
        for places in ((1,), (0, 1), (0, 1, 2), (1, 3), (0, 1, 3), (0, 1, 2, 3)):
            self.admits(rows, Compare("name", "eq", "blue"), *places)
        for places in ((), (0,), (1, 2), (1, 4), (2,)):
            self.refutes(rows, Compare("name", "eq", "blue"), *places)

    def test_wildcards_in_a_value_may_be_signs_or_wildcards(self) -> None:
        rows = names("100%", "100x", "a_b", "acb")
        self.admits(rows, Compare("name", "contains", "0%"), 0)
        self.admits(rows, Compare("name", "contains", "0%"), 0, 1)
        self.admits(rows, Compare("name", "contains", "a_b"), 2)
        self.admits(rows, Compare("name", "contains", "a_b"), 2, 3)
        self.refutes(rows, Compare("name", "contains", "a_b"), 3)
        self.admits(rows, Compare("name", "like", "%0x"), 1)
        self.refutes(rows, Compare("name", "like", "%0x"), 0, 1)
        self.admits(rows, Compare("name", "starts", "100"), 0, 1)
        self.refutes(rows, Compare("name", "ends", "b"), 2)

    def test_and_or_not_in_three_values(self) -> None:
        rows = snapshot([{"price": 1, "open": True}, {"price": 2, "open": False}, {"price": None, "open": True}])
        dear, open_ = Compare("price", "gt", 1), Compare("open", "eq", True)
        self.admits(rows, Every((dear, open_)))
        self.admits(rows, Either((dear, open_)), 0, 1, 2)
        self.refutes(rows, Either((dear, open_)), 0, 1)
        self.admits(rows, Not(Either((dear, open_))))
        self.admits(rows, Not(Every((dear, open_))), 0, 1)
        self.admits(rows, Not(Every((dear, open_))), 0, 1, 2)
        self.refutes(rows, Not(Every((dear, open_))), 1)

    def test_dates_and_moments(self) -> None:
        days = snapshot([{"on": "2020-01-31"}, {"on": "2020-02-01"}, {"on": None}])
        self.admits(days, Compare("on", "le", "2020-01-31"), 0)
        self.refutes(days, Compare("on", "le", "2020-01-31"))
        times = ["2020-01-01T10:00:00Z", "2020-01-01T12:00:00+02:00", "2020-01-01T12:00:00Z"]
        moments = snapshot([{"at": time} for time in times])
        self.admits(moments, Compare("at", "eq", "2020-01-01T10:00:00Z"), 0, 1)
        self.admits(moments, Compare("at", "gt", "2020-01-01T10:00:00Z"), 2)
        self.refutes(moments, Compare("at", "lt", "2020-01-01T12:00:00Z"), 0)

    def test_an_open_bound_may_belong_to_its_range(self) -> None:
        rows = prices(1, 2, 3)
        self.admits(rows, Compare("price", "from", 2), 1, 2)
        self.admits(rows, Compare("price", "from", 2), 2)
        self.refutes(rows, Compare("price", "from", 2), 0, 1, 2)

    def test_numbers_kept_in_single_precision(self) -> None:
        rows = prices(0.1, 0.5, 0.7)
        self.admits(rows, Compare("price", "eq", 0.1))
        self.admits(rows, Compare("price", "eq", 0.1), 0)
        self.refutes(rows, Compare("price", "eq", 0.5))  # which single precision keeps

    def test_answers_that_contradict_each_other(self) -> None:
        rows = names("Blue", "blue", "red")
        exact = said(rows, Compare("name", "eq", "blue"), 1)
        folded = said(rows, Compare("name", "in", ("blue", "red")), 0, 1, 2)
        self.assertEqual(judge(rows, [exact]), [None])
        self.assertEqual(judge(rows, [folded]), [None])
        wrong = [each for each in judge(rows, [exact, folded]) if each is not None]
        self.assertEqual(len(wrong), 1)
        self.assertTrue(wrong[0].alone, "alone, it could be explained")

    def test_the_total(self) -> None:
        rows = prices(1, 2, 3)
        condition = Compare("price", "gt", 1)
        self.assertIsNone(judge(rows, [said(rows, condition, 1, 2, total=2)])[0])
        found = judge(rows, [said(rows, condition, 1, 2, total=3)])[0]
        assert found is not None
        self.assertTrue(found.wrong_total)
        self.assertEqual(found.expected, 2)

    def test_order_of_texts_is_judged_where_all_agree_alone(self) -> None:
        rows = names("apple", "Banana", "äpfel", "zoo")
        self.admits(rows, Compare("name", "gt", "banana"), 3)
        self.admits(rows, Compare("name", "gt", "banana"), 2, 3)
        self.refutes(rows, Compare("name", "gt", "banana"), 0, 3)

    def test_evaluation_agrees_with_a_plain_loop(self) -> None:
        chance = random.Random(4)
        rows = prices(*[chance.choice([None, *range(-5, 6)]) for _ in range(200)])
        signs = {"lt": int.__lt__, "le": int.__le__, "gt": int.__gt__, "ge": int.__ge__, "eq": int.__eq__}
        for (word, sign), bound in itertools.product(signs.items(), (-6, -1, 0, 3)):
            mask = evaluate(Compare("price", word, bound), rows, Reading()).true  # type: ignore[arg-type]
            loop = [row["price"] is not None and sign(row["price"], bound) for row in rows.rows]
            self.assertEqual(mask.tolist(), loop, (word, bound))


class Orders(unittest.TestCase):
    def test_numbers_nulls_and_direction(self) -> None:
        rows = prices(10, 9, None, 2)
        up, down = (Order("price"),), (Order("price", True),)
        for places in ([3, 1, 0, 2], [2, 3, 1, 0]):
            self.assertIsNone(out_of_order(rows, places, up))
            self.assertIsNone(out_of_order(rows, places[::-1], down))
        self.assertIn(out_of_order(rows, [3, 2, 1, 0], up), {(3, 2), (2, 1)}, "a null among the values")
        self.assertEqual(out_of_order(rows, [0, 3, 1, 2], up), (0, 3))

    def test_texts_by_any_collation_and_enumerations_as_declared(self) -> None:
        rows = names("B", "a", "C", "a-b")
        for places in ([0, 2, 1, 3], [1, 3, 0, 2]):
            self.assertIsNone(out_of_order(rows, places, (Order("name"),)))
        self.assertIsNotNone(out_of_order(rows, [2, 0, 1, 3], (Order("name"),)))
        kinds = snapshot([{"kind": kind} for kind in ("small", "large", "huge")])
        self.assertIsNone(out_of_order(kinds, [0, 1, 2], (Order("kind"),)), "as declared")
        self.assertIsNone(out_of_order(kinds, [2, 1, 0], (Order("kind"),)), "by the alphabet")
        self.assertIsNotNone(out_of_order(kinds, [1, 0, 2], (Order("kind"),)))

    def test_letters_of_languages_are_left_out(self) -> None:
        rows = names("a", "ä", "b", "z", "å")
        for places in ([0, 1, 2, 3, 4], [0, 2, 3, 1, 4], [1, 0, 4, 2, 3]):
            self.assertIsNone(out_of_order(rows, places, (Order("name"),)))
        self.assertEqual(out_of_order(rows, [0, 3, 1, 2], (Order("name"),)), (3, 2))

    def test_a_second_key(self) -> None:
        rows = snapshot([{"open": True, "price": 1}, {"open": True, "price": 2}, {"open": False, "price": 3}])
        order = (Order("open"), Order("price", True))
        self.assertIsNone(out_of_order(rows, [2, 1, 0], order))
        self.assertEqual(out_of_order(rows, [2, 0, 1], order), (0, 1))


class Aggregates(unittest.TestCase):
    def setUp(self) -> None:
        values = [("x", 1), ("X", 2), ("y", None), (None, 4)]
        self.rows = snapshot([{"name": name, "price": price} for name, price in values])
        self.every = np.ones(4, dtype=bool)

    def test_functions_leave_nulls_out(self) -> None:
        right = {"count": 3, "sum": 7, "avg": 7 / 3, "min": 1, "max": 4, "distinct": 3}
        for function, value in right.items():
            measure = Measure(function, "price")  # type: ignore[arg-type]
            self.assertTrue(explains(self.rows, self.every, measure, value), measure)
            self.assertFalse(explains(self.rows, self.every, measure, value + 1), measure)
        self.assertTrue(explains(self.rows, self.every, Measure("count"), 4))
        self.assertFalse(explains(self.rows, self.every, Measure("avg", "price"), 7 / 4), "nulls are not zero")

    def test_what_may_be_rounded_or_differ_by_collation(self) -> None:
        average = Measure("avg", "price")
        self.assertTrue(explains(self.rows, self.every, average, 2.3333))
        self.assertTrue(explains(self.rows, self.every, average, "2.333333"))
        self.assertFalse(explains(self.rows, self.every, average, 2.34))
        for number in (2, 3):
            self.assertTrue(explains(self.rows, self.every, Measure("distinct", "name"), number))
        self.assertFalse(explains(self.rows, self.every, Measure("distinct", "name"), 4))

    def test_nothing_adds_up_to_null_or_zero(self) -> None:
        none = np.zeros(4, dtype=bool)
        for value in (None, 0):
            self.assertTrue(explains(self.rows, none, Measure("sum", "price"), value))
        self.assertFalse(explains(self.rows, none, Measure("sum", "price"), 7))
        self.assertTrue(explains(self.rows, none, Measure("max", "price"), None))
        self.assertFalse(explains(self.rows, none, Measure("max", "price"), 4))

    def test_groups(self) -> None:
        groups = groups_of(self.rows, self.every, ["name"])
        self.assertEqual(set(groups), {("x",), ("X",), ("y",), (None,)})
        self.assertEqual([int(mask.sum()) for mask in groups.values()], [1, 1, 1, 1])
        self.assertEqual(list(groups_of(self.rows, self.every, [])), [()])


if __name__ == "__main__":
    unittest.main()
