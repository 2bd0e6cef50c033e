"""The planted defects: each overrides one method of the generic core, for one table."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from checkpost.demo.api import TableApi
from checkpost.demo.defects import (  # noqa: F401
    access,
    aggregate,
    bulk,
    concurrency,
    create,
    database,
    delete,
    expand,
    filter,
    hold,
    page,
    read,
    relate,
    roles,
    rules,
    shape,
    sort,
    sublist,
    update,
    values,
)
from checkpost.demo.defects.registry import DEFECTS, Defect

__all__ = ["DEFECTS", "Defect", "handlers"]


def handlers(names: Iterable[str]) -> Mapping[str, type[TableApi]]:
    """The handler class of each table that the named defects touch. Raises KeyError for an unknown name."""
    chosen: dict[str, list[type[TableApi]]] = {}
    for name in names:
        chosen.setdefault(DEFECTS[name].table, []).append(DEFECTS[name].behaviour)
    return {table: type("DefectiveApi", (*behaviours, TableApi), {}) for table, behaviours in chosen.items()}
