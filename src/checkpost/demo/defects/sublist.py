"""Defects of lists under rows, of links between rows, and of rows made along with others."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Caller, Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted
from checkpost.demo.related import RelatedRows
from checkpost.demo.relations import Related


@defect(
    "sublist-holds-all", "species", "GET", "relate", "Accessions of a species are those of all.", at="/{id}/accessions"
)
class SublistHoldsAll(TableApi):
    def belonging(self, related: Related, row: Row) -> Sql:
        return ("1 = 1", []) if related.junction is None else super().belonging(related, row)


@defect(
    "sublist-leaves-out",
    "collectors",
    "GET",
    "relate",
    "Depleted accessions are missing under their collector.",
    at="/{id}/accessions",
)
class SublistLeavesOut(TableApi):
    def belonging(self, related: Related, row: Row) -> Sql:
        condition, values = super().belonging(related, row)
        return f"{condition} AND \"status\" <> 'depleted'", values


@defect("sublist-total", "vaults", "GET", "relate", "The total under a vault is that of all.", at="/{id}/accessions")
class SublistTotal(TableApi):
    def children_answer(
        self, request: Request, caller: Caller, related: Related, wanted: Wanted, matching: Sql
    ) -> Response:
        other = self.others[related.table.name]
        rows = other.shown(request, caller, other.listed(matching, wanted), wanted)
        return other.page(request, wanted, rows, other.counted(("", [])))


@defect(
    "sublist-first-page",
    "accessions",
    "GET",
    "relate",
    "Every page of tests under an accession is the first.",
    at="/{id}/germination-tests",
)
class SublistFirstPage(TableApi):
    def children_answer(
        self, request: Request, caller: Caller, related: Related, wanted: Wanted, matching: Sql
    ) -> Response:
        wanted = replace(wanted, offset=0) if related.name == "germination_tests" else wanted
        return super().children_answer(request, caller, related, wanted, matching)


@defect(
    "sublist-unsorted",
    "vaults",
    "GET",
    "relate",
    "Accessions under a vault are not sorted.",
    at="/{id}/accessions",
    spelling="suffix",
)
class SublistUnsorted(TableApi):
    def children_answer(
        self, request: Request, caller: Caller, related: Related, wanted: Wanted, matching: Sql
    ) -> Response:
        return super().children_answer(request, caller, related, replace(wanted, order=()), matching)


@defect(
    "sublist-unfiltered",
    "collectors",
    "GET",
    "relate",
    "Filters are ignored under a collector.",
    at="/{id}/accessions",
    spelling="prefix",
)
class SublistUnfiltered(TableApi):
    def children_answer(
        self, request: Request, caller: Caller, related: Related, wanted: Wanted, matching: Sql
    ) -> Response:
        row = self.existing(caller, self.key_of(request))
        within, values = self.belonging(related, row)
        wanted = replace(wanted, where=None)
        return super().children_answer(request, caller, related, wanted, (f"WHERE {within}", values))


@defect("sublist-of-nothing", "tags", "GET", "relate", "A tag that there is not has a list.", at="/{id}/species")
class SublistOfNothing(TableApi):
    async def on_children(self, request: Request, related: Related) -> Response:
        if self.fetch(self.key_of(request)) is None:
            wanted = self.spelling.wanted(request, related.table)
            return self.children_answer(request, self.caller(request), related, wanted, ("WHERE 1 = 0", []))
        return await super().on_children(request, related)


@defect(
    "moved-row-stays",
    "species",
    "GET",
    "relate",
    "An accession that is moved stays under its first species.",
    at="/{id}/accessions",
)
class MovedRowStays(TableApi):
    def belonging(self, related: Related, row: Row) -> Sql:
        condition, values = super().belonging(related, row)
        if related.junction is not None:
            return condition, values
        seen = self.__dict__.setdefault("seen", {})
        rows = self.database.select(related.table, f"WHERE {condition}", values)
        seen.setdefault(row["id"], set()).update(each["id"] for each in rows)
        there = ", ".join(map(str, seen[row["id"]])) or "NULL"
        return f'"id" IN ({there})', []


@defect(
    "child-made-elsewhere",
    "species",
    "POST",
    "relate",
    "An accession made under a species goes to another one.",
    at="/{id}/accessions",
)
class ChildMadeElsewhere(TableApi):
    def child_body(self, related: Related, row: Row, body: Row) -> Row:
        return {**body, related.column: 1}


@defect("link-not-stored", "species", "PUT", "relate", "A link is answered, not stored.", at="/{id}/tags/{id}")
class LinkNotStored(TableApi):
    def link(self, between: RelatedRows, key: Key) -> None:
        """Nothing is stored."""


@defect("second-link-crashes", "tags", "PUT", "relate", "Linking twice is answered 500.", at="/{id}/species/{id}")
class SecondLinkCrashes(TableApi):
    def link(self, between: RelatedRows, key: Key) -> None:
        if between.fetch(key) is not None:
            raise Refusal(500, "Internal error", "Something went wrong.")
        super().link(between, key)


@defect("link-one-sided", "tags", "PUT", "relate", "New links are not under the tag.", at="/{id}/species/{id}")
class LinkOneSided(TableApi):
    def belonging(self, related: Related, row: Row) -> Sql:
        condition, values = super().belonging(related, row)
        return f'{condition} AND "id" <= 40', values


@defect("unlink-removes-row", "species", "DELETE", "relate", "Unlinking removes the tag.", at="/{id}/tags/{id}")
class UnlinkRemovesRow(TableApi):
    def unlink(self, between: RelatedRows, key: Key) -> None:
        super().unlink(between, key)
        self.others["tags"].remove((key[1],))


@defect("unlink-not-done", "tags", "DELETE", "relate", "An unlinked species stays.", at="/{id}/species/{id}")
class UnlinkNotDone(TableApi):
    def unlink(self, between: RelatedRows, key: Key) -> None:
        """Nothing is removed."""


@defect("nested-not-stored", "accessions", "POST", "relate", "Tests made with an accession are dropped.")
class NestedNotStored(TableApi):
    def store_with(self, caller: Caller, plain: Row, nested: Sequence[tuple[Related, Sequence[Row]]]) -> Key:
        return super().store_with(caller, plain, [])


@defect("nested-half-stored", "accessions", "POST", "relate", "An accession is stored though a test of it is refused.")
class NestedHalfStored(TableApi):
    def store(self, caller: Caller, body: Any) -> Key:
        try:
            return super().store(caller, body)
        except Refusal:
            if isinstance(body, dict) and body.get("germination_tests"):
                with contextlib.suppress(Refusal):
                    super().store(caller, {**body, "germination_tests": []})
            raise
