"""What sound APIs do that a careless checker would take for wrong."""

from __future__ import annotations

import base64
import copy
import itertools
import json
import threading
import time
import unittest
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from unittest import mock

from starlette.applications import Starlette
from starlette.middleware.base import BaseHTTPMiddleware
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from checkpost.profile.credentials import Credential, Role
from tests.books import PLAIN, Archiving, Kept, Restoring, Together, run_on, told
from tests.foreign import STYLES, Json, Library


class Wordy(Library):
    """What a body holds is not described; a refusal shows the members that were read, and says "input" of them."""

    def contract(self) -> Json:
        contract = super().contract()
        body = contract["paths"][self.path]["post"]["requestBody"]
        body["content"]["application/json"]["schema"] = {"type": "object"}
        return contract

    async def create(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and body.get("subtitle") is not None:
            return JSONResponse({"error": f"no text is taken as input: {', '.join(map(str, body))}"}, 422)
        return await super().create(request)


class Tagged(Library):
    """A book has a list of tags, which is empty where nothing is said of it."""

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"]["tags"] = {"type": "array", "items": {"type": "string"}}
        return schema

    def broken(self, body: Any, partial: bool) -> bool:
        tags = body.get("tags", []) if isinstance(body, dict) else []
        bad = not isinstance(tags, list) or not all(isinstance(each, str) for each in tags)
        return bad or super().broken(body, partial)

    def taken(self, body: Json) -> Json:
        return {**super().taken(body), **({"tags": body["tags"]} if "tags" in body else {})}

    def shown(self, book: Json) -> Json:
        return super().shown({"tags": [], **book})


class Volatile(Library):
    """A field is computed anew at each reading."""

    ticks = itertools.count()

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        if not writable:
            schema["properties"]["readers_now"] = {"type": "integer"}
        return schema

    def shown(self, book: Json) -> Json:
        return {**super().shown(book), "readers_now": next(self.ticks)}


class Upserting(Library):
    """PUT makes a row that is not there, as RFC 9110 allows."""

    async def item(self, request: Request) -> Response:
        key = self.key_of(request)
        if request.method == "PUT" and isinstance(key, int) and key not in self.books:
            body = await self.body(request)
            if isinstance(body, Response) or self.broken(body, False):
                return self.refused(422)
            self.books[key] = {"id": key, "in_print": True, "subtitle": None, **self.taken(body)}
            return JSONResponse(self.shown(self.books[key]))
        return await super().item(request)


class Hidden(Library):
    """A rule that the contract does not tell: pages come in tens."""

    def broken(self, body: Any, partial: bool) -> bool:
        return super().broken(body, partial) or (body.get("pages", 10) % 10 != 0)


class Forbids(Hidden):
    """The same, and what breaks it is called forbidden."""

    def refused(self, status: int) -> Response:
        return JSONResponse({"errors": [{"title": "Forbidden", "detail": {"path": ["pages"]}}]}, 403)


class Shelved(Library):
    """Pages are numbers of shelves: a reference of which the contract says nothing."""

    def refused(self, status: int) -> Response:
        return JSONResponse({"error": 'Invalid foreign key in field "pages".'}, status)

    def broken(self, body: Any, partial: bool) -> bool:
        return super().broken(body, partial) or body.get("pages", 10) not in range(10, 300, 10)


class Idempotent(Library):
    """Deleting what is not there is answered like deleting what is."""

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        return Response(status_code=204) if request.method == "DELETE" and answer.status_code == 404 else answer


class TwoShaped(Library):
    """The list comes bare, and in an object where a position is asked for."""

    def contract(self) -> Json:
        contract = super().contract()
        media = contract["paths"][self.path]["get"]["responses"]["200"]["content"]["application/json"]
        wrapped = media["schema"]
        media["schema"] = {"oneOf": [wrapped, wrapped["properties"]["results"]]}
        return contract

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        if answer.status_code != 200 or "skip" in request.query_params:
            return answer
        return JSONResponse(json.loads(bytes(answer.body))["results"])


class OneOfTwo(Library):
    """A book needs a subtitle or a word on whether it is in print; no field needs to be there by itself."""

    def broken(self, body: Any, partial: bool) -> bool:
        lacks = isinstance(body, dict) and not partial and not {"subtitle", "in_print"} & set(body)
        return lacks or super().broken(body, partial)


class TwoViews(Library):
    """A list shows the title, where reading a book shows the language that it is in."""

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        if not writable:
            schema["properties"]["about"] = {"type": "object", "additionalProperties": {"type": "object"}}
        return schema

    def shown(self, book: Json) -> Json:
        return {**super().shown(book), "about": {"title": {"language": "en"}}}

    async def listed(self, request: Request) -> Response:
        answer = await super().listed(request)
        page = json.loads(bytes(answer.body))
        if answer.status_code != 200:
            return answer
        for book in page[self.style.rows]:
            book["about"] = {"title": book["title"]}
        return JSONResponse(page)


class Undone(Library):
    """The second delete of all, which is the one that is looked behind, is undone, as where requests share a
    transaction."""

    deletes = 0

    async def item(self, request: Request) -> Response:
        kept, self.deletes = dict(self.books), self.deletes + (request.method == "DELETE")
        answer = await super().item(request)
        if request.method == "DELETE" and self.deletes == 2:
            self.books = kept
        return answer


class Unseen(Library):
    """What is made is in no list, and no book is read by its key."""

    async def listed(self, request: Request) -> Response:
        kept, self.books = self.books, {key: book for key, book in self.books.items() if key <= 23}
        try:
            return await super().listed(request)
        finally:
            self.books = kept


class SoundQuirks(unittest.TestCase):
    def silent(self, library: Library, contract: Json | None = None, **options: Any) -> Result:
        before = copy.deepcopy(library.books)
        result = run_on(library, contract, **options)
        self.assertEqual([(each.check, each.title, each.expected, each.observed) for each in told(result)], [])
        self.assertEqual([each for each in result.checks if "itself failed" in each.reason], [])
        self.assertEqual(library.books, before)
        self.assertEqual(result.left, ())
        return result

    def test_a_list_of_two_shapes(self) -> None:
        style = replace(PLAIN, rows="results", paging="skip", total="count")
        result = self.silent(TwoShaped(style))
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertLessEqual({"page.joined", "page.past-end", "read.list"}, passed)

    def test_one_change_for_several_keys(self) -> None:
        result = self.silent(Together(PLAIN))
        self.assertEqual([each.outcome for each in result.checks if each.check == "bulk.update"][:1], ["passed"])

    def test_deleted_rows_that_come_back_are_told_of(self) -> None:
        result = self.silent(Restoring(PLAIN))
        self.assertEqual(result.kept["books"][0], "POST /api/books/{id}/restore")
        self.assertIn("passed", [each.outcome for each in result.checks if each.check == "delete.restored"])

    def test_deleted_rows_that_are_kept_are_told_of(self) -> None:
        library = Archiving(replace(PLAIN, paging="skip", rows="results"))
        result = self.silent(library)
        self.assertEqual(result.kept, {"books": ("with_deleted", len(library.archived))})
        self.assertLess(len(library.archived), 150)

    def test_a_day_without_a_row_may_be_answered_with_nothing(self) -> None:
        fields = {"day": {"type": "string", "format": "date"}, "rate": {"type": "number"}}
        row = {"type": "object", "properties": fields}
        key = {"name": "day", "in": "path", "required": True, "schema": fields["day"]}

        def shows(schema: Json) -> Json:
            return {"200": {"description": "", "content": {"application/json": {"schema": schema}}}}

        paths = {
            "/rates": {"get": {"responses": shows({"type": "array", "items": row})}},
            "/rates/{day}": {"get": {"parameters": [key], "responses": shows(row)}},
        }
        contract = {"openapi": "3.0.2", "info": {"title": "rates", "version": "1"}, "paths": paths}
        rates = [{"day": f"2024-02-{day:02d}", "rate": day / 4} for day in range(1, 9)]
        for nothing, wanted in (({}, []), (rates[0], ["GET of a missing key returns 200"])):

            async def one(request: Request, nothing: Json = nothing) -> Response:
                known = {each["day"]: each for each in rates}
                return JSONResponse(known.get(request.path_params["day"], nothing))

            async def every(request: Request) -> Response:
                return JSONResponse(rates)

            app = Starlette(routes=[Route("/rates", every), Route("/rates/{day}", one)])
            result = run_on(Library(PLAIN), contract, app=app, resources=())
            missing = [each.title for each in result.findings if each.check == "read.missing-key"]
            self.assertEqual(missing, wanted)

    def test_a_list_that_is_empty_without_a_word_is_no_default_of_null(self) -> None:
        self.silent(Tagged(PLAIN))

    def test_a_word_of_a_refusal_that_shows_what_it_has_read_is_no_wrapper(self) -> None:
        library = Wordy(PLAIN)
        result = run_on(library)
        self.assertEqual([each for each in told(result) if each.severity == "error"], [])
        self.assertFalse([each for each in result.exchanges if (each.request.body or b"").startswith(b'{"input"')])
        made = [each for each in result.checks if (each.check, each.outcome) == ("create.stored", "passed")]
        self.assertEqual(len(made), 1)

    def test_rules_of_several_fields_at_once_are_met_or_nothing_is_said(self) -> None:
        library = OneOfTwo(PLAIN)
        contract = library.contract()
        new = contract["components"]["schemas"]["NewBook"]
        new["anyOf"] = [{"required": ["subtitle"]}, {"required": ["in_print"]}]
        self.silent(library, contract)

    def test_two_views_of_a_row_that_the_contract_describes(self) -> None:
        library = TwoViews(PLAIN)
        contract = library.contract()
        page = contract["paths"][library.path]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
        rows = page["properties"][library.style.rows]
        text = {"type": "object", "additionalProperties": {"type": "string"}}
        rows["items"] = copy.deepcopy(contract["components"]["schemas"]["Book"])
        rows["items"]["properties"]["about"] = text
        self.silent(library, contract)

    def test_a_delete_that_is_undone_beside_others_is_told_and_the_table_goes_on(self) -> None:
        result = run_on(Undone(PLAIN))
        told_of = [each.title for each in told(result) if each.severity == "error"]
        self.assertEqual(told_of, ["A delete is undone while other requests are under way"])
        self.assertIn(("update.each-field", "passed"), [(each.check, each.outcome) for each in result.checks])
        self.assertEqual(result.left, ())

    def test_of_rows_that_nothing_shows_one_is_made(self) -> None:
        library = Unseen(PLAIN)
        contract = library.contract()
        del contract["paths"]["/api/books/{id}"]["get"]
        result = run_on(library, contract)
        self.assertEqual(
            [each.title for each in told(result) if each.severity == "error"], ["A created row is not there"]
        )
        self.assertEqual((len(library.books), len(result.left)), (24, 1))

    def test_moments_and_versions_that_the_server_keeps(self) -> None:
        self.silent(Kept(PLAIN))

    def test_values_computed_at_each_reading(self) -> None:
        self.silent(Volatile(PLAIN))

    def test_put_that_makes_the_row(self) -> None:
        library = Upserting(PLAIN)
        contract = library.contract()
        item = contract["paths"]["/api/books/{id}"]["put"]["responses"]
        item.pop("404")
        self.silent(library, contract)

    def test_deletes_that_do_not_tell_whether_there_was_a_row(self) -> None:
        library = Idempotent(PLAIN)
        contract = library.contract()
        contract["paths"]["/api/books/{id}"]["delete"]["responses"].pop("404")
        self.silent(library, contract)

    def test_defaults_that_are_expressions(self) -> None:
        library = Library(PLAIN)
        contract = library.contract()
        for name in ("Book", "NewBook"):
            fields = contract["components"]["schemas"][name]["properties"]
            fields["subtitle"]["default"] = "CURRENT_USER"
            fields["title"]["default"] = "lower('X')"
        self.silent(library, contract)

    def test_texts_called_unique_identifiers_of_something_else(self) -> None:
        library = Library(PLAIN)
        contract = library.contract()
        for name in ("Book", "NewBook"):
            fields = contract["components"]["schemas"][name]["properties"]
            fields["author_id"]["description"] = "Unique identifier of the author."
            fields["title"]["description"] = "The title; need not be unique."
        self.silent(library, contract)

    def test_a_list_too_long_to_read(self) -> None:
        result = self.silent(Library(PLAIN, 4000))
        # its pages of ten are read whole once, when all is over: to see that nothing of the run's is left
        tidying = [each for each in result.exchanges if each.check == "tidying up"]
        self.assertLess(len(result.exchanges) - len(tidying), 600)
        self.assertLessEqual(len(tidying), 450)
        remarks = {check.reason for check in result.checks if check.outcome == "passed" and check.reason}
        self.assertTrue(any("over 2000 rows" in remark for remark in remarks), remarks)

    def test_a_key_taken_for_absent_is_never_a_row_that_was_not_read(self) -> None:
        library = Library(replace(PLAIN, paging="skip"), 12_500)
        before = copy.deepcopy(library.books)
        touched: list[Any] = []

        async def watched(request: Request, go: Any) -> Response:
            key = request.url.path.rpartition("/")[2]
            if request.method in {"PUT", "PATCH", "DELETE"} and key.isdigit() and int(key) in before:
                touched.append((request.method, int(key)))
            return await go(request)

        app = library.app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=watched)
        run_on(library, app=app)
        self.assertEqual(touched, [])
        self.assertEqual(library.books, before)

    def test_a_client_chosen_key_is_not_one_of_a_row_that_was_not_read(self) -> None:
        style = replace(STYLES[2], name="short keys", total="total")
        library = Library(style, 2500)
        contract = library.contract()
        for name in ("Book", "NewBook"):
            contract["components"]["schemas"][name]["properties"]["isbn"] |= {"pattern": "^978-[0-9]{3}$"}
        # every key that the pattern allows is taken, and creating one again would overwrite it
        library.books = {
            f"978-{n:03d}": {**book, "isbn": f"978-{n:03d}"} for n, book in enumerate(library.books.values())
        }
        before = copy.deepcopy(library.books)
        written: list[str] = []

        async def overwriting(request: Request, go: Any) -> Response:
            if request.method == "POST":
                written.append(str(json.loads(await request.body() or b"{}").get("isbn")))
            return await go(request)

        app = library.app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=overwriting)
        run_on(library, contract, app=app)
        self.assertEqual([key for key in written if key in before], [])
        self.assertEqual(library.books, before)

    def test_somebody_else_at_work_in_the_same_table(self) -> None:
        library = Library(PLAIN)
        stop = threading.Event()

        def work() -> None:
            for turn in itertools.count():
                if stop.wait(0.02):
                    return
                library.books[5]["pages"] = 10 + turn % 50
                library.last += 1
                library.books[library.last] = {**library.books[3], "id": library.last, "title": f"Theirs {turn}"}
                if turn % 3 == 0:
                    library.books.pop(library.last, None)

        other = threading.Thread(target=work)
        other.start()
        try:
            result = run_on(library)
        finally:
            stop.set()
            other.join()
        severe = [(each.check, each.title, each.observed) for each in told(result) if each.severity == "error"]
        self.assertEqual(severe, [])
        self.assertTrue(any(str(book["title"]).startswith("Theirs") for book in library.books.values()))
        self.assertFalse([book for book in library.books.values() if "cp" in str(book["title"])[:12]])

    def test_a_rule_that_the_contract_does_not_tell(self) -> None:
        for library in (Hidden(PLAIN), Forbids(PLAIN)):
            with self.subTest(library=type(library).__name__):
                before = copy.deepcopy(library.books)
                result = run_on(library)
                self.assertEqual({each.severity for each in told(result)} - {"warning"}, set())
                self.assertEqual(library.books, before)
                passed = {each.check for each in result.checks if each.outcome == "passed"}
                self.assertTrue({"create.stored", "delete.gone"} <= passed, passed)

    def test_a_reference_that_the_contract_does_not_tell(self) -> None:
        library = Shelved(PLAIN)
        for number, book in library.books.items():  # several stand on one shelf
            book["pages"] = 10 * (int(number) % 5 + 1)
        result = run_on(library)
        titles = {each.title for each in told(result)}
        self.assertFalse({each for each in titles if "that the contract allows" in each}, titles)
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertTrue({"create.stored", "create.awkward-values", "update.each-field"} <= passed, passed)

    def test_a_field_that_does_not_tell_rows_apart_is_no_key(self) -> None:
        columns = [{"table": table, "column": name} for table in ("lots", "tags") for name in ("id", "note")]

        async def listed(request: Request) -> Response:
            table = request.path_params.get("table")
            rows = [each for each in columns if table in (None, each["table"])]
            return JSONResponse(rows if table is None else rows[:1] and rows[0], 200 if rows else 404)

        row = {"type": "object", "properties": {name: {"type": "string"} for name in ("table", "column")}}

        def answers(schema: Json) -> Json:
            done = {"description": "", "content": {"application/json": {"schema": schema}}}
            return {"get": {"responses": {"200": done, "404": {"description": ""}}}}

        key = {"name": "table", "in": "path", "required": True, "schema": {"type": "string"}}
        paths = {
            "/columns": answers({"type": "array", "items": row}),
            "/columns/{table}": {"parameters": [key], **answers(row)},
        }
        contract = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
        app = Starlette(routes=[Route("/columns", listed), Route("/columns/{table}", listed)])
        for repeated in (False, True):
            columns += columns[:1] if repeated else []
            result = run_on(Library(PLAIN), contract, app=app, resources=())
            outcomes = {each.check: each for each in result.checks}
            self.assertEqual(outcomes["read.keys-unique"].outcome, "failed" if repeated else "skipped")
            if not repeated:
                self.assertEqual([each.title for each in told(result) if each.severity == "error"], [])
                self.assertIn("table does not tell its rows apart", outcomes["read.keys-unique"].reason)

    def test_creates_that_are_carried_out_later(self) -> None:
        library = Deferred(PLAIN)
        contract = library.contract()
        contract["paths"]["/api/books"]["post"]["responses"]["202"] = {"description": "later"}
        result = run_on(library, contract, timeout=2)  # for which it waits for what may come
        self.assertEqual(told(result), [])
        reasons = {each.reason for each in result.checks if each.check == "update.rules"}
        self.assertIn("202", reasons.pop())

    def test_a_body_that_has_the_key_which_the_server_gives(self) -> None:
        """One schema often serves rows and records alike: what a record says of the key is passed over."""
        library = Library(PLAIN)
        contract = library.contract()
        for path in contract["paths"].values():
            for method in {"post", "put", "patch"} & set(path):
                body = path[method]["requestBody"]["content"]["application/json"]
                body["schema"] = {"allOf": [body["schema"], {"properties": {"id": {"type": "integer"}}}]}
        self.assertEqual([each.title for each in told(run_on(library, contract))], [])

    def test_bodies_of_which_nothing_is_said(self) -> None:
        """An empty schema says no more than none: rows show what can be sent, and no rule is held against the API."""
        for schema in ({}, {"type": "object"}, {"type": "object", "additionalProperties": True}):
            library = Library(PLAIN)
            contract = library.contract()
            for path in contract["paths"].values():
                for method in {"post", "put", "patch"} & set(path):
                    path[method]["requestBody"]["content"]["application/json"]["schema"] = schema
            result = run_on(library, contract)
            self.assertEqual([each.title for each in told(result) if each.severity != "note"], [])
            passed = {each.check for each in result.checks if each.outcome == "passed"}
            self.assertLessEqual({"create.stored", "update.each-field", "delete.gone"}, passed)

    def test_a_search(self) -> None:
        """A search that looks into some fields is sound; one that leaves all rows or none is told."""
        expected = {"title": [], "": ["A search is ignored"], "no_such": ["A search finds no row by any of its texts"]}
        for field, titles in expected.items():
            with self.subTest(field=field):
                library = Searched(PLAIN)
                library.field = field
                contract = library.contract()
                parameter = {
                    "name": "search",
                    "in": "query",
                    "schema": {"type": "string"},
                    "description": "A search term.",
                }
                contract["paths"]["/api/books"]["get"]["parameters"].append(parameter)
                result = run_on(library, contract)
                self.assertEqual([each.title for each in told(result)], titles)
                outcome = next(each.outcome for each in result.checks if each.check == "filter.search")
                self.assertEqual(outcome, "failed" if titles else "passed")

    def test_writes_that_are_accepted(self) -> None:
        """A write that is answered 202 is judged where it is seen to be done, and left alone where it is not."""
        for kind in (Accepting, Postponing):
            library = kind(PLAIN)
            contract = library.contract()
            for path in contract["paths"].values():
                for method in {"post", "put", "patch", "delete"} & set(path):
                    said = path[method]["responses"]
                    said["202"] = said.get("201") or said.get("200") or {"description": "accepted"}
            result = self.silent(library, contract, timeout=1)
            outcomes = {each.check: each for each in result.checks}
            for name in ("update.each-field", "update.rules", "delete.gone", "create.rules"):
                with self.subTest(kind=kind.__name__, check=name):
                    asked = kind is Accepting
                    self.assertEqual(outcomes[name].outcome == "passed", asked, outcomes[name].reason)
                    self.assertIn("" if asked else "202", outcomes[name].reason)

    def limited(self, most: int, one_too_many: Callable[[], Response]) -> Result:
        """A run on a sound library that takes so many requests in half a second."""
        library = Library(PLAIN)
        seen: list[float] = []

        async def limited(request: Request, go: Any) -> Response:
            now = time.monotonic()
            if len([moment for moment in seen if now - moment < 0.5]) > most:
                return one_too_many()
            seen.append(now)
            return await go(request)

        app = library.app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=limited)
        return self.silent(library, app=app)

    def test_an_api_that_takes_only_so_many_requests_in_a_time(self) -> None:
        headers = itertools.cycle(({"Retry-After": "1"}, {}))
        result = self.limited(60, lambda: JSONResponse({"error": "slower"}, 429, next(headers)))
        self.assertTrue(any(each.attempts > 1 for each in result.exchanges))
        turned_away = [each for each in result.exchanges if each.answer.status == 429]
        self.assertLess(len(turned_away), 20, "it is asked more slowly")

    def test_an_api_that_takes_no_more_requests_is_left_alone(self) -> None:
        library, asked = Library(PLAIN), 0

        async def limited(request: Request, go: Any) -> Response:
            nonlocal asked
            asked += 1
            if asked > 250:
                return JSONResponse({"error": "tomorrow"}, 429, {"Retry-After": "86400"})
            return await go(request)

        app = library.app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=limited)
        with mock.patch("checkpost.engine.breakdown.PAUSES", (0.01,) * 6):
            result = run_on(library, app=app)
        [one] = [each for each in told(result) if each.check == "shape.answer"]
        self.assertEqual((one.severity, one.title), ("note", "The API takes no more requests"))
        self.assertIn("Retry-After: 86400", one.observed)
        self.assertIn("left out: the API takes no more requests", [each.reason for each in result.checks])
        self.assertEqual([each.title for each in told(result) if each.severity != "note"], [])

    def test_basic_credentials(self) -> None:
        library = Library(PLAIN)
        contract = library.contract()
        contract["components"]["securitySchemes"] = {"login": {"type": "http", "scheme": "basic"}}
        contract["security"] = [{"login": []}]
        for path in contract["paths"].values():
            for method, operation in path.items():
                if method != "parameters":
                    operation["responses"]["401"] = {"description": "who?"}
        good = "Basic " + base64.b64encode(b"keeper:s3cret").decode()

        async def guarded(request: Request, go: Any) -> Response:
            if request.headers.get("authorization") != good:
                return JSONResponse({}, 401, {"WWW-Authenticate": "Basic"})
            return await go(request)

        app = library.app()
        app.add_middleware(BaseHTTPMiddleware, dispatch=guarded)
        role = Role(
            "keeper", (Credential("header", "Authorization", "Basic keeper:${LIBRARY_PASSWORD}", encoded=True),)
        )
        with mock.patch.dict("os.environ", {"LIBRARY_PASSWORD": "s3cret"}):
            result = self.silent(library, contract, app=app, role=role)
        access = {each.check: each.outcome for each in result.checks if each.family == "access"}
        self.assertEqual(access.pop("access.unexposed"), "skipped", "no profile names such a table")
        self.assertEqual(access.pop("access.log-out"), "skipped", "the contract has no log-out")
        self.assertEqual(set(access.values()), {"passed"})


