"""What pages say of themselves, in several ways of saying it: what is not true is found, and what is true is not."""

from __future__ import annotations

import json
import unittest
from collections.abc import Callable
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from checkpost.findings import Finding
from tests.support import run_direct

Json = dict[str, Any]
#: What is said of page ``number``, from 0, of ``count`` pages of ``size`` rows.
Says = Callable[[int, int, int], Json]
ROWS = [{"id": number, "name": f"row {number}"} for number in range(1, 15)]


def in_one(number: int, count: int, size: int) -> Json:
    """Beside the rows, pages counted from 1."""
    following = {"nextPage": number + 2 if number + 1 < count else None, "hasNextPage": number + 1 < count}
    return {"totalDocs": len(ROWS), "page": number + 1, "totalPages": count, "hasPrevPage": number > 0, **following}


def in_meta(number: int, count: int, size: int) -> Json:
    """In an object of their own, pages counted from 0."""
    ends = {"first": number == 0, "last": number + 1 == count}
    return {"page": {"pageNumber": number, "totalPages": count, "totalElements": len(ROWS), "size": size, **ends}}


def by_offset(number: int, count: int, size: int) -> Json:
    return {"meta": {"offset": number * size, "limit": size, "hasMore": number + 1 < count}}


#: What goes wrong in a way of saying it: what is said instead, and as what it is found.
WRONG: list[tuple[Says, str, str, Says]] = [
    (in_one, "The number of pages is wrong", "totalPages: 5", lambda n, c, s: {"totalPages": c + 1}),
    (in_one, "A page says wrongly whether others follow", "hasNextPage: true", lambda n, c, s: {"hasNextPage": True}),
    (in_one, "A page says wrongly whether there are pages before it", "", lambda n, c, s: {"hasPrevPage": n > 1}),
    (in_one, "A page says another number than its own", "page: 1", lambda n, c, s: {"page": 1}),
    (in_one, "The last page names a next one", "nextPage: 5", lambda n, c, s: {"nextPage": n + 2}),
    (in_one, "A page names another page as the next one", "nextPage: 2", lambda n, c, s: {"nextPage": 2}),
    (in_meta, "A page says wrongly whether it is the last", "", lambda n, c, s: {"last": False}),
    (in_meta, "A page says wrongly whether it is the first", "", lambda n, c, s: {"first": n < 2}),
    (in_meta, "The number of pages is wrong", "page.totalPages: 14", lambda n, c, s: {"totalPages": len(ROWS)}),
    (by_offset, "A page says another offset than was asked for", "meta.offset: 1", lambda n, c, s: {"offset": n}),
    (by_offset, "A page says wrongly whether others follow", "", lambda n, c, s: {"hasMore": n < c - 2}),
]


