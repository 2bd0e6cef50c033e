"""Paths whose parameters stand for names, unfolded: ``/{table}/{id}`` becomes the paths of each table by name."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from operator import is_

from checkpost.contract.contract import Contract, Operation
from checkpost.contract.node import Node
from checkpost.contract.pointer import escape
from checkpost.model.paths import normal, singular
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


@dataclass(frozen=True)
class Fold:
    """The parameter that stands for a table: its name, the path of a table's list, and the tables that the contract
    names (none where it leaves them open)."""

    parameter: str
    path: str
    tables: tuple[str, ...]

    @property
    def before(self) -> str:
        return self.path.partition("{")[0].rstrip("/")


def fold_of(contract: Contract) -> Fold | None:
    """The parameter for all tables; None where the contract has a path for each."""
    listed = [each for each in contract.operations if each.method == "GET" and _is_list(each.path)]
    for operation in listed:
        name = re.findall(r"\{([^}]+)\}", operation.path)[0]
        before = operation.path.partition("/{")[0].rpartition("/")[2]
        if normal(name) not in _NAMES and not (normal(name) in {"name", "id"} and _LISTINGS.match(before)):
            continue
        under = [each.path for each in contract.operations if each.path.startswith(operation.path + "/{")]
        parameter = next((each for each in operation.parameters if each.name == name), None)
        words = shape_of(parameter.schema).keywords if parameter is not None else {}
        tables = tuple(str(each) for each in words.get("enum") or ())
        if under or tables:
            return Fold(name, operation.path, tables)
    return None


def _is_list(path: str) -> bool:
    """Whether the only parameter of a path is a whole part of it, and nothing but a word for rows stands behind it."""
    return re.fullmatch(r"(?:/[^/{}]+)*/\{[^}]+\}(?:/(?:rows|records|items|data|entries))?/?", path) is not None


def unfolded(contract: Contract, tables: Sequence[str]) -> Contract:
    """The contract with the paths of each table in place of those for all of them."""
    fold = fold_of(contract)
    if fold is None or not tables:
        return contract
    own = f"{{{fold.parameter}}}"
    # where rows stand behind a word of their own, the path before it is that of the table itself
    itself = fold.path.partition(own)[0] + own if not fold.path.endswith(own) else ""
    operations: list[Operation] = []
    for each in contract.operations:
        if own not in each.path or each.path.rstrip("/") == itself:
            operations.append(each)
            continue
        rest = tuple(parameter for parameter in each.parameters if parameter.name != fold.parameter)
        operations += [replace(each, path=each.path.replace(own, table), parameters=rest) for table in tables]
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
