"""Defects of creating rows."""

from __future__ import annotations

import sqlite3
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Caller, Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.tables import Column


@defect("create-not-stored", "tags", "POST", "create", "Create answers 201, but the row is not there afterwards.")
class CreateNotStored(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        self.remove(key)
        return super().created(key, row)


@defect("create-fails-when-done", "tags", "POST", "create", "Create answers 500, and its row is stored.")
class CreateFailsWhenDone(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        raise Refusal(500, "Internal error", "Something went wrong.")


@defect("refused-but-stored", "vaults", "POST", "create", "A refused record is in the list all the same.")
class RefusedButStored(TableApi):
    def refuse_violations(self, body: Any, partial: bool) -> None:
        try:
            super().refuse_violations(body, partial)
        except Refusal:
            if not partial and not {"required", "type"} & {v["rule"] for v in self.violations(body, partial)}:
                self.insert(self.completed(self.accepted(body)))
            raise


@defect("default-missing", "species", "POST", "create", "A field left out does not get its documented default.")
class DefaultMissing(TableApi):
    def default(self, column: Column) -> Any:
        return "NT" if column.name == "conservation_status" else super().default(column)


@defect("read-only-overwritten", "species", "POST", "create", "A read-only field takes the value the client sent.")
class ReadOnlyOverwritten(TableApi):
    def accepted(self, body: Row) -> Row:
        values = super().accepted(body)
        return values | ({"created_at": body["created_at"]} if "created_at" in body else {})

    def server_values(self, caller: Any) -> Row:
        return {}

    def completed(self, values: Row) -> Row:
        return {**super().server_values(Caller(None, "public")), **super().completed(values), **values}


@defect("duplicate-accepted", "vaults", "POST", "create", "A second row with the same key overwrites the first.")
class DuplicateAccepted(TableApi):
    def insert(self, values: Row) -> Key:
        key = tuple(values[name] for name in self.table.key)
        if self.fetch(key) is None:
            return super().insert(values)
        self.change(key, values)
        return key


@defect("taken-key-overwritten", "tags", "POST", "create", "A create with the key of a row overwrites that row.")
class TakenKeyOverwritten(TableApi):
    def accepted(self, body: Row) -> Row:
        return super().accepted(body) | {name: body[name] for name in self.table.key if name in body}

    def completed(self, values: Row) -> Row:
        return super().completed(values) | {name: values[name] for name in self.table.key if name in values}

    def insert(self, values: Row) -> Key:
        key = tuple(values.get(name) for name in self.table.key)
        if None in key or self.fetch(key) is None:
            return super().insert(values)
        self.change(key, values)
        return key


@defect("duplicate-crashes", "tags", "POST", "create", "A duplicate of a unique value is answered 500.")
class DuplicateCrashes(TableApi):
    def conflict(self, error: sqlite3.IntegrityError) -> Refusal:
        return Refusal(500, "Internal error", "Something went wrong.")


@defect("duplicate-returns-first", "tags", "POST", "create", "A duplicate of a unique value is answered 201.")
class DuplicateReturnsFirst(TableApi):
    def insert(self, values: Row) -> Key:
        first = self.database.select(self.table, 'WHERE "label" = ?', [values["label"]])
        return (first[0]["id"],) if first else super().insert(values)


@defect("key-reused", "tags", "POST", "delete", "The key of a deleted row is given to the next one.")
class KeyReused(TableApi):
    def insert(self, values: Row) -> Key:
        highest = self.database.select(self.table, 'ORDER BY "id" DESC LIMIT 1')[0]["id"]
        return super().insert({"id": highest + 1, **values})


@defect("location-wrong", "loans", "POST", "create", "The Location of a created row leads to nothing.")
class LocationWrong(TableApi):
    def location(self, key: Key) -> str:
        return super().location(key) + "0"


@defect("location-missing", "vaults", "POST", "shape", "The documented Location header is missing.")
class LocationMissing(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        return self.row_answer(row, 201)


@defect("half-characters-crash", "species", "POST", "create", "A text with half of a character is answered 500.")
class HalfCharactersCrash(TableApi):
    whole_characters = False


@defect("nul-cuts", "tags", "POST", "create", "A text is stored up to a NUL in it.")
class NulCuts(TableApi):
    def accept(self, column: Column, value: Any) -> Any:
        return super().accept(column, value.partition("\0")[0] if isinstance(value, str) else value)


@defect("huge-numbers-crash", "germination_tests", "POST", "create", "A number that no double holds is answered 500.")
class HugeNumbersCrash(TableApi):
    async def body(self, request: Request) -> Any:
        if b"1e400" in await request.body():
            raise Refusal(500, "Internal error", "Something went wrong.")
        return await super().body(request)
