"""Answers held against the contract, one departure at a time."""

from __future__ import annotations

import json
import unittest
from typing import Any

from checkpost.checks.conformance.answer import conform
from checkpost.checks.conformance.fields import undocumented_fields
from checkpost.checks.conformance.observation import Observation
from checkpost.contract.validators import Validators
from checkpost.findings import Finding, Findings
from checkpost.model.infer import infer
from checkpost.wire.exchange import Answer, Exchange, Request
from tests.support import contract_of

ROW = {
    "type": "object",
    "required": ["id"],
    "additionalProperties": False,
    "properties": {
        "id": {"type": "integer"},
        "born": {"type": "string", "format": "date"},
        "died": {"anyOf": [{"type": "string", "format": "date"}, {"type": "null"}]},
        "pin": {"type": "string", "writeOnly": True},
    },
}
PROBLEM = {"type": "object", "required": ["detail"], "properties": {"detail": {"type": "string"}}}


def _content(media_type: str, schema: Any) -> dict[str, Any]:
    return {"description": "", "content": {media_type: {"schema": schema}}}


RESPONSES: dict[str, Any] = {
    "200": {
        **_content("application/json", ROW),
        "headers": {
            "X-Count": {"required": True, "schema": {"type": "integer"}},
            "ETag": {"schema": {"type": "string"}},
        },
    },
    "204": {"description": "none"},
    "205": _content("application/json", ROW),
    "404": _content("application/problem+json", PROBLEM),
    "409": {"description": "a body of any kind"},
}
CONTRACT = contract_of(
    {
        "openapi": "3.1.0",
        "info": {"title": "t", "version": "1"},
        "paths": {"/rows/{id}": {"get": {"responses": RESPONSES}, "put": {"responses": RESPONSES}}},
    }
)
VALIDATORS = Validators(CONTRACT)


def found(
    status: int,
    body: Any = None,
    media_type: str = "application/json",
    headers: dict[str, str] | None = None,
    failure: Any = "",
    check: str = "read.list",
    sent: bytes | None = None,
    method: str = "GET",
    situation: str = "a situation",
) -> list[Finding]:
    """The findings about one answer."""
    raw = body if isinstance(body, bytes) else (b"" if body is None else json.dumps(body).encode())
    given = {"Content-Type": media_type, **({"X-Count": "3"} if headers is None else headers)}
    answer = Answer(status, tuple(given.items()), raw, failure, "it broke" if failure else "")
    operation = CONTRACT.operation(method, "/rows/{id}")
    assert operation is not None
    exchange = Exchange(1, check, Request(method, "http://127.0.0.1/rows/1", "r", {}, sent), answer, 0.1)
    return list(conform(Observation("rows", operation, exchange, situation), VALIDATORS))


def checks(*arguments: Any, **options: Any) -> list[tuple[str, str]]:
    return [(each.check, each.severity) for each in found(*arguments, **options)]


def found_in(schema: Any, body: Any) -> list[Finding]:
    """The findings about one answer of an operation that documents this schema alone."""
    return found_among({"200": _content("application/json", schema)}, body)


def found_among(responses: dict[str, Any], body: Any, status: int = 200) -> list[Finding]:
    """The findings about one answer of an operation that documents these."""
    contract = contract_of(
        {
            "openapi": "3.1.0",
            "info": {"title": "t", "version": "1"},
            "paths": {"/rows": {"get": {"responses": responses}}},
        }
    )
    operation = contract.operation("GET", "/rows")
    assert operation is not None
    answer = Answer(status, (("Content-Type", "application/json"),), json.dumps(body).encode(), "", "")
    exchange = Exchange(1, "read.list", Request("GET", "http://127.0.0.1/rows", "r", {}, None), answer, 0.1)
    return list(conform(Observation("rows", operation, exchange, "a situation"), Validators(contract)))


