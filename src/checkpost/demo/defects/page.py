"""Defects of paging."""

from __future__ import annotations

import json
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.api import BASE, Refusal, TableApi, json_answer
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect


@defect("page-overlaps", "species", "GET", "page", "A page begins with the last row of the one before.")
class PageOverlaps(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        return super().listed(condition, values, limit, max(0, offset - 1))


@defect("page-skips-row", "accessions", "GET", "page", "A row between two pages is lost.")
class PageSkipsRow(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        return super().listed(condition, values, limit, offset + 1 if offset else 0)


@defect("limit-ignored", "collectors", "GET", "page", "The size that is asked for is ignored.")
class LimitIgnored(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        return super().listed(condition, values, 200, offset)


@defect("past-end-wraps", "vaults", "GET", "page", "Past the end the list begins anew.")
class PastEndWraps(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        rows = super().listed(condition, values, limit, offset)
        return rows or super().listed(condition, values, limit, 0)


@defect("default-size-wrong", "loans", "GET", "page", "Without a size, fewer rows come than the documented default.")
class DefaultSizeWrong(TableApi):
    async def on_list(self, request: Request) -> Response:
        answer = await super().on_list(request)
        if "limit" in request.query_params:
            return answer
        body = json.loads(bytes(answer.body))
        return json_answer({**body, "items": body["items"][:20]})


@defect("next-on-last-page", "tags", "GET", "page", "The last page links to a next one.")
class NextOnLastPage(TableApi):
    def page(self, rows: list[Row], total: int, next_page: str | None) -> Response:
        return super().page(rows, total, next_page or f"{BASE}{self.table.path}?limit=5&offset={total}")


@defect("next-repeats", "species", "GET", "page", "The link to the next page leads to the same one.")
class NextRepeats(TableApi):
    def page(self, rows: list[Row], total: int, next_page: str | None) -> Response:
        return super().page(rows, total, next_page and next_page.partition("&offset")[0])


@defect("total-of-page", "germination_tests", "GET", "page", "The total is the number of rows on the page.")
class TotalOfPage(TableApi):
    async def on_list(self, request: Request) -> Response:
        answer = await super().on_list(request)
        body = json.loads(bytes(answer.body))
        asked = int(request.query_params.get("limit", 200)) if answer.status_code == 200 else 200
        return answer if asked >= 200 else json_answer({**body, "total": len(body["items"])})


@defect("over-maximum-served", "accessions", "GET", "page", "A size above the maximum is served.")
class OverMaximumServed(TableApi):
    async def on_list(self, request: Request) -> Response:
        if request.query_params.get("limit") != "201":
            return await super().on_list(request)
        self.permit(self.caller(request), "read")
        return self.page(self.listed("", [], 201, 0), 300, None)


@defect("negative-offset-taken", "loans", "GET", "page", "A negative offset is taken as none.")
class NegativeOffsetTaken(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if refusal.status == 400 and request.query_params.get("offset", "").startswith("-"):
                return self.page(self.listed("", [], 50, 0), 60, None)
            raise
