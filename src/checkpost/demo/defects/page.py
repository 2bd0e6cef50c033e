"""Defects of paging."""

from __future__ import annotations

import json
from dataclasses import replace

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.api import TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted


@defect("page-overlaps", "species", "GET", "page", "A page begins with the last row of the one before.")
class PageOverlaps(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(matching, replace(wanted, offset=max(0, wanted.offset - 1)))


@defect("page-skips-row", "accessions", "GET", "page", "A row between two pages is lost.")
class PageSkipsRow(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(matching, replace(wanted, offset=wanted.offset + 1 if wanted.offset else 0))


@defect("limit-ignored", "collectors", "GET", "page", "The size that is asked for is ignored.")
class LimitIgnored(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(matching, replace(wanted, limit=200))


@defect("past-end-wraps", "vaults", "GET", "page", "Past the end the list begins anew.")
class PastEndWraps(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().listed(matching, wanted)
        return rows or super().listed(matching, replace(wanted, offset=0))


@defect("default-size-wrong", "loans", "GET", "page", "Without a size, fewer rows come than the documented default.")
class DefaultSizeWrong(TableApi):
    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        return super().page(request, wanted, rows if wanted.sized else rows[:20], total)


@defect("next-on-last-page", "tags", "GET", "page", "The last page links to a next one.")
class NextOnLastPage(TableApi):
    def following(self, wanted: Wanted, total: int) -> int | None:
        return super().following(wanted, total) or total


@defect("next-repeats", "species", "GET", "page", "The link to the next page leads to the same one.")
class NextRepeats(TableApi):
    def following(self, wanted: Wanted, total: int) -> int | None:
        return None if super().following(wanted, total) is None else wanted.offset


@defect("total-of-page", "germination_tests", "GET", "page", "The total is the number of rows on the page.")
class TotalOfPage(TableApi):
    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        return super().page(request, wanted, rows, total if wanted.limit >= 200 else len(rows))


@defect("over-maximum-served", "accessions", "GET", "page", "A size above the maximum is served.")
class OverMaximumServed(TableApi):
    async def on_list(self, request: Request) -> Response:
        if request.query_params.get("limit") != "201":
            return await super().on_list(request)
        self.permit(self.caller(request), "read")
        wanted = Wanted(limit=201)
        return self.page(request, wanted, self.listed(("", []), wanted), 300)


@defect("negative-offset-taken", "loans", "GET", "page", "A negative offset is taken as none.")
class NegativeOffsetTaken(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if refusal.status == 400 and request.query_params.get("offset", "").startswith("-"):
                return self.page(request, Wanted(), self.listed(("", []), Wanted()), 60)
            raise


@defect(
    "page-before-filter", "accessions", "GET", "page", "A page is cut off before it is filtered.", spelling="suffix"
)
class PageBeforeFilter(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        if wanted.where is None or wanted.limit > 100:
            return super().listed(matching, wanted)
        page = super().listed(("", []), wanted)
        kept = {row["id"] for row in super().listed(matching, replace(wanted, limit=500, offset=0))}
        return [row for row in page if row["id"] in kept]


@defect(
    "filter-forgotten-behind",
    "loans",
    "GET",
    "page",
    "From the second page on the filter is forgotten.",
    spelling="nested",
)
class FilterForgottenBehind(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(("", []) if wanted.offset else matching, wanted)


@defect("cursor-repeats", "species", "GET", "page", "The cursor of a page leads to the same one.", spelling="json")
class CursorRepeats(NextRepeats):
    pass


@defect("cursor-on-last-page", "tags", "GET", "page", "The last page gives a cursor.", spelling="json")
class CursorOnLastPage(NextOnLastPage):
    pass


@defect("cursor-loses-row", "accessions", "GET", "page", "A cursor goes on one row too late.", spelling="json")
class CursorLosesRow(PageSkipsRow):
    pass


@defect("cursor-not-checked", "collectors", "GET", "page", "A damaged cursor begins the list anew.", spelling="json")
class CursorNotChecked(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "cursor" not in refusal.detail:
                raise
            rows = self.listed(("", []), Wanted())
            shown = [self.present(row) for row in rows]
            return json_answer({"data": shown, "meta": {"total": len(rows), "next_cursor": None}})


@defect(
    "link-header-loses-filter", "accessions", "GET", "page", "The Link header forgets the filter.", spelling="suffix"
)
class LinkHeaderLosesFilter(TableApi):
    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        answer = super().page(request, wanted, rows, total)
        if "link" in answer.headers:
            number = (self.following(wanted, total) or 0) // wanted.limit + 1
            answer.headers["Link"] = f'<{request.url.path}?page={number}&per_page={wanted.limit}>; rel="next"'
        return answer


@defect("link-header-on-last-page", "collectors", "GET", "page", "The last page's Link has a next.", spelling="suffix")
class LinkHeaderOnLastPage(NextOnLastPage):
    pass


@defect("page-one-is-zero", "species", "GET", "page", "Pages 0 and 1 are the same.", spelling="infix")
class PageOneIsZero(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(matching, replace(wanted, offset=max(0, wanted.offset - wanted.limit)))


@defect("next-link-loses-order", "species", "GET", "page", "The next link forgets the order.", spelling="nested")
class NextLinkLosesOrder(TableApi):
    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        answer = super().page(request, wanted, rows, total)
        body = json.loads(bytes(answer.body))
        link = body["links"]["next"]
        if link:
            path, _, query = link.partition("?")
            kept = [pair for pair in query.split("&") if not pair.startswith("sort=")]
            body["links"]["next"] = f"{path}?{'&'.join(kept)}"
        return json_answer(body)


@defect("range-end-left-out", "species", "GET", "page", "A range ends one row early.", spelling="prefix")
class RangeEndLeftOut(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().listed(matching, wanted)
        return rows[:-1] if wanted.sized and len(rows) == wanted.limit else rows


@defect("range-ignored", "collectors", "GET", "page", "The Range header is ignored.", spelling="prefix")
class RangeIgnored(TableApi):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().listed(matching, replace(wanted, limit=200, offset=0))


@defect("content-range-total", "loans", "GET", "page", "Content-Range tells the rows of the page.", spelling="prefix")
class ContentRangeTotal(TableApi):
    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        return super().page(request, wanted, rows, total if len(rows) == total else len(rows))
