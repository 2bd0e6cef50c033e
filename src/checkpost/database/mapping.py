"""Which table and columns stand behind a resource and its fields, with the reasons."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from checkpost.database.connection import Table
from checkpost.errors import CheckPostError
from checkpost.model.field import Reason
from checkpost.model.paths import normal, singular
from checkpost.model.resource import Model, Resource
from checkpost.profile.witness import Stated

#: Which share of a resource's fields has to be among the columns of a table of another name, and of its own.
_ENOUGH, _SOME = 0.8, 0.5
#: What ends the name of a column that holds another row's key, where the field has the bare name.
_KEY_ENDINGS = ("id", "code", "key", "uuid", "pk")


@dataclass(frozen=True)
class Mapped:
    """A resource and its table. ``columns`` has the column of each field that one was found for, ``lacking`` the fields
    without one, ``hidden`` the columns that no field shows, ``key`` the columns of the resource's key in its order;
    none where rows cannot be paired."""

    resource: Resource
    table: Table
    columns: Mapping[str, str]
    lacking: tuple[str, ...]
    hidden: tuple[str, ...]
    key: tuple[str, ...]
    reason: Reason


@dataclass(frozen=True)
class Sides:
    """The resources that have a table, by name; and the tables that no resource shows."""

    by_resource: Mapping[str, Mapped] = field(default_factory=dict)
    unexposed: tuple[str, ...] = ()


def mapped(model: Model, tables: Sequence[Table], stated: Mapping[str, Stated]) -> Sides:
    """Pair resources with tables: as the profile states, else by name and columns; each table once.

    Raises CheckPostError for a table or column of the profile that the database lacks.
    """
    by_name = {each.name: each for each in tables}
    chosen: dict[str, tuple[Table, Reason]] = {}
    for name, said in stated.items():
        if said.table not in by_name:
            raise CheckPostError(
                f"witness: the database has no table {said.table!r} for {name}; it has {', '.join(sorted(by_name))}."
            )
        chosen[name] = by_name[said.table], Reason("the profile", "stated")
    scored = [
        (score, resource.name, table, reason)
        for resource in model.resources
        if resource.name not in chosen
        for table in tables
        if (likeness := _likeness(resource, table)) is not None
        for score, reason in (likeness,)
    ]
    taken = {table.name for table, _ in chosen.values()}
    for _, name, table, reason in sorted(scored, key=lambda each: (-each[0], each[1], each[2].name)):
        if name not in chosen and table.name not in taken:
            chosen[name] = table, reason
            taken.add(table.name)
    found: dict[str, Mapped] = {}
    for resource in model.resources:
        if resource.name in chosen:
            own = stated.get(resource.name, Stated(""))
            found[resource.name] = _mapped(resource, *chosen[resource.name], own.columns)
    return Sides(found, tuple(each.name for each in tables if each.name not in taken and not each.is_view))


def _likeness(resource: Resource, table: Table) -> tuple[float, Reason] | None:
    """How much speaks for a pair, and what; None where too little does."""
    fields = [each.name for each in resource.fields if each.shown or each.created]
    columns = {normal(each.name) for each in table.columns}
    having = [name for name in fields if _column(name, columns)]
    share = len(having) / len(fields) if fields else 0.0
    word = (resource.collection or "").rstrip("/").rpartition("/")[2]
    names = {normal(singular(each)) for each in (resource.name, word) if each}
    own = normal(singular(table.name))
    if own in names and share >= _SOME:
        return 2 + share, Reason("the same name", "likely")
    ends = any(len(each) > 2 and own.endswith(each) for each in names)
    if ends and share >= _SOME:
        return 1 + share, Reason("a name that ends alike", "likely")
    if share >= _ENOUGH and len(having) > 2:
        return share, Reason("its columns", "guess")
    return None


def _column(name: str, columns: Mapping[str, str] | set[str]) -> str:
    """The normal name of the column of a field; empty where there is none."""
    own = normal(name)
    for each in (own, *(own + ending for ending in _KEY_ENDINGS)):
        if each in columns:
            return each
    return ""


def _mapped(resource: Resource, table: Table, reason: Reason, stated: Mapping[str, str]) -> Mapped:
    by_normal = {normal(each.name): each.name for each in table.columns}
    columns = {}
    for name, column in stated.items():
        if table.column(column) is None:
            raise CheckPostError(
                f"witness: the table {table.name} has no column {column!r} for {resource.name}.{name}."
            )
        columns[name] = column
    for each in resource.fields:
        found = _column(each.name, by_normal)
        if each.name not in columns and found and by_normal[found] not in columns.values():
            columns[each.name] = by_normal[found]
    keys = resource.key.fields if resource.key is not None else ()
    if len(keys) == 1 and keys[0] not in columns and len(table.key) == 1:
        columns[keys[0]] = table.key[0]
    key = tuple(columns[name] for name in keys if name in columns)
    lacking = tuple(each.name for each in resource.fields if each.name not in columns)
    shown = set(columns.values())
    hidden = tuple(each.name for each in table.columns if each.name not in shown)
    return Mapped(resource, table, columns, lacking, hidden, key if len(key) == len(keys) else (), reason)
