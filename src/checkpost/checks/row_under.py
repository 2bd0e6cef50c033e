"""One row by its path under the row that it belongs to: read, changed and removed there, and under no other."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from checkpost.checks.both_sides import place_of, usable
from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_record, new_value
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.standing import beside
from checkpost.findings import Finding
from checkpost.model.field import MISSING
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Resource, Subcollection
from checkpost.oracle.same import differences
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Row

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_ELSEWHERE = "A row is reached under a row that it does not belong to"


def _cost(resource: Resource) -> int:
    return 16 * sum(bool(sub.rows) for sub in resource.subcollections)


@check("relate.row-under", needs=_NEEDS, creates=True, cost=_cost)
async def row_under(case: Case) -> AsyncIterator[Finding]:
    """Is a row read, changed and removed by its path under the row that it belongs to, and under no other?"""
    asked = False
    for sub in case.resource.subcollections:
        if "read" not in sub.rows or sub.via is None or sub.through is not None:
            continue
        child = usable(case, sub.child)
        if child is None:
            continue
        field = child.field(sub.via)
        if field is None or not field.created or child.key is None or len(child.key.fields) != 1:
            continue
        asked = True
        async with beside(case, child) as other:
            first, second = await case.own(2)
            record = {**await new_record(other), sub.via: first.key[-1]}
            made, key = await other.create(record, "a row under an own row")
            if key is None:
                raise Blocked(f"no row of {sub.child} could be made under an own row ({made.answer.status})")
            async for finding in _Row(case, other, sub, first, second, made, key).findings():
                yield finding
    if not asked:
        raise Skipped("the contract has no path for a row under another")


@dataclass(frozen=True)
class _Row:
    """An own row, ``made`` under the ``first`` of two own rows."""

    case: Case
    other: Case
    sub: Subcollection
    first: Own
    second: Own
    made: Exchange
    key: Key

    async def findings(self) -> AsyncIterator[Finding]:
        exchange, shown = await self._read(self.first)
        _, row = await self.other.row_now(self.key)
        wrong = differences(self.other.fields, row, shown or {}, self.other.settable)
        if exchange.answer.status in {401, 403}:
            return
        if shown is None or wrong:
            if exchange.answer.ok or self.other.client.absent(exchange.answer):
                seen = f"{wrong[0]} = {shown[wrong[0]]!r}" if shown and wrong else str(exchange.answer.status)
                title = "A row is not found by its path under the row that it belongs to"
                yield self._finding("read", title, "the row as by its own path", seen, [exchange])
            return  # what is not known to reach the row is not written to
        exchange, shown = await self._read(self.second)
        if exchange.answer.ok and shown is not None and self.other.client.key_of(shown) in (None, self.key):
            yield self._elsewhere("read", f"{exchange.answer.status} with the row", [exchange])
        purpose: Purpose = "update" if "update" in self.sub.rows else "replace"
        if purpose in self.sub.rows:
            async for finding in self._changed(purpose, row):
                yield finding
        if "delete" in self.sub.rows:
            async for finding in self._removed():
                yield finding

    async def _changed(self, purpose: Purpose, row: Row) -> AsyncIterator[Finding]:
        name = self.sub.via or ""
        fields = [each for each in self.other.resource.writable("update") if each.name in row and each.name != name]
        relations = {each.field for each in self.other.resource.relations}
        field = next((each for each in fields if each.is_text and each.name not in relations), None)
        if field is None or field.name in self.other.state.unchangeable:
            return
        for parent in (self.second, self.first):
            value = await new_value(self.other, field, unlike=row.get(field.name))
            if value is MISSING:
                return
            sent = {field.name: value} if purpose == "update" else {**await new_record(self.other), field.name: value}
            sent |= {} if purpose == "update" else {name: self.first.key[-1]}
            exchange = await self._send(purpose, parent, "changing a row under another", sent)
            read, after = await self.other.row_now(self.key)
            stored = not differences(self.other.fields, {field.name: value}, after)
            if parent is self.second and stored:
                yield self._elsewhere(
                    purpose, f"{exchange.answer.status}, and {field.name} is changed", [exchange, read]
                )
            elif parent is self.first and exchange.answer.ok and not stored:
                title = "A change by a path under another row is not stored"
                seen = f"{field.name} = {after.get(field.name)!r}"
                yield self._finding(purpose, title, f"{field.name} = {value!r}", seen, [exchange, read])

    async def _removed(self) -> AsyncIterator[Finding]:
        for parent in (self.second, self.first):
            exchange = await self._send("delete", parent, "removing a row under another", None)
            read, after = await self.other.read(self.key, "a row that was removed under another")
            gone = after is None and self.other.client.absent(read.answer)
            if gone:
                forget(self.other, self.key)
            if gone and parent is self.second:
                yield self._elsewhere("delete", f"{exchange.answer.status}, and the row is gone", [exchange, read])
                return
            if parent is self.first and exchange.answer.ok and after is not None:
                title = "A removal by a path under another row removes nothing"
                yield self._finding("delete", title, "not found", "the row", [exchange, read])
            if parent is self.first and gone:
                there, own = await self.case.read(self.first.key, "a row under which another was removed")
                if own is None and self.case.client.absent(there.answer):
                    forget(self.case, self.first.key)
                    title = "A removal by a path under another row removes that one too"
                    yield self._finding("delete", title, "the row", str(there.answer.status), [exchange, there])

    async def _read(self, parent: Own) -> tuple[Exchange, Row | None]:
        exchange = await self._send("read", parent, "a row under another", None)
        client = self.other.client
        return exchange, client.row_in(exchange.answer) if exchange.answer.ok else None

    async def _send(self, purpose: Purpose, parent: Own, situation: str, sent: dict[str, Any] | None) -> Exchange:
        child, touched = self.other.resource.name, ((self.other.resource.name, self.key),)
        act = None
        if purpose == "delete":
            act = Act("remove", (), touched)
        elif purpose != "read":
            act = Act("change", (Made(child, sent or {}),), touched)
        one = replace(self.sub.view, operations=self.sub.rows, collection=None, key=self.other.resource.key)
        client = self.case.world.view(self.case.resource, one, parent.key)
        return await self.other.send(
            purpose, situation, through=client, key=self.key, record=sent, operation=self.sub.rows[purpose], act=act
        )

    def _elsewhere(self, purpose: Purpose, seen: str, evidence: Sequence[Exchange]) -> Finding:
        return self._finding(purpose, _ELSEWHERE, "a refusal, such as 404", seen, evidence)

    def _finding(self, purpose: Purpose, title: str, expected: str, seen: str, evidence: Sequence[Exchange]) -> Finding:
        return self.case.finding(
            "warning" if title == _ELSEWHERE else "error",
            "expectation",
            title,
            expected,
            seen,
            cause=f"{title} {self.sub.path}",
            operation=place_of(self.sub.rows[purpose]),
            evidence=[self.made, *evidence],
        )
