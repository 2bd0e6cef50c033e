"""What is wrong with APIs beyond the stand-in's defects."""

from __future__ import annotations

import asyncio
import copy
import json
import unittest
from dataclasses import replace
from typing import Any

from starlette.applications import Starlette
from starlette.middleware.base import BaseHTTPMiddleware
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.findings import Finding
from tests.books import PLAIN, Kept, Restoring, Silent, Together, run_on, told
from tests.foreign import Json, Library, Style
from tests.support import run_direct


def _with_bulk(contract: Json, path: str) -> Json:
    new, books = ({"type": "array", "items": {"$ref": f"#/components/schemas/{each}"}} for each in ("NewBook", "Book"))
    content = {"content": {"application/json": {"schema": new}}}
    made = {"description": "", "content": {"application/json": {"schema": books}}}
    answers = {"201": made, "409": {"description": ""}, "422": {"description": ""}}
    contract["paths"][path + "/bulk"] = {"post": {"requestBody": content, "responses": answers}}
    return contract


class Many(Kept):
    """Many books at once, answered in the order of their keys."""

    def contract(self) -> Json:
        return _with_bulk(super().contract(), self.path)

    def made(self, number: int) -> list[int]:
        return sorted(self.books)[-number:]

    async def create_many(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, Response):
            return body
        if not isinstance(body, list) or any(self.broken(each, False) for each in body):
            return self.refused(422)
        if any(each[self.outer("author_id")] not in self.authors for each in body):
            return self.refused(409)
        for each in body:
            self.last += 1
            self.books[self.last] = {"id": self.last, "in_print": True, "subtitle": None, **self.taken(each)}
        return JSONResponse([self.shown(self.books[key]) for key in self.made(len(body))], 201)

    def app(self) -> Starlette:
        app = super().app()
        app.router.routes.insert(0, Route(self.path + "/bulk", self.create_many, methods=["POST"]))
        return app


class Cut(Many):
    """A list that shows sixty of its books, and does not say that there are more: ``says`` does."""

    says: str = ""

    def contract(self) -> Json:
        contract = super().contract()
        if self.says:
            listed = contract["paths"][self.path]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
            listed["properties"][self.says] = {"type": "boolean"}
        return contract

    async def listed(self, request: Request) -> Response:
        shown = json.loads(bytes((await super().listed(request)).body))
        rows = self.style.rows
        more = {self.says: len(shown[rows]) > 60} if self.says else {}
        return JSONResponse({**shown, rows: shown[rows][:60], **more})


class CutAndSaid(Cut):
    says = "truncated"


class ByMany(Library):
    """A book has authors besides, one at the least, which its contract does not say."""

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"]["authors"] = {"type": "array", "items": {"type": "integer"}}
        schema["required"] = [*schema.get("required", ()), *(["authors"] if required else [])]
        return schema

    def shown(self, book: Json) -> Json:
        return {**super().shown(book), "authors": book.get("authors", [1])}

    def taken(self, body: Json) -> Json:
        return {**super().taken(body), **({"authors": body["authors"]} if "authors" in body else {})}

    def broken(self, body: Any, partial: bool) -> bool:
        several = body.get("authors", [1] if partial else None) if isinstance(body, dict) else None
        fits = isinstance(several, list) and all(type(each) is int and each in self.authors for each in several)
        return not fits or super().broken(body, partial)

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and body.get("authors") == []:
            return JSONResponse({"authors": ["This list may not be empty."]}, 422)
        return await super().create(request)


class Forking(Library):
    """A change makes a book of what is sent, and leaves the one that was meant."""

    async def item(self, request: Request) -> Response:
        key = self.key_of(request)
        before = copy.deepcopy(self.books.get(key))
        answer = await super().item(request)
        if request.method != "PATCH" or answer.status_code != 200 or before is None:
            return answer
        changed = {name: value for name, value in self.books[key].items() if before[name] != value}
        self.last += 1
        empty = {**dict.fromkeys(before), "title": "", "author_id": 1, "pages": 1, "price": 0, "in_print": True}
        self.books[key], self.books[self.last] = before, {**empty, "printed_at": before["printed_at"], **changed}
        self.books[self.last]["id"] = self.last
        return JSONResponse(self.shown(self.books[self.last]))


class PostedOn(Library):
    """A POST to a book makes another."""

    async def item(self, request: Request) -> Response:
        return await (self.create(request) if request.method == "POST" else super().item(request))


