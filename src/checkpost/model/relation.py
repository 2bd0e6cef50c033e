"""How rows of resources belong together, as values."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from checkpost.model.field import Reason
from checkpost.model.spelling import listed


@dataclass(frozen=True)
class Relation:
    """A field that holds the key of a row elsewhere."""

    field: str
    resource: str
    target: str
    reason: Reason


@dataclass(frozen=True)
class Expanded:
    """A member of a row that holds other rows, or of a record that makes them along with it.

    ``via`` is the row's own field that refers to the one row, or the field of the many that refers to this
    one, or with ``through`` that of the resource between, whose field ``far`` leads to the other side; None
    where it is not known. ``always`` says that it is there without being asked for.
    """

    name: str
    resource: str
    many: bool
    via: str | None
    through: str | None
    far: str | None
    always: bool
    reason: Reason


@dataclass(frozen=True)
class Expansion:
    """The parameter that asks for related rows inside rows; ``separator`` is as in ``Selecting``.
    ``choices`` are the names that the contract lists, ``purposes`` the operations that take it."""

    parameter: str
    separator: str | None
    choices: tuple[str, ...]
    purposes: Collection[str]
    reason: Reason

    def pairs(self, names: Collection[str]) -> list[tuple[str, str]]:
        """The query parameters that ask for these names."""
        return listed(self.parameter, names, self.separator)
