"""Reading whole lists, however they are paged, and telling when they could not be read whole."""

from __future__ import annotations

import asyncio
import json
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.contract.reader import read_contract
from checkpost.model.infer import infer
from checkpost.model.resource import Resource
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer
from checkpost.wire.listing import Listing, linked
from checkpost.wire.numbering import next_in
from checkpost.wire.session import Limits, Session
from tests.foreign import Served
from tests.simulation.api import CROPS, Api, Temper
from tests.support import contract_of

ROWS = [{"id": number, "name": f"row {number}"} for number in range(1, 58)]
ROW = {"type": "object", "properties": {"id": {"type": "integer"}, "name": {"type": "string"}}}


def contract(queries: dict[str, dict[str, Any]], members: dict[str, Any] | None) -> Any:
    """A contract with one list: its query parameters, and the members beside its rows (None: a bare array)."""
    rows: dict[str, Any] = {"type": "array", "items": ROW}
    schema = rows if members is None else {"type": "object", "properties": {"items": rows, **members}}
    listed = {
        "parameters": [{"name": name, "in": "query", "schema": each} for name, each in queries.items()],
        "responses": {"200": {"description": "", "content": {"application/json": {"schema": schema}}}},
    }
    key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
    item = {"parameters": [key], "get": {"responses": {"200": {"description": ""}}}}
    paths = {"/things": {"get": listed}, "/things/{id}": item}
    return contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})


def read(
    answer: Callable[[Request], Any],
    queries: dict[str, dict[str, Any]],
    members: dict[str, Any] | None = None,
    most: int = 1000,
    door: Any = None,
) -> tuple[Listing, list[str]]:
    """The whole list that a handler serves, and the queries that were sent for it."""
    asked: list[str] = []

    async def things(request: Request) -> Response:
        asked.append(request.url.query)
        shown = answer(request)
        return shown if isinstance(shown, Response) else JSONResponse(shown)

    resource = infer(contract(queries, members)).resources[0]

    async def work(base_url: str) -> Listing:
        async with Session({}, {}, Limits()) as session:
            return await Client(session, base_url, resource, "public", door=door).whole_list(most)

    with Served(Starlette(routes=[Route("/things", things)])) as served:
        return asyncio.run(work(served.base_url)), asked


def number(request: Request, name: str, default: int) -> int:
    return int(request.query_params.get(name, default))


INTEGER = {"type": "integer"}
TOTAL = {"total": INTEGER}