class OneAtATime(Library):
    """Of a change of several fields the first is stored."""

    def broken(self, body: Any, partial: bool) -> bool:
        if partial and isinstance(body, dict) and len(body) > 1 and not super().broken(body, True):
            for name in list(body)[1:]:
                del body[name]
        return super().broken(body, partial)


class Reckoning(Library):
    """How long a book takes is told by its pages, though a record may hold a span of its own, in digits: no row shows
    that."""

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"]["span"] = {"type": ["string", "null"]}
        return schema

    def shown(self, book: Json) -> Json:
        return {**super().shown(book), "span": f"{book['pages']} minutes" if book["id"] > 1000 else None}

    def digits(self, body: Any) -> bool:
        span = body.get("span") if isinstance(body, dict) else None
        return span is None or (isinstance(span, str) and span.isdigit())

    async def create(self, request: Request) -> Response:
        if not self.digits(await self.body(request)):
            return JSONResponse({"span": ["This is no number of minutes."]}, 422)
        return await super().create(request)

    async def item(self, request: Request) -> Response:
        if request.method in {"PUT", "PATCH"} and not self.digits(await self.body(request)):
            return JSONResponse({"span": ["This is no number of minutes."]}, 422)
        return await super().item(request)


class LosesAtTheSeam(Library):
    """The first page lacks its last row where no size is asked for."""

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        if request.query_params or answer.status_code != 200:
            return answer
        shown = json.loads(bytes(answer.body))
        return JSONResponse({**shown, self.style.rows: shown[self.style.rows][:-1]})


class LosesWhileOthersWrite(LosesAtTheSeam):
    """A row of somebody else comes when the list is first asked for without a size."""

    came = False

    async def listed(self, request: Request) -> Response:
        if not (self.came or request.query_params):
            self.came = True
            self.books[900] = {**next(iter(self.books.values())), "id": 900}
        return await super().listed(request)


class LacksOneAlone(Library):
    """A list that is not asked for a size is whole but for its last row; ``usual`` ends it at so many."""

    usual: int | None = None

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        if "take" in request.query_params or answer.status_code != 200:
            return answer
        every = [self.shown(book) for book in self.books.values()]
        return JSONResponse({self.style.rows: every[: self.usual or len(every) - 1]})


class TenAtOnce(LacksOneAlone):
    usual = 10


class Shuffled(Many):
    """Many books at once are answered in the order of their keys, the last one first."""

    def made(self, number: int) -> list[int]:
        return super().made(number)[::-1]


class Bare(Library):
    """A record without a subtitle is stored, and can be shown neither alone nor in the list; the largest key is given
    again."""

    async def create(self, request: Request) -> Response:
        self.last = max(self.books, default=0)
        answer = await super().create(request)
        if answer.status_code < 300 and "subtitle" not in await request.json():
            self.books[max(self.books)]["unshown"] = True
            return self.refused(500)
        return answer

    async def listed(self, request: Request) -> Response:
        bad = request.method == "GET" and any("unshown" in each for each in self.books.values())
        return self.refused(500) if bad else await super().listed(request)

    async def item(self, request: Request) -> Response:
        bad = request.method != "DELETE" and "unshown" in self.books.get(self.key_of(request), {})
        return self.refused(500) if bad else await super().item(request)


class Masking(Library):
    """A text is kept as it is sent, and never shown."""

    def shown(self, book: Json) -> Json:
        shown = super().shown(book)
        return {**shown, "subtitle": shown["subtitle"] and "**********"}


class Wanting(Library):
    """A record has to say whose it is, which the contract has in none: rows show it, and a refusal (403) names it."""

    def contract(self) -> Json:
        contract = super().contract()
        for name in ("Book", "NewBook", "BookChange"):
            schema = contract["components"]["schemas"][name]
            del schema["properties"]["author_id"]
            schema["required"] = [each for each in schema.get("required", ()) if each != "author_id"]
        return contract

    def broken(self, body: Any, partial: bool) -> bool:
        return super().broken({"author_id": 1, **body} if isinstance(body, dict) else body, partial)

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and "author_id" not in body:
            return JSONResponse({"detail": "Field(s): author can't be null."}, 403)
        return await super().create(request)


class Choosy(Library):
    """A create fails where a record's own words do not stand in rows already."""

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        known = {book["title"] for book in self.books.values()}
        if isinstance(body, dict) and body.get("title") not in known:
            return self.refused(500)
        return await super().create(request)


class Lenient(Library):
    """What cannot be a key is answered with the list."""

    async def item(self, request: Request) -> Response:
        return await (super().item(request) if request.path_params["key"].isdigit() else self.listed(request))


