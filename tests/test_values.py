"""Generated values, values that break one rule, and telling whether a value came back as it was sent."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from typing import Any

from checkpost.contract.validators import Validators
from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from checkpost.model.field import MISSING, Field
from checkpost.model.fields import fields_of, inside
from checkpost.model.infer import infer
from checkpost.model.shape import shape_of
from checkpost.oracle.same import change, differences, same
from checkpost.values.awkward import variants
from checkpost.values.broken import breaks
from checkpost.values.form import form_of
from checkpost.values.plain import Values
from checkpost.values.usual import usual
from tests.support import contract_of
from tests.test_contract import minimal

CONTRACT = contract_of(describe(TABLES, "http://127.0.0.1/v1"))
MODEL = infer(CONTRACT)
VALIDATORS = Validators(CONTRACT)


def valid(field: Field, value: Any) -> bool:
    return field.node is None or VALIDATORS.is_valid(field.node, value, "request")


def field_of(**schema: Any) -> tuple[Field, Values]:
    """A field with a schema, and a source of values for it."""
    contract = contract_of(minimal({"type": "object", "properties": {"f": schema}}))
    validators = Validators(contract)
    body = contract.operations[0].body
    assert body is not None
    shape = shape_of(body.content[0].schema)
    field = fields_of({"row": shape, "create": shape}, ())[0]

    def judge(each: Field, value: Any) -> bool:
        assert each.node is not None
        return validators.is_valid(each.node, value, "request")

    return field, Values(7, "cpmark", judge)


class Plain(unittest.TestCase):
    def test_every_field_of_the_stand_in_gets_valid_and_different_values(self) -> None:
        values = Values(1, "cptest", valid)
        for resource in MODEL.resources:
            for field in resource.writable("create"):
                made = [values.plain(field) for _ in range(6)]
                self.assertTrue(all(valid(field, value) for value in made), (resource.name, field.name, made))
                if field.type == "string" and "enum" not in field.keywords:
                    self.assertEqual(len(set(made)), 6, field.name)

    def test_the_same_seed_gives_the_same_values(self) -> None:
        for resource in MODEL.resources:
            first, second = (
                [Values(seed, "m", valid).plain(field) for field in resource.writable("create")] for seed in (3, 3)
            )
            self.assertEqual(first, second)

    def test_texts_bear_the_mark(self) -> None:
        field, values = field_of(type="string", maxLength=40)
        self.assertIn("cpmark", values.plain(field))

    def test_hard_schemas(self) -> None:
        schemas: list[dict[str, Any]] = [
            {"type": "string", "pattern": "^[A-Z]{2}[0-9]{3}-(x|y)$"},
            {"type": "string", "maxLength": 2},
            {"type": "string", "minLength": 200},
            {"type": "integer", "exclusiveMinimum": 4, "exclusiveMaximum": 6},
            {"type": "number", "multipleOf": 0.25, "minimum": -1, "maximum": -0.5},
            {"type": "integer", "maximum": -100},
            {"type": "string", "format": "uuid"},
            {"type": "string", "format": "ipv6"},
            {"enum": ["a", "b"]},
            {"type": ["string", "null"], "format": "date-time"},
            {"type": "array", "items": {"type": "string"}},
            {"type": "array", "minItems": 2, "items": {"type": "integer", "minimum": 5}},
            {
                "type": "object",
                "required": ["a", "b"],
                "properties": {
                    "a": {"type": "string", "format": "date"},
                    "b": {"type": "object", "required": ["c"], "properties": {"c": {"enum": [1, 2]}}},
                },
            },
        ]
        for schema in schemas:
            with self.subTest(schema=schema):
                field, values = field_of(**schema)
                value = values.plain(field)
                self.assertIsNot(value, MISSING)
                self.assertTrue(values.valid(field, value), value)

    def test_schemas_that_hold_each_other_come_to_an_end(self) -> None:
        def made(*required: str) -> Any:
            others = {each: {"$ref": "#/components/schemas/Person"} for each in ("boss", "deputy", "heir")}
            person = {
                "type": "object",
                "required": list(required),
                "properties": {"name": {"type": "string"}, **others},
            }
            document = minimal({"type": "object", "properties": {"f": {"$ref": "#/components/schemas/Person"}}})
            document["components"] = {"schemas": {"Person": person}}
            body = contract_of(document).operations[0].body
            assert body is not None
            field = fields_of({"create": shape_of(body.content[0].schema)}, ())[0]
            return Values(7, "cpmark", lambda each, value: True).plain(field)

        self.assertEqual(made()["boss"]["deputy"], {}, "what lies deep holds no more than it must")
        self.assertIs(made("name", "boss"), MISSING)
        either, values = field_of(oneOf=[{"type": "string"}, {"type": "object", "properties": {"a": {}}}])
        self.assertIn("cpmark", values.plain(either), "a key is simpler than the row that it stands for")

    def test_records_inside_records_hold_no_keys_of_rows(self) -> None:
        inner = {"id": {"type": "integer"}, "crop_id": {"type": "integer"}, "ref": {"type": "string", "readOnly": True}}
        label = {"type": "string"}
        field, values = field_of(type="object", properties={**inner, "label": label}, required=["label"])
        self.assertEqual(list(values.plain(field)), ["label"])
        field, values = field_of(
            type="array", minItems=1, items={"type": "object", "properties": {**inner, "label": label}}
        )
        self.assertEqual([list(each) for each in values.plain(field)], [["label"]])
        field, values = field_of(type="object", properties=inner, required=["id"])
        self.assertIs(values.plain(field), MISSING, "without its key it is none, and with one it might be another's")

    def test_patterns_are_met_by_names_where_one_fits(self) -> None:
        for pattern in ("^[^/%&><]+$", "^[a-z0-9_]+$", "^[A-Z0-9]+$", r"^[\w.-]+$"):
            field, values = field_of(type="string", pattern=pattern)
            text = values.plain(field)
            self.assertRegex(text, pattern)
            self.assertIn(values.mark, text.lower(), "it bears the mark")
        field, values = field_of(type="string", pattern="^[^a-z]{3}$")
        self.assertTrue(values.plain(field).isprintable())

    def test_an_object_of_several_kinds_is_of_one(self) -> None:
        one = {"type": "object", "properties": {"every": {"type": "number"}}, "required": ["every"]}
        other = {"type": "object", "properties": {"cron": {"type": "string", "example": "0 0 * * *"}}}
        field, values = field_of(anyOf=[one, other])
        self.assertEqual(list(values.plain(field)), ["every"])
        field, values = field_of(anyOf=[other, one])
        self.assertEqual(values.plain(field), {"cron": "0 0 * * *"}, "texts inside are the contract's examples")

    def test_what_cannot_be_made_is_missing(self) -> None:
        field, values = field_of(type="string", pattern="^(?=impossible)never$")
        self.assertIs(values.plain(field), MISSING)

    def test_a_value_differs_from_the_default(self) -> None:
        for schema in ({"type": "boolean", "default": True}, {"enum": ["x", "y", "z"], "default": "y"}):
            field, values = field_of(**schema)
            self.assertNotIn(schema["default"], [values.plain(field) for _ in range(5)])


class Awkward(unittest.TestCase):
    def test_variants_are_valid_and_many(self) -> None:
        values = Values(1, "cptest", valid)
        labels = set()
        for resource in MODEL.resources:
            for field in resource.writable("create"):
                for variant in variants(field, values):
                    self.assertTrue(valid(field, variant.value), (field.name, variant))
                    labels.add(variant.label)
        wanted = {
            "quotes",
            "wildcards",
            "accents",
            "combining accents",
            "leading zeros",
            "mixed case",
            "empty text",
            "characters beyond the basic plane",
            "space at both ends",
            "as long as it may be",
            "null",
            "the least value",
            "the greatest value",
            "a negative number",
            "every decimal place",
            "a leap day",
            "an offset from UTC",
        }
        self.assertEqual(wanted - labels, set())

    def test_the_longest_text_is_as_long_as_it_may_be(self) -> None:
        field, values = field_of(type="string", maxLength=33)
        longest = {len(variant.value) for variant in variants(field, values) if variant.label == "as long as it may be"}
        self.assertEqual(longest, {33})


class Broken(unittest.TestCase):
    def test_each_break_breaks_its_own_rule_and_no_other(self) -> None:
        values = Values(1, "cptest", valid)
        seen = set()
        for resource in MODEL.resources:
            schema = inside(resource.body_schema("create"), "")
            assert schema is not None
            record = {field.name: values.plain(field) for field in resource.writable("create")}
            self.assertTrue(VALIDATORS.is_valid(schema, record, "request"), record)
            for each in breaks(resource, "create", record, schema, CONTRACT, VALIDATORS, values):
                violations = list(VALIDATORS.violations(schema, each.apply(record), "request"))
                self.assertIn(each.keyword, {violation.keyword for violation in violations})
                self.assertTrue(all(not v.path or v.path[0] == each.field for v in violations), each)
                seen.add(each.keyword)
        wanted = {
            "required",
            "type",
            "enum",
            "maxLength",
            "minLength",
            "pattern",
            "format",
            "minimum",
            "maximum",
            "multipleOf",
            "additionalProperties",
        }
        self.assertEqual(wanted - seen, set())

    def test_what_the_schema_allows_is_not_broken(self) -> None:
        field, values = field_of(type=["string", "null"])
        contract = contract_of(minimal({"type": "object", "properties": {"f": {"type": ["string", "null"]}}}))
        schema = contract.operations[0].body.content[0].schema  # type: ignore[union-attr]
        assert schema is not None
        resource = next(iter(infer(contract_of(describe(TABLES, "x"))).resources))
        resource = resource.__class__(**{**vars(resource), "fields": (field,)})
        found = breaks(resource, "create", {"f": "x"}, schema, contract, Validators(contract), values)
        self.assertEqual({each.keyword for each in found}, {"type"})
        self.assertNotIn(None, [each.value for each in found])
        self.assertEqual([each.value for each in found if each.spelled], [12, True])


class Same(unittest.TestCase):
    def setUp(self) -> None:
        species = MODEL.resource("species")
        loans = MODEL.resource("loans")
        assert species is not None and loans is not None
        self.text, self.mass = species.field("notes"), species.field("seed_mass_mg")
        self.when, self.key = loans.field("lent_at"), loans.field("id")

    def test_other_writings_of_one_value(self) -> None:
        pairs = [
            (self.when, "2024-03-31T01:30:00+05:30", "2024-03-30T20:00:00Z"),
            (self.when, "2024-03-31T01:30:00Z", "2024-03-31T01:30:00.000+00:00"),
            (self.mass, 1.5, "1.5000"),
            (self.mass, 2, 2.0),
            (self.mass, 0.0004, 4e-4),
            (self.key, "ABCDEF00-0000-4000-8000-000000000000", "abcdef00-0000-4000-8000-000000000000"),
            (self.text, "e\u0301", "é"),
            (None, True, 1),
            (None, 3, {"id": 3, "name": "x"}),
            (None, [1, "a"], [1.0, "a"]),
            (None, {"a": 1}, {"a": 1, "added": 2}),
            (None, {"at": "2024-01-01T10:00:00Z"}, {"at": "2024-01-01T11:00:00+01:00"}),
            (self.text, "secret", "********"),
            (self.text, "secret", "[REDACTED]"),
        ]
        for field, sent, got in pairs:
            self.assertTrue(same(field, sent, got), (sent, got))

    def test_other_values(self) -> None:
        pairs = [
            (self.when, "2024-03-31T01:30:00+05:30", "2024-03-31T01:30:00Z"),
            (self.text, "0042", "42"),
            (self.text, "", None),
            (self.text, " a", "a"),
            (self.text, "A", "a"),
            (self.mass, 1.2345, 1.2),
            (None, True, False),
            (None, None, 0),
            (self.text, "é", "e"),
            (None, [1], [1, 2]),
            (None, {"a": 1}, {"a": 2}),
            (None, 3, {"id": 4}),
            (self.text, "", "********"),
            (self.text, "secret", "hidden away"),
        ]
        for field, sent, got in pairs:
            self.assertFalse(same(field, sent, got), (sent, got))

    def test_moments_of_no_stated_format_are_compared_as_such(self) -> None:
        for sent, got, alike in (
            ("2024-01-01 10:00:00", "2024-01-01T10:00:00.000Z", True),
            ("2024-01-01 10:00:00", "2024-01-01T11:00:00.000Z", False),
            ("2024-01-01", "2024-01-01T00:00:00Z", False),
            ("a text that is long enough", "another that is long enough", False),
        ):
            self.assertEqual(same(self.text, sent, got), alike, sent)

    def test_what_happened_is_named(self) -> None:
        assert self.text and self.mass and self.when
        cases = [
            (self.text, " a ", "a", "space at the ends was cut off"),
            (self.text, "abcdef", "abc", "the text was cut short"),
            (self.text, "007", "7", "leading zeros were lost"),
            (self.text, "ÀB", "àb", "capital and small letters changed"),
            (self.text, "été", "ete", "accents were lost"),
            (self.text, "", None, "empty text became null"),
            (self.text, None, "", "null became a default"),
            (self.text, "a🌱", "a?", "characters beyond the basic plane were lost"),
            (self.text, "🌱 bean", "?? bean", "characters beyond the basic plane were lost"),
            (self.text, "🌱 bean", "Papaver rhoeas", "the row shows another text"),
            (self.text, "Sample 17", "a sample of 18", "the text changed"),
            (self.mass, 1.2345, 1.2, "the number was rounded"),
            (self.mass, 10, 100, "the number changed"),
            (self.when, "2024-01-01T00:00:00Z", "2024-01-01T01:00:00Z", "the time was shifted"),
            (self.when, "2024-01-01T00:00:00+05:30", "2024-01-01 00:00:00Z", "its offset from UTC was lost"),
            (self.when, "2024-01-01T00:00:00-03:00", "2024-01-01T00:00:00", "its offset from UTC was lost"),
            (self.when, "2024-01-01T00:00:00.250Z", "2024-01-01T00:00:00Z", "a part of a second was lost"),
        ]
        for field, sent, got, words in cases:
            self.assertEqual(change(field, sent, got), words)

    def test_an_empty_list_stands_for_null_and_for_nothing_else(self) -> None:
        self.assertTrue(same(None, None, []))
        self.assertFalse(same(None, [], None))
        self.assertFalse(same(None, None, [1]))
        self.assertFalse(same(None, None, ""))

    def test_differences_look_at_what_both_have(self) -> None:
        self.assertEqual(differences({}, {"a": 1, "b": 2, "c": 3}, {"a": 1, "b": 5}), ["b"])


class Forms(unittest.TestCase):
    def test_texts_of_one_form_have_a_pattern(self) -> None:
        cases = [
            (["SB-1001", "SB-1045", "SB-2002"], r"^SB\-[1-9]\d{3}$"),
            (["AB12", "CD34", "EF56"], r"^[A-Z]{2}[1-9]\d{1}$"),
            (["a1x007", "a1x022", "a1x100", None, ""], r"^a1x\d{3}$"),
            (["n5", "n17", "n333"], r"^n[1-9]\d{0,2}$"),
            ([f"{year}/{n:03}" for year in (2023, 2024) for n in (1, 2, 3, 4)], r"^(?:2023|2024)/\d{3}$"),
        ]
        for texts, pattern in cases:
            self.assertEqual(form_of(texts), pattern)
            self.assertTrue(all(re.fullmatch(pattern, text) for text in texts if text))

    def test_words_few_texts_and_few_others_have_none(self) -> None:
        for texts in (
            ["genus-alba", "poa-annua", "rosa-canina"],
            ["Rosa", "Poa", "Abies"],
            ["Rosa alba", "Poa", "Abies 3"],
            ["SB-1001", "SB-1002"],
            ["A1", "A2", "A3", "A4"],
            [1, 2, 3],
        ):
            self.assertEqual(form_of(texts), "", texts)


class LikeRows(unittest.TestCase):
    def made(self, rows: list[Any], **schema: Any) -> Any:
        field, values = field_of(**schema)
        return values.plain(usual(field, rows))

    def test_texts_are_written_as_rows_have_them(self) -> None:
        cases = {
            r"\d{4}-\d\d-\d\d": ["2024-01-02", "2024-02-29", None],
            r"\d{4}-\d\d-\d\dT00:00:00\.000Z": ["2024-01-02T00:00:00.000Z", "2023-01-02T00:00:00.000Z"],
            r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\+02:00": ["2024-01-02 10:00:00+02:00"],
            r"(\d|1[0-2])\.\d\d": ["0.00", "12.50"],
            r"\d+": ["4", "17"],
            r"[0-9a-f-]{36}": ["abcdef00-0000-4000-8000-000000000000"],
            r".+@example\.org": ["a@b.example", "c@d.example"],
            r"https://.+": ["http://a.example/b"],
            r"#[0-9a-f]{6}": ["#FFEE00", "#336699"],
        }
        for form, rows in cases.items():
            self.assertRegex(self.made(rows, type="string"), f"^{form}$", rows)

    def test_texts_whose_pattern_takes_numbers_alone_are_numbers(self) -> None:
        decimals = r"^(?!^[-+.]*$)[+-]?0*\d*\.?\d*$"
        self.assertRegex(self.made(["10.000", "12.500"], type="string", pattern=decimals), r"^1[0-2]\.\d{3}$")
        either = {"anyOf": [{"type": "number"}, {"type": "string", "pattern": decimals}, {"type": "null"}]}
        loose = {"anyOf": [{"type": "number"}, {"type": "string"}, {"type": "null"}]}
        self.assertLess(self.made(["0.25", "7.50"], **loose), 8)
        for schema, kind in ((either, "number"), ({"type": "string", "pattern": r"^\d{5}$"}, "text")):
            self.assertEqual(field_of(**schema)[0].kind, kind)

    def test_one_text_that_is_written_otherwise_is_enough_for_a_free_one(self) -> None:
        self.assertIn("cp", self.made(["2024-01-02", "soon"], type="string"))
        self.assertIn("cp", self.made([], type="string"))
        self.assertRegex(self.made(["7"], type="string", format="date"), r"^\d{4}-")

    def test_a_format_that_no_standard_names_tells_less_than_rows(self) -> None:
        moment = self.made(["2024-01-02T10:00:00.000Z"], type="string", format="Date")
        self.assertRegex(moment, r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.000Z$")
        self.assertIn("cp", self.made(["+49 30 1"], type="string", format="phone"))

    def test_colours_are_told_by_their_name_where_rows_tell_nothing(self) -> None:
        field, values = field_of(type="string")
        for name, rows, form in (
            ("color", [], r"#[0-9a-f]{6}"),
            ("labelColour", [None], r"#[0-9a-f]{6}"),
            ("color", ["red"], r"[^#].*"),
            ("colored_by", [], r"Sample .*"),
        ):
            made = values.plain(usual(replace(field, name=name), rows))
            self.assertRegex(made, f"^{form}$", (name, rows))

    def test_numbers_that_are_whole_in_every_row_are_whole(self) -> None:
        made = [self.made([1, 2.0, 30], type="number") for _ in range(5)]
        self.assertEqual(made, [int(each) for each in made])


if __name__ == "__main__":
    unittest.main()
