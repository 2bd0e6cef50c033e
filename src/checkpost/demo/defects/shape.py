"""Answers and errors that are not as documented."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.api import Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Wanted


@defect("body-breaks-schema", "germination_tests", "GET", "shape", "A list answer breaks its schema: numbers as text.")
class BodyBreaksSchema(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        shown = super().selected(row, wanted)
        return {name: str(value) if name == "sown" else value for name, value in shown.items()}


@defect("status-undocumented", "loans", "POST", "shape", "Create answers 200, where the contract says 201.")
class StatusUndocumented(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        return self.row_answer(row, 200, {"Location": self.location(key)})


@defect("media-type-wrong", "collectors", "GET", "shape", "JSON is sent as text/html.", item=True)
class MediaTypeWrong(TableApi):
    async def on_read(self, request: Request) -> Response:
        answer = await super().on_read(request)
        return Response(answer.body, answer.status_code, media_type="text/html")


@defect("field-undocumented", "collectors", "GET", "shape", "Answers hold a field the schema rules out.")
class FieldUndocumented(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        return super().selected(row, wanted) | {"row_version": 1}


@defect("write-only-shown", "loans", "GET", "shape", "Answers show a write-only field.", item=True)
class WriteOnlyShown(TableApi):
    def present(self, row: Row) -> Row:
        return super().present(row) | {"release_code": row["release_code"]}


@defect("list-crashes-paging", "accessions", "GET", "errors", "A limit that is not a number is answered 500.")
class ListCrashesPaging(TableApi):
    async def on_list(self, request: Request) -> Response:
        if not request.query_params.get("limit", "1").isdigit():
            raise Refusal(500, "Internal error", "Something went wrong.")
        return await super().on_list(request)


@defect("trace-in-error", "accessions", "POST", "errors", "An error shows a stack trace.")
class TraceInError(TableApi):
    def refuse_violations(self, body: Any, partial: bool) -> None:
        try:
            super().refuse_violations(body, partial)
        except Refusal as refusal:
            refusal.detail = (
                "Traceback (most recent call last):\n"
                '  File "/srv/api/handlers.py", line 88, in create\n    row = table.insert(values)\n'
                "ValueError: value out of range"
            )
            raise


@defect("sql-in-error", "tags", "POST", "errors", "An error shows the SQL statement that failed.")
class SqlInError(TableApi):
    def conflict(self, error: sqlite3.IntegrityError) -> Refusal:
        return Refusal(409, "Conflict", f"{error}: INSERT INTO tags (label, colour) VALUES (?, ?)")


@defect("error-body-undocumented", "vaults", "POST", "errors", "An error's body is not the documented one.")
class ErrorBodyUndocumented(TableApi):
    def problem(self, refusal: Refusal) -> Response:
        answer = super().problem(refusal)
        body = {"error": refusal.detail}
        headers = {name: value for name, value in answer.headers.items() if name == "www-authenticate"}
        return json_answer(body, refusal.status, headers, "application/problem+json")


@defect("error-media-type", "tags", "GET", "errors", "An error is sent as plain text.", item=True)
class ErrorMediaType(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            return PlainTextResponse(refusal.detail, refusal.status)


@defect("broken-json-crashes", "species", "POST", "errors", "A body that is not JSON is answered 500.")
class BrokenJsonCrashes(TableApi):
    async def body(self, request: Request) -> Any:
        try:
            return await super().body(request)
        except Refusal as refusal:
            raise Refusal(500 if refusal.status == 400 else refusal.status, "Internal error", "None") from None


@defect("media-type-ignored", "vaults", "POST", "errors", "A body of an undocumented media type is accepted.")
class MediaTypeIgnored(TableApi):
    def body_types(self, method: str) -> set[str]:
        return {"application/json", "application/merge-patch+json", "text/plain"}


@defect("method-succeeds", "species", "POST", "errors", "A method that is not offered is answered 200.", item=True)
class MethodSucceeds(TableApi):
    async def other_method(self, request: Request, allowed: Any) -> Response:
        return json_answer({"ok": True})


@defect("method-crashes", "loans", "POST", "errors", "A method that is not offered is answered 500.", item=True)
class MethodCrashes(TableApi):
    async def other_method(self, request: Request, allowed: Any) -> Response:
        raise Refusal(500, "Internal error", "Something went wrong.")


@defect("head-differs", "tags", "HEAD", "shape", "HEAD says that there is nothing where GET finds rows.")
class HeadDiffers(TableApi):
    async def on_list(self, request: Request) -> Response:
        if request.method == "HEAD":
            return Response(status_code=204)
        return await super().on_list(request)


@defect("options-lack-methods", "vaults", "OPTIONS", "shape", "OPTIONS does not name POST.")
class OptionsLackMethods(TableApi):
    def options(self, request: Request, allowed: Sequence[str]) -> Response:
        return super().options(request, [each for each in allowed if each != "POST"])


@defect("gzip-in-name-only", "species", "GET", "shape", "The list is called gzip and is not.")
class GzipInNameOnly(TableApi):
    def finished(self, request: Request, answer: Response) -> Response:
        if request.headers.get("accept-encoding") == "gzip" and request.url.path.endswith("/species"):
            answer.headers["Content-Encoding"] = "gzip"
        return super().finished(request, answer)


@defect("another-charset", "collectors", "GET", "shape", "JSON is called ISO-8859-1.")
class AnotherCharset(TableApi):
    def finished(self, request: Request, answer: Response) -> Response:
        if answer.headers.get("content-type") == "application/json":
            answer.headers["Content-Type"] = "application/json; charset=iso-8859-1"
        return super().finished(request, answer)
