"""Rules of fields that are not enforced."""

from __future__ import annotations

from typing import Any

from checkpost.demo.api import Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.tables import Column


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
        return [found for found in super().violations(body, partial) if found["rule"] != "type" or not found["field"]]

    def accept(self, column: Column, value: Any) -> Any:
        numeric = isinstance(value, int | float) and (column.type == "boolean" or not isinstance(value, bool))
        if column.type in {"integer", "decimal", "boolean"} and not numeric:
            return None if column.nullable else 0
        return super().accept(column, value) if isinstance(value, str) else _plain(value)


def _plain(value: Any) -> Any:
    return str(value) if isinstance(value, list | dict) else value
