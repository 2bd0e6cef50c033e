"""The stand-in's lists in every spelling, asked by hand: what they answer is what the rows say."""

from __future__ import annotations

import json
import unittest
import urllib.error
import urllib.request
from collections.abc import Callable
from typing import Any
from urllib.parse import quote

from checkpost.demo.database import Row
from checkpost.demo.server import InProcess
from checkpost.demo.spellings import SPELLINGS
from checkpost.demo.spellings.jsonfilter import cursor, offset_of

TOKEN = "seedbank-demo-curator-7Qm2"
_SAFE = "?&=[]$()*,:;!@/'"


def asked(stand_in: InProcess, path: str, **headers: str) -> tuple[int, Any, Any]:
    """The status, the body and the headers of an answer."""
    url = stand_in.address.base_url + quote(path, safe=_SAFE + "%")
    request = urllib.request.Request(url, headers={"Authorization": f"Bearer {TOKEN}", **headers})
    try:
        with urllib.request.urlopen(request) as answer:
            return answer.status, json.loads(answer.read()), answer.headers
    except urllib.error.HTTPError as error:
        return error.code, json.loads(error.read()), error.headers


def rows_in(body: Any) -> list[Row]:
    if isinstance(body, list):
        return body
    return next(body[name] for name in ("items", "results", "data", "value") if name in body)


def encoded(value: Any) -> str:
    return quote(json.dumps(value), safe="")


def at_least(row: Row) -> bool:
    return bool(row["seed_count"] >= 250)


def active(row: Row) -> bool:
    return bool(row["status"] == "active")


def unknown(row: Row) -> bool:
    return row["collector_id"] is None


def awkward(row: Row) -> bool:
    return bool(row["remark"] == "O'Brien's \"pink\"")


def both(row: Row) -> bool:
    return at_least(row) and active(row)


def of_two(row: Row) -> bool:
    return bool(row["status"] in {"depleted", "quarantined"})


Test = Callable[[Row], bool]
_TEXT = quote("O'Brien's \"pink\"", safe="")
_SQL_TEXT = quote("'O''Brien''s \"pink\"'", safe="")

