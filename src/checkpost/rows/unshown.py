"""The key of a row that the API can show neither alone nor in its list, which fails for it."""

from __future__ import annotations

from typing import Any

from checkpost.rows.table import Table, as_number
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer
from checkpost.wire.listing import Key

IS_SHOWN = "whether a row is shown"
#: How many numbers are read at either end, how often one that fails is read again, and how many other rows are read.
_MOST_READ, _AGAIN, _OTHERS = 20, 2, 2
#: A number so far behind the last key is nobody's yet.
_FAR = 100_000


async def key_unshown(client: Client, table: Table) -> Key | None:
    """The key of the one row that fails to be read, of those whose numbers are behind the largest one of before, and
    that the run was not told of; None where several do, or none, where reading other rows fails too, or a far number is
    not absent. Raises Unsafe where rows may not be read."""
    before = {as_number(key[-1]) for key in table.known}
    given = {as_number(key[-1]) for key in table.ever} | before
    others = [*list(table.known)[:_OTHERS], *list(table.own)[-_OTHERS:]]
    plain = len(client.resource.key_fields) == 1 and not client.resource.under
    able = plain and "read" in client.resource.operations and table.whole
    if not able or not others or None in given:
        return None
    kind = type(others[0][-1])

    async def read(part: Any) -> Answer:
        key = (kind(part),)
        return (await client.send("read", key=key, check="ledger", situation=IS_SHOWN)).answer

    first, last = (max(filter(None, each), default=0) + 1 for each in (before, given))
    free = [each for each in range(first, last + 1) if (kind(each),) not in table.own]
    # a key is given again from below, or from above
    ends = dict.fromkeys([*free[:_MOST_READ], *free[-_MOST_READ:]])
    failing = [each for each in ends if (await read(each)).status >= 500]
    if len(failing) != 1 or not client.absent(await read(last + _FAR)):
        return None
    again = [(await read(failing[0])).status >= 500 for _ in range(_AGAIN)]
    if not all(again) or not any([(await read(key[-1])).ok for key in others]):
        return None
    return (kind(failing[0]),)
