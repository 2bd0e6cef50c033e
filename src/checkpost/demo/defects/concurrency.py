"""Defects of changes at the same moment."""

from __future__ import annotations

import asyncio
import itertools
import json
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Caller, Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect


@defect("tag-stays", "species", "GET", "concurrency", "A row's tag stays when it changes.", item=True)
class TagStays(TableApi):
    def tag(self, row: Row) -> str:
        return f'"species-{row["id"]}"'


@defect("tag-restless", "tags", "GET", "concurrency", "A row's tag changes by itself.", item=True)
class TagRestless(TableApi):
    turns = itertools.count()

    def tag(self, row: Row) -> str:
        return f'"{next(self.turns)}"'

    def current(self, known: list[str], row: Row) -> bool:
        return known != ['"0"']


@defect("stale-update-done", "accessions", "PATCH", "concurrency", "If-Match is ignored on update.", item=True)
class StaleUpdateDone(TableApi):
    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        if request.method != "PATCH":
            super().guard(request, caller, key, body)


@defect("stale-delete-done", "vaults", "DELETE", "concurrency", "If-Match is ignored on delete.", item=True)
class StaleDeleteDone(TableApi):
    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        if request.method != "DELETE":
            super().guard(request, caller, key, body)


@defect("stale-replace-done", "collectors", "PUT", "concurrency", "A refused stale replace is stored.", item=True)
class StaleReplaceDone(TableApi):
    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        try:
            super().guard(request, caller, key, body)
        except Refusal:
            if request.method == "PUT":
                self.change(key, self.completed(self.accepted(body)))
            raise


@defect("own-tag-refused", "germination_tests", "PATCH", "concurrency", "A row's own tag is refused.", item=True)
class OwnTagRefused(TableApi):
    def current(self, known: list[str], row: Row) -> bool:
        return False


@defect("never-unchanged", "vaults", "GET", "concurrency", "If-None-Match with the current ETag is ignored.", item=True)
class NeverUnchanged(TableApi):
    def unchanged(self, known: list[str], tag: str) -> bool:
        return False


@defect("always-unchanged", "loans", "GET", "concurrency", "Any tag is taken for the row's.", item=True)
class AlwaysUnchanged(TableApi):
    def unchanged(self, known: list[str], tag: str) -> bool:
        return bool(known)


@defect("old-version-taken", "loans", "PATCH", "concurrency", "Update with a stale version is applied.", item=True)
class OldVersionTaken(TableApi):
    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        known = {name: value for name, value in (body or {}).items() if name != "version"}
        super().guard(request, caller, key, known)


@defect("version-stays", "loans", "PATCH", "concurrency", "A change leaves the version as it was.", item=True)
class VersionStays(TableApi):
    def next_version(self, version: int) -> int:
        return version


@defect("retry-doubles", "germination_tests", "POST", "concurrency", "A create that is sent again makes a second row.")
class RetryDoubles(TableApi):
    def create(self, request: Request, caller: Caller, body: Any) -> Response:
        self.answered.clear()
        return super().create(request, caller, body)


@defect("retry-conflicts", "tags", "POST", "concurrency", "A create that is sent again is refused.")
class RetryConflicts(TableApi):
    def create(self, request: Request, caller: Caller, body: Any) -> Response:
        self.answered.clear()
        return super().create(request, caller, body)


@defect("unique-at-once", "collectors", "POST", "concurrency", "Creates of one unique value at once succeed together.")
class UniqueAtOnce(TableApi):
    busy: set[str]

    async def on_create(self, request: Request) -> Response:
        self.busy = getattr(self, "busy", set())
        email = json.loads(await request.body() or b"{}")
        email = email.get("email") if isinstance(email, dict) else None
        together = isinstance(email, str) and email in self.busy
        if isinstance(email, str):
            self.busy.add(email)
        await asyncio.sleep(0.02)
        try:
            return await super().on_create(request)
        except Refusal as refusal:
            rows = self.database.select(self.table, 'WHERE "email" = ?', [email])
            if refusal.status != 409 or not together or not rows:
                raise
            return self.created((rows[0]["id"],), rows[0])
        finally:
            if isinstance(email, str) and not together:
                self.busy.discard(email)


@defect("lost-update", "species", "PATCH", "concurrency", "A change writes the whole row as it was read.", item=True)
class LostUpdate(TableApi):
    async def on_update(self, request: Request) -> Response:
        caller = self.caller(request)
        row = self.fetch(self.key_of(request))
        await asyncio.sleep(0.02)
        answer = await super().on_update(request)
        now = self.existing(caller, self.key_of(request))
        body = json.loads(await request.body())
        if row is not None:
            old = {column.name: row[column.name] for column in self.table.writable if column.name not in body}
            self.change(self.key_of(request), {name: value for name, value in old.items() if value != now[name]})
        return answer