class WholeLists(unittest.TestCase):
    def whole(self, listing: Listing) -> None:
        self.assertEqual([row["id"] for row in listing.rows], [row["id"] for row in ROWS])
        self.assertTrue(listing.complete, listing.partial)
        self.assertEqual(listing.repeated, ())

    def test_bare_array_without_paging(self) -> None:
        listing, asked = read(lambda request: ROWS, {})
        self.whole(listing)
        self.assertEqual(asked, [""])

    def test_pages_that_do_not_join_are_read_again_if_the_run_wrote_meanwhile(self) -> None:
        page = {"page": INTEGER, "size": {"type": "integer", "maximum": 50}}
        for writes, begun_before, readings in ((1, 0, 2), (9, 0, 3), (0, 0, 1), (0, 1, 3)):
            with self.subTest(writes=writes, begun_before=begun_before):
                door = mock.Mock()
                told = [begun_before, 0]  # writes that were sent, and those that have ended
                door.writes.side_effect = lambda table, told=told: tuple(told)
                torn = iter([True] * (writes or 9))

                def answer(request: Request, torn: Any = torn, told: list[int] = told, wrote: bool = writes > 0) -> Any:
                    start, shown = 50 * (number(request, "page", 1) - 1), ROWS
                    if start and next(torn, False):  # rows were removed since the page before was asked for
                        shown = ROWS[:-3]
                        told[:] = [each + wrote for each in told]
                    return {"items": shown[start : start + 50], "total": len(ROWS)}

                listing, asked = read(answer, page, TOTAL, door=door)
                self.assertEqual(len(asked), 2 * readings)
                self.assertEqual(len(listing.rows), len(ROWS) - (0 if writes == 1 else 3))

    def test_an_empty_list_may_be_no_content(self) -> None:
        listing, _ = read(lambda request: Response(status_code=204), {})
        self.assertEqual((listing.rows, listing.complete, listing.problem), ((), True, ""))

    def test_a_list_that_fails_is_told_from_one_that_is_refused(self) -> None:
        for status, shown, failed in ((500, None, True), (403, None, False), (200, {"data": {}}, True)):
            with self.subTest(status=status):
                listing, _ = read(lambda request, now=(shown, status): JSONResponse(*now), {}, {})
                self.assertTrue(listing.problem)
                self.assertEqual(listing.failed, failed)

    def test_a_list_that_says_that_there_is_more_is_not_taken_for_whole(self) -> None:
        for said in ({"total": 57}, {"pagination": {"pageCount": 3}}, {"info": {"page": {"hasNext": True}}}):
            with self.subTest(said=said):
                listing, _ = read(lambda request, said=said: {"items": ROWS[:5], "meta": said}, {}, {})
                self.assertFalse(listing.complete)
                self.assertEqual(listing.partial, "its answer says that there are more rows")
        listing, _ = read(
            lambda request: {"items": ROWS, "meta": {"total": len(ROWS), "pages": 1, "more": False}}, {}, {}
        )
        self.whole(listing)

    def test_offset_and_limit_with_a_total(self) -> None:
        def answer(request: Request) -> Any:
            start, size = number(request, "offset", 0), number(request, "limit", 5)
            return {"items": ROWS[start : start + size], "total": len(ROWS)}

        listing, asked = read(answer, {"limit": {"type": "integer", "maximum": 25}, "offset": INTEGER}, TOTAL)
        self.whole(listing)
        self.assertEqual(sorted(asked), ["limit=25", "limit=25&offset=25", "limit=25&offset=50"])

    def test_a_count_may_be_of_the_page_or_of_all_rows(self) -> None:
        def listed(counts: Callable[[list[Any]], int], largest: int = 20) -> Callable[[Request], Any]:
            def answer(request: Request) -> Any:
                query = request.query_params
                start = int(query.get("offset", 0))
                page = ROWS[start : start + min(largest, int(query.get("limit", 1000)))]
                return {"items": page, "count": counts(page)}

            return answer

        queries = {"limit": {"type": "integer"}, "offset": {"type": "integer"}}
        members = {"count": {"type": "integer"}}
        by_page, _ = read(listed(len), queries, members)
        self.assertEqual((len(by_page.rows), by_page.complete, by_page.total), (57, True, None))
        by_all, asked = read(listed(lambda page: 57), queries, members)
        self.assertEqual((len(by_all.rows), by_all.complete, by_all.total, len(asked)), (57, True, 57, 3))
        whole, asked = read(listed(lambda page: 57, 100), queries, members)
        self.assertEqual((len(whole.rows), whole.total, len(asked)), (57, 57, 2), "a page is asked for behind it")
        total, asked = read(listed(lambda page: 57, 100), queries, {**members, "next": {"type": "string"}})
        self.assertEqual((total.total, len(asked)), (57, 1), "beside a link to the next page it is of all")

    def test_skip_and_take_without_a_total_end_at_the_empty_page(self) -> None:
        def answer(request: Request) -> Any:
            start, size = number(request, "skip", 0), min(20, number(request, "take", 20))
            return ROWS[start : start + size]

        listing, asked = read(answer, {"take": INTEGER, "skip": INTEGER})
        self.whole(listing)
        self.assertEqual(len(asked), 4)

    def test_a_page_past_the_end_may_not_be_found(self) -> None:
        for members, shown, total in ((TOTAL, len(ROWS), len(ROWS)), (TOTAL, len(ROWS) - 1, len(ROWS)), ({}, 57, None)):
            with self.subTest(members=members, shown=shown):

                def answer(request: Request, shown: int = shown) -> Any:
                    at = 30 * (number(request, "page", 1) - 1)
                    if at >= shown:
                        return JSONResponse({"detail": "Invalid page."}, 404)
                    return {"items": ROWS[:shown][at : at + 30], "total": len(ROWS)}

                listing, _ = read(answer, {"page": INTEGER, "size": INTEGER}, members)
                self.assertEqual((listing.complete, len(listing.rows), listing.total), (True, shown, total))

    def test_pages_counted_from_zero_where_the_contract_says_so(self) -> None:
        def answer(request: Request) -> Any:
            page = number(request, "page", 0)
            return {"items": ROWS[page * 10 : page * 10 + 10], "total": str(len(ROWS))}

        queries = {"page": {"type": "integer", "minimum": 0}, "page_size": {"type": "integer", "maximum": 10}}
        listing, asked = read(answer, queries, {"total": {"type": "string"}})
        self.whole(listing)
        self.assertIn("page_size=10&page=5", asked)

    def test_next_links_relative_and_absolute(self) -> None:
        for absolute in (False, True):

            def answer(request: Request, absolute: bool = absolute) -> Any:
                start = number(request, "after", 0)
                link = f"/things?after={start + 15}" if start + 15 < len(ROWS) else None
                if link and absolute:
                    link = str(request.base_url).rstrip("/") + link
                return {"items": ROWS[start : start + 15], "next": link}

            listing, asked = read(answer, {}, {"next": {"type": ["string", "null"]}})
            self.whole(listing)
            self.assertEqual(len(asked), 4)

    def test_cursors_wherever_they_stand(self) -> None:
        text: dict[str, Any] = {"type": ["string", "null"]}
        cases: dict[str, tuple[str, dict[str, Any], Callable[[str | None], dict[str, Any]]]] = {
            "a token beside the rows": ("cursor", {"next_cursor": text}, lambda token: {"next_cursor": token}),
            "the key of the last row": ("after", {"endCursor": text}, lambda token: {"endCursor": token}),
            "a token where a link might be": ("page_token", {"next": text}, lambda token: {"next": token}),
            "in an object": (
                "starting_after",
                {"paging": {"type": "object", "properties": {"cursor": text}}},
                lambda token: {"paging": {"cursor": token} if token else {}},
            ),
        }
        for name, (parameter, members, told) in cases.items():

            def answer(request: Request, parameter: str = parameter, told: Any = told) -> Any:
                start = number(request, parameter, 0)
                end = min(start + number(request, "limit", 10), len(ROWS))
                return {"items": ROWS[start:end], **told(str(end) if end < len(ROWS) else None)}

            with self.subTest(cursor=name):
                queries = {"limit": {"type": "integer", "maximum": 20}, parameter: {"type": "string"}}
                listing, asked = read(answer, queries, members)
                self.whole(listing)
                self.assertEqual(len(asked), 3)
                self.assertIn(f"limit=20&{parameter}=40", asked)

    def test_a_link_that_holds_a_cursor_is_followed_as_it_is(self) -> None:
        for absolute in (False, True):

            def answer(request: Request, absolute: bool = absolute) -> Any:
                start = number(request, "cursor", 0)
                link = f"/things?cursor={start + 30}&size=30" if start + 30 < len(ROWS) else None
                if link and absolute:
                    link = str(request.base_url).rstrip("/") + link
                return {"items": ROWS[start : start + 30], "meta": {"next": link}}

            members = {"meta": {"type": "object", "properties": {"next": {"type": ["string", "null"]}}}}
            listing, asked = read(answer, {"cursor": {"type": "string"}}, members)
            self.whole(listing)
            self.assertEqual(asked, ["", "cursor=30&size=30"])

    def test_a_link_to_another_host_is_not_followed(self) -> None:
        listing, asked = read(
            lambda request: {"items": ROWS[:5], "next": "http://192.0.2.1/things?after=5"},
            {},
            {"next": {"type": "string"}},
        )
        self.assertFalse(listing.complete)
        self.assertEqual(len(asked), 1)

    def test_a_list_that_ignores_the_offset_is_not_taken_for_whole(self) -> None:
        listing, asked = read(
            lambda request: {"items": ROWS[:10], "total": 57}, {"limit": INTEGER, "offset": INTEGER}, TOTAL
        )
        self.assertFalse(listing.complete)
        self.assertIn("do not join", listing.partial)
        self.assertLess(len(asked), 10)

    def test_a_list_that_links_to_itself_ends(self) -> None:
        listing, asked = read(
            lambda request: {"items": ROWS[:10], "next": "/things"}, {}, {"next": {"type": "string"}}, 50
        )
        self.assertFalse(listing.complete)
        self.assertLess(len(asked), 10)

    def test_a_very_long_list_is_not_read_to_its_end(self) -> None:
        def answer(request: Request) -> Any:
            return {"items": ROWS[:20], "total": 1_000_000}

        listing, asked = read(answer, {"limit": INTEGER, "offset": INTEGER}, TOTAL, most=40)
        self.assertEqual((listing.complete, listing.total, len(asked)), (False, 1_000_000, 1))
        self.assertIn("over 40 rows", listing.partial)

    def test_a_key_twice_in_one_answer_is_told(self) -> None:
        listing, _ = read(lambda request: [*ROWS[:3], ROWS[0]], {})
        self.assertEqual(listing.repeated, ((1,),))

    def test_what_is_no_list_is_a_problem_in_words(self) -> None:
        cases = [({"items": "none"}, "no rows"), ({"message": "x"}, "no rows"), (None, "no rows"), ([1, 2], "no rows")]
        for body, words in cases:
            listing, _ = read(lambda request, body=body: body, {}, {})
            self.assertIn(words, listing.problem)
            self.assertFalse(listing.complete)


