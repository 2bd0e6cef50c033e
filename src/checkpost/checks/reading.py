"""Whether reading a row by its key changes it, which no GET may (RFC 9110, 9.2.1)."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from checkpost.checks.case import Case
from checkpost.findings import Finding
from checkpost.oracle.same import differences
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Row


@dataclass(frozen=True)
class Changed:
    """The fields of a row that reading it has changed, the row before and after, and the request that did it."""

    names: Sequence[str]
    before: Row
    after: Row
    exchange: Exchange

    def finding(self, case: Case, evidence: Sequence[Exchange]) -> Finding:
        name = self.names[0]
        return case.finding(
            "error",
            "standard",
            "Reading a row changes it",
            "no change: GET is safe (RFC 9110, 9.2.1)",
            f"{name} was {self.before[name]!r} and is {self.after[name]!r}",
            cause="any:read writes",
            purpose="read",
            subjects=list(self.names),
            evidence=[*evidence, self.exchange],
        )


async def changed_by_reading(case: Case, key: Key, moved: Collection[str]) -> Changed | None:
    """What reading a row once more changes of it, as the list shows it; None where that is nothing. ``moved`` are the
    fields that were seen to be others when it was read twice: what is made anew at each reading is another one in the
    list each time as well, and is not stored."""
    first, second = [(await case.listing()).by_key.get(key, {}) for _ in range(2)]
    stored = set(moved) - set(differences(case.fields, first, second))
    exchange, _ = await case.read(key, "a row that was read before")
    after = (await case.listing()).by_key.get(key, {})
    names = [name for name in differences(case.fields, second, after) if name in stored]
    return Changed(names, second, after, exchange) if names else None