class Leaky(Library):
    """Rows hold more than the contract names."""

    extra = "row_version"

    def shown(self, book: Json) -> Json:
        return {**super().shown(book), self.extra: "x", "_links": {"self": f"/api/books/{book['id']}"}}


class Partial(Library):
    """A refused update changes the row all the same."""

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        if request.method == "PATCH" and answer.status_code == 422:
            self.books[self.key_of(request)]["subtitle"] = "half done"
        return answer


class Greedy(Library):
    """Deleting one row takes another with it."""

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        if request.method == "DELETE" and answer.status_code == 204:
            self.books.pop(min(self.books))
        return answer


class Sequel(Library):
    """A key with a quote in it reaches the database as it is."""

    async def item(self, request: Request) -> Response:
        if "'" in request.path_params["key"]:
            return JSONResponse({"error": 'near "\'": syntax error at or near'}, 400)
        return await super().item(request)


class Miscounting(Library):
    """The total counts rows that are not there."""

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        body = json.loads(answer.body)
        if "total" in body:
            body["total"] += 3
        return JSONResponse(body, answer.status_code)


class Repeating(Library):
    """Each page but the first begins with a row of the one before."""

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        body = json.loads(bytes(answer.body))
        text = request.query_params.get("skip", "0")
        if text.startswith("-"):
            return self.refused(400)
        start = int(text) if text.isdigit() else 0
        if start and body.get("results"):
            body["results"] = [self.shown(list(self.books.values())[start - 1]), *body["results"][:-1]]
        return JSONResponse(body, answer.status_code)


class Endless(Library):
    """Past the end, the last page is served again."""

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        body = json.loads(bytes(answer.body))
        if "results" in body and not body["results"]:
            body["results"] = [self.shown(book) for book in list(self.books.values())[-3:]]
        return JSONResponse(body, answer.status_code)


class Stubborn(Library):
    """The size that is asked for is ignored, though the contract describes it."""

    async def listed(self, request: Request) -> Response:
        text = request.query_params.get("skip", "0")
        if text.startswith("-"):
            return self.refused(400)
        start = int(text) if text.isdigit() else 0
        books = list(self.books.values())
        return JSONResponse({"results": [self.shown(book) for book in books[start:]], "total": len(books)})


class Overloaded(Library):
    """A change fails while another one is under way, as a file that is locked does."""

    under_way = 0

    async def item(self, request: Request) -> Response:
        if request.method != "PATCH":
            return await super().item(request)
        self.under_way += 1
        try:
            await asyncio.sleep(0.02)
            return self.refused(500) if self.under_way > 1 else await super().item(request)
        finally:
            self.under_way -= 1


class Locked(Library):
    """Any write fails while another one is under way: the database is locked."""

    under_way = 0

    async def alone(self, request: Request, work: Any) -> Response:
        if request.method == "GET":
            return await work(request)  # type: ignore[no-any-return]
        self.under_way += 1
        try:
            await asyncio.sleep(0.005)
            return self.refused(500) if self.under_way > 1 else await work(request)
        finally:
            self.under_way -= 1

    async def item(self, request: Request) -> Response:
        return await self.alone(request, super().item)

    async def create(self, request: Request) -> Response:
        return await self.alone(request, super().create)


class Narrow(Library):
    """Pages have to lie in a range that only the rows show, and a refusal says so."""

    def broken(self, body: Any, partial: bool) -> bool:
        return super().broken(body, partial) or not 0 <= body.get("pages", 1) <= 2000


class Taking(Library):
    """A create that names the key of a row changes that row."""

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and not self.broken(body, False) and body.get("id") in self.books:
            book = self.books[body["id"]]
            book.update(self.taken(body))
            return self.done(self.style.create, book, self.style.create_status)
        return await super().create(request)


class Poisoned(Library):
    """A record that is refused is stored all the same, and the list cannot show it."""

    poison = False

    async def create(self, request: Request) -> Response:
        answer = await super().create(request)
        if answer.status_code == 422:
            self.poison = True
            return self.refused(500)
        return answer

    async def listed(self, request: Request) -> Response:
        return self.refused(500) if self.poison else await super().listed(request)


class Halved(Library):
    """Half of a character is stored, and neither its row nor a list with it can be shown."""

    async def create(self, request: Request) -> Response:
        before = set(self.books)
        answer = await super().create(request)
        return answer if self.can_be_shown(set(self.books) - before) else self.refused(500)

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        return answer if self.can_be_shown({self.key_of(request)}) else self.refused(500)

    async def listed(self, request: Request) -> Response:
        return await super().listed(request) if self.can_be_shown(set(self.books)) else self.refused(500)

    def can_be_shown(self, keys: set[Any]) -> bool:
        return not any("\ud83c" in self.books[key]["title"] for key in keys & self.books.keys())


