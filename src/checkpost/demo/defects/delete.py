"""Defects of deleting."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.api import Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted


@defect("delete-not-done", "tags", "DELETE", "delete", "Delete answers 204, but the row stays.", item=True)
class DeleteNotDone(TableApi):
    def remove(self, key: Key) -> None:
        """Nothing is removed."""


@defect("delete-fails-but-done", "loans", "DELETE", "delete", "DELETE removes the row and answers 500.", item=True)
class DeleteFailsButDone(TableApi):
    async def on_delete(self, request: Request) -> Response:
        await super().on_delete(request)
        raise Refusal(500, "Internal error", "The answer could not be written.")


class _Hiding(TableApi):
    hidden: set[Key]

    def __init__(self, *args: Any) -> None:
        super().__init__(*args)
        self.hidden = set()

    def remove(self, key: Key) -> None:
        self.hidden.add(key)

    def hides(self, row: Row) -> bool:
        return tuple(row[name] for name in self.table.key) in self.hidden


@defect("delete-only-from-list", "vaults", "DELETE", "delete", "A deleted row can still be read by key.", item=True)
class DeleteOnlyFromList(_Hiding):
    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        return [row for row in super().listed(matching, wanted) if not self.hides(row)]


@defect("delete-only-from-read", "vaults", "DELETE", "delete", "A deleted row is still in the list.", item=True)
class DeleteOnlyFromRead(_Hiding):
    def existing(self, caller: Any, key: Key) -> Row:
        if key in self.hidden:
            raise Refusal(404, "Not found", "No row has this key.")
        return super().existing(caller, key)


@defect("second-delete-crashes", "loans", "DELETE", "delete", "Deleting a row again is answered 500.", item=True)
class SecondDeleteCrashes(TableApi):
    async def on_delete(self, request: Request) -> Response:
        if self.fetch(self.key_of(request)) is None:
            raise Refusal(500, "Internal error", "Something went wrong.")
        return await super().on_delete(request)


@defect("delete-missing-succeeds", "tags", "DELETE", "delete", "Deleting a missing key answers 200.", item=True)
class DeleteMissingSucceeds(TableApi):
    async def on_delete(self, request: Request) -> Response:
        if self.fetch(self.key_of(request)) is None:
            return json_answer({"deleted": 1})
        return await super().on_delete(request)
