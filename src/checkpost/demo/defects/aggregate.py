"""Defects of aggregates."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from checkpost.demo.api import Caller, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Measure, Sql, Wanted, expression

AGGREGATE, STATS, COUNT = "/aggregate", "/stats", "/count"


@defect("distinct-counts-null", "species", "GET", "aggregate", "A distinct count counts null.", at=AGGREGATE)
class DistinctCountsNull(TableApi):
    def measured(self, measure: Measure) -> str:
        if measure.function != "distinct" or measure.column is None:
            return super().measured(measure)
        column = expression(measure.column)
        return f"count(DISTINCT {column}) + max({column} IS NULL)"


@defect("average-counts-nulls", "accessions", "GET", "aggregate", "An average divides by nulls too.", at=AGGREGATE)
class AverageCountsNulls(TableApi):
    def measured(self, measure: Measure) -> str:
        if measure.function != "avg" or measure.column is None:
            return super().measured(measure)
        return f"total({expression(measure.column)}) / count(*)"


@defect("maximum-of-first-page", "germination_tests", "GET", "aggregate", "max looks at 100 rows only.", at=AGGREGATE)
class MaximumOfFirstPage(TableApi):
    def measured(self, measure: Measure) -> str:
        if measure.function != "max" or measure.column is None:
            return super().measured(measure)
        return f"max(CASE WHEN id <= 100 THEN {expression(measure.column)} END)"


@defect("groups-capped", "accessions", "GET", "aggregate", "Groups after the second are left out.", at=AGGREGATE)
class GroupsCapped(TableApi):
    def aggregated(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return super().aggregated(matching, wanted)[: 2 if wanted.groups else 1]


@defect("sum-ignores-filter", "accessions", "GET", "aggregate", "Sums ignore the filter.", spelling="suffix", at=STATS)
class SumIgnoresFilter(TableApi):
    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        return super().matching(caller, replace(wanted, where=None) if wanted.measures else wanted)


@defect("sum-rounded", "species", "GET", "aggregate", "Sums are rounded to whole numbers.", spelling="suffix", at=STATS)
class SumRounded(TableApi):
    def rounded(self, measure: Measure, value: Any) -> Any:
        if measure.function == "sum" and isinstance(value, float):
            return round(value)
        return super().rounded(measure, value)


@defect("minimum-as-text", "accessions", "GET", "aggregate", "The least number is the least text.", spelling="odata")
class MinimumAsText(TableApi):
    def measured(self, measure: Measure) -> str:
        if measure.function != "min" or measure.column is None:
            return super().measured(measure)
        return f"CAST(min(CAST({expression(measure.column)} AS TEXT)) AS REAL)"


@defect("count-of-values", "germination_tests", "GET", "aggregate", "A count is one too high.", spelling="odata")
class CountOfValues(TableApi):
    def rounded(self, measure: Measure, value: Any) -> Any:
        return value + 1 if measure.function == "count" else super().rounded(measure, value)


@defect(
    "null-group-lost",
    "accessions",
    "GET",
    "aggregate",
    "The group of nulls is left out.",
    spelling="json",
    at=AGGREGATE,
)
class NullGroupLost(TableApi):
    def aggregated(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().aggregated(matching, wanted)
        return [row for row in rows if all(row[name] is not None for name in wanted.groups)]


@defect(
    "count-ignores-filter",
    "species",
    "GET",
    "aggregate",
    "The count ignores the condition.",
    spelling="infix",
    at=COUNT,
)
class CountIgnoresFilter(SumIgnoresFilter):
    pass


@defect(
    "group-of-others",
    "germination_tests",
    "GET",
    "aggregate",
    "A group's sum is that of all.",
    spelling="json",
    at=AGGREGATE,
)
class GroupOfOthers(TableApi):
    def aggregated(self, matching: Sql, wanted: Wanted) -> list[Row]:
        rows = super().aggregated(matching, wanted)
        if wanted.groups and rows:
            [whole] = super().aggregated(matching, replace(wanted, groups=()))
            rows = [row | {name: whole[name] for name in whole if name != "count:*"} for row in rows]
        return rows


@defect(
    "aggregate-of-nothing",
    "vaults",
    "GET",
    "aggregate",
    "An unknown field is summed as zero.",
    spelling="suffix",
    at=STATS,
)
class AggregateOfNothing(TableApi):
    async def on_aggregate(self, request: Any) -> Any:
        from checkpost.demo.answers import Refusal, json_answer

        try:
            return await super().on_aggregate(request)
        except Refusal as refusal:
            if "no_such_field" not in refusal.detail:
                raise
            return json_answer([dict.fromkeys(request.query_params.getlist("metrics"), 0)])
