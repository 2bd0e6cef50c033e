"""What a user says about a resource, over what is inferred."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Correction:
    """What the profile says about one resource, over what the contract suggests. Pointers are JSON
    Pointers into bodies; ``paging`` names the parameters
    (limit, offset or page, start, largest), ``queries`` how filter, sort, select, count and aggregate are
    spelled (docs/spellings.md); ``references`` maps a field to the resource that it refers to."""

    collection: str | None = None
    item: str | None = None
    key: tuple[str, ...] = ()
    rows: str | None = None
    row: str | None = None
    body: str | None = None
    total: str | None = None
    next: str | None = None
    paging: Mapping[str, Any] = field(default_factory=dict)
    queries: Mapping[str, Any] = field(default_factory=dict)
    unique: tuple[str, ...] = ()
    read_only: tuple[str, ...] = ()
    references: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, Any] = field(default_factory=dict)
    skip: bool = False
    #: A field that is no part of the schema, and that rows were seen to be read by: its name and JSON type.
    shown_key: tuple[str, str] | None = None
    #: Parameters that were seen to page a list, as in ``paging``, where the contract describes none.
    shown_paging: Mapping[str, Any] = field(default_factory=dict)
    #: Fields by which the rows of a list were seen to differ, where nothing says what their key is.
    telling: tuple[str, ...] = ()
    #: Fields that were seen to hold the addresses of rows, though the contract does not say so.
    addressed: tuple[str, ...] = ()
    #: Fields that were seen to hold keys of rows that are numbers, though the contract has texts there.
    numbered: tuple[str, ...] = ()
    #: References that documents were seen to hold though the contract does not name them, and the types of their rows.
    linked: Mapping[str, str] = field(default_factory=dict)