class Rows(unittest.TestCase):
    """Rows and keys in answers of many shapes."""

    def client(self, members: dict[str, Any] | None = None) -> Client:
        return Client(None, "http://127.0.0.1/v1/", infer(contract({}, members)).resources[0], "public")  # type: ignore[arg-type]

    def test_a_row_is_found_bare_wrapped_and_in_a_list(self) -> None:
        from checkpost.wire.exchange import Answer

        row = {"id": 7, "name": "x"}
        for body in (row, {"data": row}, {"data": {"thing": row}, "ok": True}, [row], {"result": [row]}):
            self.assertEqual(self.client().row_in(Answer(200, (), json.dumps(body).encode())), row)
        for body in (None, {"message": "done"}, [], "text", {"id": 7}):
            self.assertIsNone(self.client().row_in(Answer(200, (), json.dumps(body).encode())))

    def test_where_the_contract_has_a_row_it_may_lack_its_key(self) -> None:
        described = infer(contract_of(Api(Temper("sound", (CROPS,)), 1).contract())).resources[0]
        client = Client(None, "http://127.0.0.1/api", described, "public")  # type: ignore[arg-type]

        def answer(body: Any) -> Answer:
            return Answer(200, (("Content-Type", "application/json"),), json.dumps(body).encode())

        self.assertEqual(client.row_read(answer({"name": "x"})), {"name": "x"})
        self.assertIsNone(client.row_in(answer({"name": "x"})), "an answer to a write may be about something else")
        for no_row in ({}, {"id": 7}, {"message": "done"}, {"name": "x", "message": "done"}):
            self.assertIsNone(client.row_read(answer(no_row)), no_row)

    def test_the_key_of_a_new_row(self) -> None:
        from checkpost.wire.exchange import Answer

        client = self.client()
        client.session = mock.Mock(wrong_keys={client.resource.name: "create.stored"})
        self.assertEqual(client.new_key(Answer(201, (), b'{"id": 9, "name": "x"}'), {"id": 4}), (4,))
        client.session.wrong_keys = {}
        self.assertEqual(client.new_key(Answer(201, (), b'{"id": 9, "name": "x"}'), {}), (9,))
        self.assertEqual(client.new_key(Answer(201, (), b'{"id": 9}'), {}), (9,))
        self.assertEqual(client.new_key(Answer(200, (), b'{"data": {"id": 9}}'), {}), (9,))
        location = (("Location", "http://elsewhere/v1/things/12"),)
        self.assertEqual(client.new_key(Answer(201, location), {}), (12,))
        self.assertIsNone(client.new_key(Answer(201, (("Location", "/others/12"),)), {}))
        self.assertIsNone(client.new_key(Answer(200, (), b'{"ok": true}'), {"name": "x"}))
        self.assertEqual(client.new_key(Answer(201, (("Location", "12"),)), {}), (12,), "relative to the list")
        self.assertEqual(client.new_key(Answer(201, (), b"12"), {}), (12,))
        self.assertIsNone(client.new_key(Answer(201, (), b'"made"'), {}), "a text that says something")

    def test_urls_are_escaped(self) -> None:
        client = self.client()
        url = client.url(client.resource.operations["read"], ("a/b ü'",), {"q": "x&y"})
        self.assertEqual(url, "http://127.0.0.1/v1/things/a%2Fb%20%C3%BC%27?q=x%26y")


