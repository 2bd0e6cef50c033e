"""The stand-in API itself: the same data at every start, roles, and a contract that is exact."""

from __future__ import annotations

import http.client
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from checkpost.contract.reader import read_contract
from checkpost.demo import seedbank
from checkpost.demo.defects import DEFECTS, handlers
from checkpost.demo.server import InProcess
from tests.support import fetch

TOKENS = {user: token for token, (user, _) in seedbank.TOKENS.items()}


class StandIn(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.stand_in = cls.enterClassContext(InProcess())
        cls.host = cls.stand_in.address.base_url.removeprefix("http://").removesuffix("/v1")

    def ask(
        self,
        method: str,
        path: str,
        user: str | None = None,
        body: Any = None,
        raw: bytes | None = None,
        media_type: str = "application/json",
    ) -> tuple[int, Any, http.client.HTTPMessage]:
        connection = http.client.HTTPConnection(self.host)
        headers = {"Authorization": f"Bearer {TOKENS[user]}"} if user else {}
        data = raw if raw is not None else (json.dumps(body).encode() if body is not None else None)
        if data is not None:
            headers["Content-Type"] = media_type
        connection.request(method, "/v1" + path, data, headers)
        answer = connection.getresponse()
        text = answer.read()
        connection.close()
        return answer.status, json.loads(text) if text else None, answer.headers

    def test_rows_are_the_same_at_every_start_and_awkward_enough(self) -> None:
        first, second = seedbank.rows(), seedbank.rows()
        self.assertEqual(first, second)
        sizes = {name: len(rows) for name, rows in first.items()}
        self.assertEqual((sizes["species"], sizes["accessions"], sizes["germination_tests"]), (40, 300, 900))
        texts = [
            str(value) for rows in first.values() for row in rows for value in row.values() if isinstance(value, str)
        ]
        for sign in ("'", '"', "%", "_", "🌱", "\u0301", "\\", "&"):
            self.assertTrue(any(sign in text for text in texts), sign)
        self.assertIn("", texts)
        self.assertTrue(any(text.startswith("00") for text in texts))
        masses = [row["seed_mass_mg"] for row in first["species"]]
        self.assertTrue({0.0004, 12345678.9012, None} <= set(masses))

    def test_a_table_that_is_not_exposed_does_not_answer(self) -> None:
        for path in ("/donor_contacts", "/donor-contacts", "/donor_contacts/1"):
            self.assertEqual(self.ask("GET", path, "mira")[0], 404)

    def test_what_each_role_may(self) -> None:
        tag = {"label": "from a role", "colour": "#000000"}
        test = {"accession_id": 1, "started_on": "2024-01-01", "temperature_c": 5, "sown": 10}
        cases = [
            ("GET", "/species", None, None, 200),
            ("GET", "/accessions", None, None, 401),
            ("POST", "/tags", None, tag, 401),
            ("POST", "/tags", "ines", tag, 403),
            ("POST", "/tags", "tomas", tag, 403),
            ("GET", "/germination-tests", "ines", None, 200),
            ("POST", "/germination-tests", "ines", test, 403),
            ("POST", "/germination-tests", "tomas", test, 201),
        ]
        for method, path, user, body, status in cases:
            self.assertEqual(self.ask(method, path, user, body)[0], status, (method, path, user))

    def test_technicians_see_and_change_only_their_own_tests(self) -> None:
        _, body, _ = self.ask("GET", "/germination-tests?limit=200", "tomas")
        self.assertEqual({row["entered_by"] for row in body["items"]}, {"tomas"})
        _, others, _ = self.ask("GET", "/germination-tests?limit=200", "wen")
        foreign = others["items"][0]["id"]
        self.assertEqual(self.ask("GET", f"/germination-tests/{foreign}", "tomas")[0], 404)
        self.assertEqual(self.ask("PATCH", f"/germination-tests/{foreign}", "tomas", {"sown": 1})[0], 404)
        self.assertEqual(self.ask("DELETE", f"/germination-tests/{foreign}", "tomas")[0], 404)
        self.assertEqual(self.ask("GET", f"/germination-tests/{foreign}", "wen")[0], 200)

    def test_refusals_are_problem_documents(self) -> None:
        cases = [
            ("POST", "/tags", {"raw": b"{"}, 400),
            ("POST", "/tags", {"raw": b"{}", "media_type": "text/plain"}, 415),
            ("POST", "/tags", {"body": {"label": "x" * 41}}, 422),
            ("POST", "/tags", {"body": {"label": "alpine"}}, 409),
            ("POST", "/tags", {"raw": b'"' + b"x" * 1_000_001 + b'"'}, 413),
            ("GET", "/tags/99999", {}, 404),
            ("GET", "/tags/x", {}, 400),
            ("GET", "/tags?limit=0", {}, 400),
            ("DELETE", "/vaults/NV-01", {}, 409),
        ]
        for method, path, request, status in cases:
            seen, body, headers = self.ask(method, path, "mira", **request)
            self.assertEqual(seen, status, (method, path))
            self.assertEqual(headers["Content-Type"], "application/problem+json")
            self.assertEqual(body["status"], status)
        _, body, _ = self.ask("POST", "/tags", "mira", {"colour": "red", "more": 1})
        self.assertEqual(
            {(each["field"], each["rule"]) for each in body["errors"]},
            {("label", "required"), ("colour", "pattern"), ("", "additionalProperties")},
        )
        self.assertEqual(self.ask("GET", "/loans")[2]["WWW-Authenticate"], "Bearer")
        status, _, headers = self.ask("POST", "/tags/1", "mira", {})
        self.assertEqual((status, headers["Allow"]), (405, "GET, DELETE, PUT, PATCH"))

    def test_replace_resets_what_is_left_out_and_keys_are_not_used_again(self) -> None:
        _, made, headers = self.ask("POST", "/tags", "mira", {"label": "one", "colour": "#123456"})
        path = headers["Location"].removeprefix("/v1")
        self.assertEqual(
            self.ask("PUT", path, "mira", {"label": "two"})[1], {**made, "label": "two", "colour": "#888888"}
        )
        self.assertEqual(self.ask("DELETE", path, "mira")[0], 204)
        self.assertGreater(self.ask("POST", "/tags", "mira", {"label": "three"})[1]["id"], made["id"])

    def test_pages_link_to_the_next(self) -> None:
        _, body, _ = self.ask("GET", "/species?limit=15&offset=15")
        self.assertEqual((len(body["items"]), body["total"], body["next"]), (15, 40, "/v1/species?limit=15&offset=30"))
        self.assertIsNone(self.ask("GET", "/species?limit=15&offset=30")[1]["next"])

    def test_the_contract_is_the_same_in_json_and_yaml(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            url = self.stand_in.address.contract_url
            first = read_contract(fetch(url, Path(name) / "c.yaml"))
            second = read_contract(fetch(url.replace("yaml", "json"), Path(name) / "c.json"))
        self.assertEqual(first.library.documents[first.location], second.library.documents[second.location])
        self.assertEqual((len(first.operations), first.flaws), (94, ()))


class Defects(unittest.TestCase):
    def test_each_overrides_one_table_and_says_what_a_finding_should(self) -> None:
        exposed = {table.name for table in seedbank.TABLES if table.exposed}
        for name, defect in DEFECTS.items():
            self.assertEqual(name, defect.name)
            self.assertIn(defect.table, exposed)
            self.assertTrue(defect.says.endswith("."), name)
            self.assertEqual(list(handlers([name])), [defect.table])

    def test_defects_of_one_table_are_combined(self) -> None:
        chosen = handlers(["text-trimmed", "get-writes", "key-reused"])
        self.assertEqual(set(chosen), {"species", "tags"})
        self.assertTrue(issubclass(chosen["species"], DEFECTS["get-writes"].behaviour))
        self.assertTrue(issubclass(chosen["species"], DEFECTS["text-trimmed"].behaviour))


if __name__ == "__main__":
    unittest.main()
