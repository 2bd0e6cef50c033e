"""Relationships with a path of their own (JSON:API 1.1, 9.5): what is set, added or taken away there is so, and no row
is made or lost by it."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from checkpost.checks.both_sides import place_of, usable
from checkpost.checks.case import Case
from checkpost.checks.others import judge
from checkpost.checks.registry import Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.standing import beside
from checkpost.checks.vacancy import absent_key
from checkpost.contract.contract import Operation
from checkpost.findings import Finding, Severity
from checkpost.model.layout import identifiers_in
from checkpost.model.linkages import other_of
from checkpost.model.media import request_media_type
from checkpost.model.resource import Linkage
from checkpost.wire.door import Act
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Key, key_text

#: What sets a relationship: JSON:API has PATCH, others PUT too.
_SETS = ("PATCH", "PUT")
#: Refusals that say that a row may not be brought together with others so, and of nothing wrong.
_NOT_SO = frozenset({401, 403, 405, 501})


@check("relate.linkage", needs=("create", "delete"), creates=True, cost=lambda r: 14 * len(r.linkages))
async def linkage(case: Case) -> AsyncIterator[Finding]:
    """Do the paths of a relationship set, add to and take from it as they say?"""
    asked = False
    links = [each for each in case.resource.linkages if each.child]
    for open_one in (each for each in case.resource.linkages if not each.child):
        links += await _shown_by_rows(case, open_one)
    for link in links:
        if link.child == case.resource.name:
            continue  # one row would stand on both sides
        child = usable(case, link.child)
        if child is None:
            continue
        asked = True
        async with beside(case, child) as other:
            own = (await case.own())[0]
            first, second = await other.own(2)
            trial = _Trial(case, other, link, own.key)
            many = link.many if link.many is not None else await trial.holds_many()
            told = trial.many(first.key, second.key) if many else trial.one(first.key)
            async for finding in told:
                yield finding
    if not asked:
        raise Skipped("the contract has no paths for its relationships")


async def _shown_by_rows(case: Case, link: Linkage) -> list[Linkage]:
    """A relationship for each that rows show, or for the one that is named, where the contract does not say what they
    lead to."""
    exchange = await case.send("list", "the relationships of rows")
    body = exchange.answer.json if exchange.answer.ok else None
    rows = body.get("data") if isinstance(body, dict) else None
    kinds: dict[str, str | None] = {}
    for row in rows if isinstance(rows, list) else ():
        for name, data in identifiers_in(row) if isinstance(row, dict) else ():
            first = data[0] if isinstance(data, list) and data else data
            kinds[name] = kinds.get(name) or (first.get("type") if isinstance(first, dict) else None)
    others = {each.name: each for each in case.world.model.resources}
    named = {name: kind for name, kind in kinds.items() if link.name in {"", name}}
    found = [(name, other_of(case.resource, name, others, kind)) for name, kind in named.items()]
    within = {name: () if link.name else (name,) for name in named}
    return [replace(link, name=name, within=within[name], child=other) for name, other in found if other is not None]


@dataclass
class _Trial:
    """One relationship of an own row, tried with own rows on the other side."""

    case: Case
    other: Case
    link: Linkage
    own: Key
    #: Whether the relationship has shown a list.
    list_shown: bool = False

    # -- asking ------------------------------------------------------------------------------------

    async def send(self, method: str, keys: Sequence[Key], situation: str) -> Exchange | None:
        """Name rows to a relationship; None where the contract has no such method."""
        operation = self.link.writes.get(method)
        if operation is None:
            return None
        kind = self._type_name()
        named = [{"type": kind, "id": key_text(key)} for key in keys]
        several = self.link.many if self.link.many is not None else self.list_shown
        data: Any = named if several and method in self.link.listed else (named[0] if named else None)
        known = [key for key in keys if self.case.world.ledger and self.case.world.ledger.is_own(self.link.child, key)]
        act = Act("link", (), ((self.case.resource.name, self.own), *((self.link.child, key) for key in known)))
        self.case.state.writes += 1
        self.other.state.writes += 1
        return await self.case.send(
            "update",
            situation,
            operation=operation,
            key=(*self.own, *self.link.within),
            raw=json.dumps({"data": data}).encode(),
            media_type=request_media_type(operation),
            act=act,
        )

    async def _get(self, operation: Operation) -> Exchange:
        """The answer of a path of the relationship, which is no operation of the resource's."""
        case = self.case
        url = case.client.url(operation, (*self.own, *self.link.within))
        case.requests += 1
        return await case.world.session.send(Request("GET", url, case.world.role.name), case.check.name)

    def _type_name(self) -> str:
        """What rows of the other side say of their type."""
        client = self.other.client
        return client.resource.layout.with_kinds(client.session.kinds.get(self.link.child, {})).type_name

    async def shown(self) -> tuple[Exchange, list[str] | None]:
        """The keys, as texts, of the rows that a relationship shows; None where they cannot be told."""
        case, operation = self.case, self.link.read
        if operation is None:
            exchange = await case.send("read", "reading a row", key=self.own)
            body = exchange.answer.json if exchange.answer.ok else None
            for member in ("data", "relationships", self.link.name):
                body = body.get(member) if isinstance(body, dict) else None
        else:
            exchange = await self._get(operation)
            case.world.observe(case.client, operation, exchange, "the rows of a relationship")
            body = exchange.answer.json if exchange.answer.ok else None
        if not isinstance(body, dict) or "data" not in body:
            return exchange, None
        data = body["data"]
        self.list_shown = isinstance(data, list)
        rows = data if isinstance(data, list) else ([data] if data is not None else [])
        return exchange, [str(row.get("id")) for row in rows if isinstance(row, dict)]

    async def holds_many(self) -> bool:
        """Whether a relationship of which the contract does not say it shows a list."""
        await self.shown()
        return self.list_shown

    async def related(self, method: str, wanted: str, sent: Exchange) -> AsyncIterator[Finding]:
        """The path of the rows themselves shows those that the relationship names."""
        operation = self.link.related
        if operation is None:
            return
        exchange = await self._get(operation)
        judge(self.case.world, operation, exchange, "the rows of a relationship")
        body = exchange.answer.json if exchange.answer.ok else None
        data = body.get("data") if isinstance(body, dict) else None
        rows = data if isinstance(data, list) else [data] if isinstance(data, dict) else None
        if rows is not None and not any(isinstance(row, dict) and str(row.get("id")) == wanted for row in rows):
            title, expected = "The path of related rows does not show a row of the relationship", f"the row {wanted}"
            yield self.wrong(method, title, expected, "no such row", sent, exchange)

    # -- judging -----------------------------------------------------------------------------------

    def wrong(
        self, method: str, title: str, expected: str, observed: str, *evidence: Exchange, severity: Severity = "error"
    ) -> Finding:
        return self.case.finding(
            severity,
            "expectation",
            title,
            expected,
            observed,
            cause=title,
            operation=place_of(self.link.writes[method]),
            subjects=[self.link.name],
            evidence=evidence,
        )

    def refused(self, method: str, sent: Exchange) -> Iterator[Finding]:
        if sent.answer.refused and sent.answer.status not in _NOT_SO:
            title = "Rows cannot be brought together by the path of their relationship"
            yield self.wrong(method, title, "success", str(sent.answer.status), sent, severity="warning")

    async def missing(self, method: str) -> AsyncIterator[Finding]:
        """A row that is not there can be in no relationship."""
        known = self.case.world.findings.by_key.values()
        if any(each.check == "relate.absent" and self.link.name in each.subjects for each in known):
            return  # the row itself takes such a reference
        key = absent_key(self.other)
        sent = await self.send(method, [key], "naming a row that is not there")
        if sent is None or not sent.answer.ok:
            return
        seen, now = await self.shown()
        if now is not None and key_text(key) in now:
            title, expected = "A relationship with a missing row is accepted", f"a refusal: no row {key_text(key)}"
            yield self.wrong(method, title, expected, f"{sent.answer.status}, and it is shown", sent, seen)

    async def one(self, first: Key) -> AsyncIterator[Finding]:
        """A relationship with one row: set to a row, to one that is missing, to none."""
        for method in _SETS:
            async for finding in self._set(method, first):
                yield finding
        # JSON:API has these for many rows alone: what a contract has them for in others is left to it
        for method, situation in (("POST", "adding to a relationship"), ("DELETE", "taking from a relationship")):
            await self.send(method, [first], situation)

    async def _set(self, method: str, first: Key) -> AsyncIterator[Finding]:
        wanted = key_text(first)
        sent = await self.send(method, [first], "setting a relationship")
        if sent is None:
            return
        if not sent.answer.ok:
            for finding in self.refused(method, sent):
                yield finding
            return
        seen, now = await self.shown()
        if now is not None and now != [wanted]:
            title = "Setting a relationship returns success but does not store it"
            yield self.wrong(method, title, f"the row {wanted}", _in_words(now), sent, seen)
            return
        if now:
            async for finding in self.related(method, wanted, sent):
                yield finding
        async for finding in self.missing(method):
            yield finding
        gone = await self.send(method, [], "setting a relationship to nothing")
        if gone is not None and gone.answer.ok:
            seen, now = await self.shown()
            if now:
                title = "Setting a relationship to nothing returns success but keeps the row"
                yield self.wrong(method, title, "no row", _in_words(now), gone, seen)

    async def many(self, first: Key, second: Key) -> AsyncIterator[Finding]:
        """A relationship with many rows: added to twice, replaced, taken from."""
        wanted = key_text(first)
        sent = await self.send("POST", [first], "adding to a relationship")
        if sent is not None and sent.answer.ok:
            seen, now = await self.shown()
            if now is not None and wanted not in now:
                title = "A row that is added to a relationship is missing there"
                yield self.wrong("POST", title, f"the row {wanted}", _in_words(now), sent, seen)
            else:
                again = await self.send("POST", [first], "adding a row to a relationship again")
                seen, now = await self.shown()
                if again is not None and now is not None and now.count(wanted) > 1:
                    title = "A row that is added to a relationship twice is there twice"
                    yield self.wrong("POST", title, "once", f"{now.count(wanted)} times", sent, again, seen)
                async for finding in self.related("POST", wanted, sent):
                    yield finding
            async for finding in self.missing("POST"):
                yield finding
        elif sent is not None:
            for finding in self.refused("POST", sent):
                yield finding
        left, other = first, second
        for method in _SETS:
            if method in self.link.writes:
                async for finding in self._replaced(method, left, other):
                    yield finding
                left, other = other, left
        async for finding in self._taken(left):
            yield finding

    async def _replaced(self, method: str, first: Key, second: Key) -> AsyncIterator[Finding]:
        sent = await self.send(method, [second], "replacing the rows of a relationship")
        if sent is None:
            return
        if not sent.answer.ok:
            return  # the row that would be left out may have to belong to one
        seen, now = await self.shown()
        if now is None:
            return
        if key_text(second) not in now:
            title = "Replacing the rows of a relationship returns success but does not store them"
            yield self.wrong(method, title, f"the row {key_text(second)}", _in_words(now), sent, seen)
        elif key_text(first) in now:
            title = "Replacing the rows of a relationship keeps those of before"
            yield self.wrong(method, title, f"the row {key_text(second)} alone", _in_words(now), sent, seen)

    async def _taken(self, key: Key) -> AsyncIterator[Finding]:
        _, before = await self.shown()
        sent = await self.send("DELETE", [key], "taking a row from a relationship")
        if sent is not None and sent.answer.ok and before is not None and key_text(key) in before:
            seen, now = await self.shown()
            if now is not None and key_text(key) in now:
                title = "A row that is taken from a relationship stays there"
                yield self.wrong("DELETE", title, "not there", _in_words(now), sent, seen)
            elif now is not None and len(now) < len(before) - 1:
                title = "Taking one row from a relationship takes others too"
                yield self.wrong("DELETE", title, "the others", _in_words(now), sent, seen)
            if self.other.has("read"):
                exchange, row = await self.other.read(key, "a row that was taken from a relationship")
                if row is None and self.other.client.absent(exchange.answer):
                    forget(self.other, key)
                    title = "Taking a row from a relationship removes the row"
                    yield self.wrong("DELETE", title, "the row stays", f"{exchange.answer.status}", sent, exchange)
        # what is left in between would outlive both rows where nothing removes it with them
        _, now = await self.shown()
        setting = next((each for each in _SETS if each in self.link.writes), None)
        if now and setting is not None:
            await self.send(setting, [], "emptying a relationship")


def _in_words(keys: Sequence[str]) -> str:
    return f"the rows {', '.join(keys)}"[:160] if keys else "no row"