class Deferred(Library):
    """Creates are carried out a little later."""

    async def create(self, request: Request) -> Response:
        answer = await super().create(request)
        if answer.status_code >= 300:
            return answer
        key, book = self.books.popitem()
        threading.Timer(0.1, self.books.__setitem__, (key, book)).start()
        return Response(status_code=202)


class Searched(Library):
    """Its list can be searched for a text in one field; without a field it is not searched."""

    field = "title"

    async def listed(self, request: Request) -> Response:
        text, books = request.query_params.get("search", "").lower(), self.books
        if self.field:
            self.books = {k: each for k, each in books.items() if text in str(each.get(self.field, "")).lower()}
        answer = await super().listed(request)
        self.books = books
        return answer


class Accepting(Library):
    """Each write is answered 202, and done."""

    async def create(self, request: Request) -> Response:
        return self.accepted(await super().create(request))

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        return self.accepted(answer) if request.method in {"PUT", "PATCH", "DELETE"} else answer

    @staticmethod
    def accepted(answer: Response) -> Response:
        answer.status_code = 202 if answer.status_code < 300 else answer.status_code
        return answer


class Postponing(Accepting):
    """Changes and removals are carried out a little later."""

    async def item(self, request: Request) -> Response:
        if request.method not in {"PUT", "PATCH", "DELETE"}:
            return await super().item(request)
        before = {key: dict(book) for key, book in self.books.items()}
        answer = await super().item(request)
        after, self.books = self.books, before
        changed = {key: after.get(key) for key in before if after.get(key) != before[key]}
        threading.Timer(0.1, self.carry_out, (changed,)).start()
        return answer

    def carry_out(self, changed: dict[Any, Json | None]) -> None:
        for key, book in changed.items():
            if book is None:
                self.books.pop(key, None)
            elif key in self.books:
                self.books[key].update(book)