class Sound(unittest.TestCase):
    def test_documented_answers_give_nothing(self) -> None:
        self.assertEqual(found(200, {"id": 1, "born": "2020-02-29"}), [])
        self.assertEqual(found(200, {"id": 1}, "application/json; charset=utf-8"), [])
        self.assertEqual(found(204), [])
        self.assertEqual(found(205), [], "HTTP allows it no body, whatever is documented")
        self.assertEqual(found(404, {"detail": "gone", "more": 1}, "application/problem+json"), [])
        self.assertEqual(found(409, b"<b>conflict</b>", "text/html"), [])


class Departures(unittest.TestCase):
    def test_status(self) -> None:
        self.assertEqual(checks(201, {"id": 1}), [("shape.status", "error")])
        self.assertEqual(checks(302), [("shape.status", "error")])
        self.assertEqual(checks(418), [("errors.documented", "warning")])
        self.assertEqual(checks(500, {"detail": "x"}), [("errors.server-error", "error")])

    def test_a_success_of_which_only_the_default_tells(self) -> None:
        for ok, default, status, titles in (
            (ROW, PROBLEM, 201, ["The status 201 is not documented"]),
            (ROW, ROW, 201, []),
            (None, PROBLEM, 201, ["A required field is missing from an answer"]),
            (ROW, PROBLEM, 404, ["The body of refusals is not the documented one"]),
        ):
            responses = {"200": _content("application/json", ok)} if ok else {}
            responses["default"] = _content("application/json", default)
            self.assertEqual([each.title for each in found_among(responses, {"id": 1}, status)], titles)

    def test_media_type(self) -> None:
        self.assertEqual(checks(200, {"id": 1}, "text/plain"), [("shape.media-type", "error")])
        self.assertEqual(checks(404, b"not here", "text/plain"), [("errors.body", "error")])

    def test_body(self) -> None:
        cases = [
            ({"id": "1"}, "type", "error"),
            ({}, "required", "error"),
            ({"id": 1, "x": 1}, "additionalProperties", "error"),
            ({"id": 1, "born": "29.2.2020"}, "format", "warning"),
            ({"id": None}, "type", "error"),
            ({"id": 1, "pin": "0000"}, "writeOnly", "error"),
        ]
        for body, keyword, severity in cases:
            one = found(200, body)
            self.assertEqual([(each.check, each.severity) for each in one], [("shape.body", severity)], body)
            assert one[0].place is not None
            if keyword != "writeOnly":
                self.assertTrue(one[0].place.pointer.endswith("/" + keyword), one[0].place)
        self.assertEqual(checks(200, None), [("shape.body", "error")])
        self.assertEqual(checks(200, b"{broken"), [("shape.body", "error")])
        self.assertEqual(checks(204, {"id": 1}), [("shape.body", "error")])
        [no_number] = found(200, b'{"id": 1, "weight": -Infinity}')
        self.assertEqual((no_number.severity, no_number.observed), ("error", "-Infinity"))
        self.assertEqual(found(409, b'"NaN"'), [])

    def test_a_broken_record_shown_as_it_was_taken_is_no_fault_of_the_answer(self) -> None:
        self.assertEqual(found(200, {"id": "x"}, check="create.rules"), [])
        self.assertEqual(
            checks(404, {"no": "detail"}, "application/problem+json", check="create.rules"), [("errors.body", "error")]
        )

    def test_headers(self) -> None:
        self.assertEqual(checks(200, {"id": 1}, headers={}), [("shape.headers", "error")])
        self.assertEqual(checks(200, {"id": 1}, headers={"X-Count": "many"}), [("shape.headers", "error")])
        self.assertEqual(checks(200, {"id": 1}, headers={"x-count": "12", "etag": '"a"'}), [])

    def test_of_a_stack_trace_the_title_has_the_first_line(self) -> None:
        trace = b"Error: duplicate id\n    at Function.insert (/app/index.js:49:18)\n    at handle (/app/a.js:1:1)"
        [failed] = [each for each in found(500, trace, "text/plain") if each.check == "errors.server-error"]
        self.assertEqual(failed.title, "A request fails with 500: Error: duplicate id")

    def test_no_answer(self) -> None:
        for failure in ("timeout", "closed", "truncated"):
            one = found(0, failure=failure)
            self.assertEqual([(each.check, each.observed) for each in one], [("shape.answer", "it broke")])

    def test_what_errors_let_out(self) -> None:
        leaks = [
            'Traceback (most recent call last):\n  File "x.py", line 3, in f',
            "  at com.example.Rows.insert(Rows.java:88)",
            "Error\n    at Object.insert (/srv/rows.js:10:5)",
            "INSERT INTO rows (id) VALUES (1)",
            "SELECT id, name FROM rows WHERE id = 1",
            'duplicate key value violates unique constraint "rows_pkey"',
            "UNIQUE constraint failed: rows.id",
            "SQLSTATE[23000]: integrity",
            "goroutine 1 [running]:",
            "NullPointerException\n\tat com.example.Row.set(Row.java:10)\n",
        ]
        for detail in leaks:
            names = [check for check, _ in checks(404, {"detail": detail}, "application/problem+json")]
            self.assertEqual(names, ["errors.leak"], detail)

    def test_what_was_sent_and_sound_words_are_no_leak(self) -> None:
        harmless = [
            "No row has this key.",
            "Please select a row from the list.",
            "Update failed; set another name.",
            "The value is not unique.",
            "Insert a coin into the slot",
        ]
        for detail in harmless:
            self.assertEqual(found(404, {"detail": detail}, "application/problem+json"), [], detail)
        echoed = {"detail": "SELECT a FROM b"}
        self.assertEqual(found(404, echoed, "application/problem+json", sent=json.dumps(echoed).encode()), [])


