"""The database behind the API as a run looks into it: rows of resources, while requests go on."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from checkpost.database.agreement import as_texts
from checkpost.database.connection import Database
from checkpost.database.contents import Compared, Rows, compared, without_kept
from checkpost.database.mapping import Mapped, mapped
from checkpost.model.resource import Model
from checkpost.profile.credentials import VARIABLE
from checkpost.profile.profile import Profile, require_set
from checkpost.profile.witness import Stated

Row = Mapping[str, Any]
Key = tuple[Any, ...]


class Behind:
    """The database and what stands in it of each resource. ``most`` is how many rows of a table are read."""

    def __init__(self, database: Database, model: Model, stated: Mapping[str, Stated], most: int) -> None:
        self.database, self._stated, self.most = database, stated, most
        self.sides = mapped(model, database.tables, stated)
        self._before: Mapping[str, Rows | None] = {}

    def pair_with(self, model: Model) -> None:
        """Pair resources with tables anew: they are understood otherwise now."""
        self.sides = mapped(model, self.database.tables, self._stated)

    def of(self, resource: str) -> Mapped | None:
        return self.sides.by_resource.get(resource)

    async def rows(self, pair: Mapped) -> dict[tuple[str, ...], Row] | None:
        """The rows of a table by their key as texts; None where there are too many, or keys that do not tell them
        apart."""
        found = await asyncio.to_thread(self.database.rows, pair.table, None, self.most + 1)
        keyed: dict[tuple[str, ...], Row] = {as_texts(row.get(name) for name in pair.key): row for row in found}
        return keyed if len(found) <= self.most and len(keyed) == len(found) else None

    async def row(self, pair: Mapped, key: Sequence[Any]) -> Row | None:
        """The row of a table with a resource's key; None where there is none."""
        rows = await self.rows(pair)
        wanted = as_texts(key)
        if rows is not None:
            return rows.get(wanted)
        found = await asyncio.to_thread(self.database.rows, pair.table, dict(zip(pair.key, key, strict=True)))
        return found[0] if found else None

    async def remember(self) -> None:
        """Keep how all tables are now."""
        self._before = await asyncio.to_thread(self.database.everything, self.most)

    def not_compared(self, problem: str) -> Compared:
        """What stands for a comparison that ``problem`` kept from being made."""
        return Compared(self.database.name, 0, 0, problem=problem)

    async def compared(
        self, made: Mapping[str, Collection[Key]], left: Collection[tuple[str, Key | None]] = ()
    ) -> Compared:
        """How all tables are now, against how they were. ``made`` has the keys of the run's rows, by resource, ``left``
        those that are known to stay."""
        after = await asyncio.to_thread(self.database.everything, self.most)
        found = compared(self.database.name, self.database.tables, self._before, after)
        own: dict[str, set[tuple[str, ...]]] = {}
        for name, pair in self.sides.by_resource.items():
            # a table's own key is in another order, or of other columns, than the resource's where those differ
            if pair.key == pair.table.key:
                own.setdefault(pair.table.name, set()).update(map(as_texts, made.get(name, ())))
            else:
                own.setdefault(pair.table.name, set())
        pairs = self.sides.by_resource
        told = {(pairs[name].table.name, as_texts(key)) for name, key in left if name in pairs and key is not None}
        return without_kept(found, own, told)


def open_behind(profile: Profile, model: Model, environment: Mapping[str, str], most: int) -> Behind | None:
    """The database that the profile names, paired with the model; None where it names none. Raises CheckPostError."""
    witness = profile.witness
    if witness is None:
        return None
    require_set(VARIABLE.findall(witness.database), f"The database of {profile.file}", environment, profile)
    url = VARIABLE.sub(lambda found: environment[found[1]], witness.database)
    database = Database(url, profile.folder)
    return Behind(database, model, witness.tables, most)
