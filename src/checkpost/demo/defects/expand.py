"""Defects of rows inside rows, and of links in rows."""

from __future__ import annotations

from collections.abc import Sequence

from starlette.requests import Request

from checkpost.demo.api import Caller, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.relations import Related


@defect("expansion-of-another", "accessions", "GET", "relate", "The expanded species is the next one.")
class ExpansionOfAnother(TableApi):
    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        if related.name == "species":
            row = {**row, "species_id": row["species_id"] % 40 + 1}
        return super().related_rows(caller, related, row)


@defect("null-expanded", "accessions", "GET", "relate", "Where there is no collector, one is expanded.")
class NullExpanded(TableApi):
    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        if related.name == "collector" and row["collector_id"] is None:
            row = {**row, "collector_id": 1}
        return super().related_rows(caller, related, row)


@defect("expansion-cut", "vaults", "GET", "relate", "Of the accessions of a vault ten are expanded.")
class ExpansionCut(TableApi):
    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        return super().related_rows(caller, related, row)[:10]


@defect("expansion-outdated", "loans", "GET", "relate", "The expanded accession has an old number of seeds.")
class ExpansionOutdated(TableApi):
    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        rows = super().related_rows(caller, related, row)
        return [{**each, "seed_count": each["seed_count"] + 7} for each in rows]


@defect("expansion-ignored", "species", "GET", "relate", "Reading a species ignores what is to be expanded.", item=True)
class ExpansionIgnored(TableApi):
    def wanted_expansions(self, request: Request) -> list[str]:
        return [] if request.path_params else super().wanted_expansions(request)


@defect("expansion-shallow", "germination_tests", "GET", "relate", "What is to be expanded deeper is left out.")
class ExpansionShallow(TableApi):
    def expanded(self, caller: Caller, row: Row, shown: Row, names: Sequence[str]) -> Row:
        return super().expanded(caller, row, shown, [name.partition(".")[0] for name in names])


@defect("unknown-expansion-ignored", "tags", "GET", "relate", "An unknown expansion is ignored.")
class UnknownExpansionIgnored(TableApi):
    def wanted_expansions(self, request: Request) -> list[str]:
        text = request.query_params.get(self.spelling.expansion, "")
        return [name for name in text.split(",") if name == "species"]


@defect("link-of-another", "loans", "GET", "relate", "A loan links to another accession.", spelling="infix")
class LinkOfAnother(TableApi):
    def links(self, row: Row) -> Row:
        return super().links({**row, "accession_id": row["accession_id"] % 300 + 1})


@defect("self-link-of-another", "tags", "GET", "relate", "The self link of a tag is that of another.", spelling="infix")
class SelfLinkOfAnother(TableApi):
    def links(self, row: Row) -> Row:
        return super().links({**row, "id": row["id"] % 7 + 1})


@defect("link-of-nothing", "accessions", "GET", "relate", "A link is there where there is no row.", spelling="infix")
class LinkOfNothing(TableApi):
    def links(self, row: Row) -> Row:
        found = super().links(row)
        return {**found, "collector": found["collector"] or {"href": "/v1/collectors/0"}}
