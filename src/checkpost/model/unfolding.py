"""Paths whose parameters stand for names, unfolded: ``/{table}/{id}`` becomes the paths of each table by name."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from operator import is_
from typing import Any
from urllib.parse import quote

from checkpost.contract.contract import Contract, Operation
from checkpost.contract.node import Node
from checkpost.contract.pointer import escape
from checkpost.model.envelopes import rows_pointer
from checkpost.model.paths import ROWS, normal, singular
from checkpost.model.shape import shape_of

#: Marks the schema of rows that is only what some of them have shown.
GUESSED = "x-guessed"
_NAMES = frozenset(
    normal(word + ending)
    for word in ("table", "resource", "entity", "collection", "object", "model", "dataset", "view", "relation", "type")
    for ending in ("", "_name", "_type", "s")
)
#: What the last word of a path beside a list says that describes its rows.
_SCHEMAS = re.compile(r"^_?(schema|columns|fields|describe|meta|metadata|definition|structure)$", re.I)
_LISTINGS = re.compile(r"^_?(tables|entities|collections|resources|objects|models|datasets|schemas?|metadata)$", re.I)


_MOST_CHOICES = 20
#: Parameters that stand for tables where their rows are not described: else what has the key may be a row.
_KEYED = frozenset(
    normal(word + ending)
    for word in ("table", "collection", "dataset")
    for ending in ("_id", "_key", "_slug", "_uuid", "_id_or_name")
)
#: Parameters that may stand before the one for the table: what its tables belong to.
_WHOLES = frozenset(
    normal(word + ending)
    for word in (
        *("app", "schema", "database", "db", "service", "namespace", "catalog", "project", "module", "source"),
        *("base", "org", "orgs", "workspace", "bucket", "doc", "server", "site", "db_branch"),
    )
    for ending in ("", "_name", "_label", "_id")
)
_ROWS = re.compile(rf"(?:/(?:{'|'.join(sorted(ROWS))}))?/?")
#: What separates the parts of a table's name in texts of an API.
_PARTS = re.compile(r"[/.]")


@dataclass(frozen=True)
class Fold:
    """The parameters that stand for a table, the last for its own name and those before for what it belongs to; the
    path of a table's list, and the tables that the contract names (none where it leaves them open)."""

    parameters: tuple[str, ...]
    path: str
    tables: tuple[str, ...]

    @property
    def before(self) -> str:
        return self.path.partition("{")[0].rstrip("/")

    @property
    def own(self) -> str:
        """The part of paths that stands for a table."""
        return self.path[self.path.index("{") : self.path.rindex("}") + 1]

    @property
    def form(self) -> str:
        """How the name of a table is written, its parts in capitals."""
        return "/".join(each.upper() for each in self.parameters) if len(self.parameters) > 1 else "NAME"

    def of(self, table: str) -> str | None:
        """What stands for a table in paths; None where its name has not as many parts as it needs."""
        parts = _PARTS.split(table) if len(self.parameters) > 1 else [table]
        if len(parts) != len(self.parameters) or not all(parts):
            return None
        found = self.own
        for name, part in zip(self.parameters, parts, strict=True):
            found = found.replace(f"{{{name}}}", part)
        return found


def fold_of(contract: Contract) -> Fold | None:
    """The parameters for all tables; None where the contract has a path for each."""
    listed = [each for each in contract.operations if each.method == "GET" and _is_list(each.path)]
    for operation in listed:
        *wholes, name = re.findall(r"\{([^}]+)\}", operation.path)
        before = operation.path.rpartition("/{")[0].rpartition("/")[2]
        word = normal(name)
        named = word in _NAMES or (word in {"name", "id"} and _LISTINGS.match(before))
        if not named and not (word in _KEYED and _rows_untold(operation)):
            continue
        if not {normal(each) for each in wholes} <= _WHOLES:
            continue
        under = [each.path for each in contract.operations if each.path.startswith(operation.path.rstrip("/") + "/{")]
        parameter = next((each for each in operation.parameters if each.name == name), None)
        words = shape_of(parameter.schema).keywords if parameter is not None and not wholes else {}
        tables = tuple(str(each) for each in words.get("enum") or ())
        if under or tables:
            return Fold((*wholes, name), operation.path, tables)
    return None


def _rows_untold(operation: Operation) -> bool:
    """Whether nothing says which fields the rows of a list have."""
    content = [each for response in operation.success() for each in response.content]
    rows = [rows_pointer(each.schema, "") for each in content]
    return all(each is None or not shape_of(each[1]).properties for each in rows)


def _is_list(path: str) -> bool:
    """Whether the parameters of a path are whole parts of it, and nothing but a word for rows stands behind them."""
    *_, behind = re.split(r"/\{[^}]+\}", path)
    whole = re.sub(r"/\{[^}]+\}(?=/|$)", "", path)
    return whole != path and "{" not in whole and _ROWS.fullmatch(behind) is not None


