"""What the stand-in does with one table: create, read, update, delete and list, as its definition has it."""

from __future__ import annotations

import json
import re
import sqlite3
import uuid
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

import jsonschema_rs
from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.bulkpaths import LARGEST_BODY
from checkpost.demo.database import Database, Row, decode
from checkpost.demo.question import Group, Measure, Sql, Test, Wanted, Where, expression, measure_sql, test_sql
from checkpost.demo.schemas import create_schema, patch_schema
from checkpost.demo.spellings import Spelling
from checkpost.demo.tables import Column, Table

Key = tuple[Any, ...]
BASE = "/v1"


#: The escape of one half of a character without the other.
_HIGH, _LOW = rb"[89abAB][0-9a-fA-F]{2}", rb"[c-fC-F][0-9a-fA-F]{2}"
# every alternative begins alike, so that the search goes from one escape to the next
_HALF = re.compile(
    rb"\\u[dD](?:" + _HIGH + rb"(?!\\u[dD]" + _LOW + rb")|(?<!\\u[dD]" + _HIGH + rb"\\u[dD])" + _LOW + rb")"
)


class Caller:
    """Who sends a request: a user with a role, or the public."""

    def __init__(self, user: str | None, role: str) -> None:
        self.user, self.role = user, role


class Core:
    """One table by itself. A planted defect overrides one of these methods."""

    def __init__(
        self, table: Table, database: Database, tokens: Mapping[str, tuple[str, str]], spelling: Spelling
    ) -> None:
        self.table, self.database, self.tokens, self.spelling = table, database, tokens, spelling
        self._create_rules = self._compiled(create_schema(table))
        self._patch_rules = self._compiled(patch_schema(table))

    @staticmethod
    def _compiled(schema: dict[str, Any]) -> Any:
        return jsonschema_rs.Draft202012Validator(schema, validate_formats=True)

    # -- who asks, and may they ----------------------------------------------------------------

    def caller(self, request: Request) -> Caller:
        header = request.headers.get("authorization")
        if header is None:
            return Caller(None, "public")
        scheme, _, token = header.partition(" ")
        if scheme.lower() != "bearer" or token.strip() not in self.tokens:
            raise Refusal(401, "Not authenticated", "The credentials are not valid.")
        return Caller(*self.tokens[token.strip()])

    def permit(self, caller: Caller, action: str) -> None:
        grant = self.table.grants.get(caller.role)
        if grant == "write" or (grant is not None and action == "read"):
            return
        if grant == "own":
            return
        if caller.user is None:
            raise Refusal(401, "Not authenticated", "This needs credentials.")
        raise Refusal(403, "Not allowed", f"The role {caller.role} may not {action} {self.table.name}.")

    def scope(self, caller: Caller) -> tuple[str, list[Any]]:
        """The condition on rows that this caller sees, as SQL with its values."""
        if self.table.grants.get(caller.role) == "own" and self.table.owner:
            return f'WHERE "{self.table.owner}" = ?', [caller.user]
        condition = self.table.scopes.get(caller.role)
        return (f"WHERE {condition}", []) if condition else ("", [])

    def sees(self, caller: Caller, row: Row) -> bool:
        if self.table.grants.get(caller.role) == "own" and self.table.owner:
            return bool(row[self.table.owner] == caller.user)
        condition = self.table.scopes.get(caller.role)
        if condition is None:
            return True
        keys = " AND ".join(f'"{name}" = ?' for name in self.table.key)
        values = [row[name] for name in self.table.key]
        return self.database.count(self.table, f"WHERE {keys} AND {condition}", values) > 0

    def veiled(self, caller: Caller, shown: Row) -> Row:
        """A row as it is shown, without what is hidden from the caller."""
        hidden = self.table.hides.get(caller.role, ())
        return {name: value for name, value in shown.items() if name not in hidden}

    def refuse_hidden(self, caller: Caller, wanted: Wanted) -> None:
        """Refuse a question about columns that are hidden from the caller."""
        asked = {*self.filtered_by(wanted), *self.ordered_by(wanted), *wanted.select, *wanted.groups}
        asked |= {each.column.name for each in wanted.measures if each.column is not None}
        for name in self.table.hides.get(caller.role, ()):
            if name in asked:
                raise Refusal(400, "Not readable", f"There is no field {name}.")

    def filtered_by(self, wanted: Wanted) -> set[str]:
        def names(where: Where | None) -> set[str]:
            if where is None:
                return set()
            return {where.column.name} if isinstance(where, Test) else set().union(*map(names, where.parts))

        return names(wanted.where)

    def ordered_by(self, wanted: Wanted) -> set[str]:
        return {name for name, _ in wanted.order}

    # -- reading a request ---------------------------------------------------------------------

    #: Whether texts are refused that no encoding can hold (RFC 8259, 8.2).
    whole_characters = True

    async def body(self, request: Request) -> Any:
        media_type = request.headers.get("content-type", "").partition(";")[0].strip().lower()
        if media_type not in self.body_types(request.method):
            raise Refusal(415, "Unsupported media type", "Send application/json.")
        text = await request.body()
        if len(text) > LARGEST_BODY:
            raise Refusal(413, "Too large", f"A body may have {LARGEST_BODY} bytes at the most.")
        try:
            body = json.loads(text)
        except (ValueError, RecursionError):
            raise Refusal(400, "Not readable", "The body is not JSON.") from None
        if self.whole_characters and _HALF.search(text):
            raise Refusal(400, "Not readable", "A text holds half of a character.")
        return body

    def body_types(self, method: str) -> set[str]:
        return {"application/json", "application/merge-patch+json"} if method == "PATCH" else {"application/json"}

    def key_of(self, request: Request) -> Key:
        return tuple(self.key_part(self.table.column(name), request.path_params[name]) for name in self.table.key)

    def key_part(self, column: Column, text: str) -> Any:
        patterns = {"integer": r"-?[0-9]{1,18}", "uuid": r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}"}
        pattern = patterns.get(column.type)
        if pattern is None:
            return text
        if not re.fullmatch(pattern, text):
            raise Refusal(400, "Not a key", f"{column.name} has to be of type {column.type}.")
        return int(text) if column.type == "integer" else text.lower()

    # -- rules and values ----------------------------------------------------------------------

    def violations(self, body: Any, partial: bool) -> list[dict[str, str]]:
        """The rules that a body breaks; one entry each, naming field and JSON Schema keyword."""
        rules = self._patch_rules if partial else self._create_rules
        found = []
        for error in rules.iter_errors(body):
            rule = error.schema_path[-1] if error.schema_path else "type"
            field = ".".join(map(str, error.instance_path))
            if rule == "required":
                field = str(getattr(error.kind, "property", "")).strip('"') or field
            found.append({"field": field, "rule": str(rule), "detail": error.message[:300]})
        return found

    def refuse_violations(self, body: Any, partial: bool) -> None:
        errors = self.violations(body, partial)
        if errors:
            raise Refusal(422, "Not valid", "The body breaks rules of its fields.", errors)

    def default(self, column: Column) -> Any:
        return column.default

    def accept(self, column: Column, value: Any) -> Any:
        """A valid value as it is kept."""
        if column.type == "date-time" and isinstance(value, str):
            moment = datetime.fromisoformat(value.upper().replace("Z", "+00:00"))
            return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        return value

    def accepted(self, body: Row) -> Row:
        return {
            column.name: self.accept(column, body[column.name]) for column in self.table.writable if column.name in body
        }

    def completed(self, values: Row) -> Row:
        """Values with every column that was left out at its default or null."""
        return {
            column.name: values[column.name] if column.name in values else self.default(column)
            for column in self.table.writable
        }

    def server_values(self, caller: Caller) -> Row:
        values: Row = {}
        for column in self.table.columns:
            if not column.read_only:
                continue
            if column.name == "created_at":
                values[column.name] = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
            elif column.name == self.table.owner:
                values[column.name] = caller.user
            elif column.type == "uuid":
                values[column.name] = str(uuid.uuid4())
        return values

    # -- storing -------------------------------------------------------------------------------

    def conflict(self, error: sqlite3.IntegrityError) -> Refusal:
        what = "a row that is referred to, or refers to this one" if "FOREIGN" in str(error) else "a unique value"
        return Refusal(409, "Conflict", f"The change conflicts with {what}.")

    def insert(self, values: Row) -> Key:
        try:
            return self.database.insert(self.table, values)
        except sqlite3.IntegrityError as error:
            raise self.conflict(error) from None

    def change(self, key: Key, values: Row) -> None:
        try:
            self.database.update(self.table, key, values)
        except sqlite3.IntegrityError as error:
            raise self.conflict(error) from None

    def remove(self, key: Key) -> None:
        try:
            self.database.delete(self.table, key)
        except sqlite3.IntegrityError as error:
            raise self.conflict(error) from None

    def fetch(self, key: Key) -> Row | None:
        return self.database.fetch(self.table, key)

    def existing(self, caller: Caller, key: Key) -> Row:
        row = self.fetch(key)
        if row is None or not self.sees(caller, row):
            raise Refusal(404, "Not found", "No row has this key.")
        return row

    # -- answering -----------------------------------------------------------------------------

    def present(self, row: Row) -> Row:
        """A row as an answer shows it."""
        return {column.name: row[column.name] for column in self.table.visible}

    def location(self, key: Key) -> str:
        return BASE + self.table.path + "".join("/" + quote(str(part), safe="") for part in key)

    def row_answer(self, row: Row, status: int = 200, headers: Mapping[str, str] | None = None) -> Response:
        return json_answer(self.present(row), status, headers)

    def created(self, key: Key, row: Row) -> Response:
        return self.row_answer(row, 201, {"Location": self.location(key)})

    def problem(self, refusal: Refusal) -> Response:
        return refusal.answer()

    # -- the operations ------------------------------------------------------------------------

    def tested(self, test: Test) -> Sql:
        """One comparison as SQL."""
        return test_sql(test)

    def conditioned(self, where: Where) -> Sql:
        """A condition as SQL."""
        if isinstance(where, Test):
            return self.tested(where)
        parts = [self.conditioned(part) for part in where.parts]
        values = [value for _, own in parts for value in own]
        return self.joined(where, [sql for sql, _ in parts]), values

    def joined(self, group: Group, parts: list[str]) -> str:
        if group.word == "not":
            return f"NOT ({parts[0]})"
        return "(" + f" {group.word.upper()} ".join(parts) + ")"

    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        """The rows that a question is about, as SQL with its values: those that the caller sees and that
        satisfy its condition."""
        scope, values = self.scope(caller)
        if wanted.where is None:
            return scope, values
        sql, own = self.conditioned(wanted.where)
        return f"{scope} AND {sql}" if scope else f"WHERE {sql}", [*values, *own]

    def ordering(self, wanted: Wanted) -> str:
        """The order as SQL; the key decides between rows that are equal."""
        keys = [self.ordered(name, descending) for name, descending in wanted.order]
        return ", ".join([*keys, *(f'"{name}"' for name in self.table.key)])

    def ordered(self, name: str, descending: bool) -> str:
        return expression(self.table.column(name)) + (" DESC" if descending else "")

    def counted(self, matching: Sql) -> int:
        return self.database.count(self.table, *matching)

    def listed(self, matching: Sql, wanted: Wanted) -> list[Row]:
        condition, values = matching
        rest = f"{condition} ORDER BY {self.ordering(wanted)} LIMIT ? OFFSET ?"
        return self.database.select(self.table, rest, [*values, wanted.limit, wanted.offset])

    def selected(self, row: Row, wanted: Wanted) -> Row:
        """A row as a list shows it: the fields asked for, and the key."""
        shown = self.present(row)
        if not wanted.select:
            return shown
        return {name: value for name, value in shown.items() if name in wanted.select or name in self.table.key}

    def following(self, wanted: Wanted, total: int) -> int | None:
        """Where the next page begins; None on the last one."""
        after = wanted.offset + wanted.limit
        return after if after < total else None

    async def on_list(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "read")
        wanted = self.spelling.wanted(request, self.table)
        self.refuse_hidden(caller, wanted)
        if wanted.measures:
            rows = self.aggregated(self.matching(caller, wanted), wanted)
            return self.spelling.answer(self.table, request, wanted, rows, len(rows), None)
        return self.list_answer(request, caller, wanted, self.matching(caller, wanted))

    def list_answer(self, request: Request, caller: Caller, wanted: Wanted, matching: Sql) -> Response:
        """The page of the rows that match."""
        total = self.counted(matching)
        shown = self.shown(request, caller, self.listed(matching, wanted), wanted)
        return self.page(request, wanted, shown, total)

    def shown(self, request: Request, caller: Caller, rows: list[Row], wanted: Wanted) -> list[Row]:
        """Rows as a list shows them."""
        return [self.veiled(caller, self.selected(row, wanted)) for row in rows]

    def page(self, request: Request, wanted: Wanted, rows: list[Row], total: int) -> Response:
        return self.spelling.answer(self.table, request, wanted, rows, total, self.following(wanted, total))

    async def on_aggregate(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "read")
        wanted = self.spelling.aggregates_wanted(request, self.table)
        self.refuse_hidden(caller, wanted)
        if not wanted.measures:
            raise Refusal(400, "Not readable", "Nothing is asked for.")
        rows = self.aggregated(self.matching(caller, wanted), wanted)
        return json_answer(self.spelling.aggregated(rows, wanted))

    def aggregated(self, matching: Sql, wanted: Wanted) -> list[Row]:
        """A row for each group, with the group's values and each measure by its name."""
        condition, values = matching
        measures = [self.measured(measure) for measure in wanted.measures]
        groups = [f'"{name}"' for name in wanted.groups]
        grouped = f" GROUP BY {', '.join(groups)} ORDER BY {', '.join(groups)}" if groups else ""
        sql = f'SELECT {", ".join([*groups, *measures])} FROM "{self.table.name}" {condition}{grouped}'
        rows = []
        for line in self.database.connection.execute(sql, values):
            row = {
                name: decode(self.table.column(name), stored) for name, stored in zip(wanted.groups, line, strict=False)
            }
            told = zip(wanted.measures, line[len(groups) :], strict=True)
            row |= {measure.name: self.rounded(measure, value) for measure, value in told}
            rows.append(row)
        return rows

    def measured(self, measure: Measure) -> str:
        return measure_sql(measure)

    def rounded(self, measure: Measure, value: Any) -> Any:
        return round(value, 6) if isinstance(value, float) else value

    async def on_create(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "create")
        return self.create(request, caller, await self.body(request))

    def create(self, request: Request, caller: Caller, body: Any) -> Response:
        key = self.store(caller, body)
        row = self.fetch(key)
        assert row is not None
        return self.created(key, row)

    def store(self, caller: Caller, body: Any) -> Key:
        """Store a new row from a body. Raises Refusal."""
        self.refuse_violations(body, partial=False)
        return self.insert(self.completed(self.accepted(body)) | self.server_values(caller))

    async def on_read(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "read")
        return self.one(request, caller, self.existing(caller, self.key_of(request)))

    def one(self, request: Request, caller: Caller, row: Row) -> Response:
        """The answer to a read of one row."""
        if self.table.hides.get(caller.role):
            return json_answer(self.veiled(caller, self.present(row)))
        return self.row_answer(row)

    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        """Refuse a change that may not be made to the row as it is now."""

    async def on_replace(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "replace")
        key = self.key_of(request)
        row = self.existing(caller, key)
        body = await self.body(request)
        self.refuse_violations(body, partial=False)
        self.guard(request, caller, key, body)
        values = self.replacement(self.accepted(body), row)
        self.change(key, {name: value for name, value in values.items() if name not in self.table.key})
        return self.row_answer(self.existing(caller, key))

    def replacement(self, values: Row, row: Row) -> Row:
        return self.completed(values)

    async def on_update(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "update")
        key = self.key_of(request)
        row = self.existing(caller, key)
        body = await self.body(request)
        self.refuse_violations(body, partial=True)
        self.guard(request, caller, key, body)
        self.change(key, self.changes(self.accepted(body), row))
        return self.row_answer(self.existing(caller, key))

    def changes(self, values: Row, row: Row) -> Row:
        return values

    async def on_delete(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "delete")
        key = self.key_of(request)
        self.existing(caller, key)
        self.guard(request, caller, key, None)
        self.remove(key)
        return Response(status_code=204)

    def options(self, request: Request, allowed: Sequence[str]) -> Response:
        """What can be done here (RFC 9110, 9.3.7)."""
        named = [*allowed, *(["HEAD"] if "GET" in allowed else []), "OPTIONS"]
        return Response(status_code=204, headers={"Allow": ", ".join(named)})

    async def other_method(self, request: Request, allowed: Sequence[str]) -> Response:
        refusal = Refusal(405, "Method not allowed", f"{request.method} is not offered here.")
        answer = self.problem(refusal)
        answer.headers["Allow"] = ", ".join(allowed)
        return answer

    def finished(self, request: Request, answer: Response) -> Response:
        """The last word on an answer before it is sent."""
        return answer
