"""The stand-in by itself: related rows, many rows at once, guards and roles, asked of it directly."""

from __future__ import annotations

import http.client
import json
import unittest
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from checkpost.demo import seedbank
from checkpost.demo.relations import depths, is_junction, to_many, to_one
from checkpost.demo.server import InProcess

TOKENS = {user: token for token, (user, _) in seedbank.TOKENS.items()}
TABLES = {table.name: table for table in seedbank.TABLES}
SPECIES = {"scientific_name": "Testa prima"}
Answer = tuple[int, Any, http.client.HTTPMessage]


class Asking(unittest.TestCase):
    spelling = "brackets"

    def setUp(self) -> None:
        self.stand_in = self.enterContext(InProcess(spelling=self.spelling))
        self.host = self.stand_in.address.base_url.removeprefix("http://").removesuffix("/v1")

    def ask(self, method: str, path: str, body: Any = None, user: str = "mira", **headers: str) -> Answer:
        connection = http.client.HTTPConnection(self.host)
        sent = {"Authorization": f"Bearer {TOKENS[user]}"} if user else {}
        data = body if isinstance(body, bytes) else (json.dumps(body).encode() if body is not None else None)
        if data is not None:
            sent["Content-Type"] = "application/json"
        sent |= {name.replace("_", "-"): value for name, value in headers.items()}
        connection.request(method, "/v1" + path, data, sent)
        answer = connection.getresponse()
        text = answer.read()
        connection.close()
        return answer.status, json.loads(text) if text else None, answer.headers

    def status(self, *asked: Any, **more: Any) -> int:
        return self.ask(*asked, **more)[0]


class Tables(unittest.TestCase):
    def test_how_they_hang_together_is_told_from_their_columns(self) -> None:
        tables = seedbank.TABLES
        accession = [(each.name, each.table.name, each.column) for each in to_one(TABLES["accessions"], tables)]
        self.assertEqual(accession[0], ("species", "species", "species_id"))
        self.assertEqual(len(accession), 3)
        many = {each.name: each for each in to_many(TABLES["species"], tables)}
        self.assertEqual(set(many), {"accessions", "tags"})
        assert many["tags"].junction is not None
        self.assertEqual((many["tags"].junction.name, many["tags"].far), ("species_tags", "tag_id"))
        self.assertTrue(is_junction(TABLES["species_tags"]))
        self.assertFalse(is_junction(TABLES["accessions"]))
        self.assertIn("accession.species", depths(TABLES["loans"], tables))
        self.assertEqual(depths(TABLES["species_tags"], tables), [])


class Related(Asking):
    def test_lists_under_rows(self) -> None:
        _, under, _ = self.ask("GET", "/species/3/accessions?limit=200")
        _, every, _ = self.ask("GET", "/accessions?species_id[eq]=3&limit=200")
        self.assertEqual(under, every)
        self.assertGreater(under["total"], 2)
        _, page, _ = self.ask("GET", "/species/3/accessions?limit=1&offset=1")
        self.assertEqual((page["items"], page["total"]), (every["items"][1:2], every["total"]))
        self.assertEqual(self.status("GET", "/species/999/accessions"), 404)
        made = {"number": "990001", "vault_code": "NV-01", "seed_count": 4}
        status, row, headers = self.ask("POST", "/species/3/accessions", made)
        self.assertEqual((status, row["species_id"]), (201, 3))
        self.assertEqual(headers["Location"], f"/v1/accessions/{row['id']}")
        self.assertEqual(self.status("POST", "/species/3/accessions", {**made, "species_id": 4}), 422)

    def test_links_are_seen_from_both_sides_and_once(self) -> None:
        for _ in range(2):
            self.assertEqual(self.status("PUT", "/species/3/tags/1"), 204)
        tags = [row["id"] for row in self.ask("GET", "/species/3/tags")[1]["items"]]
        self.assertEqual(tags.count(1), 1)
        self.assertIn(3, [row["id"] for row in self.ask("GET", "/tags/1/species")[1]["items"]])
        self.assertEqual(self.status("GET", "/species-tags/3/1"), 200)
        self.assertEqual([self.status("DELETE", "/tags/1/species/3") for _ in range(2)], [204, 404])
        self.assertEqual(self.status("PUT", "/species/3/tags/99"), 404)
        self.assertEqual(self.status("PUT", "/species/3/tags/1", user="tomas"), 403)

    def test_rows_inside_rows(self) -> None:
        _, row, headers = self.ask("GET", "/accessions/5?expand=species,vault,collector,loans")
        self.assertIsNone(row["collector"])
        self.assertEqual(row["species"], self.ask("GET", f"/species/{row['species_id']}")[1])
        self.assertTrue(all(loan["accession_id"] == 5 for loan in row["loans"]))
        self.assertIsNone(headers["ETag"], "what is shown is more than the row")
        _, loans, _ = self.ask("GET", "/loans?expand=accession.species&limit=2")
        for loan in loans["items"]:
            self.assertEqual(loan["accession"]["species"]["id"], loan["accession"]["species_id"])
        self.assertEqual(self.status("GET", "/accessions?expand=nothing"), 400)

    def test_rows_made_along_are_all_stored_or_none(self) -> None:
        test = {"started_on": "2020-02-02", "temperature_c": 4, "sown": 10}
        accession = {"number": "990002", "species_id": 3, "vault_code": "NV-01", "seed_count": 4}
        status, row, _ = self.ask("POST", "/accessions", {**accession, "germination_tests": [test, test]})
        self.assertEqual(status, 201)
        _, under, _ = self.ask("GET", f"/accessions/{row['id']}/germination-tests")
        self.assertEqual(under["total"], 2)
        before = self.stand_in.contents()
        bad = {**accession, "number": "990003", "germination_tests": [test, {"sown": 0}]}
        status, problem, _ = self.ask("POST", "/accessions", bad)
        self.assertEqual(status, 422)
        self.assertTrue(all(each["field"].startswith("germination_tests") for each in problem["errors"]))
        self.assertEqual(self.stand_in.contents(), before)


