"""Every check, in an engineer's order, and which of them build on which."""

from __future__ import annotations

from checkpost.checks import (
    access,
    aggregate,
    as_shown,
    awkward,
    both_sides,
    bulk,
    bulk_changes,
    bulk_filtered,
    concurrency,
    create,
    create_rules,
    database,
    delete,
    errors,
    expand,
    extremes,
    filter,
    hold,
    large,
    linkage,
    links,
    mixed,
    moments,
    observe,
    others,
    page,
    page_links,
    page_says,
    protocol,
    read,
    relate,
    replace,
    restored,
    role_writes,
    roles,
    row_under,
    search,
    second,
    select,
    sort,
    sort_equal,
    sublist,
    taken,
    update,
)
from checkpost.checks.registry import CHECKS, Check

#: The families in an engineer's order, and before them the checks that the others build on.
_MODULES = (
    *(
        read,
        mixed,
        create,
        create_rules,
        awkward,
        extremes,
        delete,
        restored,
        access,
        update,
        as_shown,
        moments,
        replace,
        taken,
        page,
        page_links,
        page_says,
        filter,
        search,
        sort,
        sort_equal,
        large,
        select,
        aggregate,
        errors,
        protocol,
    ),
    *(
        bulk,
        bulk_changes,
        bulk_filtered,
        concurrency,
        sublist,
        expand,
        links,
        others,
        relate,
        both_sides,
        row_under,
        second,
        linkage,
        database,
        roles,
        role_writes,
        observe,
        hold,
    ),
)
_GATES = ("read.list", "create.stored", "delete.gone", "read.item-equals-list")


def all_checks() -> list[Check]:
    """Every check in an engineer's order: list, make a row, remove it, read rows by key, then everything else."""
    order = [module.__name__ for module in _MODULES]
    known = list(CHECKS.values())
    ranked = sorted(known, key=lambda each: (order.index(each.function.__module__), known.index(each)))
    return [CHECKS[name] for name in _GATES] + [each for each in ranked if each.name not in _GATES]


#: What checks build on: by name or family, the checks that have to have ended before on every table that they touch.
#: What those learn of a table (its list is paged wrongly, a field cannot be changed) is not reported once more.
_BUILDS_ON: dict[str, tuple[str, ...]] = {
    "page": ("page.joined",),
    "page.links-keep-query": ("filter.rows", "sort.each-field"),
    "page.filtered": ("filter.rows", "sort.each-field"),
    "filter": ("page.joined",),
    "filter.combined": ("filter.rows",),
    "filter.refused": ("filter.rows",),
    "filter.awkward": ("filter.rows",),
    "filter.halves": ("filter.rows",),
    "sort": ("page.joined",),
    "sort.several-keys": ("sort.each-field",),
    "sort.pages": ("sort.each-field",),
    "sort.unknown": ("sort.each-field",),
    "sort.ends": ("sort.each-field",),
    "select": ("page.joined",),
    "select.combined": ("select.fields", "filter.rows", "sort.each-field"),
    "aggregate": ("page.joined", "filter.rows"),
    "aggregate.refused": ("aggregate.values",),
    "create.rules": ("update.rules", "replace.rules"),
    "create.extreme-values": ("create.unique", "relate.absent"),
    "update": ("update.each-field",),
    "replace": ("update.each-field", "replace.stored"),
    "update.unique": ("create.unique", "update.each-field"),
    "update.taken-key": ("update.each-field", "replace.stored"),
    "replace.unique": ("create.unique", "replace.stored"),
    "update.other-rows": ("update.each-field",),
    "bulk": ("create.rules", "create.unique", "update.each-field"),
    "bulk.bad-item": ("bulk.create",),
    "bulk.limits": ("bulk.create", "bulk.delete"),
    "bulk.large": ("bulk.create",),
    "bulk.update": ("bulk.create",),
    "bulk.delete": ("bulk.create",),
    "bulk.filtered": ("filter.rows",),
    "concurrency": ("update.each-field", "create.unique"),
    "concurrency.stale": ("concurrency.tag",),
    "concurrency.version": ("concurrency.tag",),
    "relate": ("page.joined", "filter.rows", "sort.each-field", "select.fields"),
    "relate.sublist-queries": ("relate.sublist", "filter.combined", "sort.several-keys", "page.past-end"),
    "relate.expand-deep": ("relate.expand",),
    "relate.expand-unknown": ("relate.expand",),
    "relate.moved": ("relate.sublist", "update.each-field"),
    "relate.row-under": ("relate.sublist", "update.each-field"),
    "relate.linked": ("relate.sublist", "update.each-field"),
    "relate.linkage": ("relate.absent", "update.each-field"),
    "relate.nested": ("relate.expand", "update.each-field"),
    "relate.absent": ("update.each-field",),
    "relate.deleted": ("relate.absent",),
    "database.stored": ("update.each-field",),
    "access.damaged-credentials": ("access.no-credentials",),
    "access.damaged-credentials-writes": ("access.no-credentials-writes",),
    "access.credentials": ("access.no-credentials",),
    "access.read": ("access.rows",),
    "access.ways": ("access.rows", "filter.rows", "sort.each-field"),
    "access.related": ("access.rows", "relate.sublist", "relate.expand"),
    "access.writes": ("access.rows", "update.each-field", "bulk.create", "bulk.delete"),
    "access.linked": ("access.rows", "relate.sublist", "update.each-field"),
    "access.conflicts": ("access.rows", "create.unique"),
    "observe.writes": ("observe.reads",),
    "access.by-filter": ("access.writes", "bulk.filtered"),
}


def builds_on(check: Check) -> tuple[str, ...]:
    """The names of the checks that come before one, wherever both are asked."""
    named = (*_GATES, *_BUILDS_ON.get(check.family, ()), *_BUILDS_ON.get(check.name, ()))
    if check.name in _GATES:
        named = _GATES[: _GATES.index(check.name)]
    return tuple(each for each in named if each != check.name)
