"""Defects of updating and replacing."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Caller, Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect


@defect(
    "update-lost", "loans", "PATCH", "update", "Update answers with the new value, but it is not stored.", item=True
)
class UpdateLost(TableApi):
    async def on_update(self, request: Request) -> Response:
        caller, key = self.caller(request), self.key_of(request)
        self.permit(caller, "update")
        row = self.existing(caller, key)
        body = await self.body(request)
        self.refuse_violations(body, partial=True)
        return self.row_answer(row | self.accepted(body))


@defect("update-fails-when-done", "tags", "PATCH", "update", "Update answers 500, and is stored.", item=True)
class UpdateFailsWhenDone(TableApi):
    def change(self, key: Key, values: Row) -> None:
        super().change(key, values)
        raise Refusal(500, "Internal error", "Something went wrong.")


@defect("update-resets-others", "accessions", "PATCH", "update", "Fields that were not sent fall back.", item=True)
class UpdateResetsOthers(TableApi):
    def changes(self, values: Row, row: Row) -> Row:
        reset = {"remark": None, "status": "active"}
        return reset | values


@defect("update-ignores-field", "germination_tests", "PATCH", "update", "One field cannot be changed.", item=True)
class UpdateIgnoresField(TableApi):
    def changes(self, values: Row, row: Row) -> Row:
        return {name: value for name, value in values.items() if name != "germinated"}


@defect("update-moves-created", "accessions", "PATCH", "update", "A change sets created_at anew.", item=True)
class UpdateMovesCreated(TableApi):
    def changes(self, values: Row, row: Row) -> Row:
        return values | {"created_at": datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")}


@defect("created-at-astray", "accessions", "POST", "update", "created_at is an hour ahead.")
class CreatedAtAstray(TableApi):
    def server_values(self, caller: Caller) -> Row:
        ahead = datetime.now(UTC) + timedelta(hours=1)
        return super().server_values(caller) | {"created_at": ahead.strftime("%Y-%m-%dT%H:%M:%SZ")}


@defect("update-hits-others", "tags", "PATCH", "update", "Updating one row changes another.", item=True)
class UpdateHitsOthers(TableApi):
    def change(self, key: Key, values: Row) -> None:
        super().change(key, values)
        super().change((7,), {"colour": values.get("colour", "#000000")})


@defect("update-creates", "species", "PATCH", "update", "Updating a missing key answers 200.", item=True)
class UpdateCreates(TableApi):
    async def on_update(self, request: Request) -> Response:
        try:
            return await super().on_update(request)
        except Refusal as refusal:
            if refusal.status != 404:
                raise
            return self.row_answer(self.database.select(self.table, "LIMIT 1")[0])


@defect("update-not-validated", "germination_tests", "PATCH", "update", "Update stores what create refuses.", item=True)
class UpdateNotValidated(TableApi):
    def violations(self, body: Any, partial: bool) -> list[dict[str, str]]:
        found = super().violations(body, partial)
        return [each for each in found if not partial or each["rule"] not in {"minimum", "maximum", "enum"}]


@defect("update-answer-stale", "vaults", "PATCH", "update", "Update answers with the old row.", item=True)
class UpdateAnswerStale(TableApi):
    async def on_update(self, request: Request) -> Response:
        before = self.fetch(self.key_of(request))
        answer = await super().on_update(request)
        return self.row_answer(before) if before else answer


@defect("read-only-patched", "accessions", "PATCH", "update", "Update overwrites a read-only field.", item=True)
class ReadOnlyPatched(TableApi):
    async def on_update(self, request: Request) -> Response:
        answer = await super().on_update(request)
        body = await self.body(request)
        if "created_at" in body:
            self.change(self.key_of(request), {"created_at": body["created_at"]})
        return answer


@defect("replace-keeps-omitted", "accessions", "PUT", "replace", "Replace keeps what was left out.", item=True)
class ReplaceKeepsOmitted(TableApi):
    def replacement(self, values: Row, row: Row) -> Row:
        return values


@defect("replace-lost", "collectors", "PUT", "replace", "Replace answers 200, but nothing is stored.", item=True)
class ReplaceLost(TableApi):
    async def on_replace(self, request: Request) -> Response:
        before = self.fetch(self.key_of(request))
        answer = await super().on_replace(request)
        if before:
            self.change(self.key_of(request), {k: v for k, v in before.items() if k not in self.table.key})
        return answer


@defect(
    "replace-required-lenient",
    "vaults",
    "PUT",
    "replace",
    "Replace accepts a record without a required field.",
    item=True,
)
class ReplaceRequiredLenient(TableApi):
    async def on_replace(self, request: Request) -> Response:
        body = await self.body(request)
        if isinstance(body, dict) and set(body) < {column.name for column in self.table.columns}:
            return await self.on_update(request)
        return await super().on_replace(request)

    def body_types(self, method: str) -> set[str]:
        return {"application/json", "application/merge-patch+json"}

    def violations(self, body: Any, partial: bool) -> list[dict[str, str]]:
        found = super().violations(body, partial)
        return [each for each in found if not partial or "code" not in each["detail"]]


@defect(
    "update-takes-unique",
    "collectors",
    "PATCH",
    "update",
    "A unique value is taken from the row that has it.",
    item=True,
)
class UpdateTakesUnique(TableApi):
    def change(self, key: Key, values: Row) -> None:
        try:
            super().change(key, values)
        except Refusal:
            unique = [column.name for column in self.table.columns if column.unique and column.name in values]
            taken = {name: values[name] for name in unique}
            for name, value in taken.items():
                for row in self.database.select(self.table, f'WHERE "{name}" = ?', [value]):
                    super().change(tuple(row[part] for part in self.table.key), {name: None})
            super().change(key, values)


@defect(
    "replace-duplicate-crashes", "species", "PUT", "replace", "A duplicate in a replacement is answered 500.", item=True
)
class ReplaceDuplicateCrashes(TableApi):
    async def on_replace(self, request: Request) -> Response:
        try:
            return await super().on_replace(request)
        except Refusal as refusal:
            if refusal.status != 409:
                raise
            raise Refusal(500, "Internal error", "Something went wrong.") from None


@defect("update-by-body-key", "tags", "PATCH", "update", "The key in the body decides which row is changed.", item=True)
class UpdateByBodyKey(TableApi):
    named: Key | None = None

    async def body(self, request: Request) -> Any:
        body = await super().body(request)
        if request.method == "PATCH" and isinstance(body, dict) and isinstance(body.get("id"), int):
            self.named = (body.pop("id"),)
        return body

    def change(self, key: Key, values: Row) -> None:
        named, self.named = self.named, None
        super().change(named if named is not None and self.fetch(named) else key, values)
