"""What a planted defect is, and the catalogue of all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from checkpost.demo.api import TableApi

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