class AtOnce(Asking):
    def test_all_or_none(self) -> None:
        status, rows, _ = self.ask("POST", "/tags/bulk", [{"label": "a"}, {"label": "b"}])
        self.assertEqual((status, [row["label"] for row in rows]), (201, ["a", "b"]))
        ids = [row["id"] for row in rows]
        before = self.stand_in.contents()
        self.assertEqual(self.status("POST", "/tags/bulk", [{"label": "c"}, {"label": "a"}]), 409)
        self.assertEqual(self.status("POST", "/tags/bulk", [{"label": "c"}, {"lable": "d"}]), 422)
        self.assertEqual(self.status("POST", "/tags/bulk", []), 422)
        self.assertEqual(
            self.status("PATCH", "/tags/bulk", [{"id": ids[0], "label": "x"}, {"id": 999, "label": "y"}]), 404
        )
        self.assertEqual(self.status("DELETE", f"/tags/bulk?ids={ids[0]},999"), 404)
        self.assertEqual(self.stand_in.contents(), before)
        changes = [{"id": each, "colour": "#000000"} for each in ids]
        self.assertEqual([row["colour"] for row in self.ask("PATCH", "/tags/bulk", changes)[1]], ["#000000"] * 2)
        self.assertEqual(self.ask("DELETE", f"/tags/bulk?ids={ids[0]},{ids[1]}")[1], {"deleted": 2})


class OneByOne(Asking):
    spelling = "prefix"

    def test_each_has_its_own_result(self) -> None:
        status, told, _ = self.ask("POST", "/tags/batch", {"rows": [{"label": "a"}, {"label": "a"}, {"label": "b"}]})
        self.assertEqual((status, [each["status"] for each in told["results"]]), (207, [201, 409, 201]))
        keys = [each["row"]["id"] for each in told["results"] if "row" in each]
        _, told, _ = self.ask("DELETE", "/tags/batch", {"keys": [keys[0], 999, keys[1]]})
        self.assertEqual([each["status"] for each in told["results"]], [204, 404, 204])


class Lines(Asking):
    spelling = "json"

    def test_a_bad_line_does_not_stop_the_others(self) -> None:
        text = b'{"label": "a"}\n{"lable": 1}\n\n{"label": "b"}\n'
        _, told, _ = self.ask("POST", "/tags/import", text, Content_Type="application/x-ndjson")
        self.assertEqual((told["stored"], [each["line"] for each in told["refused"]]), (2, [2]))
        self.assertEqual(self.status("POST", "/tags/import", b"{", Content_Type="application/x-ndjson"), 400)
        self.assertEqual(self.status("POST", "/tags/import", text), 415)


class ByFilter(Asking):
    spelling = "suffix"

    def test_a_condition_says_which_rows(self) -> None:
        self.ask("POST", "/tags", [{"label": "a", "colour": "#010101"}, {"label": "b", "colour": "#010101"}])
        changed = self.ask("PATCH", "/tags?colour=%23010101", {"colour": "#020202"})[1]
        self.assertEqual(changed, {"changed": 2})
        before = self.stand_in.contents()
        self.assertEqual(self.status("DELETE", "/tags"), 400, "without a condition nothing is done")
        self.assertEqual(self.stand_in.contents(), before)
        self.assertEqual(self.ask("DELETE", "/tags?colour=%23020202")[1], {"deleted": 2})


