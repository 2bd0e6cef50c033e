"""How an operation names the row that it is about, where its path does not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from checkpost.contract.contract import Operation
from checkpost.model.field import Field
from checkpost.model.members import MEMBER
from checkpost.model.purpose import Purpose
from checkpost.model.query import Compare, Every
from checkpost.model.spelling import Filtering, Inexpressible, Pairs, Queries


@dataclass(frozen=True)
class Address:
    """``query`` and ``body`` name the parameters and members that take the key's parts, in their order (of an object's
    members with slashes);
    ``filtering`` is how a list is asked for the one row, where changes go to what a filter leaves."""

    query: tuple[str, ...] = ()
    body: tuple[str, ...] = ()
    filtering: Filtering | None = field(default=None, compare=False, repr=False)

    def pairs(self, names: Sequence[str], key: Sequence[Any], fields: Sequence[Field]) -> Pairs:
        """The query parameters for a key, whose fields are ``names``."""
        if self.filtering is None:
            return [
                (name, part if MEMBER in name else _text(part)) for name, part in zip(self.query, key, strict=False)
            ]
        parts = tuple(Compare(name, "eq", part) for name, part in zip(names, key, strict=True))
        try:
            condition = parts[0] if len(parts) == 1 else Every(parts)
            return self.filtering.pairs(condition, {each.name: each for each in fields})
        except Inexpressible:
            return []

    def expressible(self, names: Sequence[str], fields: Sequence[Field]) -> bool:
        """Whether each part of the key can be asked for."""
        return bool(names) and bool(self.pairs(names, ["1"] * len(names), fields))


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def addresses_by_filter(
    operations: Mapping[Purpose, Operation], names: Sequence[str], fields: Sequence[Field], queries: Queries
) -> dict[Purpose, Address]:
    """How changes on the path of a list itself name a row: by a parameter of their own with the key's name, or by the
    list's filter. ``names`` are the fields of the key. What cannot name a row is left out, since it would change them
    all."""
    listing = operations.get("list")
    if not names or listing is None or not {"update", "replace", "delete"} & set(operations):
        return {}
    found: dict[Purpose, Address] = {}
    filtering = queries.filterings[0] if len(queries.filterings) == 1 else None
    whole = Address(filtering=filtering)
    sure = filtering is not None and whole.expressible(names, fields)
    used = {name for name, _ in whole.pairs(names, ["1"] * len(names), fields)} if sure else set()
    changes: tuple[Purpose, ...] = ("update", "replace", "delete")
    for purpose in changes:
        operation = operations.get(purpose)
        if operation is None:
            continue
        taken = {each.name for each in operation.parameters if each.location == "query"}
        needed = {each.name for each in operation.parameters if each.location == "query" and each.required}
        if sure and used <= taken:
            found[purpose] = whole
        elif set(names) <= needed and len(names) == 1:  # one that may be left out may be left unheeded too
            found[purpose] = Address(query=tuple(names))
    if found and sure:
        found["read"] = whole
    return found
