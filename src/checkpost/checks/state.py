"""What the run has found out about one resource so far."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from checkpost.model.field import Field
from checkpost.model.spelling import Filtering, Sorting
from checkpost.oracle.columns import Snapshot
from checkpost.values.usual import ROOM
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row


@dataclass
class State:
    """What the run has found out about one resource so far."""

    before: Listing | None = None
    #: Why its list cannot be used, rows cannot be made, changed or removed; and what the role may not do.
    unusable: str = ""
    pages_broken: str = ""
    may_not_read: str = ""
    may_not_create: str = ""
    not_creatable: str = ""
    not_changeable: str = ""
    not_replaceable: str = ""
    not_removable: str = ""
    #: Held while it is tried whether rows that were not deleted can be removed for good.
    purging: asyncio.Lock = field(default_factory=asyncio.Lock)
    #: The parameter of the list by which rows that were deleted are shown: they are kept.
    kept: str = ""
    #: Why lists are not held against rows: some are there in one answer and not in another.
    ghosts: str = ""
    #: Whether every delete fails, though it is carried out: that is told once.
    deletes_fail: bool = False
    #: Whether creates are answered with a server error, though their rows are stored.
    stores_failing: bool = False
    #: Whether a create of a valid record was answered with a server error.
    create_failed: bool = False
    #: The required fields that records were made without.
    lacked: set[str] = field(default_factory=set)
    #: Fields, and how Python writes the values that changes had for them against the schema of rows.
    against: set[tuple[str, str]] = field(default_factory=set)
    #: How records are made that the API accepts: generated (""), like a row that is there ("copy" all but
    #: free texts, "copy all"), or of the required fields ("least").
    recipe: str = ""
    #: Fields whose generated values were refused, so that they are given those of rows.
    copied: set[str] = field(default_factory=set)
    #: The refusal of a record with the fields that are left out.
    refused_with: Exchange | None = None
    #: Members of rows that the contract has in no record, and that a record has to have all the same, with a value.
    wanting: dict[str, Any] = field(default_factory=dict)
    #: Fields that creates were refused for, though they need not be there: they are left out.
    left_out: set[str] = field(default_factory=set)
    #: Fields of several references that may not be empty, with those that they are given.
    filled: dict[str, list[Any]] = field(default_factory=dict)
    #: Fields that refer to rows nobody knows of, so that they are left out; and those whose texts have no spaces, with
    #: what stands for one.
    unfilled: set[str] = field(default_factory=set)
    joined: dict[str, str] = field(default_factory=dict)
    #: Rules of fields that refusals state beside those of the contract.
    bounds: dict[str, dict[str, Any]] = field(default_factory=dict)
    #: Moments that are written as databases have them, with a space and no offset.
    spaced: set[str] = field(default_factory=set)
    #: Texts that have to be written as JSON, as a refusal says.
    encoded: set[str] = field(default_factory=set)
    #: Fields that are given the contract's examples; flags that are the same in all rows, since the list has no others.
    exemplary: set[str] = field(default_factory=set)
    flagged: dict[str, bool] = field(default_factory=dict)
    #: Fields that a change is refused without, though the contract does not demand them.
    wanted_beside: set[str] = field(default_factory=set)
    #: Whether a key that the client may choose has to be chosen by it.
    chooses_key: bool | None = None
    #: How many signs texts have room for at least, whatever rows have.
    room: int = ROOM
    #: Keys of rows that were made for others to refer to, and whether none can be made.
    parents: list[Any] = field(default_factory=list)
    no_parent: bool = False
    #: Whether a text of its rows can bear the run's mark, once that is known.
    markable: bool | None = None
    usual: dict[str, Field] = field(default_factory=dict)
    taken: dict[str, set[Any]] = field(default_factory=dict)
    #: Of fields that refer to others, the values with which rows could be removed again.
    released: dict[str, set[Any]] = field(default_factory=dict)
    #: The one value more that is tried at the moment, and since when (seconds of the loop's clock).
    on_trial: dict[str, tuple[Any, float]] = field(default_factory=dict)
    #: Whether a row that refers to those of others was made to see whether it could be removed, one at a time.
    tried: bool = False
    trying: asyncio.Lock = field(default_factory=asyncio.Lock)
    #: Fields that lists show otherwise than reading by key does, fields that an update does not change, and rules of
    #: records that are not enforced (field and keyword), each with the check that learnt it: it is told once, and not
    #: again by checks that build on them.
    disputed: dict[str, str] = field(default_factory=dict)
    unchangeable: dict[str, str] = field(default_factory=dict)
    unenforced: dict[tuple[str, str], str] = field(default_factory=dict)
    #: Whether rows are seen to be kept as a database does it: numbers that fit into no column, second rows with a
    #: unique value or references to nothing are turned away.
    in_columns: bool = False
    #: Whether a number was kept that no column of a database holds.
    loosely: bool = False
    #: Values of fields with which a row was not shown any more, as texts.
    unshown: dict[tuple[str, str], str] = field(default_factory=dict)
    used: set[Key] = field(default_factory=set)
    #: Whether GET, HEAD and OPTIONS were seen to leave an own row alone.
    read_safely: bool = False
    #: The key of a row that was made and deleted again.
    vacant: Key | None = None
    answers: dict[str, int] = field(default_factory=dict)
    #: Writes that were sent; what was read before one may be out of date behind it.
    writes: int = 0
    snapshot: tuple[int, Snapshot] | None = None
    #: How many rows the list takes to be asked for at once, where nothing says so; 0 for no number at all.
    page_size: int | None = None
    #: Whether others may have changed rows since the list was first read.
    outdated: bool = False
    #: Held while its list is read for all that ask; and what it was asked since, with the answers under way.
    reading: asyncio.Lock = field(default_factory=asyncio.Lock)
    replies: dict[Any, asyncio.Future[Any]] = field(default_factory=dict)
    #: How filters and sorting turned out to be spelled, and why they cannot be used.
    filtering: Filtering | None = None
    sorting: Sorting | None = None
    #: The fields by which rows can be sorted, as a refusal of another names them.
    sortable: set[str] = field(default_factory=set)
    #: Filters, and fields to sort by, that were seen to be wrong.
    misfiltered: set[tuple[str, str]] = field(default_factory=set)
    missorted: set[str] = field(default_factory=set)
    #: Why requests with many rows, or removals of many, are left alone.
    many_refused: str = ""
    many_kept: str = ""
    unfiltered: str = ""
    unsorted: str = ""
    #: An answer to one of the usual ways of writing an order, where all left the rows as they come without one.
    order_ignored: Exchange | None = None

    @property
    def rows_before(self) -> Sequence[Row]:
        """The rows that the list showed first; none where it was not read."""
        return self.before.rows if self.before else ()

    def values_taken(self, each: Field) -> set[Any]:
        """The values of a unique field that rows have had or the run has used."""
        if each.name not in self.taken:
            values = (row.get(each.name) for row in self.rows_before)
            self.taken[each.name] = {value for value in values if isinstance(value, str | int)}
        return self.taken[each.name]

    def reserve(self, each: Field, value: Any) -> bool:
        """Take a value for a unique field, unless it is taken already."""
        taken = self.values_taken(each)
        if value in taken:
            return False
        taken.add(value)
        return True

    @property
    def withheld(self) -> set[str]:
        """Fields that records are made without, though they might have them: no value of theirs was taken, or none is
        known. What rows show there is the server's."""
        return self.left_out | self.unfilled

    def forget(self, check: str) -> None:
        """Go back to what was known before a check, which is asked again, and ask again what was asked."""
        for name in _LEARNT_BY.get(check, ()):
            setattr(self, name, "")
        if check == "filter.rows":
            self.misfiltered = set()
        if check == "create.stored":
            # else what was refused at first would not be sent again, and be taken for a failure by chance
            self.recipe, self.chooses_key, self.room, self.refused_with = "", None, ROOM, None
            self.copied, self.left_out, self.wanting = set(), set(), {}
            self.unfilled, self.joined, self.exemplary, self.encoded = set(), {}, set(), set()
            self.filled, self.bounds, self.spaced = {}, {}, set()
            self.usual.clear()
        self.replies.clear()
        self.snapshot, self.outdated = None, True


#: Which check learns that something cannot be used, and where it is noted.
_LEARNT_BY = {
    "read.list": ("unusable",),
    "create.stored": ("not_creatable", "may_not_create"),
    "delete.gone": ("not_removable", "ghosts"),
    "update.each-field": ("not_changeable",),
    "replace.stored": ("not_replaceable",),
    "page.joined": ("pages_broken",),
    "filter.rows": ("unfiltered",),
    "sort.each-field": ("unsorted",),
    "bulk.create": ("many_refused",),
    "bulk.delete": ("many_kept",),
}