class Links(unittest.TestCase):
    def test_link_headers_as_rfc_8288_has_them(self) -> None:
        cases = {
            '</a?page=2>; rel="next"': "/a?page=2",
            "</a>; rel=prev, </b,c>; rel=next": "/b,c",
            '<http://x/a>; title="x; rel=next"; rel="last next"': "http://x/a",
            '</a>; rel="NEXT"': "/a",
            '</a>; rel="nextpage"': None,
            "no link": None,
        }
        for value, target in cases.items():
            with self.subTest(value=value):
                self.assertEqual(linked(Answer(200, (("Link", value),)), "next"), target)

    def test_several_link_headers(self) -> None:
        answer = Answer(200, (("link", "</a>; rel=first"), ("LINK", "</b>; rel=next")))
        self.assertEqual(linked(answer, "next"), "/b")
        self.assertIsNone(linked(Answer(200, ()), "next"))

    def test_a_next_page_that_nothing_describes(self) -> None:
        there = "http://127.0.0.1/lots?token=x"
        for headers, body, expected in (
            ((("Next-Page", there),), b"[]", there),
            ((("X-Next", there),), b"[]", there),
            ((("Next-Page", "2"),), b"[]", None),
            ((), b'{"meta": {"next": "/lots?page=2"}}', "/lots?page=2"),
            ((), b'{"next": null}', None),
        ):
            self.assertEqual(next_in(Answer(200, headers, body)), expected, (headers, body))

    def test_every_style_of_the_stand_in_is_read_whole(self) -> None:
        from checkpost.demo.server import InProcess
        from checkpost.demo.spellings import SPELLINGS
        from tests.support import CURATOR, ENVIRONMENT, fetch

        for spelling in SPELLINGS:
            with self.subTest(spelling=spelling), InProcess(spelling=spelling) as stand_in:
                with tempfile.TemporaryDirectory() as name:
                    url = stand_in.address.contract_url.replace(".yaml", ".json")
                    model = infer(read_contract(fetch(url, Path(name) / "c.json")))
                accessions = model.resource("accessions")
                assert accessions is not None

                async def work(resource: Resource, base_url: str) -> Listing:
                    async with Session({"curator": CURATOR}, ENVIRONMENT, Limits()) as session:
                        return await Client(session, base_url, resource, "curator").whole_list(1000)

                listing = asyncio.run(work(accessions, stand_in.address.base_url))
                self.assertTrue(listing.complete, listing.partial)
                self.assertEqual(sorted(key[0] for key in listing.by_key), list(range(1, 301)))
                self.assertEqual(len(listing.rows), 300)
                if spelling != "odata":
                    self.assertEqual(listing.total, 300)


if __name__ == "__main__":
    unittest.main()