class Guards(Asking):
    def test_tags(self) -> None:
        _, row, headers = self.ask("GET", "/tags/1")
        tag = headers["ETag"]
        self.assertEqual(self.status("GET", "/tags/1", If_None_Match=tag), 304)
        self.assertEqual(self.status("GET", "/tags/1", If_None_Match='"other"'), 200)
        self.assertEqual(self.status("PATCH", "/tags/1", {"colour": "#000000"}, If_Match='"other"'), 412)
        status, _, headers = self.ask("PATCH", "/tags/1", {"colour": "#000000"}, If_Match=tag)
        self.assertEqual(status, 200)
        self.assertNotEqual(headers["ETag"], tag)
        self.assertEqual(self.status("DELETE", "/tags/1", If_Match=tag), 412)
        self.assertEqual(self.ask("GET", "/tags/1")[1], {**row, "colour": "#000000"})

    def test_versions(self) -> None:
        loan = self.ask("GET", "/loans?limit=1")[1]["items"][0]
        path = f"/loans/{loan['id']}"
        _, changed, _ = self.ask("PATCH", path, {"seeds": 7, "version": loan["version"]})
        self.assertEqual((changed["seeds"], changed["version"]), (7, loan["version"] + 1))
        self.assertEqual(self.status("PATCH", path, {"seeds": 8, "version": loan["version"]}), 409)
        self.assertEqual(self.ask("PATCH", path, {"seeds": 9})[1]["version"], loan["version"] + 2)

    def test_creates_that_are_sent_again(self) -> None:
        first, again = (self.ask("POST", "/species", SPECIES, Idempotency_Key="k1") for _ in range(2))
        self.assertEqual((first[:2], first[2]["Location"]), (again[:2], again[2]["Location"]))
        other = {"scientific_name": "Testa secunda"}
        self.assertEqual(self.status("POST", "/species", other, Idempotency_Key="k1"), 422)
        self.assertEqual(self.status("POST", "/species", other, Idempotency_Key="k2"), 201)

    def test_one_of_many_creates_at_once(self) -> None:
        with ThreadPoolExecutor(8) as pool:
            statuses = list(pool.map(lambda _: self.status("POST", "/species", SPECIES), range(8)))
        self.assertEqual(sorted(statuses), [201, *[409] * 7])


class Roles(Asking):
    def total(self, path: str, user: str) -> int:
        return int(self.ask("GET", path, user=user)[1]["total"])

    def test_rows_by_role(self) -> None:
        self.assertEqual(self.total("/germination-tests", "mira"), 900)
        self.assertEqual(self.total("/germination-tests", "tomas") + self.total("/germination-tests", "wen"), 900)
        active = self.total("/accessions?status[eq]=active", "mira")
        self.assertEqual(self.total("/accessions", "nils"), active)
        every = self.ask("GET", "/germination-tests?limit=200&expand=accession", user="nils")[1]
        self.assertTrue(all(row["accession"]["status"] == "active" for row in every["items"]))
        self.assertEqual(self.status("GET", "/loans", user="nils"), 403)

    def test_another_ones_row_is_not_there(self) -> None:
        theirs = self.ask("GET", "/germination-tests?limit=1", user="wen")[1]["items"][0]
        path = f"/germination-tests/{theirs['id']}"
        for method, body in (("GET", None), ("PATCH", {"sown": 2}), ("DELETE", None)):
            self.assertEqual(self.status(method, path, body, user="tomas"), 404, method)
        self.assertEqual(self.status("DELETE", f"/germination-tests/bulk?ids={theirs['id']}", user="tomas"), 404)
        under = self.ask("GET", f"/accessions/{theirs['accession_id']}/germination-tests", user="tomas")[1]
        self.assertNotIn(theirs["id"], [row["id"] for row in under["items"]])

    def test_hidden_fields_are_neither_shown_nor_asked_for(self) -> None:
        row = self.ask("GET", "/accessions?limit=1", user="nils")[1]["items"][0]
        one = self.ask("GET", f"/accessions/{row['id']}", user="nils")[1]
        for shown in (row, one):
            self.assertNotIn("latitude", shown)
        for query in ("latitude[gt]=0", "sort=latitude", "fields=latitude"):
            self.assertEqual(self.status("GET", f"/accessions?{query}", user="nils"), 400, query)
            self.assertEqual(self.status("GET", f"/accessions?{query}", user="mira"), 200, query)
        self.assertEqual(self.status("GET", "/accessions/aggregate?avg=latitude", user="nils"), 400)


if __name__ == "__main__":
    unittest.main()
