"""A sound data API in memory: its contract, and what it does with requests."""

from __future__ import annotations

import asyncio
import functools
import hashlib
import json
import re
import uuid
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from random import Random
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

from checkpost.wire.exchange import Answer
from tests.hunt.habits import Column, Habits, Json, Table
from tests.hunt.query import Row, Unreadable, Wanted, columns_of, cursor, parameters, read
from tests.hunt.rules import comparable, made, schema_of, wrong

BASE = "http://127.0.0.1:1/api"
_REFUSALS = ("400", "404", "409", "412", "415", "422")


class Refused(Exception):
    def __init__(self, status: int | str, said: str) -> None:
        super().__init__(said)
        self.status, self.said = int(status), said


class SoundApi:
    """A transport that keeps every promise of its own contract."""

    def __init__(self, habits: Habits, seed: int) -> None:
        self.habits, self.random = habits, Random(f"sound/{seed}")
        self.tables = {each.name: each for each in habits.tables}
        self.rows: dict[str, dict[Any, Row]] = {name: {} for name in self.tables}
        self.next = {each.name: 2**40 if each.key == "large number" else 1 for each in habits.tables}
        #: What people have entered, to be there at the end as they left it.
        self.foreign: dict[str, dict[Any, Row]] = {name: {} for name in self.tables}
        self.sent = 0
        for table in habits.tables:
            for _ in range(table.rows):
                self.somebody_adds(table)

    # -- the contract ------------------------------------------------------------------------------

    def contract(self) -> Json:
        paths: Json = {}
        schemas: Json = {
            "Error": {"type": "object", "required": ["title"], "properties": {"title": {"type": "string"}}}
        }
        for table in self.habits.tables:
            paths |= self._paths(table)
            schemas |= self._schemas(table)
        return {
            "openapi": "3.1.0",
            "info": {"title": "A sound API", "version": "1"},
            "servers": [{"url": "/api"}],
            "paths": paths,
            "components": {"schemas": schemas},
        }

    def _schemas(self, table: Table) -> Json:
        key_schema = schema_of(columns_of(table)[0])
        if table.key == "client":
            key_schema |= {"minLength": 1, "maxLength": 40, "pattern": "^[A-Za-z0-9_-]+$"}
        body = {each.name: self._schema(each) for each in table.columns}
        own = {} if table.key == "client" else {"readOnly": True}
        required = [each.name for each in table.columns if each.required]
        keyed = [table.key_name] if table.key == "client" else []
        closed = {"additionalProperties": False} if self.habits.closed else {}
        moment = {"type": "string", "format": "date-time", "readOnly": True}
        stamps = {"created_at": moment, "updated_at": moment} if table.stamps else {}
        row = {table.key_name: {**key_schema, **own}, **body, **stamps}
        create = {**({table.key_name: key_schema} if table.key == "client" else {}), **body}
        name = table.name.title()
        return {
            name: {"type": "object", "required": list(row), "properties": row, **closed},
            f"{name}New": {"type": "object", "required": keyed + required, "properties": create, **closed},
            f"{name}Whole": {"type": "object", "required": required, "properties": body, **closed},
            f"{name}Change": {"type": "object", "properties": body, **closed},
        }

    def _schema(self, column: Column) -> Json:
        kinds = {"uuid": "string", "client": "string"}
        return schema_of(column, kinds.get(self.tables[column.refers].key, "integer") if column.refers else "integer")

    def _paths(self, table: Table) -> Json:
        habits, name = self.habits, table.name.title()

        def ref(which: str) -> Json:
            return {"$ref": f"#/components/schemas/{which}"}

        def answer(schema: Json | None, headers: Json | None = None) -> Json:
            found: Json = {"description": "Done."}
            if schema is not None:
                found["content"] = {"application/json": {"schema": schema}}
            return found | ({"headers": headers} if headers else {})

        kind = "application/problem+json" if habits.problem else "application/json"
        refusals = {each: {"description": "No.", "content": {kind: {"schema": ref("Error")}}} for each in _REFUSALS}

        def body(which: str, many: bool = False) -> Json:
            schema = {"type": "array", "items": ref(which)} if many else ref(which)
            return {"required": True, "content": {"application/json": {"schema": schema}}}

        wrapped = {"type": "object", "required": ["data"], "properties": {"data": ref(name)}}
        one = wrapped if habits.created == "data" else ref(name)
        counted = (
            {"X-Total-Count": {"required": True, "schema": {"type": "integer"}}} if habits.total == "header" else {}
        )
        tagged = {"ETag": {"required": True, "schema": {"type": "string"}}} if habits.tags else {}
        placed = {"Location": {"required": True, "schema": {"type": "string"}}} if self._locates else {}
        created = answer(None, placed) if habits.created == "place" else answer(one, placed)
        rows: Json = {"type": "array", "items": ref(name)}
        if habits.selects:
            inner = {**self._schemas(table)[name]}
            inner.pop("required")
            rows = {"type": "array", "items": inner}
        listed = self._enveloped_schema(rows)
        match = {"name": "If-Match", "in": "header", "schema": {"type": "string"}}
        guarded = {"parameters": [match]} if habits.tags else {}
        update = {"responses": {"200": answer(one), **refusals}, **guarded}
        whole = {"put": {**update, "requestBody": body(f"{name}Whole")}} if habits.update == "PATCH and PUT" else {}
        method = "put" if habits.update == "PUT partial" else "patch"
        removed = {"204": answer(None), "200": answer(ref("Error")), "row": answer(one)}[habits.removed]
        status = "204" if habits.removed == "204" else "200"
        key = {"name": table.key_name, "in": "path", "required": True, "schema": schema_of(columns_of(table)[0])}
        bulk = {
            f"/{table.name}/bulk": {
                "post": {
                    "description": "Stores all of the records, or none.",
                    "requestBody": body(f"{name}New", True),
                    "responses": {"201": answer({"type": "array", "items": ref(name)}), **refusals},
                }
            }
        }
        return {
            f"/{table.name}": {
                "get": {
                    "parameters": parameters(habits, table),
                    "responses": {"200": answer(listed, counted), **refusals},
                },
                "post": {"requestBody": body(f"{name}New"), "responses": {"201": created, **refusals}},
            },
            f"/{table.name}/{{{table.key_name}}}": {
                "parameters": [key],
                "get": {"responses": {"200": answer(one, tagged), **refusals}},
                method: {**update, "requestBody": body(f"{name}Change")},
                **whole,
                "delete": {"responses": {status: removed, **refusals}, **guarded},
            },
            **(bulk if habits.bulk else {}),
        }

    @property
    def _locates(self) -> bool:
        return self.habits.location or self.habits.created == "place"

    def _enveloped_schema(self, rows: Json) -> Json:
        if self.habits.envelope == "bare":
            return rows
        members: Json = {self.habits.envelope: rows}
        if self.habits.total == "body":
            members["total"] = {"type": "integer", "minimum": 0}
        if self.habits.paging == "cursor":
            members["next_cursor"] = {"type": ["string", "null"]}
        return {"type": "object", "required": list(members), "properties": members}

    # -- people at work ----------------------------------------------------------------------------

    def somebody_adds(self, table: Table) -> None:
        number = self.next[table.name]
        row: Row = {}
        for column in table.columns:
            if column.refers:
                others = list(self.foreign[column.refers])
                row[column.name] = self.random.choice(others) if others and self.random.random() < 0.8 else None
                if row[column.name] is None and not column.nullable:
                    row[column.name] = others[0]
            else:
                row[column.name] = made(column, number, self.random)
        key = self._new_key(table, {table.key_name: f"p-{number}"})
        whole = {table.key_name: key, **row, **self._stamps(table)}
        if self._taken(table, whole, None):
            return
        self.rows[table.name][key] = self.foreign[table.name][key] = whole

    def somebody_works(self) -> None:
        table = self.random.choice(self.habits.tables)
        own = [key for key in self.foreign[table.name] if not self._referred(table, key)]
        drawn = self.random.random()
        if drawn < 0.4 or not own:
            self.somebody_adds(table)
        elif drawn < 0.7 and len(own) > 3:
            key = self.random.choice(own)
            del self.rows[table.name][key], self.foreign[table.name][key]
        else:
            key = self.random.choice(own)
            free = [each for each in table.columns if not each.refers and not each.unique]
            column = self.random.choice(free or list(table.columns[:1]))
            value = made(column, self.next[table.name], self.random)
            changed = {**self.foreign[table.name][key], **self._moved(table), column.name: value}
            if not self._taken(table, changed, key):
                self.rows[table.name][key] = self.foreign[table.name][key] = changed

    # -- requests ----------------------------------------------------------------------------------

    async def answer(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        self.sent += 1
        await asyncio.sleep(self.random.uniform(0, self.habits.slow) if self.habits.slow else 0)
        if self.random.random() < self.habits.others:
            self.somebody_works()
        named = {name.lower(): value for name, value in headers.items()}
        kind = "application/json"
        try:
            status, told, more = self._handle("GET" if method == "HEAD" else method, url, named, body)
        except Refused as refusal:
            status, told, more = refusal.status, {"title": refusal.said, "status": refusal.status}, {}
            kind = "application/problem+json" if self.habits.problem else kind
            if status == 405:
                more = {"Allow": refusal.said}
        content = (
            b""
            if told is None
            else json.dumps(told, ensure_ascii=self.random.random() < 0.5).encode("utf-8", "replace")
        )
        sent = {"Date": format_datetime(self._clock(), True), **({"Content-Type": kind} if content else {}), **more}
        if self.habits.extra_headers:
            sent |= {"X-Request-Id": uuid.UUID(int=self.random.getrandbits(128)).hex, "Vary": "Accept-Encoding"}
        return Answer(status, tuple(sent.items()), b"" if method == "HEAD" else content)

    def _handle(
        self, method: str, url: str, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[int, Any, dict[str, str]]:
        parts = urlsplit(url)
        path = parts.path.removeprefix(urlsplit(BASE).path).strip("/").split("/")
        table = self.tables.get(path[0])
        if table is None or len(path) > 2:
            raise Refused(404, "no such path")
        pairs = parse_qsl(parts.query, keep_blank_values=True)
        if len(path) == 2 and path[1] == "bulk" and self.habits.bulk and (method == "POST" or table.key != "client"):
            if method != "POST":
                raise Refused(405, "POST")
            return self._create_many(table, self._record(headers, body))
        updates = {"PATCH": ["PATCH"], "PUT partial": ["PUT"], "PATCH and PUT": ["PATCH", "PUT"]}[self.habits.update]
        allowed = ["GET", "HEAD", "OPTIONS", *(["POST"] if len(path) == 1 else [*updates, "DELETE"])]
        if method == "OPTIONS":
            return 204, None, {"Allow": ", ".join(allowed)}
        if method not in allowed:
            raise Refused(405, ", ".join(allowed))
        if len(path) == 1 and method == "GET":
            return self._list(table, pairs)
        if pairs:
            raise Refused(400, "no parameter is known here")
        if method == "POST":
            return self._create(table, self._record(headers, body))
        key = self._key(table, unquote(path[1]))
        row = self.rows[table.name].get(key)
        if row is None:
            raise Refused(404, "no such row")
        return self._on_row(table, key, row, method, headers, body)

    def _on_row(
        self, table: Table, key: Any, row: Row, method: str, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[int, Any, dict[str, str]]:
        if method == "GET":
            tag = self._tag(row)
            if tag and headers.get("if-none-match") in {tag, "*"}:
                return 304, None, {"ETag": tag}
            return 200, self._shown(row), {"ETag": tag} if tag else {}
        wanted = headers.get("if-match")
        if self.habits.tags and wanted not in {None, "*", self._tag(row)}:
            raise Refused(412, "the row has changed")
        if method == "DELETE":
            if self._referred(table, key):
                raise Refused(self.habits.referred, "other rows refer to it")
            del self.rows[table.name][key]
            told = {"204": None, "200": {"title": "removed"}, "row": self._shown(row)}[self.habits.removed]
            return (204 if told is None else 200), told, {}
        record = self._record(headers, body)
        partial = method == "PATCH" or self.habits.update == "PUT partial"
        values = self._values(table, record, partial, change=True)
        changed = {**row, **values, **self._moved(table)}
        if self._taken(table, changed, key):
            raise Refused(409, "a value is taken")
        self._store(table, key, changed)
        return 200, self._shown(changed), {}

    def _record(self, headers: Mapping[str, str], body: bytes | None) -> Any:
        if headers.get("content-type", "").partition(";")[0].strip() != "application/json":
            raise Refused(415, "send JSON")
        try:
            return json.loads((body or b"").decode())
        except (ValueError, RecursionError):
            raise Refused(400, "no JSON") from None

    def _values(self, table: Table, record: Any, partial: bool, change: bool) -> Row:
        """The values of a body, defaults included where it is whole. Raises Refused."""
        if not isinstance(record, dict):
            raise Refused(self.habits.refusal, "no record")
        known = {each.name: each for each in table.columns}
        beside = set(record) - set(known) - ({table.key_name} if not change and table.key == "client" else set())
        if beside and self.habits.closed and not (beside == {table.key_name} and table.key != "client" and not change):
            raise Refused(self.habits.refusal, f"unknown: {sorted(beside)}")
        values: Row = {}
        for name, column in known.items():
            if name not in record:
                if column.required and not partial:
                    raise Refused(self.habits.refusal, f"{name} is missing")
                if not partial:
                    values[name] = column.default
                continue
            if wrong(column, record[name]):
                raise Refused(self.habits.refusal, f"{name} is not valid")
            if column.refers and record[name] is not None and record[name] not in self.rows[column.refers]:
                raise Refused(self.habits.referred, f"{name} refers to nothing")
            values[name] = record[name]
        return values

    def _create(self, table: Table, record: Any) -> tuple[int, Any, dict[str, str]]:
        row = self._new_row(table, record)
        self._store(table, row[table.key_name], row)
        place = {"Location": f"/api/{table.name}/{row[table.key_name]}"} if self._locates else {}
        return 201, None if self.habits.created == "place" else self._shown(row), place

    def _new_row(self, table: Table, record: Any) -> Row:
        values = self._values(table, record, False, change=False)
        if table.key == "client":
            key = record.get(table.key_name)
            if not isinstance(key, str) or not re.fullmatch(r"[A-Za-z0-9_-]{1,40}", key):
                raise Refused(self.habits.refusal, "no key")
            if key in self.rows[table.name]:
                raise Refused(409, "the key is taken")
        if self._taken(table, values, None):
            raise Refused(409, "a value is taken")
        return {table.key_name: self._new_key(table, record), **values, **self._stamps(table)}

    def _create_many(self, table: Table, records: Any) -> tuple[int, Any, dict[str, str]]:
        if not isinstance(records, list) or len(records) > 1000:
            raise Refused(self.habits.refusal, "no list")
        before = dict(self.rows[table.name])
        stored = []
        try:
            for record in records:
                row = self._new_row(table, record)
                self._store(table, row[table.key_name], row)
                stored.append(row)
        except Refused:
            self.rows[table.name] = before
            raise
        return 201, stored, {}

    def _list(self, table: Table, pairs: list[tuple[str, str]]) -> tuple[int, Any, dict[str, str]]:
        wanted = self._wanted(table, pairs)
        rows = [row for row in self._stored(table) if all(test(row) for test in wanted.tests)]
        rows = self._ordered(table, rows, wanted)
        page = rows[wanted.start : wanted.start + wanted.size]
        if wanted.fields:
            shown = {*wanted.fields, table.key_name}
            page = [{name: row[name] for name in row if name in shown} for row in page]
        headers = {"X-Total-Count": str(len(rows))} if self.habits.total == "header" else {}
        if self.habits.envelope == "bare":
            return 200, page, headers
        told: Json = {self.habits.envelope: page}
        if self.habits.total == "body":
            told["total"] = len(rows)
        if self.habits.paging == "cursor":
            after = wanted.start + wanted.size
            told["next_cursor"] = cursor(after) if after < len(rows) else None
        return 200, told, headers

    def _wanted(self, table: Table, pairs: list[tuple[str, str]]) -> Wanted:
        try:
            return read(self.habits, table, pairs)
        except Unreadable as error:
            raise Refused(400, str(error)) from None

    def _stored(self, table: Table) -> list[Row]:
        return list(self.rows[table.name].values())

    def _ordered(self, table: Table, rows: list[Row], wanted: Wanted) -> list[Row]:
        habits = self.habits
        places = {row[table.key_name]: place for place, row in enumerate(self._stored(table))}
        usual = {
            "key": lambda row: places[row[table.key_name]],
            "newest": lambda row: -places[row[table.key_name]],
            "scattered": lambda row: hashlib.md5(str(row[table.key_name]).encode()).hexdigest(),
        }[habits.order]
        rows = sorted(rows, key=usual)
        for column, down in reversed(wanted.order):
            after = {"first": False, "last": True, "smallest": down, "largest": not down}[habits.nulls]

            def compared(one: Row, other: Row, column: Column = column, down: bool = down, after: bool = after) -> int:
                first, second = (comparable(habits, column, row[column.name]) for row in (one, other))
                if first is None or second is None:
                    if first is second:
                        return 0
                    return 1 if (first is None) == after else -1
                return (int(first > second) - int(first < second)) * (-1 if down else 1)

            rows = sorted(rows, key=functools.cmp_to_key(compared))
        return rows

    def _now(self) -> str:
        return self._clock().isoformat(timespec="seconds").replace("+00:00", "Z")

    def _clock(self) -> datetime:
        """The server's clock, which goes as fast as the run's."""
        try:
            passed = asyncio.get_running_loop().time()
        except RuntimeError:  # before the run
            passed = 0.0
        return datetime(2026, 3, 1, tzinfo=UTC) + timedelta(seconds=passed)

    def _moved(self, table: Table) -> Row:
        return {"updated_at": self._now()} if table.stamps else {}

    def _stamps(self, table: Table) -> Row:
        return {"created_at": self._now(), **self._moved(table)} if table.stamps else {}

    # -- keys and rows -----------------------------------------------------------------------------

    def _new_key(self, table: Table, record: Row) -> Any:
        self.next[table.name] += 1
        if table.key == "client":
            return record[table.key_name]
        if table.key == "uuid":
            return str(uuid.UUID(int=self.random.getrandbits(128), version=4))
        return self.next[table.name] - 1

    def _key(self, table: Table, text: str) -> Any:
        if table.key in {"number", "large number"}:
            if not re.fullmatch(r"-?\d{1,18}", text):
                raise Refused(self.habits.malformed_key, "no key")
            return int(text)
        if table.key == "uuid" and not re.fullmatch(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", text.lower()):
            raise Refused(self.habits.malformed_key, "no key")
        return text.lower() if table.key == "uuid" else text

    def _taken(self, table: Table, row: Row, key: Any) -> bool:
        unique = [each.name for each in table.columns if each.unique]
        others = [each for own, each in self.rows[table.name].items() if own != key]
        return any(row.get(name) is not None and row[name] == each[name] for name in unique for each in others)

    def _referred(self, table: Table, key: Any) -> bool:
        return any(
            row[column.name] == key
            for other in self.habits.tables
            for column in other.columns
            if column.refers == table.name
            for row in self.rows[other.name].values()
        )

    def _store(self, table: Table, key: Any, row: Row) -> None:
        self.rows[table.name][key] = row

    def _tag(self, row: Row) -> str:
        return f'"{hashlib.md5(json.dumps(row).encode()).hexdigest()[:12]}"' if self.habits.tags else ""

    def _shown(self, row: Row) -> Any:
        return {"data": row} if self.habits.created == "data" else row
