"""By which of their fields rows are found, where the documented key finds none of them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped
from checkpost.findings import Finding
from checkpost.model.paths import normal
from checkpost.model.resource import Key
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row

_TRIED = 4
_LIKE_KEYS = ("id", "key", "code", "slug", "uuid", "guid", "no", "number", "name")
_LIKE_KEY = re.compile(rf"(?:{'|'.join(_LIKE_KEYS)})$")


async def found_otherwise(case: Case, row: Row, rows: Sequence[Row], missed: Exchange) -> Finding | None:
    """A finding if a row, which the documented key does not find, is found by another of its fields; the run goes on
    with that one. ``rows`` are all of the list, ``missed`` the read that found nothing. Raises Skipped where the
    contract does not document the key."""
    key = case.resource.key
    if key is None or len(key.fields) > 1 or key.reason.text == STATED or case.resource.under:
        return None
    for name in _candidates(case, key, rows)[:_TRIED]:
        other = replace(case.resource, key=replace(key, fields=(name,)))
        reader = case.world.plain_client(other)
        exchange = await reader.send(
            "read", key=(row[name],), check=case.check.name, situation="a row by another field"
        )
        case.requests += 1
        read = reader.row_in(exchange.answer) if exchange.answer.ok else None
        documented = key.fields[0]
        if read is None or read.get(name) != row[name] or read.get(documented) != row.get(documented):
            continue
        case.world.readdressed[case.resource.name] = name
        if key.reason.certainty != "stated":
            raise Skipped(f"its rows are found by {name}, not by {documented}; the checks are repeated with that key")
        return case.finding(
            "error",
            "contract",
            f"Rows are found by {name}, and not by the documented key {documented}",
            f"the row by its {documented}",
            f"{missed.answer.status} by {documented}, and {exchange.answer.status} by {name}",
            cause=f"everywhere:addressed by {documented}",
            purpose="read",
            subjects=[documented],
            evidence=[missed, exchange],
        )
    return None


#: The reason of a key that the profile states: it is taken at its word.
STATED = "the profile says so"


def _candidates(case: Case, key: Key, rows: Sequence[Row]) -> list[str]:
    """Fields that every row has with a value of its own, those first that are named most like keys."""
    known = {each.name for each in case.resource.fields} - set(key.fields)
    names = []
    for name in rows[0] if rows else ():
        values = [row.get(name) for row in rows]
        plain = all(isinstance(value, str | int) and not isinstance(value, bool) and value != "" for value in values)
        end = _LIKE_KEY.search(normal(name))
        if name in known and plain and len(set(values)) == len(values) and end is not None:
            names.append((_LIKE_KEYS.index(end[0]), name))
    return [name for _, name in sorted(names)]
