"""One table as a run has dealt with it: what was there, what is its own, what it could not put right."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from checkpost.rows.natural import Natural
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row, key_text


@dataclass(frozen=True)
class Harm:
    """A row of somebody else that a request of the run has changed or removed: what it was."""

    table: str
    key: Key
    how: str
    row: Mapping[str, Any]
    restored: bool = False
    #: Whether it was the run: where others are at work too, it may have been they.
    certain: bool = True

    def __str__(self) -> str:
        again = ", and has its values again" if self.restored else ""
        return f"{self.table} {key_text(self.key)} {self.how}{again}"


@dataclass
class Table:
    """One table as the run has dealt with it.

    Once it was ``looked_at``, ``known`` holds the keys that it had before: all of them, if ``whole``. ``own`` has the
    entry of each row of the run's by its key (those in ``unproved`` on the API's word alone), ``ever`` every key that
    the run was given, ``left`` the keys of own rows that are gone again, with the number of the last entry then.
    """

    known: frozenset[Key] = frozenset()
    whole: bool = False
    looked_at: bool = False
    #: Whether it was settled that its key can be written by.
    key_settled: bool = False
    before: Listing | None = None
    #: The rows of others that it had, by their values.
    natural: Natural = field(default_factory=lambda: Natural(()))
    #: The names of all that rows were shown with.
    shown: set[str] = field(default_factory=set)
    own: dict[Key, int] = field(default_factory=dict)
    ever: set[Key] = field(default_factory=set)
    unproved: set[Key] = field(default_factory=set)
    #: A change that was answered with a row of its own: the key that was meant, that of the row, and the exchange.
    fork: tuple[Key, Key, tuple[Exchange]] | None = None
    #: Keys that lists have shown since, and that are neither: of rows that others make meanwhile.
    strangers: set[Key] = field(default_factory=set)
    #: Those of them that were read and showed something else than was sent; and whether any row was ever proved.
    strange: set[Key] = field(default_factory=set)
    recognised: bool = False
    #: Whether rows were made in it that bear the run's mark.
    bearing: bool = False
    #: Keys without a mark that the run has chosen, and that no row had: what is there now is a create on its way.
    chosen: set[Key] = field(default_factory=set)
    #: All keys that it has chosen itself.
    picked: set[Key] = field(default_factory=set)
    #: Whether the API gave no key when a row was made, and whether a create had no answer in time, or failed and made
    #: its row: others may give none either.
    keyless: bool = False
    unanswered: bool = False
    #: Whether the API gave the key of a row that was made as the one of a list: it gives those of several then.
    tells_many: bool | None = None
    #: How many creates failed that may have made a row all the same.
    fates_open: int = 0
    #: Own rows whose removal was asked for and not refused: another row may have the key by now.
    doubtful: set[Key] = field(default_factory=set)
    left: dict[Key, int] = field(default_factory=dict)
    #: Whether the API was seen to give the key of a row that is gone to another.
    reuses_keys: bool = False
    #: How often a row was given a key above the largest one, whose row had gone: numbers only count up, unless somebody
    #: was given that one in between.
    counts_up: int = 0
    #: Whether a role may see rows that the role of the run does not, as was seen, or is not known any more.
    apart: bool = False
    #: Why nothing is written.
    forbidden: str = ""
    #: Whether the path that removes deleted rows for good was seen to remove one that was not deleted, and it alone.
    purges: bool | None = None
    #: How many rows were removed by it that were not deleted before.
    purged: int = 0
    #: Whether a row of the run's was seen to be gone after it was made; own rows whose removal was answered with a
    #: failure; and how many rows are being made just now.
    removable: bool = False
    stuck: set[Key] = field(default_factory=set)
    #: Own rows whose removal was refused, until they are gone: what they refer to may hold them.
    held: set[Key] = field(default_factory=set)
    making: int = 0
    #: The number of an exchange in which a create failed, until the list was looked at behind it; and why no more rows
    #: are made.
    suspect: int = 0
    #: The last exchange that was to make a row.
    made_last: int = 0
    broken: str = ""
    #: How many rows were removed that the API could not show.
    unshown: int = 0
    #: What fields of own rows hold of which nothing was sent, as far as it is not another value in each.
    usual: dict[str, list[Any]] = field(default_factory=dict)
    #: What changes have sent to an own row, by its key.
    changes: dict[Key, list[Mapping[str, Any]]] = field(default_factory=dict)

    def show(self, rows: Iterable[Row]) -> None:
        """Note what rows were shown with."""
        for row in rows:
            self.shown |= row.keys()


def is_whole(row: Row, names: Iterable[str]) -> bool:
    """Whether an object has most of the members that rows have."""
    wanted = set(names)
    return 2 * len(wanted & row.keys()) > len(wanted)


def as_number(part: Any) -> int | None:
    """A part of a key as a number, if it is one or is written as one: JSON:API has its keys as texts."""
    if isinstance(part, int):
        return part
    return int(part) if isinstance(part, str) and part.isascii() and part.isdigit() else None