class SystematicCauses(unittest.TestCase):
    def test_a_record_in_a_wrapper_is_one_departure_and_is_looked_at_there(self) -> None:
        titles = [each.title for each in found(200, {"status": "ok", "data": {"id": 1}})]
        self.assertEqual(titles, ["Rows come inside an object that the contract does not describe"])
        inside = found(200, {"status": "ok", "data": {"id": "1"}})
        self.assertEqual([each.title for each in inside][1:], ["A value is a string where the contract has an integer"])
        self.assertEqual(len(found(200, {"data": None})), 1)
        self.assertNotIn("Rows stand", found(200, {"name": "no record at all"})[0].title)

    def test_a_list_in_a_wrapper_is_one_departure_too_and_other_lists_are_none(self) -> None:
        rows = {"type": "array", "items": ROW}
        wrapped = "Rows come inside an object that the contract does not describe"
        for body, title in (
            ({"value": [{"id": 1}, {"id": 2}], "context": "x"}, wrapped),
            ({"value": []}, wrapped),
            ({"value": [{"kind": "table"}]}, "A value breaks its schema: the body"),
        ):
            self.assertEqual([each.title for each in found_in(rows, body)], [title], body)

    def test_values_of_another_type_are_one_cause_whatever_field_shows_them(self) -> None:
        fields = {"id": {"type": "integer"}, "seeds": {"type": ["integer", "null"]}, "ripe": {"type": "boolean"}}
        schema = {"type": "object", "properties": fields}
        one, other, third = (found_in(schema, body) for body in ({"id": "1"}, {"seeds": "2"}, {"ripe": 1}))
        self.assertEqual([each.key for each in one], [each.key for each in other])
        self.assertEqual(third[0].title, "A value is an integer where the contract has a boolean")

    def test_nulls_formats_types_and_media_types_are_one_cause_each_wherever_they_are(self) -> None:
        cases = [
            (found(200, {"id": None}), found(200, {"id": None}, method="PUT")),
            (found(200, {"id": 1, "born": "today"}), found(200, {"id": 1, "born": "now"}, method="PUT")),
            (found(200, {"id": "1"}), found(200, {"id": "2"}, method="PUT")),
            (found(200, {"id": 1}, "text/plain"), found(404, {"detail": "x"}, "text/plain", method="PUT")[:1]),
        ]
        nullable = found(200, {"id": 1, "died": "today"})
        self.assertEqual([(each.cause, each.severity) for each in nullable], [(cases[1][0][0].cause, "warning")])
        for one, other in cases[:3]:
            self.assertEqual([each.cause for each in one], [each.cause for each in other])
            self.assertTrue(one[0].cause.startswith("everywhere:"), one[0].cause)
        self.assertEqual(cases[3][0][0].cause, cases[3][1][0].cause)

    def test_of_an_answer_that_is_not_described_only_secrets_are_told(self) -> None:
        row = {"type": "object", "properties": {"id": {"type": "integer"}, "name": {"type": "string"}}}
        body = {"requestBody": {"content": {"application/json": {"schema": row}}}}
        lists = {"200": _content("application/json", {"type": "array", "items": row})}
        paths = {
            "/rows": {
                "get": {"responses": lists},
                "post": {**body, "responses": {"201": _content("application/json", {})}},
            }
        }
        contract = contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})
        [resource] = infer(contract).resources
        for method, status, shown, told in (
            ("POST", 201, {"key": "k"}, []),
            ("POST", 201, {"key": "k", "password": "p"}, [("error", ("password",))]),
            ("POST", 201, {"password_change": None, "has_token": True}, []),
            ("GET", 200, {"key": "k"}, [("warning", ("key",))]),
        ):
            operation = contract.operation(method, "/rows")
            assert operation is not None
            answer = Answer(status, (("Content-Type", "application/json"),), b"{}", "", "")
            exchange = Exchange(1, "x", Request(method, "http://127.0.0.1/rows", "r", {}, None), answer, 0.1)
            observation = Observation("rows", operation, exchange, "a situation")
            findings = undocumented_fields(observation, resource, [{"id": 1, "name": "a", **shown}])
            self.assertEqual([(each.severity, each.subjects) for each in findings], told, (method, shown))

    def test_rows_that_are_asked_for_inside_others_and_not_described_are_one_cause(self) -> None:
        operation = CONTRACT.operation("GET", "/rows/{id}")
        assert operation is not None
        body = json.dumps({"id": {"id": 1, "name": "x"}}).encode()
        answer = Answer(200, (("Content-Type", "application/json"), ("X-Count", "3")), body)
        exchange = Exchange(1, "relate.expand", Request("GET", "http://127.0.0.1/rows/1", "r", {}, None), answer, 0.1)
        for expanded, wanted in ((True, ("warning", "everywhere:expanded")), (False, ("error", ""))):
            observation = Observation("rows", operation, exchange, "", expanded=expanded)
            [finding] = conform(observation, VALIDATORS)
            self.assertEqual((finding.severity, finding.cause if expanded else ""), wanted)

    def test_one_type_that_is_said_of_every_answer_alike_is_one_cause(self) -> None:
        text = {"responses": {"200": _content("application/json", {"type": "string"})}}
        contract = contract_of(
            {
                "openapi": "3.1.0",
                "info": {"title": "t", "version": "1"},
                "paths": {"/rows": {"get": text}, "/rows/{id}": {"get": text}},
            }
        )
        causes, validators = set(), Validators(contract)
        for operation in contract.operations:
            request = Request("GET", "http://127.0.0.1/rows", "r", {}, None)
            for body in (b'[{"id": 1}]', b"null"):
                answer = Answer(200, (("Content-Type", "application/json"),), body)
                observation = Observation("rows", operation, Exchange(1, "read.list", request, answer, 0.1), "")
                [finding] = conform(observation, validators)
                causes.add(finding.cause)
                self.assertEqual(finding.expected, 'type: "string"', "the rule is found under a path with braces")
        self.assertEqual(causes, {'everywhere:body type: "string"'})

    def test_a_list_where_one_record_is_described_is_one_cause(self) -> None:
        row = {"type": "object", "properties": {"id": {"type": "integer"}}, "required": ["id"]}
        one = {"responses": {"200": _content("application/json", row)}}
        paths = {"/rows": {"get": one}, "/others": {"get": one}}
        contract = contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})
        causes, validators = set(), Validators(contract)
        for operation in contract.operations:
            request = Request("GET", "http://127.0.0.1/rows", "r", {}, None)
            for body in (b"[]", b'[{"id": "a"}]', b'{"rows": [], "count": 0}'):
                answer = Answer(200, (("Content-Type", "application/json"),), body)
                observation = Observation("rows", operation, Exchange(1, "read.list", request, answer, 0.1), "")
                causes |= {each.cause for each in conform(observation, validators)}
        self.assertEqual(causes, {"everywhere:list for a record"})


