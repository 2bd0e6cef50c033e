"""Values that may break what an API shows: tried first on a row whose key is known, which can be removed whatever they
do to it. A row that a failing create left, and that no list shows, could not be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import replacement
from checkpost.checks.removal import remove
from checkpost.findings import Finding
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Row

Write = Literal["update", "replace"]


@dataclass(frozen=True)
class Trial:
    """What came of a change of an own row to a value: ``row`` is as it is shown since, None where it is not; then
    ``seen`` is the answer to the read."""

    purpose: Write
    own: Own
    exchange: Exchange
    row: Row | None
    seen: Exchange
    #: The answer to its removal, where that was asked for.
    removed: Exchange | None = None

    def unreadable(self, case: Case, title: str, expected: str, value: str, cause: str, name: str) -> list[Finding]:
        """The finding that reading the row fails since, if it does."""
        if self.row is not None or self.seen.answer.status < 500:
            return []
        case.told_otherwise([self.exchange, self.seen, self.removed])
        status = self.exchange.answer.status
        observed = f"{status} for {name} = {value}, and {self.seen.answer.status} when the row is read"
        evidence = [self.own.exchange, self.exchange, self.seen]
        found = case.finding(
            "error",
            "expectation",
            title,
            expected,
            observed,
            cause=cause,
            purpose=self.purpose,
            subjects=[name],
            evidence=evidence,
        )
        return [found]


async def tried_first(
    case: Case, name: str, value: Any, situation: str, raw: Callable[[Row, Write], bytes] | None = None
) -> Trial | None:
    """Change a field of an own row to a value; None where no change of it is offered. ``raw`` writes the body for a
    record that holds the value."""
    field = case.fields[name]
    patched = case.resource.patched and raw is not None
    writes: tuple[tuple[Write, bool], ...] = (("update", field.updated and not patched), ("replace", field.replaced))
    purpose = next((each for each, allowed in writes if allowed and each in case.resource.operations), None)
    if purpose is None:
        return None
    own = (await case.own())[0]
    update = purpose == "update"
    beside = await (case.demanded(own.key, {name: value}) if update else replacement(case, own.key))
    record = {**beside, name: value}
    body: dict[str, Any] = {"raw": raw(record, purpose)} if raw is not None else {}
    exchange = await case.send(purpose, situation, key=own.key, record=record, **body)
    seen, row = await (case.read(own.key) if case.has("read") else case.row_now(own.key))
    # lists may be broken until it is gone
    removed = await remove(case, own.key) if row is None else None
    return Trial(purpose, own, exchange, row, seen, removed)