def unfolded(contract: Contract, tables: Sequence[str]) -> Contract:
    """The contract with the paths of each table in place of those for all of them."""
    fold = fold_of(contract)
    places = [place for table in tables if fold is not None and (place := fold.of(table)) is not None]
    if fold is None or not places:
        return contract
    own = fold.own
    # where rows stand behind a word of their own, the path before it is that of the table itself
    itself = fold.path.partition(own)[0] + own if not fold.path.rstrip("/").endswith(own) else ""
    operations: list[Operation] = []
    for each in contract.operations:
        if own not in each.path or each.path.rstrip("/") == itself:
            operations.append(each)
            continue
        rest = tuple(parameter for parameter in each.parameters if parameter.name not in fold.parameters)
        operations += [replace(each, path=each.path.replace(own, place), parameters=rest) for place in places]
    return replace(contract, operations=tuple(operations))


def with_values(contract: Contract, values: Mapping[str, Any]) -> Contract:
    """The contract with stated values in place of parameters inside its paths: ``/{site}/lots/{id}`` becomes
    ``/oslo/lots/{id}``. What a path ends with stays: it is the key of a row."""
    if not values:
        return contract
    operations = []
    for each in contract.operations:
        names = [name for name in values if f"/{{{name}}}/" in each.path]
        path = each.path
        for name in names:
            path = path.replace(f"/{{{name}}}/", f"/{quote(str(values[name]), safe='')}/")
        rest = tuple(one for one in each.parameters if one.location != "path" or one.name not in names)
        operations.append(replace(each, path=path, parameters=rest) if names else each)
    return replace(contract, operations=tuple(operations))


def with_choices(contract: Contract) -> Contract:
    """The contract with a path for each choice of a parameter that stands, behind a row's key, for a word of the path:
    ``/lots/{id}/{association}`` becomes ``/lots/{id}/species`` and ``/lots/{id}/tags``."""
    operations: list[Operation] = []
    for each in contract.operations:
        found = [each]
        for parameter in each.parameters if each.path.count("{") > 1 else ():
            choices = shape_of(parameter.schema).keywords.get("enum") or ()
            own = f"/{{{parameter.name}}}"
            words = [str(word) for word in choices if re.fullmatch(r"[A-Za-z][\w-]*", str(word))]
            if parameter.location != "path" or "{" not in each.path.partition(own)[0] or own not in each.path:
                continue
            if len(words) == len(choices) and 0 < len(words) <= _MOST_CHOICES:
                rest = tuple(other for other in each.parameters if other is not parameter)
                found = [
                    replace(one, path=one.path.replace(own, f"/{word}"), parameters=rest)
                    for one in found
                    for word in words
                ]
        operations += found
    same = len(operations) == len(contract.operations) and all(map(is_, operations, contract.operations))
    return contract if same else replace(contract, operations=tuple(operations))


def rows_by_name(contract: Contract, tables: Sequence[str]) -> dict[str, Node]:
    """The schema of each table's rows, where the contract has one of its name."""
    root = contract.library.root(contract.location)
    found: dict[str, Node] = {}
    for place in (("components", "schemas"), ("definitions",)):
        node: Node | None = root
        for key in place:
            node = node.child(key) if node is not None and isinstance(node.raw(key), dict) else None
        for name, schema in node.children() if node is not None else ():
            for table in tables:
                alike = normal(singular(name)) == normal(singular(table))
                if alike and shape_of(schema).properties:
                    found.setdefault(table, schema)
    return found


def schema_operations(contract: Contract, table: str) -> list[Operation]:
    """Operations that may describe a table's rows, told by their paths."""
    found = []
    for each in contract.operations:
        parts = [part for part in each.path.split("/") if part]
        if each.method != "GET" or "{" in each.path or table not in parts:
            continue
        others = [part for part in parts if part != table]
        if others and any(_SCHEMAS.match(part) for part in others):
            found.append(each)
    return found


def listing_operation(contract: Contract, fold: Fold) -> Operation | None:
    """The operation that names the tables: what stands at the path before the parameter, or has a word for it."""
    plain = [each for each in contract.operations if each.method == "GET" and "{" not in each.path]
    before = [each for each in plain if each.path.rstrip("/") == fold.before]
    named = [each for each in plain if _LISTINGS.match(each.path.rstrip("/").rpartition("/")[2])]
    return next(iter([*before, *named]), None)


def learned(contract: Contract, name: str, schema: Mapping[str, object]) -> Node:
    """A schema that was learnt of a resource's rows, as a document beside the contract's own."""
    location = f"learned:/{escape(name)}"
    contract.library.documents[location] = dict(schema)
    contract.library.texts.setdefault(location, "")
    return contract.library.root(location)
