"""What the profile says of the database behind the API."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Stated:
    """The table of a resource, and the columns of fields that have other names."""

    table: str
    columns: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Witness:
    """The URL of a database, in which ``${NAME}`` stands for variables of the environment; and what is stated of the
    tables of resources."""

    database: str
    tables: Mapping[str, Stated] = field(default_factory=dict)
