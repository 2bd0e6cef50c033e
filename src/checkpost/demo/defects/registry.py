"""What a planted defect is, and the catalogue of all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from checkpost.demo.api import TableApi
from checkpost.demo.spellings import USUAL

ITEM = "/{id}"


@dataclass(frozen=True)
class Defect:
    """A departure that the stand-in can be told to have.

    ``method`` and ``path`` name the operation that a finding should name; ``says`` is what a good
    finding would tell; ``family`` is the family of checks that should meet it first, ``spelling`` the one in
    which it is planted.
    """

    name: str
    table: str
    method: str
    path: str
    family: str
    says: str
    behaviour: type[TableApi]
    spelling: str = USUAL


DEFECTS: dict[str, Defect] = {}


def defect(
    name: str,
    table: str,
    method: str,
    family: str,
    says: str,
    *,
    item: bool = False,
    spelling: str = USUAL,
    at: str = "",
    path: str = "",
) -> Callable[[type[TableApi]], type[TableApi]]:
    def register(behaviour: type[TableApi]) -> type[TableApi]:
        where = path or "/" + table.replace("_", "-") + (ITEM if item else at)
        DEFECTS[name] = Defect(name, table, method, where, family, says, behaviour, spelling)
        return behaviour

    return register