#: For each spelling: queries on accessions, with what each is to leave.
FILTERS: dict[str, list[tuple[str, Test]]] = {
    "brackets": [
        ("seed_count[gte]=250", at_least),
        ("status[eq]=active", active),
        ("collector_id[null]=true", unknown),
        (f"remark[eq]={_TEXT}", awkward),
        ("seed_count[gte]=250&status[eq]=active", both),
        ("status[in]=depleted,quarantined", of_two),
    ],
    "suffix": [
        ("seed_count__gte=250", at_least),
        ("status=active", active),
        ("collector_id__isnull=true", unknown),
        (f"remark={_TEXT}", awkward),
        ("seed_count__gte=250&status=active", both),
        ("status__in=depleted,quarantined", of_two),
    ],
    "prefix": [
        ("seed_count=gte.250", at_least),
        ("seed_count=not.lt.250", at_least),
        ("status=eq.active", active),
        ("collector_id=is.null", unknown),
        (f"remark=eq.{_TEXT}", awkward),
        ("seed_count=gte.250&status=eq.active", both),
        ("status=in.(depleted,quarantined)", of_two),
        ("or=(status.eq.depleted,status.eq.quarantined)", of_two),
    ],
    "infix": [
        ("where=seed_count >= 250", at_least),
        ("where=NOT (seed_count < 250)", at_least),
        ("where=seed_count BETWEEN 250 AND 2147483647", at_least),
        ("where=status = 'active'", active),
        ("where=collector_id IS NULL", unknown),
        (f"where=remark = {_SQL_TEXT}", awkward),
        ("where=seed_count >= 250 AND status = 'active'", both),
        ("where=(seed_count >= 250) and (status = 'active')", both),
        ("where=status IN ('depleted', 'quarantined')", of_two),
        ("where=status = 'depleted' OR status = 'quarantined'", of_two),
    ],
    "json": [
        ("filter=" + encoded({"seed_count": {"$gte": 250}}), at_least),
        ("filter=" + encoded({"$not": {"seed_count": {"$lt": 250}}}), at_least),
        ("filter=" + encoded({"status": "active"}), active),
        ("filter=" + encoded({"collector_id": None}), unknown),
        ("filter=" + encoded({"remark": {"$eq": "O'Brien's \"pink\""}}), awkward),
        ("filter=" + encoded({"seed_count": {"$gte": 250}, "status": "active"}), both),
        ("filter=" + encoded({"status": {"$in": ["depleted", "quarantined"]}}), of_two),
        ("filter=" + encoded({"$or": [{"status": "depleted"}, {"status": "quarantined"}]}), of_two),
    ],
    "odata": [
        ("$filter=seed_count ge 250", at_least),
        ("$filter=not (seed_count lt 250)", at_least),
        ("$filter=status eq 'active'", active),
        ("$filter=collector_id eq null", unknown),
        (f"$filter=remark eq {_SQL_TEXT}", awkward),
        ("$filter=seed_count ge 250 and status eq 'active'", both),
        ("$filter=status in ('depleted','quarantined')", of_two),
        ("$filter=status eq 'depleted' or status eq 'quarantined'", of_two),
    ],
    "nested": [
        ("filter[seed_count][gte]=250", at_least),
        ("filter[status][eq]=active", active),
        ("filter[collector_id][null]=true", unknown),
        (f"filter[remark][eq]={_TEXT}", awkward),
        ("filter[seed_count][gte]=250&filter[status][eq]=active", both),
        ("filter[status][in]=depleted,quarantined", of_two),
    ],
}
LARGEST = {
    "brackets": "limit=200",
    "suffix": "per_page=200",
    "prefix": "",
    "infix": "size=200",
    "json": "limit=200",
    "odata": "$top=200",
    "nested": "page[size]=200",
}
#: By seed count descending, and of those alike the least number first; then the fields number and status alone.
ORDERS = {
    "brackets": ("sort=-seed_count,number", "fields=number,status"),
    "suffix": ("sort=seed_count:desc&sort=number:asc", "only=number&only=status"),
    "prefix": ("order=seed_count.desc,number.asc", "select=number,status"),
    "infix": ("sort=seed_count desc,number asc", "columns=number,status"),
    "json": ("sort_by=seed_count&direction=desc", "fields=number|status"),
    "odata": ("$orderby=seed_count desc,number", "$select=number,status"),
    "nested": ("sort=-seed_count,number", "fields[accessions]=number,status"),
}
REFUSED = {
    "brackets": [
        "seed_count[gte]=many",
        "seed_count[like]=1",
        "nothing[eq]=1",
        "sort=nothing",
        "fields=nothing",
        "limit=0",
    ],
    "suffix": [
        "seed_count__gte=many",
        "seed_count__like=1",
        "sort=seed_count",
        "sort=nothing:asc",
        "only=nothing",
        "page=0",
    ],
    "prefix": [
        "seed_count=gte.many",
        "seed_count=250",
        "seed_count=like.*1*",
        "or=seed_count.eq.1",
        "order=seed_count",
    ],
    "infix": [
        "where=seed_count >",
        "where=seed_count ~ 1",
        "where=nothing = 1",
        "where=(seed_count = 1",
        "where=status = active",
        "size=x",
    ],
    "json": [
        "filter={",
        "filter=[]",
        "filter=" + encoded({"nothing": 1}),
        "filter=" + encoded({"status": {"$like": "x"}}),
        "direction=up",
        "cursor=x",
    ],
    "odata": [
        "$filter=seed_count",
        "$filter=seed_count gt many",
        "$filter=nothing eq 1",
        "$orderby=nothing",
        "$count=maybe",
        "$apply=sum(seed_count)",
    ],
    "nested": [
        "filter[seed_count]=1",
        "filter[seed_count][like]=1",
        "filter[nothing][eq]=1",
        "page[number]=0",
        "sort=nothing",
    ],
}


