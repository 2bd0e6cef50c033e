"""Sorting rows of the run's own that are equal in one field, where no rows of the table are."""

from __future__ import annotations

from collections.abc import AsyncIterator

from checkpost.checks.asking import snapshot_of
from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.sort import across_pages, by_two, paged_by_position, sortable, sorting_of, tied_pairs
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.spelling import Sorting
from checkpost.oracle.columns import Snapshot

#: Rows that are made equal: enough that a few of them stand in the wrong order by chance alone.
_EQUAL = 5
_ORDERED = frozenset({"number", "date", "date-time"})


@check("sort.equal-rows", needs=("list", "create", "delete"), creates=True, alone=True, cost=lambda resource: 12)
async def equal_rows(case: Case) -> AsyncIterator[Finding]:
    """Does a second key order rows that the first leaves equal, and do pages of them hold each once?"""
    sorting = await sorting_of(case)
    snapshot = await snapshot_of(case)
    if tied_pairs(case, sorting, snapshot):
        raise Skipped("rows of the table are equal in a field")
    if not snapshot.whole:
        raise Skipped("the list was not read whole")
    if not sorting.several:
        paged_by_position(case, snapshot)
    firsts, second = _fields(case, sorting, snapshot)
    first = await _made_equal(case, firsts)
    if sorting.several:
        wrong = await by_two(case, sorting, first, second)
        for found in wrong:
            yield found
        if wrong:
            return
    snapshot = await snapshot_of(case, anew=True)
    paged_by_position(case, snapshot)
    for found in await across_pages(case, sorting, snapshot, first):
        yield found


async def _made_equal(case: Case, names: list[str]) -> str:
    """Make rows that are equal in one of some fields, and return which. Raises Blocked where none can be made: values
    may have to be unique though nothing says so."""
    for name in names:
        value = (await new_record(case))[name]
        records = [{**await new_record(case), name: value} for _ in range(_EQUAL)]
        made = await all_of(case.create(each, f"rows with the same {name}") for each in records)
        if all(key is not None for _, key in made):
            return name
    raise Blocked(f"no rows with the same {' or '.join(names)} could be made")


def _fields(case: Case, sorting: Sorting, snapshot: Snapshot) -> tuple[list[str], str]:
    """Two fields at most that rows are made equal in, and one that orders them then. Raises Skipped where there are
    none."""
    fixed = {*case.resource.key_fields, *case.resource.values, *case.state.withheld, *case.state.disputed}
    free = [
        each
        for each in sortable(case, sorting, snapshot)
        if each.created and not each.unique and each.name not in fixed and case.resource.relation(each.name) is None
    ]
    second = next((each.name for each in free if each.kind in _ORDERED and "enum" not in each.keywords), None)
    # numbers and dates first: a text is what rows are known by
    usable = [each for each in free if each.kind in {*_ORDERED, "text"} and each.name != second]
    firsts = [each.name for each in sorted(usable, key=lambda each: each.is_text)]
    if second is None or not firsts:
        raise Skipped("no two fields can be set and sorted by")
    return firsts[:2], second
