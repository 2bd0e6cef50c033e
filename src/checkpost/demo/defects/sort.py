"""Defects of sorting and of the selection of fields."""

from __future__ import annotations

from dataclasses import replace
from random import Random
from urllib.parse import urlencode

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Caller, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted


@defect("sort-numbers-as-text", "accessions", "GET", "sort", "Numbers are sorted as text.")
class SortNumbersAsText(TableApi):
    def ordered(self, name: str, descending: bool) -> str:
        if name != "seed_count":
            return super().ordered(name, descending)
        return "CAST(seed_count AS TEXT)" + (" DESC" if descending else "")


@defect("descending-ignored", "species", "GET", "sort", "Descending order is ignored.", spelling="suffix")
class DescendingIgnored(TableApi):
    def ordered(self, name: str, descending: bool) -> str:
        return super().ordered(name, False)


@defect("direction-ignored", "loans", "GET", "sort", "The direction is ignored.", spelling="json")
class DirectionIgnored(DescendingIgnored):
    pass


@defect("sort-ignored", "loans", "GET", "sort", "The order asked for is ignored.", spelling="infix")
class SortIgnored(TableApi):
    def ordering(self, wanted: Wanted) -> str:
        return super().ordering(replace(wanted, order=()))


@defect("sort-field-ignored", "collectors", "GET", "sort", "Sorting by name is ignored.")
class SortFieldIgnored(TableApi):
    def ordering(self, wanted: Wanted) -> str:
        return super().ordering(replace(wanted, order=tuple(each for each in wanted.order if each[0] != "name")))


@defect("second-key-ignored", "accessions", "GET", "sort", "The second key of an order is ignored.")
class SecondKeyIgnored(TableApi):
    def ordering(self, wanted: Wanted) -> str:
        return super().ordering(replace(wanted, order=wanted.order[:1]))


@defect("nulls-as-zero", "accessions", "GET", "sort", "Nulls are sorted as zero, among the values.", spelling="odata")
class NullsAsZero(TableApi):
    def ordered(self, name: str, descending: bool) -> str:
        plain = super().ordered(name, False)
        zero = f"coalesce({plain}, 0)" if self.table.column(name).type == "decimal" else plain
        return zero + (" DESC" if descending else "")


@defect("ties-tear-pages", "germination_tests", "GET", "sort", "Rows that are equal stand in another order each time.")
class TiesTearPages(TableApi):
    random = Random(7)

    def ordering(self, wanted: Wanted) -> str:
        if not wanted.order:
            return super().ordering(wanted)
        keys = [self.ordered(name, descending) for name, descending in wanted.order]
        return ", ".join([*keys, f"(id * {self.random.randrange(3, 990, 2)}) % 1009"])


@defect("sort-loses-nulls", "species", "GET", "sort", "Rows without a value are lost when sorted.", spelling="nested")
class SortLosesNulls(TableApi):
    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        condition, values = super().matching(caller, wanted)
        lost = [f'"{name}" IS NOT NULL' for name, _ in wanted.order]
        if not lost:
            return condition, values
        return (f"{condition} AND " if condition else "WHERE ") + " AND ".join(lost), values


@defect(
    "dates-by-day", "germination_tests", "GET", "sort", "Dates are sorted by the day of the month.", spelling="prefix"
)
class DatesByDay(TableApi):
    def ordered(self, name: str, descending: bool) -> str:
        if self.table.column(name).type != "date":
            return super().ordered(name, descending)
        return f'substr("{name}", 9, 2)' + (" DESC" if descending else "")


@defect("unknown-sort-taken", "species", "GET", "sort", "An order by no field is taken.", spelling="infix")
class UnknownSortTaken(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "no_such_field" not in refusal.detail or "sort" not in request.query_params:
                raise
            rows = [self.present(row) for row in self.listed(("", []), Wanted())]
            return self.page(request, Wanted(), rows, self.counted(("", [])))


@defect("unknown-direction-taken", "loans", "GET", "sort", "A direction that is none is taken.", spelling="json")
class UnknownDirectionTaken(TableApi):
    async def on_list(self, request: Request) -> Response:
        query = request.query_params
        if query.get("direction", "asc") in {"asc", "desc"}:
            return await super().on_list(request)
        known = [(name, text) for name, text in query.multi_items() if name != "direction"]
        return await super().on_list(Request({**request.scope, "query_string": urlencode(known).encode()}))


@defect("sort-crashes", "tags", "GET", "sort", "An order by a text is answered 500.", spelling="odata")
class SortCrashes(TableApi):
    def ordered(self, name: str, descending: bool) -> str:
        if name == "label":
            raise Refusal(500, "Internal error", "Something went wrong.")
        return super().ordered(name, descending)


@defect("select-ignored", "loans", "GET", "select", "The selection of fields is ignored.")
class SelectIgnored(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        return self.present(row)


@defect("select-loses-field", "accessions", "GET", "select", "A field that is asked for is missing.", spelling="odata")
class SelectLosesField(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        shown = super().selected(row, wanted)
        return {name: value for name, value in shown.items() if not wanted.select or name != "remark"}


@defect("select-loses-last", "species", "GET", "select", "Of several fields the last is missing.", spelling="prefix")
class SelectLosesLast(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        return super().selected(row, replace(wanted, select=wanted.select[:-1] or wanted.select))


@defect("select-loses-order", "accessions", "GET", "select", "With a selection the order is lost.", spelling="suffix")
class SelectLosesOrder(TableApi):
    def ordering(self, wanted: Wanted) -> str:
        return super().ordering(replace(wanted, order=()) if wanted.select else wanted)


@defect("select-loses-filter", "species", "GET", "select", "A filter is lost with a selection.", spelling="nested")
class SelectLosesFilter(TableApi):
    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        return super().matching(caller, replace(wanted, where=None) if wanted.select else wanted)


@defect(
    "unknown-selection-taken", "tags", "GET", "select", "A field that is not there can be selected.", spelling="json"
)
class UnknownSelectionTaken(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "no_such_field" not in refusal.detail or "fields" not in request.query_params:
                raise
            rows = [self.present(row) for row in self.listed(("", []), Wanted())]
            return self.page(request, Wanted(), rows, len(rows))


@defect(
    "select-doubles", "accessions", "GET", "select", "A number is another one when it is selected.", spelling="infix"
)
class SelectDoubles(TableApi):
    def selected(self, row: Row, wanted: Wanted) -> Row:
        shown = super().selected(row, wanted)
        return {
            name: value * 2 if wanted.select and name in {"seed_count", "species_id"} else value
            for name, value in shown.items()
        }
