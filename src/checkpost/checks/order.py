"""Every check, in the order in which they are asked."""

from __future__ import annotations

from checkpost.checks import (
    access,
    aggregate,
    both_sides,
    bulk,
    concurrency,
    create,
    delete,
    errors,
    expand,
    filter,
    hold,
    large,
    links,
    observe,
    page,
    protocol,
    read,
    relate,
    replace,
    role_writes,
    roles,
    select,
    sort,
    sublist,
    update,
)
from checkpost.checks.registry import CHECKS, Check

#: The families in an engineer's order, and before them the checks that the others build on.
_MODULES = (
    *(read, create, delete, access, update, replace, page, filter, sort, large, select, aggregate, errors, protocol),
    *(bulk, concurrency, sublist, expand, links, relate, both_sides, roles, role_writes, observe, hold),
)
_GATES = ("read.list", "create.stored", "delete.gone")


def all_checks() -> list[Check]:
    """Every check in an engineer's order: read, make a row, remove it, then everything else."""
    order = [module.__name__ for module in _MODULES]
    known = list(CHECKS.values())
    ranked = sorted(known, key=lambda each: (order.index(each.function.__module__), known.index(each)))
    return [CHECKS[name] for name in _GATES] + [each for each in ranked if each.name not in _GATES]
