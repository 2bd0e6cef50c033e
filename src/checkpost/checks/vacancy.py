"""Keys that no row has."""

from __future__ import annotations

import re
import uuid
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from checkpost.checks.own import Own
from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.removal import forget
from checkpost.model.field import MISSING, Field
from checkpost.rows.table import as_number
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key

if TYPE_CHECKING:
    from checkpost.checks.case import Case

#: Where integer keys are taken for unused: far up in what 32 bits hold.
_FAR_KEY = 2_000_000_000


def _like_those(used: Sequence[Any]) -> str:
    """A key that no row has, made like those that rows have: numbers or UUIDs that are written as texts."""
    texts = [each for each in used if isinstance(each, str)]
    if not texts or len(texts) < len(used):
        return ""
    if all(re.fullmatch(r"[0-9]{1,15}", text) for text in texts):
        return str(max(_FAR_KEY, max(map(int, texts)) + 1_000_000))
    if all(re.fullmatch(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", text, re.I) for text in texts):
        return str(uuid.uuid4())
    return ""


def _counts(field: Field, used: Sequence[Any]) -> bool:
    """Whether a key is a whole number: its type says so, or says ``number`` and every row's is one."""
    whole = all(isinstance(value, int) and not isinstance(value, bool) for value in used)
    return field.type == "integer" or (field.type == "number" and bool(used) and whole)


def absent_key(case: Case) -> Key:
    """A well-formed key that no row has. Raises Skipped where none can be told."""
    key = case.resource.key
    if key is None:
        raise Skipped("its key is not known")
    before = case.state.before
    keys = list(before.by_key) if before else []
    parts: list[Any] = list(case.world.within(case.resource))
    for index, name in list(enumerate(key.fields))[len(parts) :]:
        each = case.resource.field(name)
        used = [known[index] for known in keys if index < len(known)]
        if each is not None and _counts(each, used):
            largest = max((value for value in used if isinstance(value, int)), default=0)
            value = max(_FAR_KEY, largest + 1_000_000) + case.values.number()
            most = each.keywords.get("maximum")
            parts.append(value if most is None else min(value, int(most) - case.values.number()))
        else:
            made: Any = _like_those(used) or (case.values.plain(each) if each is not None else MISSING)
            if not isinstance(made, str | int) or made in used:
                raise Skipped("no key that is certainly absent could be made")
            parts.append(made)
    if tuple(parts) in keys:
        raise Skipped("no key that is certainly absent could be made")
    return tuple(parts)


async def smaller(case: Case) -> Own:
    """Of two new rows the one with the smaller key."""
    own, other = await case.own(2)
    first, second = as_number(own.key[-1]), as_number(other.key[-1])
    return other if first is not None and second is not None and first > second else own


async def deleted(case: Case) -> tuple[Own, list[Exchange]]:
    """A row made and deleted again, and the exchanges; one with a larger key stays, since some APIs give the
    largest key out again. Raises Blocked if that fails."""
    own = await smaller(case)
    exchange = await case.send("delete", "deleting a row", key=own.key)
    if not exchange.answer.ok or case.is_open(exchange):
        raise Blocked(f"deleting a row answers {exchange.answer.status or exchange.answer.detail}")
    forget(case, own.key)
    return own, [own.exchange, exchange]


async def keep_vacant(case: Case, key: Key) -> None:
    """See to it that a write to the key of a deleted row of the run's can reach no other. Raises Skipped where the
    API may give the key out again."""
    if not case.ledger.is_spare(case.resource.name, key) and not case.client_keys:
        await case.own()  # another one made since shows whether keys are given out again
    if not case.ledger.is_spare(case.resource.name, key):
        raise Skipped("the key of a deleted row may be given out again, so that a write to it could reach another")


async def vacant_key(case: Case) -> Key:
    """A key to write to that no row has: one that the API has given to a row of the run's, which is deleted.
    Raises Skipped where keys are given out again, Blocked where no row can be made and deleted."""
    if case.state.vacant is None or case.state.vacant in case.own_keys:
        case.state.vacant = (await deleted(case))[0].key
    await keep_vacant(case, case.state.vacant)
    return case.state.vacant


async def unused_key(case: Case) -> Key:
    """A key that no row has, to be read or referred to, never to be written by. Raises Skipped where none can be
    told."""
    key = absent_key(case)
    if case.has("read"):
        exchange, row = await case.read(key, "a missing key")
        if row is not None and not case.client.absent(exchange.answer):
            raise Skipped("no key that is certainly absent could be made")
    return key
