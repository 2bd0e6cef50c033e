"""How the stand-in's tables are defined; routes and description are generated from these values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

ColumnType = Literal["integer", "decimal", "boolean", "date", "date-time", "text", "uuid"]
Grant = Literal["read", "write", "own"]


@dataclass(frozen=True)
class Column:
    """One column. ``required`` is about create; ``nullable`` about what may be stored."""

    name: str
    type: ColumnType
    required: bool = False
    nullable: bool = False
    unique: bool = False
    default: Any = None
    read_only: bool = False
    write_only: bool = False
    minimum: int | float | None = None
    maximum: int | float | None = None
    scale: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    pattern: str | None = None
    format: str | None = None
    enum: tuple[str, ...] = ()
    references: str | None = None
    on_delete: Literal["restrict", "cascade"] = "restrict"

    def schema(self) -> dict[str, Any]:
        """The column as a JSON Schema (draft 2020-12), without its direction."""
        types: dict[ColumnType, dict[str, Any]] = {
            "integer": {"type": "integer"},
            "decimal": {"type": "number"},
            "boolean": {"type": "boolean"},
            "date": {"type": "string", "format": "date"},
            "date-time": {"type": "string", "format": "date-time"},
            "text": {"type": "string"},
            "uuid": {"type": "string", "format": "uuid"},
        }
        schema = types[self.type]
        if self.scale is not None:
            schema["multipleOf"] = float(f"1e-{self.scale}")
        limits = {
            "minimum": self.minimum,
            "maximum": self.maximum,
            "minLength": self.min_length,
            "maxLength": self.max_length,
            "pattern": self.pattern,
            "format": self.format,
        }
        schema.update({keyword: limit for keyword, limit in limits.items() if limit is not None})
        if self.enum:
            schema["enum"] = [*self.enum, None] if self.nullable else list(self.enum)
        if self.nullable:
            schema["type"] = [schema["type"], "null"]
        if self.default is not None:
            schema["default"] = self.default
        said = ["Unique." if self.unique else "", f"Refers to `{self.references}`." if self.references else ""]
        if any(said):
            schema["description"] = " ".join(word for word in said if word)
        return schema


@dataclass(frozen=True)
class Table:
    """One table, the roles that may use it, and whether it is exposed at all."""

    name: str
    columns: tuple[Column, ...]
    key: tuple[str, ...] = ("id",)
    key_from: Literal["server", "client"] = "server"
    owner: str | None = None
    updatable: bool = True
    exposed: bool = True
    #: The column that counts a row's changes, and tables whose rows can be made along with one of this.
    version: str = ""
    nested: tuple[str, ...] = ()
    #: By role, the condition (SQL) on the rows that it sees, and the columns that it is never shown.
    scopes: Mapping[str, str] = field(default_factory=dict)
    hides: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    grants: Mapping[str, Grant] = field(default_factory=dict)

    @property
    def path(self) -> str:
        return "/" + self.name.replace("_", "-")

    @property
    def title(self) -> str:
        return "".join(word.capitalize() for word in self.name.split("_"))

    def column(self, name: str) -> Column:
        return next(column for column in self.columns if column.name == name)

    @cached_property
    def visible(self) -> tuple[Column, ...]:
        """The columns that an answer shows."""
        return tuple(column for column in self.columns if not column.write_only)

    @cached_property
    def writable(self) -> tuple[Column, ...]:
        return tuple(column for column in self.columns if not column.read_only)