class Mistyped(Halved):
    """Pages that are no number are stored, and neither their row nor a list with it can be shown."""

    def broken(self, body: Any, partial: bool) -> bool:
        given = isinstance(body, dict) and "pages" in body
        return super().broken({**body, "pages": 10} if given else body, partial)

    def can_be_shown(self, keys: set[Any]) -> bool:
        return all(isinstance(self.books[key]["pages"], int) for key in keys & self.books.keys())


class Beside(Library):
    """What is about the whole, and what does something though it is asked by GET."""

    asked: list[str]

    def contract(self) -> Json:
        contract = super().contract()
        count = {"type": "object", "required": ["books"], "properties": {"books": {"type": "integer"}}}
        answers = {"200": {"description": "ok", "content": {"application/json": {"schema": count}}}}
        need = [{"name": "year", "in": "query", "required": True, "schema": {"type": "integer"}}]
        contract["paths"] |= {
            "/api/summary": {"get": {"responses": answers}},
            "/api/cache/clear": {"get": {"responses": answers}},
            "/api/report": {"get": {"parameters": need, "responses": answers}},
            "/api/books/by-title/{title}": {
                "parameters": [{"name": "title", "in": "path", "required": True, "schema": {"type": "string"}}],
                "get": {"responses": answers},
            },
        }
        return contract

    def app(self) -> Any:
        self.asked = []
        app = super().app()

        async def whole(request: Request, call: Any) -> Response:
            if request.url.path in {"/api/summary", "/api/cache/clear", "/api/report"}:
                self.asked.append(request.url.path)
                return JSONResponse({"books": "many"})
            if request.url.path.startswith("/api/books/by-title/"):
                self.asked.append("by " + request.url.path.rpartition("/")[2])
                return JSONResponse({"books": "one"})
            answer: Response = await call(request)
            return answer

        app.add_middleware(BaseHTTPMiddleware, dispatch=whole)
        return app


class Viewed(Library):
    """Reading a book counts it, and nobody can make one."""

    def contract(self) -> Json:
        contract = super().contract()
        for path, item in contract["paths"].items():
            for method in ("post", "put", "patch", "delete") if "books" in path else ():
                item.pop(method, None)
        return contract

    def app(self) -> Any:
        app = super().app()

        async def counted(request: Request, call: Any) -> Response:
            answer: Response = await call(request)
            key = request.url.path.rpartition("/")[2]
            if request.method == "GET" and key.isdigit() and int(key) in self.books:
                self.books[int(key)]["pages"] += 1
            return answer

        app.add_middleware(BaseHTTPMiddleware, dispatch=counted)
        return app


class Unbounded(Library):
    """A negative position begins at the first row; ``words`` may say so."""

    words = ""

    def contract(self) -> Json:
        contract = super().contract()
        for each in contract["paths"][self.path]["get"]["parameters"]:
            if each["name"] == "skip":
                each["description"] = self.words
        return contract

    async def listed(self, request: Request) -> Response:
        if request.query_params.get("skip", "").startswith("-"):
            request.scope["query_string"] = b"take=" + request.query_params.get("take", "10").encode()
            request = Request(request.scope)
        return await super().listed(request)


class Misnaming(Library):
    """Each create is answered with one key."""

    answered = 0

    def done(self, kind: str, book: Json, status: int, made: bool = False) -> Response:
        return JSONResponse({"id": self.answered}, status) if made else super().done(kind, book, status)


class Unshowable(Library):
    """A record without its pages is taken, and neither it nor the list can be shown then."""

    removes = True

    def broken(self, body: Any, partial: bool) -> bool:
        missing = isinstance(body, dict) and "pages" not in body
        return super().broken({"pages": 10, **body} if missing else body, partial)

    async def listed(self, request: Request) -> Response:
        if any("pages" not in each for each in self.books.values()):
            return self.refused(500)
        return await super().listed(request)

    async def item(self, request: Request) -> Response:
        book = self.books.get(self.key_of(request))
        if book is not None and "pages" not in book and not (self.removes and request.method == "DELETE"):
            return self.refused(500)
        return await super().item(request)


