"""Findings: one for a cause, over operations, roles and resources, and never one for two."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from checkpost.checks.blame import blamed, blames_another
from checkpost.contract.errors import Place
from checkpost.findings import DAMAGED, WITHOUT, Finding, Findings
from checkpost.wire.exchange import Answer, Exchange, Request


def finding(resource: str | None, **changes: Any) -> Finding:
    path = f"/{resource}/{{id}}"
    plain: dict[str, Any] = {
        "check": "errors.server-error",
        "family": "errors",
        "resource": resource,
        "role": "keeper",
        "severity": "error",
        "basis": "contract",
        "title": "A request fails with 500",
        "expected": "no server error",
        "observed": f"500 at row {len(resource or '')}",
        "cause": f"500 at GET {path}",
        "operations": (("GET", path),),
    }
    return Finding(**{**plain, **changes})


ITEMS = (("lots", "mass"), ("tags", "name"))


def united(found: list[Finding], asked: int) -> list[Finding]:
    findings = Findings()
    findings.add(found)
    findings.unite(lambda check: asked)
    return findings.all()


class Union(unittest.TestCase):
    def test_what_half_of_the_resources_show_is_one_finding(self) -> None:
        [one] = united([finding("lots"), finding("tags"), finding("crops")], 6)
        self.assertEqual(one.resources, ("crops", "lots", "tags"))
        self.assertEqual((one.count, len(one.operations)), (3, 3))

    def test_what_few_show_stays_with_them(self) -> None:
        self.assertEqual(len(united([finding("lots"), finding("tags", observed="500 for name")], 6)), 2)
        said = [finding(name, subjects=(field,), observed=f"{field} is lost") for name, field in ITEMS]
        self.assertEqual(len(united(said, 6)), 1)  # the same sentence, whatever the field
        self.assertEqual(len(united([finding("lots")], 1)), 1)

    def test_what_no_write_stores_is_set_by_the_server(self) -> None:
        lost = finding("lots", check="update.each-field", cause="update lost", title="Lost", subjects=("uri", "slug"))
        made = finding("lots", check="create.stored", cause="any:changed: the text changed", subjects=("uri",))
        other = finding("lots", check="create.stored", cause="any:changed: cut", title="Cut", subjects=("name (long)",))
        self.assertEqual([each.title for each in united([lost, other], 6)], ["Cut", "Lost"])
        one, cut = sorted(united([made, other, lost], 6), key=lambda each: -len(each.subjects))
        self.assertEqual((one.title, cut.title), ("A field is set by the server, whatever is sent", "Cut"))
        self.assertEqual((one.subjects, one.count), (("uri", "slug"), lost.count + made.count))

    def test_what_is_against_the_contract_here_and_a_standard_there_is_one(self) -> None:
        [one] = united([finding("lots", severity="warning", basis="standard"), finding("tags")], 9)
        self.assertEqual((one.severity, one.basis, one.resources), ("error", "contract", ("tags", "lots")))

    def test_another_operation_or_sentence_is_another_cause(self) -> None:
        for changes in (
            {"operations": (("GET", "/tags"),)},
            {"observed": "500 out of memory"},
            {"title": "A request fails with 503"},
            {"role": "guest"},
        ):
            self.assertEqual(len(united([finding("lots"), finding("tags", **changes)], 2)), 2, changes)

    def test_refusals_whose_bodies_break_one_sentence_are_one(self) -> None:
        def refusal(resource: str, method: str, said: str, member: str) -> Finding:
            place = Place("c.json", f"/paths/{resource}/{method}/items/properties/{member}/type")
            return finding(
                resource,
                check="errors.body",
                title="The body of refusals is not the documented one",
                cause="body",
                observed=f'{said} is not of type "object"',
                operations=((method, f"/{resource}"),),
                place=place,
            )

        lots = refusal("lots", "GET", "[{…", "detail")
        self.assertEqual(len(united([lots, refusal("tags", "POST", "no\nrow", "detail")], 9)), 1)
        self.assertEqual(len(united([lots, refusal("tags", "GET", "[{…", "source")], 9)), 2)
        met = replace(lots, subjects=("the values of another row",))
        self.assertEqual(
            len(united([met, refusal("tags", "GET", "[{…", "detail")], 9)), 1, "a situation names no field"
        )

    def test_failures_that_say_the_same_are_one(self) -> None:
        def failed(resource: str, said: str, situation: str) -> Finding:
            title = "A request fails with 500" + (f": {said}" if said else "")
            cause = f"server-error{': ' + said if said else ''} at GET /{resource}"
            return finding(resource, title=title, cause=cause, subjects=(situation,))

        said = "no such column here"
        [one] = united([failed("lots", said, "a filter"), failed("tags", said, "an order")], 9)
        self.assertEqual((one.resources, one.title), (("lots", "tags"), f"A request fails with 500: {said}"))
        dates = failed("lots", "invalid syntax for type date", "due breaking type")
        numbers = failed("tags", "invalid syntax for type integer", "size breaking type")
        [one] = united([dates, numbers], 9)
        self.assertEqual(one.title, "A request fails with 500: invalid syntax for type")
        silent = [failed("lots", "", "null for due"), failed("tags", "", "null for size")]
        self.assertEqual(len(united(silent, 9)), 1)
        asked = ("three (due breaking type)", "three (size breaking type)")
        some = [failed("lots", "", asked[0]), failed("tags", "", asked[1])]
        broken = replace(some[1], title="A body that is no record fails with 500")
        [one] = united([broken, some[0]], 9)
        self.assertEqual(one.title, f"A request fails with 500: {asked[0]}")
        apart = [failed("lots", "out of memory", "null for due"), failed("tags", "no such column", "a filter")]
        self.assertEqual(len(united(apart, 9)), 2)

    def test_what_needs_no_credentials_does_not_look_at_damaged_ones(self) -> None:
        open_, damaged = (
            finding("lots", cause=cause, title=f"answer {words}", check=f"access.{words}")
            for cause, words in ((WITHOUT, "without any"), (DAMAGED, "with damaged ones"))
        )
        [one] = united([damaged, open_], 9)
        self.assertEqual((one.title, one.count), ("answer without any, and with damaged ones", 2))
        self.assertEqual(len(united([replace(damaged, operations=(("PUT", "/lots"),)), open_], 9)), 2)

    def test_what_several_checks_may_meet_is_named_by_the_same_one(self) -> None:
        both = [finding("lots", cause="any:converts", check=check) for check in ("update.rules", "create.rules")]
        for order in (both, both[::-1]):
            [one] = united(order, 1)
            self.assertEqual(one.check, "create.rules")

    def test_its_name_is_the_same_whatever_resources_show_it(self) -> None:
        [few], [all_] = (united([finding(name) for name in names], 3) for names in (("a", "b"), ("a", "b", "c")))
        self.assertEqual(few.id, all_.id)
        self.assertNotEqual(few.id, finding("a").id)

    def test_what_is_about_the_whole_api_is_left_alone(self) -> None:
        [one] = united([finding(None, cause="all:load")], 3)
        self.assertEqual(one.resources, ())


class Blame(unittest.TestCase):
    def refusal(self, body: bytes, media_type: str = "application/json") -> Exchange:
        return Exchange(1, "x", Request("POST", "/lots", "r"), Answer(422, (("Content-Type", media_type),), body), 0.0)

    def test_a_refusal_that_names_a_field(self) -> None:
        names = ("grams", "label", "year")
        for body in (
            b'{"errors": {"grams": ["too much"]}}',
            b'{"detail": [{"loc": ["body", "grams"]}]}',
            b"grams: too much",
        ):
            refusal = self.refusal(body)
            self.assertEqual(blamed(refusal, names), {"grams"})
            self.assertTrue(blames_another(refusal, "label", names))
            self.assertFalse(blames_another(refusal, "grams", names))

    def test_a_member_of_its_own_goes_before_a_word_in_a_sentence_and_that_before_other_capitals(self) -> None:
        names = ("grams", "number", "kind")
        for body, blame in (
            (b'{"errors": {"grams": ["Not a valid number."]}}', "grams"),
            (b'{"path": "/data/grams", "detail": "no number"}', "grams"),
            (b'{"message": "the kind is none of a, b"}', "kind"),
            (b'{"message": "Kind: Value must be one of: a, b"}', "kind"),
            (b"Kind is not valid", "kind"),
            (b'{"error": {"kind": "ValidationError", "path": "grams"}}', "grams"),
            (b'{"errors": {"kind": "is not one of them"}}', "kind"),
        ):
            self.assertEqual(blamed(self.refusal(body), names), {blame}, body)

    def test_a_refusal_that_names_none_speaks_against_the_value_that_was_tried(self) -> None:
        self.assertFalse(blames_another(self.refusal(b'{"error": "not valid"}'), "label", ("grams", "label")))
        self.assertFalse(blames_another(self.refusal(b""), "label", ("grams", "label")))


if __name__ == "__main__":
    unittest.main()
