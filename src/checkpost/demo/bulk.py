"""Many rows in one request, in the shape that a spelling has for it."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.bulkpaths import LARGEST_BODY, MOST_AT_ONCE
from checkpost.demo.core import Caller, Key
from checkpost.demo.database import Row
from checkpost.demo.guarded import GuardedRows

Each = Callable[[Any], tuple[int, Row | None]]


class BulkRows(GuardedRows):
    """Rows that can be written many at once."""

    # -- reading ---------------------------------------------------------------------------------

    async def many(self, request: Request, name: str) -> list[Any]:
        """The items of a request: an array, or one under a name. Raises Refusal."""
        body = await self.body(request)
        items = body.get(name) if self.spelling.bulk == "wrapped" and isinstance(body, dict) else body
        if not isinstance(items, list):
            raise Refusal(422, "Not valid", "An array is wanted.", [_rule("", "type", "an array is wanted")])
        self.refuse_number(items)
        return items

    def refuse_number(self, items: Sequence[Any]) -> None:
        if not items:
            raise Refusal(422, "Not valid", "There is nothing in it.", [_rule("", "minItems", "it is empty")])
        if len(items) > MOST_AT_ONCE:
            raise Refusal(422, "Not valid", "There is too much in it.", [_rule("", "maxItems", f"over {MOST_AT_ONCE}")])

    async def lines(self, request: Request) -> list[Any]:
        """The values of newline-delimited JSON. Raises Refusal."""
        if request.headers.get("content-type", "").partition(";")[0].strip() != "application/x-ndjson":
            raise Refusal(415, "Unsupported media type", "Send application/x-ndjson.")
        text = await request.body()
        if len(text) > LARGEST_BODY:
            raise Refusal(413, "Too large", f"A body may have {LARGEST_BODY} bytes at the most.")
        try:
            return [json.loads(line) for line in text.decode().split("\n") if line.strip()]
        except (ValueError, RecursionError):
            raise Refusal(400, "Not readable", "A line is not JSON.") from None

    # -- writing ---------------------------------------------------------------------------------

    def all_or_none(self, items: Sequence[Any], each: Each) -> list[Row]:
        """What each item leads to; nothing at all if one is refused."""
        rows = []
        with self.database.together():
            for place, item in enumerate(items):
                try:
                    _, row = each(item)
                except Refusal as refusal:
                    refusal.detail = f"Item {place}: {refusal.detail}"
                    raise
                rows.append(row or {})
        return rows

    def one_by_one(self, items: Sequence[Any], each: Each) -> list[Row]:
        """A result for each item, refused or not."""
        results: list[Row] = []
        for place, item in enumerate(items):
            try:
                with self.database.together():
                    status, row = each(item)
                results.append({"index": place, "status": status, **({"row": row} if row is not None else {})})
            except Refusal as refusal:
                results.append({"index": place, "status": refusal.status, "error": refusal.detail})
        return results

    def creating(self, caller: Caller) -> Each:
        def each(item: Any) -> tuple[int, Row | None]:
            key = self.store(caller, item)
            row = self.fetch(key)
            assert row is not None
            return 201, self.present(row)

        return each

    def updating(self, caller: Caller) -> Each:
        def each(item: Any) -> tuple[int, Row | None]:
            key = self._key_in(item)
            self.existing(caller, key)
            changes = {name: value for name, value in item.items() if name not in self.table.key}
            self.refuse_violations(changes, partial=True)
            self.change(key, self.changes(self.accepted(changes), self.existing(caller, key)))
            return 200, self.present(self.existing(caller, key))

        return each

    def deleting(self, caller: Caller) -> Each:
        def each(item: Any) -> tuple[int, Row | None]:
            key = (self._key_value(item),)
            self.existing(caller, key)
            self.remove(key)
            return 204, None

        return each

    def _key_in(self, item: Any) -> Key:
        if not isinstance(item, dict) or any(name not in item for name in self.table.key):
            raise Refusal(422, "Not valid", "The key is missing.", [_rule(self.table.key[0], "required", "missing")])
        return tuple(item[name] for name in self.table.key)

    def _key_value(self, item: Any) -> Any:
        return self.key_part(self.table.column(self.table.key[0]), str(item))

    # -- the operations --------------------------------------------------------------------------

    async def on_bulk_create(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "create")
        if self.spelling.bulk == "lines":
            items = await self.lines(request)
            return self.lines_answer(self.one_by_one(items, self.creating(caller)))
        return self.bulk_answer(await self.many(request, "rows"), self.creating(caller), 201)

    async def on_bulk_update(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "update")
        return self.bulk_answer(await self.many(request, "rows"), self.updating(caller), 200)

    async def on_bulk_delete(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "delete")
        if self.spelling.bulk == "wrapped":
            return self.bulk_answer(await self.many(request, "keys"), self.deleting(caller), 200)
        keys = [each for each in request.query_params.get("ids", "").split(",") if each]
        self.refuse_number(keys)
        return json_answer({"deleted": len(self.all_or_none(keys, self.deleting(caller)))})

    def bulk_answer(self, items: Sequence[Any], each: Each, status: int) -> Response:
        if self.spelling.bulk == "wrapped":
            return json_answer({"results": self.one_by_one(items, each)}, 207)
        return json_answer(self.all_or_none(items, each), status)

    def lines_answer(self, results: Sequence[Row]) -> Response:
        refused = [{"line": each["index"] + 1, "detail": each["error"]} for each in results if "error" in each]
        return json_answer({"stored": len(results) - len(refused), "refused": refused})

    async def on_create(self, request: Request) -> Response:
        if self.spelling.bulk != "same path":
            return await super().on_create(request)
        caller = self.caller(request)
        self.permit(caller, "create")
        body = await self.body(request)
        if isinstance(body, list):
            self.refuse_number(body)
            return self.bulk_answer(body, self.creating(caller), 201)
        return self.create(request, caller, body)

    # -- by filter -------------------------------------------------------------------------------

    def filtered(self, request: Request, caller: Caller) -> list[Row]:
        """The rows that a change by filter is about. Raises Refusal where there is no filter."""
        wanted = self.spelling.wanted(request, self.table)
        if wanted.where is None:
            raise Refusal(400, "Not readable", "A condition is wanted.")
        condition, values = self.matching(caller, wanted)
        return self.database.select(self.table, condition, values)

    async def on_filtered_update(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "update")
        body = await self.body(request)
        self.refuse_violations(body, partial=True)
        rows = self.filtered(request, caller)
        with self.database.together():
            for row in rows:
                self.change(tuple(row[name] for name in self.table.key), self.accepted(body))
        return json_answer({"changed": len(rows)})

    async def on_filtered_delete(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "delete")
        rows = self.filtered(request, caller)
        with self.database.together():
            for row in rows:
                self.remove(tuple(row[name] for name in self.table.key))
        return json_answer({"deleted": len(rows)})


def _rule(field: str, rule: str, detail: str) -> dict[str, str]:
    return {"field": field, "rule": rule, "detail": detail}