class Brittle(Library):
    """An odd title crashes a create, and capitals within words of subtitles are lost."""

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and not str(body.get("title", "Sample")).startswith("Sample"):
            return JSONResponse({"error": "internal"}, 500)
        return await super().create(request)

    def taken(self, body: Json) -> Json:
        values = super().taken(body)
        return values | ({"subtitle": values["subtitle"].replace("MiXeD", "Mixed")} if values.get("subtitle") else {})


class Fixed(Library):
    """No change is accepted, whatever it is."""

    async def item(self, request: Request) -> Response:
        return self.refused(422) if request.method == "PATCH" else await super().item(request)


class Single(Library):
    """A column that is not shown has to be unique, and has the same value in each new row."""

    def __init__(self, style: Style) -> None:
        super().__init__(style)
        self.before = set(self.books)

    async def create(self, request: Request) -> Response:
        if set(self.books) - self.before:
            return JSONResponse({"error": "internal"}, 500)
        return await super().create(request)


class Faults(unittest.TestCase):
    def test_what_a_record_has_to_have_and_no_contract_says(self) -> None:
        library = Wanting(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual({each.title for each in told(result)}, {"Rows hold fields that are not documented"})
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertLessEqual({"create.stored", "update.each-field", "delete.gone"}, passed)
        self.assertEqual((library.books, result.left), (before, ()))

    def test_creates_that_fail_for_their_values_do_not_fail_by_load(self) -> None:
        result = run_on(Choosy(PLAIN))
        checks = {each.check for each in told(result)}
        self.assertNotIn("errors.load", checks)
        failing = [each for each in told(result) if each.check == "errors.server-error"]
        self.assertIn("a valid record", [words for each in failing for words in each.subjects])

    def test_a_malformed_key_that_is_answered_with_the_list(self) -> None:
        self.assertEqual([each.title for each in told(run_on(Lenient(PLAIN)))], ["A malformed key returns the list"])

    def found(self, library: Library, style_checks: set[str]) -> list[Finding]:
        findings = told(run_on(library))
        self.assertEqual({each.check for each in findings}, style_checks, [(e.title, e.observed) for e in findings])
        return findings

    def test_undocumented_fields(self) -> None:
        one = self.found(Leaky(PLAIN), {"shape.fields"})
        self.assertEqual([(each.severity, each.subjects) for each in one], [("warning", ("row_version",))])
        secret = Leaky(PLAIN)
        secret.extra = "password_hash"
        self.assertEqual([each.severity for each in self.found(secret, {"shape.fields"})], ["error"])

    def test_refused_update_that_changes_the_row(self) -> None:
        one = self.found(Partial(PLAIN), {"update.rules"})
        self.assertEqual(one[0].title, "A refused update changes the row")
        self.assertIn("subtitle", one[0].subjects)

    def test_delete_that_takes_others(self) -> None:
        findings = told(run_on(Greedy(PLAIN, 60)))
        self.assertIn("delete.other-rows", {each.check for each in findings})

    def test_create_that_always_fails_is_one_finding(self) -> None:
        result = run_on(Silent(PLAIN))
        self.assertEqual([each.check for each in told(result)], ["errors.server-error"])
        reasons = {each.reason for each in result.checks if each.outcome == "blocked"}
        self.assertEqual(len(reasons), 1)
        self.assertIn("500", reasons.pop())

    def test_a_create_that_fails_and_spoils_the_list(self) -> None:
        result = run_on(Poisoned(PLAIN))
        titles = {each.title: each for each in told(result)}
        spoilt = titles["A create fails, and the list fails since"]
        self.assertEqual(spoilt.observed, "500, since a create that answered 500")
        after = [
            each for each in result.exchanges if each.number > spoilt.exchanges[1] and each.request.method == "POST"
        ]
        self.assertLess(len(after), 20, "no more rows are made then")

    def test_negative_positions_that_are_taken(self) -> None:
        style = replace(PLAIN, paging="skip", rows="results", total="count")
        [finding] = told(run_on(Unbounded(style)))
        self.assertEqual(finding.title, "A negative size or position is accepted")
        self.assertEqual((finding.basis, finding.severity, finding.subjects), ("expectation", "warning", ("skip",)))
        library = Unbounded(style)
        library.words = "Rows to pass over; -1 begins at the first."
        self.assertEqual(told(run_on(library)), [])

    def test_one_change_that_reaches_some_of_its_keys(self) -> None:
        library = Together(PLAIN)
        library.reached = 2
        [finding] = told(run_on(library))
        self.assertEqual((finding.check, finding.title), ("bulk.update", "Bulk update does not store all changes"))

    def test_rows_that_are_restored_wrongly(self) -> None:
        for fault, title in (
            ("refused", "Restoring a deleted row is refused with 404"),
            ("nothing", "A restored row is not there"),
            ("forgets", "A restored row is not as it was"),
            ("hides", "A restored row is not in the list"),
        ):
            with self.subTest(fault=fault):
                library = Restoring(PLAIN)
                library.fault = fault
                before = copy.deepcopy(library.books)
                result = run_on(library)
                outcomes = [(each.outcome, each.reason) for each in result.checks if each.check == "delete.restored"]
                self.assertEqual([each.title for each in told(result)], [title], outcomes)
                self.assertEqual((library.books, result.left), (before, ()))

    def test_creates_that_are_answered_with_another_key(self) -> None:
        for key in (0, 3):  # of no row, and of a row of others
            library = Misnaming(replace(PLAIN, create="key"))
            library.answered = key
            before = copy.deepcopy(library.books)
            result = run_on(library)
            self.assertEqual((library.books, result.left), (before, ()))
            [finding] = told(result)
            self.assertEqual(finding.title, "A create is answered with another key than its row has")
            self.assertEqual(finding.observed, str(key))
            outcomes = {each.check: each.outcome for each in result.checks if each.resource == "books"}
            self.assertEqual((outcomes["update.each-field"], outcomes["create.awkward-values"]), ("passed", "passed"))

    def test_a_row_that_is_never_shown_is_removed_by_the_key_that_its_create_gave(self) -> None:
        library = Unshowable(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left), (before, ()))
        titles = {each.title for each in told(result)}
        self.assertLessEqual(
            {"A record without a required field is accepted", "A create is accepted, and the list fails since"}, titles
        )

    def test_of_rows_that_are_neither_shown_nor_removed_one_is_made_and_named(self) -> None:
        library = Unshowable(PLAIN)
        library.removes = False
        before = copy.deepcopy(library.books)
        result = run_on(library)
        [key] = set(library.books) - set(before)
        self.assertEqual([(each.table, each.key) for each in result.left], [("books", (key,))])
        self.assertIn("DELETE answers 500", result.left[0].why)
        self.assertEqual({name: library.books[name] for name in before}, before)

    def test_a_value_that_cannot_be_shown_is_tried_where_its_row_can_be_removed(self) -> None:
        library = Halved(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_direct(library.contract(), library.app(), resources=("books",))
        titles = {each.title: each for each in told(result)}
        kinds = {each.partition(":")[0] for each in titles}
        self.assertEqual(kinds, {"A value makes a row unreadable"}, "what fails for it is told by that")
        self.assertEqual(titles["A value makes a row unreadable"].operations, (("PATCH", "/api/books/{id}"),))
        self.assertEqual((library.books, result.left), (before, ()))
        halves = [each for each in result.exchanges if b"\\ud83c" in (each.request.body or b"")]
        self.assertEqual({each.request.method for each in halves}, {"PATCH"}, "no row is made with it")

    def test_a_wrong_type_that_cannot_be_shown_is_tried_where_its_row_can_be_mended(self) -> None:
        library = Mistyped(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left), (before, ()))
        titles = {each.title: each for each in told(result)}
        left = titles["An update that fails leaves a row that cannot be read"]
        self.assertIn("pages breaking type", left.subjects)
        self.assertEqual(left.observed, "500, and 500 for the row since")
        wrong = [each for each in result.exchanges if b'"pages": "not a number"' in (each.request.body or b"")]
        self.assertEqual({each.request.method for each in wrong} - {"PATCH", "PUT"}, set(), "no row is made with it")

    def test_what_belongs_to_no_table_is_asked_once(self) -> None:
        library = Beside(PLAIN)
        result = run_on(library, resources=())
        one = [each for each in told(result) if ("GET", "/api/summary") in each.operations]
        self.assertEqual([(each.check, each.observed) for each in one], [("shape.body", 'books = "many"')])
        [by_title] = [each for each in library.asked if each != "/api/summary"]
        self.assertTrue(by_title.startswith("by ") and len(by_title) > 3, "a row's own title")
        self.assertEqual(sorted(library.asked), ["/api/summary", by_title])
        self.assertIn(("GET", "/api/books/by-title/{title}"), one[0].operations)

    def test_reading_that_changes_the_rows_of_others_is_tried_on_one_of_them(self) -> None:
        library = Viewed(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        [one] = told(result)
        self.assertEqual((one.title, one.subjects), ("Reading a row changes it", ("pages",)))
        changed = [key for key, book in library.books.items() if book != before[key]]
        self.assertEqual(len(changed), 1, changed)
        readings = library.books[changed[0]]["pages"] - before[changed[0]]["pages"]
        self.assertEqual(readings, 3, "it is read twice, once more to be sure, and never again")
        self.assertEqual([each.key for each in result.harmed], [(changed[0],)])

    def test_what_fails_for_its_load_alone_is_one_finding(self) -> None:
        for kind in (Overloaded, Locked):
            library = kind(PLAIN)
            before = copy.deepcopy(library.books)
            result = run_on(library)
            [load] = told(result)
            self.assertEqual((load.check, load.severity), ("errors.load", "warning"))
            self.assertIn("and not when asked alone; writes were sent one at a time from then on", load.observed)
            outcomes = {each.check: each.outcome for each in result.checks}
            # writes are sent one at a time from then on: all that needs one at a time goes on
            self.assertEqual(outcomes["concurrency.unique"], "skipped")
            for check in ("create.awkward-values", "update.rules", "delete.gone"):
                self.assertEqual(outcomes[check], "passed", (kind, check))
            self.assertEqual((library.books, result.left), (before, ()))

    def test_rows_of_a_bulk_answer_are_told_by_their_values(self) -> None:
        library = Shuffled(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual([each.title for each in told(result)], ["A bulk request is answered in another order"])
        self.assertEqual((library.books, result.left), (before, ()))

    def test_a_change_that_makes_another_row(self) -> None:
        library = Forking(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual([each.title for each in told(result)], ["A change is answered with another row"])
        self.assertEqual((library.books, result.left), (before, ()))

    def test_a_post_to_a_row_that_makes_another_says_nothing_of_changes(self) -> None:
        library = PostedOn(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual([each.check for each in told(result)], ["errors.method-not-offered"])
        self.assertEqual((library.books, result.left), (before, ()))
        outcomes = {each.check: each.outcome for each in result.checks}
        self.assertEqual((outcomes["update.each-field"], outcomes["replace.stored"]), ("passed", "passed"))

    def test_a_list_of_references_that_may_not_be_empty_is_given_one(self) -> None:
        library = ByMany(PLAIN)
        library.books.clear()  # no row tells one
        before = copy.deepcopy(library.books)
        result = run_on(library, resources=("books", "authors"))
        self.assertEqual([each.title for each in told(result)], [])
        self.assertEqual((library.books, result.left), (before, ()))
        passed = {each.check for each in result.checks if each.resource == "books" and each.outcome == "passed"}
        self.assertIn("create.stored", passed)

    def test_of_several_fields_that_are_changed_at_once_one_is_stored(self) -> None:
        [lost] = self.found(OneAtATime(PLAIN), {"update.each-field"})
        self.assertEqual(lost.title, "Update returns success but does not store the value")

    def test_a_field_that_the_api_reckons_is_no_value_that_changed(self) -> None:
        library = Reckoning(PLAIN)
        library.last = 1000
        self.assertEqual([each.title for each in told(run_on(library))], [])

    def test_a_first_page_that_lacks_a_row_where_no_size_is_asked_for(self) -> None:
        [link] = self.found(LosesAtTheSeam(replace(PLAIN, paging="next")), {"page.next-link"})
        self.assertEqual(link.observed, "1 rows missing, 0 twice")
        [link] = self.found(LosesWhileOthersWrite(replace(PLAIN, paging="next")), {"page.next-link"})
        self.assertEqual(link.observed, "1 rows missing, 0 twice")

    def test_a_list_that_lacks_a_row_where_no_size_is_asked_for(self) -> None:
        untold = replace(PLAIN, paging="skip", total="")
        for kind, titles in ((LacksOneAlone, ["A list leaves out rows where no size is asked for"]), (TenAtOnce, [])):
            found = [each.title for each in told(run_on(kind(untold))) if each.check == "page.default-size"]
            self.assertEqual(found, titles)

    def test_a_list_that_is_cut_and_does_not_say_so(self) -> None:
        unpaged = replace(PLAIN, paging="", total="")
        for kind, titles in ((Cut, ["A list leaves out rows, and does not say so"]), (CutAndSaid, [])):
            library = kind(unpaged)
            before = copy.deepcopy(library.books)
            result = run_on(library)
            self.assertEqual([each.title for each in told(result)], titles)
            self.assertEqual((library.books, result.left), (before, ()))
            self.assertIn("bulk.large", {each.check for each in result.checks if each.outcome in {"passed", "failed"}})

    def test_a_row_that_cannot_be_shown_and_breaks_its_list_is_removed_at_once(self) -> None:
        library = Bare(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left, result.harmed), (before, (), ()))
        titles = [each.title for each in told(result)]
        self.assertIn("A create fails, and the list fails since", titles)
        self.assertNotIn("Requests fail while others are under way", titles)
        outcomes = {each.check: each.outcome for each in result.checks}
        self.assertEqual((outcomes["update.each-field"], outcomes["delete.gone"]), ("passed", "passed"), "it goes on")

    def test_a_text_that_is_shown_masked_is_not_lost(self) -> None:
        self.assertEqual(told(run_on(Masking(PLAIN))), [])

    def test_a_create_that_changes_the_row_whose_key_it_names(self) -> None:
        library = Taking(PLAIN)
        before = copy.deepcopy(library.books)
        [one] = self.found(library, {"create.taken-key"})
        self.assertIn("of the row that was there changed", one.observed)
        self.assertEqual(library.books, before)

    def test_values_like_those_in_the_rows_are_taken(self) -> None:
        result = run_on(Narrow(PLAIN))
        self.assertEqual([each.subjects for each in told(result)], [("pages (the greatest value)",)])
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertLessEqual({"create.stored", "update.each-field", "replace.stored"}, passed)

    def test_statement_in_an_error(self) -> None:
        one = self.found(Sequel(PLAIN), {"errors.leak"})
        self.assertEqual(one[0].operations, (("GET", "/api/books/{id}"),))

    def test_total_that_counts_others(self) -> None:
        style: Style = replace(PLAIN, paging="skip")
        self.found(Miscounting(style), {"read.total"})

    def paged(self, kind: type[Library]) -> list[Finding]:
        return told(run_on(kind(replace(PLAIN, rows="results", paging="skip"))))

    def test_pages_that_do_not_join(self) -> None:
        titles = {each.title for each in self.paged(Repeating)}
        self.assertIn("Pages do not join to the whole list", titles)

    def test_rows_past_the_end(self) -> None:
        self.assertEqual([each.check for each in self.paged(Endless)], ["page.past-end"])

    def test_a_size_that_is_ignored(self) -> None:
        titles = ["A page holds more rows than were asked for", "A badly typed parameter is ignored"]
        self.assertEqual([each.title for each in self.paged(Stubborn)], titles)

    def test_a_hidden_column_that_lets_one_row_in_at_a_time(self) -> None:
        result = run_on(Single(PLAIN))
        titles = [each.title for each in told(result) if each.severity in {"error", "warning"}]
        self.assertEqual(titles, ["A second row cannot be made while another is there"])
        self.assertEqual(result.left, ())

    def test_changes_that_are_all_refused(self) -> None:
        result = run_on(Fixed(PLAIN))
        self.assertEqual([each.title for each in told(result)], ["No change that the contract allows is accepted"])
        outcomes = {each.check: each.outcome for each in result.checks if each.family == "update"}
        self.assertEqual(outcomes.pop("update.each-field"), "failed")
        self.assertNotIn("passed", {outcome for check, outcome in outcomes.items() if check != "update.missing-key"})

    def test_values_beside_one_that_crashes_the_api(self) -> None:
        result = run_on(Brittle(PLAIN))
        titles = {each.title.partition(": ")[2] for each in told(result) if each.check == "create.awkward-values"}
        self.assertIn("capital and small letters changed", titles)

    def test_creates_that_fail_where_there_is_no_list(self) -> None:
        """What they may have made could not be looked for: no more than two are sent, and both are named."""
        library = Silent(PLAIN)
        contract = library.contract()
        del contract["paths"]["/api/books"]["get"]
        result = run_on(library, contract)
        creates = [each for each in result.exchanges if each.request.method == "POST"]
        self.assertEqual((len(creates), len(result.left)), (2, 2))
        self.assertNotIn("itself failed", " ".join(each.reason for each in result.checks))

    def test_a_list_that_is_cut_off_and_does_not_say_so(self) -> None:
        library = Library(replace(PLAIN, total=""))
        contract = library.contract()
        listing = contract["paths"]["/api/books"]["get"]
        listing["parameters"] = []
        before = copy.deepcopy(library.books)
        result = run_on(library, contract)
        title = "A list leaves rows out, and the contract does not say how they are asked for"
        self.assertEqual([each.title for each in told(result)], [title])
        self.assertEqual((library.books, result.left), (before, ()))
