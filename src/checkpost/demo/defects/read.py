"""Defects of reading."""

from __future__ import annotations

import asyncio
import json
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.api import TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted
from checkpost.demo.tables import Column


@defect("missing-key-empty", "tags", "GET", "read", "A missing key is answered 200.", item=True)
class MissingKeyEmpty(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            if refusal.status == 404:
                return json_answer({"id": 0, "label": "none", "colour": "#888888"})
            raise


@defect("missing-key-crashes", "species", "GET", "read", "A missing key is answered 500.", item=True)
class MissingKeyCrashes(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            raise Refusal(500 if refusal.status == 404 else refusal.status, "Internal error", "None") from None


@defect("malformed-key-crashes", "loans", "GET", "read", "A malformed key is answered 500.", item=True)
class MalformedKeyCrashes(TableApi):
    def key_part(self, column: Column, text: str) -> Any:
        try:
            return super().key_part(column, text)
        except Refusal:
            raise Refusal(500, "Internal error", "Something went wrong.") from None


@defect("read-differs-from-list", "accessions", "GET", "read", "A row read by key differs from the list.", item=True)
class ReadDiffersFromList(TableApi):
    async def on_read(self, request: Request) -> Response:
        answer = await super().on_read(request)
        if answer.status_code != 200:
            return answer
        row = json.loads(bytes(answer.body))
        headers = {name: answer.headers[name] for name in ("etag",) if name in answer.headers}
        return json_answer({**row, "seed_count": row["seed_count"] // 10}, 200, headers)


@defect("row-listed-twice", "accessions", "GET", "read", "The list holds a row twice.")
class RowListedTwice(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().listed(matching, wanted)
        return [*rows[:-1], rows[0]] if len(rows) > 2 else rows


@defect("get-writes", "species", "GET", "read", "Reading a row with a value in the query changes it.", item=True)
class GetWrites(TableApi):
    async def on_read(self, request: Request) -> Response:
        values = {name: text for name, text in request.query_params.items() if name == "notes"}
        self.change(self.key_of(request), values)
        return await super().on_read(request)


class _Removing(TableApi):
    """Removes a row when it is read by a method."""

    method = "GET"

    async def on_read(self, request: Request) -> Response:
        answer = await super().on_read(request)
        if request.method == self.method:
            self.remove(self.key_of(request))
        return answer


@defect("get-removes", "germination_tests", "GET", "read", "Reading a row removes it.", item=True)
class GetRemoves(_Removing):
    pass


@defect("head-removes", "loans", "GET", "read", "HEAD of a row removes it.", item=True)
class HeadRemoves(_Removing):
    method = "HEAD"


@defect("list-hides-rows", "collectors", "GET", "create", "A row that was created is missing from the list.")
class ListHidesRows(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return [row for row in super().listed(matching, wanted) if row["email"] is not None]


@defect("answers-mixed-up", "species", "GET", "read", "Requests at the same time get the answer of the last of them.")
class AnswersMixedUp(TableApi):
    latest: Request

    async def on_list(self, request: Request) -> Response:
        self.latest = request
        await asyncio.sleep(0.15)
        return await super().on_list(self.latest)
