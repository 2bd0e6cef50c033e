"""The planted defects: each overrides one method of the generic core, for one table."""

from __future__ import annotations

import sqlite3
import unicodedata
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response

from checkpost.demo.api import Caller, Key, Refusal, TableApi, json_answer
from checkpost.demo.database import Row
from checkpost.demo.tables import Column

ITEM = "/{id}"


@dataclass(frozen=True)
class Defect:
    """A departure that the stand-in can be told to have.

    ``method`` and ``path`` name the operation that a finding should name; ``says`` is what a good
    finding would tell; ``family`` is the family of checks that should meet it first.
    """

    name: str
    table: str
    method: str
    path: str
    family: str
    says: str
    behaviour: type[TableApi]


DEFECTS: dict[str, Defect] = {}


def defect(
    name: str, table: str, method: str, family: str, says: str, *, item: bool = False
) -> Callable[[type[TableApi]], type[TableApi]]:
    def register(behaviour: type[TableApi]) -> type[TableApi]:
        path = "/" + table.replace("_", "-") + (ITEM if item else "")
        DEFECTS[name] = Defect(name, table, method, path, family, says, behaviour)
        return behaviour

    return register


def handlers(names: Iterable[str]) -> Mapping[str, type[TableApi]]:
    """The handler class of each table that the named defects touch. Raises KeyError for an unknown name."""
    chosen: dict[str, list[type[TableApi]]] = {}
    for name in names:
        chosen.setdefault(DEFECTS[name].table, []).append(DEFECTS[name].behaviour)
    return {table: type("DefectiveApi", (*behaviours, TableApi), {}) for table, behaviours in chosen.items()}


def _unenforced(name: str, table: str, rule: str, says: str) -> None:
    """Register a defect that accepts values that break one JSON Schema keyword."""

    class Lenient(TableApi):
        def violations(self, body: Any, partial: bool) -> list[dict[str, str]]:
            return [found for found in super().violations(body, partial) if found["rule"] != rule]

        def insert(self, values: Row) -> Key:
            blank = {"integer": 0, "boolean": False, "decimal": 0}
            filled = {
                column.name: blank.get(column.type, "")
                if values.get(column.name) is None and not column.nullable
                else values.get(column.name)
                for column in self.table.writable
            }
            return super().insert({**values, **filled})

    defect(name, table, "POST", "create", says)(Lenient)


_unenforced("required-not-enforced", "tags", "required", "A record without a required field is accepted.")
_unenforced("enum-not-enforced", "species", "enum", "A value outside the enum is accepted.")
_unenforced("length-not-enforced", "species", "maxLength", "A text longer than maxLength is accepted.")
_unenforced("pattern-not-enforced", "tags", "pattern", "A text that does not match its pattern is accepted.")
_unenforced("maximum-not-enforced", "vaults", "maximum", "A number above its maximum is accepted.")
_unenforced("format-not-enforced", "species", "format", "Something that is no date is accepted as a date.")
_unenforced("unknown-field-accepted", "tags", "additionalProperties", "A field the schema rules out is accepted.")


@defect("type-not-enforced", "vaults", "POST", "create", "Text is accepted where the schema says integer.")
class TypeNotEnforced(TableApi):
    def violations(self, body: Any, partial: bool) -> list[dict[str, str]]:
        return [found for found in super().violations(body, partial) if found["rule"] != "type"]

    def accept(self, column: Column, value: Any) -> Any:
        if column.type in {"integer", "decimal", "boolean"} and not isinstance(value, int | float):
            return None if column.nullable else 0
        return super().accept(column, value) if isinstance(value, str) else _plain(value)


def _plain(value: Any) -> Any:
    return str(value) if isinstance(value, list | dict) else value


# -- create ------------------------------------------------------------------------------------------