def found(says: Says, wrong: Says | None = None, headers: Says | None = None) -> list[Finding]:
    """What a run finds of a list whose pages say something."""
    offset = says is by_offset
    start = 1 if says is in_one else 0
    position, limit = ("offset", "limit") if offset else ("page", "size")

    async def things(request: Request) -> JSONResponse:
        try:
            size, at = int(request.query_params.get(limit, "50")), int(request.query_params.get(position, start))
            number = at // size if offset else at - start
        except (ValueError, ZeroDivisionError):
            return JSONResponse({"error": "refused"}, 400)
        if size < 1 or size > 50 or number < 0:
            return JSONResponse({"error": "refused"}, 400)
        count = -(-len(ROWS) // size)
        told = says(number, count, size)
        if wrong is not None:
            (told if says is in_one else next(iter(told.values()))).update(wrong(number, count, size))
        shown = headers(number, count, size) if headers is not None else {}
        first = at if offset else number * size
        return JSONResponse({"items": ROWS[first : first + size], **told}, headers=shown)

    row = {"type": "object", "properties": {"id": {"type": "integer"}, "name": {"type": "string"}}}
    members = {"items": {"type": "array", "items": row}}
    page = {"type": "object", "properties": {**members, **{each: {} for each in says(0, 1, 1)}}}
    sizes = {"type": "integer", "minimum": 1, "maximum": 50, "default": 50}
    positions = {"type": "integer", "minimum": 0 if offset else start, "default": 0 if offset else start}
    parameters = [
        {"name": limit, "in": "query", "schema": sizes},
        {"name": position, "in": "query", "schema": positions},
    ]
    answers = {"200": {"description": "a page", "content": {"application/json": {"schema": page}}}}
    listed = {"parameters": parameters, "responses": {**answers, "400": {"description": "refused"}}}
    contract = {"openapi": "3.1.0", "info": {"title": "Things", "version": "1"}, "paths": {"/things": {"get": listed}}}
    app = Starlette(routes=[Route("/things", things)])
    result = run_direct(contract, app, resources=("things",), families=("page",))
    asked = [each for each in result.checks if each.check == "page.says"]
    assert [each.outcome for each in asked] in (["passed"], ["failed"]), asked
    return result.findings


class PageSays(unittest.TestCase):
    def test_what_is_true_is_not_found(self) -> None:
        for says in (in_one, in_meta, by_offset):
            with self.subTest(says.__name__):
                self.assertEqual([(each.title, each.observed) for each in found(says)], [])

    def test_what_is_not_true_is_found_as_what_it_is(self) -> None:
        for says, title, observed, wrong in WRONG:
            with self.subTest(f"{says.__name__}: {title}"):
                [one] = found(says, wrong)
                self.assertEqual((one.check, one.title), ("page.says", title))
                self.assertIn(observed, one.observed)

    def test_headers_say_it_too(self) -> None:
        def headers(number: int, count: int, size: int) -> Json:
            return {"X-Total-Pages": str(count), "X-Page": str(number + 1), "X-Next-Page": ""}

        [one] = found(in_one, None, lambda n, c, s: {**headers(n, c, s), "X-Total-Pages": "1"})
        self.assertEqual((one.title, one.observed), ("The number of pages is wrong", "x-total-pages: 1"))

    def test_a_header_that_holds_an_object_says_it_too(self) -> None:
        def headers(number: int, count: int, size: int) -> Json:
            told = {"total": len(ROWS), "total_pages": count, "page": number + 1, "first_page": 1, "last_page": count}
            return {"X-Pagination": json.dumps(told)}

        self.assertEqual([each.title for each in found(by_offset, None, headers)], [])
        [one] = found(by_offset, None, lambda n, c, s: {"X-Pagination": json.dumps({"total": 15, "page": n + 1})})
        self.assertEqual((one.title, one.observed), ("The total is not the number of rows", "x-pagination.total: 15"))


class PagesOfNoStatedSize(unittest.TestCase):
    def titles(self, shown: Callable[[list[Json], int], list[Json]], usual: int = 50, says: bool = False) -> list[str]:
        """What a run finds of a list of which nothing says how long pages may be; ``shown`` has the rows that are left
        for a page, and its size, ``usual`` without one. It ``says`` its size beside the rows."""

        async def things(request: Request) -> JSONResponse:
            try:
                size, at = (
                    int(request.query_params.get(each, none)) for each, none in (("limit", usual), ("offset", 0))
                )
            except ValueError:
                return JSONResponse({"error": "refused"}, 400)
            if size < 1 or at < 0:
                return JSONResponse({"error": "refused"}, 400)
            rows = shown(ROWS[at:], size)
            return JSONResponse({"items": rows, "limit": size} if says else rows)

        row = {"type": "object", "properties": {"id": {"type": "integer"}, "name": {"type": "string"}}}
        many = {"type": "array", "items": row}
        page = {"type": "object", "properties": {"items": many, "limit": {"type": "integer"}}} if says else many
        answers = {"200": {"description": "", "content": {"application/json": {"schema": page}}}}
        parameters = [{"name": each, "in": "query", "schema": {"type": "integer"}} for each in ("limit", "offset")]
        listed = {"parameters": parameters, "responses": {**answers, "400": {"description": "refused"}}}
        contract = {
            "openapi": "3.1.0",
            "info": {"title": "Things", "version": "1"},
            "paths": {"/things": {"get": listed}},
        }
        app = Starlette(routes=[Route("/things", things)])
        result = run_direct(contract, app, resources=("things",), families=("page",))
        return [each.title for each in result.findings]

    def test_pages_that_are_cut_off_are_no_departure(self) -> None:
        self.assertEqual(self.titles(lambda left, size: left[:size]), [])
        self.assertEqual(self.titles(lambda left, size: left[: min(size, 3)]), [])

    def test_a_page_without_a_size_is_as_long_as_it_says(self) -> None:
        for lacking, title in ((0, []), (2, ["A page does not hold as many rows as it says"])):
            shown = self.titles(lambda left, size: left[: size - lacking * (size == 6)], 6, True)  # noqa: B023
            self.assertEqual(shown, title)

    def test_pages_that_lack_a_row_are_one(self) -> None:
        self.assertIn(
            "A page holds fewer rows than were asked for",
            self.titles(lambda left, size: left[:size] if size > len(ROWS) else left[: size - 1]),
        )


if __name__ == "__main__":
    unittest.main()
