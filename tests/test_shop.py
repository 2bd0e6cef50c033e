"""Lists that are queried in other ways than the stand-in's: sound ones give no finding, wrong ones are found."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from checkpost.engine.run import Result
from checkpost.findings import Finding
from checkpost.model.infer import infer
from tests.foreign import Served
from tests.shop import DIALECTS, Dialect, Predicate, Row, Shop, wares
from tests.support import contract_of, run_against

_BY_NAME = {dialect.name: dialect for dialect in DIALECTS}


def run_on(shop: Shop, most_rows: int = 2000) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(shop.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(shop.contract()), "utf-8")
        return run_against(str(file), served.base_url, Path(name), most_rows=most_rows, transport=served.direct)


class SoundShops(unittest.TestCase):
    results: dict[str, Result]

    @classmethod
    def setUpClass(cls) -> None:
        cls.results = {dialect.name: run_on(Shop(dialect)) for dialect in DIALECTS}

    def test_no_false_finding_in_any_dialect(self) -> None:
        for dialect in DIALECTS:
            with self.subTest(dialect=dialect.name):
                result = self.results[dialect.name]
                told = [(each.check, each.title, each.observed) for each in result.findings if each.severity != "note"]
                self.assertEqual(told, [])
                self.assertEqual([each for each in result.checks if each.outcome == "blocked"], [])

    def test_what_is_described_is_asked(self) -> None:
        for dialect in DIALECTS:
            with self.subTest(dialect=dialect.name):
                outcomes = {each.check: each.outcome for each in self.results[dialect.name].checks}
                skipped = dialect.name == "unknowable"
                self.assertEqual(outcomes["filter.rows"], "skipped" if skipped else "passed")
                skipped = skipped or dialect.name == "vague"
                self.assertEqual(outcomes["sort.each-field"], "skipped" if skipped else "passed")
                self.assertEqual(outcomes["select.fields"], "passed" if dialect.select else "skipped")

    def test_fewer_rows_than_can_tell_are_skipped_and_not_judged(self) -> None:
        for count in (0, 1, 2):
            with self.subTest(rows=count):
                rows = Shop(DIALECTS[0]).wares[:count]
                findings = run_on(Shop(DIALECTS[0], rows)).findings
                self.assertEqual([each.title for each in findings if each.severity != "note"], [])

    def test_the_operators_that_the_words_name(self) -> None:
        expected = {
            "ends of ranges": {"eq", "match", "from", "to"},
            "signs between": {"eq", "ne", "gt", "ge", "lt", "le"},
            "calls": {"eq", "ne", "gt", "ge", "lt", "le", "contains"},
            "separated": {"eq", "ne", "gt", "ge", "lt", "le"},
            "camel case": {"eq", "in", "ge", "le", "gt", "lt", "contains", "to", "null", "not_null"},
            "json where": {"eq", "ne", "gt", "ge", "lt", "le", "in", "null", "not_null"},
            "listed singly": {"eq", "match", "in", "ge", "lt", "starts"},
            "colon prefix": {"eq", "ne", "gt", "ge", "lt", "le"},
        }
        for name, operators in expected.items():
            with self.subTest(dialect=name):
                resource = infer(contract_of(Shop(_BY_NAME[name]).contract())).resources[0]
                found = {operator for _, operator in resource.queries.filterings[0].templates}
                self.assertLessEqual(found, operators | {"ge", "in"}, "nothing that is not described")
                self.assertLessEqual(operators - {"ge"}, found, "all that is described")


class OneMore(Shop):
    """Every filter lets one more row through."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        found = super().found(pairs)
        more = [row for row in self.wares if row not in found]
        return [*found, *more[-1:]]


class OneLess(Shop):
    """Every filter loses a row."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        found = super().found(pairs)
        return found[:-1] if 1 < len(found) < len(self.wares) else found


class Deaf(Shop):
    """Filters are ignored."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        return self.wares


class Bounds(Shop):
    """Bounds of ranges do not belong to them, or do, the wrong way round."""

    def __init__(self, dialect: Dialect) -> None:
        def condition(pairs: list[tuple[str, str]]) -> Any:
            for test in dialect.condition(pairs):
                yield self.turned(test)

        super().__init__(replace(dialect, condition=condition))

    def turned(self, test: Predicate) -> Predicate:
        def holds(row: Row) -> Any:
            price = row["price"]
            if price is None:
                return test(row)
            # a value on the bound is judged as one just above it
            return test({**row, "price": price + 0.0001, "stock": row["stock"] + 0.0001})

        return holds


class Unindexed(Bounds):
    """Of two fields nothing is known that filters and orders could use."""

    def turned(self, test: Predicate) -> Predicate:
        return lambda row: test({**row, "label": None, "kind": None})

    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        return super().ordered(rows, [(name, down) for name, down in keys if name not in {"label", "kind"}])


class Backwards(Shop):
    """Descending is ignored."""

    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        return super().ordered(rows, [(name, False) for name, _ in keys])


class Lexical(Shop):
    """Numbers are sorted by their digits."""

    def key(self, value: Any) -> Any:
        return str(value) if isinstance(value, int | float) and not isinstance(value, bool) else super().key(value)


class Uncounted(Shop):
    """The total is that of all rows."""

    def counted(self, found: list[Row], page: list[Row]) -> int:
        return len(self.wares)


class Generous(Shop):
    """Every field is shown, whatever is selected."""

    def shown(self, row: Row, names: list[str]) -> Row:
        return row