@defect("create-not-stored", "tags", "POST", "create", "Create answers 201, but the row is not there afterwards.")
class CreateNotStored(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        self.remove(key)
        return super().created(key, row)


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


# -- values that change on the way --------------------------------------------------------------------


def _altered(name: str, table: str, says: str, alter: Callable[[Column, Any], Any]) -> None:
    """Register a defect that changes values silently before they are stored."""

    class Altering(TableApi):
        def accept(self, column: Column, value: Any) -> Any:
            return alter(column, super().accept(column, value))

    defect(name, table, "POST", "create", says)(Altering)


def _on_text(change: Callable[[str], Any]) -> Callable[[Column, Any], Any]:
    return lambda column, value: (
        change(value)
        if column.type == "text" and isinstance(value, str) and not (column.enum or column.pattern)
        else value
    )


def _no_accents(text: str) -> str:
    return "".join(sign for sign in unicodedata.normalize("NFD", text) if not unicodedata.combining(sign))


def _number_like(text: str) -> str:
    return text.lstrip("0") or "0" if text.isdigit() else text


def _hour_later(column: Column, value: Any) -> Any:
    if column.type != "date-time" or value is None:
        return value
    moment = datetime.fromisoformat(value.replace("Z", "+00:00")) + timedelta(hours=1)
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _rounded(column: Column, value: Any) -> Any:
    return round(value, 1) if column.type == "decimal" and value is not None else value


_altered("text-trimmed", "species", "Space at the ends of a text is cut off silently.", _on_text(str.strip))
_altered("text-truncated", "species", "A long text is cut silently.", _on_text(lambda text: text[:60]))
_altered("text-recased", "loans", "Capital letters become small.", _on_text(str.lower))
_altered("accents-lost", "species", "Accents are lost.", _on_text(_no_accents))
_altered("leading-zeros-lost", "loans", "Leading zeros of a text are lost.", _on_text(_number_like))
_altered("empty-becomes-null", "species", "An empty text becomes null.", _on_text(lambda text: text if text else None))
_altered(
    "astral-lost",
    "tags",
    "Characters beyond the basic plane become question marks.",
    _on_text(lambda text: "".join(sign if ord(sign) < 0x10000 else "?" for sign in text)),
)
_altered("decimal-rounded", "species", "A decimal loses digits of its scale.", _rounded)
_altered("time-shifted", "loans", "A date-time comes back an hour later.", _hour_later)


# -- read ---------------------------------------------------------------------------------------------


@defect("missing-key-empty", "tags", "GET", "read", "A key that is not there is answered 200.", item=True)
class MissingKeyEmpty(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            if refusal.status == 404:
                return json_answer({"id": 0, "label": "none", "colour": "#888888"})
            raise


@defect("missing-key-crashes", "species", "GET", "read", "A key that is not there is answered 500.", item=True)
class MissingKeyCrashes(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            raise Refusal(500 if refusal.status == 404 else refusal.status, "Internal error", "None") from None


@defect("malformed-key-crashes", "loans", "GET", "read", "A malformed key is answered 500.", item=True)
class MalformedKeyCrashes(TableApi):
    def key_part(self, column: Column, text: str) -> Any:
        try:
            return super().key_part(column, text)
        except Refusal:
            raise Refusal(500, "Internal error", "Something went wrong.") from None


@defect("read-differs-from-list", "accessions", "GET", "read", "A row read by key differs from the list.", item=True)
class ReadDiffersFromList(TableApi):
    async def on_read(self, request: Request) -> Response:
        caller = self.caller(request)
        self.permit(caller, "read")
        row = self.existing(caller, self.key_of(request))
        return self.row_answer(row | {"seed_count": row["seed_count"] // 10})


@defect("row-listed-twice", "accessions", "GET", "read", "The list holds a row twice.")
class RowListedTwice(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        rows = super().listed(condition, values, limit, offset)
        return [*rows[:-1], rows[0]] if len(rows) > 2 else rows


@defect("get-writes", "species", "GET", "read", "Reading a row with a value in the query changes it.", item=True)
class GetWrites(TableApi):
    async def on_read(self, request: Request) -> Response:
        values = {name: text for name, text in request.query_params.items() if name == "notes"}
        self.change(self.key_of(request), values)
        return await super().on_read(request)


@defect("list-hides-rows", "collectors", "GET", "create", "A row that was created is missing from the list.")
class ListHidesRows(TableApi):
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        return [row for row in super().listed(condition, values, limit, offset) if row["email"] is not None]


# -- update and replace -------------------------------------------------------------------------------


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


@defect("update-resets-others", "accessions", "PATCH", "update", "Fields that were not sent fall back.", item=True)
class UpdateResetsOthers(TableApi):
    def changes(self, values: Row, row: Row) -> Row:
        reset = {"remark": None, "status": "active"}
        return reset | values


@defect("update-ignores-field", "germination_tests", "PATCH", "update", "One field cannot be changed.", item=True)
class UpdateIgnoresField(TableApi):
    def changes(self, values: Row, row: Row) -> Row:
        return {name: value for name, value in values.items() if name != "germinated"}


@defect("update-hits-others", "tags", "PATCH", "update", "Updating one row changes another.", item=True)
class UpdateHitsOthers(TableApi):
    def change(self, key: Key, values: Row) -> None:
        super().change(key, values)
        super().change((7,), {"colour": values.get("colour", "#000000")})


@defect("update-creates", "species", "PATCH", "update", "Updating a key that is not there answers 200.", item=True)
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


# -- delete -------------------------------------------------------------------------------------------


@defect("delete-not-done", "tags", "DELETE", "delete", "Delete answers 204, but the row stays.", item=True)
class DeleteNotDone(TableApi):
    def remove(self, key: Key) -> None:
        """Nothing is removed."""


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
    def listed(self, condition: str, values: list[Any], limit: int, offset: int) -> list[Row]:
        return [row for row in super().listed(condition, values, limit, offset) if not self.hides(row)]


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


@defect(
    "delete-missing-succeeds", "tags", "DELETE", "delete", "Deleting a key that is not there answers 200.", item=True
)
class DeleteMissingSucceeds(TableApi):
    async def on_delete(self, request: Request) -> Response:
        if self.fetch(self.key_of(request)) is None:
            return json_answer({"deleted": 1})
        return await super().on_delete(request)


# -- shape and errors ---------------------------------------------------------------------------------


@defect("body-breaks-schema", "germination_tests", "GET", "shape", "A list answer breaks its schema: numbers as text.")
class BodyBreaksSchema(TableApi):
    def page(self, rows: list[Row], total: int, next_page: str | None) -> Response:
        shown = [self.present(row) | {"sown": str(row["sown"])} for row in rows]
        return json_answer({"items": shown, "total": total, "next": next_page})


@defect("status-undocumented", "loans", "POST", "shape", "Create answers 200, where the contract says 201.")
class StatusUndocumented(TableApi):
    def created(self, key: Key, row: Row) -> Response:
        return self.row_answer(row, 200, {"Location": self.location(key)})


@defect("media-type-wrong", "collectors", "GET", "shape", "JSON is sent as text/html.", item=True)
class MediaTypeWrong(TableApi):
    async def on_read(self, request: Request) -> Response:
        answer = await super().on_read(request)
        return Response(answer.body, answer.status_code, media_type="text/html")


@defect("field-undocumented", "collectors", "GET", "shape", "Answers hold a field the schema rules out.")
class FieldUndocumented(TableApi):
    def page(self, rows: list[Row], total: int, next_page: str | None) -> Response:
        shown = [self.present(row) | {"row_version": 1} for row in rows]
        return json_answer({"items": shown, "total": total, "next": next_page})


@defect("write-only-shown", "loans", "GET", "shape", "Answers show a write-only field.", item=True)
class WriteOnlyShown(TableApi):
    def present(self, row: Row) -> Row:
        return super().present(row) | {"release_code": row["release_code"]}


@defect("list-crashes-paging", "accessions", "GET", "errors", "A limit that is not a number is answered 500.")
class ListCrashesPaging(TableApi):
    async def on_list(self, request: Request) -> Response:
        if not request.query_params.get("limit", "1").isdigit():
            raise Refusal(500, "Internal error", "Something went wrong.")
        return await super().on_list(request)


@defect("trace-in-error", "accessions", "POST", "errors", "An error shows a stack trace.")
class TraceInError(TableApi):
    def refuse_violations(self, body: Any, partial: bool) -> None:
        try:
            super().refuse_violations(body, partial)
        except Refusal as refusal:
            refusal.detail = (
                "Traceback (most recent call last):\n"
                '  File "/srv/api/handlers.py", line 88, in create\n    row = table.insert(values)\n'
                "ValueError: value out of range"
            )
            raise


@defect("sql-in-error", "tags", "POST", "errors", "An error shows the SQL statement that failed.")
class SqlInError(TableApi):
    def conflict(self, error: sqlite3.IntegrityError) -> Refusal:
        return Refusal(409, "Conflict", f"{error}: INSERT INTO tags (label, colour) VALUES (?, ?)")


@defect("error-body-undocumented", "vaults", "POST", "errors", "An error's body is not the documented one.")
class ErrorBodyUndocumented(TableApi):
    def problem(self, refusal: Refusal) -> Response:
        answer = super().problem(refusal)
        body = {"error": refusal.detail}
        headers = {name: value for name, value in answer.headers.items() if name == "www-authenticate"}
        return json_answer(body, refusal.status, headers, "application/problem+json")


@defect("error-media-type", "tags", "GET", "errors", "An error is sent as plain text.", item=True)
class ErrorMediaType(TableApi):
    async def on_read(self, request: Request) -> Response:
        try:
            return await super().on_read(request)
        except Refusal as refusal:
            return PlainTextResponse(refusal.detail, refusal.status)


@defect("broken-json-crashes", "species", "POST", "errors", "A body that is not JSON is answered 500.")
class BrokenJsonCrashes(TableApi):
    async def body(self, request: Request) -> Any:
        try:
            return await super().body(request)
        except Refusal as refusal:
            raise Refusal(500 if refusal.status == 400 else refusal.status, "Internal error", "None") from None


@defect("media-type-ignored", "vaults", "POST", "errors", "A body of an undocumented media type is taken.")
class MediaTypeIgnored(TableApi):
    def body_types(self, method: str) -> set[str]:
        return {"application/json", "application/merge-patch+json", "text/plain"}


@defect("method-succeeds", "species", "POST", "errors", "A method that is not offered is answered 200.", item=True)
class MethodSucceeds(TableApi):
    async def other_method(self, request: Request, allowed: Any) -> Response:
        return json_answer({"ok": True})


@defect("method-crashes", "loans", "POST", "errors", "A method that is not offered is answered 500.", item=True)
class MethodCrashes(TableApi):
    async def other_method(self, request: Request, allowed: Any) -> Response:
        raise Refusal(500, "Internal error", "Something went wrong.")


# -- credentials --------------------------------------------------------------------------------------


@defect("credentials-not-needed", "collectors", "GET", "access", "The list answers without credentials.")
class CredentialsNotNeeded(TableApi):
    def permit(self, caller: Any, action: str) -> None:
        if action != "read" or caller.user is not None:
            super().permit(caller, action)


@defect("wrong-credentials-taken", "loans", "GET", "access", "A damaged token is taken for a good one.")
class WrongCredentialsTaken(TableApi):
    def caller(self, request: Request) -> Caller:
        header = request.headers.get("authorization", "")
        for token, who in self.tokens.items():
            if header.removeprefix("Bearer ")[:-4] == token[:-4]:
                return Caller(*who)
        return super().caller(request)
