"""Defects of many rows in one request."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import json_answer
from checkpost.demo.api import Caller, TableApi
from checkpost.demo.bulk import Each
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect


@defect("many-last-lost", "tags", "POST", "bulk", "The last of many rows is answered, not stored.", at="/bulk")
class ManyLastLost(TableApi):
    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        rows = super().all_or_none(items, each)
        if len(rows) > 1 and isinstance(items[0], dict) and "id" not in items[0]:
            self.remove((rows[-1]["id"],))
        return rows


@defect("many-reversed", "species", "POST", "bulk", "Many rows are answered in reverse.", at="/bulk")
class ManyReversed(TableApi):
    def bulk_answer(self, items: Sequence[Any], each: Each, status: int) -> Response:
        answer = super().bulk_answer(items, each, status)
        return json_answer(json.loads(bytes(answer.body))[::-1], status) if status == 201 else answer


@defect("many-half-stored", "collectors", "POST", "bulk", "Of a refused request the first rows stay.", at="/bulk")
class ManyHalfStored(TableApi):
    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        return [each(item)[1] or {} for item in items]


@defect("many-not-checked", "vaults", "POST", "bulk", "Rows are not checked where they come many at once.", at="/bulk")
class ManyNotChecked(TableApi):
    def creating(self, caller: Caller) -> Each:
        def each(item: Any) -> tuple[int, Row | None]:
            key = self.insert(self.completed(self.accepted(item)) | self.server_values(caller))
            return 201, self.present(self.fetch(key) or {})

        return each


@defect("many-dropped", "germination_tests", "POST", "bulk", "Bad rows among many are dropped silently.", at="/bulk")
class ManyDropped(TableApi):
    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        if isinstance(items[0], dict) and "id" not in items[0]:
            return [done["row"] for done in self.one_by_one(items, each) if "row" in done]
        return super().all_or_none(items, each)


@defect("many-results-lie", "tags", "POST", "bulk", "A refused row is shown as stored.", at="/batch", spelling="prefix")
class ManyResultsLie(TableApi):
    def one_by_one(self, items: Sequence[Any], each: Each) -> list[Row]:
        results = super().one_by_one(items, each)
        return [{"index": done["index"], "status": 201} if done["status"] == 409 else done for done in results]


@defect(
    "many-stop-at-bad", "loans", "POST", "bulk", "One bad row stops those behind it.", at="/batch", spelling="nested"
)
class ManyStopAtBad(TableApi):
    def one_by_one(self, items: Sequence[Any], each: Each) -> list[Row]:
        results = super().one_by_one(items, each)
        bad = next((place for place, done in enumerate(results) if "error" in done), len(results))
        for done in results[bad + 1 :]:
            if "row" in done:
                self.remove((done["row"]["id"],))
        return results


@defect("lines-miscounted", "loans", "POST", "bulk", "An import counts a line too many.", at="/import", spelling="json")
class LinesMiscounted(TableApi):
    def lines_answer(self, results: Sequence[Row]) -> Response:
        answer = json.loads(bytes(super().lines_answer(results).body))
        return json_answer({**answer, "stored": answer["stored"] + 1})


@defect("lines-wrong-line", "tags", "POST", "bulk", "An import names another line.", at="/import", spelling="json")
class LinesWrongLine(TableApi):
    def lines_answer(self, results: Sequence[Row]) -> Response:
        return super().lines_answer([{**done, "index": (done["index"] + 1) % len(results)} for done in results])


@defect("many-changes-first", "tags", "PATCH", "bulk", "Of many changes the first alone is stored.", at="/bulk")
class ManyChangesFirst(TableApi):
    def updating(self, caller: Caller) -> Each:
        inner, done = super().updating(caller), set[int]()

        def each(item: Any) -> tuple[int, Row | None]:
            if done:
                row = self.existing(caller, (item["id"],))
                return 200, {**self.present(row), **item}
            done.add(1)
            return inner(item)

        return each


@defect("many-changes-swapped", "vaults", "PATCH", "bulk", "Changes of many rows reach the next one.", at="/bulk")
class ManyChangesSwapped(TableApi):
    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        if items and isinstance(items[0], dict) and "name" in items[0] and len(items[0]) == 2:
            names = [item["name"] for item in items]
            items = [{**item, "name": name} for item, name in zip(items, names[1:] + names[:1], strict=True)]
        return super().all_or_none(items, each)


@defect("many-removed-more", "accessions", "DELETE", "bulk", "Removing rows removes the next one too.", at="/bulk")
class ManyRemovedMore(TableApi):
    def deleting(self, caller: Caller) -> Each:
        inner = super().deleting(caller)

        def each(item: Any) -> tuple[int, Row | None]:
            done = inner(item)
            following = self.database.select(self.table, 'WHERE "id" > ? ORDER BY "id" LIMIT 1', [int(item)])
            if following and following[0]["id"] > 300:
                self.remove((following[0]["id"],))
            return done

        return each

    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        # from the highest key on, so that what is removed too is never among those still to come
        keys = sorted(items, key=int, reverse=True) if items and isinstance(items[0], str) else items
        return super().all_or_none(keys, each)


@defect("many-not-removed", "loans", "DELETE", "bulk", "Removing many rows removes none.", at="/bulk")
class ManyNotRemoved(TableApi):
    def deleting(self, caller: Caller) -> Each:
        return lambda item: (204, None)


@defect("many-half-removed", "collectors", "DELETE", "bulk", "A refused removal removes the first rows.", at="/bulk")
class ManyHalfRemoved(TableApi):
    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        if items and isinstance(items[0], str):
            return [each(item)[1] or {} for item in items]
        return super().all_or_none(items, each)


@defect("none-accepted", "vaults", "POST", "bulk", "A request without rows is accepted.", at="/bulk")
class NoneAccepted(TableApi):
    def refuse_number(self, items: Sequence[Any]) -> None:
        if items:
            super().refuse_number(items)


@defect("too-many-accepted", "tags", "POST", "bulk", "More rows than the maximum are accepted.", at="/bulk")
class TooManyAccepted(TableApi):
    def refuse_number(self, items: Sequence[Any]) -> None:
        if not items:
            super().refuse_number(items)


@defect("filtered-change-more", "species", "PATCH", "bulk", "Update by filter reaches a row more.", spelling="suffix")
class FilteredChangeMore(TableApi):
    def filtered(self, request: Request, caller: Caller) -> list[Row]:
        rows = super().filtered(request, caller)
        last = self.database.select(self.table, 'ORDER BY "id" DESC LIMIT 1')
        return [*rows, *(row for row in last if request.method == "PATCH" and row not in rows)]


@defect("filtered-delete-more", "collectors", "DELETE", "bulk", "Delete by filter takes a row more.", spelling="infix")
class FilteredDeleteMore(TableApi):
    def filtered(self, request: Request, caller: Caller) -> list[Row]:
        rows = super().filtered(request, caller)
        last = self.database.select(self.table, 'WHERE "id" > 12 ORDER BY "id" DESC LIMIT 1')
        return [*rows, *(row for row in last if request.method == "DELETE" and row not in rows)]


@defect("filtered-change-none", "vaults", "PATCH", "bulk", "Update by filter stores nothing.", spelling="suffix")
class FilteredChangeNone(TableApi):
    async def on_filtered_update(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "update")
        self.refuse_violations(await self.body(request), partial=True)
        return json_answer({"changed": len(self.filtered(request, caller))})


@defect(
    "filtered-delete-miscounted", "tags", "DELETE", "bulk", "Delete by filter counts a row too few.", spelling="suffix"
)
class FilteredDeleteMiscounted(TableApi):
    async def on_filtered_delete(self, request: Request) -> Response:
        answer = json.loads(bytes((await super().on_filtered_delete(request)).body))
        return json_answer({"deleted": max(0, answer["deleted"] - 1)})