class WrongShops(unittest.TestCase):
    def found(self, kind: type[Shop], dialects: Sequence[str]) -> dict[str, list[Finding]]:
        return {
            name: [each for each in run_on(kind(_BY_NAME[name])).findings if each.severity != "note"]
            for name in dialects
        }

    def one_cause(self, kind: type[Shop], check: str, dialects: Sequence[str], most: int = 2) -> None:
        for name, findings in self.found(kind, dialects).items():
            with self.subTest(dialect=name):
                told = [(each.check, each.title, each.subjects) for each in findings]
                self.assertIn(check, {each.check for each in findings}, told)
                self.assertLessEqual(len(findings), most, told)

    def test_a_row_too_many(self) -> None:
        self.one_cause(OneMore, "filter.rows", ["ends of ranges", "signs between", "json where", "listed singly"])

    def test_a_row_lost(self) -> None:
        self.one_cause(OneLess, "filter.rows", ["calls", "separated", "camel case", "colon prefix"])

    def test_filters_that_do_nothing(self) -> None:
        self.one_cause(Deaf, "filter.rows", ["ends of ranges", "signs between", "separated", "listed singly", "vague"])

    def test_what_nothing_is_said_of_is_never_a_fault(self) -> None:
        for kind in (OneMore, Deaf):
            with self.subTest(kind=kind.__name__):
                findings = run_on(kind(_BY_NAME["untold"])).findings
                self.assertEqual([each for each in findings if each.family == "filter"], [])

    def test_bounds(self) -> None:
        self.one_cause(Bounds, "filter.rows", ["signs between", "calls", "json where", "colon prefix"])

    def test_fields_that_filters_and_orders_do_not_see_are_told_once(self) -> None:
        for name, findings in self.found(Unindexed, ["json where", "colon prefix"]).items():
            with self.subTest(dialect=name):
                by_filter = [each for each in findings if each.family == "filter"]
                self.assertEqual([each.title for each in by_filter], ["Filters by some fields find no rows"])
                self.assertLessEqual({"label =", "kind ="}, set(by_filter[0].subjects))
                rest = [(each.check, each.title, each.subjects) for each in findings if each.family != "filter"]
                self.assertLessEqual({each[0] for each in rest}, {"sort.each-field"}, rest)

    def test_descending_ignored(self) -> None:
        self.one_cause(Backwards, "sort.each-field", ["ends of ranges", "calls", "camel case", "json where"])

    def test_numbers_sorted_by_digits(self) -> None:
        for name, findings in self.found(Lexical, ["separated", "listed singly", "colon prefix"]).items():
            with self.subTest(dialect=name):
                numbers = [each for each in findings if "Numbers are not sorted" in each.title]
                self.assertEqual(len(numbers), 1, [each.title for each in findings])
                self.assertTrue(any("price" in subject or "stock" in subject for subject in numbers[0].subjects))

    def test_total_of_everything(self) -> None:
        self.one_cause(Uncounted, "filter.rows", ["ends of ranges", "camel case", "colon prefix"])

    def test_selection_ignored(self) -> None:
        for name, findings in self.found(Generous, ["signs between", "camel case", "listed singly"]).items():
            with self.subTest(dialect=name):
                self.assertIn("Fields are shown that were not asked for", {each.title for each in findings})

    def test_the_rows_that_differ_are_shown(self) -> None:
        [finding] = [each for each in run_on(OneLess(_BY_NAME["colon prefix"])).findings if each.rows][:1]
        self.assertEqual({each.how for each in finding.rows}, {"missing"})
        for row in finding.rows:
            self.assertTrue(row.key.isdigit())
            self.assertTrue(row.values)


class Piecemeal(Shop):
    """Only the first rows of the table are sorted."""

    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        return [*super().ordered(rows[:150], keys), *rows[150:]] if keys else rows


class Halved(Shop):
    """Filters by a bound from above look at the first rows of the table alone."""

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        found = super().found(pairs)
        below = any("lt" in value or "lte" in value for _, value in pairs)
        return [row for row in found if row in self.wares[:400]] if below else found


class LargeTables(unittest.TestCase):
    """Lists that are not read whole are judged by a sample, and by how answers relate to each other."""

    def run_on(self, kind: type[Shop], name: str = "colon prefix") -> Result:
        return run_on(kind(_BY_NAME[name], wares(600)), most_rows=200)

    def test_a_sound_one_gives_no_finding_and_says_that_it_is_sampled(self) -> None:
        for name in ("colon prefix", "json where", "ends of ranges"):
            with self.subTest(dialect=name):
                result = self.run_on(Shop, name)
                self.assertEqual([each.title for each in result.findings if each.severity != "note"], [])
                rows = next(each for each in result.checks if each.check == "filter.rows")
                self.assertEqual(rows.outcome, "passed")
                self.assertIn("judged by a sample", rows.reason)

    def test_an_order_of_the_first_rows_alone_is_found(self) -> None:
        titles = {each.title for each in self.run_on(Piecemeal).findings}
        self.assertIn("A sorted list does not begin with the rows that come first", titles)

    def test_rows_of_the_sample_that_are_missing_are_found(self) -> None:
        titles = {each.title for each in self.run_on(Halved).findings}
        self.assertIn("Filter returns fewer rows than match", titles)

    def test_rows_that_do_not_match_are_found(self) -> None:
        findings = self.run_on(OneMore).findings
        self.assertIn("filter.rows", {each.check for each in findings})
        # a filter and its opposite find them as well, without the rows
        self.assertIn("A filter and its opposite do not split the list", {each.title for each in findings})


if __name__ == "__main__":
    unittest.main()