class Alternatives(unittest.TestCase):
    def test_fields_that_were_not_asked_for_are_missing_from_none_of_several_shapes(self) -> None:
        row = {"type": "object", "required": ["id", "label"], "properties": {"id": {"type": "integer"}}}
        shapes = {"oneOf": [row, {"type": "array", "items": row}]}
        answers = {"responses": {"200": _content("application/json", shapes)}}
        document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": {"/rows": {"get": answers}}}
        contract = contract_of(document)
        request = Request("GET", "http://127.0.0.1/rows", "reader", {}, None)

        def told(body: Any, reshaped: bool) -> list[str]:
            answer = Answer(200, (("Content-Type", "application/json"),), json.dumps(body).encode(), "", "")
            seen = Observation(
                "rows", contract.operations[0], Exchange(1, "read.list", request, answer, 0.1), "", reshaped
            )
            return [each.check for each in conform(seen, Validators(contract))]

        self.assertEqual(told([{"id": 1}], True), [])
        self.assertEqual(told([{"id": 1}], False), ["shape.body"])
        self.assertEqual(told([{"id": "one"}], True), ["shape.body"])


class OneCause(unittest.TestCase):
    def collected(self, *answers: list[Finding]) -> list[Finding]:
        findings = Findings()
        for each in answers:
            findings.add(each)
        findings.unite()
        return findings.all()

    def test_the_same_departure_is_one_finding_with_a_count(self) -> None:
        many = self.collected(*(found(200, {"id": "x"}) for _ in range(20)))
        self.assertEqual([(each.count, len(each.exchanges)) for each in many], [(20, 1)])

    def test_one_rule_of_the_contract_is_one_cause_whatever_the_operation(self) -> None:
        same_rule = self.collected(found(418), found(418, method="PUT"))
        self.assertEqual([each.operations for each in same_rule], [(("GET", "/rows/{id}"), ("PUT", "/rows/{id}"))])
        self.assertIsNone(same_rule[0].resource)

    def test_operations_that_fail_alike_are_united(self) -> None:
        alike = self.collected(found(500), found(500, method="PUT"))
        self.assertEqual([len(each.operations) for each in alike], [2])

    def test_operations_that_fail_in_other_situations_stay_apart(self) -> None:
        apart = self.collected(found(500), found(500, method="PUT", situation="another situation"))
        self.assertEqual([each.operations for each in apart], [(("GET", "/rows/{id}"),), (("PUT", "/rows/{id}"),)])

    def test_different_causes_stay_apart(self) -> None:
        self.assertEqual(
            len(self.collected(found(200, {"id": "x"}), found(200, {"id": 1, "born": "x"}), found(201))), 3
        )

    def test_the_gravest_come_first(self) -> None:
        self.assertEqual([each.severity for each in self.collected(found(418), found(500))], ["error", "warning"])

    def test_ids_tell_causes_apart_and_not_occurrences(self) -> None:
        first, again = found(200, {"id": "x"})[0], found(200, {"id": "y"})[0]
        self.assertEqual(first.id, again.id)
        self.assertNotEqual(first.id, found(201)[0].id)
        self.assertRegex(first.id, "^[0-9a-f]{10}$")


if __name__ == "__main__":
    unittest.main()
