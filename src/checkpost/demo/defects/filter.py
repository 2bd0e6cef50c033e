"""Defects of filters."""

from __future__ import annotations

from dataclasses import replace

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Group, Sql, Test, Wanted, Where, test_sql

EVERYTHING: Sql = ("1 = 1", [])


@defect("filter-field-ignored", "species", "GET", "filter", "A filter on conservation_status is ignored.")
class FilterFieldIgnored(TableApi):
    def tested(self, test: Test) -> Sql:
        return EVERYTHING if test.column.name == "conservation_status" else super().tested(test)


@defect("filters-ignored", "tags", "GET", "filter", "Every filter is ignored.", spelling="nested")
class FiltersIgnored(TableApi):
    def tested(self, test: Test) -> Sql:
        return EVERYTHING


@defect("at-least-is-more", "accessions", "GET", "filter", "gte leaves its bound out.")
class AtLeastIsMore(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(replace(test, operator="gt") if test.operator == "ge" else test)


@defect("less-is-at-most", "accessions", "GET", "filter", "< takes its bound in.", spelling="infix")
class LessIsAtMost(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(replace(test, operator="le") if test.operator == "lt" else test)


@defect("numbers-as-text", "accessions", "GET", "filter", "Numbers are compared as text.", spelling="suffix")
class NumbersAsText(TableApi):
    def tested(self, test: Test) -> Sql:
        if test.column.name == "seed_count" and test.operator in {"lt", "le", "gt", "ge"}:
            sign = {"lt": "<", "le": "<=", "gt": ">", "ge": ">="}[test.operator]
            return f"CAST(seed_count AS TEXT) {sign} ?", [str(test.value)]
        return super().tested(test)


@defect("last-day-left-out", "germination_tests", "GET", "filter", "le on a date leaves the day out.", spelling="odata")
class LastDayLeftOut(TableApi):
    def tested(self, test: Test) -> Sql:
        late = test.operator == "le" and test.column.type == "date"
        return super().tested(replace(test, operator="lt") if late else test)


@defect("between-leaves-bounds", "loans", "GET", "filter", "BETWEEN leaves its bounds out.", spelling="infix")
class BetweenLeavesBounds(TableApi):
    def tested(self, test: Test) -> Sql:
        if test.operator != "between":
            return super().tested(test)
        low = super().tested(Test(test.column, "gt", test.value[0]))
        high = super().tested(Test(test.column, "lt", test.value[1]))
        return f"({low[0]} AND {high[0]})", [*low[1], *high[1]]


@defect("in-takes-first-only", "accessions", "GET", "filter", "in looks at the first value alone.", spelling="suffix")
class InTakesFirstOnly(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(replace(test, value=test.value[:1]) if test.operator == "in" else test)


@defect("in-drops-last", "germination_tests", "GET", "filter", "$in drops its last value.", spelling="json")
class InDropsLast(TableApi):
    def tested(self, test: Test) -> Sql:
        several = test.operator == "in" and len(test.value) > 1
        return super().tested(replace(test, value=test.value[:-1]) if several else test)


@defect("in-minds-no-case", "tags", "GET", "filter", "in does not mind the case of letters, eq does.")
class InMindsNoCase(TableApi):
    def tested(self, test: Test) -> Sql:
        if test.operator != "in" or test.column.name != "label":
            return super().tested(test)
        return f"lower(label) IN ({', '.join('?' * len(test.value))})", [each.lower() for each in test.value]


@defect("not-ignored", "species", "GET", "filter", "not. before an operator is ignored.", spelling="prefix")
class NotIgnored(TableApi):
    def joined(self, group: Group, parts: list[str]) -> str:
        return parts[0] if group.word == "not" else super().joined(group, parts)


@defect("or-is-and", "species", "GET", "filter", "or is taken for and.", spelling="odata")
class OrIsAnd(TableApi):
    def joined(self, group: Group, parts: list[str]) -> str:
        return super().joined(replace(group, word="and") if group.word == "or" else group, parts)


@defect("json-or-is-and", "loans", "GET", "filter", "$or is taken for $and.", spelling="json")
class JsonOrIsAnd(OrIsAnd):
    pass


@defect("brackets-ignored", "accessions", "GET", "filter", "Brackets around or are ignored.", spelling="infix")
class BracketsIgnored(TableApi):
    def joined(self, group: Group, parts: list[str]) -> str:
        return f" {group.word.upper()} ".join(parts) if group.word != "not" else super().joined(group, parts)

    def conditioned(self, where: Where) -> Sql:
        return super().conditioned(where)


@defect("null-is-not-null", "collectors", "GET", "filter", "null=true finds the rows that have a value.")
class NullIsNotNull(TableApi):
    def tested(self, test: Test) -> Sql:
        turned = test.operator == "null" and test.column.name == "email"
        return super().tested(replace(test, value=not test.value) if turned else test)


@defect("isnull-ignored", "species", "GET", "filter", "isnull is ignored.", spelling="suffix")
class IsnullIgnored(TableApi):
    def tested(self, test: Test) -> Sql:
        return EVERYTHING if test.operator == "null" else super().tested(test)


@defect("contains-is-starts", "species", "GET", "filter", "contains looks at the beginning alone.")
class ContainsIsStarts(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(replace(test, operator="starts") if test.operator == "contains" else test)


@defect("like-anchored", "species", "GET", "filter", "like.*x* matches the beginning alone.", spelling="prefix")
class LikeAnchored(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(replace(test, value=test.value.lstrip("%")) if test.operator == "like" else test)


@defect("quote-crashes", "species", "GET", "filter", "A quote in a text is answered 500.", spelling="infix")
class QuoteCrashes(TableApi):
    def tested(self, test: Test) -> Sql:
        if isinstance(test.value, str) and "'" in test.value:
            raise Refusal(500, "Internal error", "Something went wrong.")
        return super().tested(test)


@defect("plus-is-space", "species", "GET", "filter", "A plus in a text is taken for a space.", spelling="suffix")
class PlusIsSpace(TableApi):
    def tested(self, test: Test) -> Sql:
        return super().tested(
            replace(test, value=test.value.replace("+", " ")) if isinstance(test.value, str) else test
        )


@defect("percent-decoded-twice", "loans", "GET", "filter", "A percent sign in a text finds nothing.", spelling="odata")
class PercentDecodedTwice(TableApi):
    def tested(self, test: Test) -> Sql:
        odd = isinstance(test.value, str) and "%" in test.value
        return super().tested(replace(test, value=test.value.replace("%", "")) if odd else test)


@defect("letters-lost", "collectors", "GET", "filter", "Letters outside ASCII find nothing.", spelling="json")
class LettersLost(TableApi):
    def tested(self, test: Test) -> Sql:
        if not isinstance(test.value, str):
            return super().tested(test)
        return super().tested(replace(test, value=test.value.encode("ascii", "replace").decode()))


@defect("second-filter-dropped", "accessions", "GET", "filter", "Of two filters one is dropped.", spelling="nested")
class SecondFilterDropped(TableApi):
    def joined(self, group: Group, parts: list[str]) -> str:
        return super().joined(group, [parts[0], *(f"({part} OR 1 = 1)" for part in parts[1:])])


@defect("total-unfiltered", "loans", "GET", "filter", "The total does not count what the filter leaves.")
class TotalUnfiltered(TableApi):
    def counted(self, matching: Sql) -> int:
        return super().counted(("", []))


@defect("odata-count-unfiltered", "accessions", "GET", "filter", "@odata.count counts every row.", spelling="odata")
class OdataCountUnfiltered(TotalUnfiltered):
    pass


@defect("filter-repeats-rows", "species", "GET", "filter", "in answers with rows twice.", spelling="json")
class FilterRepeatsRows(TableApi):
    asked_in = False

    def tested(self, test: Test) -> Sql:
        self.asked_in = self.asked_in or test.operator == "in"
        return super().tested(test)

    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().listed(matching, wanted)
        twice, self.asked_in = self.asked_in, False
        return [row for row in rows for _ in range(2)] if twice else rows


@defect("bad-value-ignored", "loans", "GET", "filter", "A value of the wrong type is ignored, and every row comes.")
class BadValueIgnored(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "is of type" not in refusal.detail:
                raise
            wanted = Wanted(limit=200)
            rows = self.listed(("", []), wanted)
            return self.page(request, wanted, [self.present(row) for row in rows], len(rows))


@defect("unknown-field-ignored", "tags", "GET", "filter", "A filter on no field is ignored.", spelling="json")
class UnknownFieldIgnored(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "There is no field no_such_field" not in refusal.detail or "filter" not in request.query_params:
                raise
            wanted = Wanted(limit=200)
            rows = self.listed(("", []), wanted)
            return self.page(request, wanted, [self.present(row) for row in rows], len(rows))


@defect("unreadable-crashes", "tags", "GET", "filter", "A filter that cannot be read gives 500.", spelling="odata")
class UnreadableCrashes(TableApi):
    async def on_list(self, request: Request) -> Response:
        try:
            return await super().on_list(request)
        except Refusal as refusal:
            if "condition cannot be read" in refusal.detail:
                raise Refusal(500, "Internal error", "Something went wrong.") from None
            raise


@defect("false-is-no-filter", "species", "GET", "filter", "false is taken for no filter.", spelling="json")
class FalseIsNoFilter(TableApi):
    def tested(self, test: Test) -> Sql:
        return EVERYTHING if test.value is False and test.operator == "eq" else super().tested(test)


@defect("zero-is-no-filter", "vaults", "GET", "filter", "Zero is taken for no filter.")
class ZeroIsNoFilter(TableApi):
    def tested(self, test: Test) -> Sql:
        zero = type(test.value) in {int, float} and test.value == 0
        return EVERYTHING if zero else super().tested(test)


@defect("decimals-cut", "germination_tests", "GET", "filter", "Decimals are cut to whole numbers.", spelling="suffix")
class DecimalsCut(TableApi):
    def tested(self, test: Test) -> Sql:
        cut = isinstance(test.value, float)
        return super().tested(replace(test, value=int(test.value)) if cut else test)


@defect("moments-shifted", "accessions", "GET", "filter", "Moments are compared two hours off.")
class MomentsShifted(TableApi):
    def tested(self, test: Test) -> Sql:
        sql, values = test_sql(test)
        if test.column.type != "date-time" or test.operator not in {"lt", "le", "gt", "ge"}:
            return sql, values
        return sql.replace("?", "strftime('%Y-%m-%dT%H:%M:%SZ', ?, '+2 hours')"), values