class Lists(unittest.TestCase):
    stand_ins: dict[str, InProcess]

    @classmethod
    def setUpClass(cls) -> None:
        cls.stand_ins = {name: InProcess(spelling=name).__enter__() for name in SPELLINGS}
        cls.rows = cls.stand_ins["brackets"].contents()["accessions"]

    @classmethod
    def tearDownClass(cls) -> None:
        for stand_in in cls.stand_ins.values():
            stand_in.__exit__(None, None, None)

    def ask(self, spelling: str, query: str, **headers: str) -> tuple[int, Any, Any]:
        return asked(self.stand_ins[spelling], f"/accessions?{query}", **headers)

    def test_filters(self) -> None:
        self.assertEqual(set(FILTERS), set(SPELLINGS))
        for spelling, cases in FILTERS.items():
            for query, test in cases:
                with self.subTest(spelling=spelling, query=query):
                    status, body, _ = self.ask(spelling, "&".join(filter(None, [query, LARGEST[spelling]])))
                    self.assertIn(status, {200, 206}, body)
                    expected = [row["id"] for row in self.rows if test(row)]
                    self.assertGreater(len(expected), 0)
                    self.assertEqual([row["id"] for row in rows_in(body)], expected[:200])

    def test_orders_and_selections(self) -> None:
        by_count = sorted(self.rows, key=lambda row: (-row["seed_count"], row["number"]))
        for spelling, (order, selection) in ORDERS.items():
            with self.subTest(spelling=spelling):
                _, body, _ = self.ask(spelling, f"{order}&{LARGEST[spelling]}".rstrip("&"))
                self.assertEqual([row["id"] for row in rows_in(body)], [row["id"] for row in by_count[:200]])
                _, body, _ = self.ask(spelling, f"{order}&{selection}")
                shown = rows_in(body)[0]
                first = by_count[0]
                self.assertEqual(shown, {name: first[name] for name in ("id", "number", "status")})

    def test_what_makes_no_sense_is_refused(self) -> None:
        for spelling, queries in REFUSED.items():
            for query in queries:
                with self.subTest(spelling=spelling, query=query):
                    status, body, _ = self.ask(spelling, query)
                    self.assertEqual(status, 400, body)
                    self.assertEqual(body["title"], "Not readable")

    def test_ranges(self) -> None:
        status, body, headers = self.ask("prefix", "", Range="10-14", Prefer="count=exact")
        self.assertEqual((status, headers["Content-Range"]), (206, "10-14/300"))
        self.assertEqual([row["id"] for row in body], [11, 12, 13, 14, 15])
        _, _, headers = self.ask("prefix", "", Range="10-14")
        self.assertEqual(headers["Content-Range"], "10-14/*")
        status, _, headers = self.ask("prefix", "", Range="900-910", Prefer="count=exact")
        self.assertEqual((status, headers["Content-Range"]), (416, "*/300"))
        self.assertEqual(self.ask("prefix", "", Range="rows")[0], 400)

    def test_links_and_cursors(self) -> None:
        _, _, headers = self.ask("suffix", "per_page=100&page=2&status=active&sort=id:desc")
        self.assertNotIn("Link", headers)
        _, _, headers = self.ask("suffix", "per_page=50&sort=id:desc")
        self.assertIn("page=2", headers["Link"])
        self.assertIn("sort=id%3Adesc", headers["Link"])
        self.assertEqual(headers["X-Total-Count"], "300")
        _, body, _ = self.ask("json", "limit=100")
        _, body, _ = self.ask("json", f"limit=100&cursor={body['meta']['next_cursor']}")
        self.assertEqual([row["id"] for row in body["data"]], list(range(101, 201)))
        self.assertEqual(offset_of(cursor(1234)), 1234)
        _, body, _ = self.ask("infix", "size=150&page=1")
        self.assertEqual(body["links"], {})
        _, body, _ = self.ask("odata", "$top=10&$count=true")
        self.assertEqual(body["@odata.count"], 300)
        self.assertIn("%24skip=10", body["@odata.nextLink"])
        _, body, _ = self.ask("odata", "$top=10")
        self.assertNotIn("@odata.count", body)

    def test_aggregates(self) -> None:
        counts = [row["seed_count"] for row in self.rows]
        known = [row["latitude"] for row in self.rows if row["latitude"] is not None]
        _, body, _ = asked(
            self.stand_ins["brackets"], "/accessions/aggregate?count=*&sum=seed_count&avg=latitude&distinct=status"
        )
        [result] = body["results"]
        self.assertEqual((result["count"], result["sum_seed_count"], result["distinct_status"]), (300, sum(counts), 3))
        self.assertAlmostEqual(result["avg_latitude"], sum(known) / len(known), places=5)
        _, body, _ = asked(self.stand_ins["suffix"], "/accessions/stats?metrics=count(*)&by=status&seed_count__gte=250")
        expected = {
            status: sum(1 for row in self.rows if row["status"] == status and at_least(row))
            for status in ("active", "depleted", "quarantined")
        }
        self.assertEqual({row["status"]: row["count(*)"] for row in body}, expected)
        _, body, _ = asked(
            self.stand_ins["json"], "/accessions/aggregate?aggregate=max:seed_count&group_by=collector_id"
        )
        self.assertIn(None, {row["collector_id"] for row in body["data"]})
        _, body, _ = asked(self.stand_ins["infix"], "/accessions/count?where=seed_count >= 250")
        self.assertEqual(body, {"count": sum(map(at_least, self.rows))})
        apply = "groupby((status),aggregate($count as n,seed_count with max as most))"
        _, body, _ = self.ask("odata", f"$apply={apply}")
        self.assertEqual({row["status"] for row in body["value"]}, {"active", "depleted", "quarantined"})
        self.assertEqual(max(row["most"] for row in body["value"]), max(counts))
        for path in (
            "/accessions/aggregate",
            "/accessions/aggregate?sum=status",
            "/accessions/aggregate?group=id&count=*",
        ):
            self.assertEqual(asked(self.stand_ins["brackets"], path)[0], 400, path)


if __name__ == "__main__":
    unittest.main()
